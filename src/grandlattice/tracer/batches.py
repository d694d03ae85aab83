"""Batches of paths: how one is lined up, and how what it brought home is added to the film.

A batch is lined up pixel by pixel and sample by sample; at its end the results of each pixel's samples
are added in their order.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from grandlattice.tables.passes import RANKS
from grandlattice.tracer.kernel_memory import float32s, int32s, load, row_sums, scatter_to, store
from grandlattice.tracer.lanes import LANES, all_lanes, inner, lane_numbers, where
from grandlattice.tracer.path_state import (
    ALBEDO,
    ALPHA,
    CAPACITY,
    CAUGHT,
    COLUMN,
    DEPTH,
    FIRST_LUX,
    FIRST_MATT,
    LINE,
    LOOK,
    NORMAL,
    OBJECT,
    POSITION,
    RADIANCE,
    SAMPLE,
    SHARES,
    UV,
)

# mypy: disable-error-code="no-untyped-def"

FILM = np.dtype(
    [
        ("width", "i8"), ("left", "i8"), ("top", "i8"),  # which part of the whole picture it is
        # Addresses of float32 pixels: sums over samples …
        ("beauty", "i8"),
        # … and, 0 without a pass of it, the depth of the nearest sample of each pixel: +inf before the first
        # sample, `NOTHING` where there was nothing, and negative where all that is known is something
        # clear that turned the path away.
        ("depth", "i8"),
        # Sums over samples of what surfaces that catch shadow say, 0 where there are none: how
        # much of the pixel they cover, the light that would reach them, what of it is blocked.
        ("caught", "i8"),
        # What only some pictures want, 0 where they do not: sums of parts of the beauty, one whole
        # picture after the other, light sums likewise, and of the albedo; normal, place, texture
        # coordinates and object of the nearest sample; depth and how many samples have one; objects and
        # materials with their samples, RANKS each.
        ("pixels", "i8"), ("shares", "i8"), ("light_sums", "i8"), ("sky", "i8"), ("albedo", "i8"),
        ("normal", "i8"), ("position", "i8"), ("uv", "i8"), ("front", "i8"),
        ("depth_soft", "i8"), ("objects", "i8"), ("looks", "i8"),
    ],
    align=True,
)  # fmt: skip

TILE = np.dtype(
    [
        ("left", "i8"), ("top", "i8"), ("right", "i8"), ("bottom", "i8"),  # a rectangle of pixels,
        ("first", "i8"), ("count", "i8"),  # the number of its first sample, and how many there are,
        ("stride", "i8"), ("at_once", "i8"),  # places of a pixel in a batch, and how many pixels one has
    ],
    align=True,
)  # fmt: skip

NOTHING = 3e38
_FEW = 4  # samples of a pixel that are read one by one


class Batch(NamedTuple):
    """Some pixels of a rectangle `width` wide whose corner is at (`left`, `top`), and some of their samples.

    The pixels are `pixel` … `pixel + pixels`, counted line by line, the samples `first` … `first + count`; a
    pixel has `stride` places.
    """

    left: Any
    top: Any
    width: Any
    pixel: Any
    pixels: Any
    first: Any
    count: Any
    stride: Any


def stride_of(count: int) -> int:
    """Places of a pixel with `count` samples in a batch.

    Sixteen places that go together are samples of one pixel, or all samples of a few.
    """
    stride = 1
    while stride < min(count, LANES):
        stride *= 2
    return stride * -(-count // stride)


@inner
def line_up(room, film, fields, batch, branches):
    """Write the pixels and samples of a batch into the room, with results as of a miss.

    A pixel has `stride` places; those without a sample have the number −1.  `fields` are the parts of the
    beauty and the light sums.
    """
    width, pixels, first, count, stride = batch.width, batch.pixels, batch.first, batch.count, batch.stride
    words, results, places = int32s(room), float32s(room), pixels * stride
    line = batch.pixel // width
    column = batch.pixel - line * width
    for i in range(pixels):
        for k in range(i * stride, (i + 1) * stride):
            words[COLUMN + k], words[LINE + k] = film.left + batch.left + column, film.top + batch.top + line
            words[SAMPLE + k] = first + k - i * stride if k - i * stride < count else -1
        column += 1
        if column == width:
            column, line = 0 * column, line + 1
    for k in range(0, places, LANES):
        store(results, DEPTH + k, all_lanes(math.inf))
    if film.albedo != 0:
        _clear(results, ALBEDO, 3, places)
    if film.caught != 0:
        _clear(results, CAUGHT, 3, places)
    _clear(results, RADIANCE, 3, branches * places)
    if fields > 0:
        _clear(results, FIRST_MATT, 1, branches * places)
        _clear(results, FIRST_LUX, 3, branches * places)
        _clear(results, SHARES, 3 * fields, branches * places)


@inner
def _clear(results, field, count, places):
    """Make results nought, `count` fields from one on."""
    for channel in range(count):
        for k in range(0, places, LANES):
            store(results, field + channel * CAPACITY + k, all_lanes(0.0))


@inner
def _rank(slots, at, number):
    """Count a sample for what it met, among `RANKS` pairs of (number + 1, samples)."""
    for rank in range(RANKS):
        held = slots[at + 2 * rank]
        if held == number or held == 0:
            slots[at + 2 * rank] = number
            slots[at + 2 * rank + 1] += 1
            return


@inner
def _count_samples(room, film, pixel, at, count):
    """Count what the samples of a pixel met, and how far away it was."""
    words, results = int32s(room), float32s(room)
    for k in range(at, at + count):
        depth = results[DEPTH + k]
        if 0.0 <= depth < math.inf:
            if film.depth_soft != 0:
                float32s(film.depth_soft)[2 * pixel] += depth
                float32s(film.depth_soft)[2 * pixel + 1] += 1.0
            if film.objects != 0:
                _rank(int32s(film.objects), 2 * RANKS * pixel, words[OBJECT + k] + 1)
            if film.looks != 0:
                _rank(int32s(film.looks), 2 * RANKS * pixel, words[LOOK + k] + 1)


@inner
def _keep_nearest(room, film, pixel, at, on, count):
    """Keep what the nearest sample of each of sixteen pixels met.

    Behind clear surfaces is what counts; the surface itself only where no sample came past it.
    """
    results, depths = float32s(room), float32s(film.depth)
    nearest, chosen = depths[pixel], all_lanes(-1)
    for k in range(count):
        depth = results[at + (DEPTH + k)]
        missed, unknown = depth == math.inf, nearest == math.inf
        nearest = where(missed & ((nearest < 0.0) | unknown), NOTHING, nearest)
        past = (depth >= 0.0) & ((nearest < 0.0) | (depth < nearest))
        aside = (depth < 0.0) & (unknown | ((nearest < 0.0) & (depth > nearest)))
        closer = ~missed & (past | aside)
        nearest, chosen = where(closer, depth, nearest), where(closer, at + k, chosen)
    scatter_to(depths, pixel, nearest, on)
    on = on & (chosen >= 0)
    chosen = max(chosen, 0)
    for channel in range(3):
        if film.normal != 0:
            normal = results[chosen + (NORMAL + channel * CAPACITY)]
            scatter_to(float32s(film.normal), 3 * pixel + channel, normal, on)
        if film.position != 0:
            place = results[chosen + (POSITION + channel * CAPACITY)]
            scatter_to(float32s(film.position), 3 * pixel + channel, place, on)
    if film.uv != 0:
        for channel in range(2):
            uv = results[chosen + (UV + channel * CAPACITY)]
            scatter_to(float32s(film.uv), 2 * pixel + channel, uv, on)
    if film.front != 0:
        scatter_to(int32s(film.front), pixel, int32s(room)[chosen + OBJECT] + 1, on)


@inner
def _add_up(room, field, at, count, into, place, on):
    """Add a field of the samples of sixteen pixels to a film, one after the other."""
    results, sums = float32s(room), float32s(into)
    if count <= _FEW:
        total = _finite(results[at + field])
        for k in range(1, count):
            total += _finite(results[at + (field + k)])
    else:
        total = row_sums(results, at + field, count)
        for k in range(LANES, count, LANES):
            total += row_sums(results, at + (field + k), count - k)
    scatter_to(sums, place, sums[place] + total, on)


@inner
def _finite(x):
    return where(abs(x) < 3e38, x, 0.0)


@inner
def _join(results, field, count, places, branches):
    """Add what branches brought home to what their paths' first did, `count` fields from one on."""
    for channel in range(count):
        for k in range(field + channel * CAPACITY, field + channel * CAPACITY + places, LANES):
            whole = load(results, k)
            for branch in range(1, branches):
                whole += load(results, k + branch * places)
            store(results, k, whole)


