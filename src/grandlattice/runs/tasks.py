"""From cells to tasks: what a worker takes, in the order it is taken.

A task is one trace, or a few frames where an outside renderer takes several in one call.  A member is one
frame of one cell within a task.  Cells of one view are traced together: each lighting has a film of its
own, and cells that differ in exposure, display, format or name only are written from one film.  All
lightings that the whole plan has for a view are its company; a task makes the films of some of them.

A plan may have a million tasks.  A `TaskList` keeps some numbers of each in columns and makes the
`Task` itself when it is asked for.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple, overload

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.readable import many
from grandlattice.plan import Cell, CellMaker, CellSettings, FileNames, Lattice, PlanModel, planned_files
from grandlattice.runs.fingerprints import Fingerprints, TaskFile

Frames = Iterable[int] | str | None
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


class Shot(NamedTuple):
    """A frame of a cell, which a film is of."""

    cell: Cell
    frame: int


@dataclass(frozen=True)
class Task:
    """One trace for one or more members; several frames for some outside renderers.

    Attributes
    ----------
    number : its place in the planned order, from 0.
    members : those that are still needed, at least one.
    passes : all that any file of any member of the plan holds, also of those not needed any more, so
        that the pixels of a member do not depend on which others are.
    films : what each film is of: for the tracer all lightings of a view that the plan has, whether this
        task makes them or not; for other renderers the frames they take at once.
    step : it begins when all tasks of an earlier step have ended.
    trace : fingerprint of all it traces, 32 hexadecimal digits.
    company : digest of all lightings of its view that the plan has; empty where there is one.
    shares : digest of its view, where the light of each lamp is kept; else empty.
    attempt : names the try of it that is under way, for its temporary files; see
        `temporary_files`.
    pool : workers of a cluster that it is for; empty for any.
    """

    number: int
    members: tuple[Member, ...]
    passes: tuple[str, ...]
    films: tuple[Shot, ...] = ()
    step: int = 0
    trace: str = ""
    company: str = ""
    shares: str = ""
    attempt: str = ""
    pool: str = ""

    @property
    def frames(self) -> tuple[int, ...]:
        return tuple(dict.fromkeys(member.frame for member in self.members))

    @property
    def frame(self) -> int:
        return self.members[0].frame

    @property
    def first(self) -> Cell:
        """The cell of its first member; what decides where paths go is the same for all."""
        return self.members[0].cell

    @property
    def wanted(self) -> tuple[int, ...]:
        """Numbers of the films its members are written from."""
        return tuple(sorted({member.film for member in self.members}))

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
    def work(self) -> float:
        """Pixels × samples × traces; further films of a trace count for a part of one."""
        count = len(self.wanted)
        traces = count if self.first.settings.is_outside else 1.0 + FURTHER_FILM * (count - 1)
        return work_of(self.first.settings) * traces

    @property
    def label(self) -> str:
        cells, frames = {member.cell.index for member in self.members}, self.frames
        more = f" +{len(cells) - 1}" if len(cells) > 1 else ""
        last = f"-{frames[-1]}" if len(frames) > 1 else ""
        return f"{self.first.address}{more} · {self.frame}{last}"


def pool_key(name: str) -> int:
    """A pool of workers in a column of numbers; 0 where there is none."""
    return int.from_bytes(hashlib.blake2b(name.encode(), digest_size=7).digest()) if name else 0


@dataclass(frozen=True)
class Columns:
    """What is known of the N tasks and M members of a plan without making them, in planned order.

    Attributes
    ----------
    traces : (N, 16) uint8, what each task traces.
    starts : (N + 1,) int64; the members of task n are ``starts[n]:starts[n + 1]``.
    companies : (N, 16) uint8, digests of the lightings each task's view has; nought where there is one.
    steps : (N,) int32, barriers.
    work : (N,) float64, see `Task.work`.
    trace_counts : (N,) int32, how many traces each task takes.
    film_starts : (N + 1,) int64; the films of task n are of ``film_cells[a:b]``, (F,) int32, at
        ``film_frames[a:b]``, (F,) int64, from a = ``film_starts[n]`` to b = ``film_starts[n + 1]``.
    cells, frames : (M,) int32 and int64, of members.
    films : (M,) int32, which of the films of its task a member is written from.
    priorities : (M,) int32, of members; a task goes by the highest of those it still needs.
    pools : (N,) int64, `pool_key` of the workers each task is for: those that the first of its members with
        a pool is for.
    """

    traces: NDArray[np.uint8]
    starts: NDArray[np.int64]
    steps: NDArray[np.int32]
    work: NDArray[np.float64]
    cells: NDArray[np.int32]
    frames: NDArray[np.int64]
    films: NDArray[np.int32]
    priorities: NDArray[np.int32]
    trace_counts: NDArray[np.int32]
    film_starts: NDArray[np.int64]
    film_cells: NDArray[np.int32]
    film_frames: NDArray[np.int64]
    companies: NDArray[np.uint8]
    pools: NDArray[np.int64]

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
        members, shares = [], b""
        for member, index, frame, film in zip(
            every.tolist(), columns.cells[part].tolist(), columns.frames[part].tolist(),
            columns.films[part].tolist(), strict=True,
        ):  # fmt: skip
            cell = make(index)
            planned = list(planned_files(cell, names, [frame]))
            passes |= dict.fromkeys(name for file in planned for name in file.passes)
            if member in chosen:
                traced = prints.traced(cell.settings, cell.edits, self._together(cell, part, frame))
                shares = traced.shares
                files = tuple(prints.task_file(traced.files, cell, file) for file in planned)
                members.append(Member(member, cell, frame, files, film))
        of = slice(int(columns.film_starts[number]), int(columns.film_starts[number + 1]))
        films = tuple(
            Shot(make(cell), frame)
            for cell, frame in zip(
                columns.film_cells[of].tolist(), columns.film_frames[of].tolist(), strict=True
            )
        )
        company = columns.companies[number].tobytes()
        return Task(
            number, tuple(members), tuple(passes), films, int(columns.steps[number]),
            columns.traces[number].tobytes().hex(), company.hex() if any(company) else "", shares.hex(),
            pool=self._pool(number),
        )  # fmt: skip

    def _pool(self, number: int) -> str:
        """The pool of a task, which one of its members names, also one that is not needed any more."""
        if not self.columns.pools[number]:
            return ""
        cells = self.columns.cells[self.columns.members_of(number)].tolist()
        return next(name for index in cells if (name := self.made_from.make(index).settings.pool))

    def _together(self, cell: Cell, part: slice, frame: int) -> tuple[int, ...]:
        """The frames that are rendered in one call with a frame of a cell."""
        if not cell.settings.is_outside:
            return (frame,)
        return tuple(dict.fromkeys(self.columns.frames[part].tolist()))

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
        """How many traces there are: fewer than `frame_count` where cells are traced together."""
        return int(self.columns.trace_counts[self.numbers].sum())

    @property
    def most_together(self) -> int:
        """How many frames of cells come of one trace, at most."""
        if not len(self.numbers):
            return 0
        tasks = np.bincount(self.columns.task_of[self.members], minlength=len(self.columns))
        return int(tasks[self.columns.trace_counts == 1].max(initial=1))

    def of_cells(self, indices: Numbers) -> Numbers:
        """Numbers of the members meant here that are of these cells."""
        members = self.members
        return members[np.isin(self.columns.cells[members], indices)]

    @property
    def work(self) -> float:
        """Pixels × samples of all of them."""
        return float(self.columns.work[self.numbers].sum())


FURTHER_FILM = 0.1
"""What a further film of a trace costs, as a part of the trace: measured were 0.01 for other strengths, 0.02
to 0.2 for another way a sky is turned, 0.1 to 0.2 for a light in another place."""


def work_of(settings: CellSettings) -> int:
    """Pixels × samples of a frame."""
    return settings.pixels * settings.samples


def every_task(columns: Columns, made_from: Ingredients) -> TaskList:
    """All tasks of a plan, with all their members."""
    return TaskList(columns, made_from, np.ones(len(columns.cells), bool), np.arange(len(columns)))


def distinct_frames(starts: Numbers, frames: NDArray[np.int64]) -> NDArray[np.int64]:
    """How many different frames each task has."""
    counts = np.ones(len(starts) - 1, np.int64)
    for n in np.flatnonzero(np.diff(starts) > 1):
        counts[n] = len(np.unique(frames[starts[n] : starts[n + 1]]))
    return counts


def kind_of(cell: Cell) -> str:
    """What cells have in common whose samples take about as long."""
    settings = cell.settings
    return f"{settings.renderer} {settings.camera} {settings.bounces}"
