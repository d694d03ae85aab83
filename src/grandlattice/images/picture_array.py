"""A picture as an array that shows itself in a notebook."""

from __future__ import annotations

import io
from collections.abc import Mapping
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray
from PIL import Image

_LARGEST = 960  # pixels across in a notebook


class PictureArray(np.ndarray):
    """(H, W) or (H, W, C) float32; in a notebook the picture as a display shows it.

    Light is shown by the display; single channels and vectors are stretched from their least to their
    greatest finite value.

    Attributes
    ----------
    stops : exposure it is shown with; the values themselves are scene-linear.
    display : it is shown by, see `find_display`.
    grade : what is done to light before it is shown, see `tables.grades.GRADES`.
    """

    stops: float = 0.0
    display: str | None = None
    grade: Mapping[str, float] = MappingProxyType({})

    def __array_finalize__(self, source: object) -> None:
        self.stops = getattr(source, "stops", 0.0)
        self.display = getattr(source, "display", None)
        self.grade = getattr(source, "grade", {})

    def _repr_png_(self) -> bytes | None:
        values: NDArray[np.float32] = np.asarray(self)
        if values.ndim not in (2, 3) or not values.size:  # a part of a picture that is none itself
            return None
        step = max(1, -(-values.shape[1] // _LARGEST))
        values = values[::step, ::step]
        is_light = values.ndim == 3 and values.shape[2] >= 3
        if is_light:
            from grandlattice.images.colour import to_display  # it brings the colour library along

            shown = to_display(_with_alpha(values), self.display, self.stops, self.grade)
        else:
            shown = _stretched(values)
        stream = io.BytesIO()
        Image.fromarray((np.clip(shown, 0.0, 1.0) * 255.0 + 0.5).astype(np.uint8)).save(stream, "PNG")
        return stream.getvalue()


def _with_alpha(values: NDArray[np.float32]) -> NDArray[np.float32]:
    whole = np.ones((*values.shape[:2], 4), np.float32)
    whole[..., : min(values.shape[2], 4)] = values[..., :4]
    return whole


def _stretched(values: NDArray[np.float32]) -> NDArray[np.float32]:
    one = values if values.ndim == 2 else values[..., 0]
    known = one[np.isfinite(one)]
    low, high = (float(known.min()), float(known.max())) if known.size else (0.0, 1.0)
    return np.nan_to_num((one - low) / max(high - low, 1e-12), nan=0.0, posinf=1.0, neginf=0.0)
