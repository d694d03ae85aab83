"""An image at half its size, and at half of that, down to one texel: for textures that are far away.

Light is averaged, not bytes: sixteen bits of it from one size to the next.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.kernel import kernel
from grandlattice.tracer.kernel_memory import bytes_at, uint16s

# mypy: disable-error-code="no-untyped-def"

LINEAR_BYTES, SRGB_BYTES, FLOATS = 0, 1, 2
"""How the numbers of an image are meant."""


def srgb_to_linear(value: NDArray[np.float64]) -> NDArray[np.float64]:
    """IEC 61966-2-1, sRGB to linear, both 0..1."""
    return np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)


_TO_LIGHT = np.round(srgb_to_linear(np.arange(256) / 255.0) * 65535.0).astype(np.uint16)
_FROM_LIGHT = np.searchsorted((_TO_LIGHT[1:].astype(int) + _TO_LIGHT[:-1]) / 2, np.arange(65536)).astype(
    np.uint8
)
_STRAIGHT = (np.arange(256) * 257).astype(np.uint16), (np.arange(65536) >> 8).astype(np.uint8)
_BACK = 2 * 2 * 256  # bytes of the tables that lead from bytes to light
_CURVES = {
    # Bytes to sixteen bits of light for colours and for alpha, which has no curve, and back again.
    kind: np.concatenate([there, _STRAIGHT[0], np.concatenate([back, _STRAIGHT[1]]).view(np.uint16)])
    for kind, (there, back) in {SRGB_BYTES: (_TO_LIGHT, _FROM_LIGHT), LINEAR_BYTES: _STRAIGHT}.items()
}
_MOST_LEVELS = 16


def halve_bytes(texels, width, height, channels, light, halved, half_light, curves):
    """A kernel: an image of RGBA bytes at half the size, averaged as light; an odd last line is left out.

    With 1 of `channels` it is grey, with 3 its alpha is one: what is known is not worked out.

    Parameters
    ----------
    texels : address of the bytes; 0 where their light is known.
    light, half_light : addresses of sixteen bits of light for each channel, read and written.
    halved : address of the bytes that are written.
    curves : address of what light bytes are, and behind it what bytes light is; see `_CURVES`.
    """
    source, lit, out, out_lit = bytes_at(texels), uint16s(light), bytes_at(halved), uint16s(half_light)
    to_light, from_light = uint16s(curves), bytes_at(curves + _BACK)
    for y in range(height >> 1):
        for x in range(width >> 1):
            at = 4 * (y * (width >> 1) + x)
            for c in range(channels):
                total = 0
                for corner in range(4):
                    i = 4 * ((2 * y + (corner >> 1)) * width + 2 * x + (corner & 1)) + c
                    total += to_light[256 * (c == 3) + source[i]] if texels != 0 else lit[i]
                mean = total >> 2
                out_lit[at + c] = mean
                out[at + c] = from_light[65536 * (c == 3) + mean]
            if channels == 1:
                out_lit[at + 1], out[at + 1] = out_lit[at], out[at]
                out_lit[at + 2], out[at + 2] = out_lit[at], out[at]
            if channels < 4:
                out_lit[at + 3], out[at + 3] = 65535, 255
    return 0


def spread_bytes(pixels, count, channels, into):
    """A kernel: texels of one to three bytes, or four, as RGBA: grey is spread, a missing alpha is one."""
    source, out = bytes_at(pixels), bytes_at(into)
    for i in range(count):
        k = channels * i
        for c in range(3):
            out[4 * i + c] = source[k + c] if channels > 2 else source[k]
        alpha = source[k]
        if channels == 2:
            alpha = source[k + 1]
        elif channels == 4:
            alpha = source[k + 3]
        out[4 * i + 3] = alpha if channels & 1 == 0 else 255
    return 0


def _halved(light: NDArray[np.float32]) -> NDArray[np.float32]:
    """An image of floats at half the size, averaged; an odd last line is left out."""
    tall, wide = light.shape[0] // 2, light.shape[1] // 2
    rows = light[: 2 * tall, : 2 * wide]
    lines = rows[::2] + rows[1::2]
    return np.asarray((lines[:, ::2] + lines[:, 1::2]) * np.float32(0.25), np.float32)


def _take_in(texels: NDArray, pixels: NDArray) -> None:
    channels = pixels.shape[1]
    if pixels.dtype == np.uint8:
        pixels = np.ascontiguousarray(pixels)
        kernel("spread_bytes")(pixels.ctypes.data, len(pixels), channels, texels.ctypes.data)
        return
    if channels <= 2:
        texels[:, :3] = pixels[:, :1]
    else:
        texels[:, :channels] = pixels
    if channels == 2:
        texels[:, 3] = pixels[:, 1]
    elif channels != 4:
        texels[:, 3] = 1.0


def sizes_of(pixels: NDArray, curve: int) -> tuple[NDArray, NDArray[np.int32]]:
    """All sizes of an image one after the other, and where each begins, in texels.

    Parameters
    ----------
    pixels : (H, W, 1 to 4), bytes or floats.
    curve : how bytes are meant.

    Returns
    -------
    (N, 4) of the same kind: grey is spread over RGB, a missing alpha is one.  (L,) the first texel of
    each size.
    """
    shapes = [pixels.shape[:2]]
    while min(shapes[-1]) > 1 and len(shapes) < _MOST_LEVELS:
        shapes.append((shapes[-1][0] // 2, shapes[-1][1] // 2))
    counts = np.array([tall * wide for tall, wide in shapes])
    begins = np.cumsum(counts) - counts
    flat = np.empty((int(counts.sum()), 4), pixels.dtype)
    _take_in(flat[: counts[0]], pixels.reshape(counts[0], -1))
    halve = kernel("halve_bytes")
    channels = pixels.shape[2] if pixels.shape[2] in (1, 3) else 4
    floating = pixels.dtype != np.uint8
    light: NDArray = flat[: counts[0]].reshape(*shapes[0], 4) if floating else np.zeros(0, np.uint16)
    for k in range(1, len(shapes)):
        into = flat[begins[k] : begins[k] + counts[k]]
        if floating:
            light = _halved(light)
            into[...] = light.reshape(-1, 4)
            continue
        tall, wide = shapes[k - 1]
        known, light = light, np.empty((counts[k], 4), np.uint16)
        halve(
            flat.ctypes.data if k == 1 else 0, wide, tall, channels, known.ctypes.data,
            into.ctypes.data, light.ctypes.data, _CURVES[curve].ctypes.data,
        )  # fmt: skip
    return flat, begins.astype(np.int32)
