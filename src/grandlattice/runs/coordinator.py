"""Carrying a run out: the schedule says what begins, the backend does it, the ledger learns of it.

The coordinator alone writes the ledger, and writes it after a file has its name.  It looks around
a few times a second: for orders from elsewhere, for workers that hang or take too much, for the
budget, for room on the disk.  Everything that happens is told as events.
"""

from __future__ import annotations

import json
import platform
import signal
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.readable import duration, size
from grandlattice.errors import DiskFull, LatticeError, OutputError, WorkerError
from grandlattice.images import read_mark
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
from grandlattice.runs.kept_pictures import keep_latest
from grandlattice.runs.membership import Membership
from grandlattice.runs.memory_room import Room
from grandlattice.runs.orders import obey
from grandlattice.runs.run import Run
from grandlattice.runs.run_record import RunRecord
from grandlattice.runs.schedule import Patience
from grandlattice.runs.tasks import Task, pool_key
from grandlattice.runs.temporary_files import unfinished_file

_LOOK_EVERY = 0.25  # seconds between two looks around
_HEARTBEAT = 2.0  # seconds between two signs of life in the ledger
_GONE_WITHIN = 2.0  # seconds workers have to end when the system asks the run to
_TRY_ANYWAY = 60.0  # seconds after which a full disk is tried though it does not look emptier
_ROOM = 4_000_000  # bytes that must have come free before a full disk is tried again


