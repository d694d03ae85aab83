"""Where files land.  A file is whole or absent: a worker *prepares* it under a temporary name in its own
folder and flushes it to the disk; the coordinator lets it *land*, which renames it.

`Store` is the seam for other places than a folder.
"""

from __future__ import annotations

import errno
import os
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from hashlib import blake2b, file_digest
from pathlib import Path, PurePosixPath
from typing import Protocol

from grandlattice._support.filesystem import is_link, lineage, links_among
from grandlattice.errors import DiskFull, ImageError, OutputError
from grandlattice.runs.renderer_process import end_noted_process
from grandlattice.runs.temporary_files import is_part, new_attempt, part_of

_digest = partial(blake2b, digest_size=16)


@dataclass(frozen=True)
class Prepared:
    """A file that is whole and has not its name yet.

    Attributes
    ----------
    path : where it lands, relative to the store.
    part : where it stands, relative to the store.
    size : bytes.
    digest : of its bytes, 32 hexadecimal digits.
    """

    path: str
    part: str
    size: int
    digest: str


class Store(Protocol):
    """A place for finished files, named by paths relative to it with ``/`` between folders.

    Workers prepare pictures, in whatever process or machine they run; the coordinator of a run alone lets
    them land, so that there is one writer of their names.
    """

    def prepare(self, path: str, write: Callable[[Path], None], attempt: str = "") -> Prepared:
        """Have `write` fill a temporary file, and flush it.

        Raises
        ------
        OutputError
            When it cannot be written.
        """
        ...

    def land(self, prepared: Prepared, keep: str | None = None) -> None:
        """Verify a prepared file and give it its name; what stood there goes below the folder `keep` first,
        where one is named.

        Raises
        ------
        OutputError
            When it is not what was prepared, or cannot get its name.
        """
        ...

    def path(self, path: str) -> Path:
        """Where a file can be read on this machine."""
        ...

    def size(self, path: str) -> int | None:
        """Size of a file in bytes, None where there is none."""
        ...

    def remove(self, path: str) -> None:
        """Remove a file, and its folder when that is empty then."""
        ...

    def remove_parts(self, paths: Iterable[str]) -> int:
        """Remove temporary files that a try of a task may have left behind; returns how many there were."""
        ...

    def free_bytes(self) -> int:
        """Room that is left."""
        ...


