"""Which cells are traced together, and why others are not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from grandlattice._support.readable import many
from grandlattice.errors import LatticeError
from grandlattice.plan.settings import MARKS
from grandlattice.runs.fingerprints import can_share
from grandlattice.runs.tasks import every_task

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from grandlattice.plan import Cell
    from grandlattice.runs import Outlook, Task
    from grandlattice.stage import Explanation

_SAID = 3  # differences that are named


@dataclass(frozen=True)
class SharedTrace:
    """The cells that one trace serves.

    Attributes
    ----------
    cells : their addresses, in the order they run.
    frames : the numbers of those of their frames.
    films : how many different pictures are made of its light.
    in_common : axis → the entry that all of them have.
    differ : axes in which they differ.
    unlike : the number, from 0, of the earlier trace that has most entries in common with this one; None for
        the first.
    because : why they are not traced together with the cells of that.
    """

    cells: tuple[str, ...]
    frames: tuple[int, ...]
    films: int
    in_common: dict[str, str]
    differ: tuple[str, ...]
    unlike: int | None = None
    because: tuple[str, ...] = ()


@dataclass(frozen=True)
class Sharing:
    """How many traces some cells take.

    Attributes
    ----------
    frames, traces : of cells, done or not.
    done : frames whose pictures are there.
    most : frames that the largest trace makes.
    problem : why some of the cells, each of which counts as a trace, cannot be rendered; empty where all can.
    """

    frames: int
    traces: int
    done: int
    most: int
    problem: str = ""


def sharing(outlook: Outlook, problem: LatticeError | None) -> Sharing:
    """How many traces there are of what is to be done, and of what is done.

    Parameters
    ----------
    problem : of the first of the cells that cannot be composed.
    """
    whole = every_task(outlook.todo.columns, outlook.todo.made_from)
    return Sharing(
        whole.frame_count, whole.trace_count, outlook.done.frame_count, whole.most_together,
        problem.what if problem else "",
    )  # fmt: skip


def shared_traces(
    tasks: Iterable[Task], explain: Callable[[Cell, Cell], Explanation], lights_only: Callable[[str], bool]
) -> Iterator[SharedTrace]:
    """What the cells of each task have in common, and why it is another than one before.

    Parameters
    ----------
    explain : what differs in a cell from another.
    lights_only : whether there are lights and no shapes at a path of the scene and below it.
    """
    earlier: list[Task] = []
    for task in tasks:
        cells = list({member.cell.index: member.cell for member in task.members}.values())
        first = dict(cells[0].coordinates)
        common = {axis: e for axis, e in first.items() if all(c.coordinates.get(axis) == e for c in cells)}
        like = None if not earlier else _nearest(earlier, cells[0])
        because = () if like is None else tuple(_reasons(earlier[like], task, explain, lights_only))
        yield SharedTrace(
            tuple(cell.address for cell in cells), task.frames, len(task.wanted), common,
            tuple(axis for axis in first if axis not in common), like, because,
        )  # fmt: skip
        earlier.append(task)


def _nearest(earlier: Sequence[Task], cell: Cell) -> int:
    """The first of the tasks whose first cell has most entries in common with a cell."""

    def alike(k: int) -> tuple[int, int]:
        theirs = earlier[k].first.coordinates
        return sum(theirs.get(axis) == entry for axis, entry in cell.coordinates.items()), -k

    return max(range(len(earlier)), key=alike)


def _reasons(
    before: Task, task: Task, explain: Callable[[Cell, Cell], Explanation], lights_only: Callable[[str], bool]
) -> Iterator[str]:
    """Why a task is another than one before it."""
    cell, other = task.first, before.first
    if cell.settings.is_outside:
        yield f"{cell.settings.renderer} renders every cell by itself"
        return
    if task.company and task.company == before.company:
        yield "the films of one trace have no more room (run: films)"
        return
    if cell.index == other.index:
        yield f"something moves between frames {before.frame} and {task.frame}"
        return
    try:
        told = explain(cell, other)
    except LatticeError as problem:
        yield f"it cannot be composed: {problem.what}"
        return
    said = [
        f"{change.name} {change.before} → {change.after}"
        for change in told.settings
        if MARKS.get(change.name.replace("-", "_"), "path") == "path"
    ] + [
        f"{change.prim} {change.name} {change.before} → {change.after}".strip()
        for change in told.changes
        if not lights_only(change.prim)
    ]
    if len(said) > _SAID:
        said = [*said[:_SAID], f"and {many(len(said) - _SAID, 'other difference')}"]
    if not said and not can_share(cell.settings):
        said = ["its settings have it traced by itself (own-trace, or a metered exposure with a clamp)"]
    yield from said or ["what the scene holds differs"]
