"""Everything that can be known to be wrong before rendering.

Each check is one function that yields findings; `CHECKS` lists them all.
"""

from collections.abc import Callable, Iterator

from grandlattice.checks.finding import (
    ERROR,
    NOTE,
    WARNING,
    Checked,
    Facilities,
    Finding,
    by_gravity,
    from_error,
)
from grandlattice.checks.plan_checks import (
    check_editions,
    check_extent,
    check_files,
    check_machine,
    check_regions,
    check_renderers,
    check_rivals,
    check_room,
    check_unused,
)
from grandlattice.checks.scene_checks import (
    check_cells,
    check_frames,
    check_scene,
    is_black,
    is_burnt_out,
)

CHECKS: tuple[Callable[[Checked], Iterator[Finding]], ...] = (
    check_scene, check_cells, check_files, check_machine, check_renderers, check_regions,
    check_frames, check_room, check_rivals,
    check_unused, check_extent, check_editions,
)  # fmt: skip


def run_checks(checked: Checked) -> list[Finding]:
    """All findings, errors first."""
    return by_gravity(finding for check in CHECKS for finding in check(checked))


__all__ = [
    "CHECKS", "ERROR", "NOTE", "WARNING", "Checked", "Facilities", "Finding", "by_gravity",
    "from_error", "is_black", "is_burnt_out", "run_checks",
]  # fmt: skip
