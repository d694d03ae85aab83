"""What a run of a plan would do, found without a worker or the tracer."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np

from grandlattice.api.planned import Indices, Planned
from grandlattice.errors import LatticeError, RunError
from grandlattice.plan import CellSettings
from grandlattice.runs import Outlook, Run, TaskList, list_tasks, look_again, look_ahead
from grandlattice.runs.fingerprints import Composing
from grandlattice.runs.ledger import DONE
from grandlattice.runs.memory_room import film_bytes
from grandlattice.runs.remaining import read_back
from grandlattice.runs.tasks import Frames
from grandlattice.tables.formats import FORMATS


def tasks(
    planned: Planned, indices: Indices, frames: Frames, composing: Composing | None = None
) -> TaskList:  # fmt: skip
    """What a run carries out, in order.

    Parameters
    ----------
    composing : is told how far cells are composed that never were.

    Raises
    ------
    OutputError
        When two pictures would have one file, or a name is impossible.
    RunError
        When there is nothing to carry out.
    """
    planned.filing(indices).refuse_collisions()
    renderers = planned.model.renderers

    def chunk_of(settings: CellSettings) -> int:
        name = settings.renderer.split(" ")[0]
        return renderers[name].chunk if name in renderers else 1

    def films_of(settings: CellSettings) -> int:
        return max(1, int(planned.model.run.films) // film_bytes(settings))

    try:
        made = list_tasks(planned.ingredients, indices, frames, chunk_of, films_of, composing)
    finally:
        planned.keep_compositions()  # an interrupted call keeps them, too
    if not made:
        raise RunError("None of these cells has one of these frames.")
    return made


def outlook(
    planned: Planned, indices: Indices, frames: Frames, existing: str = "skip",
    composing: Composing | None = None,
) -> Run:  # fmt: skip
    """A run that has not begun: what it would do, and the files there are."""
    ledger, store, filing = planned.ledger, planned.store, planned.filing(indices)
    if ledger.planned_key() == planned.key(indices, frames) and existing != "replace":
        listed, done = read_back(ledger, planned.ingredients)
        seen = look_again(listed, done, ledger, store, filing)
    else:
        listed = tasks(planned, indices, frames, composing)
        seen = look_ahead(listed, ledger, store, filing, existing)
    return Run(planned.output, ledger, seen, listed, planned.fixed)


def not_composed(planned: Planned, indices: Indices) -> LatticeError | None:
    """Why the first of some cells that were to be composed and cannot be is not; None where there is none."""
    problems, scene_of = planned.compositions.problems, planned.fingerprints.scene_of
    cells = (planned.make(int(index)) for index in indices) if problems else ()
    found = (problems.get(scene_of(cell.settings, cell.edits)) for cell in cells)
    return next((problem for problem in found if problem is not None), None)


def is_done(planned: Planned, indices: Indices, frames: Frames) -> bool:
    """Whether all files of the tasks that stand in the ledger are there, and the plan has no others."""
    ledger = planned.ledger
    try:
        if ledger.planned_key() != planned.key(indices, frames) or set(ledger.counts()) != {DONE}:
            return False
        seen = outlook(planned, indices, frames).outlook
    except LatticeError:
        return False
    finally:
        ledger.close()
    return not (seen.todo or seen.changed or seen.foreign)


def only_finished(outlook: Outlook, members: Collection[int]) -> Outlook:
    """Of an outlook what needs no trace, the files being written from others of their frames.

    Raises
    ------
    RunError
        When something is to be done, and nothing of it in this way.
    """
    todo = outlook.todo
    chosen = np.zeros(len(todo.columns.cells), bool)
    chosen[list(members)] = True
    if todo and not members:
        first = todo[0].members[0]
        has_exr = any(FORMATS[name].layered for name in first.cell.settings.format)
        raise RunError(
            f"No OpenEXR file of {first.cell.address}, frame {first.frame}, stands as the plan wants it: its "
            "pictures cannot be written without a trace.",
            cure="glat run traces it" if has_exr else "add exr to its format; glat run traces it then",
        )
    return replace(outlook, todo=todo.narrowed(chosen))


def only_unfinished(run: Run) -> Outlook:
    """Of a run what a time limit ended before it had all its samples."""
    done, cut = run.outlook.done, run.ledger.unfinished()
    traces = {trace for trace, _, _ in cut}
    lost = np.zeros(len(done.columns.cells), bool)
    numbers = [n for n in done.numbers if done.columns.traces[n].tobytes().hex() in traces]
    for task in done.only(np.array(numbers, np.int64)):
        for member in task.members:
            lost[member.number] = (task.trace, member.cell.address, member.frame) in cut
    return Outlook(done.narrowed(lost), done.narrowed(~lost))
