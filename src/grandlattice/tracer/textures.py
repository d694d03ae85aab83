"""Textures for kernels: a table of how each image is read, and where its pixels are.

Eight-bit images stay eight-bit in memory (a byte a channel, decoded on reading); all others are
float.  Reading is bilinear with the wrap modes of UsdUVTexture.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grandlattice.snapshot import Texture
from grandlattice.tracer.memory import bytes_at, float32s, float64s, records, table

# mypy: disable-error-code="no-untyped-def"

_WRAPS = {"repeat": 0, "clamp": 1, "mirror": 2, "black": 3, "useMetadata": 0}
_LINEAR_BYTES, _SRGB_BYTES, _FLOATS = 0, 1, 2


TEXTURE = np.dtype(
    [
        ("kind", "i8"), ("texels", "i8"), ("width", "i8"), ("height", "i8"),
        ("wrap_s", "i8"), ("wrap_t", "i8"),
        ("scale", "f8", (4,)), ("bias", "f8", (4,)), ("fallback", "f8", (4,)),
        ("transform", "f8", (6,)),
    ],
    align=True,
)  # fmt: skip
"""How a texture is read; `texels` is the address of its pixels, width 0 a missing one."""

texture_at = records(TEXTURE)


def srgb_to_linear(value: NDArray[np.float64]) -> NDArray[np.float64]:
    """IEC 61966-2-1, sRGB to linear, both 0..1."""
    return np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)


def _with_four_channels(pixels: NDArray) -> NDArray:
    """RGBA from 1 to 4 channels: grey is spread over RGB, a missing alpha is one."""
    height, width, channels = pixels.shape
    one = 255 if pixels.dtype == np.uint8 else 1.0
    out = np.full((height, width, 4), one, pixels.dtype)
    if channels <= 2:
        out[..., :3] = pixels[..., :1]
        out[..., 3] = pixels[..., 1] if channels == 2 else one
    else:
        out[..., :channels] = pixels
    return out


def decode_table() -> NDArray[np.float64]:
    """(2, 256) byte → linear value: as it is, and from sRGB."""
    ramp = np.arange(256) / 255.0
    return np.stack([ramp, srgb_to_linear(ramp)])


def pack_textures(
    textures: Iterable[Texture], images: Mapping[str, NDArray | None]
) -> tuple[NDArray, list[NDArray]]:
    """Lay textures out for the kernel.

    Parameters
    ----------
    textures : in the order the material table refers to them.
    images : file → (H, W, C) uint8 or float32 array, top row first; None where it is missing,
        which reads as the texture's fallback everywhere.

    Returns
    -------
    (N,) table of `TEXTURE`, and the pixels it points at, to be kept as long as the table.
    """
    textures = list(textures)
    rows, held = table(TEXTURE, len(textures)), {}
    for row, texture in zip(rows, textures, strict=False):
        row["wrap_s"], row["wrap_t"] = _WRAPS.get(texture.wrap_s, 0), _WRAPS.get(texture.wrap_t, 0)
        row["scale"], row["bias"] = texture.scale, texture.bias
        row["fallback"], row["transform"] = texture.fallback, texture.transform
        pixels = images.get(texture.file)
        if pixels is None:
            continue
        if texture.file not in held:
            held[texture.file] = np.ascontiguousarray(_with_four_channels(pixels))
        row["kind"] = _FLOATS
        if pixels.dtype == np.uint8:
            # UsdUVTexture, sourceColorSpace auto: eight bits with three or four channels is sRGB.
            auto = texture.colour_space == "auto" and pixels.shape[2] >= 3
            row["kind"] = _SRGB_BYTES if auto or texture.colour_space == "sRGB" else _LINEAR_BYTES
        row["texels"] = held[texture.file].ctypes.data
        row["height"], row["width"] = pixels.shape[:2]
    return rows, list(held.values())


@njit(error_model="numpy")
def _wrapped(i, size, mode):
    """The texel that index `i` means, or −1 for black."""
    if mode == 1:
        return min(max(i, 0), size - 1)
    if mode == 2:
        i = i % (2 * size)
        return i if i < size else 2 * size - 1 - i
    if mode == 3:
        return i if 0 <= i < size else -1
    return i % size


@njit(error_model="numpy")
def _texel(texture, decode, x, y):
    if x < 0 or y < 0:
        return (0.0, 0.0, 0.0, 0.0)
    k = 4 * (y * texture.width + x)
    if texture.kind == _FLOATS:
        t = float32s(texture.texels)
        return (float(t[k]), float(t[k + 1]), float(t[k + 2]), float(t[k + 3]))
    b, d = bytes_at(texture.texels), float64s(decode)
    curve = 256 * texture.kind
    return (d[curve + b[k]], d[curve + b[k + 1]], d[curve + b[k + 2]], d[int(b[k + 3])])


@njit(error_model="numpy")
def read_texture(texture, decode, u, v):
    """RGBA at (u, v), with the texture's transform, scale and bias applied."""
    width, height = texture.width, texture.height
    if width == 0:
        f = texture.fallback
        return (f[0], f[1], f[2], f[3])
    m = texture.transform
    s = (m[0] * u + m[1] * v + m[2]) * width - 0.5
    t = (1.0 - (m[3] * u + m[4] * v + m[5])) * height - 0.5  # v counts from the bottom
    if not (abs(s) < 1e9 and abs(t) < 1e9):
        s, t = 0.0, 0.0
    x, y = math.floor(s), math.floor(t)
    a, b = s - x, t - y
    x0, x1 = _wrapped(x, width, texture.wrap_s), _wrapped(x + 1, width, texture.wrap_s)
    y0, y1 = _wrapped(y, height, texture.wrap_t), _wrapped(y + 1, height, texture.wrap_t)
    c00, c10 = _texel(texture, decode, x0, y0), _texel(texture, decode, x1, y0)
    c01, c11 = _texel(texture, decode, x0, y1), _texel(texture, decode, x1, y1)
    w00, w10, w01, w11 = (1.0 - a) * (1.0 - b), a * (1.0 - b), (1.0 - a) * b, a * b
    k, o = texture.scale, texture.bias
    return (
        (w00 * c00[0] + w10 * c10[0] + w01 * c01[0] + w11 * c11[0]) * k[0] + o[0],
        (w00 * c00[1] + w10 * c10[1] + w01 * c01[1] + w11 * c11[1]) * k[1] + o[1],
        (w00 * c00[2] + w10 * c10[2] + w01 * c01[2] + w11 * c11[2]) * k[2] + o[2],
        (w00 * c00[3] + w10 * c10[3] + w01 * c01[3] + w11 * c11[3]) * k[3] + o[3],
    )
