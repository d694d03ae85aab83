"""Packs of plans: what a plan's cells need is gathered here, and written by `remote`."""

from __future__ import annotations

import io
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any

from grandlattice._support.filesystem import is_file
from grandlattice.errors import OutputError, PlanError
from grandlattice.plan import parse, read_document
from grandlattice.plan.reader import Document, yaml_writer
from grandlattice.plan.schema import EachAxis, EachFile
from grandlattice.remote import Manifest, Places, Wanted, open_pack, write_pack
from grandlattice.remote.packing import settled
from grandlattice.stage import files_named, open_scene
from grandlattice.stage.relocating import relocated
from grandlattice.version import __version__

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles

_NO_FILES = ("output",)  # keys whose texts name what is written, not what is read


@dataclass(frozen=True)
class PackFiles:
    """What came of packing or unpacking a plan.

    Attributes
    ----------
    path : the folder or archive.
    plan : the plan's file in it; None in an archive.
    manifest : every file with its size and content.
    """

    path: Path
    plan: Path | None
    manifest: Manifest


def pack(plan: PlanFiles, target: Path, missing: Sequence[str]) -> PackFiles:
    """Write a pack of a plan; see `Plan.pack`.

    Parameters
    ----------
    missing : files that cells ask for and that are not there.
    """
    if plan.file is None:
        raise PlanError("This plan has no file.", cure="write it: plan.write(file)")
    gathered = _Gathered(plan)
    proof = partial(_prove, plan, gathered.place(plan.file))
    manifest = write_pack(
        target, str(gathered.place(plan.file)), list(gathered.wanted()), missing,
        f"Grand Lattice {__version__}", proof,
    )  # fmt: skip
    return PackFiles(target, None if target.is_file() else target / manifest.plan, manifest)


def unpack(source: str | Path, folder: str | Path | None = None) -> PackFiles:
    """Verify a pack, and write its files into a new folder.

    Parameters
    ----------
    source : the pack: a folder or a zip archive.
    folder : where to; None: it is verified alone.

    Raises
    ------
    OutputError
        When it is no pack, a file in it is not as it was packed, or something stands in `folder`.

    Examples
    --------
    >>> unpack("orrery.zip", "orrery").plan                             # doctest: +SKIP
    """
    target = None if folder is None else Path(folder)
    manifest = open_pack(Path(source), target)
    return PackFiles(
        Path(source) if target is None else target, None if target is None else target / manifest.plan,
        manifest,
    )  # fmt: skip


class _Gathered:
    """Every file that a plan's cells need, and where each goes."""

    def __init__(self, plan: PlanFiles) -> None:
        assert plan.file is not None
        planned = plan.planned()
        self._scene = plan.scene.file.resolve()
        self._folders: dict[Path, Path] = {}  # with the links among them followed: few, of many files
        self._plan_file = settled(plan.file)
        # Read anew: paths in them are changed, and the plan's own stays as it is.
        self._documents = {self._plan_file: parse(plan.text, plan.file)}
        self._documents |= {file.resolve(): read_document(file) for file in plan.document.other_files}
        named = [planned.folder / text for text in planned.texts_read()]
        for axis in plan.lattice.axes:
            kind = plan.model.axes.get(axis.name)
            if isinstance(kind, EachAxis) and isinstance(kind.each, EachFile):
                named += [planned.folder / option.value for option in axis.options]
        files = files_named(plan.scene, [path for path in named if is_file(path)])
        self._files = {settled(path) for path in files if is_file(path)} | set(self._documents)
        self._files |= {self._scene}
        as_named = settled(plan.scene.file)
        if as_named != self._scene:  # a link, which a pack has none of
            self._files.discard(as_named)
        self._places = Places([self._plan_file.parent, self._scene.parent], self._files)

    def place(self, path: Path) -> PurePosixPath:
        """Where a file of the pack goes."""
        found = self._place_of(path)
        assert found is not None
        return found

    def wanted(self) -> Iterator[Wanted]:
        """Every file of the pack."""
        for path in sorted(self._files):
            place = self.place(path)
            document = self._documents.get(path)
            if document is not None:
                yield Wanted(str(place), *self._rewritten(document, path, place))
                continue
            write = relocated(path, place, self._place_of)
            yield Wanted(str(place), path if write is None else None, write)

    def _place_of(self, path: Path) -> PurePosixPath | None:
        """Where what a layer names is then; of a texture in tiles, its pattern."""
        folder = self._folders.get(path.parent)
        if folder is None:
            folder = self._folders[path.parent] = path.parent.resolve()
        return self._places(folder / path.name)

    def _rewritten(
        self, document: Document, path: Path, place: PurePosixPath
    ) -> tuple[Path | None, Callable[[Path], None] | None]:
        """A plan's file as it was, or what writes it with paths that lead to files of the pack."""
        data, folder = document.data, path.parent
        if not self._change(data, folder, place.parent) and document.text == _text_of(path):
            return path, None
        stream = io.StringIO()
        yaml_writer(document.text).dump(data, stream)

        def write(to: Path) -> None:
            to.write_text(stream.getvalue(), encoding="utf-8")

        return None, write

    def _change(self, value: Any, folder: Path, place: PurePosixPath) -> bool:
        """Change texts that name files in a part of a plan; whether any is another."""
        changed = False
        items = value.items() if isinstance(value, Mapping) else enumerate(value)
        for key, part in list(items):
            if isinstance(part, str):
                new = part if key in _NO_FILES else self._text(part, folder, place)
                if new != part:
                    value[key] = new
                    changed = True
            elif isinstance(part, Mapping | list):
                changed |= self._change(part, folder, place)
        return changed

    def _text(self, text: str, folder: Path, place: PurePosixPath) -> str:
        """A text of a plan, as it names the same file in the pack."""
        if "/" not in text and "\\" not in text and not is_file(folder / text):
            return text
        path = folder / text
        if is_file(path) and path.resolve() == self._scene:
            there: PurePosixPath | None = self.place(self._scene)
        else:
            before, _, _ = text.partition("{")
            if not is_file(path) and ("{" not in text or "/" not in before):
                return text
            there = self._place_of(path)
        if there is None:
            return text
        if not os.path.isabs(text) and os.path.normpath(place / text) == str(there):
            return text
        return os.path.relpath(there, place).replace(os.sep, "/")


def _text_of(file: Path) -> str:
    return file.read_text(encoding="utf-8-sig")


def _prove(plan: PlanFiles, place: PurePosixPath, folder: Path) -> None:
    """Open the plan of a pack, and look whether it is the same and nothing leads out of it."""
    packed = type(plan).read(folder / place)
    inside = folder.resolve()
    before, after = plan.cells, packed.cells
    ends = (0, len(before) - 1)
    if len(before) != len(after) or any(before[k].address != after[k].address for k in ends):
        raise OutputError(
            f"In the pack the plan has {len(after):,} cells, not {len(before):,}; nothing was written.",
            cure="an axis of files may name them by a path that leads out of the plan's folder",
        )
    there, _ = open_scene(packed.scene.file).named
    out = [path for path in there if not Path(path.partition("[")[0]).resolve().is_relative_to(inside)]
    if out:
        raise OutputError(
            f"{out[0]} is named in a way that cannot be packed; nothing was written.",
            cure="name it by a path that is relative to the layer",
        )
