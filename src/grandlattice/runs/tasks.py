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
from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal, NamedTuple, overload

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.readable import many
from grandlattice.plan import Cell, CellMaker, CellSettings, FileNames, Lattice, PlanModel, planned_files
from grandlattice.plan.running_order import changes, urgent_first
from grandlattice.plan.setting_layers import PlacedEdit
from grandlattice.runs.fingerprints import Fingerprints, TaskFile, can_share

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
    attempt : names the try of it that is under way, for its temporary files; see
        `temporary_files`.
    """

    number: int
    members: tuple[Member, ...]
    passes: tuple[str, ...]
    films: tuple[Shot, ...] = ()
    step: int = 0
    trace: str = ""
    company: str = ""
    attempt: str = ""

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
        traces = count if is_outside(self.first.settings) else 1.0 + FURTHER_FILM * (count - 1)
        return work_of(self.first.settings) * traces

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
    companies : (N, 16) uint8, digests of the lightings each task's view has; nought where there is one.
    steps : (N,) int32, barriers.
    work : (N,) float64, see `Task.work`.
    trace_counts : (N,) int32, how many traces each task takes.
    film_starts : (N + 1,) int64; the films of task n are of ``film_cells[a:b]``, (F,) int32, at
        ``film_frames[a:b]``, (F,) int64, from a = ``film_starts[n]`` to b = ``film_starts[n + 1]``.
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
    trace_counts: NDArray[np.int32]
    film_starts: NDArray[np.int64]
    film_cells: NDArray[np.int32]
    film_frames: NDArray[np.int64]
    companies: NDArray[np.uint8]

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
                inputs = prints.traced(cell.settings, cell.edits, self._together(cell, part, frame)).files
                files = tuple(TaskFile(file, prints.file(inputs, cell, file)) for file in planned)
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
            columns.traces[number].tobytes().hex(), company.hex() if any(company) else "",
        )  # fmt: skip

    def _together(self, cell: Cell, part: slice, frame: int) -> tuple[int, ...]:
        """The frames that are rendered in one call with a frame of a cell."""
        if not is_outside(cell.settings):
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
"""What a further film of a trace costs, as a part of the trace: 0.02 for other strengths, 0.1 for another way
a sky is turned, 0.4 for a light in another place."""


def is_outside(settings: CellSettings) -> bool:
    """Whether another renderer than the embedded tracer draws a cell."""
    return settings.renderer.partition(" ")[0] != "tracer"


def work_of(settings: CellSettings) -> int:
    """Pixels × samples of a frame."""
    return settings.pixels * settings.samples


MOST_COMPOSED = 20_000
"""Cells of a plan that are composed at most; of larger ones what the plan says decides what is shared."""


def list_tasks(
    made_from: Ingredients, indices: Sequence[int] | Numbers, frames: Frames = None,
    chunk_of: Callable[[CellSettings], int] = lambda settings: 1,
    films_of: Callable[[CellSettings], int] = lambda settings: 36,
) -> TaskList:  # fmt: skip
    """Tasks for cells in the planned order.

    Parameters
    ----------
    indices : of cells, in running order.
    frames : only these of each cell's frames; all by default.
    chunk_of : how many frames of a cell one task takes.
    films_of : how many films of a view one task makes at most.
    """
    prints, chosen = made_from.fingerprints, np.asarray(indices, np.int64)
    others = np.setdiff1d(np.arange(len(made_from.lattice)), chosen)
    gathering = _Gathering(prints, frames, chunk_of, films_of)
    for settings, edits in made_from.make.told(chosen):
        gathering.add(settings, edits)
    if prints.composes and gathering.may_share:
        for settings, edits in made_from.make.plain.told(others):
            gathering.add_other(settings, edits)
    columns = gathering.pairs(chosen, others).as_tasks(made_from.lattice)
    return every_task(columns, made_from)


def every_task(columns: Columns, made_from: Ingredients) -> TaskList:
    """All tasks of a plan, with all their members."""
    return TaskList(columns, made_from, np.ones(len(columns.cells), bool), np.arange(len(columns)))


class _Gathering:
    """What is traced for each frame of many cells, gathered cell by cell."""

    def __init__(
        self, prints: Fingerprints, frames: Frames, chunk_of: Callable[[CellSettings], int],
        films_of: Callable[[CellSettings], int],
    ) -> None:  # fmt: skip
        self._prints, self._chunk_of, self._films_of = prints, chunk_of, films_of
        self._first = isinstance(frames, str)
        self._wanted = None if frames is None or isinstance(frames, str) else set(frames)
        self._counts, self._priorities, self._outside = array("i"), array("i"), array("b")
        self._work, self._films = array("d"), array("i")
        self._frames, self._views, self._inputs = array("q"), bytearray(), bytearray()
        self._settings: set[bytes] = set()  # of the cells, as far as they decide where paths go
        self._their_frames: set[int] = set()

    @property
    def may_share(self) -> bool:
        """Whether any of the cells could be traced together with another."""
        return bool(self._settings)

    def _frames_of(self, settings: CellSettings) -> tuple[int, ...]:
        here = settings.frames[:1] if self._first else settings.frames
        return here if self._wanted is None else tuple(f for f in here if f in self._wanted)

    def add(self, settings: CellSettings, edits: tuple[PlacedEdit, ...]) -> None:
        """The next of the cells that are chosen."""
        here, outside = self._frames_of(settings), is_outside(settings)
        chunk = self._chunk_of(settings) if outside else 1
        for k in range(0, len(here), chunk):
            together = here[k : k + chunk]
            traced = self._prints.traced(settings, edits, together)
            self._views += traced.view * len(together)
            self._inputs += traced.inputs * len(together)
        self._frames.extend(here)
        self._counts.append(len(here))
        self._priorities.append(settings.priority)
        self._work.append(work_of(settings))
        self._films.append(self._films_of(settings))
        self._outside.append(outside)
        if not outside and can_share(settings):
            self._settings.add(self._prints.view_settings(settings))
            self._their_frames |= set(here)

    def add_other(self, settings: CellSettings, edits: tuple[PlacedEdit, ...]) -> None:
        """The next of the cells that are not chosen: they count for the companies of those that are."""
        shares = not is_outside(settings) and can_share(settings)
        here: tuple[int, ...] = ()
        if shares and self._prints.view_settings(settings) in self._settings:
            here = tuple(frame for frame in settings.frames if frame in self._their_frames)
        for frame in here:
            traced = self._prints.traced(settings, edits, (frame,))
            self._views += traced.view
            self._inputs += traced.inputs
        self._frames.extend(here)
        self._counts.append(len(here))

    def pairs(self, chosen: Numbers, others: Numbers) -> _Pairs:
        """All that was gathered."""
        counts = np.frombuffer(self._counts, np.int32) if self._counts else np.zeros(0, np.int32)

        def words(digests: bytearray) -> NDArray[np.uint64]:
            return np.frombuffer(bytes(digests), np.uint64).reshape(-1, 2)

        return _Pairs(
            np.concatenate([chosen, others[: len(counts) - len(chosen)]]), len(chosen), counts,
            np.array(self._frames, np.int64), np.array(self._priorities, np.int32),
            np.array(self._work, np.float64), np.array(self._films, np.int32),
            np.array(self._outside, bool), words(self._views), words(self._inputs),
        )  # fmt: skip


@dataclass(frozen=True)
class _Pairs:
    """Cells and their frames, before they are put in order.

    `cells` and `counts` (frames of each) are of all cells, of which `chosen` come first; `priorities`,
    `work`, `films` (how many one task makes at most) and `outside` of the chosen ones; `frames`, `views` and
    `inputs` (what is traced, two words each) of each frame of each cell, one cell after the other.
    """

    cells: Numbers
    chosen: int
    counts: NDArray[np.int32]
    frames: NDArray[np.int64]
    priorities: NDArray[np.int32]
    work: NDArray[np.float64]
    films: NDArray[np.int32]
    outside: NDArray[np.bool_]
    views: NDArray[np.uint64]
    inputs: NDArray[np.uint64]

    def as_tasks(self, lattice: Lattice) -> Columns:
        """Columns in running order, what is traced together as one task where the first of it stands."""
        every = np.repeat(np.arange(len(self.cells), dtype=np.int32), self.counts)
        whole = _Companies(self, every)
        of = every[: int(self.counts[: self.chosen].sum())]
        order: Numbers = np.arange(len(of))
        chosen = self.cells[: self.chosen]
        if lattice.frame_at < len(lattice.order):
            # Cells of a group take turns, one frame each at a time; `lexsort` has the first key last.
            begins = (np.cumsum(self.counts) - self.counts)[: self.chosen]
            groups = changes(lattice.groups_of(chosen))
            order = np.lexsort((of, order - begins[of], groups[of]))
        parts = changes(lattice.steps_of(chosen)[of[order]])
        if self.priorities.any():
            order, parts = urgent_first(order, parts, self.priorities[of[order]])
        of, frames = of[order], self.frames[order]
        number = _by_first_appearance(whole.keys[order])
        together = np.argsort(number, kind="stable").astype(np.int32)
        starts = np.concatenate([[0], np.cumsum(np.bincount(number))]).astype(np.int64)
        firsts = together[starts[:-1]]
        films = whole.films[order][together]
        made = _distinct_films(starts, films)
        outside = self.outside[of[firsts]]
        film_starts, film_pairs = whole.listed(order[firsts])
        traces, companies = whole.digests(order[firsts])
        return Columns(
            traces=traces,
            starts=starts,
            steps=changes(parts[firsts]).astype(np.int32),
            work=self.work[of[firsts]] * np.where(outside, made, 1.0 + FURTHER_FILM * (made - 1.0)),
            cells=chosen[of[together]].astype(np.int32),
            frames=frames[together],
            films=films,
            priorities=self.priorities[of[together]].astype(np.int32),
            trace_counts=np.where(outside, made, 1).astype(np.int32),
            film_starts=film_starts,
            film_cells=self.cells[every[film_pairs]].astype(np.int32),
            film_frames=self.frames[film_pairs],
            companies=companies,
        )


class _Companies:
    """Which lightings of a view there are, and which film each pair of cell and frame is written from.

    Frames of one view are of one company when they have the same lightings; a company without company, one
    lighting of one view, is the usual case.

    Attributes
    ----------
    films : (P,) int32, the number of each pair's film in its company.
    keys : (P, 2) uint64, equal for pairs that one task serves.
    """

    def __init__(self, pairs: _Pairs, of: NDArray[np.int32]) -> None:
        self._inputs, frames = pairs.inputs, pairs.frames
        outside = np.repeat(
            np.concatenate([pairs.outside, np.zeros(len(pairs.cells) - pairs.chosen, bool)]), pairs.counts
        )
        _, first, rank = _ranks(pairs.inputs)
        # What is traced at one frame number, from one view; outside renderers take frames together.
        at = np.stack([pairs.views[:, 0], pairs.views[:, 1], np.where(outside, 0, frames).view(np.uint64)], 1)
        view = _by_first_appearance(at)
        numbers, of_frame = np.unique(frames, return_inverse=True)
        kinds = max(len(first), len(numbers), 1)
        lit = view.astype(np.int64) * kinds + np.where(outside, of_frame.reshape(-1), rank)
        _, self._first_pair, which = np.unique(lit, return_index=True, return_inverse=True)
        of_view = view[self._first_pair]
        self._starts = np.concatenate(
            [[0], np.cumsum(np.bincount(of_view, minlength=int(view.max(initial=-1)) + 1))]
        ).astype(np.int64)
        self._view = view
        self.films = (which.reshape(-1) - self._starts[view]).astype(np.int32)
        rank_of_each = np.where(outside[self._first_pair], -1 - of_view, rank[self._first_pair])
        known: dict[bytes, int] = {}
        company = np.array([
            known.setdefault(rank_of_each[a:b].tobytes(), len(known))
            for a, b in zip(self._starts[:-1].tolist(), self._starts[1:].tolist(), strict=True)
        ], np.int64)  # fmt: skip
        most = np.ones(len(pairs.cells), np.int64)
        most[: pairs.chosen] = np.maximum(pairs.films, 1)
        self._chunk = np.where(outside, 0, self.films // np.repeat(most, pairs.counts))
        self.keys = np.stack([company[view], self._chunk], 1).astype(np.uint64)

    def digests(self, pairs: Numbers) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
        """(N, 16) digests of what is traced for some pairs: all films of their companies, and which part of
        them their tasks make; and of their companies alone, nought where there is one film."""
        made = np.ascontiguousarray(self._inputs[pairs]).view(np.uint8).reshape(-1, 16).copy()
        companies = np.zeros_like(made)
        for n, pair in enumerate(pairs.tolist()):
            a, b = self._starts[self._view[pair]], self._starts[self._view[pair] + 1]
            if b - a > 1 and not (self._inputs[self._first_pair[a:b]] == self._inputs[pair]).all():
                told = self._inputs[self._first_pair[a:b]].tobytes()
                companies[n] = _digest_of(told)
                made[n] = _digest_of(told + int(self._chunk[pair]).to_bytes(4, "little"))
        return made, companies

    def listed(self, pairs: Numbers) -> tuple[Numbers, Numbers]:
        """Where the films of the companies of some pairs begin, and a pair that each film is of."""
        begins, ends = self._starts[self._view[pairs]], self._starts[self._view[pairs] + 1]
        starts = np.concatenate([[0], np.cumsum(ends - begins)]).astype(np.int64)
        at = np.arange(starts[-1]) - np.repeat(starts[:-1] - begins, ends - begins)
        return starts, self._first_pair[at]


def _digest_of(told: bytes) -> NDArray[np.uint8]:
    return np.frombuffer(hashlib.blake2b(told, digest_size=16).digest(), np.uint8)


def _ranks(digests: NDArray[np.uint64]) -> tuple[NDArray[np.uint64], Numbers, Numbers]:
    """Distinct digests of two words in ascending order, a place of each, and which each row is."""
    packed = np.ascontiguousarray(digests).view([("high", np.uint64), ("low", np.uint64)]).reshape(-1)
    kinds, first, which = np.unique(packed, return_index=True, return_inverse=True)
    return kinds, first, which.reshape(-1)


def _by_first_appearance(keys: NDArray[np.uint64]) -> NDArray[np.int32]:
    """For each key of some words the number of its kind, kinds counted as they first appear."""
    if not len(keys):
        return np.zeros(0, np.int32)
    by_key = np.lexsort(keys.T[::-1]).astype(np.int32)  # stable: the first of equals is first
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


def _distinct_films(starts: Numbers, films: NDArray[np.int32]) -> NDArray[np.int64]:
    """How many different films each task makes."""
    counts = np.ones(len(starts) - 1, np.int64)
    for n in np.flatnonzero(np.diff(starts) > 1):
        counts[n] = len(np.unique(films[starts[n] : starts[n + 1]]))
    return counts


def distinct_frames(starts: Numbers, frames: NDArray[np.int64]) -> NDArray[np.int64]:
    """How many different frames each task has."""
    counts = np.ones(len(starts) - 1, np.int64)
    for n in np.flatnonzero(np.diff(starts) > 1):
        counts[n] = len(np.unique(frames[starts[n] : starts[n + 1]]))
    return counts
