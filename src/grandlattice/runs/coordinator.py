"""Carrying a run out: the schedule says what begins, the backend does it, the ledger learns of it.

The coordinator alone writes the ledger, and writes it after a file has its name.  It looks around
a few times a second: for orders from elsewhere, for workers that hang or take too much, for the
budget, for room on the disk.  Everything that happens is told as events.
"""

from __future__ import annotations

import os
import platform
import signal
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from grandlattice.errors import DiskFull, LatticeError, OutputError, WorkerError
from grandlattice.readable import duration, size
from grandlattice.runs.backends import Backend
from grandlattice.runs.budgets import Spending
from grandlattice.runs.events import (
    Event,
    Failed,
    Finished,
    Held,
    Progress,
    Retried,
    Returned,
    Started,
    UnderWay,
)
from grandlattice.runs.ledger import DONE, FAILED, RUNNING, WAITING, FileRecord, Ledger
from grandlattice.runs.run import Run
from grandlattice.runs.schedule import Patience, Schedule
from grandlattice.runs.steering import obey
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Task

_LOOK_EVERY = 0.25  # seconds between two looks around
_WRITE_EVERY = 0.2  # seconds that news for the ledger is gathered
_HEARTBEAT = 2.0  # seconds between two signs of life in the ledger
_TRY_ANYWAY = 60.0  # seconds after which a full disk is tried though it does not look emptier
_ROOM = 4_000_000  # bytes that must have come free before a full disk is tried again


@dataclass
class News:
    """What the ledger has still to learn; kept until it could be written."""

    ledger: Ledger
    tasks: dict[int, dict[str, Any]] = field(default_factory=dict)
    files: list[FileRecord] = field(default_factory=list)
    logs: list[tuple[str, str]] = field(default_factory=list)
    failures: list[tuple] = field(default_factory=list)
    _written: float = 0.0

    def of(self, task: Task, **values: Any) -> None:
        self.tasks.setdefault(task.number, {}).update(values)

    def write(self, *, now: bool = False) -> None:
        """Write what there is, if it is time.

        Raises
        ------
        DiskFull
            When there is no room; the news is kept.
        """
        if not (self.tasks or self.files or self.logs or self.failures):
            return
        if now or time.monotonic() - self._written >= _WRITE_EVERY:
            self.ledger.write(list(self.tasks.items()), self.files, self.logs, self.failures)
            self.tasks, self.files, self.logs, self.failures = {}, [], [], []
            self._written = time.monotonic()


