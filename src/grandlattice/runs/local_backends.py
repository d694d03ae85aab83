"""The backends of this machine.

`Processes` is the usual one: worker processes, each with a scene of its own.  `InPlace` does the same in the
calling process, for notebooks and debuggers.
"""

from __future__ import annotations

import multiprocessing
import shutil
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Any

import psutil

from grandlattice._support.processes import helper_is_quiet, signals_held, without_main_script
from grandlattice._support.standard_streams import ensure_standard_streams
from grandlattice.errors import LatticeError, WorkerError
from grandlattice.runs.backends import Abilities, Backend, BackendRequest
from grandlattice.runs.events import Event, Failed, Finished, Progress, Returned, UnderWay
from grandlattice.runs.tasks import Task
from grandlattice.runs.work_order import Probe, Shop, Taken, TaskResult, WorkOrder
from grandlattice.runs.worker import end_of, end_with_children, explained, work_for
from grandlattice.runs.workshop import Workshop
from grandlattice.tracer import Stopped

_PROBING = 120.0  # seconds a worker may take to answer a probe
_STARTING = 60.0  # seconds a new worker may take to load its libraries before it counts as stalled


class InPlace:
    """Carries tasks out in this process, one after the other."""

    def __init__(self, order: WorkOrder, shop: Callable[[WorkOrder], Shop] = Workshop) -> None:
        self._order, self._make_shop = order, shop
        self._shop: Shop | None = None
        self._doing: UnderWay | None = None
        self._stop = threading.Event()

    abilities = Abilities(cancel=False)
    waits_for = ""
    slots = ()

    @property
    def free(self) -> int:
        return 0 if self._doing else 1

    def takes(self, pool: int) -> bool:
        return self.free > 0  # this machine is of every pool

    @property
    def busy(self) -> int:
        return 1 if self._doing else 0

    @property
    def under_way(self) -> list[UnderWay]:
        return [self._doing] if self._doing else []

    @property
    def idle_bytes(self) -> int:
        return 0  # nothing else is ever under way

    def await_seats(self, seconds: float) -> int:
        return 1

    def probe(self, probes: Sequence[Probe]) -> list[Taken | None]:
        return [self._probed(probe) for probe in probes]

    def _probed(self, probe: Probe) -> Taken | None:
        with suppress(LatticeError):  # what stands in the way is said of the task itself
            if self._shop is None:
                self._shop = self._make_shop(self._order)
            return self._shop.probe(probe.cell, probe.frame)
        return None

    def begin(self, task: Task) -> int:
        now = time.monotonic()
        self._doing = UnderWay(task, 0, now, now)
        return 0

    def events(self, timeout: float) -> list[Event]:
        if self._doing is None:
            self._stop.wait(timeout)
            return []
        task, self._doing = self._doing.task, None
        try:
            if self._shop is None:
                self._shop = self._make_shop(self._order)
            return [Finished(task, 0, self._shop.perform(task, None, self._stop))]
        except Stopped:
            return [Returned(task, 0)]
        except Exception as problem:
            return [Failed(task, 0, *explained(problem))]

    def give_up(self, doing: UnderWay, problem: LatticeError) -> None:
        pass  # a task that has the process for itself has ended when anybody could say so

    def stop_now(self) -> None:
        self._stop.set()

    def kill(self) -> None:
        pass  # nothing works while anybody could say so

    def resize(self, workers: int) -> None:
        pass  # there is one process

    def close(self) -> None:
        pass


