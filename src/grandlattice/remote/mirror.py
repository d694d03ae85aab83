"""A scene as other machines get it: every file at the place it has here, below another folder.

Relative paths lead to the same files there as they are.  A path that begins at the disk is written anew in a
copy of its layer, and in the edits of a task: relative, so that it leads to the same file, too.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath
from typing import Any, TypeVar

from pydantic import BaseModel

from grandlattice.plan import Cell
from grandlattice.plan.schema import texts_of
from grandlattice.remote.manifest import Manifest, PackedFile
from grandlattice.runs.tasks import Task
from grandlattice.runs.work_order import WorkOrder
from grandlattice.stage.relocating import relocated

M = TypeVar("M", bound=BaseModel)


def place_in_mirror(path: Path) -> PurePosixPath:
    """Where a file of this machine is below the folder of a mirror.

    ``..`` goes back by name: what is a link among folders here is a folder there.
    """
    path = Path(os.path.normpath(path))
    drive = path.drive.replace(":", "").strip("\\/").replace("\\", "/")
    return PurePosixPath(drive, *path.parts[1:])


@dataclass(frozen=True)
class Mirror:
    """Files of a scene and a plan, as they are sent.

    Attributes
    ----------
    manifest : every file by its place, size and content.
    sources : sha256 → the file on this machine that has this content.
    """

    manifest: Manifest
    sources: Mapping[str, Path]
    _own: Path  # layers that were written anew

    def close(self) -> None:
        """Remove what was written for it."""
        shutil.rmtree(self._own, ignore_errors=True)


def mirrored(order: WorkOrder) -> Mirror:
    """The files of an order, as they are sent to other machines."""
    files = sorted({path for path in order.sources if path.is_file()})
    own = Path(tempfile.mkdtemp(prefix="grandlattice-mirror-"))
    there = {Path(os.path.normpath(path)) for path in files}

    def place_of(path: Path) -> PurePosixPath | None:
        path = Path(os.path.normpath(path))
        known = path in there or path.parent in folders
        return place_in_mirror(path) if known else None

    folders = {path.parent for path in there}
    listed, sources = dict[str, PackedFile](), dict[str, Path]()
    for number, path in enumerate(files):
        place, source = place_in_mirror(path), path
        if str(place) in listed:
            continue  # the same file by another way
        write = relocated(path, place, place_of)
        if write is not None:
            source = own / f"{number}{path.suffix}"
            write(source)
        with source.open("rb") as stream:
            digest = hashlib.file_digest(stream, "sha256").hexdigest()
        listed[str(place)] = PackedFile(path=str(place), size=source.stat().st_size, sha256=digest)
        sources[digest] = source
    told = {"plan": str(place_in_mirror(order.scene)), "files": list(listed.values())}
    return Mirror(Manifest.model_validate(told), sources, own)


def order_there(order: WorkOrder, scene_folder: Path, output: Path) -> WorkOrder:
    """An order as another machine carries it out, which has the scene in a folder of its own."""
    return replace(
        order, folder=scene_folder / place_in_mirror(order.folder),
        scene=scene_folder / place_in_mirror(order.scene), output=output, fixed=(), sources=frozenset(),
        scene_files=(),
    )  # fmt: skip


def order_to_send(order: WorkOrder) -> WorkOrder:
    """An order whose plan names no file from the top of this machine's disk."""
    return replace(order, model=_relative(order.model, order.folder, order.sources))


def task_to_send(task: Task, order: WorkOrder) -> Task:
    """A task whose edits name no file from the top of this machine's disk."""
    known: dict[int, Cell] = {}

    def sent(cell: Cell) -> Cell:
        if cell.index not in known:
            known[cell.index] = cell_to_send(cell, order)
        return known[cell.index]

    members = tuple(replace(member, cell=sent(member.cell)) for member in task.members)
    films = tuple(shot._replace(cell=sent(shot.cell)) for shot in task.films)
    return replace(task, members=members, films=films)


def cell_to_send(cell: Cell, order: WorkOrder) -> Cell:
    """A cell whose edits name no file from the top of this machine's disk."""
    edits = tuple(
        replace(placed, edit=_relative(placed.edit, order.folder, order.sources)) for placed in cell.edits
    )  # fmt: skip
    return cell if edits == cell.edits else replace(cell, edits=edits)


def _relative(model: M, folder: Path, sources: Iterable[Path]) -> M:
    """A part of a plan whose texts name files by paths relative to the plan."""
    known = frozenset(map(os.path.normpath, sources))
    if not any(os.path.isabs(text) and os.path.normpath(text) in known for text in texts_of(model)):
        return model

    def changed(value: Any) -> Any:
        if isinstance(value, str) and os.path.isabs(value) and os.path.normpath(value) in known:
            return Path(os.path.relpath(value, folder)).as_posix()
        if isinstance(value, BaseModel):
            return _with(value, changed)
        if isinstance(value, Mapping):
            return {key: changed(part) for key, part in value.items()}
        if isinstance(value, list | tuple) and not hasattr(value, "_fields"):
            return type(value)(changed(part) for part in value)
        return value

    return _with(model, changed)


def _with(model: M, changed: Callable[[Any], Any]) -> M:
    made = {name: changed(getattr(model, name)) for name in type(model).model_fields}
    copy = model.model_copy(update=made)
    if model.model_extra:
        copy = copy.model_copy(update={name: changed(part) for name, part in model.model_extra.items()})
    return copy
