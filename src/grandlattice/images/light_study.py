"""Studies of illuminance: the brightest and the darkest place, and how much of a picture has enough."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from grandlattice.images.false_colour import with_legend
from grandlattice.images.sheet_layout import letters_of

_PART = 40  # of the width of a picture: a place is as wide as that, so that no speck of noise is one
_MOST = 0.999  # of the pixels are not brighter than what counts as the most


class Place(NamedTuple):
    """A place of a picture.

    Attributes
    ----------
    x, y : of its middle, pixels.
    value : its mean.
    """

    x: int
    y: int
    value: float


class LightStudy(NamedTuple):
    """What a picture of illuminance says.

    Attributes
    ----------
    brightest, darkest : places a fortieth of the picture wide.
    above : part of the picture that has more than a threshold, 0..1; None without one.
    """

    brightest: Place
    darkest: Place
    above: float | None


def study_light(lux: NDArray[np.float32], threshold: float | None = None) -> LightStudy:
    """The brightest and the darkest place of a picture of illuminance, and the part above a threshold.

    Parameters
    ----------
    lux : (H, W) or (H, W, 1); what is no number, or nothing, is left out.

    Examples
    --------
    >>> lux = np.full((80, 80), 100.0, np.float32)
    >>> lux[:, 60:] = 500.0
    >>> study_light(lux, 300.0).above
    0.25
    """
    height, width = lux.shape[0], lux.shape[1]
    values = np.asarray(lux, np.float64).reshape(height, width)
    known = np.isfinite(values) & (values > 0.0)
    size = max(1, min(width // _PART, width, height))
    most = float(np.quantile(values[known], _MOST)) if known.any() else 0.0
    mean = _block_sums(np.where(known, np.minimum(np.where(known, values, 0.0), most), 0.0), size)
    count = _block_sums(known.astype(float), size)
    full = count >= 0.75 * size * size
    means = np.divide(mean, count, out=np.zeros_like(mean), where=count > 0.0)
    if not full.any():
        full = count > 0.0
    places = []
    for sign in (1.0, -1.0):
        y, x = np.unravel_index(int(np.argmax(np.where(full, sign * means, -np.inf))), means.shape)
        places.append(Place(int(x) + size // 2, int(y) + size // 2, float(means[y, x])))
    above = None
    if threshold is not None:
        above = float((values[known] > threshold).mean()) if known.any() else 0.0
    return LightStudy(places[0], places[1], above)


def _block_sums(array: NDArray[np.float64], size: int) -> NDArray[np.float64]:
    """Sums over all squares of a size, (H - size + 1, W - size + 1)."""
    sums = np.pad(array.cumsum(0).cumsum(1), ((1, 0), (1, 0)))
    return sums[size:, size:] - sums[:-size, size:] - sums[size:, :-size] + sums[:-size, :-size]


def light_picture(
    lux: NDArray[np.float32], low: float, high: float, threshold: float | None = None
) -> NDArray[np.float32]:
    """A picture of illuminance in false colours with its legend, its brightest and darkest place marked.

    Parameters
    ----------
    lux : (H, W, 1).
    low, high : as in `colours_of`.
    threshold : the part of the picture that has more is written on it, lx.

    Returns
    -------
    (H + strip, W, 4) float32, 0..1, as displayed.
    """
    study = study_light(lux, threshold)
    whole = with_legend(lux, low, high, "lx")
    image = Image.fromarray((whole[..., :3] * 255.0 + 0.5).astype(np.uint8))
    draw = ImageDraw.Draw(image)
    height, width = lux.shape[:2]
    letters = letters_of(width)
    radius = max(3, letters.size // 2)
    for place, ink, paper in ((study.brightest, "#000000", "#ffffff"), (study.darkest, "#ffffff", "#000000")):
        box = place.x - radius, place.y - radius, place.x + radius, place.y + radius
        draw.ellipse((box[0] - 1, box[1] - 1, box[2] + 1, box[3] + 1), outline=paper)
        draw.ellipse(box, outline=ink)
        text = f"{place.value:,.3g} lx" if place.value < 1000 else f"{place.value:,.0f} lx"
        long = letters.length(text)
        x = min(max(place.x - long / 2.0, 2.0), width - long - 2.0)
        is_low = place.y + radius + letters.size + 4 < height
        y = place.y + radius + 2 if is_low else place.y - radius - letters.size - 4
        letters.write(draw, (x, y), text, ink, stroke_width=1, stroke_fill=paper)
    if study.above is not None:
        text = f"{100.0 * study.above:.0f} % above {threshold:g} lx"
        corner = letters.size / 2.0, letters.size / 2.0
        letters.write(draw, corner, text, "#ffffff", stroke_width=1, stroke_fill="#000000")
    made = whole.copy()
    made[..., :3] = np.asarray(image, np.float32) / 255.0
    return made
