"""Writing a pack: where each file goes, and what stands in it then.

Files of the plan's project keep their places towards each other; files from elsewhere stand in numbered
folders, those of one folder together, so that the tiles of a texture stay side by side.
"""

from __future__ import annotations

import hashlib
import os
import secrets
import shutil
import zipfile
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import IO

from grandlattice.errors import OutputError
from grandlattice.remote.manifest import MANIFEST, Manifest, PackedFile

_ELSEWHERE = "elsewhere"
_PART = 1 << 20  # bytes that are copied at once
_PRESSED = (".usda", ".yaml", ".json", ".csv", ".ies", ".txt", ".hdr", ".tiff", ".tif")  # smaller in a zip
_WHEN = (1980, 1, 1, 0, 0, 0)  # of all in a zip: the same content is the same archive
ZIP = ".zip"


def settled(path: Path) -> Path:
    """A file with the links among its folders followed, and its own name."""
    return path.parent.resolve() / path.name


class Places:
    """Where files go in a pack.

    Parameters
    ----------
    project : folders whose common folder is the top of the pack.
    files : all that are packed, each `settled`.
    """

    def __init__(self, project: Sequence[Path], files: Iterable[Path]) -> None:
        self._top = _common(project)
        outside = {path.parent for path in files if not path.is_relative_to(self._top)}
        self._elsewhere = {
            folder: PurePosixPath(_ELSEWHERE, str(number)) for number, folder in enumerate(sorted(outside), 1)
        }

    def folder(self, folder: Path) -> PurePosixPath | None:
        """Where a folder goes; None where nothing of it is packed."""
        if folder.is_relative_to(self._top):
            return PurePosixPath(folder.relative_to(self._top).as_posix())
        return self._elsewhere.get(folder)

    def __call__(self, path: Path) -> PurePosixPath | None:
        """Where a file goes; None where nothing of its folder is packed."""
        folder = self.folder(path.parent)
        return None if folder is None else folder / path.name


def _common(folders: Sequence[Path]) -> Path:
    """The common folder of a project; that of its first where they have none but a whole disk or home."""
    try:
        common = Path(os.path.commonpath(folders))
    except ValueError:  # on several disks
        return folders[0]
    is_wide = common == Path(common.anchor) or Path.home().is_relative_to(common)
    return folders[0] if is_wide else common


@dataclass(frozen=True)
class Wanted:
    """A file of a pack.

    Attributes
    ----------
    path : within the pack.
    source : whose content it has, where that is as it was.
    write : otherwise writes its content.
    """

    path: str
    source: Path | None = None
    write: Callable[[Path], None] | None = None


def write_pack(
    target: Path, plan: str, wanted: Sequence[Wanted], missing: Sequence[str], made_by: str,
    proof: Callable[[Path], None],
) -> Manifest:  # fmt: skip
    """Write a pack: a folder, or an archive where its name ends in ``.zip``.

    Parameters
    ----------
    plan : the file of the plan, within the pack.
    missing : files that are named and not there.
    proof : looks at the folder before it is called a pack, and raises where it is none.

    Raises
    ------
    OutputError
        When something stands there, or it cannot be written.
    """
    refuse_taken(target)
    part = target.with_name(f".{target.name}.{secrets.token_hex(4)}.part")
    try:
        part.mkdir(parents=True)
        files = [_put(part, each) for each in sorted(wanted, key=lambda each: each.path)]
        told = {"made by": made_by, "plan": plan, "missing": list(missing), "files": files}
        manifest = Manifest.model_validate(told)
        (part / MANIFEST).write_text(manifest.text(), encoding="utf-8")
        proof(part)
        if target.suffix.lower() == ZIP:
            archive = part.with_name(f"{part.name}{ZIP}")
            try:
                _zip(archive, part, manifest)
                archive.replace(target)
            finally:
                archive.unlink(missing_ok=True)
        else:
            with suppress(OSError):
                target.rmdir()  # an empty one
            part.replace(target)
        return manifest
    except ValueError as problem:
        raise OutputError(f"{target} cannot be packed: {_said(problem)}.") from None
    except OSError as problem:
        raise OutputError(f"{target} cannot be written: {problem.strerror or problem}.") from problem
    finally:
        shutil.rmtree(part, ignore_errors=True)


def refuse_taken(target: Path) -> None:
    """Make sure that nothing stands where a folder or file is to be written; an empty folder may.

    Raises
    ------
    OutputError
        When something does.
    """
    is_free = not os.path.lexists(target)
    if not is_free and target.is_dir() and not target.is_symlink() and target.suffix.lower() != ZIP:
        is_free = not any(target.iterdir())
    if not is_free:
        raise OutputError(f"{target} exists already and is left as it is.", cure="name another")


def _said(problem: ValueError) -> str:
    lines = [line.strip() for line in str(problem).splitlines() if "Value error" in line]
    return (lines or [str(problem)])[0].removeprefix("Value error, ").partition(" [type=")[0]


def _put(folder: Path, wanted: Wanted) -> PackedFile:
    full = folder / wanted.path
    full.parent.mkdir(parents=True, exist_ok=True)
    if wanted.source is None:
        assert wanted.write is not None
        wanted.write(full)
        with full.open("rb") as stream:
            digest = hashlib.file_digest(stream, "sha256").hexdigest()
        return PackedFile(path=wanted.path, size=full.stat().st_size, sha256=digest)
    with wanted.source.open("rb") as source, full.open("xb") as copy:
        size, digest = copied(source, copy)
        on_disk(copy)
    return PackedFile(path=wanted.path, size=size, sha256=digest)


def copied(source: IO[bytes], copy: IO[bytes], most: int | None = None) -> tuple[int, str]:
    """Copy a stream; returns how many bytes, and their sha256.

    Parameters
    ----------
    most : bytes; one more is read where there is, and no further.
    """
    whole, size = hashlib.sha256(), 0
    while data := source.read(_PART if most is None else max(1, min(_PART, most + 1 - size))):
        copy.write(data)
        whole.update(data)
        size += len(data)
        if most is not None and size > most:
            break
    return size, whole.hexdigest()


def on_disk(copy: IO[bytes]) -> None:
    """Have what was written survive a power cut."""
    copy.flush()
    os.fsync(copy.fileno())


def _zip(archive: Path, folder: Path, manifest: Manifest) -> None:
    with zipfile.ZipFile(archive, "x", allowZip64=True) as made:
        for name in (MANIFEST, *(file.path for file in manifest.files)):
            entry = zipfile.ZipInfo(name, _WHEN)
            pressed = name.lower().endswith(_PRESSED)
            entry.compress_type = zipfile.ZIP_DEFLATED if pressed else zipfile.ZIP_STORED
            entry.external_attr = 0o644 << 16
            with (folder / name).open("rb") as source, made.open(entry, "w", force_zip64=True) as copy:
                shutil.copyfileobj(source, copy, _PART)
