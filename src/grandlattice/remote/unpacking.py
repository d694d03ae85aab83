"""Opening a pack: each file is verified, none leads out of its folder, nothing else is taken."""

from __future__ import annotations

import os
import secrets
import shutil
import stat
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Protocol

from grandlattice.errors import OutputError
from grandlattice.remote.manifest import MANIFEST, Manifest, PackedFile, read_manifest
from grandlattice.remote.packing import copied, on_disk, refuse_taken

_MOST_MANIFEST = 200_000_000  # bytes
_CURE = "name a folder or archive that glat pack wrote"


class _Pack(Protocol):
    """A pack as it came: a folder, or an archive."""

    def open(self, name: str) -> IO[bytes]:
        """A file of it."""


class _FolderPack:
    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def open(self, name: str) -> IO[bytes]:
        at = self._folder
        for part in name.split("/"):
            at = at / part
            if stat.S_ISLNK(at.lstat().st_mode):
                raise OutputError(f"{name} is a link, and a pack has none.")
        if not stat.S_ISREG(at.lstat().st_mode):
            raise OutputError(f"{name} is no file.")
        return at.open("rb")


class _ZipPack:
    def __init__(self, archive: zipfile.ZipFile) -> None:
        self._archive = archive

    def open(self, name: str) -> IO[bytes]:
        entry = self._archive.getinfo(name)
        if stat.S_ISLNK(entry.external_attr >> 16):
            raise OutputError(f"{name} is a link, and a pack has none.")
        return self._archive.open(entry)


def open_pack(pack: Path, folder: Path | None) -> Manifest:
    """Verify a pack, and write its files into a folder.

    Parameters
    ----------
    folder : where to; None: it is verified alone.

    Raises
    ------
    OutputError
        When it is no pack, a file is another than it says or is missing, or something stands in `folder`.
    """
    if folder is not None:
        refuse_taken(folder)
    part = None if folder is None else folder.with_name(f".{folder.name}.{secrets.token_hex(4)}.part")
    try:
        with _opened(pack) as files:
            manifest = _manifest_of(pack, files)
            if part is not None:
                _refuse_without_room(part, manifest)
                part.mkdir(parents=True)
            for file in manifest.files:
                _take(files, file, part)
        if part is not None and folder is not None:
            (part / MANIFEST).write_text(manifest.text(), encoding="utf-8")
            with suppress(OSError):
                folder.rmdir()  # an empty one
            part.replace(folder)
        return manifest
    except (zipfile.BadZipFile, zlib.error, RuntimeError, EOFError) as problem:
        # What is damaged, and what an archive of others may be: encrypted, or compressed in another way.
        raise OutputError(f"{pack.name} is damaged: {problem}.", cure="bring it over again") from None
    except OSError as problem:
        raise OutputError(f"{pack.name} cannot be unpacked: {problem.strerror or problem}.") from problem
    finally:
        if part is not None:
            shutil.rmtree(part, ignore_errors=True)


@contextmanager
def _opened(pack: Path) -> Iterator[_Pack]:
    """A pack, a folder or a zip archive, while it is read."""
    if pack.is_dir():
        yield _FolderPack(pack)
        return
    if not pack.exists():
        raise OutputError(f"There is no pack at {pack}.", cure="check the path")
    if not zipfile.is_zipfile(pack):
        raise OutputError(f"{pack.name} is no pack: neither a folder nor a zip archive.", cure=_CURE)
    with zipfile.ZipFile(pack) as archive:
        yield _ZipPack(archive)


def _manifest_of(pack: Path, files: _Pack) -> Manifest:
    try:
        with files.open(MANIFEST) as stream:
            text = stream.read(_MOST_MANIFEST + 1)
    except (KeyError, FileNotFoundError, NotADirectoryError):
        raise OutputError(f"{pack.name} is no pack: it has no {MANIFEST}.", cure=_CURE) from None
    if len(text) > _MOST_MANIFEST:
        raise OutputError(f"{MANIFEST} of {pack.name} is larger than any can be.")
    return read_manifest(text)


def _refuse_without_room(part: Path, manifest: Manifest) -> None:
    above = next(folder for folder in part.absolute().parents if folder.exists())
    free = shutil.disk_usage(above).free
    if manifest.size > free:
        raise OutputError(
            f"The pack has {manifest.size / 1e9:.2f} GB, and {above} has room for {free / 1e9:.2f} GB."
        )


def _take(files: _Pack, file: PackedFile, folder: Path | None) -> None:
    """Verify a file, and write it where there is a folder for it."""
    try:
        with files.open(file.path) as source:
            if folder is None:
                with open(os.devnull, "wb") as nowhere:
                    found = copied(source, nowhere, file.size)
            else:
                full = folder / file.path
                full.parent.mkdir(parents=True, exist_ok=True)
                with full.open("xb") as copy:
                    found = copied(source, copy, file.size)
                    on_disk(copy)
    except (KeyError, FileNotFoundError, NotADirectoryError):
        raise OutputError(f"{file.path} is missing in the pack.", cure="bring it over again") from None
    if found != (file.size, file.sha256):
        raise OutputError(f"{file.path} is another file than the pack says.", cure="bring it over again")
