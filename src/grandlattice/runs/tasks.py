"""From cells to tasks: what a worker takes, in the order it is taken.

A task is one frame of one trace.  Cells whose frame would be traced from the very same inputs
(they differ in exposure, display, format or name only) share one task.

Everything a file depends on goes into its *fingerprint*, which stands in the file and in the
ledger; a file with the right fingerprint is done.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import groupby
from pathlib import Path
from typing import Any, Literal

from grandlattice.plan import Cell, FileNames, Lattice, PlanModel, PlannedFile, planned_files
from grandlattice.plan.cells import TRACED
from grandlattice.stage.scene import file_digest

Frames = Iterable[int] | Literal["first"] | None
"""Which of each cell's frames: these, the first one alone, or all."""

TRACE_VERSION = 1  # raise when the same inputs give other pictures than before
DISPLAYED = ("png", "jpg", "tiff", "tga")


@dataclass(frozen=True)
class TaskFile:
    """A file of a task, and the fingerprint it will have."""

    planned: PlannedFile
    fingerprint: str


@dataclass(frozen=True)
class TaskCell:
    """A cell of a task with its files at the task's frame."""

    cell: Cell
    files: tuple[TaskFile, ...]


@dataclass(frozen=True)
class Task:
    """One frame of one trace, for one or more cells.

    `number` is its place in the planned order, from 0.  `passes` are all that any of its files
    holds.  A task begins when all tasks of an earlier `step` have ended.  `work` is pixels × samples.
    """

    number: int
    frame: int
    cells: tuple[TaskCell, ...]
    passes: tuple[str, ...]
    step: int = 0

    @property
    def first(self) -> Cell:
        return self.cells[0].cell

    @property
    def work(self) -> int:
        settings = self.first.settings
        return settings.size.width * settings.size.height * settings.samples

    @property
    def label(self) -> str:
        more = f" +{len(self.cells) - 1}" if len(self.cells) > 1 else ""
        return f"{self.first.address}{more} · {self.frame}"


class Fingerprints:
    """Makes fingerprints for the cells of one plan over one scene.

    Parameters
    ----------
    scene : digest of the scene and all its files.
    can_denoise : whether `denoise` does anything here.
    folder : the plan's folder, for the files edits name.
    """

    def __init__(self, model: PlanModel, scene: str, folder: Path, can_denoise: bool) -> None:
        self._folder = folder
        self._can_denoise = can_denoise
        self._shared = {
            "version": TRACE_VERSION,
            "scene": scene,
            "select": model.select,
            "materials": {k: v.model_dump(mode="json") for k, v in model.materials.items()},
            "files": [self._digest(m.file) for m in model.materials.values() if m.file],
        }
        self._edits: dict[int, tuple[object, object]] = {}

    def trace(self, cell: Cell, frame: int) -> str:
        """Of everything the light in a picture depends on."""
        told = {name: getattr(cell.settings, name) for name in TRACED if name != "frames"}
        told["size"], told["denoise"] = str(told["size"]), told["denoise"] and self._can_denoise
        return _digest({**self._shared, "frame": frame, "edits": self._all_edits(cell), **told})

    def file(self, trace: str, cell: Cell, planned: PlannedFile) -> str:
        """Of everything a file depends on."""
        s = cell.settings
        shown = planned.format in DISPLAYED
        return _digest({
            "trace": trace,
            "passes": planned.passes,
            "format": planned.format,
            "options": getattr(s.files, planned.format).model_dump(mode="json", exclude={"output"}),
            "ppi": s.size.ppi,
            "label": s.label if shown else None,
            "exposure": s.exposure if shown else None,
            "display": s.display if shown else None,
            "cell": cell.address,
        })  # fmt: skip

    def content(self, cell: Cell) -> str:
        """Of everything the pictures of a cell depend on, whatever their frames and names."""
        kinds = [PlannedFile("", 0, ext, cell.settings.passes) for ext in cell.settings.format]
        trace = self.trace(cell, 0)
        return _digest([self.file(trace, cell, kind) for kind in kinds])

    def _all_edits(self, cell: Cell) -> object:
        """What the edits of a cell say; cells that share their edits share the answer."""
        known = self._edits.get(id(cell.edits))
        if known is None or known[0] is not cell.edits:
            said = [self._edit(placed.edit) for placed in cell.edits]
            self._edits[id(cell.edits)] = known = cell.edits, said
        return known[1]

    def _edit(self, edit: Any) -> object:
        body = edit.body.model_dump(mode="json")
        named = [self._digest(text) for text in _texts(body) if self._is_file(text)]
        return [edit.verb, body, named]

    def _is_file(self, text: str) -> bool:
        return "." in text and len(text) < 1024 and (self._folder / text).is_file()

    def _digest(self, name: str | None) -> str:
        path = self._folder / str(name)
        return file_digest(path) if path.is_file() else "missing"


def make_tasks(
    lattice: Lattice, cells: Iterable[Cell], fingerprints: Fingerprints, names: FileNames,
    frames: Frames = None,
) -> list[Task]:  # fmt: skip
    """Tasks for cells in the planned order.

    Parameters
    ----------
    cells : in running order.
    names : for output templates.
    frames : only these of each cell's frames; all by default.
    """
    first = frames == "first"
    wanted = None if frames is None or isinstance(frames, str) else set(frames)
    grouped: dict[str, list[tuple[int, TaskCell]]] = {}
    steps: dict[str, int] = {}
    step, before = 0, None
    for cell, frame in _in_order(lattice, cells, 1 if first else None):
        if wanted is not None and frame not in wanted:
            continue
        trace = fingerprints.trace(cell, frame)
        files = tuple(
            TaskFile(planned, fingerprints.file(trace, cell, planned))
            for planned in planned_files(cell, names, [frame])
        )
        here = lattice.step(cell.index)
        if before is not None and here != before:
            step += 1
        before = here
        steps.setdefault(trace, step)
        grouped.setdefault(trace, []).append((frame, TaskCell(cell, files)))
    return [
        Task(number, members[0][0], tuple(cell for _, cell in members), _all_passes(members), steps[trace])
        for number, (trace, members) in enumerate(grouped.items())
    ]


def _in_order(
    lattice: Lattice, cells: Iterable[Cell], at_most: int | None = None
) -> Iterator[tuple[Cell, int]]:
    """Cells with their frames; those of a group take turns, one frame each at a time."""
    for _, group in groupby(cells, key=lambda cell: lattice.group(cell.index)):
        members = list(group)
        for k in range(at_most or max(len(cell.settings.frames) for cell in members)):
            for cell in members:
                if k < len(cell.settings.frames):
                    yield cell, cell.settings.frames[k]


def _all_passes(members: Iterable[tuple[int, TaskCell]]) -> tuple[str, ...]:
    names = [n for _, cell in members for file in cell.files for n in file.planned.passes]
    return tuple(dict.fromkeys(names))


def _texts(value: object) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, Mapping):
        for part in value.values():
            yield from _texts(part)
    elif isinstance(value, list | tuple):
        for part in value:
            yield from _texts(part)


def _digest(value: object) -> str:
    text = json.dumps(value, sort_keys=True, default=str)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()
