"""From cells to tasks: what a worker takes, in the order it is taken.

A task is one frame of one trace, or a few frames where an outside renderer takes several in one
call.  Cells whose frame would be traced from the very same inputs (they differ in exposure,
display, format or name only) share one task.

A plan may have a million tasks.  A `TaskList` keeps some numbers of each in columns and makes the
`Task` itself when it is asked for.
"""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal, overload

import numpy as np
from numpy.typing import NDArray

from grandlattice.plan import Cell, CellMaker, CellSettings, FileNames, Lattice, PlanModel, planned_files
from grandlattice.plan.ordering import changes, urgent_first
from grandlattice.runs.fingerprints import Fingerprints, TaskFile

Frames = Iterable[int] | Literal["first"] | None
"""Which of each cell's frames: these, the first one alone, or all."""

Numbers = NDArray[np.int64]


@dataclass(frozen=True)
class TaskCell:
    """A cell of a task with its files at the task's frames."""

    cell: Cell
    files: tuple[TaskFile, ...]


@dataclass(frozen=True)
class Task:
    """One frame of one trace, for one or more cells; several frames for some outside renderers.

    `number` is its place in the planned order, from 0.  `passes` are all that any of its files
    holds.  A task begins when all tasks of an earlier `step` have ended; within a step those of
    higher `priority` begin first.  `trace` is the fingerprint of all it traces.  `attempt` names the
    try of it that is under way, for its temporary files; see `parts`.
    """

    number: int
    frames: tuple[int, ...]
    cells: tuple[TaskCell, ...]
    passes: tuple[str, ...]
    step: int = 0
    priority: int = 0
    trace: str = ""
    attempt: str = ""

    @property
    def frame(self) -> int:
        return self.frames[0]

    @property
    def first(self) -> Cell:
        return self.cells[0].cell

    @property
    def work(self) -> int:
        """Pixels × samples × frames."""
        return work_of(self.first.settings) * len(self.frames)

    @property
    def label(self) -> str:
        more = f" +{len(self.cells) - 1}" if len(self.cells) > 1 else ""
        last = f"-{self.frames[-1]}" if len(self.frames) > 1 else ""
        return f"{self.first.address}{more} · {self.frame}{last}"


@dataclass(frozen=True)
class Columns:
    """What is known of every task without making it; all arrays are of tasks in planned order.

    Attributes
    ----------
    traces : (N, 16) uint8, what each traces.
    starts : (N + 1,) int64; the cells and frames of task n are ``starts[n]:starts[n + 1]`` of
        `cells` and `frames`.
    cells, frames : (M,) int32 and int64.
    steps, priorities : (N,) int32.
    work : (N,) float64, pixels × samples × frames.
    """

    traces: NDArray[np.uint8]
    starts: NDArray[np.int64]
    cells: NDArray[np.int32]
    frames: NDArray[np.int64]
    steps: NDArray[np.int32]
    priorities: NDArray[np.int32]
    work: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.steps)


@dataclass(frozen=True)
class Ingredients:
    """What tasks are made from."""

    model: PlanModel
    lattice: Lattice
    make: CellMaker
    fingerprints: Fingerprints
    names: FileNames


