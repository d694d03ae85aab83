"""Who carries tasks out.  A backend takes tasks in order and tells what happens as events.

`Processes` is the usual one: worker processes of this machine, each with a scene of its own.
`InPlace` does the same in the calling process, for notebooks and debuggers.  Both hand tasks out
strictly in the planned order and lose none: a task ends as `Finished` or `Failed`, or is
returned to nobody because the run was stopped.
"""

from __future__ import annotations

import multiprocessing
import signal
import threading
import time
import traceback
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from typing import Any, Protocol

from grandlattice.errors import LatticeError
from grandlattice.runs.tasks import Task
from grandlattice.runs.work import TaskResult, WorkOrder, Workshop
from grandlattice.spawning import without_main_script
from grandlattice.tracer import Stopped

_REPORT_EVERY = 0.15  # seconds between two reports of progress


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


Event = Started | Progress | Finished | Failed


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
    """

    def __init__(self, order: WorkOrder, workers: int) -> None:
        self._order = order
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
        waiting = list(reversed(tasks))
        workers = {k: self._start(k) for k in range(min(self._count, len(tasks)))}
        busy: dict[int, Task] = {}
        try:
            while True:
                for number in [k for k in workers if k not in busy]:
                    if waiting and not self._no_more and _may_begin(waiting[-1], busy.values()):
                        if not workers[number].process.is_alive():
                            workers[number] = self._start(number)
                        yield self._hand_out(workers[number], waiting.pop(), busy)
                if not busy:
                    return
                ready = wait([workers[k].pipe for k in busy], timeout=0.25)
                for number in [k for k in busy if workers[k].pipe in ready]:
                    event = self._receive(workers[number], busy)
                    if event is not None:
                        yield event
        finally:
            self._end(workers)

    def _start(self, number: int) -> _Worker:
        here, there = self._context.Pipe()
        process = self._context.Process(
            target=_work, args=(self._order, there, self._stop), daemon=True, name=f"worker-{number}"
        )
        with without_main_script():
            process.start()
        there.close()
        return _Worker(number, process, here)

    def _hand_out(self, worker: _Worker, task: Task, busy: dict[int, Task]) -> Event:
        try:
            worker.pipe.send(task)
        except OSError:
            pass  # it died before it could take the task; `_receive` finds that out
        busy[worker.number] = task
        return Started(task, worker.number)

    def _receive(self, worker: _Worker, busy: dict[int, Task]) -> Event | None:
        task = busy[worker.number]
        try:
            message = worker.pipe.recv()
        except (EOFError, OSError):
            worker.process.join(5.0)
            del busy[worker.number]
            return Failed(task, worker.number, _died(task, worker.process.exitcode))
        if isinstance(message, float):
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


def _may_begin(task: Task, busy: Iterable[Task]) -> bool:
    """Whether every task of an earlier step has ended."""
    return all(other.step >= task.step for other in busy)


@dataclass
class _Worker:
    number: int
    process: Any
    pipe: Connection


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
