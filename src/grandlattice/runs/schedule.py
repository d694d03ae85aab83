"""Which task begins next.  No clocks of its own, no processes, no files: the same decisions serve a
run on this machine and a simulation of a thousand workers.

Tasks begin in the order of their step, then their priority, then their number.  None begins
before all of an earlier step have ended.  One that could not be done for a reason that may pass is
tried again, after a wait that grows, before any other; its step lasts until then.
"""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Numbers = NDArray[np.int64]

_AWAY, _WAITING, _OPEN, _ENDED = 0, 1, 2, 3


@dataclass(frozen=True)
class Patience:
    """What a run bears before it sets a task aside.

    Attributes
    ----------
    retries : how often a task is tried again, each time after a longer wait, when what went wrong
        may go right next time (a crash, a hang, no memory).
    delay : seconds before the first of them; four times as long before each next.
    stalled : seconds without progress after which a worker is given up.
    limit : seconds a task may take; None for any.
    memory : bytes a worker may hold; None for any.
    room : seconds a full disk is waited for.
    """

    retries: int = 2
    delay: float = 2.0
    stalled: float = 600.0
    limit: float | None = None
    memory: int | None = None
    room: float = 43200.0


class Schedule:
    """The order in which tasks begin.

    Parameters
    ----------
    numbers : of the tasks to do, (N,) int64.
    steps, priorities : of every task of the plan, by number.
    patience : how often a task is tried.
    clock : seconds that only grow.
    """

    def __init__(
        self, numbers: Numbers, steps: NDArray[np.int32], priorities: NDArray[np.int32],
        patience: Patience, clock: Callable[[], float],
    ) -> None:  # fmt: skip
        self._steps, self._priorities = steps, priorities.copy()
        self._patience, self._clock = patience, clock
        self._state = np.zeros(len(steps), np.uint8)
        self._state[numbers] = _WAITING
        self._later: list[tuple[float, int]] = []
        self._tries: Counter[int] = Counter()
        self._open: Counter[int] = Counter()  # tasks of each step that have begun and not ended
        self._sort()

    def _sort(self) -> None:
        numbers = np.flatnonzero(self._state == _WAITING)
        order = np.lexsort((numbers, -self._priorities[numbers], self._steps[numbers]))
        self._queue, self._next = numbers[order], 0

    # --- asking --------------------------------------------------------------------------------

    @property
    def unfinished(self) -> int:
        """How many have neither ended nor been dropped."""
        return int(np.isin(self._state, (_WAITING, _OPEN)).sum())

    @property
    def is_done(self) -> bool:
        """Whether every task has ended or was dropped."""
        return not self._open and self._first() is None

    def next(self) -> int | None:
        """The task to begin now; None when there is none, or none that may begin yet."""
        if self._later and self._later[0][0] <= self._clock():
            return heapq.heappop(self._later)[1]
        number = self._first()
        if number is None or any(step < self._steps[number] for step in self._open):
            return None
        self._next += 1
        self._state[number] = _OPEN
        self._open[int(self._steps[number])] += 1
        return number

    def _first(self) -> int | None:
        while self._next < len(self._queue):
            number = int(self._queue[self._next])
            if self._state[number] == _WAITING:
                return number
            self._next += 1
        return None

    def tries(self, number: int) -> int:
        """How often a task was tried again."""
        return self._tries[number]

    # --- being told ----------------------------------------------------------------------------

    def ended(self, number: int) -> None:
        """A task is done, or set aside."""
        self._state[number] = _ENDED
        self._close(number)

    def again(self, number: int) -> float | None:
        """Have a task tried again; seconds until then, None when it was tried too often."""
        tries = self._tries[number]
        if tries >= self._patience.retries:
            return None
        self._tries[number] += 1
        delay = self._patience.delay * 4.0**tries
        heapq.heappush(self._later, (self._clock() + delay, number))
        return delay

    def put_back(self, number: int) -> None:
        """A task that could not be done for no fault of its own waits where it was."""
        self._state[number] = _WAITING
        self._close(number)
        self._sort()

    def _close(self, number: int) -> None:
        step = int(self._steps[number])
        self._open[step] -= 1
        if not self._open[step]:
            del self._open[step]

    # --- being steered -------------------------------------------------------------------------

    def drop(self, numbers: Numbers) -> Numbers:
        """Leave out those of these tasks that have not begun; returns them."""
        dropped = numbers[self._state[numbers] == _WAITING]
        self._state[dropped] = _AWAY
        return dropped

    def revive(self, numbers: Numbers) -> Numbers:
        """Have those of these tasks that have ended, or were dropped, done again; returns them."""
        revived = numbers[np.isin(self._state[numbers], (_AWAY, _ENDED))]
        self._state[revived] = _WAITING
        for number in revived.tolist():
            del self._tries[number]
        self._sort()
        return revived

    def prioritise(self, numbers: Numbers, priority: int) -> Numbers:
        """Change the priority of those of these tasks that have not begun; returns them."""
        changed = numbers[self._state[numbers] == _WAITING]
        self._priorities[changed] = priority
        self._sort()
        return changed
