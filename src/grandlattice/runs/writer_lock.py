"""One writer of an output folder at a time, kept by a lock that the system lets go of when the process ends,
however it ends."""

from __future__ import annotations

import os
import platform
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

from grandlattice.errors import OutputError, RunError, RunUnderWay
from grandlattice.runs.ledger import Ledger

_LOCK_WITHIN = 1.0  # seconds; `is_under_way` holds the lock for an instant


@contextmanager
def sole_writer(ledger: Ledger) -> Iterator[None]:
    """Hold the output of a plan, so that no other process runs it meanwhile.

    Raises
    ------
    RunUnderWay
        When another process holds it.
    """
    file = lock_file(ledger)
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise OutputError(
            f"{file.parent} cannot be made: {problem.strerror}.", cure="choose another folder with --into"
        ) from problem
    if file.is_symlink():
        raise RunError(f"{file} is a link, and links are not written through.", cure="move the link away")
    lock = FileLock(file, timeout=_LOCK_WITHIN)
    try:
        lock.acquire()
    except Timeout:
        raise RunUnderWay(
            f"A run of {ledger.file.name.split('.')[0]} writes to this folder already{_whose(file)}.",
            cure="glat status --follow shows it, glat stop ends it; other cells can be added to it with "
            "glat retry and glat priority, another plan with glat add",
        ) from None
    except OSError as problem:
        raise RunError(
            f"{file} cannot be locked: {problem.strerror}.", cure="choose another folder with --into"
        ) from problem
    holder = file.with_suffix(".holder")
    ours = _write_holder(holder)
    try:
        yield
    finally:
        if ours:
            holder.unlink(missing_ok=True)
        lock.release()


def _write_holder(file: Path) -> bool:
    """Say in a file beside the lock who holds it; False where something else stands in its place."""
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
    try:
        if _whose(file.with_suffix(".lock")) and not file.is_symlink():  # of a run that was killed
            file.unlink(missing_ok=True)
        with os.fdopen(os.open(file, flags, 0o644), "w", encoding="utf-8") as stream:
            stream.write(f"{os.getpid()} {platform.node()} {time.time():.0f}")
    except OSError:
        return False
    return True


def lock_file(ledger: Ledger) -> Path:
    """What is locked while a run writes."""
    return ledger.file.with_name(f".{ledger.file.stem.removesuffix('.ledger')}.lock")


def is_under_way(ledger: Ledger) -> bool:
    """Whether a process runs this plan now."""
    file = lock_file(ledger)
    if not file.exists() or file.is_symlink():
        return False
    lock = FileLock(file, timeout=0)
    try:
        lock.acquire()
    except Timeout:
        return True
    except OSError:
        return False
    lock.release()
    return False


def _whose(file: Path) -> str:
    try:
        pid, host, since = file.with_suffix(".holder").read_text().split()
        began = time.strftime("%H:%M", time.localtime(float(since)))
    except (OSError, ValueError):
        return ""
    return f", since {began}, as process {pid} on {host}"