@inner
def develop(room, film, parts, sums, pixels, stride, count, branches):
    """Add the results of a batch to the film, sixteen pixels at a time, a pixel's samples in order.

    `parts` and `sums` are how many parts of the beauty and light sums there are.
    """
    words, places = int32s(room), pixels * stride
    counts = (film.objects != 0) or (film.looks != 0) or (film.depth_soft != 0)
    if branches > 1:
        _join(float32s(room), RADIANCE, 3, places, branches)
        _join(float32s(room), SHARES, 3 * (parts + sums), places, branches)
    for first in range(0, pixels, LANES):
        number = lane_numbers() + first
        on = number < pixels
        at = where(on, number, 0) * stride
        line, column = words[at + LINE] - film.top, words[at + COLUMN] - film.left
        pixel = line * film.width + column
        if film.depth != 0:
            _keep_nearest(room, film, pixel, at, on, count)
        for channel in range(3):
            _add_up(room, RADIANCE + channel * CAPACITY, at, count, film.beauty, 4 * pixel + channel, on)
            if film.albedo != 0:
                _add_up(room, ALBEDO + channel * CAPACITY, at, count, film.albedo, 3 * pixel + channel, on)
            if film.caught != 0:
                _add_up(room, CAUGHT + channel * CAPACITY, at, count, film.caught, 3 * pixel + channel, on)
        _add_up(room, ALPHA, at, count, film.beauty, 4 * pixel + 3, on)
        for channel in range(3 * (parts + sums)):
            share, part = channel // 3, channel % 3
            into = film.shares + 12 * share * film.pixels
            if share >= parts:
                into = film.light_sums + 12 * (share - parts) * film.pixels
            _add_up(room, SHARES + channel * CAPACITY, at, count, into, 3 * pixel + part, on)
    if counts:
        for i in range(pixels):
            k = i * stride
            pixel = (words[LINE + k] - film.top) * film.width + words[COLUMN + k] - film.left
            _count_samples(room, film, pixel, k, count)