class Coordinator:
    """Carries out one run.

    Parameters
    ----------
    run : what it sets out to do; it is told what became of it.
    backend : who does it.
    patience : with tasks that fail.
    spending : what the run may spend.
    note_tasks : writes the tasks of the run into its ledger, for one that has to be begun anew.
    keep : folder below the output for files that others replace; None replaces them.
    keep_most : how many of them stay for each file; None is all.
    on_event : told every event, after the ledger knows of it or is about to.
    """

    def __init__(
        self, run: Run, backend: Backend, patience: Patience, spending: Spending,
        note_tasks: Callable[[], None], on_event: Callable[[Event], None] | None = None,
        keep: str | None = None,
        keep_most: int | None = None,
    ) -> None:  # fmt: skip
        self._keep, self._keep_most = keep, keep_most
        self.run, self.backend, self.spending = run, backend, spending
        self.members = Membership(run.outlook.todo, patience, time.monotonic)
        self.paused = False
        self._patience = patience
        self._record = RunRecord(run, note_tasks, lambda: backend.under_way)
        self._room, self._short = Room(run.ledger.peaks(platform.node())), ""
        self._tell = on_event or (lambda event: None)
        self._store = run.store
        self._ending = False
        self._gone_by: float | None = None
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

    def stop_within(self, seconds: float, why: str) -> None:
        """Give up the tasks under way, and their workers too when so many seconds have passed."""
        self.stop_now(why)
        self._gone_by = time.monotonic() + seconds

    def add_to_queue(self, plan: str) -> None:
        """Have another plan carried out after this run."""
        self.run.wanted_next.append(plan)

    def mark(self, numbers: NDArray[np.int64], **values: Any) -> None:
        """Have the ledger know of members that do not begin now, such as their state."""
        self._record.set_members(numbers.tolist(), **values)

    # --- the run -------------------------------------------------------------------------------

    def carry_out(self, workers: int) -> None:
        """Do it; blocks until it is done or stopped."""
        run, started = self.run, time.monotonic()
        state = "failures"
        try:
            self._record.begin(workers)
            with _interrupts(self):
                self._loop()
            state = self._end_state()
        finally:
            self.backend.close()
            run.seconds = time.monotonic() - started
            self._record.end(
                state, in_a_hurry=self._gone_by is not None, seconds=run.seconds, **self._spent()
            )

    def _end_state(self) -> str:
        run = self.run
        run.left = self.members.left + self._unaffordable
        if run.left:
            return "stopped" if run.interrupted else run.ended_by or "failures"
        return "failures" if run.failures else "done"

    def _loop(self) -> None:
        while True:
            now = time.monotonic()
            if self._gone_by is not None and now > self._gone_by:
                self._end_workers()
                return
            if now - self._looked >= _LOOK_EVERY:
                self._looked = now
                self._look_around()
            self._begin_what_may()
            self._write_news()
            idle = not self.backend.busy
            if idle and (self._ending or (self.members.is_done and not self._full)):
                return
            for event in self.backend.events(_LOOK_EVERY):
                self._follow(event)

    def _end_workers(self) -> None:
        """End the workers that did not end by themselves; what they were at waits for another run."""
        self.backend.kill()
        for doing in self.backend.under_way:
            self._follow(Returned(doing.task, doing.worker))

    def _begin_what_may(self) -> None:
        self._mind_the_budget()
        while self.backend.free and not (self._ending or self.paused or self._full):
            task = self.members.next(self.backend.takes)
            if task is None:
                self._short = "" if self.backend.busy else self._lacking_pool()
                return
            task = self._affordable(task)
            if task is None:
                continue
            self._short = self._lack(task)
            if self._short:
                self.members.put_back(task)
                return
            task = self._record.begin_try(task, self.members.tries(task))
            worker = self.backend.begin(task)
            self._follow(Started(task, worker))

    def _lack(self, task: Task) -> str:
        """What is said when there is no memory for a task here; other machines mind theirs."""
        if self.backend.abilities.several_hosts:
            return ""
        return self._room.lack(task, self.backend.under_way, self.backend.idle_bytes)

    def _lacking_pool(self) -> str:
        """What is said when all that wait are for workers which are not there."""
        pool = self.members.first_pool
        return (
            f"no worker of the pool {pool} is ready"
            if pool and not self.backend.takes(pool_key(pool))
            else ""
        )

    def _affordable(self, task: Task) -> Task | None:
        """What is left of a task without the cells that have used up their time; these wait for another
        run."""
        spent = [member for member in task.members if self.spending.is_spent(member.cell)]
        if not spent:
            return task
        self._unaffordable += len(spent)
        self.run.ended_by = self.run.ended_by or "budget"
        self.run.spent = self.run.spent or f"the time of {spent[0].cell.address} is spent"
        return self.members.leave_out(task, (member.number for member in spent))

    # --- events --------------------------------------------------------------------------------

    def _follow(self, event: Event) -> None:
        """Take note of an event and pass it on."""
        if isinstance(event, Started):
            self._record.started(event.task, event.worker)
        elif isinstance(event, Progress):
            self._record.set(event.task, share=round(event.share, 4))
        elif isinstance(event, Finished):
            problem = self._landed(event)
            if problem is not None:
                self._follow(Failed(event.task, event.worker, problem, log=event.result.log))
                return
            self._finished(event)
        elif isinstance(event, Returned):
            self._record.end_try(event.task, clean=False)
            self._put_back(event.task)
        elif isinstance(event, Failed):
            self._record.end_try(event.task, clean=False)
            answer = self._failed(event)
            if answer is None:
                return
            event = answer
        self._tell(event)

    def _landed(self, event: Finished) -> LatticeError | None:
        """Give the files of a task their names; what stood in the way, if anything did."""
        try:
            for prepared, record in event.result.files:
                there = self._store.path(prepared.path)
                is_same = self._keep is not None and read_mark(there, "fingerprint") == record.fingerprint
                self._store.land(prepared, None if is_same else self._keep)
                if self._keep_most is not None and not is_same:
                    plan, most = self.run.plan_name, self._keep_most
                    keep_latest(self._store, plan, prepared.path, most, self.run.owner)
        except LatticeError as problem:
            return problem
        return None

    def _put_back(self, task: Task) -> None:
        self.members.put_back(task)
        self._record.waits(task)

    def _finished(self, event: Finished) -> None:
        task, result = event.task, event.result
        if not any(member.unfinished for member in result.members):
            with suppress(LatticeError, OSError):  # what an earlier run kept of them is not needed any more
                for film in task.wanted:
                    self._store.remove(unfinished_file(self.run.plan_name, task.trace, film))
        self._record.end_try(task, clean=True)
        self._full_since = None
        self.members.done(task)
        self.spending.add(task, result.seconds, result.cores)
        self._worked += task.work
        self._worked_seconds += result.seconds
        self._room.learn(task, result.peak_bytes)
        self.run.finished.append(event)
        self._record.finished(event)
        self._record.log(task, result.log)

    def _failed(self, event: Failed) -> Event | None:
        """What a failure comes to: another try, a wait for room, or the task set aside."""
        task, problem = event.task, event.problem
        if isinstance(problem, DiskFull) and not self._ending:
            self._wait_for_room(problem)
            if self._full:
                self._put_back(task)
                return None
        passing = isinstance(problem, WorkerError | OutputError) and not isinstance(problem, DiskFull)
        if passing and not self._ending:
            delay = self.members.again(task)
            if delay is not None:
                self._record.waits(task, self.members.tries(task), problem.what)
                self.run.tried_again += 1
                return Retried(task, event.worker, problem, delay)
        self._set_aside(task, event.worker, problem, event.log, event.details)
        return None

    def _set_aside(self, task: Task, worker: int, problem: LatticeError, log: str, details: str = "") -> None:
        failed = Failed(task, worker, problem, details, log)
        self.members.failed(task)
        self.run.failures.append(failed)
        self._record.failed(failed)
        self._record.log(task, log)
        self._tell(failed)

    # --- looking around ------------------------------------------------------------------------

    def _look_around(self) -> None:
        """See to everything but tasks: limits of those under way, room on the disk, the budget, orders from
        elsewhere, the sign of life in the ledger, and whether the run waits."""
        for doing in self.backend.under_way:
            problem = self._too_much(doing)
            if problem is not None and self.backend.abilities.cancel:
                self.backend.give_up(doing, problem)
        if self._full:
            self._look_for_room()
        self._mind_the_budget()
        with suppress(DiskFull):
            self._record.do(lambda: obey(self))
            if time.monotonic() - self._beat > _HEARTBEAT:
                self._beat = time.monotonic()
                slots = [slot._asdict() for slot in self.backend.slots]
                told = {"slots": json.dumps(slots), "workers": _ready(slots)} if slots else {}
                self._record.note_run(heard=time.time(), **told, **self._spent())
        self._say_held(
            "paused"
            if self.paused
            else self._full.reason
            if self._full
            else self._short or self.backend.waits_for
        )

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
            with suppress(DiskFull):
                self._record.note_run(held=reason)
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
            self._record.write()
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


def _ready(slots: Sequence[Mapping[str, Any]]) -> int:
    return max(1, sum(slot["state"] == "ready" for slot in slots))


@contextmanager
def _interrupts(coordinator: Coordinator) -> Iterator[None]:
    """Ctrl-C once finishes the tasks under way, twice gives them up; SIGTERM gives them up at once, and
    is obeyed within seconds; SIGHUP, unless it is ignored (nohup), is like Ctrl-C."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return

    def handle(number: int, frame: object) -> None:
        run = coordinator.run
        run.signal = run.signal or number
        if number == signal.SIGTERM:
            coordinator.stop_within(_GONE_WITHIN, "interrupted")
        elif run.ended_by:
            coordinator.stop_now("interrupted")
        else:
            coordinator.finish_soon("interrupted")

    usual = {}
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) != signal.SIG_IGN:
            usual[number] = signal.signal(number, handle)
    try:
        yield
    finally:
        for number, before in usual.items():
            signal.signal(number, before if before is not None else signal.SIG_DFL)
