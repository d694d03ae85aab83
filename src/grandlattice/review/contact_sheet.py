"""The contact sheets of a run: every cell's picture, in a grid made from the axes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import ImageError, RunError
from grandlattice.images import Frame, make_sheets, read_channels, scale_of
from grandlattice.review.cell_pictures import cell_picture
from grandlattice.runs import FolderStore, Task
from grandlattice.runs.fingerprints import TaskFile
from grandlattice.runs.tasks import Member
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import known_pass


@dataclass(frozen=True)
class SheetContents:
    """What a contact sheet shows.

    Attributes
    ----------
    size : of a sheet, pixels.
    pass_name : the pass to show; None shows the beauty, or what a cell has in its place.
    every_frame : all frames there are of each cell, side by side; else its first.
    above : of illuminance, lx: how much of each picture has more is written on it.
    """

    size: tuple[int, int] = (1280, 800)
    pass_name: str | None = None
    every_frame: bool = False
    above: float | None = None


def contact_sheets(
    title: str, tasks: Sequence[Task], output: Path, name: str, shown: SheetContents | None = None,
    own: Mapping[str, str] | None = None,
) -> list[Path]:  # fmt: skip
    """Write the contact sheets of a run.

    Parameters
    ----------
    title : stands at the top.
    tasks : all tasks of the run, done or not; a cell without a picture says so.
    output : the folder the pictures are in; the sheets land beside them.
    name : of the sheet file, without its ending.
    own : passes of the plan's own, see `tables.passes.known_pass`.

    Returns
    -------
    The files written, ``NAME.png`` or ``NAME-1.png`` and on.

    Raises
    ------
    RunError
        When there is no picture at all.
    """
    shown = shown or SheetContents()
    pass_name, every_frame = shown.pass_name, shown.every_frame
    members: dict[tuple[str, int], Member] = {}
    for task in tasks:
        for member in task.members:
            members.setdefault((member.cell.address, member.frame if every_frame else 0), member)
    ordered = sorted(members.values(), key=lambda member: (member.cell.index, member.frame))
    ranges: tuple[tuple[float, float], ...] = ()
    if pass_name == LUX:
        # One scale for the whole sheet: only then do its pictures compare.
        lux = (_lux(member, output, own) for member in ordered)
        ranges = (scale_of(picture for picture in lux if picture is not None),)
    pictures = [_frame(member, output, shown, own, ranges) for member in ordered]
    if len({member.frame for member in ordered}) > 1 and every_frame:
        pictures = [
            replace(picture, coordinates={**picture.coordinates, "frame": str(member.frame)})
            for picture, member in zip(pictures, ordered, strict=True)
        ]
    there = sum(frame.pixels is not None for frame in pictures)
    if not there:
        what = f"of the pass {pass_name} " if pass_name else ""
        raise RunError(
            f"There is no picture {what}to show yet.",
            cure="glat run renders them" + (f"; passes must name {pass_name}" if pass_name else ""),
        )
    axes = list(dict.fromkeys(axis for frame in pictures for axis in frame.coordinates))
    subtitle = f"{pass_name} · " if pass_name else ""
    subtitle += f"{there} of {len(pictures)} cells · {', '.join(axes)}"
    sheets = make_sheets(title, subtitle, pictures, shown.size)
    store = FolderStore(output)
    written = []
    for number, sheet in enumerate(sheets, 1):
        file = f"{name}.png" if len(sheets) == 1 else f"{name}-{number}.png"
        store.put(file, lambda path, image=sheet: image.save(path, "PNG"))  # type: ignore[misc]
        written.append(output / file)
    return written


LUX = "illuminance"


def _file_with(member: Member, output: Path, pass_name: str) -> tuple[TaskFile | None, str]:
    """The layered file of a cell's first frame that holds a pass, or why there is none."""
    for file in member.files:
        path = output / file.planned.path
        if FORMATS[file.planned.format].layered and pass_name in file.planned.passes and path.is_file():
            return file, ""
    asked = any(pass_name in file.planned.passes for file in member.files)
    return None, "not rendered" if asked else "not among its passes"


def _lux(
    member: Member, output: Path, own: Mapping[str, str] | None
) -> NDArray[np.float32] | None:  # fmt: skip
    """The illuminance of a cell's first frame; None where it has none that can be read."""
    file, _ = _file_with(member, output, LUX)
    if file is None:
        return None
    try:
        return read_channels(output / file.planned.path, known_pass(LUX, own).channels)
    except ImageError:
        return None


def _frame(
    member: Member, output: Path, shown: SheetContents, own: Mapping[str, str] | None,
    ranges: Sequence[tuple[float, float]],
) -> Frame:  # fmt: skip
    cell, pixels = member.cell, None
    if shown.pass_name in (None, "beauty"):
        pixels, remark = _beauty(member, output, own)
    else:
        assert shown.pass_name is not None
        file, remark = _file_with(member, output, shown.pass_name)
        if file is not None:
            try:
                pixels = cell_picture(
                    output / file.planned.path, file.planned, cell.settings, shown.pass_name, own or {},
                    ranges, above=shown.above,
                )  # fmt: skip
            except ImageError as problem:
                remark = problem.what
    coordinates = dict(cell.coordinates)
    if cell.name is not None:
        coordinates = {axis: f"{entry}*" for axis, entry in coordinates.items()}
    return Frame(cell.address, coordinates, pixels, remark)


def _beauty(
    member: Member, output: Path, own: Mapping[str, str] | None
) -> tuple[NDArray[np.float32] | None, str]:
    """The beauty of a cell as it is displayed, or the first pass of one that has none."""
    pixels, remark = None, "not rendered"
    for file in member.files:
        path, passes = output / file.planned.path, file.planned.passes
        if not path.is_file() or (pixels is not None and "beauty" not in passes):
            continue
        name = "beauty" if "beauty" in passes else passes[0]
        try:
            pixels = cell_picture(path, file.planned, member.cell.settings, name, own or {})
        except ImageError as problem:
            remark = problem.what
            continue
        if name == "beauty":
            return pixels, ""
    return pixels, remark
