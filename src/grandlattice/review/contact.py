"""The contact sheets of a run: every cell's picture, in a grid made from the axes."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import ImageError, RunError
from grandlattice.images import Frame, make_sheets, read_channels, to_display
from grandlattice.runs import FolderStore, Task
from grandlattice.runs.tasks import TaskCell
from grandlattice.tracer import known_pass


def contact_sheets(
    title: str, tasks: Sequence[Task], output: Path, name: str, size: tuple[int, int] = (1280, 800)
) -> list[Path]:
    """Write the contact sheets of a run, the first frame of each cell.

    Parameters
    ----------
    title : stands at the top.
    tasks : all tasks of the run, done or not; a cell without a picture says so.
    output : the folder the pictures are in; the sheets land beside them.
    name : of the sheet file, without its ending.

    Returns
    -------
    The files written, ``NAME.png`` or ``NAME-1.png`` and on.

    Raises
    ------
    RunError
        When there is no picture at all.
    """
    frames, seen = [], set()
    for task in tasks:
        for member in task.cells:
            if member.cell.address not in seen:
                seen.add(member.cell.address)
                frames.append(_frame(member, output))
    frames.sort(key=lambda pair: pair[0])
    pictures = [frame for _, frame in frames]
    there = sum(frame.pixels is not None for frame in pictures)
    if not there:
        raise RunError("There is no picture to show yet.", cure="glat run renders them")
    axes = list(dict.fromkeys(axis for frame in pictures for axis in frame.coordinates))
    subtitle = f"{there} of {len(pictures)} cells · {', '.join(axes)}"
    sheets = make_sheets(title, subtitle, pictures, size)
    store = FolderStore(output)
    written = []
    for number, sheet in enumerate(sheets, 1):
        file = f"{name}.png" if len(sheets) == 1 else f"{name}-{number}.png"
        store.put(file, lambda path, image=sheet: image.save(path, "PNG"))  # type: ignore[misc]
        written.append(output / file)
    return written


def _frame(member: TaskCell, output: Path) -> tuple[int, Frame]:
    cell = member.cell
    pixels, remark = None, "not rendered"
    for file in member.files:
        path = output / file.planned.path
        if not path.is_file():
            continue
        try:
            if "beauty" in file.planned.passes:
                pixels = _shown(path, file.planned.format, cell.settings.display, cell.settings.exposure)
                break
            pixels = _as_it_is(path, file.planned.passes[0]) if pixels is None else pixels
        except ImageError as problem:
            remark = problem.what
    coordinates = dict(cell.coordinates)
    if cell.name is not None:
        coordinates = {axis: f"{entry}*" for axis, entry in coordinates.items()}
    return cell.index, Frame(cell.address, coordinates, pixels, remark)


def _as_it_is(path: Path, pass_name: str) -> NDArray[np.float32]:
    """A pass that is no light, as grey or colour between 0 and 1; a depth from near to far."""
    values = read_channels(path, known_pass(pass_name).channels)[..., :3]
    if pass_name == "depth":
        finite = np.isfinite(values)
        near, far = (values[finite].min(), values[finite].max()) if finite.any() else (0.0, 1.0)
        values = np.where(finite, 1.0 - (values - near) / max(far - near, 1e-6), 0.0)
    elif pass_name == "normal":
        values = values * 0.5 + 0.5
    colour = np.broadcast_to(np.clip(values, 0.0, 1.0), (*values.shape[:2], 3))
    return np.concatenate([colour, np.ones_like(colour[..., :1])], axis=2).astype(np.float32)


def _shown(path: Path, kind: str, display: str | None, exposure: float) -> NDArray[np.float32]:
    if kind == "exr":
        return to_display(read_channels(path, ("R", "G", "B", "A")), display, exposure)
    if kind == "jpg":
        colour = read_channels(path, ("R", "G", "B"))
        return np.concatenate([colour, np.ones_like(colour[..., :1])], axis=2)
    pixels = read_channels(path, ("R", "G", "B", "A"))
    # OpenImageIO hands colour over premultiplied; sheets want it as the file has it.
    alpha = pixels[..., 3:]
    straight = pixels[..., :3] / np.where(alpha > 1e-4, alpha, 1.0)
    return np.asarray(np.concatenate([np.clip(straight, 0, 1), alpha], axis=2), np.float32)
