"""Two pictures against each other: how far they are apart, where, and by how many pixels."""

from __future__ import annotations

import io
import math
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from grandlattice.errors import ImageError
from grandlattice.images.false_colour import scale_of, with_legend

_SAME = 1e-6  # relative; differences below are rounding
_WINDOW, _SIGMA = 11, 1.5  # of the structural similarity, pixels
_K1, _K2 = 0.01, 0.03
_LUMA = np.array([0.2126, 0.7152, 0.0722])  # ITU-R BT.709


@dataclass(frozen=True)
class Comparison:
    """How far two pictures are apart; both count what is finite in both.

    Attributes
    ----------
    mse : mean squared error over pixels and channels.
    psnr : peak signal-to-noise ratio, dB; infinite for equal pictures.
    ssim : structural similarity of their luminance, 1 for equal pictures.
    relative : root of `mse` over the root of the mean square of the first.
    largest : largest difference of a channel.
    at : where that is, x and y from the top left.
    share : part of the pixels that differ by more than rounding.
    peak : what `psnr` and `ssim` take for white: 1 for a picture as displayed, else the brightest value of
        both but for a thousandth of the pixels.
    difference : (H, W) float32, the largest difference of the channels of each pixel; infinite where one is
        finite and the other is not.
    """

    mse: float
    psnr: float
    ssim: float
    relative: float
    largest: float
    at: tuple[int, int]
    share: float
    peak: float
    difference: NDArray[np.float32] = field(repr=False, compare=False)

    def picture(self) -> Image.Image:
        """The difference in false colours, with its scale."""
        known = np.where(np.isfinite(self.difference), self.difference, 0.0).astype(np.float32)
        low, high = scale_of([known])
        shown = with_legend(known, low, high, "")
        return Image.fromarray((np.clip(shown[..., :3], 0.0, 1.0) * 255.0 + 0.5).astype(np.uint8))

    def save(self, file: str | Path) -> None:
        """Write `picture` to a file that a display shows.

        Raises
        ------
        ImageError
            When it cannot be written.
        """
        try:
            self.picture().save(file)
        except (OSError, ValueError) as problem:
            raise ImageError(f"{file} cannot be written: {problem}.") from problem

    def _repr_png_(self) -> bytes:
        stream = io.BytesIO()
        self.picture().save(stream, "PNG")
        return stream.getvalue()


def compare_pictures(
    first: NDArray[np.float32], second: NDArray[np.float32], *, displayed: bool = False
) -> Comparison:
    """Compare two pictures of one size.

    Parameters
    ----------
    first, second : (H, W, C) float32, C alike.
    displayed : whether they are as a display shows them, 0..1.

    Raises
    ------
    ImageError
        When their sizes or channels differ.

    Examples
    --------
    >>> grey = np.full((16, 16, 3), 0.5, np.float32)
    >>> found = compare_pictures(grey, grey + np.float32(0.1), displayed=True)
    >>> round(found.mse, 4), round(found.psnr, 2), found.share
    (0.01, 20.0, 1.0)
    """
    if first.shape != second.shape:
        raise ImageError(
            f"The pictures are {_shape(first)} and {_shape(second)}; only pictures of one size and as many "
            "channels can be compared.",
            cure="give both the same size, or name one --pass that both have",
        )
    a, b = first.astype(np.float64), second.astype(np.float64)
    known = np.isfinite(a) & np.isfinite(b)
    odd = np.isfinite(a) != np.isfinite(b)
    a, b = np.where(known, a, 0.0), np.where(known, b, 0.0)
    apart = np.abs(a - b)
    count = max(int(known.sum()), 1)
    mse = float(np.square(apart).sum() / count)
    root = math.sqrt(float(np.square(a).sum() / count))
    peak = 1.0 if displayed else _brightest(a, b)
    differs = (apart > _SAME * np.maximum(np.abs(a), np.abs(b))) | odd
    largest = np.where(odd, np.inf, apart).max(axis=-1)
    y, x = np.unravel_index(int(np.argmax(largest)), largest.shape)
    return Comparison(
        mse=mse,
        psnr=10.0 * math.log10(peak * peak / mse) if mse > 0.0 else math.inf,
        ssim=similarity(_luminance(a), _luminance(b), peak),
        relative=math.sqrt(mse) / root if root > 0.0 else (math.inf if mse > 0.0 else 0.0),
        largest=float(largest[y, x]),
        at=(int(x), int(y)),
        share=float(differs.any(axis=-1).mean()),
        peak=peak,
        difference=largest.astype(np.float32),
    )


def similarity(a: NDArray[np.float64], b: NDArray[np.float64], peak: float) -> float:
    """Mean structural similarity of two pictures (H, W), with a Gaussian window (Wang, Bovik, Sheikh and
    Simoncelli, "Image quality assessment: from error visibility to structural similarity", 2004)."""
    means = _blurred(a), _blurred(b)
    squares = _blurred(a * a) - means[0] ** 2, _blurred(b * b) - means[1] ** 2
    both = _blurred(a * b) - means[0] * means[1]
    c1, c2 = (_K1 * peak) ** 2, (_K2 * peak) ** 2
    above = (2.0 * means[0] * means[1] + c1) * (2.0 * both + c2)
    below = (means[0] ** 2 + means[1] ** 2 + c1) * (squares[0] + squares[1] + c2)
    return float((above / below).mean())


def _blurred(image: NDArray[np.float64]) -> NDArray[np.float64]:
    """Blurred by a Gaussian, the border repeated."""
    half = _WINDOW // 2
    taps = np.exp(-0.5 * (np.arange(-half, half + 1) / _SIGMA) ** 2)
    taps /= taps.sum()
    for axis in (0, 1):
        wide = np.pad(image, [(half, half) if k == axis else (0, 0) for k in (0, 1)], "edge")
        rows = [np.take(wide, range(k, k + image.shape[axis]), axis) * tap for k, tap in enumerate(taps)]
        image = np.sum(rows, axis=0)
    return image


def _luminance(image: NDArray[np.float64]) -> NDArray[np.float64]:
    made: NDArray[np.float64] = image[..., :3] @ _LUMA if image.shape[2] >= 3 else image[..., 0]
    return made


def _brightest(a: NDArray[np.float64], b: NDArray[np.float64]) -> float:
    found = max(float(np.quantile(np.abs(each), 0.999)) for each in (a, b))
    return found if found > 0.0 else max(float(np.abs(a).max()), float(np.abs(b).max()), 1e-12)


def _shape(picture: NDArray) -> str:
    height, width, channels = picture.shape
    return f"{width}x{height} with {channels} channels"
