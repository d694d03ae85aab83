"""The life of a worker process: it takes tasks from a pipe and answers with their results."""

from __future__ import annotations

import os
import sys
import threading
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import psutil

from grandlattice._support.processes import leave_signals_to_coordinator
from grandlattice.errors import LatticeError, WorkerError
from grandlattice.runs.work_order import Probe, Shop, TaskResult, WorkOrder
from grandlattice.tracer import Stopped

_REPORT_EVERY = 0.15  # seconds between two reports of progress
_LOG_END = 8000  # bytes of a log that are kept


def work_for(
    shop: Callable[[WorkOrder], Shop], order: WorkOrder, pipe: Connection, stop: Any, log: Path, gentle: bool
) -> None:
    """The life of a worker: take tasks from the pipe until None comes or the pipe closes."""
    leave_signals_to_coordinator()
    threading.Thread(target=_end_with_coordinator, args=(os.getppid(),), daemon=True).start()
    if gentle:
        _make_way()
    last_report = 0.0

    def report(share: float) -> None:
        nonlocal last_report
        now = time.monotonic()
        if now - last_report >= _REPORT_EVERY:
            last_report = now
            pipe.send(share)

    with _written_to(log):
        work, problem_of_shop = _opened(shop, order)
    while True:
        try:
            task = pipe.recv()
        except (EOFError, OSError):
            return
        if task is None:
            # Everything is written: what is left is memory, and letting go of a scene takes a second.
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(0)
        answer: Any = None
        with _written_to(log):
            try:
                if work is None:
                    raise problem_of_shop or WorkerError("The worker could not begin.")
                if isinstance(task, Probe):
                    pipe.send(work.probe(task.cell, task.frame))
                    continue
                pipe.send(0.0)  # it is ready; from here on it is expected to be heard of
                before = time.process_time()
                result = work.perform(task, report, stop)
                answer = replace(
                    result, cpu_seconds=result.cpu_seconds + time.process_time() - before,
                    peak_bytes=psutil.Process().memory_info().rss,
                )  # fmt: skip
            except Stopped:
                pass
            except (EOFError, BrokenPipeError):
                return
            except Exception as problem:
                answer = explained(problem)
        said = end_of(log)
        if isinstance(answer, TaskResult):
            answer = replace(answer, log="\n".join(filter(None, (answer.log, said))))
        elif answer is not None:
            answer = (*answer, said)
        try:
            pipe.send(answer)
        except (OSError, ValueError):
            return


def _opened(shop: Callable[[WorkOrder], Shop], order: WorkOrder) -> tuple[Shop | None, Exception | None]:
    """Open the shop before the first task comes; what goes wrong is said of that task."""
    try:
        return shop(order), None
    except Exception as problem:
        return None, problem


@contextmanager
def _written_to(log: Path) -> Iterator[None]:
    """Whatever anyone in this process prints meanwhile goes into the log, from its beginning."""
    sys.stdout.flush()
    sys.stderr.flush()
    kept = [(stream, os.dup(stream)) for stream in (1, 2)]
    try:
        with log.open("wb") as target:
            for stream, _ in kept:
                os.dup2(target.fileno(), stream)
        yield
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        for stream, before in kept:
            os.dup2(before, stream)
            os.close(before)


def _make_way() -> None:
    """Ask the machine to serve others first."""
    process = psutil.Process()
    with suppress(psutil.Error, OSError):
        process.nice(getattr(psutil, "BELOW_NORMAL_PRIORITY_CLASS", 10))
    if hasattr(process, "ionice"):
        with suppress(psutil.Error, OSError):
            process.ionice(getattr(psutil, "IOPRIO_VERYLOW", 3))


def _end_with_coordinator(parent: int) -> None:
    """End this worker and its children when its coordinator was killed."""
    while os.getppid() == parent:
        time.sleep(0.5)
    end_with_children(psutil.Process())


def end_of(log: Path) -> str:
    try:
        with log.open("rb") as stream:
            stream.seek(max(0, log.stat().st_size - _LOG_END))
            return stream.read().decode("utf-8", "replace").strip()
    except OSError:
        return ""


def end_with_children(process: psutil.Process) -> None:
    """Kill a process and all it started."""
    with suppress(psutil.Error):
        family = [*process.children(recursive=True), process]
        for member in family:
            with suppress(psutil.Error):
                member.kill()


def explained(problem: Exception) -> tuple[LatticeError, str]:
    """Any exception as one an artist can read, with its traceback apart."""
    details = "".join(traceback.format_exception(problem))
    if isinstance(problem, LatticeError):
        return problem, details
    if isinstance(problem, MemoryError):
        return WorkerError("There was not enough memory.", cure="use fewer workers"), details
    what = f"Something we did not foresee went wrong: {type(problem).__name__}: {problem}"
    return WorkerError(what, cure="run again with --debug to see where"), details
