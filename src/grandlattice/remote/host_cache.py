"""Files of scenes on a machine that renders for another one: kept by content, put together for each scene.

A file comes in parts, is verified, and stays until `clean`; what came before a line was cut is not sent
again.  Scenes are folders of links to what is kept, read-only, with every file at the place it has where it
comes from.
"""

from __future__ import annotations

import hashlib
import os
import re
import secrets
import shutil
import stat
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path

from grandlattice._support.user_cache import cache_folder
from grandlattice.errors import OutputError
from grandlattice.remote.manifest import PackedFile

_PART = 1 << 20  # bytes that are read at once


def host_folder() -> Path:
    """Where this machine keeps what it renders for others."""
    return cache_folder() / "cluster"


def host_id() -> str:
    """Names this folder: one word for all that keep scenes in it, whatever process or machine they are."""
    file = host_folder() / "id"
    if not file.exists():
        file.parent.mkdir(parents=True, exist_ok=True)
        part = file.with_name(f".id.{secrets.token_hex(4)}.part")
        part.write_text(secrets.token_hex(16))
        try:
            os.link(part, file)  # the first that comes names it
        except OSError:
            if not file.exists():  # the disk knows no links
                part.replace(file)
        part.unlink(missing_ok=True)
    return file.read_text()


def _kept(sha256: str) -> Path:
    if not re.fullmatch(r"[0-9a-f]{64}", sha256):
        raise OutputError(f"{sha256[:80]!r} is no sha256.")
    return host_folder() / "blobs" / sha256[:2] / sha256


def _coming(sha256: str) -> Path:
    kept = _kept(sha256)
    return kept.with_name(f".{kept.name}.part")


def lacking(files: Iterable[tuple[str, int]]) -> dict[str, int]:
    """Of files, by sha256 and size, those that are not here; and how many bytes of each are already."""
    found = {}
    for sha256, size in files:
        with suppress(OSError):
            if _kept(sha256).stat().st_size == size:
                continue
        try:
            there = _coming(sha256).stat().st_size
        except OSError:
            there = 0
        found[sha256] = there if there <= size else 0
    return found


def take_part(sha256: str, at: int, data: bytes) -> int:
    """Take a part of a file; returns how many bytes of it are here."""
    part = _coming(sha256)
    part.parent.mkdir(parents=True, exist_ok=True)
    with part.open("r+b" if part.exists() else "xb") as stream:
        stream.seek(at)
        stream.truncate()
        stream.write(data)
        return stream.tell()


def complete(sha256: str) -> None:
    """Verify a file that came whole, and keep it.

    Raises
    ------
    OutputError
        When it is another one; it has to come anew then.
    """
    part = _coming(sha256)
    part.parent.mkdir(parents=True, exist_ok=True)
    with part.open("ab+") as stream:  # one without content never came in parts
        os.fsync(stream.fileno())
        stream.seek(0)
        found = hashlib.file_digest(stream, "sha256").hexdigest()
    if found != sha256:
        part.unlink()
        raise OutputError("A file of the scene came over damaged.", cure="it is sent again")
    part.chmod(stat.S_IREAD | stat.S_IRGRP | stat.S_IROTH)
    part.replace(_kept(sha256))


def assembled(digest: str, files: Sequence[PackedFile]) -> Path:
    """The folder of a scene, all of whose files are here.

    Parameters
    ----------
    digest : of its manifest.
    """
    if not re.fullmatch(r"[0-9a-f]{64}", digest):
        raise OutputError(f"{digest[:80]!r} is no sha256.")
    whole = host_folder() / "scenes" / digest
    if whole.is_dir():
        return whole
    made = whole.with_name(f".{digest}.{os.getpid()}.part")
    shutil.rmtree(made, ignore_errors=True)
    for file in files:
        place = made / file.path
        place.parent.mkdir(parents=True, exist_ok=True)
        try:
            os.link(_kept(file.sha256), place)
        except OSError:  # the disk knows no links, or no more of this file
            shutil.copyfile(_kept(file.sha256), place)
    made.mkdir(parents=True, exist_ok=True)
    try:
        made.replace(whole)
    except OSError:
        if not whole.is_dir():  # another slot of this machine was first
            raise
        shutil.rmtree(made, ignore_errors=True)
    return whole


def work_folder(run: str) -> Path:
    """Where pictures of a run stand on this machine until they are fetched."""
    if not re.fullmatch(r"[0-9A-Za-z-]{1,64}", run):
        raise OutputError(f"{run[:80]!r} is no name of a run.")
    return host_folder() / "work" / run


def take_file(run: str, path: str, at: int, data: bytes) -> None:
    """Take a part of a file that a task of a run begins with; it is there when all parts came, in order."""
    full = _of_run(run, path)
    full.parent.mkdir(parents=True, exist_ok=True)
    with full.open("r+b" if at else "wb") as stream:
        stream.seek(at)
        stream.write(data)


def digests_of(run: str, paths: Sequence[str]) -> dict[str, tuple[int, str]]:
    """Sizes and digests of those of some files of a run that are here."""
    found = {}
    for path in paths:
        with suppress(OSError), _of_run(run, path).open("rb") as stream:
            digest = hashlib.file_digest(stream, lambda: hashlib.blake2b(digest_size=16)).hexdigest()
            found[path] = stream.tell(), digest
    return found


def read_part(run: str, path: str, at: int, size: int) -> bytes:
    """A part of a file that a run made here."""
    with _of_run(run, path).open("rb") as stream:
        stream.seek(at)
        return stream.read(size)


def forget(run: str, paths: Iterable[str]) -> None:
    """Remove files of a run that were fetched, or are not wanted."""
    for path in paths:
        with suppress(OSError, OutputError):
            _of_run(run, path).unlink()


def end_run(run: str) -> None:
    """Remove what is left of a run."""
    shutil.rmtree(work_folder(run), ignore_errors=True)


def _of_run(run: str, path: str) -> Path:
    folder = work_folder(run)
    full = folder / path
    if not full.resolve().is_relative_to(folder.resolve()) or full.is_symlink():
        raise OutputError(f"{path} is no file of this run.")
    return full


def clean() -> int:
    """Remove everything that is kept for others on this machine; returns how many bytes that were."""
    folder = host_folder()
    size = sum(path.lstat().st_size for path in folder.rglob("*") if path.is_file() and not path.is_symlink())
    shutil.rmtree(folder, ignore_errors=True)
    return size
