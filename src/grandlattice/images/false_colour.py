"""Measures as colours: how much light arrives, on a scale of factors, with a legend that says how much
each colour is."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from grandlattice.images.sheet_layout import BACKGROUND, INK, letters_of

# Each colour is lighter than the one before, so that the scale also reads in grey.
_COLOURS = np.array([
    (0.05, 0.04, 0.16), (0.19, 0.15, 0.47), (0.14, 0.36, 0.58), (0.15, 0.55, 0.47), (0.55, 0.68, 0.24),
    (0.95, 0.73, 0.25), (1.00, 0.95, 0.82),
])  # fmt: skip


def scale_of(pictures: Iterable[NDArray[np.float32]]) -> tuple[float, float]:
    """From where to where a scale should go for some pictures to be comparable: round figures that hold
    all but the darkest and the brightest hundredth of them, a factor of ten apart at least."""
    lit = [picture[np.isfinite(picture) & (picture > 0.0)].ravel() for picture in pictures]
    values = np.concatenate([np.zeros(0), *lit])
    if not len(values):
        return 1.0, 10.0
    low, high = np.quantile(values, (0.01, 0.99))
    low = _round_down(float(min(low, high / 10.0)))
    return low, max(_round_down(float(high)) * 2.0, low * 10.0)


def _round_down(value: float) -> float:
    """The largest of … 1, 2, 5, 10, 20, 50 … that is not above a value."""
    decade = 10.0 ** math.floor(math.log10(value) + 1e-9)
    return decade * max(step for step in (1, 2, 5) if step * decade <= value * (1.0 + 1e-9))


def colours_of(values: NDArray[np.float32], low: float, high: float) -> NDArray[np.float32]:
    """Displayed colours of values on a logarithmic scale.

    Parameters
    ----------
    values : (H, W) or (H, W, 1), of any unit.
    low, high : what the first and the last colour stand for; beyond them nothing changes.

    Returns
    -------
    (H, W, 3) float32, 0..1.
    """
    values = np.nan_to_num(values.reshape(values.shape[:2]), posinf=high)
    place = np.log(np.maximum(values, low) / low) / math.log(high / low)
    steps = np.linspace(0.0, 1.0, len(_COLOURS))
    each = [np.interp(np.clip(place, 0.0, 1.0), steps, _COLOURS[:, k]) for k in range(3)]
    return np.stack(each, axis=-1).astype(np.float32)


def with_legend(values: NDArray[np.float32], low: float, high: float, unit: str) -> NDArray[np.float32]:
    """A picture in false colours above a strip that says what the colours stand for.

    Parameters
    ----------
    values, low, high : as in `colours_of`.
    unit : stands behind the figures, such as ``lx``.

    Returns
    -------
    (H + strip, W, 4) float32, 0..1, as displayed.
    """
    colours = colours_of(values, low, high)
    width = colours.shape[1]
    letters = letters_of(width)
    size = bar = letters.size
    strip = Image.new("RGBA", (width, int(size * 2.8)), BACKGROUND)
    along = (low * (high / low) ** np.linspace(0.0, 1.0, width)).astype(np.float32)
    ramp = colours_of(along[None], low, high)
    strip.paste(Image.fromarray((np.repeat(ramp, bar, 0) * 255).astype(np.uint8)), (0, size // 3))
    draw, taken = ImageDraw.Draw(strip), -1.0
    for figure in _figures(low, high):
        text = f"{figure:g} {unit}" if figure == low else f"{figure:g}"
        at = math.log(figure / low) / math.log(high / low) * width
        long = letters.length(text)
        left = min(max(at - long / 2, size / 3), width - long - size / 3)
        if left > taken:
            draw.line([(at, size // 3), (at, size // 3 + bar)], BACKGROUND)
            letters.write(draw, (left, bar + size * 0.5), text, INK)
            taken = left + long + size
    alpha = np.ones_like(colours[..., :1])
    return np.concatenate([np.concatenate([colours, alpha], 2), np.asarray(strip, np.float32) / 255.0], 0)


def _figures(low: float, high: float) -> list[float]:
    found, decade = [], 10.0 ** math.floor(math.log10(low))
    while decade <= high * 1.001:
        found += [step * decade for step in (1, 2, 5) if low * 0.999 <= step * decade <= high * 1.001]
        decade *= 10.0
    return found
