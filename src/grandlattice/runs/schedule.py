"""Which task begins next.  No clocks of its own, no processes, no files: the same decisions serve a
run on this machine and a simulation of a thousand workers.

Tasks begin in the order of their step, then their priority, then their number.  None begins
before all of an earlier step have ended.  One that could not be done for a reason that may pass is
tried again, after a wait that grows, before any other; its step lasts until then.  Where tasks are for
certain workers, each pool keeps this order, and none waits for a pool that has no free worker.
"""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Numbers = NDArray[np.int64]

_AWAY, _WAITING, _OPEN, _ENDED, _AGAIN = 0, 1, 2, 3, 4
"""States: not meant or dropped, waiting, begun, ended, waiting to be tried again."""


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


Pools = NDArray[np.int64]
May = Callable[[int], bool]
"""Whether a task of a pool, see `tasks.pool_key`, may begin now."""
Key = tuple[int, int, int]


@dataclass
class _Line:
    """Tasks of one pool that wait: `queue` from `at` on, and those put back since it was sorted."""

    queue: Numbers
    at: int = 0
    returned: list[Key] = field(default_factory=list)


def _any(pool: int) -> bool:
    return True


class Schedule:
    """The order in which tasks begin.

    Parameters
    ----------
    numbers : of the tasks to do, (N,) int64.
    steps, priorities : of every task of the plan, by number.
    patience : how often a task is tried.
    clock : seconds that only grow.
    pools : of every task of the plan, see `tasks.pool_key`; all of one by default.
    """

    def __init__(
        self, numbers: Numbers, steps: NDArray[np.int32], priorities: NDArray[np.int32],
        patience: Patience, clock: Callable[[], float], pools: Pools | None = None,
    ) -> None:  # fmt: skip
        self._pools = np.zeros(len(steps), np.int64) if pools is None else pools
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
        queue = numbers[order]
        pools = self._pools[queue]
        self._lines = {int(pool): _Line(queue[pools == pool]) for pool in np.unique(pools)}

    # --- asking --------------------------------------------------------------------------------

    @property
    def unfinished(self) -> int:
        """How many have neither ended nor been dropped."""
        return int(np.isin(self._state, (_WAITING, _OPEN, _AGAIN)).sum())

    @property
    def is_done(self) -> bool:
        """Whether every task has ended or was dropped."""
        return not self._open and not self._firsts()

    def next(self, may: May = _any) -> int | None:
        """The task to begin now; None when there is none, or none that may begin yet."""
        number = self._due(may)
        if number is not None:
            self._state[number] = _OPEN
            return number
        firsts = self._firsts()
        if not firsts or any(step < firsts[0][0] for step in self._open):
            return None
        for key in firsts:
            number, pool = key[2], int(self._pools[key[2]])
            if key[0] == firsts[0][0] and may(pool):
                line = self._lines[pool]
                if line.returned and line.returned[0] == key:
                    heapq.heappop(line.returned)
                else:
                    line.at += 1
                self._state[number] = _OPEN
                self._open[key[0]] += 1
                return number
        return None

    def _due(self, may: May) -> int | None:
        """A task whose wait for another try is over; those of an earlier step, which may have been revived
        meanwhile, come first."""
        found, shut = None, list[tuple[float, int]]()
        if not self._later or self._later[0][0] > self._clock():
            return None
        earliest = min([*self._open, *(key[0] for key in self._firsts()[:1])], default=0)
        while found is None and self._later and self._later[0][0] <= self._clock():
            entry = heapq.heappop(self._later)
            if self._state[entry[1]] == _AGAIN:
                if self._steps[entry[1]] <= earliest and may(int(self._pools[entry[1]])):
                    found = entry[1]
                else:
                    shut.append(entry)
        for entry in shut:
            heapq.heappush(self._later, entry)
        return found

    @property
    def first(self) -> int | None:
        """The first task that waits, whether it may begin or not; those to be tried again come before."""
        again = [number for _, number in sorted(self._later) if self._state[number] == _AGAIN]
        firsts = self._firsts()
        return again[0] if again else firsts[0][2] if firsts else None

    def _firsts(self) -> list[Key]:
        """The first of each pool that waits, in order."""
        return sorted(key for line in self._lines.values() if (key := self._first_of(line)) is not None)

    def _first_of(self, line: _Line) -> Key | None:
        """The first that waits, of those in the queue and those put back."""
        while line.at < len(line.queue) and self._state[line.queue[line.at]] != _WAITING:
            line.at += 1
        while line.returned and self._state[line.returned[0][2]] != _WAITING:
            heapq.heappop(line.returned)
        queued = self._key(int(line.queue[line.at])) if line.at < len(line.queue) else None
        if queued is None or not line.returned:
            return line.returned[0] if line.returned else queued
        return min(queued, line.returned[0])

    def _key(self, number: int) -> Key:
        return int(self._steps[number]), -int(self._priorities[number]), number

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
        self._state[number] = _AGAIN
        heapq.heappush(self._later, (self._clock() + delay, number))
        return delay

    def put_back(self, number: int) -> None:
        """A task that could not be done for no fault of its own waits where it was."""
        self._state[number] = _WAITING
        self._close(number)
        line = self._lines.setdefault(int(self._pools[number]), _Line(np.zeros(0, np.int64)))
        heapq.heappush(line.returned, self._key(number))

    def leave_out(self, number: int) -> None:
        """A task that has begun is not done after all, nor waits any more."""
        self._state[number] = _AWAY
        self._close(number)

    def _close(self, number: int) -> None:
        step = int(self._steps[number])
        self._open[step] -= 1
        if not self._open[step]:
            del self._open[step]

    # --- being steered -------------------------------------------------------------------------

    def drop(self, numbers: Numbers) -> Numbers:
        """Leave out those of these tasks that are not under way; returns them."""
        dropped = numbers[np.isin(self._state[numbers], (_WAITING, _AGAIN))]
        for number in dropped[self._state[dropped] == _AGAIN].tolist():
            self._close(number)
        self._state[dropped] = _AWAY
        return dropped

    def is_trying(self, numbers: Numbers) -> NDArray[np.bool_]:
        """Which of these tasks wait to be tried again."""
        return np.asarray(self._state[numbers] == _AGAIN)

    def revive(self, numbers: Numbers, priorities: NDArray[np.int32] | None = None) -> Numbers:
        """Have those of these tasks done now that have ended, were dropped, or wait for another try;
        returns them.

        Parameters
        ----------
        priorities : (N,) of all tasks, where they changed.
        """
        self._priorities = self._priorities if priorities is None else priorities
        revived = numbers[np.isin(self._state[numbers], (_AWAY, _ENDED, _AGAIN))]
        for number in revived[self._state[revived] == _AGAIN].tolist():
            self._close(number)
        self._state[revived] = _WAITING
        for number in revived.tolist():
            del self._tries[number]
        self._sort()
        return revived

    def prioritise(self, priorities: NDArray[np.int32]) -> None:
        """Change the priorities of all tasks, (N,)."""
        self._priorities = priorities
        self._sort()
