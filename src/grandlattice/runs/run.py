"""A run: which tasks are still to be done, doing them, and the record of it.

The coordinator alone writes the ledger, and writes it after a file has its name.  What is in the
ledger, or says so itself in its metadata, is not done again.
"""

from __future__ import annotations

import signal
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import LatticeError, NoSuchCell, OutputError, RunError, nearest
from grandlattice.images import read_channels, read_mark
from grandlattice.runs.backends import Backend, Event, Failed, Finished, InPlace, Patience, Processes
from grandlattice.runs.ledger import FileRecord, Ledger, coordinates_text
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Task, TaskFile
from grandlattice.runs.work import WorkOrder
from grandlattice.tracer import PASSES

if TYPE_CHECKING:
    import pandas


@dataclass(frozen=True)
class Outlook:
    """What a run will do.

    Attributes
    ----------
    todo : tasks to carry out, in order.
    done : tasks whose files are all there.
    changed : files of ours that will be replaced because the plan or the scene changed.
    foreign : files in the way that no run of ours made.
    shared : cells that take their picture from another cell's trace.
    """

    todo: tuple[Task, ...]
    done: tuple[Task, ...]
    changed: tuple[str, ...]
    foreign: tuple[str, ...]

    @property
    def shared(self) -> int:
        return sum(len(task.cells) - 1 for task in self.todo)


def look_ahead(tasks: Sequence[Task], ledger: Ledger, store: FolderStore, fresh: bool) -> Outlook:
    """Decide which tasks are still to be done.

    A file found with the right mark in its metadata but no line in the ledger (a run was killed
    between the two) is taken into the ledger.
    """
    known = ledger.files()
    todo: list[Task] = []
    done: list[Task] = []
    changed: list[str] = []
    foreign: list[str] = []
    adopted: list[FileRecord] = []
    for task in tasks:
        missing = False
        for member in task.cells:
            for file in member.files:
                path = file.planned.path
                size = store.size(path)
                record = known.get(path)
                if size is None:
                    missing = True
                    continue
                whole = record is not None and record.bytes == size
                if whole and record is not None and record.fingerprint == file.fingerprint:
                    continue
                mark = read_mark(store.path(path), "fingerprint")
                if mark == file.fingerprint and record is None:
                    adopted.append(
                        _adopted(member.cell.address, dict(member.cell.coordinates), file, store, size)
                    )
                    continue
                missing = True
                (foreign if mark is None and record is None else changed).append(path)
        (todo if missing or fresh else done).append(task)
    if adopted:
        ledger.record(adopted)
    return Outlook(tuple(todo), tuple(done), tuple(changed), tuple(foreign))


def _adopted(
    cell: str, coordinates: dict[str, str], file: TaskFile, store: FolderStore, size: int
) -> FileRecord:
    path = store.path(file.planned.path)
    return FileRecord(
        file.planned.path, cell, coordinates_text(coordinates), file.planned.frame,
        file.planned.format, " ".join(file.planned.passes), file.fingerprint, size, 0, 0,
        int(read_mark(path, "samples") or 0), int(read_mark(path, "rays") or 0),
        float(read_mark(path, "seconds") or 0.0), read_mark(path, "denoised") == "1",
        path.stat().st_mtime,
    )  # fmt: skip


def refuse_foreign(outlook: Outlook, fresh: bool) -> None:
    """Refuse to replace files that no run of ours made.

    Raises
    ------
    OutputError
        Naming the first.
    """
    if outlook.foreign and not fresh:
        count = len(outlook.foreign)
        more = f" and {count - 1} more" if count > 1 else ""
        raise OutputError(
            f"{outlook.foreign[0]}{more} would be replaced, and no run of this plan made it.",
            cure="move it away, change the output template, or replace it with --fresh",
        )


