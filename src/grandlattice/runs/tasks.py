"""From cells to tasks: what a worker takes, in the order it is taken.

A task is one frame of one trace, or a few frames where an outside renderer takes several in one
call.  A member is one frame of one cell within a task.  Cells whose frame would be traced from the
very same inputs (they differ in exposure, display, format or name only) are members of one task.

A plan may have a million tasks.  A `TaskList` keeps some numbers of each in columns and makes the
`Task` itself when it is asked for.
"""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal, overload

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.readable import many
from grandlattice.plan import Cell, CellMaker, CellSettings, FileNames, Lattice, PlanModel, planned_files
from grandlattice.plan.running_order import changes, urgent_first
from grandlattice.runs.fingerprints import Fingerprints, TaskFile

Frames = Iterable[int] | Literal["first"] | None
"""Which of each cell's frames: these, the first one alone, or all."""

Numbers = NDArray[np.int64]


@dataclass(frozen=True)
class Member:
    """One frame of one cell within a task.

    Attributes
    ----------
    number : its place among all members of the plan, from 0.
    film : which of the films of its task its files are written from.
    files : what is written, with the fingerprints they will have.
    """

    number: int
    cell: Cell
    frame: int
    files: tuple[TaskFile, ...]
    film: int = 0

    @property
    def label(self) -> str:
        return f"{self.cell.address} · {self.frame}"


@dataclass(frozen=True)
class Task:
    """One frame of one trace, for one or more members; several frames for some outside renderers.

    Attributes
    ----------
    number : its place in the planned order, from 0.
    members : those that are still needed, at least one.
    passes : all that any file of any member of the plan holds, also of those not needed any more, so
        that the pixels of a member do not depend on which others are.
    step : it begins when all tasks of an earlier step have ended.
    trace : fingerprint of all it traces, 32 hexadecimal digits.
    attempt : names the try of it that is under way, for its temporary files; see
        `temporary_files`.
    """

    number: int
    members: tuple[Member, ...]
    passes: tuple[str, ...]
    step: int = 0
    trace: str = ""
    attempt: str = ""

    @property
    def frames(self) -> tuple[int, ...]:
        return tuple(dict.fromkeys(member.frame for member in self.members))

    @property
    def frame(self) -> int:
        return self.members[0].frame

    @property
    def first(self) -> Cell:
        """The cell whose settings and edits the trace follows; those of all members trace the same."""
        return self.members[0].cell

    @property
    def numbers(self) -> list[int]:
        """Numbers of its members."""
        return [member.number for member in self.members]

    def without(self, numbers: Iterable[int]) -> Task | None:
        """The task without some of its members; None where none is left."""
        gone = set(numbers)
        left = tuple(member for member in self.members if member.number not in gone)
        return replace(self, members=left) if left else None

    @property
    def work(self) -> int:
        """Pixels × samples × frames."""
        return work_of(self.first.settings) * len(self.frames)

    @property
    def label(self) -> str:
        cells, frames = {member.cell.index for member in self.members}, self.frames
        more = f" +{len(cells) - 1}" if len(cells) > 1 else ""
        last = f"-{frames[-1]}" if len(frames) > 1 else ""
        return f"{self.first.address}{more} · {self.frame}{last}"


@dataclass(frozen=True)
class Columns:
    """What is known of the N tasks and M members of a plan without making them, in planned order.

    Attributes
    ----------
    traces : (N, 16) uint8, what each task traces.
    starts : (N + 1,) int64; the members of task n are ``starts[n]:starts[n + 1]``.
    steps : (N,) int32, barriers.
    work : (N,) float64, pixels × samples × frames.
    cells, frames : (M,) int32 and int64, of members.
    films : (M,) int32, which of the films of its task a member is written from.
    priorities : (M,) int32, of members; a task goes by the highest of those it still needs.
    """

    traces: NDArray[np.uint8]
    starts: NDArray[np.int64]
    steps: NDArray[np.int32]
    work: NDArray[np.float64]
    cells: NDArray[np.int32]
    frames: NDArray[np.int64]
    films: NDArray[np.int32]
    priorities: NDArray[np.int32]

    def __len__(self) -> int:
        return len(self.steps)

    @cached_property
    def task_of(self) -> NDArray[np.int32]:
        """(M,) number of the task of each member."""
        return np.repeat(np.arange(len(self), dtype=np.int32), np.diff(self.starts))

    def members_of(self, number: int) -> slice:
        """Which members a task has."""
        return slice(int(self.starts[number]), int(self.starts[number + 1]))


