"""Where files land.  A file is whole or absent: it is written under a temporary name in its own
folder, flushed to the disk, and renamed.

`Store` is the seam for other places than a folder.
"""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Protocol

from grandlattice.errors import DiskFull, ImageError, OutputError

_PART = ".part"


class Store(Protocol):
    """A place for finished files, named by paths relative to it with ``/`` between folders."""

    def put(self, path: str, write: Callable[[Path], None]) -> int:
        """Have `write` fill a temporary file, then give it its name; returns its size in bytes."""
        ...

    def size(self, path: str) -> int | None:
        """Size of a file in bytes, None where there is none."""
        ...


class FolderStore:
    """A folder of this machine.

    Parameters
    ----------
    folder : made when the first file lands.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def path(self, path: str) -> Path:
        """The full path of a file.

        Raises
        ------
        OutputError
            When it would lie outside the folder, by way of a link for instance.
        """
        full = self.folder / path
        if not full.parent.resolve().is_relative_to(self.folder.resolve()):
            raise OutputError(
                f"{path} would land outside the output folder, at {full.parent.resolve()}.",
                cure="remove the link in the output folder that leads away",
            )
        return full

    def size(self, path: str) -> int | None:
        try:
            return self.path(path).stat().st_size
        except OSError:
            return None

    def listing(self, folder: str) -> dict[str, int]:
        """Names and sizes of the files in a folder; none where there is no such folder."""
        try:
            with os.scandir(self.folder / folder) as entries:
                return {entry.name: entry.stat().st_size for entry in entries if entry.is_file()}
        except OSError:
            return {}

    def folders(self, top: str, depth: int) -> Iterator[str]:
        """A folder and those below it, `depth` levels deep, as paths relative to the store.

        Raises
        ------
        OutputError
            When one of them is a link that leads away.
        """
        self.path(f"{top}/any" if top else "any")
        yield top
        if depth > 0:
            try:
                with os.scandir(self.folder / top) as entries:
                    below = sorted(entry.name for entry in entries if entry.is_dir())
            except OSError:
                return
            for name in below:
                if not name.startswith("."):
                    yield from self.folders(f"{top}/{name}" if top else name, depth - 1)

    def keep(self, path: str, folder: str) -> None:
        """Move a file away, into `folder` of the store, before another takes its name."""
        full, kept = self.path(path), self.path(f"{folder}/{path}")
        if full.exists():
            kept.parent.mkdir(parents=True, exist_ok=True)
            os.replace(full, kept)

    def put(self, path: str, write: Callable[[Path], None]) -> int:
        full = self.path(path)
        part = full.with_name(f".{full.stem}.{os.getpid()}{_PART}{full.suffix}")
        try:
            full.parent.mkdir(parents=True, exist_ok=True)
            write(part)
            with part.open("rb+") as stream:
                os.fsync(stream.fileno())
            size = part.stat().st_size
            os.replace(part, full)
            return size
        except (OSError, ImageError) as problem:
            raise self._explained(full, problem) from problem
        finally:
            part.unlink(missing_ok=True)

    def _explained(self, full: Path, problem: OSError | ImageError) -> OutputError:
        number = problem.errno if isinstance(problem, OSError) else None
        if number in (errno.EACCES, errno.EPERM, errno.EROFS):
            return OutputError(
                f"The folder {full.parent} cannot be written to.",
                cure="change its permissions, or name another folder with --into",
            )
        if number == errno.ENOSPC or _is_full(full.parent):
            return DiskFull(
                f"The disk of {full.parent} is full, so {full.name} was not written.",
                cure="make room, then give the same glat run again; what is done is kept",
            )
        return OutputError(f"{full} could not be written: {problem}")

    def remove(self, path: str) -> None:
        """Remove a file, and its folder when that is empty then."""
        full = self.path(path)
        full.unlink(missing_ok=True)
        try:
            full.parent.rmdir()
        except OSError:
            pass

    def sweep(self, process: int | None = None) -> int:
        """Remove what interrupted writes left, of one process or of all; returns how many files."""
        mark = f".{process}{_PART}." if process is not None else f"{_PART}."
        left = [
            Path(folder, name)
            for folder, below, files in os.walk(self.folder)
            for name in (*files, *below)
            if name.startswith(".") and mark in name
        ]
        for path in left:
            if path.is_dir() and not path.is_symlink():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)
        return len(left)

    def refuse_unwritable(self) -> None:
        """Find out now, not at the first picture, whether files can be written.

        Raises
        ------
        OutputError
            When they cannot.
        """
        there = self.folder
        while not there.exists():
            there = there.parent
        probe = there / f".lattice-probe-{os.getpid()}{_PART}"
        try:
            probe.write_bytes(b"")
        except OSError as problem:
            raise self._explained(self.folder / "picture", problem) from None
        finally:
            try:
                probe.unlink(missing_ok=True)
            except OSError:
                pass

    def free_bytes(self) -> int:
        """Room left on the disk of the folder."""
        there = self.folder
        while not there.exists():
            there = there.parent
        return shutil.disk_usage(there).free


def _is_full(folder: Path) -> bool:
    try:
        return shutil.disk_usage(folder).free < 1 << 16
    except OSError:
        return False