@dataclass(frozen=True)
class TaskList(Sequence[Task]):
    """Tasks in planned order, each made when it is asked for.

    Attributes
    ----------
    columns : of all tasks of the plan.
    numbers : which of them are meant here, (N,) int64 and ascending.
    """

    columns: Columns
    made_from: Ingredients
    numbers: Numbers = field(repr=False)

    def __len__(self) -> int:
        return len(self.numbers)

    @overload
    def __getitem__(self, key: int) -> Task: ...
    @overload
    def __getitem__(self, key: slice) -> TaskList: ...
    def __getitem__(self, key: int | slice) -> Task | TaskList:
        if isinstance(key, slice):
            return self.only(self.numbers[key])
        return self.task(int(self.numbers[key]))

    def __iter__(self) -> Iterator[Task]:
        return (self.task(int(number)) for number in self.numbers)

    def only(self, numbers: Numbers) -> TaskList:
        """Some of the same tasks, by their numbers."""
        return TaskList(self.columns, self.made_from, numbers)

    def task(self, number: int) -> Task:
        """Task `number` of the plan, whether it is meant here or not."""
        columns, (make, prints, names) = self.columns, self._made_from
        members = slice(*columns.starts[number : number + 2])
        frames_of: dict[int, list[int]] = {}
        for cell, frame in zip(
            columns.cells[members].tolist(), columns.frames[members].tolist(), strict=True
        ):
            frames_of.setdefault(cell, []).append(frame)
        cells = []
        for index, frames in frames_of.items():
            cell = make(index)
            inputs = prints.inputs(cell.settings, cell.edits)
            files = (
                TaskFile(planned, prints.file(inputs, cell, planned))
                for planned in planned_files(cell, names, frames)
            )
            cells.append(TaskCell(cell, tuple(files)))
        return Task(
            number, tuple(dict.fromkeys(columns.frames[members].tolist())), tuple(cells),
            tuple(dict.fromkeys(n for c in cells for f in c.files for n in f.planned.passes)),
            int(columns.steps[number]), int(columns.priorities[number]),
            columns.traces[number].tobytes().hex(),
        )  # fmt: skip

    @property
    def _made_from(self) -> tuple[CellMaker, Fingerprints, FileNames]:
        return self.made_from.make, self.made_from.fingerprints, self.made_from.names

    @property
    def shared(self) -> int:
        """How many cells take their picture from another cell's trace."""
        starts = self.columns.starts
        more = np.flatnonzero(np.diff(starts)[self.numbers] > 1)
        return sum(
            len(np.unique(self.columns.cells[starts[n] : starts[n + 1]])) - 1 for n in self.numbers[more]
        )

    @property
    def frame_count(self) -> int:
        """How many frames are traced: more than tasks where some have several."""
        starts = self.columns.starts
        several = self.numbers[np.diff(starts)[self.numbers] > 1]
        more = sum(len(np.unique(self.columns.frames[starts[n] : starts[n + 1]])) - 1 for n in several)
        return len(self) + more

    def of_cells(self, indices: Numbers) -> Numbers:
        """Numbers of the tasks meant here that have one of these cells."""
        columns = self.columns
        here = np.flatnonzero(np.isin(columns.cells, indices))
        found = np.searchsorted(columns.starts, here, side="right") - 1
        return np.intersect1d(found, self.numbers)

    @property
    def work(self) -> float:
        """Pixels × samples of all of them."""
        return float(self.columns.work[self.numbers].sum())

    @property
    def steps(self) -> Iterator[tuple[int, int, int]]:
        """Number, step and priority of each."""
        columns = self.columns
        return zip(
            self.numbers.tolist(), columns.steps[self.numbers].tolist(),
            columns.priorities[self.numbers].tolist(), strict=True,
        )  # fmt: skip


def work_of(settings: CellSettings) -> int:
    """Pixels × samples of a frame."""
    return settings.pixels * settings.samples


def list_tasks(
    made_from: Ingredients, indices: Sequence[int] | Numbers, frames: Frames = None,
    chunk_of: Callable[[CellSettings], int] = lambda settings: 1,
) -> TaskList:  # fmt: skip
    """Tasks for cells in the planned order.

    Parameters
    ----------
    indices : of cells, in running order.
    frames : only these of each cell's frames; all by default.
    chunk_of : how many frames of a cell one task takes.
    """
    prints, whole = made_from.fingerprints, np.asarray(indices, np.int64)
    wanted = None if frames is None or isinstance(frames, str) else set(frames)
    digests, at = bytearray(), array("q")
    counts, priorities, work = array("i"), array("i"), array("d")
    for settings, edits in made_from.make.told(whole):
        inputs = prints.inputs(settings, edits)
        here = settings.frames[:1] if frames == "first" else settings.frames
        if wanted is not None:
            here = tuple(frame for frame in here if frame in wanted)
        chunk = chunk_of(settings)
        for k in range(0, len(here), chunk):
            together = here[k : k + chunk]
            digests += prints.trace(inputs, together) * len(together)
        at.extend(here)
        counts.append(len(here))
        priorities.append(settings.priority)
        work.append(work_of(settings))
    pairs = _Pairs(
        whole, np.frombuffer(counts, np.int32), np.frombuffer(at, np.int64) if at else np.zeros(0, np.int64),
        np.frombuffer(priorities, np.int32), np.frombuffer(work, np.float64),
        np.frombuffer(digests, np.uint64).reshape(-1, 2) if digests else np.zeros((0, 2), np.uint64),
    )  # fmt: skip
    columns = pairs.as_tasks(made_from.lattice)
    return TaskList(columns, made_from, np.arange(len(columns)))


