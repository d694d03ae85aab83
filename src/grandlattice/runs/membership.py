"""Which members of a run's tasks wait, are under way or are over, on top of a `Schedule` of whole tasks.

A task is carried out for those of its members that wait when it begins.  One that has ended while
others of its members wait (they were revived meanwhile) waits again; one without any is left out.
Its priority is the highest of the members that wait.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from grandlattice.runs.schedule import May, Numbers, Patience, Schedule
from grandlattice.runs.tasks import Task, TaskList

_AWAY, _WAITING, _OPEN, _DONE, _FAILED = 0, 1, 2, 3, 4
"""States: not meant or dropped, waiting, under way, done, set aside."""
_LOWEST = -1_000_000  # below any priority


class Membership:
    """The members of the tasks of one run, and the order their tasks begin in.

    Parameters
    ----------
    todo : tasks to do, with the members that are needed.
    patience : how often a task is tried.
    clock : seconds that only grow.
    """

    def __init__(self, todo: TaskList, patience: Patience, clock: Callable[[], float]) -> None:
        self._todo, columns = todo, todo.columns
        self._state = np.zeros(len(columns.cells), np.uint8)
        self._state[todo.members] = _WAITING
        self._priorities = columns.priorities.copy()
        self._schedule = Schedule(
            todo.numbers, columns.steps, self._by_task(), patience, clock, columns.pools
        )

    def _by_task(self) -> NDArray[np.int32]:
        """(N,) highest priority of the members of each task that wait or are under way."""
        wanted, columns = np.isin(self._state, (_WAITING, _OPEN)), self._todo.columns
        highest = np.full(len(columns), _LOWEST, np.int32)
        np.maximum.at(highest, columns.task_of[wanted], self._priorities[wanted])
        return highest

    # --- asking --------------------------------------------------------------------------------

    @property
    def left(self) -> int:
        """How many members are neither done nor set aside nor dropped."""
        return int(np.isin(self._state, (_WAITING, _OPEN)).sum())

    @property
    def is_done(self) -> bool:
        """Whether every task has ended or was dropped."""
        return self._schedule.is_done

    def tries(self, task: Task) -> int:
        """How often a task was tried again."""
        return self._schedule.tries(task.number)

    # --- tasks begin and end -------------------------------------------------------------------

    def next(self, may: May) -> Task | None:
        """The task to begin now, with the members that wait; None when there is none, or none that may
        begin yet.

        Parameters
        ----------
        may : whether a task of a pool may begin now.
        """
        number = self._schedule.next(may)
        if number is None:
            return None
        task = self._todo.task(number)
        if len(task.members) > 1:
            part = self._todo.columns.members_of(number)
            resting = part.start + np.flatnonzero(self._state[part] != _WAITING)
            left = task.without(resting.tolist()) if len(resting) else task
            assert left is not None  # a task that waits has a member that does
            task = left
        self._put(task, _OPEN)
        return task

    @property
    def first_pool(self) -> str:
        """The pool of the first task that waits; empty where it is for any worker, or none waits."""
        number = self._schedule.first
        return "" if number is None else self._todo.task(number).pool

    def _put(self, task: Task, state: int) -> None:
        for member in task.members:
            self._state[member.number] = state

    def done(self, task: Task) -> None:
        """A task is done."""
        self._end(task, _DONE)

    def failed(self, task: Task) -> None:
        """A task is set aside."""
        self._end(task, _FAILED)

    def _end(self, task: Task, state: int) -> None:
        self._put(task, state)
        if self._waits(task.number):  # members that were revived meanwhile
            self._schedule.put_back(task.number)
        else:
            self._schedule.ended(task.number)

    def again(self, task: Task) -> float | None:
        """Have a task tried again; seconds until then, None when it was tried too often."""
        delay = self._schedule.again(task.number)
        if delay is not None:
            self._put(task, _WAITING)
        return delay

    def put_back(self, task: Task) -> None:
        """A task that could not be done for no fault of its own waits where it was."""
        self._put(task, _WAITING)
        self._schedule.put_back(task.number)

    def leave_out(self, task: Task, numbers: Iterable[int]) -> Task | None:
        """Some members of a task that has begun are not done after all, nor wait any more; what is left
        of the task."""
        gone = np.fromiter(numbers, np.int64)
        self._state[gone] = _AWAY
        left = task.without(gone.tolist())
        if left is None:
            self._schedule.leave_out(task.number)
        return left

    def _waits(self, number: int) -> bool:
        part = self._todo.columns.members_of(number)
        if part.stop - part.start == 1:
            return bool(self._state[part.start] == _WAITING)
        return bool((self._state[part] == _WAITING).any())

    # --- being steered -------------------------------------------------------------------------

    def drop(self, members: Numbers) -> Numbers:
        """Leave out those of these members that are not under way; returns them."""
        dropped = members[self._state[members] == _WAITING]
        self._state[dropped] = _AWAY
        task_of = self._todo.columns.task_of
        tasks = np.unique(task_of[dropped]).astype(np.int64)
        waiting = np.bincount(task_of[self._state == _WAITING], minlength=len(self._todo.columns))
        self._schedule.drop(tasks[waiting[tasks] == 0])
        return dropped

    def revive(self, members: Numbers) -> Numbers:
        """Have those of these members done now that failed or were dropped, or whose task waits for another
        try; returns them."""
        task_of = self._todo.columns.task_of
        ended = members[np.isin(self._state[members], (_AWAY, _FAILED))]
        trying = members[self._state[members] == _WAITING]
        trying = trying[self._schedule.is_trying(task_of[trying])]
        self._state[ended] = _WAITING
        revived = np.union1d(ended, trying)
        self._schedule.revive(np.unique(task_of[revived]).astype(np.int64), self._by_task())
        return revived

    def prioritise(self, members: Numbers, priority: int) -> Numbers:
        """Change the priority of those of these members that are not under way; returns them."""
        changed = members[self._state[members] == _WAITING]
        self._priorities[changed] = priority
        self._schedule.prioritise(self._by_task())
        return changed
