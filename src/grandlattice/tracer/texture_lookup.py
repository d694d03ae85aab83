"""Textures for kernels: a table of how each image is read, and where its pixels are.

Eight-bit images stay eight-bit in memory (a byte a channel, decoded on reading); all others are
float.  Each is followed by itself at half the size, and so on: see `mipmaps`.  Reading is bilinear with
the wrap modes of UsdUVTexture, at the size whose texels are as wide as the ray; between two sizes chance
decides.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Texture
from grandlattice.tracer.kernel_memory import float32s, int32s, records, table
from grandlattice.tracer.lanes import any_of, inner, to_floats, to_ints, where
from grandlattice.tracer.mipmaps import FLOATS, LINEAR_BYTES, SRGB_BYTES, sizes_of, srgb_to_linear

# mypy: disable-error-code="no-untyped-def"

_WRAPS_REPEAT, _WRAPS_CLAMP, _WRAPS_MIRROR, _WRAPS_BLACK = range(4)
_WRAPS = {
    "repeat": _WRAPS_REPEAT, "clamp": _WRAPS_CLAMP, "mirror": _WRAPS_MIRROR, "black": _WRAPS_BLACK,
    "useMetadata": _WRAPS_REPEAT,
}  # fmt: skip


TEXTURE = np.dtype(
    [
        ("texels", "i8"),
        ("offsets", "i8"),  # address of int32, the first texel of each size
        ("levels", "i4"),  # how many sizes
        ("texel_count", "f4"),  # logarithm to base 2 of the largest's texels in 1 by 1 of coordinates
        ("tiles", "i4"), ("first_tile", "i4"),  # lines of ten tiles, and the row of the first of them
        ("second", "i4"),  # whether it is read by the second set of texture coordinates
        ("kind", "i4"), ("width", "i4"), ("height", "i4"), ("wrap_s", "i4"), ("wrap_t", "i4"),
        ("scale", "f4", (4,)), ("bias", "f4", (4,)),
        ("transform", "f4", (6,)),
    ],
    align=True,
)  # fmt: skip
"""How a texture is read; `texels` is the address of its pixels, four channels each."""

texture_at = records(TEXTURE)


def decode_table() -> NDArray[np.float32]:
    """(2, 256) float32, byte → linear value: as it is, and from sRGB."""
    ramp = np.arange(256) / 255.0
    return np.stack([ramp, srgb_to_linear(ramp)]).astype(np.float32)


Sizes = dict[tuple[int, int], tuple[NDArray, NDArray, NDArray[np.int32]]]
"""By the identity of an image and its curve: the image itself, all its sizes, where each begins."""


def pack_textures(
    textures: Iterable[Texture], images: Mapping[str, NDArray | None], known: Sizes | None = None,
    threads: int = 1,
) -> tuple[NDArray, list[NDArray]]:  # fmt: skip
    """Lay textures out for the kernel.

    Parameters
    ----------
    textures : in the order the material table refers to them.
    images : file → (H, W, C) uint8 or float32 array, top row first; None where it is missing,
        which reads as the texture's fallback everywhere.
    known : sizes of images made before; afterwards it holds those of these textures.
    threads : that make sizes.

    Returns
    -------
    (N,) table of `TEXTURE`, and the pixels it points at, to be kept as long as the table.
    """
    textures = list(textures)
    tiled: dict[int, tuple[int, int]] = {}  # texture → lines of tiles, row of the first
    for k in range(len(textures)):
        if textures[k].tiles:
            lines = (max(number for number, _ in textures[k].tiles) - 1001) // 10 + 1
            tiled[k] = lines, len(textures)
            textures += _tiles_of(textures[k], lines)
    found = [images.get(texture.file) for texture in textures]
    # A missing image is one texel of the fallback.
    read = [
        np.array(texture.fallback, np.float32).reshape(1, 1, 4) if pixels is None else pixels
        for texture, pixels in zip(textures, found, strict=True)
    ]
    curves = [_curve(texture, pixels) for texture, pixels in zip(textures, read, strict=True)]
    sizes = _all_sizes(read, curves, {} if known is None else known, threads)
    rows = table(TEXTURE, len(textures))
    for number, (row, texture) in enumerate(zip(rows, textures, strict=False)):
        row["tiles"], row["first_tile"] = tiled.get(number, (0, 0))
        row["wrap_s"], row["wrap_t"] = _WRAPS.get(texture.wrap_s, 0), _WRAPS.get(texture.wrap_t, 0)
        row["scale"], row["bias"] = texture.scale, texture.bias
        row["transform"], row["kind"] = texture.transform, curves[number]
        row["second"] = texture.second
        if found[number] is None:  # it takes no scale and no bias
            row["scale"], row["bias"] = 1.0, 0.0
            row["wrap_s"] = row["wrap_t"] = _WRAPS["clamp"]
        _, texels, offsets = sizes[id(read[number]), curves[number]]
        row["texels"], row["offsets"], row["levels"] = texels.ctypes.data, offsets.ctypes.data, len(offsets)
        row["height"], row["width"] = read[number].shape[:2]
        a, b, _, d, e, _ = texture.transform
        height, width = read[number].shape[:2]
        # Along the direction in which texels are widest: a mean over both would blur what lies across it,
        # and what is finer along the other the samples of a pixel sort out.
        widest = np.linalg.svd([[width * a, width * b], [height * d, height * e]], compute_uv=False)[1]
        row["texel_count"] = np.log2(max(float(widest) ** 2, 1e-30))
    held = [array for entry in sizes.values() for array in entry]
    if not textures:
        # Lanes without a texture read the first one all the same, and forget what they read.
        texels, offsets = np.zeros((1, 4), np.float32), np.zeros(1, np.int32)
        rows[0]["texels"], rows[0]["offsets"] = texels.ctypes.data, offsets.ctypes.data
        rows[0]["width"] = rows[0]["height"] = rows[0]["levels"] = 1
        held = [texels, offsets]
    return rows, held


def _curve(texture: Texture, pixels: NDArray) -> int:
    """How an image's numbers are to be read.

    UsdUVTexture, sourceColorSpace auto: eight bits with three or four channels is sRGB.
    """
    if pixels.dtype != np.uint8:
        return FLOATS
    auto = texture.colour_space == "auto" and pixels.shape[2] >= 3
    return SRGB_BYTES if auto or texture.colour_space == "sRGB" else LINEAR_BYTES


def _all_sizes(images: list[NDArray], curves: list[int], known: Sizes, threads: int) -> Sizes:
    """The sizes of some images, those that are known as they are; `known` forgets all others."""
    wanted = {(id(pixels), curve): pixels for pixels, curve in zip(images, curves, strict=True)}
    kept = {key: known[key] for key in wanted if key in known}
    missing = [key for key in wanted if key not in kept]
    with ThreadPoolExecutor(max(threads, 1)) as pool:
        made = pool.map(lambda key: sizes_of(wanted[key], key[1]), missing)
        kept |= {key: (wanted[key], *each) for key, each in zip(missing, made, strict=True)}
    known.clear()
    known.update(kept)
    return kept


def _tiles_of(texture: Texture, lines: int) -> list[Texture]:
    """A texture for each tile of a grid of ten columns; those that are not there read as the fallback."""
    files = dict(texture.tiles)
    a, b, c, d, e, f = texture.transform
    return [
        replace(
            texture, file=files.get(1001 + 10 * line + column, ""), tiles=(), wrap_s="clamp", wrap_t="clamp",
            transform=(a, b, c - column, d, e, f - line),
        )
        for line in range(lines)
        for column in range(10)
    ]  # fmt: skip


def mean_colour(texture: Texture, images: Mapping[str, NDArray | None]) -> NDArray[np.float64]:
    """The mean of what a texture reads as, RGB."""
    if texture.tiles:
        each = [mean_colour(replace(texture, file=file, tiles=()), images) for file in texture.files]
        return np.asarray(np.mean(each, axis=0))
    pixels = images.get(texture.file)
    if pixels is None:
        return np.array(texture.fallback[:3], float)
    curve = _curve(texture, pixels)
    mean = np.zeros(3)
    for k in range(3):
        channel = pixels[..., min(k, pixels.shape[2] - 1) if pixels.shape[2] >= 3 else 0]
        if pixels.dtype == np.uint8:
            counts = np.bincount(channel.reshape(-1), minlength=256)
            mean[k] = (counts @ decode_table()[curve]) / channel.size
        else:
            mean[k] = float(np.nan_to_num(channel, posinf=65504.0).mean())
    return mean * np.array(texture.scale[:3]) + np.array(texture.bias[:3])


@inner
def _wrapped(i, size, mode):
    """The texel that index `i` means, and whether there is one; all as floats."""
    last = size - 1.0
    inside = (i >= 0.0) & (i <= last)
    turns = where(mode == _WRAPS_MIRROR, 2.0 * size, size)
    j = min(max(i - math.floor(i / turns) * turns, 0.0), turns - 1.0)
    j = where(j > last, 2.0 * size - 1.0 - j, j)
    j = where((mode == _WRAPS_CLAMP) | (mode == _WRAPS_BLACK), min(max(i, 0.0), last), j)
    return to_ints(j), inside | (mode != _WRAPS_BLACK)


@inner
def _texel(texture, kind, decode, index, weight):
    """RGBA of one texel of each lane's texture, times a weight."""
    rgba = (0.0 * weight, 0.0 * weight, 0.0 * weight, 0.0 * weight)
    bytewise = kind != FLOATS
    if any_of(bytewise):
        word = int32s(texture)[where(bytewise, index, 0)]
        d, curve = float32s(decode), where(kind == SRGB_BYTES, 256, 0)
        rgba = (
            d[curve + (word & 255)], d[curve + ((word >> 8) & 255)],
            d[curve + ((word >> 16) & 255)], to_floats(word >> 24) / 255.0,
        )  # fmt: skip
    if any_of(~bytewise):
        t, k = float32s(texture), where(bytewise, 0, 4 * index)
        rgba = (
            where(bytewise, rgba[0], t[k]), where(bytewise, rgba[1], t[k + 1]),
            where(bytewise, rgba[2], t[k + 2]), where(bytewise, rgba[3], t[k + 3]),
        )  # fmt: skip
    return (weight * rgba[0], weight * rgba[1], weight * rgba[2], weight * rgba[3])