class Coordinator:
    """Carries out one run.

    Parameters
    ----------
    run : what it sets out to do; it is told what became of it.
    backend : who does it.
    patience : with tasks that fail.
    spending : what the run may spend.
    on_event : told every event, after the ledger knows of it or is about to.
    """

    def __init__(
        self, run: Run, backend: Backend, patience: Patience, spending: Spending,
        on_event: Callable[[Event], None] | None = None,
    ) -> None:  # fmt: skip
        self.run, self.backend, self.spending = run, backend, spending
        columns = run.tasks.columns
        self.schedule = Schedule(
            run.outlook.todo.numbers, columns.steps, columns.priorities, patience, time.monotonic
        )
        self.paused = False
        self._patience = patience
        self._news = News(run.ledger)
        self._tell = on_event or (lambda event: None)
        self._store = FolderStore(run.output)
        self._ending = False
        self._full: _Full | None = None
        self._full_since: float | None = None
        self._held = ""
        self._unaffordable = 0
        self._looked = self._beat = self._worked = self._worked_seconds = 0.0

    # --- what others may ask for ---------------------------------------------------------------

    def finish_soon(self, why: str) -> None:
        """Begin no more tasks; those under way are finished."""
        self._ending = True
        self.run.ended_by = self.run.ended_by or why

    def stop_now(self, why: str) -> None:
        """Give up the tasks under way too."""
        self.finish_soon(why)
        self.backend.stop_now()

    def add_to_queue(self, plan: str) -> None:
        """Have another plan carried out after this run."""
        self.run.wanted_next.append(plan)

    def mark(self, numbers: Any, state: str) -> None:
        """Have the ledger know the state of tasks that do not begin now."""
        self.run.ledger.set_states(numbers, state)

    # --- the run -------------------------------------------------------------------------------

    def carry_out(self, workers: int) -> None:
        """Do it; blocks until it is done or stopped."""
        run, started = self.run, time.monotonic()
        self._store.sweep()
        number, state = 0, "failures"
        try:
            guess = run.estimate
            said = (
                {"estimate_low": guess.low, "estimate": guess.seconds, "estimate_high": guess.high}
                if guess is not None
                else {}
            )
            number = self._number = run.number = run.ledger.begin_run(
                workers, len(run.outlook.todo), platform.node(), os.getpid(), **said
            )
            with _interrupts(self):
                self._loop()
            state = self._end_state()
        finally:
            self.backend.close()
            run.seconds = time.monotonic() - started
            self._store.sweep()
            with suppress(LatticeError):  # the next run finds out what is done from the files
                self._news.write(now=True)
            with suppress(LatticeError):
                run.ledger.end_run(number, state, seconds=run.seconds, **self._spent())
            run.ledger.close()

    def _end_state(self) -> str:
        run = self.run
        run.left = self.schedule.unfinished + self._unaffordable
        if run.left:
            return "stopped" if run.interrupted else run.ended_by or "failures"
        return "failures" if run.failures else "done"

    def _loop(self) -> None:
        while True:
            now = time.monotonic()
            if now - self._looked >= _LOOK_EVERY:
                self._looked = now
                self._look_around()
            self._begin_what_may()
            self._write_news()
            idle = not self.backend.busy
            if idle and (self._ending or (self.schedule.is_done and not self._full)):
                return
            for event in self.backend.events(_LOOK_EVERY):
                self._follow(event)

    def _begin_what_may(self) -> None:
        self._mind_the_budget()
        while self.backend.free and not (self._ending or self.paused or self._full):
            number = self.schedule.next()
            if number is None:
                return
            task = self.run.tasks.task(number)
            if self.spending.cell_is_spent(task):
                self._leave_out(task)
                continue
            worker = self.backend.begin(task)
            self._follow(Started(task, worker))

    def _leave_out(self, task: Task) -> None:
        """A task whose cells have used up their time waits for another run."""
        self.schedule.put_back(task.number)
        self._unaffordable += len(self.schedule.drop(np.array([task.number])))
        self.run.ended_by = self.run.ended_by or "budget"
        self.run.spent = self.run.spent or f"the time of {task.first.address} is spent"

    # --- events --------------------------------------------------------------------------------

    def _follow(self, event: Event) -> None:
        """Take note of an event and pass it on."""
        if isinstance(event, Started):
            values = {"state": RUNNING, "worker": event.worker, "started": time.time(), "run": self._number}
            self._news.of(event.task, **values, share=0.0, problem="")
        elif isinstance(event, Progress):
            self._news.of(event.task, share=round(event.share, 4))
        elif isinstance(event, Finished):
            self._finished(event)
        elif isinstance(event, Returned):
            self.schedule.put_back(event.task.number)
            self._news.of(event.task, state=WAITING, worker=None, share=None)
        elif isinstance(event, Failed):
            answer = self._failed(event)
            if answer is None:
                return
            event = answer
        self._tell(event)

    def _finished(self, event: Finished) -> None:
        task, result = event.task, event.result
        self._full_since = None
        self.schedule.ended(task.number)
        self.spending.add(task, result.seconds, result.cores)
        self._worked += task.work
        self._worked_seconds += result.seconds
        self.run.finished.append(event)
        self._news.files += [replace(record, run=self._number) for record in result.records]
        self._news.of(
            task, state=DONE, worker=event.worker, ended=time.time(), share=1.0, seconds=result.seconds,
            trace_seconds=result.trace_seconds, cpu_seconds=result.cpu_seconds,
            peak_bytes=result.peak_bytes, samples=result.samples, noise=result.noise, rays=result.rays,
            kind=result.kind, problem="",
        )  # fmt: skip
        if result.log:
            self._news.logs.append((task.trace, result.log))

    def _failed(self, event: Failed) -> Event | None:
        """What a failure comes to: another try, a wait for room, or the task set aside."""
        task, problem = event.task, event.problem
        if isinstance(problem, DiskFull) and not self._ending:
            self._wait_for_room(problem)
            if self._full:
                self.schedule.put_back(task.number)
                self._news.of(task, state=WAITING, worker=None, share=None)
                return None
        passing = isinstance(problem, WorkerError | OutputError) and not isinstance(problem, DiskFull)
        if passing and not self._ending:
            delay = self.schedule.again(task.number)
            if delay is not None:
                tries = self.schedule.tries(task.number)
                values = {"state": WAITING, "worker": None, "share": None, "tries": tries}
                self._news.of(task, **values, problem=problem.what)
                self.run.tried_again += 1
                return Retried(task, event.worker, problem, delay)
        self._set_aside(task, event.worker, problem, event.log, event.details)
        return None

    def _set_aside(self, task: Task, worker: int, problem: LatticeError, log: str, details: str = "") -> None:
        failed = Failed(task, worker, problem, details, log)
        self.schedule.ended(task.number)
        self.run.failures.append(failed)
        told = f"{problem.what} {problem.cure}".strip()
        self._news.of(task, state=FAILED, worker=worker, ended=time.time(), share=None, problem=str(problem))
        self._news.failures.append((self._number, task.first.address, task.frame, told, time.time()))
        if log:
            self._news.logs.append((task.trace, log))
        self._tell(failed)

    # --- looking around ------------------------------------------------------------------------

    def _look_around(self) -> None:
        for doing in self.backend.under_way:
            problem = self._too_much(doing)
            if problem is not None:
                self.backend.give_up(doing, problem)
        if self._full:
            self._look_for_room()
        self._mind_the_budget()
        with suppress(LatticeError):
            obey(self)
            if time.monotonic() - self._beat > _HEARTBEAT:
                self._beat = time.monotonic()
                self.run.ledger.note_run(self._number, heard=time.time(), **self._spent())
        self._say_held("paused" if self.paused else self._full.reason if self._full else "")

    def _spent(self) -> dict[str, float]:
        return {
            "core_seconds": self.spending.core_seconds, "worked": self._worked,
            "worked_seconds": self._worked_seconds,
        }  # fmt: skip

    def _mind_the_budget(self) -> None:
        reason = self.spending.ended()
        if reason and not self._ending:
            self.finish_soon("budget")
            self.run.spent = reason

    def _say_held(self, reason: str) -> None:
        if reason != self._held:
            self._held = reason
            with suppress(LatticeError):
                self.run.ledger.note_run(self._number, held=reason)
            self._tell(Held(reason))

    def _too_much(self, doing: UnderWay) -> LatticeError | None:
        """Why a task is given up, if it is."""
        now, patience = time.monotonic(), self._patience
        if patience.limit is not None and now - doing.since > patience.limit:
            what, cure = f"took more than its limit of {duration(patience.limit)}", "raise limit"
        elif now - doing.heard > patience.stalled:
            what, cure = f"made no progress for {duration(patience.stalled)}", "raise stalled"
        elif patience.memory is not None and doing.peak_bytes > patience.memory:
            what, cure = f"held more than {size(patience.memory)} of memory", "raise memory"
        else:
            return None
        return WorkerError(
            f"{doing.task.first.address}, frame {doing.task.frame}, {what} and was given up.",
            cure=f"{cure} under run: in the plan, or look at what the frame renders",
        )

    # --- a full disk ---------------------------------------------------------------------------

    def _wait_for_room(self, problem: LatticeError) -> None:
        if self._full is None and self._patience.room > 0.0:
            now = time.monotonic()
            # Tried in vain meanwhile, it is still the same lack of room.
            self._full_since = now if self._full_since is None else self._full_since
            self._full = _Full(self._store.free_bytes(), now, problem.what)

    def _look_for_room(self) -> None:
        full, now = self._full, time.monotonic()
        assert full is not None
        assert self._full_since is not None
        if now - self._full_since > self._patience.room or self._ending:
            self._full = None
            self.finish_soon("full")
            self.run.spent = full.reason
        elif self._store.free_bytes() > full.free + _ROOM or now - full.tried > _TRY_ANYWAY:
            self._full = None

    def _write_news(self) -> None:
        try:
            self._news.write()
        except DiskFull as problem:
            self._wait_for_room(problem)
            if self._full is None:
                raise


@dataclass
class _Full:
    """A full disk: how many bytes were free, and when it was tried last."""

    free: int
    tried: float
    reason: str


@contextmanager
def _interrupts(coordinator: Coordinator) -> Iterator[None]:
    """Ctrl-C once finishes the tasks under way, twice gives them up."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return

    def handle(number: int, frame: object) -> None:
        if coordinator.run.ended_by:
            coordinator.stop_now("interrupted")
        else:
            coordinator.finish_soon("interrupted")

    usual = signal.signal(signal.SIGINT, handle)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, usual)
