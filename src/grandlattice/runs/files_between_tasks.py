"""Files below the output folder that tasks begin with or leave for later ones, besides pictures: they are
brought to workers that do not see that folder, and back.
"""

from __future__ import annotations

from collections.abc import Sequence

from grandlattice.runs.finishing import to_finish
from grandlattice.runs.kept_shares import KeptShares
from grandlattice.runs.tasks import Task
from grandlattice.runs.temporary_files import shares_file, unfinished_file
from grandlattice.runs.work_order import TaskResult, WorkOrder


def files_to_begin_with(order: WorkOrder, task: Task, shares: KeptShares) -> list[str]:
    """Files that may spare a task its trace: those of its frames that others are written from, light shares
    of its view, and pictures that a time limit ended.

    Parameters
    ----------
    shares : the light shares of the order's plan.

    Returns
    -------
    Paths below the output folder; files are there.
    """
    store, plan, found = order.store, order.plan_name, dict[str, None]()
    if order.reuse and not order.further:
        for member in task.members:
            if to_finish(store, member):
                found |= dict.fromkeys(file.planned.path for file in member.files)
    if order.reuse and task.shares:
        kept = shares.of_view(task.shares)
        found |= dict.fromkeys(path.relative_to(order.output).as_posix() for path, _ in kept)
    if order.further:
        found |= dict.fromkeys(unfinished_file(plan, task.trace, film) for film in range(len(task.films)))
    return [path for path in found if store.size(path) is not None and not store.is_link(path)]


def files_that_may_be_left(order: WorkOrder, task: Task, result: TaskResult) -> Sequence[str]:
    """Where a task that is done may have put files for later ones: light shares, and pictures that a time
    limit ended; paths below the output folder."""
    plan, found = order.plan_name, list[str]()
    cut = any(member.unfinished for member in result.members)
    for film in task.wanted:
        found += [unfinished_file(plan, task.trace, film)] if cut else []
        found += [shares_file(plan, task.shares, task.trace, film)] if task.shares else []
    return found
