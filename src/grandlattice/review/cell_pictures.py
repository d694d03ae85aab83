"""The picture of a cell as a display shows it, no larger than it is shown."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from grandlattice import images  # each name of it is loaded when it is asked for
from grandlattice.plan import CellSettings, PlannedFile
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import known_pass


def cell_picture(
    path: Path, file: PlannedFile, settings: CellSettings, pass_name: str, own: Mapping[str, str],
    ranges: Sequence[tuple[float, float]] = (), width: int | None = None, above: float | None = None,
) -> NDArray[np.float32]:  # fmt: skip
    """A pass from a file of a cell.

    Parameters
    ----------
    path : of the file.
    own : passes of the plan's own, see `tables.passes.known_pass`.
    ranges : of all pictures that are shown together, see `ranges_of`; of this one by default.
    width : pixels; a larger picture is made smaller, light before it is displayed.
    above : of illuminance, see `light_picture`.

    Returns
    -------
    (H, W, 4) float32, 0..1, alpha not premultiplied.

    Raises
    ------
    ImageError
        When it cannot be read.
    """
    kind, told = FORMATS[file.format], known_pass(pass_name, own)
    if kind.layered and pass_name != "beauty":
        values = images.read_channels(path, told.channels)
        ranges = ranges or images.range_of([values], told.look)
        if told.look == "lux":
            return images.light_picture(values, *ranges[0], above)
        return images.show_pass(values, told.look, ranges, settings.display, settings.exposure)
    letters = "RGBA" if kind.channels == 4 or kind.layered else "RGB"
    pixels = _smaller(images.read_channels(path, tuple(letters)), width)
    if letters == "RGB":
        pixels = np.concatenate([pixels, np.ones_like(pixels[..., :1])], axis=2)
    if not kind.displayed:
        stops = float(images.read_mark(path, "camera stops") or 0.0) if settings.camera_exposure else 0.0
        return images.to_display(pixels, settings.display, settings.exposure + stops, settings.graded)
    # OpenImageIO hands colour over premultiplied; sheets want it as the file has it.
    alpha = pixels[..., 3:]
    straight = np.clip(pixels[..., :3] / np.where(alpha > 1e-4, alpha, 1.0), 0.0, 1.0)
    return np.concatenate([straight, alpha], axis=2).astype(np.float32)


def ranges_of(
    files: Sequence[tuple[Path, PlannedFile]], pass_name: str, own: Mapping[str, str]
) -> tuple[tuple[float, float], ...]:
    """What some pictures of a pass show at either end of one scale; none of the beauty."""
    told = known_pass(pass_name, own)
    if pass_name == "beauty" or told.look == "light":
        return ()
    layered = [path for path, file in files if FORMATS[file.format].layered]
    return images.range_of([images.read_channels(path, told.channels) for path in layered], told.look)


def _smaller(picture: NDArray[np.float32], width: int | None) -> NDArray[np.float32]:
    if width is None or picture.shape[1] <= width:
        return picture
    size = images.fitted(picture.shape[1], picture.shape[0], width, picture.shape[0])
    return images.resized(picture, *size)
