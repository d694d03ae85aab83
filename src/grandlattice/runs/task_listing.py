"""Which tasks a plan has: what is traced for each frame of each cell, and which lightings share a view."""

from __future__ import annotations

import hashlib
from array import array
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import PlanError
from grandlattice.plan import CellSettings, Lattice
from grandlattice.plan.running_order import changes, urgent_first
from grandlattice.plan.setting_layers import PlacedEdit
from grandlattice.runs.fingerprints import Composing, Fingerprints, can_share
from grandlattice.runs.tasks import (
    FURTHER_FILM,
    Columns,
    Frames,
    Ingredients,
    Numbers,
    TaskList,
    every_task,
    pool_key,
    work_of,
)


def list_tasks(
    made_from: Ingredients, indices: Sequence[int] | Numbers, frames: Frames = None,
    chunk_of: Callable[[CellSettings], int] = lambda settings: 1,
    films_of: Callable[[CellSettings], int] = lambda settings: 36, told: Composing | None = None,
) -> TaskList:  # fmt: skip
    """Tasks for cells in the planned order.

    Parameters
    ----------
    indices : of cells, in running order.
    frames : only these of each cell's frames, numbers or words, see `frames_meant`; all by default.
    chunk_of : how many frames of a cell one task takes.
    films_of : how many films of a view one task makes at most.
    told : is told how far cells are composed that never were.
    """
    prints, chosen = made_from.fingerprints, np.asarray(indices, np.int64)
    is_other = np.ones(len(made_from.lattice), bool)
    is_other[chosen] = False
    others = np.flatnonzero(is_other)
    gathering, make = _Gathering(prints, frames, chunk_of, films_of), made_from.make
    prints.compose(((s, e, f) for s, e in make.told(chosen) for f in gathering.frames_of(s)), told)
    for settings, edits in make.told(chosen):
        gathering.add(settings, edits)
    if prints.composes and gathering.may_share:
        rest = ((s, e, f) for s, e in make.plain.told(others) for f in gathering.frames_of_other(s))
        prints.compose(rest, told)
        for settings, edits in make.plain.told(others):
            gathering.add_other(settings, edits)
    columns = gathering.pairs(chosen, others).as_tasks(made_from.lattice)
    return every_task(columns, made_from)


class _Gathering:
    """What is traced for each frame of many cells, gathered cell by cell."""

    def __init__(
        self, prints: Fingerprints, frames: Frames, chunk_of: Callable[[CellSettings], int],
        films_of: Callable[[CellSettings], int],
    ) -> None:  # fmt: skip
        self._prints, self._chunk_of, self._films_of = prints, chunk_of, films_of
        self._words = frames if isinstance(frames, str) else ""
        self._wanted = None if frames is None or isinstance(frames, str) else set(frames)
        self._counts, self._priorities, self._outside = array("i"), array("i"), array("b")
        self._work, self._films, self._pools = array("d"), array("i"), array("q")
        self._frames, self._views, self._inputs = array("q"), bytearray(), bytearray()
        self._settings: set[bytes] = set()  # of the cells, as far as they decide where paths go
        self._their_frames: set[int] = set()

    @property
    def may_share(self) -> bool:
        """Whether any of the cells could be traced together with another."""
        return bool(self._settings)

    def frames_of(self, settings: CellSettings) -> tuple[int, ...]:
        """The frames of a cell that is chosen."""
        here = frames_meant(settings.frames, self._words) if self._words else settings.frames
        return here if self._wanted is None else tuple(f for f in here if f in self._wanted)

    def add(self, settings: CellSettings, edits: tuple[PlacedEdit, ...]) -> None:
        """The next of the cells that are chosen."""
        here, outside = self.frames_of(settings), settings.is_outside
        chunk = self._chunk_of(settings) if outside else 1
        for k in range(0, len(here), chunk):
            together = here[k : k + chunk]
            traced = self._prints.traced(settings, edits, together)
            self._views += traced.view * len(together)
            self._inputs += traced.inputs * len(together)
        self._frames.extend(here)
        self._counts.append(len(here))
        self._priorities.append(settings.priority)
        self._pools.append(pool_key(settings.pool))
        self._work.append(work_of(settings))
        self._films.append(self._films_of(settings))
        self._outside.append(outside)
        if not outside and can_share(settings):
            self._settings.add(self._prints.view_settings(settings))
            self._their_frames |= set(here)

    def frames_of_other(self, settings: CellSettings) -> tuple[int, ...]:
        """The frames of a cell that is not chosen that may be traced together with those of one that is."""
        shares = not settings.is_outside and can_share(settings)
        if not shares or self._prints.view_settings(settings) not in self._settings:
            return ()
        return tuple(frame for frame in settings.frames if frame in self._their_frames)

    def add_other(self, settings: CellSettings, edits: tuple[PlacedEdit, ...]) -> None:
        """The next of the cells that are not chosen: they count for the companies of those that are."""
        here = self.frames_of_other(settings)
        for frame in here:
            traced = self._prints.traced(settings, edits, (frame,))
            self._views += traced.view
            self._inputs += traced.inputs
        self._frames.extend(here)
        self._counts.append(len(here))

    def pairs(self, chosen: Numbers, others: Numbers) -> _Pairs:
        """All that was gathered."""

        def whole(gathered: array | bytearray, kind: type[np.generic]) -> NDArray:
            return np.frombuffer(gathered, kind)

        counts = whole(self._counts, np.int32)
        return _Pairs(
            np.concatenate([chosen, others[: len(counts) - len(chosen)]]), len(chosen), counts,
            whole(self._frames, np.int64), whole(self._priorities, np.int32),
            whole(self._work, np.float64), whole(self._films, np.int32), whole(self._outside, np.bool_),
            whole(self._views, np.uint64).reshape(-1, 2), whole(self._inputs, np.uint64).reshape(-1, 2),
            whole(self._pools, np.int64),
        )  # fmt: skip


