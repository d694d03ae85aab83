"""A slot: a worker of the engine, which has a worker process of ours do one task at a time.

The engine's worker only passes on what that process says, so that a render which dies, hangs or fills the
memory never takes the slot with it; and ends it when its task is not waited for any more.
"""

from __future__ import annotations

import asyncio
import os
import pickle
import platform
import secrets
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from importlib.metadata import PackageNotFoundError, version
from multiprocessing import AuthenticationError
from multiprocessing.connection import Client, Connection, Listener
from pathlib import Path
from typing import Any, NamedTuple

import psutil

from grandlattice.errors import WorkerError
from grandlattice.remote import host_cache
from grandlattice.remote.mirror import order_there
from grandlattice.runs.tasks import Task
from grandlattice.runs.work_order import Probe, Taken, TaskResult, WorkOrder
from grandlattice.runs.worker import end_of, end_with_children, work_for
from grandlattice.runs.workshop import Workshop
from grandlattice.tracer import can_denoise
from grandlattice.tracer.compiling.native import processor_class
from grandlattice.version import __version__

_LOOK_EVERY = 0.1  # seconds between looks whether a task is still wanted
_TOLD_EVERY = 0.5  # seconds between words of how far it is
_IDLE = 60.0  # seconds without a task after which a process of ours is let go, with the scene it holds
_FORGOTTEN = 600.0  # seconds without a task after which a slot forgets a run when another one comes
_STARTING = 120.0  # seconds a process of ours may take to begin
_PROBING = 120.0  # seconds it may take to answer a probe
_PACKAGES = ("numpy", "numba", "usd-core", "embreex", "OpenImageIO", "opencolorio", "pyoidn")


class SlotFacts(NamedTuple):
    """What a machine is, as far as its pictures depend on it.

    Attributes
    ----------
    version : of Grand Lattice, with its protocol.
    packages : versions of what pictures come from.
    processor : class of processor: those of one class make the same bytes.
    system : operating system and word.
    denoiser : whether it can denoise.
    host : the same for all slots that keep scenes in one folder.
    name : of the machine.
    cores, memory : processors, and bytes in all.
    pools : names of the pools it is of, which it was told by ``GRANDLATTICE_POOLS``.
    """

    version: str
    packages: tuple[str, ...]
    processor: str
    system: str
    denoiser: bool
    host: str
    name: str
    cores: int
    memory: int
    pools: tuple[str, ...] = ()

    def differs_from(self, other: SlotFacts) -> str:
        """Why its pictures would be others than those of another machine; empty where they are the same."""
        for name in ("version", "packages", "processor", "system", "denoiser"):
            one, two = getattr(self, name), getattr(other, name)
            if one != two:
                apart = (
                    [(a, b) for a, b in zip(one, two, strict=False) if a != b] if name == "packages" else []
                )
                there, here = apart[0] if apart else (one, two)
                return f"{name.removesuffix('s')} {there} there, {here} here"
        return ""


def slot_facts() -> SlotFacts:
    """What this machine is."""
    found = []
    for name in _PACKAGES:
        with suppress(PackageNotFoundError):
            found.append(f"{name} {version(name)}")
    return SlotFacts(
        f"{__version__}, protocol 3", tuple(found), processor_class(),
        f"{platform.system()} {platform.machine()}", can_denoise(), host_cache.host_id(), platform.node(),
        os.cpu_count() or 1, psutil.virtual_memory().total,
        tuple(filter(None, map(str.strip, os.environ.get("GRANDLATTICE_POOLS", "").split(",")))),
    )  # fmt: skip


