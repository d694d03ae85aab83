"""How long a run still takes, from what its tasks have taken so far."""

from __future__ import annotations

from collections.abc import Sequence

from grandlattice.runs.backends import Event, Failed, Finished, Progress, Started
from grandlattice.runs.tasks import Task


class Pace:
    """Follows events and says what is left.

    Parameters
    ----------
    tasks : all that are to be done.
    workers : how many work at once.
    """

    def __init__(self, tasks: Sequence[Task], workers: int) -> None:
        self._left = {task.number: task.work for task in tasks}
        self._total = sum(self._left.values()) or 1
        self._workers = max(1, workers)
        self._worked = 0.0
        self._seconds = 0.0
        self._under_way: dict[int, float] = {}

    def follow(self, event: Event) -> None:
        """Take note of an event."""
        number = event.task.number
        if isinstance(event, Started):
            self._under_way[number] = 0.0
        elif isinstance(event, Progress):
            self._under_way[number] = event.share
        elif isinstance(event, Finished | Failed):
            self._under_way.pop(number, None)
            work = self._left.pop(number, 0)
            if isinstance(event, Finished):
                self._worked += work
                self._seconds += event.result.seconds

    @property
    def share(self) -> float:
        """How much of the work is done, 0..1, unfinished tasks by their progress."""
        left = sum(w * (1.0 - self._under_way.get(n, 0.0)) for n, w in self._left.items())
        return 1.0 - left / self._total

    def seconds_left(self, *, task: Task | None = None) -> float | None:
        """Seconds until the run, or one task, is done; None before anything was measured."""
        if not self._worked:
            return None
        rate = self._seconds / self._worked
        if task is not None:
            return rate * task.work * (1.0 - self._under_way.get(task.number, 0.0))
        return rate * (1.0 - self.share) * self._total / min(self._workers, len(self._left) or 1)
