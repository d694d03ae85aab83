"""Code is written by other processes while types are still being found.

Both take about as long, and of the other each needs no more than names.  So every few functions a
process is split off, which has all that is known by then, writes their code and hands it back.  Where
no process can be split off their code is written here, in the same parts: the same machine code comes
of it.
"""

from __future__ import annotations

import gc
import os
import signal
import sys
import threading
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

Write = Callable[[list[Any]], bytes]
"""Functions → their code."""

_LENGTH = 8  # bytes in which the length of the code is told before it
_AT_ONCE = 24  # functions for one process; splitting it off costs those that are left a little time


class Writers:
    """Have functions written that are handed in one by one.

    Parameters
    ----------
    write : writes the code of some.
    """

    def __init__(self, write: Write) -> None:
        self._write = write
        self._waiting: list[Any] = []
        self._parts: list[tuple[list[Any], Apart | None]] = []

    def add(self, function: Any) -> None:
        """A function that is ready to be written."""
        self._waiting.append(function)
        if len(self._waiting) == _AT_ONCE:
            self._parts.append((self._waiting, Apart.begin(self._write, self._waiting)))
            self._waiting = []

    def written(self) -> list[bytes]:
        """The code of all functions, in the order they came."""
        last = self._write(self._waiting) if self._waiting else None  # while the others are still at it
        codes = [(apart and apart.result()) or self._write(part) for part, apart in self._parts]
        return codes if last is None else [*codes, last]

    def close(self) -> None:
        """Let those go that are still writing."""
        for _, apart in self._parts:
            if apart is not None:
                apart.close()


_at_work: list[Writers] = []
_known: list[Any] = []  # all functions there are


@contextmanager
def at_work(write: Write) -> Iterator[Writers]:
    """Writers for all functions whose types are known, or are found while this holds.

    Garbage is left where it is until then: looking for it touches all there is, and what is touched is
    copied for each process.
    """
    writers, collects = Writers(write), gc.isenabled()
    gc.disable()
    _at_work.append(writers)
    try:
        for function in _known:
            writers.add(function)
        yield writers
    finally:
        _at_work.remove(writers)
        writers.close()
        if collects:
            gc.enable()


def hand_in(function: Any) -> None:
    """Give a function to the writers at work, and to those that come after them."""
    _known.append(function)
    for writers in _at_work:
        writers.add(function)


class Apart:
    """A process that was split off to work something out."""

    def __init__(self, process: int, reader: int) -> None:
        self._process, self._reader = process, reader

    @classmethod
    def begin(cls, write: Write, functions: list[Any]) -> Apart | None:
        """Split off a process; None where that is not safe: other threads may hold what it would need."""
        if not sys.platform.startswith("linux") or threading.active_count() > 1:
            return None
        reader, writer = os.pipe()
        try:
            with warnings.catch_warnings():  # of threads that libraries keep: they are asked for nothing
                warnings.simplefilter("ignore", DeprecationWarning)
                process = os.fork()
        except OSError:
            os.close(reader)
            os.close(writer)
            return None
        if process == 0:
            with suppress(BaseException), os.fdopen(writer, "wb") as out:
                code = write(functions)
                out.write(len(code).to_bytes(_LENGTH, "little") + code)
            os._exit(0)
        os.close(writer)
        return cls(process, reader)

    def result(self) -> bytes | None:
        """What it worked out; None where that failed."""
        with os.fdopen(self._reader, "rb") as came:
            told, code = came.read(_LENGTH), came.read()
        self._reader = -1
        self._take_leave()
        return code if told and len(code) == int.from_bytes(told, "little") else None

    def close(self) -> None:
        """End it where its result is not needed."""
        if self._reader >= 0:
            os.close(self._reader)
            self._reader = -1
            os.kill(self._process, signal.SIGKILL)
            self._take_leave()

    def _take_leave(self) -> None:
        with suppress(ChildProcessError):  # some programs have it done by the system
            os.waitpid(self._process, 0)