class _Seat:
    """The process of ours that does this slot's tasks for one run."""

    def __init__(self, run: str, order: WorkOrder, gentle: bool) -> None:
        self.run, self.order, self._gentle = run, order, gentle
        self.log = host_cache.work_folder(run) / f"slot-{os.getpid()}.log"
        self._process: subprocess.Popen[bytes] | None = None
        self._pipe: Connection | None = None
        self._beginning, self._working = threading.Lock(), threading.Lock()
        self._used = time.monotonic()

    @contextmanager
    def at_work(self) -> Iterator[None]:
        """While a task is done, of which there is one at a time."""
        with self._working:
            try:
                yield
            finally:
                self._used = time.monotonic()

    def is_idle_since(self, moment: float) -> bool:
        """Whether nothing was done since a moment of the steady clock."""
        return not self._working.locked() and self._used < moment

    def pipe(self) -> Connection:
        """To the process, which is begun where there is none.

        Raises
        ------
        EOFError
            When it ends, or takes too long, before it answers.
        """
        with self._beginning:
            if self._pipe is None or self._process is None or self._process.poll() is not None:
                self.end()
                self._pipe = self._begun()
            return self._pipe

    def _begun(self) -> Connection:
        self.log.parent.mkdir(parents=True, exist_ok=True)
        key, arrived = secrets.token_bytes(32), threading.Event()
        with Listener(None, authkey=key) as listener:
            command = [sys.executable, "-c", "from grandlattice.remote.slot import main; main()"]
            self._process = process = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL
            )
            assert process.stdin is not None
            with process.stdin as told:
                pickle.dump((listener.address, key, str(self.log), os.getpid()), told)
            watch = threading.Thread(
                target=_wake, args=(process, listener.address, key, arrived), daemon=True
            )
            watch.start()
            try:
                pipe = listener.accept()
            finally:
                arrived.set()
        if process.poll() is not None:
            pipe.close()
            raise EOFError
        pipe.send((self.order, self._gentle))
        threading.Thread(target=self._let_go, args=(process,), daemon=True).start()
        return pipe

    def _let_go(self, process: subprocess.Popen[bytes]) -> None:
        """End a process that has had nothing to do for long: its coordinator is gone, or waits."""
        while process.poll() is None:
            time.sleep(_IDLE / 20)
            with self._beginning:
                if process is self._process and self.is_idle_since(time.monotonic() - _IDLE):
                    self.end()

    def memory(self) -> int:
        """Bytes that the process holds."""
        process = self._process
        with suppress(psutil.Error):
            return 0 if process is None else int(psutil.Process(process.pid).memory_info().rss)
        return 0

    def end(self) -> int | None:
        """End the process, at once; returns what it ended with by itself, None where it had not."""
        process, self._process = self._process, None
        pipe, self._pipe = self._pipe, None
        if pipe is not None:
            pipe.close()
        if process is None:
            return None
        code = process.poll()
        with suppress(psutil.Error):
            end_with_children(psutil.Process(process.pid))
        with suppress(subprocess.TimeoutExpired):
            process.wait(5.0)
        return code


def _wake(process: subprocess.Popen[bytes], address: Any, key: bytes, arrived: threading.Event) -> None:
    """Have a process waited for no longer that has ended, or takes too long to come."""
    until = time.monotonic() + _STARTING
    while not arrived.wait(_LOOK_EVERY):
        if process.poll() is not None or time.monotonic() > until:
            process.kill()
            process.wait()
            with suppress(OSError, EOFError, AuthenticationError):
                Client(address, authkey=key).close()
            return


_seats: dict[str, _Seat] = {}  # of this slot, by run


async def seat_at(run: str, order: bytes, scene: str | None, gentle: bool) -> str:
    """Have this slot ready for the tasks of a run; returns where its files stand until they are fetched.

    Raises
    ------
    EOFError
        When its process ends, or takes too long, before it answers.

    Parameters
    ----------
    order : pickled.
    scene : the folder of the scene on this machine; None: it sees the coordinator's own.
    """
    long_ago = time.monotonic() - _FORGOTTEN
    for other in [name for name, seat in _seats.items() if name != run and seat.is_idle_since(long_ago)]:
        leave(other)  # its coordinator is gone, or welcomes this slot anew when it comes back
    if run not in _seats:
        given: WorkOrder = pickle.loads(order)
        if scene is not None:
            given = order_there(given, Path(scene), host_cache.work_folder(run))
        _seats[run] = _Seat(run, given, gentle)
    seat = _seats[run]
    await asyncio.to_thread(seat.pipe)
    return str(seat.order.output)


