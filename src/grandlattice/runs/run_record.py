"""What a run tells its ledger: gathered, written a few times a second, kept if the file is lost.

Another program may hold the ledger, damage it, take it away or put another in its place.  The run goes on:
news is kept until it can be written, and a ledger that is lost is begun anew from what the run has made.
"""

from __future__ import annotations

import os
import platform
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from grandlattice.errors import DiskFull, LatticeError, LedgerLost
from grandlattice.runs.events import Failed, Finished, UnderWay
from grandlattice.runs.ledger import DONE, FAILED, RUNNING, WAITING, FileRecord
from grandlattice.runs.run import Run
from grandlattice.runs.tasks import Task
from grandlattice.runs.temporary_files import new_attempt, parts_of

_WRITE_EVERY = 0.2  # seconds that news is gathered
_BUSY_WITHIN = 0.3  # seconds the run stands still, at most, for a ledger that another program holds
_BUSY_FOR = 2.0  # seconds until that is tried again
_AT_THE_END = 60.0  # seconds the end of a run waits for it
_IN_A_HURRY = 1.0  # the same where the system wants the run gone
_TRIES_TO_BEGIN = 5  # where a ledger is lost in the moment a run begins
_MEND_EVERY = 10.0  # seconds between two tries to begin a lost ledger anew


@dataclass
class _News:
    """What the ledger has still to learn."""

    tasks: dict[int, dict[str, Any]] = field(default_factory=dict)
    members: list[tuple[Sequence[int], dict[str, Any]]] = field(default_factory=list)
    files: list[FileRecord] = field(default_factory=list)
    logs: list[tuple[str, str]] = field(default_factory=list)
    failures: list[tuple] = field(default_factory=list)
    over: list[str] = field(default_factory=list)

    def __bool__(self) -> bool:
        return any((self.tasks, self.members, self.files, self.logs, self.failures, self.over))


