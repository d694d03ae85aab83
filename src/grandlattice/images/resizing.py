"""Pictures in other sizes."""

from __future__ import annotations

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from grandlattice.errors import ImageError


def resized(picture: NDArray[np.float32], width: int, height: int) -> NDArray[np.float32]:
    """A picture in another size, by OpenImageIO's own filter for the direction (Lanczos for smaller ones,
    Blackman-Harris for larger ones).

    Parameters
    ----------
    picture : (H, W, C) float32; alpha premultiplied.

    Returns
    -------
    (height, width, C) float32; light is never below nought.

    Raises
    ------
    ImageError
        When it does not fit into memory.
    """
    if picture.shape[:2] == (height, width):
        return picture
    source = oiio.ImageBuf(np.ascontiguousarray(picture, np.float32))
    made = oiio.ImageBufAlgo.resize(source, roi=oiio.ROI(0, width, 0, height, 0, 1, 0, picture.shape[2]))
    if made.has_error:
        raise ImageError(f"The picture cannot be made {width}x{height}: {made.geterror()}")
    pixels: NDArray[np.float32] = np.asarray(made.get_pixels(oiio.FLOAT), np.float32)
    return np.maximum(pixels, 0.0)


def fitted(width: int, height: int, into_width: int, into_height: int) -> tuple[int, int]:
    """The largest size of the same shape within another."""
    share = min(into_width / width, into_height / height)
    return max(1, round(width * share)), max(1, round(height * share))