async def probe(run: str, asked: bytes) -> Taken | None:
    """What a cell takes, measured by rendering it small; None where that went wrong.

    Parameters
    ----------
    asked : a `Probe`, pickled.
    """
    seat = _seats.get(run)
    return None if seat is None else await asyncio.to_thread(_probed, seat, pickle.loads(asked))


def _probed(seat: _Seat, asked: Probe) -> Taken | None:
    with seat.at_work():
        try:
            pipe = seat.pipe()
            pipe.send(asked)
            if pipe.poll(_PROBING):
                message = pipe.recv()
                return message if isinstance(message[0], float) else None
        except (EOFError, OSError):
            pass
        seat.end()  # it hangs, or is dead
        return None


def leave(run: str) -> None:
    """End what this slot does for a run, and remove what is left of it on this machine."""
    seat = _seats.pop(run, None)
    if seat is not None:
        seat.end()
    host_cache.end_run(run)


def give_up(run: str) -> None:
    """End the task under way; the slot stays."""
    if run in _seats:
        _seats[run].end()


def carry_out(run: str, task: bytes, key: str, topic: str) -> tuple[str, Any, str]:
    """Do a task in this slot; what came of it, more of that, and the log's end.

    It is ``done``, ``failed``, ``returned``, or ``unknown`` where the slot has forgotten the run.

    Parameters
    ----------
    key : of the engine's task, which tells whether it is waited for.
    topic : under which progress is told.
    """
    from distributed import get_worker

    seat = _seats.get(run)
    if seat is None:
        return "unknown", None, ""
    with seat.at_work():
        return _carried_out(seat, pickle.loads(task), key, topic, get_worker())


def _carried_out(seat: _Seat, given: Task, key: str, topic: str, worker: Any) -> tuple[str, Any, str]:
    told = 0.0
    try:
        pipe = seat.pipe()
        pipe.send(given)
        while True:
            while not pipe.poll(_LOOK_EVERY):
                if not is_wanted(worker, key):
                    seat.end()
                    return "returned", None, ""
            message = pipe.recv()
            if isinstance(message, float):
                if time.monotonic() - told < _TOLD_EVERY:
                    continue
                told = time.monotonic()
                with suppress(Exception):  # a word that is lost does no harm
                    worker.log_event(topic, (key, message, seat.memory()))
                continue
            break
    except (EOFError, OSError):
        code = seat.end()
        how = f" (signal {-code})" if code is not None and code < 0 else ""
        problem = WorkerError(
            f"The worker that rendered {given.first.address}, frame {given.frame}, ended without a word"
            f"{how}.",
            cure="give the same glat run again; if it happens again the frame may need more memory",
        )
        return "failed", (problem, ""), end_of(seat.log)
    if isinstance(message, TaskResult):
        return "done", message, ""
    if message is None:
        return "returned", None, ""
    problem, details, log = message
    return "failed", (problem, details), log


def is_wanted(worker: Any, key: str) -> bool:
    """Whether the engine still waits for a task of this worker.

    That is read from what the worker knows of itself, which takes no time; see
    ``distributed.worker_state_machine``.
    """
    found = worker.state.tasks.get(key)
    running = getattr(worker.status, "name", "") in ("running", "paused")
    return running and found is not None and found.state in ("executing", "long-running")


def main() -> None:
    """The process of a slot: `runs.worker.work_for` with a pipe to the slot."""
    address, key, log, parent = pickle.load(sys.stdin.buffer)
    pipe = Client(address, authkey=key)
    order, gentle = pipe.recv()
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    work_for(Workshop, order, pipe, threading.Event(), Path(log), gentle)


def _end_with(parent: int) -> None:
    while psutil.pid_exists(parent) and os.getppid() == parent:
        time.sleep(0.5)
    end_with_children(psutil.Process())


__all__ = ["SlotFacts", "carry_out", "give_up", "is_wanted", "leave", "probe", "seat_at", "slot_facts"]