class RunRecord:
    """The record of one run in its ledger.

    Parameters
    ----------
    run : what is recorded; its number is set by `begin`.
    note_tasks : writes the tasks of the run into a ledger that is begun anew.
    under_way : says which tasks are under way, for the same purpose.
    """

    def __init__(
        self, run: Run, note_tasks: Callable[[], None], under_way: Callable[[], list[UnderWay]]
    ) -> None:
        self._run, self._ledger = run, run.ledger
        self._note_tasks, self._under_way = note_tasks, under_way
        self._store = run.store
        self._news = _News()
        self._next_write = 0.0
        self._parts: dict[str, list[str]] = {}  # of the tries under way
        self._workers = 0
        self._mended = -np.inf

    # --- a run begins and ends -----------------------------------------------------------------

    def begin(self, workers: int) -> None:
        """Note that the run begins, and remove what earlier runs left behind.

        Raises
        ------
        LatticeError
            When the ledger cannot be written.
        """
        self._workers = workers
        for _ in range(_TRIES_TO_BEGIN):
            try:
                for attempt, paths in self._ledger.parts().items():
                    self._remove(attempt, paths)
                self._run.owner = self._run.owner or self._ledger.id
                self._begin_run()
                break
            except LedgerLost:  # since it was looked at a moment ago
                self._mended = -np.inf
                if self._mended_now():
                    break
        else:
            self._begin_run()
        self._mended = -np.inf
        self._ledger.hold()
        self._ledger.wait_at_most(_BUSY_WITHIN)

    def _begin_run(self) -> None:
        run, guess = self._run, self._run.estimate
        said: dict[str, Any] = {"compiler": run.compiler}
        if guess is not None:
            said |= {"estimate_low": guess.low, "estimate": guess.seconds, "estimate_high": guess.high}
        run.number = self._ledger.begin_run(
            self._workers, len(run.outlook.todo), platform.node(), os.getpid(), **said
        )

    def end(self, state: str, *, in_a_hurry: bool, **values: Any) -> None:
        """Write what is left and how the run ended, as far as that is possible; the next run finds out what
        is done from the pictures."""
        for attempt, paths in list(self._parts.items()):
            self._remove(attempt, paths)
        self._ledger.wait_at_most(_IN_A_HURRY if in_a_hurry else _AT_THE_END)
        self._mended = -np.inf  # one that is lost is begun anew now, whenever that was done last
        for _ in range(2):  # the first time may find that it is lost, and begin it anew
            with suppress(LatticeError):
                self.write(now=True)
        with suppress(LatticeError):
            self._ledger.end_run(self._run.number, state, **values)
        self._ledger.hold(False)
        self._ledger.close()

    def note_run(self, **values: Any) -> None:
        """Set columns of the run, such as when it was heard of.

        Raises
        ------
        DiskFull
            When there is no room.
        """
        self.do(lambda: self._ledger.note_run(self._run.number, **values))

    # --- what happens to tasks -----------------------------------------------------------------

    def set(self, task: Task, **values: Any) -> None:
        """Set columns of a task."""
        self._news.tasks.setdefault(task.number, {}).update(values)

    def set_members(self, numbers: Sequence[int], **values: Any) -> None:
        """Set columns of members, by their numbers."""
        self._news.members.append((numbers, values))

    def waits(self, task: Task, tries: int | None = None, problem: str | None = None) -> None:
        """Note that a task waits again: for its turn, or with a `problem` to be tried again."""
        self.set(task, share=None, **({} if tries is None else {"tries": tries}))
        values = {} if problem is None else {"problem": problem}
        self.set_members(task.numbers, state=WAITING, worker=None, **values)

    def log(self, task: Task, text: str) -> None:
        """Keep the end of what was said while a task ran."""
        if text:
            self._news.logs.append((task.trace, text))

    def started(self, task: Task, worker: int) -> None:
        """Note that a worker took a task."""
        now, run = time.time(), self._run.number
        self.set(task, share=0.0)
        self.set_members(task.numbers, state=RUNNING, worker=worker, started=now, run=run, problem="")

    def finished(self, event: Finished) -> None:
        """Note a task that is done, its members and their files."""
        result, run = event.result, self._run.number
        self._news.files += [replace(record, run=run) for record in result.records]
        self.set(
            event.task, run=run, ended=event.ended, share=1.0, seconds=result.seconds,
            trace_seconds=result.trace_seconds, cpu_seconds=result.cpu_seconds,
            peak_bytes=result.peak_bytes, rays=result.rays, kind=result.kind, host=result.host,
        )  # fmt: skip
        for member in result.members:
            self._news.members.append(([member.number], {
                "state": DONE, "worker": event.worker, "run": run, "ended": event.ended, "problem": "",
                "samples": member.samples, "noise": member.noise, "unfinished": member.unfinished,
                "files": member.files, "seconds": member.seconds,
            }))  # fmt: skip

    def failed(self, event: Failed) -> None:
        """Note a task that was set aside."""
        task, problem, now, run = event.task, event.problem, time.time(), self._run.number
        self.set(task, run=run, ended=now, share=None)
        self.set_members(
            task.numbers,
            state=FAILED,
            worker=event.worker,
            run=run,
            ended=now,
            problem=str(problem),
        )
        said = f"{problem.what} {problem.cure}".strip()
        self._news.failures += [(run, m.cell.address, m.frame, said, now) for m in task.members]

    # --- temporary files -----------------------------------------------------------------------

    def begin_try(self, task: Task, tries: int) -> Task:
        """Name a try of a task, and note the temporary files it may leave behind, before it can.

        Where the ledger cannot be written just now, this process knows of them at least.
        """
        task = replace(task, attempt=new_attempt(self._run.number, task.number, tries))
        paths = list(parts_of(task, self._run.plan_name))
        self._parts[task.attempt] = paths
        with suppress(LatticeError):
            self._ledger.note_parts(task.attempt, paths)
        return task

    def end_try(self, task: Task, *, clean: bool) -> None:
        """Note that a try is over; one that did not end by itself may have left files, which are removed."""
        paths = self._parts.get(task.attempt, [])
        self._remove(task.attempt, [] if clean else paths)

    def _remove(self, attempt: str, paths: list[str]) -> None:
        self._store.remove_parts(paths)
        self._parts.pop(attempt, None)
        self._news.over.append(attempt)

    # --- writing -------------------------------------------------------------------------------

    def write(self, *, now: bool = False) -> None:
        """Write what there is, if it is time; it is kept where that is not possible.

        Raises
        ------
        DiskFull
            When there is no room.
        """
        if self._news and (now or time.monotonic() >= self._next_write):
            self.do(self._write)

    def _write(self) -> None:
        news = self._news
        self._next_write = time.monotonic() + _BUSY_FOR
        self._ledger.write(news.tasks, news.members, news.files, news.logs, news.failures, news.over)
        self._news, self._next_write = _News(), time.monotonic() + _WRITE_EVERY

    def do(self, what: Callable[[], object]) -> None:
        """Do something with the ledger; where that fails the run goes on without.

        Raises
        ------
        DiskFull
            When there is no room.
        """
        try:
            if not self._ledger.is_lost or self._mended_now():
                what()
        except DiskFull:
            raise
        except LedgerLost:
            self._mended_now()
        except LatticeError:
            pass  # held by another program, for example; it is tried again soon

    def _mended_now(self) -> bool:
        """Begin a lost ledger anew, with all that this run has made; the pictures know the rest.

        Returns
        -------
        Whether it can be written again.
        """
        run, now = self._run, time.monotonic()
        if now - self._mended < _MEND_EVERY:
            return False
        self._mended = now
        self._ledger.close()
        self._ledger.hold(False)
        try:
            aside = self._ledger.heal(thoroughly=True)
            try:
                self._begin_anew()
            except LatticeError:  # it can be read, and lacks what it should have
                aside = self._ledger.set_aside()
                self._begin_anew()
        except (LatticeError, OSError):
            return False  # a disk that fails altogether; it is tried again
        finally:
            self._ledger.hold()
        run.ledger_aside = aside or run.ledger_aside
        note = (
            f"The ledger {self._ledger.file.name} was taken away or replaced while the run went on; "
            "all that this run made was written down anew."
        )
        if aside is None and note not in run.notes:
            run.notes.append(note)
        self._news = replace(self._news, tasks={}, members=[], files=[], failures=[])
        for done in run.finished:
            self.finished(done)
        for failure in run.failures:
            self.failed(failure)
        for doing in self._under_way():
            self.started(doing.task, doing.worker)
        return True

    def _begin_anew(self) -> None:
        self._ledger.take_id(self._run.owner)
        self._note_tasks()
        self._begin_run()
        for attempt, paths in self._parts.items():
            self._ledger.note_parts(attempt, paths)
