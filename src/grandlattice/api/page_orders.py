"""What a page hands back to the plan: an entry alone, a grade, other light, another lens, finer steps."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from grandlattice.errors import PlanError

if TYPE_CHECKING:
    from grandlattice.api.plan_changes import PlanChanges

CHANGES = ("adopt", "grade", "relight", "amend", "finer")
"""Orders that change the plan."""
_SETTINGS = ("fstop", "focus")  # that pages may set


def change(plan: PlanChanges, verb: str, details: Mapping[str, Any]) -> str:
    """Change a plan and write its file; says what came of it.

    Raises
    ------
    PlanError
        When that cannot be, or the file was changed meanwhile; nothing is written then.
    """
    plan.refuse_stale()
    before = len(plan.cells)
    at = [str(part) for part in details.get("at", [])]
    if verb == "adopt":
        plan.adopt(**{str(axis): str(entry) for axis, entry in dict(details["axes"]).items()})
    elif verb == "grade":
        values: Any = {str(name).replace("-", "_"): float(value) for name, value in details["values"].items()}
        plan.grade(at=at, off=not values, **values)
    elif verb == "relight":
        lamps = {str(lamp): (float(by), str(tint)) for lamp, (by, tint) in details["lamps"].items()}
        plan.relight(lamps, at=at)
    elif verb == "amend":
        said = {str(name): value for name, value in details["settings"].items()}
        if not said or set(said) - set(_SETTINGS):
            raise PlanError(f"A page sets {' and '.join(_SETTINGS)} alone.")
        plan.amend(at=at, **said)
    else:
        first, second = details["between"]
        plan.finer(str(details["axis"]), str(first), str(second))
    told = plan.difference()
    plan.save()
    if verb == "adopt":
        return f"{len(plan.cells)} of {before} cells stay"
    if verb == "finer":
        return f"{len(plan.cells) - before} more cells in the plan; glat run renders them"
    changed = sum(line.startswith(("+", "-")) for line in told.splitlines())
    return (
        f"{changed} lines of the plan are others; glat run makes it so"
        if told
        else "The plan says so already"
    )
