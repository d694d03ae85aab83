"""What a run may spend: time, a time of day, core-hours, money; and seconds for each cell."""

from __future__ import annotations

import datetime
import time
from collections import defaultdict
from collections.abc import Callable

from grandlattice._support.readable import price
from grandlattice.plan import Cell
from grandlattice.plan.run_block import Budget
from grandlattice.plan.spelled_values import time_of
from grandlattice.runs.tasks import Task


class Spending:
    """Adds up what a run costs and says when its budget ends.

    Parameters
    ----------
    budget : what it may cost.
    clock : seconds that only grow.
    now : the time of day.
    """

    def __init__(
        self, budget: Budget, clock: Callable[[], float] = time.monotonic,
        now: Callable[[], datetime.datetime] = datetime.datetime.now,
    ) -> None:  # fmt: skip
        self._budget, self._clock = budget, clock
        self._began = clock()
        self._until = None if budget.until is None else seconds_until(budget.until, now())
        self._cells: defaultdict[str, float] = defaultdict(float)
        self.core_seconds = 0.0

    def add(self, task: Task, seconds: float, cores: float) -> None:
        """A task took so many seconds of so many processors."""
        self.core_seconds += seconds * cores
        for member in task.members:  # what they share costs each its part
            self._cells[member.cell.address] += seconds / len(task.members)

    @property
    def money(self) -> float | None:
        """What the run has cost so far, where a rate is known."""
        rate = self._budget.rate
        return None if rate is None else self.core_seconds / 3600.0 * rate

    def is_spent(self, cell: Cell) -> bool:
        """Whether a cell has used up its time."""
        most = self._budget.cell
        return most is not None and self._cells[cell.address] >= most

    def ended(self) -> str:
        """Why no more tasks should begin; empty while they may."""
        budget, passed = self._budget, self._clock() - self._began
        if budget.time is not None and passed >= budget.time:
            return "the time of the run's budget is over"
        if self._until is not None and passed >= self._until:
            return f"it is {budget.until}"
        if budget.core_hours is not None and self.core_seconds >= budget.core_hours * 3600.0:
            return f"{budget.core_hours:g} core-hours are spent"
        money = self.money
        if budget.money is not None and money is not None and money >= budget.money:
            return f"the budget of {price(budget.money, budget.currency)} is spent"
        return ""


def seconds_until(clock: str, now: datetime.datetime) -> float:
    """Seconds from `now` to the next time a clock shows this time.

    They are counted once: a clock that is set back meanwhile neither ends nor prolongs the run.
    """
    wanted = datetime.datetime.combine(now.date(), time_of(clock))
    if wanted <= now:
        wanted += datetime.timedelta(days=1)
    return (wanted - now).total_seconds()