class Processes:
    """Worker processes of this machine.

    Parameters
    ----------
    order : what the tasks have in common.
    workers : how many processes, at least 1.
    gentle : whether they make way for whatever else the machine does.
    shop : what each worker does its tasks with; a function of a module.
    """

    def __init__(
        self, order: WorkOrder, workers: int, *, gentle: bool = False,
        shop: Callable[[WorkOrder], Shop] = Workshop,
    ) -> None:  # fmt: skip
        self._order, self._gentle, self._shop = order, gentle, shop
        ensure_standard_streams()  # or a pipe to a worker would stand where libraries print to
        self._context = multiprocessing.get_context("spawn")
        # Python starts a helper of its own here, which must not die of signals either.
        with signals_held(), helper_is_quiet():
            self._stop = self._context.Event()
        self._logs = Path(tempfile.mkdtemp(prefix="grandlattice-"))
        self._busy: dict[int, UnderWay] = {}
        self._given_up: list[Event] = []
        self._wanted = max(1, workers)
        self._seats: list[_Worker] = []
        try:
            for number in range(self._wanted):
                self._start(number)
        except BaseException:  # such as a signal: they have no other owner yet
            self.close()
            raise

    abilities = Abilities()
    waits_for = ""
    slots = ()

    @property
    def free(self) -> int:
        return max(0, self._wanted - len(self._busy))

    def takes(self, pool: int) -> bool:
        return self.free > 0  # this machine is of every pool

    @property
    def busy(self) -> int:
        return len(self._busy) + len(self._given_up)

    @property
    def under_way(self) -> list[UnderWay]:
        for doing in self._busy.values():
            worker = self._seats[doing.worker]
            with suppress(psutil.Error):
                doing.peak_bytes = max(doing.peak_bytes, worker.seen.memory_info().rss)
        return list(self._busy.values())

    @property
    def idle_bytes(self) -> int:
        number = self._seat()
        with suppress(psutil.Error):
            return int(self._seats[number].seen.memory_info().rss) if number < len(self._seats) else 0
        return 0

    def _seat(self) -> int:
        """Who takes the next task; beyond the present seats, a new worker."""
        return next(k for k in range(len(self._seats) + 1) if k not in self._busy)

    def await_seats(self, seconds: float) -> int:
        return self._wanted

    def probe(self, probes: Sequence[Probe]) -> list[Taken | None]:
        found: list[Taken | None] = []
        for first in range(0, len(probes), len(self._seats)):
            asked = list(zip(self._seats, probes[first : first + len(self._seats)], strict=False))
            for worker, probe in asked:
                with suppress(OSError):
                    worker.pipe.send(probe)
            found += [self._probed(worker) for worker, _ in asked]
        return found

    def _probed(self, worker: _Worker) -> Taken | None:
        with suppress(EOFError, OSError):
            if worker.pipe.poll(_PROBING):
                worker.spoken = True
                message = worker.pipe.recv()
                return message if isinstance(message[0], float) else None
        end_with_children(worker.seen)  # it hangs, or is dead: another takes its seat
        return None

    def begin(self, task: Task) -> int:
        number = self._seat()
        if number == len(self._seats):
            self._start(number)
        worker = self._seats[number]
        if not worker.process.is_alive():
            worker.pipe.close()
            self._start(number)
            worker = self._seats[number]
        with suppress(OSError):  # it died before it could take the task; `_receive` finds that out
            worker.pipe.send(task)
        now = time.monotonic()
        heard = now if worker.spoken else now + _STARTING
        self._busy[number] = UnderWay(task, number, now, heard)
        return number

    def events(self, timeout: float) -> list[Event]:
        events, self._given_up = self._given_up, []
        workers = {worker.pipe: worker for worker in self._seats if worker.number in self._busy}
        if not workers:
            if not events:
                time.sleep(timeout)
            return events
        for pipe in wait(list(workers), timeout=0.0 if events else timeout):
            events.append(self._receive(workers[pipe]))  # type: ignore[index]
        return events

    def give_up(self, doing: UnderWay, problem: LatticeError) -> None:
        worker = self._seats[doing.worker]
        if self._busy.get(doing.worker) is not doing:
            return
        end_with_children(worker.seen)
        worker.process.join(5.0)
        del self._busy[doing.worker]
        self._given_up.append(Failed(doing.task, doing.worker, problem, log=worker.said()))

    def stop_now(self) -> None:
        self._stop.set()

    def kill(self) -> None:
        for worker in self._seats:
            end_with_children(worker.seen)
        for worker in self._seats:
            worker.process.join(1.0)

    def resize(self, workers: int) -> None:
        self._wanted = max(1, workers)
        self._let_go()

    def _let_go(self) -> None:
        """End workers that are idle and not wanted any more; their memory is free then."""
        for worker in self._seats[self._wanted :]:
            if worker.number not in self._busy and worker.process.is_alive():
                with suppress(OSError):
                    worker.pipe.send(None)

    def close(self) -> None:
        for worker in self._seats:
            if worker.spoken and worker.number not in self._busy:
                with suppress(OSError):
                    worker.pipe.send(None)
            else:  # it still loads, or what it does is not wanted any more
                end_with_children(worker.seen)
        deadline = time.monotonic() + 3.0
        for worker in self._seats:
            worker.process.join(max(0.1, deadline - time.monotonic()))
            if worker.process.is_alive():
                end_with_children(worker.seen)
                worker.process.join(2.0)
            worker.pipe.close()
        shutil.rmtree(self._logs, ignore_errors=True)

    def _start(self, number: int) -> None:
        """Have a worker take a seat."""
        here, there = self._context.Pipe()
        log = self._logs / f"worker-{number}.log"
        process = self._context.Process(
            target=work_for, args=(self._shop, self._order, there, self._stop, log, self._gentle),
            daemon=True, name=f"worker-{number}",
        )  # fmt: skip
        with without_main_script(), signals_held():  # from its beginning on it is known, and can be ended
            process.start()
            worker = _Worker(number, process, here, log, psutil.Process(process.pid))
            self._seats[number : number + 1] = [worker]
        there.close()

    def _receive(self, worker: _Worker) -> Event:
        doing = self._busy[worker.number]
        try:
            message = worker.pipe.recv()
        except (EOFError, OSError):
            worker.process.join(5.0)
            del self._busy[worker.number]
            end_with_children(worker.seen)  # the result of a renderer it had begun is not wanted any more
            problem = _died(doing.task, worker.process.exitcode)
            return Failed(doing.task, worker.number, problem, log=worker.said())
        worker.spoken = True
        if isinstance(message, float):
            doing.heard = time.monotonic()
            return Progress(doing.task, worker.number, message)
        del self._busy[worker.number]
        self._let_go()
        if isinstance(message, TaskResult):
            peak = max(message.peak_bytes, doing.peak_bytes)
            return Finished(doing.task, worker.number, replace(message, peak_bytes=peak))
        if message is None:
            return Returned(doing.task, worker.number)
        return Failed(doing.task, worker.number, *message)


def local(request: BackendRequest) -> Backend:
    """The backend of this machine: processes, or this process itself for 0 workers."""
    if request.workers == 0:
        return InPlace(request.order)
    return Processes(request.order, request.workers, gentle=request.gentle)


@dataclass
class _Worker:
    number: int
    process: Any
    pipe: Connection
    log: Path
    seen: psutil.Process
    spoken: bool = False

    def said(self) -> str:
        return end_of(self.log)


def _died(task: Task, code: int | None) -> LatticeError:
    how = f"signal {-code}" if code is not None and code < 0 else f"code {code}"
    return WorkerError(
        f"The worker that rendered {task.first.address}, frame {task.frame}, ended without a word ({how}).",
        cure="give the same glat run again; if it happens again the frame may need more memory",
    )