@inner
def tile_at(textures, row, u, v):
    """The row of the tile that holds (u, v), for textures in tiles; the row itself for others."""
    texture = texture_at(textures, row)
    tiled = texture.tiles > 0
    if any_of(tiled):
        m = texture.transform
        column = to_ints(min(max(math.floor(m[0] * u + m[1] * v + m[2]), -1.0), 10.0))
        line = to_ints(min(max(math.floor(m[3] * u + m[4] * v + m[5]), -1.0), 1000.0))
        inside = (column >= 0) & (column < 10) & (line >= 0) & (line < texture.tiles)
        row = where(tiled & inside, texture.first_tile + 10 * line + column, row)
    return row


@inner
def read_texture(texture, decode, u, v, width_log, chance):
    """RGBA at (u, v), with the texture's transform, scale and bias applied.

    `width_log` is the logarithm to base 2 of the area, in texture coordinates, that is looked at; `chance`
    in [0, 1) decides between two sizes.
    """
    level = math.floor(0.5 * (width_log + texture.texel_count) + chance)
    level = to_ints(min(max(level, 0.0), to_floats(texture.levels - 1)))
    columns, texels, kind = max(texture.width >> level, 1), texture.texels, texture.kind
    first = int32s(texture.offsets)[level]
    width, height = to_floats(columns), to_floats(max(texture.height >> level, 1))
    m = texture.transform
    s = (m[0] * u + m[1] * v + m[2]) * width - 0.5
    t = (1.0 - (m[3] * u + m[4] * v + m[5])) * height - 0.5  # v counts from the bottom
    sane = (abs(s) < 1e7) & (abs(t) < 1e7)
    s, t = where(sane, s, 0.0), where(sane, t, 0.0)
    x, y = math.floor(s), math.floor(t)
    a, b = s - x, t - y
    x0, x0_is = _wrapped(x, width, texture.wrap_s)
    x1, x1_is = _wrapped(x + 1.0, width, texture.wrap_s)
    y0, y0_is = _wrapped(y, height, texture.wrap_t)
    y1, y1_is = _wrapped(y + 1.0, height, texture.wrap_t)
    left, right = where(x0_is, 1.0 - a, 0.0), where(x1_is, a, 0.0)
    top, bottom = where(y0_is, 1.0 - b, 0.0), where(y1_is, b, 0.0)
    c00 = _texel(texels, kind, decode, first + y0 * columns + x0, left * top)
    c10 = _texel(texels, kind, decode, first + y0 * columns + x1, right * top)
    c01 = _texel(texels, kind, decode, first + y1 * columns + x0, left * bottom)
    c11 = _texel(texels, kind, decode, first + y1 * columns + x1, right * bottom)
    k, o = texture.scale, texture.bias
    return (
        (c00[0] + c10[0] + c01[0] + c11[0]) * k[0] + o[0],
        (c00[1] + c10[1] + c01[1] + c11[1]) * k[1] + o[1],
        (c00[2] + c10[2] + c01[2] + c11[2]) * k[2] + o[2],
        (c00[3] + c10[3] + c01[3] + c11[3]) * k[3] + o[3],
    )
