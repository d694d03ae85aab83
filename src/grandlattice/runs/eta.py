"""How long a run still takes, from what its tasks have taken so far."""

from __future__ import annotations

from grandlattice.runs.events import Event, Failed, Finished, Held, Progress, Retried, Returned, Started
from grandlattice.runs.tasks import Task, TaskList


class Pace:
    """Follows events and says what is left.

    Parameters
    ----------
    tasks : all that are to be done.
    workers : how many work at once.
    """

    def __init__(self, tasks: TaskList, workers: int) -> None:
        self._left = tasks.work
        self._count = len(tasks)
        self._total = self._left or 1.0
        self._workers = max(1, workers)
        self._worked = 0.0
        self._seconds = 0.0
        self._under_way: dict[int, tuple[float, float]] = {}

    def follow(self, event: Event) -> None:
        """Take note of an event."""
        if isinstance(event, Held):
            return
        number, work = event.task.number, float(event.task.work)
        if isinstance(event, Started):
            self._under_way[number] = work, 0.0
        elif isinstance(event, Progress):
            self._under_way[number] = work, event.share
        elif isinstance(event, Retried | Returned):
            self._under_way.pop(number, None)
        elif isinstance(event, Finished | Failed):
            self._under_way.pop(number, None)
            self._left -= work
            self._count -= 1
            if isinstance(event, Finished):
                self._worked += work
                self._seconds += event.result.seconds

    @property
    def share(self) -> float:
        """How much of the work is done, 0..1, unfinished tasks by their progress."""
        begun = sum(work * share for work, share in self._under_way.values())
        return min(1.0, 1.0 - (self._left - begun) / self._total)

    def seconds_left(self, *, task: Task | None = None) -> float | None:
        """Seconds until the run, or one task, is done; None before anything was measured."""
        if not self._worked:
            return None
        rate = self._seconds / self._worked
        if task is not None:
            return rate * task.work * (1.0 - self._under_way.get(task.number, (0.0, 0.0))[1])
        return rate * (1.0 - self.share) * self._total / min(self._workers, max(self._count, 1))
