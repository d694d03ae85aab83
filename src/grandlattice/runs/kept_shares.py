"""Light shares beside the ledger: what was traced of each lamp, for other strengths of it.

A file holds the shares of one view as one trace made them.  What is in it that has to be known beforehand
stands in an index that is read without the pictures.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple
from zipfile import BadZipFile

import numpy as np
from numpy.typing import NDArray

from grandlattice.runs.fingerprints import Fingerprints
from grandlattice.runs.finishing import to_finish
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Task, TaskList
from grandlattice.runs.temporary_files import shares_file, shares_folder
from grandlattice.tables.passes import is_light_pass
from grandlattice.tracer import Lamp, ShareIndex

if TYPE_CHECKING:
    from grandlattice.tracer import LightShares

_BROKEN = (OSError, EOFError, ValueError, KeyError, TypeError, AttributeError, BadZipFile)
_HALF, _FULL = 2, 4  # bytes of a number
_WORDS_OF_DATA = 16  # numbers of a pixel that other passes take, about


class KeptShares:
    """The light shares that runs of a plan have kept.

    Parameters
    ----------
    store : where the plan's files land.
    plan : its name.
    """

    def __init__(self, store: FolderStore, plan: str) -> None:
        self._store, self._plan = store, plan
        self._indexes: dict[Path, tuple[tuple[int, int], ShareIndex | None]] = {}
        self._broken: list[str] = []
        self._told = 0

    def newly_broken(self) -> list[str]:
        """Files that could not be read, each once."""
        names, self._told = self._broken[self._told :], len(self._broken)
        return names

    def finishing(self, todo: TaskList, begun: Collection[int]) -> frozenset[int]:
        """Numbers of members that are finished from a file of theirs, of those that have some."""
        if not begun:
            return frozenset()
        return frozenset(
            member.number for task in todo.narrowed(_those(todo, begun)) for member in task.members
            if to_finish(self._store, member)
        )  # fmt: skip

    def of_view(self, view: str) -> list[tuple[Path, ShareIndex]]:
        """What was kept of a view, the latest first."""
        folder = shares_folder(self._plan)
        names = [name for name in self._store.listing(folder) if name.startswith(view)]
        found = [(path, self._index(path)) for path in (self._store.path(f"{folder}/{n}") for n in names)]
        known = [(path, index) for path, index in found if index is not None]
        return sorted(known, key=lambda each: -each[1].traced)

    def _index(self, path: Path) -> ShareIndex | None:
        """What is known of kept shares; None where they are broken."""
        state = (0, 0)
        try:
            state = path.stat().st_size, path.stat().st_mtime_ns
            if self._indexes.get(path, (None,))[0] == state:
                return self._indexes[path][1]
            with np.load(path) as kept:
                index = _index_of(json.loads(str(kept["index"])))
        except _BROKEN:
            self._broken.append(path.name)
            self._indexes[path] = state, None
            return None
        self._indexes[path] = state, index
        return index

    def read(self, path: Path) -> LightShares | None:
        """Kept shares; None where they are broken."""
        index = self._index(path)
        if index is None:
            return None
        from grandlattice.tracer import LightShares  # it brings the tracer along

        try:
            with np.load(path) as kept:
                scales = {str(k): float(v) for k, v in json.loads(str(kept["scales"])).items()}
                planes = {name: kept[f"plane {k}"] for k, name in enumerate(scales)}
                data = {name[5:]: kept[name] for name in kept.files if name.startswith("data ")}
                counts = kept["counts"]
                if any(plane.shape != (*counts.shape, 3) for plane in planes.values()):
                    raise ValueError("planes of another size")
        except _BROKEN:
            self._broken.append(path.name)
            return None
        return LightShares(index, planes, scales, data, counts)

    def keep(self, task: Task, film: int, shares: LightShares) -> None:
        """Write shares down under a temporary name first.

        Parameters
        ----------
        film : the first of those that were traced.

        Raises
        ------
        OutputError
            When they cannot be written.
        """
        scales = dict(shares.scales)
        arrays: dict[str, Any] = {f"plane {k}": shares.planes[name] for k, name in enumerate(scales)}
        arrays |= {f"data {name}": buffer for name, buffer in shares.data.items()}
        arrays |= {"counts": shares.counts, "scales": np.array(json.dumps(scales))}
        arrays["index"] = np.array(json.dumps(_told(shares.index)))

        def write(path: Path) -> None:
            with path.open("wb") as stream:
                np.savez(stream, **arrays)

        self._store.put(shares_file(self._plan, task.shares, task.trace, film), write, task.attempt)


def answering(
    known: Sequence[tuple[Path, ShareIndex]], lamps: Sequence[Lamp], passes: Sequence[str]
) -> tuple[Path, ShareIndex] | None:
    """Of what was kept of a view what a lighting can be mixed from; None where it has to be traced."""
    return next((each for each in known if each[1].answers(lamps, passes)), None)


def _told(index: ShareIndex) -> dict[str, Any]:
    return {
        "lamps": {name: list(map(float, value)) for name, value in index.lamps.items()},
        "sights": {sight: sorted(lamps) for sight, lamps in index.sights.items()},
        "unseen": sorted(index.unseen), "passes": sorted(index.passes),
        "traced": index.traced,
    }  # fmt: skip


def _index_of(told: Mapping[str, Any]) -> ShareIndex:
    lamps = {str(name): (float(r), float(g), float(b)) for name, (r, g, b) in told["lamps"].items()}
    return ShareIndex(
        lamps, {str(sight): frozenset(map(str, held)) for sight, held in told["sights"].items()},
        frozenset(map(str, told["unseen"])),
        frozenset(map(str, told["passes"])), float(told["traced"]),
    )  # fmt: skip


class Foreseen(NamedTuple):
    """What a run needs no trace for.

    Attributes
    ----------
    numbers : of the tasks of which nothing is traced.
    frames : that are mixed from kept shares.
    finished : numbers of members whose files are written from others of theirs.
    traced : when those were traced, the earliest of them, seconds since 1970; 0 without any.
    bytes : of the shares that the run will keep, about.
    """

    numbers: frozenset[int]
    frames: int
    finished: frozenset[int]
    traced: float
    bytes: int


def foresee(
    todo: TaskList, begun: Collection[int], prints: Fingerprints, kept: KeptShares, *, relight: bool = True
) -> Foreseen:
    """What needs no trace of some tasks, found without composing or reading any picture.

    Parameters
    ----------
    begun : numbers of members of which some files are there.
    relight : whether anything that is kept is used; otherwise all is traced.
    """
    numbers, frames, traced, size = set[int](), 0, float("inf"), 0
    ready = kept.finishing(todo, begun) if relight else frozenset[int]()
    shares = any_kept(todo)
    for task in todo if shares else todo.narrowed(_those(todo, ready)):
        if not shares:  # the others of its members have to be traced
            whole = todo.task(task.number).numbers
            numbers |= {task.number} if ready.issuperset(whole) else set()
            continue
        if not task.shares:
            numbers |= {task.number} if ready.issuperset(task.numbers) else set()
            continue
        left, known = 0, kept.of_view(task.shares) if relight else []
        for member in task.members:
            if member.number in ready:
                continue
            halves = prints.halves(member.cell.settings, member.cell.edits, member.frame)
            found = None if halves is None else answering(known, halves.lamps, task.passes)
            if found is None:
                left += 1
            else:
                frames, traced = frames + 1, min(traced, found[1].traced)
        if left:
            size += _bytes(task, prints)
        else:
            numbers.add(task.number)
    return Foreseen(frozenset(numbers), frames, ready, traced if frames else 0.0, size)


def _those(tasks: TaskList, members: Collection[int]) -> NDArray[np.bool_]:
    chosen = np.zeros(len(tasks.columns.cells), bool)
    chosen[list(members)] = True
    return chosen


def any_kept(tasks: TaskList) -> bool:
    """Whether any cell of a plan wants its light shares kept."""
    said = [tasks.made_from.make.caller, *tasks.made_from.lattice.everything_said()]
    return any(key == "keep_light_shares" and value for saying in said for key, value, _ in saying.settings)


def _bytes(task: Task, prints: Fingerprints) -> int:
    """About how many bytes of shares a task keeps."""
    lamps: dict[str, Lamp] = {}
    for member in task.members:
        halves = prints.halves(member.cell.settings, member.cell.edits, member.frame)
        lamps |= {lamp.name: lamp for lamp in (halves.lamps if halves is not None else ())}
    sights = sum(lamp.hides or lamp.is_sky for lamp in lamps.values())
    parts = 1 + sum(is_light_pass(name) for name in task.passes)
    planes = (len(lamps) + 1) * (1 + min(sights, 10)) * parts
    pixels = task.first.settings.pixels
    return pixels * (3 * _HALF * planes + _FULL * _WORDS_OF_DATA)
