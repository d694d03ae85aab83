"""Who carries tasks out.  A backend takes tasks in order and tells what happens as events.

`Processes` is the usual one: worker processes of this machine, each with a scene of its own.
`InPlace` does the same in the calling process, for notebooks and debuggers.  Both hand tasks out
strictly in the planned order and lose none: a task ends as `Finished` or `Failed`, or is
returned to nobody because the run was stopped.
"""

from __future__ import annotations

import heapq
import multiprocessing
import signal
import threading
import time
import traceback
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from typing import Any, Protocol

from grandlattice.errors import LatticeError, OutputError
from grandlattice.runs.tasks import Task
from grandlattice.runs.work import TaskResult, WorkOrder, Workshop
from grandlattice.spawning import without_main_script
from grandlattice.tracer import Stopped

_REPORT_EVERY = 0.15  # seconds between two reports of progress
_STARTING = 60.0  # seconds a new worker may take to load its libraries before it counts as stalled


@dataclass(frozen=True)
class Started:
    """A worker took a task."""

    task: Task
    worker: int


@dataclass(frozen=True)
class Progress:
    """A task is under way; `share` is 0..1."""

    task: Task
    worker: int
    share: float


@dataclass(frozen=True)
class Finished:
    """A task is done and its files have their names."""

    task: Task
    worker: int
    result: TaskResult


@dataclass(frozen=True)
class Failed:
    """A task could not be done.  `details` is for those who ask for a traceback."""

    task: Task
    worker: int
    problem: LatticeError
    details: str = ""


@dataclass(frozen=True)
class Retried:
    """A task could not be done this time; it is tried again in `delay` seconds."""

    task: Task
    worker: int
    problem: LatticeError
    delay: float


Event = Started | Progress | Finished | Failed | Retried


@dataclass(frozen=True)
class Patience:
    """What a run bears before it sets a task aside.

    Attributes
    ----------
    retries : how often a task is tried again, each time after a longer wait, when what went wrong
        may go right next time (a crash, a hang, no memory, no room).
    delay : seconds before the first of them; four times as long before each next.
    stalled : seconds without progress after which a worker is given up.
    limit : seconds a task may take; None for any.
    """

    retries: int = 2
    delay: float = 2.0
    stalled: float = 600.0
    limit: float | None = None


class Backend(Protocol):
    """Takes tasks in order, reports events.

    An implementation starts tasks in the order given, none before all of an earlier step have
    ended, yields `Started` before anything else of a task and exactly one of `Finished` and
    `Failed` after it, and ends when all tasks have ended or, after `finish_soon` or `stop_now`,
    those under way have.
    """

    def carry_out(self, tasks: Sequence[Task]) -> Iterator[Event]: ...

    def finish_soon(self) -> None:
        """Start no more tasks; finish those under way."""
        ...

    def stop_now(self) -> None:
        """Give up the tasks under way; nothing is left of them."""
        ...


class InPlace:
    """Carries tasks out in this process, one after the other."""

    def __init__(self, order: WorkOrder) -> None:
        self._order = order
        self._no_more = False
        self._stop = threading.Event()

    def carry_out(self, tasks: Sequence[Task]) -> Iterator[Event]:
        workshop = Workshop(self._order)
        for task in tasks:
            if self._no_more:
                return
            yield Started(task, 0)
            try:
                yield Finished(task, 0, workshop.perform(task, None, self._stop))
            except Stopped:
                return
            except Exception as problem:
                yield Failed(task, 0, *explained(problem))

    def finish_soon(self) -> None:
        self._no_more = True

    def stop_now(self) -> None:
        self._no_more = True
        self._stop.set()


