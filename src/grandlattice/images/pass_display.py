"""Passes as pictures: how each kind of data is shown in a file that a display shows.

Light goes through the display like the beauty.  Everything else has one fixed meaning for each
value, so that frames and cells can be compared: shares as they are, directions at half plus or
minus half, ids in colours, distances and places within a range.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from grandlattice.images.colour import to_display
from grandlattice.images.false_colour import colours_of, scale_of

Range = tuple[float, float]
MOTION = 32.0
"""Pixels from one frame to the next that are shown as white, or below zero as black."""


def show_pass(
    values: NDArray[np.float32], look: str, ranges: Sequence[Range] = (), display: str | None = None,
    exposure: float = 0.0,
) -> NDArray[np.float32]:  # fmt: skip
    """A pass as a picture.

    Parameters
    ----------
    values : (H, W, C) float32.
    look : what kind of data it is: ``light``, ``colour``, ``share``, ``direction``, ``ids``,
        ``distance``, ``place``, ``coordinates``, ``motion``, ``lux`` or ``amount``.
    ranges : for distances, amounts and lux one range, for places one of each axis: what is shown at either
        end of the scale.
    display, exposure : of light, see `to_display`.

    Returns
    -------
    (H, W, 4) float32, 0..1, as displayed; alpha is 1.
    """
    if look == "light":
        return to_display(_opaque(values), display, exposure)
    if look == "lux":
        return _opaque(colours_of(values, *ranges[0]))
    if look == "ids":
        return _opaque(_colours_of_ids(values))
    if look == "colour":
        linear = np.clip(values, 0.0, 1.0)  # sRGB, IEC 61966-2-1
        values = np.where(linear > 0.0031308, 1.055 * linear ** (1.0 / 2.4) - 0.055, 12.92 * linear)
    elif look == "direction":
        values = values * 0.5 + 0.5
    elif look == "motion":
        values = values / (2.0 * MOTION) + 0.5
    elif look in ("distance", "amount", "place"):
        low, high = np.array(ranges, np.float64).T
        values = (np.where(np.isfinite(values), values, high) - low) / np.maximum(high - low, 1e-12)
        values = 1.0 - values if look == "distance" else values
    return _opaque(np.nan_to_num(values))


def _opaque(values: NDArray) -> NDArray[np.float32]:
    """One, two or three channels as a picture: grey, or colour without the third."""
    shape = values.shape[:2]
    if values.shape[2] == 2:
        values = np.concatenate([values, np.zeros((*shape, 1))], axis=2)
    colour = np.broadcast_to(values[..., :3] if values.shape[2] >= 3 else values[..., :1], (*shape, 3))
    whole = np.concatenate([colour, np.ones((*shape, 1))], axis=2)
    return np.ascontiguousarray(np.clip(whole, 0.0, None), np.float32)


def _colours_of_ids(ranked: NDArray[np.float32]) -> NDArray[np.float32]:
    """Ids in colours made of their bits, by how much of the pixel each covers.

    Parameters
    ----------
    ranked : (H, W, 2 n) float32, pairs of an id (32 bits) and its coverage.
    """
    ids = np.ascontiguousarray(ranked[..., 0::2], np.float32).view(np.uint32)
    coverage = ranked[..., 1::2]
    parts = [((ids >> np.uint32(8 * k)) & np.uint32(255)).astype(np.float32) / 255.0 for k in range(3)]
    colours = 0.2 + 0.8 * np.stack(parts, axis=-1)
    return np.sum(colours * np.where(ids == 0, 0.0, coverage)[..., None], axis=2).astype(np.float32)


def range_of(pictures: Sequence[NDArray[np.float32]], look: str) -> tuple[Range, ...]:
    """Ranges that hold all of some pictures of a pass, with a little room; see `show_pass`."""
    if look == "lux":
        return (scale_of(pictures),)
    channels = 3 if look == "place" else 1
    found = []
    for k in range(channels):
        finite = [p[..., k][np.isfinite(p[..., k])] for p in pictures]
        values = np.concatenate(finite) if finite else np.zeros(0, np.float32)
        low, high = (float(values.min()), float(values.max())) if len(values) else (0.0, 1.0)
        room = 0.02 * (high - low) or 0.5 * max(abs(high), 1e-6)
        low = max(0.0, low - room) if look != "place" else low - room
        found.append((float(f"{low:.4g}"), float(f"{high + room:.4g}")))
    return tuple(found)
