"""Pixels for the page: scene-linear values as a browser can read them, small and exact.

Each channel is a plane of whole numbers that grow with the value; each is told as the difference to what its
neighbours lead to expect, signs folded in; bytes of one significance stand together, and all is deflated.
"""

from __future__ import annotations

import base64
import zlib
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

_LEVEL = 5  # of deflating: higher ones take many times as long for a hundredth


class Packed(NamedTuple):
    """A picture, packed.

    Attributes
    ----------
    told : width, height, channels and kind, for who unpacks it.
    data : in base64.
    """

    told: dict[str, int | str]
    data: str


def pack(values: NDArray[np.float32], kind: str) -> Packed:
    """Pack a picture.

    Parameters
    ----------
    values : (H, W, C) float32.
    kind : ``half``, what half precision holds of each value; ``float``, the very values; ``bits``, their
        bits.

    Examples
    --------
    >>> pack(np.zeros((2, 3, 1), np.float32), "half").told
    {'w': 3, 'h': 2, 'c': 1, 'kind': 'half'}
    """
    if kind == "half":
        most = float(np.finfo(np.float16).max)
        planes = _growing(np.clip(values, -most, most).astype(np.float16).view(np.uint16))
    else:
        planes = np.ascontiguousarray(values, np.float32).view(np.uint32)
        planes = _growing(planes) if kind == "float" else planes
    planes = np.ascontiguousarray(planes.transpose(2, 0, 1))
    bits = planes.dtype.itemsize * 8
    expected = planes.copy()
    expected[:, :, 1:] -= planes[:, :, :-1]
    expected[:, 1:, :] -= planes[:, :-1, :]
    expected[:, 1:, 1:] += planes[:, :-1, :-1]
    signs = (expected.view(planes.dtype.name.replace("u", "")) >> (bits - 1)).view(planes.dtype)
    folded = (expected << planes.dtype.type(1)) ^ signs
    parts = [(folded >> planes.dtype.type(shift)).astype(np.uint8) for shift in range(bits - 8, -1, -8)]
    deflating = zlib.compressobj(_LEVEL, zlib.DEFLATED, -15)
    data = b"".join(deflating.compress(part.tobytes()) for part in parts) + deflating.flush()
    height, width, channels = values.shape
    told: dict[str, int | str] = {"w": width, "h": height, "c": channels, "kind": kind}
    return Packed(told, base64.b64encode(data).decode())


def _growing(bits: NDArray) -> NDArray:
    """Bits of floating-point numbers as whole numbers that grow with them."""
    top = bits.dtype.type(1 << (bits.dtype.itemsize * 8 - 1))
    return np.where(bits & top, ~bits, bits | top)