class Processes:
    """Worker processes of this machine.

    Parameters
    ----------
    order : what the tasks have in common.
    workers : how many processes, at least 1.
    patience : with workers that crash or hang.
    """

    def __init__(self, order: WorkOrder, workers: int, patience: Patience | None = None) -> None:
        self._order, self._patience = order, patience or Patience()
        self._count = max(1, workers)
        self._context = multiprocessing.get_context("spawn")
        self._stop = self._context.Event()
        self._no_more = False

    def finish_soon(self) -> None:
        self._no_more = True

    def stop_now(self) -> None:
        self._no_more = True
        self._stop.set()

    def carry_out(self, tasks: Sequence[Task]) -> Iterator[Event]:
        waiting = _Waiting(tasks, self._patience)
        workers = {k: self._start(k) for k in range(min(self._count, len(tasks)))}
        busy: dict[int, _Busy] = {}
        try:
            while True:
                for number in [k for k in workers if k not in busy]:
                    task = None if self._no_more else waiting.next(b.task for b in busy.values())
                    if task is not None:
                        if not workers[number].process.is_alive():
                            workers[number] = self._start(number)
                        yield self._hand_out(workers[number], task, busy)
                if not busy and (self._no_more or not waiting):
                    return
                ready = wait([workers[k].pipe for k in busy], timeout=0.25)
                if not busy:
                    time.sleep(0.1)  # all that is left waits for its time
                for number in list(busy):
                    if workers[number].pipe in ready:
                        event = self._receive(workers[number], busy)
                    else:
                        event = self._give_up(workers[number], busy)
                    if event is not None:
                        yield waiting.again(event) if isinstance(event, Failed) else event
        finally:
            self._end(workers)

    def _give_up(self, worker: _Worker, busy: dict[int, _Busy]) -> Event | None:
        """End a worker that hangs or takes too long; None while there is no reason to."""
        doing, now = busy[worker.number], time.monotonic()
        limit, stalled = self._patience.limit, self._patience.stalled
        if limit is not None and now - doing.since > limit:
            what = f"took more than its limit of {limit:.0f} s"
        elif now - doing.heard > stalled:
            what = f"made no progress for {stalled:.0f} s"
        else:
            return None
        worker.process.kill()
        worker.process.join(5.0)
        del busy[worker.number]
        task = doing.task
        problem = LatticeError(
            f"{task.first.address}, frame {task.frame}, {what} and was given up.",
            cure="raise limit or stalled under run: in the plan, or look at what the frame renders",
        )
        return Failed(task, worker.number, problem)

    def _start(self, number: int) -> _Worker:
        here, there = self._context.Pipe()
        process = self._context.Process(
            target=_work, args=(self._order, there, self._stop), daemon=True, name=f"worker-{number}"
        )
        with without_main_script():
            process.start()
        there.close()
        return _Worker(number, process, here)

    def _hand_out(self, worker: _Worker, task: Task, busy: dict[int, _Busy]) -> Event:
        try:
            worker.pipe.send(task)
        except OSError:
            pass  # it died before it could take the task; `_receive` finds that out
        now = time.monotonic()
        busy[worker.number] = _Busy(task, now, now if worker.spoken else now + _STARTING)
        return Started(task, worker.number)

    def _receive(self, worker: _Worker, busy: dict[int, _Busy]) -> Event | None:
        task = busy[worker.number].task
        try:
            message = worker.pipe.recv()
        except (EOFError, OSError):
            worker.process.join(5.0)
            del busy[worker.number]
            return Failed(task, worker.number, _died(task, worker.process.exitcode))
        worker.spoken = True
        if isinstance(message, float):
            busy[worker.number].heard = time.monotonic()
            return Progress(task, worker.number, message)
        del busy[worker.number]
        if isinstance(message, TaskResult):
            return Finished(task, worker.number, message)
        if message is None:
            return None  # it was told to stop
        return Failed(task, worker.number, *message)

    def _end(self, workers: dict[int, _Worker]) -> None:
        for worker in workers.values():
            try:
                worker.pipe.send(None)
            except OSError:
                pass
        deadline = time.monotonic() + 3.0
        for worker in workers.values():
            worker.process.join(max(0.1, deadline - time.monotonic()))
            if worker.process.is_alive():
                worker.process.terminate()
                worker.process.join(2.0)
            worker.pipe.close()


class _Waiting:
    """Tasks that have not begun, in order, and those that are tried again when their time comes."""

    def __init__(self, tasks: Sequence[Task], patience: Patience) -> None:
        self._tasks = deque(tasks)
        self._later: list[tuple[float, int, Task]] = []
        self._tries: dict[int, int] = {}
        self._patience = patience

    def __bool__(self) -> bool:
        return bool(self._tasks or self._later)

    def next(self, busy: Iterable[Task]) -> Task | None:
        """The task to begin now, if there is one: all of an earlier step have ended before it."""
        unfinished = [*(task.step for task in busy), *(task.step for _, _, task in self._later)]
        if self._later and self._later[0][0] <= time.monotonic():
            return heapq.heappop(self._later)[2]
        if self._tasks and all(step >= self._tasks[0].step for step in unfinished):
            return self._tasks.popleft()
        return None

    def again(self, failed: Failed) -> Event:
        """Put a task that failed back, if that may help and it was not tried too often."""
        tries = self._tries.get(failed.task.number, 0)
        # What is wrong with the scene or the plan is as wrong the next time.
        if type(failed.problem) not in (LatticeError, OutputError) or tries >= self._patience.retries:
            return failed
        self._tries[failed.task.number] = tries + 1
        delay = self._patience.delay * 4.0**tries
        heapq.heappush(self._later, (time.monotonic() + delay, failed.task.number, failed.task))
        return Retried(failed.task, failed.worker, failed.problem, delay)


@dataclass
class _Busy:
    """What a worker does, since when, and when it was last heard of; seconds of a steady clock."""

    task: Task
    since: float
    heard: float


@dataclass
class _Worker:
    number: int
    process: Any
    pipe: Connection
    spoken: bool = False


def _died(task: Task, code: int | None) -> LatticeError:
    how = f"signal {-code}" if code is not None and code < 0 else f"code {code}"
    return LatticeError(
        f"The worker that rendered {task.first.address}, frame {task.frame}, ended without a word ({how}).",
        cure="give the same glat run again; if it happens again the frame may need more memory",
    )


def explained(problem: Exception) -> tuple[LatticeError, str]:
    """Any exception as one an artist can read, with its traceback apart."""
    details = "".join(traceback.format_exception(problem))
    if isinstance(problem, LatticeError):
        return problem, details
    if isinstance(problem, MemoryError):
        return LatticeError("There was not enough memory.", cure="use fewer workers"), details
    what = f"Something we did not foresee went wrong: {type(problem).__name__}: {problem}"
    return LatticeError(what, cure="run again with --debug to see where"), details


def _work(order: WorkOrder, pipe: Connection, stop: Any) -> None:
    """The life of a worker: take tasks from the pipe until None comes or the pipe closes."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the coordinator decides what Ctrl-C means
    workshop: Workshop | None = None
    last_report = 0.0

    def report(share: float) -> None:
        nonlocal last_report
        now = time.monotonic()
        if now - last_report >= _REPORT_EVERY:
            last_report = now
            pipe.send(share)

    while True:
        try:
            task = pipe.recv()
        except (EOFError, OSError):
            return
        if task is None:
            return
        try:
            if workshop is None:
                workshop = Workshop(order)
            pipe.send(workshop.perform(task, report, stop))
        except Stopped:
            pipe.send(None)
        except (EOFError, BrokenPipeError):
            return
        except Exception as problem:
            error, details = explained(problem)
            pipe.send((error, details))