@dataclass
class Run:
    """A run and, when it has ended, what came of it.

    Attributes
    ----------
    outlook : what it set out to do.
    failures : tasks that could not be done.
    finished : tasks done by this run.
    interrupted : whether it was stopped before the end.
    """

    output: Path
    ledger: Ledger
    outlook: Outlook
    tasks: tuple[Task, ...]
    failures: list[Failed] = field(default_factory=list)
    finished: list[Finished] = field(default_factory=list)
    interrupted: bool = False
    seconds: float = 0.0

    @property
    def ok(self) -> bool:
        """Whether every task is done."""
        return not self.failures and not self.interrupted

    def table(self) -> pandas.DataFrame:
        """A row for each finished file: cell, coordinates, frame, path, seconds, rays and more."""
        import json
        from dataclasses import asdict

        import pandas

        planned = {f.planned.path for t in self.tasks for c in t.cells for f in c.files}
        rows = []
        for record in self.ledger.files().values():
            if record.path in planned:
                row = asdict(record)
                row.update(json.loads(row.pop("coordinates")))
                row["path"] = str(self.output / record.path)
                rows.append(row)
        return pandas.DataFrame(rows)

    def files(self, address: str, frame: int | None = None) -> list[Path]:
        """The files of a cell, of one frame or all.

        Raises
        ------
        NoSuchCell
            When the run has no such cell.
        """
        return [self.output / f.planned.path for f in self._files(address, frame)]

    def picture(
        self, address: str, frame: int | None = None, pass_name: str = "beauty"
    ) -> NDArray[np.float32]:
        """A pass of a cell as it stands in its file.

        Returns
        -------
        (H, W, C) float32; the beauty is scene-linear RGBA, premultiplied.

        Raises
        ------
        NoSuchCell, RunError, ImageError
            When there is no such cell, pass or file.
        """
        if pass_name not in PASSES:
            raise RunError(f"There is no pass {pass_name}. {nearest(pass_name, PASSES)}")
        for file in self._files(address, frame):
            if file.planned.format == "exr" and pass_name in file.planned.passes:
                return read_channels(self.output / file.planned.path, PASSES[pass_name].channels)
        raise RunError(
            f"No EXR file of {address} holds {pass_name}.",
            cure=f"add {pass_name} to passes and exr to format, and run again",
        )

    def _files(self, address: str, frame: int | None) -> list[TaskFile]:
        found = [
            file
            for task in self.tasks
            for member in task.cells
            if member.cell.address == address and frame in (None, task.frame)
            for file in member.files
        ]
        if not found:
            known = {m.cell.address for t in self.tasks for m in t.cells}
            raise NoSuchCell(f"The run has no {address}. {nearest(address, known)}")
        return found


def carry_out(
    run: Run, order: WorkOrder, workers: int, on_event: Callable[[Event], None] | None = None,
    patience: Patience | None = None,
) -> None:  # fmt: skip
    """Do the tasks of a run and record them; blocks until they are done or stopped.

    Parameters
    ----------
    workers : processes; 0 works in this process.
    on_event : told every event, after the ledger knows of it.
    patience : with workers that crash or hang.
    """
    started = time.monotonic()
    FolderStore(run.output).sweep()
    number, state = 0, "failures"
    try:
        number = run.ledger.begin_run(workers, len(run.outlook.todo))
        order = replace(order, run=number)
        backend: Backend = Processes(order, workers, patience) if workers > 0 else InPlace(order)
        with _interrupts(backend, run):
            for event in backend.carry_out(run.outlook.todo):
                if isinstance(event, Finished):
                    run.ledger.record(event.result.records)
                    run.finished.append(event)
                elif isinstance(event, Failed):
                    task = event.task
                    run.failures.append(event)
                    with suppress(LatticeError):  # on a full disk; it is reported all the same
                        run.ledger.record_failure(number, task.first.address, task.frame, str(event.problem))
                if on_event is not None:
                    on_event(event)
        left = len(run.outlook.todo) - len(run.finished) - len(run.failures)
        run.interrupted = run.interrupted or left > 0
        state = "stopped" if run.interrupted else "failures" if run.failures else "done"
    finally:
        run.seconds = time.monotonic() - started
        FolderStore(run.output).sweep()
        with suppress(LatticeError):  # the next run finds out what is done from the files
            run.ledger.end_run(number, state)
        run.ledger.close()


@contextmanager
def _interrupts(backend: Backend, run: Run) -> Iterator[None]:
    """Ctrl-C once finishes the tasks under way, twice gives them up."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return

    def handle(number: int, frame: object) -> None:
        if run.interrupted:
            backend.stop_now()
        else:
            run.interrupted = True
            backend.finish_soon()

    usual = signal.signal(signal.SIGINT, handle)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, usual)