@dataclass(frozen=True)
class _Pairs:
    """Cells and their frames, before they are put in order.

    `cells` and `counts` (frames of each) are of all cells, of which `chosen` come first; `priorities`,
    `work`, `films` (how many one task makes at most), `outside` and `pools` of the chosen ones; `frames`,
    `views` and `inputs` (what is traced, two words each) of each frame of each cell, one cell after the
    other.
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
    pools: NDArray[np.int64]

    def as_tasks(self, lattice: Lattice) -> Columns:
        """Columns in running order, what is traced together as one task where the first of it stands."""
        every = np.repeat(np.arange(len(self.cells), dtype=np.int32), self.counts)
        whole = _Companies(self)
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
            pools=_first_named(self.pools[of[together]], starts),
        )


FRAME_WORDS = ("first", "middle", "last")


def frames_meant(frames: Sequence[int], words: str) -> tuple[int, ...]:
    """Frames of a cell by words.

    >>> frames_meant(range(1, 10), "first,middle,last"), frames_meant([7], "first,last")
    ((1, 5, 9), (7,))
    """
    at = {"first": 0, "middle": len(frames) // 2, "last": len(frames) - 1}
    unknown = [word for word in words.split(",") if word not in at]
    if unknown:
        raise PlanError(
            f"There is no frame {unknown[0]!r}.", cure=f"say {', '.join(FRAME_WORDS)}, or numbers"
        )
    return tuple(dict.fromkeys(frames[at[word]] for word in words.split(",")))


class _Companies:
    """Which lightings of a view there are, and which film each pair of cell and frame is written from.

    Frames of one view are of one company when they have the same lightings; a company without company, one
    lighting of one view, is the usual case.

    Attributes
    ----------
    films : (P,) int32, the number of each pair's film in its company.
    keys : (P,) uint64, equal for pairs that one task serves.
    """

    def __init__(self, pairs: _Pairs) -> None:
        self._inputs, frames = pairs.inputs, pairs.frames
        outside = np.zeros(len(pairs.cells), bool)
        outside[: pairs.chosen] = pairs.outside
        outside = np.repeat(outside, pairs.counts)
        # What is traced at one frame number, from one view; outside renderers take frames together.
        at = np.where(outside, 0, frames).view(np.uint64)
        self._view = view = _by_first_appearance(pairs.views[:, 0], pairs.views[:, 1], at)
        told = pairs.inputs  # tells lightings of a view apart; of outside renderers frames do
        if outside.any():
            ascending = frames.view(np.uint64) ^ np.uint64(1 << 63)
            told = np.where(outside[:, None], np.stack([at, ascending], 1), told)
        self._first_pair, which = _kinds(view, told[:, 0], told[:, 1])
        self._starts = np.concatenate([[0], np.cumsum(np.bincount(view[self._first_pair]))]).astype(np.int64)
        self.films = (which - self._starts[view]).astype(np.int32)
        most = np.ones(len(pairs.cells), np.int32)
        most[: pairs.chosen] = np.maximum(pairs.films, 1)
        self._chunk = np.where(outside, 0, self.films // np.repeat(most, pairs.counts))
        company = self._numbered(outside)
        self.keys = (company[view] * (int(self._chunk.max(initial=0)) + 1) + self._chunk).view(np.uint64)

    def _numbered(self, outside: NDArray[np.bool_]) -> Numbers:
        """For each view the number of its company; each of an outside renderer has one of its own.

        Most views have one lighting, and there may be millions of them: Python sees only the others.
        """
        begins, lengths = self._starts[:-1], np.diff(self._starts)
        found, shares = np.arange(len(begins)), ~outside[self._first_pair[begins]]
        alone = shares & (lengths == 1)
        made = self._inputs[self._first_pair[begins[alone]]]
        found[alone] = len(begins) + _by_first_appearance(made[:, 0], made[:, 1])
        known: dict[bytes, int] = {}
        for n in np.flatnonzero(shares & (lengths > 1)).tolist():
            films = self._inputs[self._first_pair[begins[n] : begins[n] + lengths[n]]].tobytes()
            found[n] = 2 * len(begins) + known.setdefault(films, len(known))
        return found

    def digests(self, pairs: Numbers) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
        """(N, 16) digests of what is traced for some pairs: all films of their companies, and which part of
        them their tasks make; and of their companies alone, nought where there is one film."""
        made = np.ascontiguousarray(self._inputs[pairs]).view(np.uint8).reshape(-1, 16).copy()
        companies = np.zeros_like(made)
        begins, ends = self._starts[self._view[pairs]], self._starts[self._view[pairs] + 1]
        for n in np.flatnonzero(ends - begins > 1).tolist():
            films = self._inputs[self._first_pair[begins[n] : ends[n]]]
            if not (films == self._inputs[pairs[n]]).all():
                told = films.tobytes()
                companies[n] = _digest_of(told)
                made[n] = _digest_of(told + int(self._chunk[pairs[n]]).to_bytes(4, "little"))
        return made, companies

    def listed(self, pairs: Numbers) -> tuple[Numbers, NDArray[np.int32]]:
        """Where the films of the companies of some pairs begin, and a pair that each film is of."""
        begins, ends = self._starts[self._view[pairs]], self._starts[self._view[pairs] + 1]
        starts = np.concatenate([[0], np.cumsum(ends - begins)]).astype(np.int64)
        at = np.repeat(begins - starts[:-1], ends - begins)
        at += np.arange(len(at))
        return starts, self._first_pair[at]


def _digest_of(told: bytes) -> NDArray[np.uint8]:
    return np.frombuffer(hashlib.blake2b(told, digest_size=16).digest(), np.uint8)


def _kinds(*words: NDArray) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Kinds of keys of some words, in ascending order: the first key of each, and which each key is."""
    by_key = np.lexsort(words[::-1]).astype(np.int32)  # stable: the first of equals is first
    new = np.ones(len(by_key), bool)
    new[1:] = False
    for word in words:
        here = word[by_key]
        new[1:] |= here[1:] != here[:-1]
    kind = np.empty(len(by_key), np.int32)
    kind[by_key] = np.cumsum(new, dtype=np.int32) - 1
    return by_key[new], kind


def _by_first_appearance(*words: NDArray) -> NDArray[np.int32]:
    """For each key of some words the number of its kind, kinds counted as they first appear."""
    first, kind = _kinds(*words)
    number = np.empty(len(first), np.int32)
    number[np.argsort(first)] = np.arange(len(first))
    return number[kind]


def _first_named(keys: NDArray[np.int64], starts: Numbers) -> NDArray[np.int64]:
    """The first key that is not 0 in each part of them; 0 where there is none."""
    found = np.zeros(len(starts) - 1, np.int64)
    named = np.flatnonzero(keys)[::-1]
    found[np.searchsorted(starts, named, "right") - 1] = keys[named]  # the last one written is the first
    return found


def _distinct_films(starts: Numbers, films: NDArray[np.int32]) -> NDArray[np.int64]:
    """How many different films each task makes."""
    counts = np.ones(len(starts) - 1, np.int64)
    for n in np.flatnonzero(np.diff(starts) > 1):
        counts[n] = len(np.unique(films[starts[n] : starts[n + 1]]))
    return counts
