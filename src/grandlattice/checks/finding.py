"""A finding: something that can be known to be wrong before anything is rendered."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.readable import html_table
from grandlattice.errors import LatticeError
from grandlattice.plan import Cell, Filing, Lattice, PlanModel
from grandlattice.scene_records import Snapshot
from grandlattice.stage import Scene

ERROR, WARNING, NOTE = "error", "warning", "note"
_GRAVITY = (ERROR, WARNING, NOTE)


@dataclass(frozen=True)
class Finding:
    """What is wrong, where, and what to do.

    `gravity` is ``error`` (the run would fail or lose something), ``warning`` (the pictures may
    not be what was wanted) or ``note``.  `cells` are the addresses concerned, empty for all; `file` is one
    that is missing.
    """

    gravity: str
    what: str
    place: str = ""
    cure: str = ""
    cells: tuple[str, ...] = ()
    file: str = ""


class CameraLook(Protocol):
    """What a few hundred rays through a camera meet; shares are 0..1."""

    @property
    def seen(self) -> float: ...
    @property
    def inside(self) -> bool: ...
    @property
    def clipped_near(self) -> float: ...
    @property
    def clipped_far(self) -> float: ...


@dataclass(frozen=True)
class Facilities:
    """What this machine can do, as far as checks need to know.

    Attributes
    ----------
    wrong_displays : display text → what is wrong with it.
    inspect : opens images; returns what is wrong with those that cannot be read.
    look : casts some rays through a snapshot's camera.
    glance : renders a cell very small; returns the luminance it shows, (H, W), in
        displayed linear light where 1 is white.  None unless it was asked for.
    """

    can_denoise: bool = True
    how_to_denoise: str = ""
    wrong_displays: Mapping[str, str] = field(default_factory=dict)
    free_bytes: int | None = None
    unwritable: str = ""
    look: Callable[[Snapshot], CameraLook] | None = None
    glance: Callable[[Cell], NDArray[np.float64]] | None = None
    inspect: Callable[[Sequence[str]], Mapping[str, str]] | None = None


@dataclass(frozen=True)
class Checked:
    """What is being checked: the plan, the scene, the cells of the run and the machine.

    Attributes
    ----------
    cells : those looked at one by one; representatives where there are very many.
    filing : the files of all cells.
    total : how many cells there are.
    in_the_way : files where pictures will be, which no run of the plan made, and by which plan where
        another one did.
    read_too : files that the scene or the plan reads and a cell would write, with its address.
    links : links on the way to the pictures that are followed, and where each leads.
    astray : what is said of a link that is not followed; empty where there is none.
    """

    model: PlanModel
    lattice: Lattice
    cells: Sequence[Cell]
    scene: Scene
    folder: Path
    facilities: Facilities
    filing: Filing
    total: int
    allow_missing: bool = False
    in_the_way: Sequence[tuple[str, str | None]] = ()
    read_too: Sequence[tuple[str, str]] = ()
    links: Sequence[tuple[Path, Path]] = ()
    astray: LatticeError | None = None


def from_error(problem: LatticeError, gravity: str = ERROR, cells: tuple[str, ...] = ()) -> Finding:
    """A finding that says what an error says."""
    return Finding(gravity, problem.what, str(problem.place or ""), problem.cure, cells)


class Findings(list[Finding]):
    """Findings, errors first; in a notebook a table."""

    def _repr_html_(self) -> str:
        rows = [[each.gravity, each.what, each.place, each.cure, ", ".join(each.cells[:5])] for each in self]
        return html_table(["", "what", "where", "do", "cells"], rows, f"{len(self)} findings")


def by_gravity(findings: Iterable[Finding]) -> Findings:
    """Errors first, then warnings, then notes; each said once, with all cells it is said of."""
    merged: dict[tuple[str, ...], Finding] = {}
    for finding in findings:
        key = (finding.gravity, finding.what, finding.place, finding.cure)
        known = merged.get(key, finding)
        cells = tuple(dict.fromkeys((*known.cells, *finding.cells)))
        merged[key] = replace(known, cells=cells)
    return Findings(sorted(merged.values(), key=lambda finding: _GRAVITY.index(finding.gravity)))
