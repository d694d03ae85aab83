"""What a run needs no trace for, found before anything is composed or read."""

from __future__ import annotations

from collections.abc import Collection
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.runs.fingerprints import Fingerprints
from grandlattice.runs.finishing import to_finish
from grandlattice.runs.kept_shares import KeptShares, answering
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Task, TaskList
from grandlattice.tables.passes import is_light_pass
from grandlattice.tracer import Lamp

_HALF, _FULL = 2, 4  # bytes of a number
_WORDS_OF_DATA = 16  # numbers of a pixel that other passes take, about


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
    todo: TaskList, begun: Collection[int], prints: Fingerprints, kept: KeptShares, *, reuse: bool = True
) -> Foreseen:
    """What needs no trace of some tasks, found without composing or reading any picture.

    Parameters
    ----------
    begun : numbers of members of which some files are there.
    reuse : whether anything that is kept is used; otherwise all is traced.
    """
    numbers, frames, traced, size = set[int](), 0, float("inf"), 0
    ready = _finishing(kept.store, todo, begun) if reuse else frozenset[int]()
    shares = _any_kept(todo)
    for task in todo if shares else todo.narrowed(_those(todo, ready)):
        if not shares:  # the others of its members have to be traced
            whole = todo.task(task.number).numbers
            numbers |= {task.number} if ready.issuperset(whole) else set()
            continue
        if not task.shares:
            numbers |= {task.number} if ready.issuperset(task.numbers) else set()
            continue
        left, known = 0, kept.of_view(task.shares) if reuse else []
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


def _finishing(store: FolderStore, todo: TaskList, begun: Collection[int]) -> frozenset[int]:
    """Numbers of members that are finished from a file of theirs, of those that have some."""
    if not begun:
        return frozenset()
    return frozenset(
        member.number for task in todo.narrowed(_those(todo, begun)) for member in task.members
        if to_finish(store, member)
    )  # fmt: skip


def _those(tasks: TaskList, members: Collection[int]) -> NDArray[np.bool_]:
    chosen = np.zeros(len(tasks.columns.cells), bool)
    chosen[list(members)] = True
    return chosen


def _any_kept(tasks: TaskList) -> bool:
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
