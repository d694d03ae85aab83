"""Processes that do not import the script they were started from, and end quietly when their parent is gone.

Python starts a new process by importing the caller's main script again, which runs a script that
has no ``if __name__ == "__main__":`` a second time, and fails where there is no script at all.
Workers need nothing from it.
"""

from __future__ import annotations

import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing import resource_tracker, spawn
from typing import Any


@contextmanager
def without_main_script() -> Iterator[None]:
    """While this holds, new processes start without the caller's main script."""
    main = sys.modules["__main__"]
    kept: dict[str, Any] = {
        name: main.__dict__[name] for name in ("__file__", "__spec__") if name in main.__dict__
    }
    main.__dict__.pop("__file__", None)
    main.__spec__ = None
    line = spawn.get_command_line
    spawn.get_command_line = lambda **told: [_quiet(part) for part in line(**told)]
    try:
        yield
    finally:
        main.__dict__.update(kept)
        spawn.get_command_line = line


_FOR_THE_COORDINATOR = [
    number for name in ("SIGINT", "SIGTERM", "SIGHUP") if (number := getattr(signal, name, None)) is not None
]


@contextmanager
def signals_held() -> Iterator[None]:
    """While this holds, signals that end a run wait; processes that begin meanwhile hold them, too.

    A terminal sends Ctrl-C to every process it started: one that is just beginning would die of it.
    """
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, _FOR_THE_COORDINATOR)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


@contextmanager
def helper_is_quiet() -> Iterator[None]:
    """While this holds, Python's helper begins so that it says nothing when it tidies up after a process that
    was killed: it would tell an artist of leaked semaphores."""
    before = list(sys.warnoptions)
    sys.warnoptions.append("ignore::UserWarning:multiprocessing.resource_tracker")
    try:
        resource_tracker.ensure_running()
        yield
    finally:
        sys.warnoptions[:] = before


def leave_signals_to_coordinator() -> None:
    """Have this process do nothing of its own when the system asks a run to end.

    Its handlers do nothing rather than being ignored: programs that it starts do not inherit them.
    """
    for number in _FOR_THE_COORDINATOR:
        signal.signal(number, lambda *_: None)
    if hasattr(signal, "pthread_sigmask"):
        signal.pthread_sigmask(signal.SIG_UNBLOCK, _FOR_THE_COORDINATOR)


def _quiet(part: str | bytes) -> str | bytes:
    """Part of a command line, which says nothing where its parent died before it told what is to be done."""
    if isinstance(part, bytes):  # the interpreter's place
        return part
    head, found, call = part.partition("; spawn_main(")
    if not found:
        return part
    return f"{head}\ntry:\n    spawn_main({call}\nexcept EOFError:\n    raise SystemExit(1)"
