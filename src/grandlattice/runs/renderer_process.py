"""The process of an outside renderer: begun, listened to, and ended with everything it started.

It has a session of its own: what it sends to its process group does not reach us, and a Ctrl-C in
our terminal does not reach it.  A note of it lies in its exchange folder, so that a run that cleans up
after a worker that was killed ends the renderer too.
"""

from __future__ import annotations

import json
import os
import platform
import queue
import signal
import subprocess
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import psutil

_NOTE = "process.json"
_LONGEST = 4096  # bytes of a line that are kept
_AT_ONCE = 1 << 16  # bytes
_MOST_WAITING = 1000  # lines; a renderer that says more waits until we have listened
_LAST_WORDS = 1.0  # seconds in which what a renderer said last may still come


class RendererProcess:
    """A command that runs.

    Parameters
    ----------
    command : program and arguments; no shell is involved.
    folder : where it runs.
    exchange : the folder that the note of it is put into.
    environment : variables over those of this process.

    Raises
    ------
    OSError
        When it cannot be started.
    """

    def __init__(
        self, command: Sequence[str], folder: Path, exchange: Path, environment: Mapping[str, str]
    ) -> None:
        self._process = subprocess.Popen(
            command, cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT, env={**os.environ, **environment}, start_new_session=True,
        )  # fmt: skip
        _write_note(self._process.pid, exchange)
        self._lines: queue.Queue[str | None] = queue.Queue(_MOST_WAITING)
        threading.Thread(target=self._read, daemon=True).start()

    def lines(self, every: float) -> Iterator[str]:
        """Lines of its output, until it has ended; an empty text where nothing came for
        `every` seconds.

        A helper that it leaves behind may hold our pipe open; that is not waited for.
        """
        while True:
            over = self._process.poll() is not None
            try:
                line = self._lines.get(timeout=_LAST_WORDS if over else every)
            except queue.Empty:
                if over:
                    return
                line = ""
            if line is None:
                return
            yield line

    def wait(self) -> int:
        """Its exit code; below zero the signal that ended it."""
        return self._process.wait()

    def end(self) -> None:
        """End it, if it still runs, and everything it left behind in its session."""
        family = []
        with suppress(psutil.Error):
            family = psutil.Process(self._process.pid).children(recursive=True)
        _end_group(self._process.pid)
        for member in family:
            with suppress(psutil.Error):
                member.kill()
        if self._process.poll() is None:
            self._process.kill()
        self._process.wait()

    def _read(self) -> None:
        """Put lines into the queue; of one that is very long only its beginning."""
        assert self._process.stdout is not None
        number, line = self._process.stdout.fileno(), bytearray()
        with suppress(OSError, ValueError):
            while chunk := os.read(number, _AT_ONCE):
                *whole, rest = chunk.replace(b"\r\n", b"\n").replace(b"\r", b"\n").split(b"\n")
                for part in whole:
                    line += part[: _LONGEST - len(line)]
                    self._lines.put(line.decode("utf-8", "replace"))
                    line.clear()
                line += rest[: _LONGEST - len(line)]
        if line:
            self._lines.put(line.decode("utf-8", "replace"))
        self._lines.put(None)


def _end_group(pid: int) -> None:
    """End all processes of a session's first group; it keeps its number until the last of them is gone."""
    if hasattr(os, "killpg"):
        with suppress(OSError):
            os.killpg(pid, signal.SIGKILL)


def _write_note(pid: int, exchange: Path) -> None:
    with suppress(OSError, psutil.Error):
        told = {"pid": pid, "created": psutil.Process(pid).create_time(), "host": platform.node()}
        (exchange / _NOTE).write_text(json.dumps(told), encoding="utf-8")


def end_noted_process(exchange: Path) -> None:
    """End the renderer that was noted in an exchange folder, where it still runs on this machine."""
    try:
        told = json.loads((exchange / _NOTE).read_text(encoding="utf-8"))
        process = psutil.Process(told["pid"])
        if told["host"] != platform.node() or abs(process.create_time() - told["created"]) > 0.5:
            return
        family = process.children(recursive=True)
    except (OSError, ValueError, KeyError, TypeError, psutil.Error):
        return
    _end_group(process.pid)
    for member in (process, *family):
        with suppress(psutil.Error):
            member.kill()