@dataclass(frozen=True)
class _Pairs:
    """Cells and their frames, before they are put in order.

    `cells`, `counts` (frames of each), `priorities` and `work` are of cells; `frames` and `keys`
    (what is traced, two words) of each frame of each cell, one cell after the other.
    """

    cells: Numbers
    counts: NDArray[np.int32]
    frames: NDArray[np.int64]
    priorities: NDArray[np.int32]
    work: NDArray[np.float64]
    keys: NDArray[np.uint64]

    def as_tasks(self, lattice: Lattice) -> Columns:
        """Columns in running order, equal traces as one task where the first of them stands."""
        of = np.repeat(np.arange(len(self.cells), dtype=np.int32), self.counts)
        order: Numbers = np.arange(len(of))
        if lattice.frame_at < len(lattice.order):
            # Cells of a group take turns, one frame each at a time; `lexsort` has the first key last.
            begins = np.cumsum(self.counts) - self.counts
            groups = changes(lattice.groups_of(self.cells))
            order = np.lexsort((of, order - begins[of], groups[of]))
        parts = changes(lattice.steps_of(self.cells)[of[order]])
        if self.priorities.any():
            order, parts = urgent_first(order, parts, self.priorities[of[order]])
        of, frames = of[order], self.frames[order]
        number = _by_first_appearance(self.keys[order])
        together = np.argsort(number, kind="stable").astype(np.int32)
        starts = np.concatenate([[0], np.cumsum(np.bincount(number))]).astype(np.int64)
        firsts = together[starts[:-1]]
        leaders = of[firsts]
        return Columns(
            traces=np.ascontiguousarray(self.keys[order[firsts]]).view(np.uint8).reshape(-1, 16),
            starts=starts,
            cells=self.cells[of[together]].astype(np.int32),
            frames=frames[together],
            steps=changes(parts[firsts]).astype(np.int32),
            priorities=self.priorities[leaders].astype(np.int32),
            work=self.work[leaders] * distinct_frames(starts, frames[together]),
        )


def _by_first_appearance(keys: NDArray[np.uint64]) -> NDArray[np.int32]:
    """For each key of two words the number of its kind, kinds counted as they first appear."""
    if not len(keys):
        return np.zeros(0, np.int32)
    by_key = np.lexsort((keys[:, 1], keys[:, 0])).astype(np.int32)  # stable: the first of equals is first
    new = np.zeros(len(keys), bool)
    new[0] = True
    for word in keys.T:
        here = word[by_key]
        new[1:] |= here[1:] != here[:-1]
    kind = np.empty(len(keys), np.int32)
    kind[by_key] = np.cumsum(new, dtype=np.int32) - 1
    number = np.empty(int(new.sum()), np.int32)
    number[np.argsort(by_key[new])] = np.arange(len(number))
    return number[kind]


def distinct_frames(starts: Numbers, frames: NDArray[np.int64]) -> NDArray[np.int64]:
    """How many different frames each task has."""
    counts = np.ones(len(starts) - 1, np.int64)
    for n in np.flatnonzero(np.diff(starts) > 1):
        counts[n] = len(np.unique(frames[starts[n] : starts[n + 1]]))
    return counts