class FolderStore:
    """A folder of this machine.

    The folder itself may be a link, to a larger disk for instance, and so may the fixed folders at
    the beginning of a plan's output templates.  Links below those are never followed.

    Parameters
    ----------
    folder : made when the first file lands.
    fixed : folders below it, relative, with which templates begin.
    """

    def __init__(self, folder: Path, fixed: Iterable[str] = ()) -> None:
        self.folder = folder
        self._fixed = frozenset(parent for top in fixed for parent in lineage(top))

    def path(self, path: str) -> Path:
        """The full path of a file.

        Raises
        ------
        OutputError
            When it would lie outside the folder, by way of a link for instance.
        """
        parts = PurePosixPath(path).parts
        if ".." in parts or PurePosixPath(path).is_absolute():
            raise OutputError(f"{path} would land outside the output folder {self.folder}.")
        at = self.folder
        for k, part in enumerate(parts[:-1]):
            at = at / part
            if is_link(at) and "/".join(parts[: k + 1]) not in self._fixed:
                raise OutputError(
                    f"{path} would land outside the output folder: {at} is a link to {at.resolve()}.",
                    cure="remove the link, or let the output template begin with its folder",
                )
        return self.folder / path

    def links(self) -> list[tuple[Path, Path]]:
        """Links that are followed: the folder or a fixed folder, and where each leads."""
        return [(link, link.resolve()) for link in links_among(self.folder, sorted(self._fixed))]

    def size(self, path: str) -> int | None:
        try:
            return self.path(path).lstat().st_size
        except OSError:
            return None

    def is_link(self, path: str) -> bool:
        """Whether a link stands where a file will be; no run makes one."""
        return is_link(self.path(path))

    def listing(self, folder: str) -> dict[str, int]:
        """Names and sizes of the files and links in a folder; none where there is no such folder."""
        try:
            with os.scandir(self.folder / folder) as entries:
                return {
                    entry.name: entry.stat(follow_symlinks=False).st_size
                    for entry in entries
                    if entry.is_symlink() or entry.is_file()
                }
        except OSError:
            return {}

    def folders(self, top: str, depth: int) -> Iterator[str]:
        """A folder and those below it, `depth` levels deep, as paths relative to the store.

        Links are followed to fixed folders only.

        Raises
        ------
        OutputError
            When `top` lies behind another link.
        """
        self.path(f"{top}/any" if top else "any")
        yield top
        for name in self._below(top, links=False) if depth > 0 else ():
            yield from self.folders(name, depth - 1)

    def links_below(self, top: str, depth: int) -> Iterator[str]:
        """Folders below `top` that are links and never followed, as paths relative to the store."""
        if depth > 0:
            yield from (name for name in self._below(top, links=True) if name not in self._fixed)
            for name in self._below(top, links=False):
                yield from self.links_below(name, depth - 1)

    def _below(self, top: str, links: bool) -> list[str]:
        """Folders right below a folder: those that are links which are not followed, or the others."""
        found = []
        with suppress(OSError), os.scandir(self.folder / top) as entries:
            for entry in entries:
                path = f"{top}/{entry.name}" if top else entry.name
                followed = not entry.is_symlink() or path in self._fixed
                if entry.is_dir() and not entry.name.startswith(".") and followed != links:
                    found.append(path)
        return sorted(found)

    def prepare(self, path: str, write: Callable[[Path], None], attempt: str = "") -> Prepared:
        """Have `write` fill a temporary file, and flush it to the disk.

        Parameters
        ----------
        attempt : the try of a task that writes it, see `temporary_files`; one of its own by default.

        Raises
        ------
        OutputError
            When it cannot be written, or would lie outside the folder.
        """
        full = self.path(path)
        part = part_of(path, attempt or new_attempt())
        there = self.path(part)
        try:
            full.parent.mkdir(parents=True, exist_ok=True)
            self._fill(there, write)
            with there.open("rb+") as stream:
                os.fsync(stream.fileno())
                digest = file_digest(stream, _digest).hexdigest()
            return Prepared(path, part, there.stat().st_size, digest)
        except BaseException as problem:
            # A full disk is known by what is left on it before the part goes.
            told = self._explained(full, problem) if isinstance(problem, OSError | ImageError) else None
            with suppress(OSError):
                there.unlink(missing_ok=True)
            if told is not None:
                raise told from problem
            raise

    def _fill(self, there: Path, write: Callable[[Path], None]) -> None:
        """Have a temporary file written, and once more when the first time failed for no known reason.

        A library for pictures does not say that the disk was full, and by the time we look another
        file may have gone or room been made: then the second time succeeds, or tells what is wrong.
        """
        try:
            write(there)
        except ImageError:
            if _is_full(there.parent):
                raise
            with suppress(OSError):
                there.unlink(missing_ok=True)
            write(there)

    def land(self, prepared: Prepared, keep: str | None = None) -> None:
        full, part = self.path(prepared.path), self.path(prepared.part)
        try:
            if part.stat().st_size != prepared.size:
                raise OutputError(f"{full} was changed before it had its name, and was not taken.")
            if keep is not None and os.path.lexists(full):
                aside = self.path(f"{keep}/{prepared.path}")
                aside.parent.mkdir(parents=True, exist_ok=True)
                os.replace(full, aside)
            os.replace(part, full)
        except OSError as problem:
            raise self._explained(full, problem) from problem

    def put(self, path: str, write: Callable[[Path], None], attempt: str = "") -> int:
        """Prepare a file and let it land at once; returns its size in bytes.

        Raises
        ------
        OutputError
            When it cannot be written, or would lie outside the folder.
        """
        prepared = self.prepare(path, write, attempt)
        self.land(prepared)
        return prepared.size

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
        with suppress(OSError):
            full.parent.rmdir()

    def remove_parts(self, paths: Iterable[str]) -> int:
        """Remove temporary files and folders that a try of a task may have left behind.

        Parameters
        ----------
        paths : as the ledger noted them before they were made.  One that has not the form of our
            temporary names, is a link, or lies behind one, is left alone.

        Returns
        -------
        How many there were.
        """
        removed = 0
        for path in paths:
            if not is_part(path):
                continue
            try:
                full = self.path(path)
            except OutputError:
                continue
            if full.is_symlink() or not full.exists():
                continue
            removed += 1
            if full.is_dir():
                end_noted_process(full)
                shutil.rmtree(full, ignore_errors=True)
            else:
                with suppress(OSError):
                    full.unlink()
        return removed

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
        try:
            number, probe = tempfile.mkstemp(prefix=".lattice-probe-", dir=there)
        except OSError as problem:
            raise self._explained(self.folder / "picture", problem) from None
        os.close(number)
        with suppress(OSError):
            os.unlink(probe)

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