@dataclass(frozen=True)
class Ingredients:
    """What tasks are made from."""

    model: PlanModel
    lattice: Lattice
    make: CellMaker
    fingerprints: Fingerprints
    names: FileNames


@dataclass(frozen=True, repr=False)
class TaskList(Sequence[Task]):
    """Tasks in planned order, each made when it is asked for, with the members that are needed.

    Attributes
    ----------
    columns : of all tasks and members of the plan.
    needed : (M,) bool, which members are meant here.
    numbers : which tasks are meant here, those with a needed member; (N,) int64 and ascending.
    """

    columns: Columns
    made_from: Ingredients
    needed: NDArray[np.bool_]
    numbers: Numbers

    def __repr__(self) -> str:
        return f"<{many(len(self), 'task')} for {many(self.frame_count, 'frame')}>"

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
        return TaskList(self.columns, self.made_from, self.needed, numbers)

    def narrowed(self, needed: NDArray[np.bool_]) -> TaskList:
        """The same tasks with those of their members that are needed, (M,) bool; tasks without any are
        left out."""
        columns = self.columns
        meant = np.zeros(len(columns), bool)
        meant[self.numbers] = True
        needed = needed & self.needed & meant[columns.task_of]
        numbers = np.flatnonzero(np.bincount(columns.task_of[needed], minlength=len(columns)))
        return TaskList(columns, self.made_from, needed, numbers)

    def task(self, number: int) -> Task:
        """Task `number` of the plan, whether it is meant here or not, with the members that are needed;
        with all of them where none is."""
        columns, (make, prints, names) = self.columns, self._made_from
        part = columns.members_of(number)
        every = np.arange(part.start, part.stop)
        needed = self.needed[part]
        chosen = set(every[needed].tolist()) or set(every.tolist())
        passes: dict[str, None] = {}
        members = []
        for member, index, frame, film in zip(
            every.tolist(), columns.cells[part].tolist(), columns.frames[part].tolist(),
            columns.films[part].tolist(), strict=True,
        ):  # fmt: skip
            cell = make(index)
            planned = list(planned_files(cell, names, [frame]))
            passes |= dict.fromkeys(name for file in planned for name in file.passes)
            if member in chosen:
                inputs = prints.inputs(cell.settings, cell.edits)
                files = tuple(TaskFile(file, prints.file(inputs, cell, file)) for file in planned)
                members.append(Member(member, cell, frame, files, film))
        return Task(
            number, tuple(members), tuple(passes), int(columns.steps[number]),
            columns.traces[number].tobytes().hex(),
        )  # fmt: skip

    @property
    def _made_from(self) -> tuple[CellMaker, Fingerprints, FileNames]:
        return self.made_from.make, self.made_from.fingerprints, self.made_from.names

    @property
    def members(self) -> Numbers:
        """Numbers of the members meant here."""
        if len(self.numbers) == len(self.columns):
            return np.flatnonzero(self.needed)
        meant = np.zeros(len(self.columns), bool)
        meant[self.numbers] = True
        return np.flatnonzero(self.needed & meant[self.columns.task_of])

    @property
    def frame_count(self) -> int:
        """How many frames of cells come of them."""
        return len(self.members)

    @property
    def trace_count(self) -> int:
        """How many frames are traced: fewer than `frame_count` where cells share a trace."""
        members, columns = self.members, self.columns
        if len(members) == len(self.numbers):
            return len(members)
        pairs = np.stack([columns.task_of[members].astype(np.int64), columns.frames[members]])
        return int(np.unique(pairs, axis=1).shape[1])

    def of_cells(self, indices: Numbers) -> Numbers:
        """Numbers of the members meant here that are of these cells."""
        members = self.members
        return members[np.isin(self.columns.cells[members], indices)]

    @property
    def work(self) -> float:
        """Pixels × samples of all of them."""
        return float(self.columns.work[self.numbers].sum())


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
    return every_task(columns, made_from)


def every_task(columns: Columns, made_from: Ingredients) -> TaskList:
    """All tasks of a plan, with all their members."""
    return TaskList(columns, made_from, np.ones(len(columns.cells), bool), np.arange(len(columns)))


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
        return Columns(
            traces=np.ascontiguousarray(self.keys[order[firsts]]).view(np.uint8).reshape(-1, 16),
            starts=starts,
            steps=changes(parts[firsts]).astype(np.int32),
            work=self.work[of[firsts]] * distinct_frames(starts, frames[together]),
            cells=self.cells[of[together]].astype(np.int32),
            frames=frames[together],
            films=np.zeros(len(together), np.int32),
            priorities=self.priorities[of[together]].astype(np.int32),
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
