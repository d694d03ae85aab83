"""The film: what was traced, pass by pass, as plain arrays.

`PASSES` is the list of passes the tracer makes; every other room asks it rather than keeping a
list of its own.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Pass:
    """A pass: the channels it has in a file, and whether they must be stored in full floats."""

    name: str
    channels: tuple[str, ...]
    exact: bool = False


PASSES: Mapping[str, Pass] = {
    p.name: p
    for p in (
        Pass("beauty", ("R", "G", "B", "A")),
        Pass("albedo", ("albedo.R", "albedo.G", "albedo.B")),
        Pass("occlusion", ("occlusion.Y",)),
        Pass("depth", ("Z",), exact=True),
        Pass("normal", ("normal.X", "normal.Y", "normal.Z")),
        Pass("samples", ("samples.Y",), exact=True),
    )
}


@dataclass(frozen=True, eq=False)
class Film:
    """Every pass of one picture.

    Attributes
    ----------
    passes : name → (H, W, C) float32, top row first, C as in `PASSES`; beauty is scene-linear
        with Rec.709 primaries and premultiplied.
    samples : samples of each pixel, the mean where they differ.
    rays : rays shot.
    seconds : time spent tracing.
    denoised : whether the beauty was denoised.
    noise : relative error of the beauty, its mean over the mean light, where it was measured.
    unfinished : whether a time limit ended it before it had all its samples.
    """

    passes: Mapping[str, NDArray[np.float32]]
    samples: int
    rays: int
    seconds: float
    denoised: bool = False
    noise: float | None = None
    unfinished: bool = False

    @property
    def width(self) -> int:
        return int(next(iter(self.passes.values())).shape[1])

    @property
    def height(self) -> int:
        return int(next(iter(self.passes.values())).shape[0])
