"""What is wrong with the pictures of cells, without tracing anything."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import TYPE_CHECKING

from grandlattice.api import looking_ahead
from grandlattice.errors import LatticeError

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.api.planned import Planned
    from grandlattice.runs.tasks import Member


def states_of(plan: PlanFiles, planned: Planned) -> dict[str, str]:
    """What is wrong with the pictures of cells, by address; a plan that meters is not planned for a look."""
    found = dict.fromkeys((member.cell.address for member in not_as_wanted(plan, planned)), "out of date")
    if plan.meters:
        return found
    if planned.ledger.file.exists():
        with suppress(LatticeError):
            found |= dict.fromkeys(planned.ledger.failed_cells(), "failed")
    return found


def not_as_wanted(plan: PlanFiles, planned: Planned) -> Iterator[Member]:
    """Frames of cells whose files are not as the plan wants them; none of a plan that meters."""
    if not plan.meters:
        # Of all cells, as they were planned for the last run: that is known without planning anew.
        for task in looking_ahead.outlook(planned, plan.cells.indices(), None).outlook.todo:
            yield from task.members
