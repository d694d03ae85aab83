"""Files on their way: a scene to the machines of a cluster, pictures back from them.

Both go in parts, so that no machine holds more of a file than one, and are verified by their content.
"""

from __future__ import annotations

import errno
import hashlib
import os
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

from grandlattice._support.readable import size
from grandlattice.errors import DiskFull, OutputError
from grandlattice.remote import host_cache
from grandlattice.remote.engine import Engine
from grandlattice.remote.mirror import Mirror, mirrored
from grandlattice.remote.slot import SlotFacts
from grandlattice.runs.files_between_tasks import files_that_may_be_left
from grandlattice.runs.store import Prepared
from grandlattice.runs.tasks import Task
from grandlattice.runs.work_order import TaskResult, WorkOrder

_PART = 8_000_000  # bytes sent at once
_SENT = 3  # times a file is sent that comes over damaged
_PUTTING = 300.0  # seconds a machine may take to put a scene together


class Carrier:
    """Brings the files of one run to machines, and its pictures back.

    Attributes
    ----------
    on_the_way : what goes to a machine now, with its rate; empty where nothing does.
    """

    def __init__(self, order: WorkOrder, engine: Engine, run: str) -> None:
        self._order, self._engine, self._run = order, engine, run
        self.on_the_way = ""
        self._mirror: Mirror | None = None
        self._lock = threading.Lock()
        self._hosts: dict[str, threading.Lock] = {}
        self._scenes: dict[str, str] = {}  # host → folder of the scene there

    def close(self) -> None:
        """Remove what was written for the way."""
        if self._mirror is not None:
            self._mirror.close()

    def forget_host(self, host: str) -> None:
        """A machine has gone: it may come back with another disk."""
        self._scenes.pop(host, None)

    def scene_on(self, facts: SlotFacts, address: str) -> str:
        """The folder of the scene on a machine; what is not there of it is brought, once for all its slots.

        Raises
        ------
        OutputError
            When a file comes over damaged each time.
        """
        with self._lock:
            of_host = self._hosts.setdefault(facts.host, threading.Lock())
            if self._mirror is None:
                self._mirror = mirrored(self._order)
        mirror = self._mirror
        with of_host:
            if facts.host not in self._scenes:
                try:
                    self._bring(mirror, facts.name, address)
                finally:
                    self.on_the_way = ""
                told = mirror.manifest.digest, list(mirror.manifest.files)
                self._scenes[facts.host] = str(
                    self._engine.ask_one(host_cache.assembled, *told, worker=address, seconds=_PUTTING)
                )
            return self._scenes[facts.host]

    def _bring(self, mirror: Mirror, name: str, address: str) -> None:
        wanted = {file.sha256: file.size for file in mirror.manifest.files}
        for _ in range(_SENT):
            lacking = self._engine.ask_one(host_cache.lacking, list(wanted.items()), worker=address)
            if not lacking:
                return
            whole, sent = sum(wanted[sha256] - there for sha256, there in lacking.items()), 0
            started = time.monotonic()
            for sha256, at in lacking.items():
                with mirror.sources[sha256].open("rb") as stream:
                    stream.seek(at)
                    while data := stream.read(_PART):
                        self._engine.ask_one(host_cache.take_part, sha256, at, data, worker=address)
                        at, sent = at + len(data), sent + len(data)
                        rate = sent / max(time.monotonic() - started, 1e-3)
                        self.on_the_way = (
                            f"the scene goes to {name}: {size(sent)} of {size(whole)}, {size(rate)} a second"
                        )
                with suppress(OutputError):  # damaged: it is lacking still
                    self._engine.ask_one(host_cache.complete, sha256, worker=address)
        raise OutputError(
            f"Files of the scene come over damaged to {name}.", cure="look at its line and disk"
        )

    def bring_along(self, paths: Sequence[str], address: str, heard: Callable[[], None]) -> None:
        """Bring files to a machine that a task there begins with; see `files_between_tasks`.

        Parameters
        ----------
        heard : called when something went.
        """
        for path in paths:
            with self._order.store.path(path).open("rb") as stream:
                at = 0
                while (data := stream.read(_PART)) or not at:
                    self._engine.ask_one(host_cache.take_file, self._run, path, at, data, worker=address)
                    at += max(1, len(data))
                    heard()

    def fetch(self, task: Task, result: TaskResult, address: str, heard: Callable[[], None]) -> None:
        """Bring the files of a task here, under their temporary names, and what it left for later ones.

        Parameters
        ----------
        heard : called when something came.

        Raises
        ------
        OutputError
            When one comes over damaged, or cannot be written; no file of the task is left then.
        """
        parts = [prepared.part for prepared, _ in result.files]
        left: dict[str, tuple[int, str]] = {}
        try:
            for prepared, _ in result.files:
                self._fetch_file(
                    prepared.part, self._order.store.path(prepared.part), prepared, address, heard
                )
            may_be = files_that_may_be_left(self._order, task, result)
            if may_be:
                left = self._engine.ask_one(host_cache.digests_of, self._run, may_be, worker=address)
            for path, (length, digest) in left.items():
                told = Prepared(path, path, length, digest)

                def write(full: Path, told: Prepared = told) -> None:
                    self._fetch_file(told.path, full, told, address, heard)

                self._order.store.put(path, write, task.attempt)
        except BaseException:
            self._order.store.remove_parts(parts)
            raise
        finally:
            with suppress(Exception):  # what is left there goes when the run ends
                self._engine.ask_one(host_cache.forget, self._run, [*parts, *left], worker=address)

    def _fetch_file(
        self, there: str, full: Path, prepared: Prepared, address: str, heard: Callable[[], None]
    ) -> None:
        whole, at = hashlib.blake2b(digest_size=16), 0
        try:
            full.parent.mkdir(parents=True, exist_ok=True)
            with full.open("wb") as stream:
                while at < prepared.size:
                    asked = self._run, there, at, min(_PART, prepared.size - at)
                    data = self._engine.ask_one(host_cache.read_part, *asked, worker=address)
                    if not data:
                        break
                    stream.write(data)
                    whole.update(data)
                    at += len(data)
                    heard()
                stream.flush()
                os.fsync(stream.fileno())
        except TimeoutError:  # of the line; it is an OSError by name alone
            raise
        except OSError as problem:
            raise _explained(full, problem) from problem
        if (at, whole.hexdigest()) != (prepared.size, prepared.digest):
            raise OutputError(f"{prepared.path} came over damaged.", cure="it is rendered again")


def _explained(full: Path, problem: OSError) -> OutputError:
    if problem.errno == errno.ENOSPC:
        return DiskFull(f"The disk of {full.parent} is full.", cure="make room; what is done is kept")
    return OutputError(f"{full.parent} cannot be written to: {problem.strerror or problem}.")
