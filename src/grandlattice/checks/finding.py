"""A finding: something that can be known to be wrong before anything is rendered."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from grandlattice.errors import LatticeError
from grandlattice.plan import Cell, Lattice, PlanModel
from grandlattice.stage import Scene

ERROR, WARNING, NOTE = "error", "warning", "note"
_GRAVITY = (ERROR, WARNING, NOTE)


@dataclass(frozen=True)
class Finding:
    """What is wrong, where, and what to do.

    `gravity` is ``error`` (the run would fail or lose something), ``warning`` (the pictures may
    not be what was wanted) or ``note``.  `cells` are the addresses concerned, empty for all.
    """

    gravity: str
    what: str
    place: str = ""
    cure: str = ""
    cells: tuple[str, ...] = ()


@dataclass(frozen=True)
class Facilities:
    """What this machine can do, as far as checks need to know.

    `displays` answers whether a display text is understood: None, or what is wrong with it.
    """

    can_denoise: bool = True
    how_to_denoise: str = ""
    wrong_displays: Mapping[str, str] = field(default_factory=dict)
    free_bytes: int | None = None
    unwritable: str = ""


@dataclass(frozen=True)
class Checked:
    """What is being checked: the plan, the scene, the cells of the run and the machine."""

    model: PlanModel
    lattice: Lattice
    cells: Sequence[Cell]
    scene: Scene
    folder: Path
    facilities: Facilities
    allow_missing: bool = False


def from_error(problem: LatticeError, gravity: str = ERROR, cells: tuple[str, ...] = ()) -> Finding:
    """A finding that says what an error says."""
    return Finding(gravity, problem.what, str(problem.place or ""), problem.cure, cells)


def by_gravity(findings: Iterable[Finding]) -> list[Finding]:
    """Errors first, then warnings, then notes; each said once, in the order they were found."""
    once = dict.fromkeys(findings)
    return sorted(once, key=lambda finding: _GRAVITY.index(finding.gravity))
