"""The contact sheets of a run: every cell's picture, in a grid made from the axes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import ImageError, RunError
from grandlattice.images import (
    Frame,
    light_picture,
    make_sheets,
    range_of,
    read_channels,
    read_mark,
    scale_of,
    show_pass,
    to_display,
)
from grandlattice.plan import CellSettings
from grandlattice.runs import FolderStore, Task
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
    pass_name, every_frame, above = shown.pass_name, shown.every_frame, shown.above
    members: dict[tuple[str, int], Member] = {}
    for task in tasks:
        for member in task.members:
            members.setdefault((member.cell.address, member.frame if every_frame else 0), member)
    ordered = sorted(members.values(), key=lambda member: (member.cell.index, member.frame))
    scale = (1.0, 10.0)
    if pass_name == LUX:
        # One scale for the whole sheet: only then do its pictures compare.
        lux = (_read(member, output, LUX, own) for member in ordered)
        scale = scale_of(picture for picture, _ in lux if picture is not None)
    pictures = [_frame(member, output, pass_name, own, scale, above) for member in ordered]
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


def _read(
    member: Member, output: Path, pass_name: str, own: Mapping[str, str] | None
) -> tuple[NDArray[np.float32] | None, str]:
    """A pass of a cell's first frame, or why there is none."""
    for file in member.files:
        path = output / file.planned.path
        if FORMATS[file.planned.format].layered and pass_name in file.planned.passes and path.is_file():
            try:
                return read_channels(path, known_pass(pass_name, own).channels), ""
            except ImageError as problem:
                return None, problem.what
    asked = any(pass_name in file.planned.passes for file in member.files)
    return None, "not rendered" if asked else "not among its passes"


def _frame(
    member: Member, output: Path, pass_name: str | None, own: Mapping[str, str] | None,
    scale: tuple[float, float], above: float | None,
) -> Frame:  # fmt: skip
    cell = member.cell
    pixels, remark = None, "not rendered"
    if pass_name is not None and pass_name != "beauty":
        values, remark = _read(member, output, pass_name, own)
        pixels = None
        if values is not None and pass_name == LUX:
            pixels = light_picture(values, *scale, above)
        elif values is not None:
            pixels = _as_it_is(values, pass_name, own, cell.settings)
    else:
        pixels, remark = _beauty(member, output, own)
    coordinates = dict(cell.coordinates)
    if cell.name is not None:
        coordinates = {axis: f"{entry}*" for axis, entry in coordinates.items()}
    return Frame(cell.address, coordinates, pixels, remark)


def _beauty(
    member: Member, output: Path, own: Mapping[str, str] | None
) -> tuple[NDArray[np.float32] | None, str]:
    """The beauty of a cell as it is displayed, or the first pass of one that has none."""
    settings = member.cell.settings
    pixels, remark = None, "not rendered"
    for file in member.files:
        path = output / file.planned.path
        if not path.is_file():
            continue
        try:
            if "beauty" in file.planned.passes:
                return _shown(path, file.planned.format, settings), ""
            if pixels is None and not FORMATS[file.planned.format].layered:  # a pass as a picture
                pixels = _shown(path, file.planned.format, settings)
            elif pixels is None:
                name = file.planned.passes[0]
                values = read_channels(path, known_pass(name, own).channels)
                pixels = (
                    light_picture(values, *scale_of([values])) if name == LUX
                    else _as_it_is(values, name, own, settings)
                )  # fmt: skip
        except ImageError as problem:
            remark = problem.what
    return pixels, remark


def _as_it_is(
    values: NDArray[np.float32], pass_name: str, own: Mapping[str, str] | None, settings: CellSettings
) -> NDArray[np.float32]:  # fmt: skip
    """A pass that is not the beauty as a picture, a depth from near to far."""
    look = known_pass(pass_name, own).look
    return show_pass(values, look, range_of([values], look), settings.display, settings.exposure)


def _shown(path: Path, kind: str, settings: CellSettings) -> NDArray[np.float32]:
    letters = "RGB" if FORMATS[kind].channels == 3 else "RGBA"
    pixels = read_channels(path, tuple(letters))
    if letters == "RGB":
        pixels = np.concatenate([pixels, np.ones_like(pixels[..., :1])], axis=2)
    if not FORMATS[kind].displayed:
        stops = float(read_mark(path, "camera stops") or 0.0) if settings.camera_exposure else 0.0
        return to_display(pixels, settings.display, settings.exposure + stops, settings.graded)
    if letters == "RGB":
        return pixels
    # OpenImageIO hands colour over premultiplied; sheets want it as the file has it.
    alpha = pixels[..., 3:]
    straight = pixels[..., :3] / np.where(alpha > 1e-4, alpha, 1.0)
    return np.asarray(np.concatenate([np.clip(straight, 0, 1), alpha], axis=2), np.float32)
