"""What is wrong with the pictures of cells, without tracing anything."""

from __future__ import annotations

from contextlib import suppress
from typing import TYPE_CHECKING

from grandlattice.api import orchestration
from grandlattice.errors import LatticeError

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.api.planned import Planned


def states_of(plan: PlanFiles, planned: Planned) -> dict[str, str]:
    """What is wrong with the pictures of cells, by address; a plan that meters is not planned for a look."""
    found: dict[str, str] = {}
    if plan.meters:
        return found
    # Of all cells, as they were planned for the last run: that is known without planning anew.
    for task in orchestration.outlook(planned, plan.cells.indices(), None).outlook.todo:
        found |= {member.cell.address: "out of date" for member in task.members}
    if planned.ledger.file.exists():
        with suppress(LatticeError):
            found |= dict.fromkeys(planned.ledger.failed_cells(), "failed")
    return found
