"""The stream of paths: what each carries from one vertex to the next, and what it brings home.

A batch of paths is lined up, pixel by pixel and sample by sample, in a thread's own room.  Those
under way stand side by side at the front of a stream, sixteen to a load; those that end leave their
results under their own number.  At the end the results are added to the film, a pixel's samples in
their order.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from grandlattice.tracer.embree import RAY_ROOM
from grandlattice.tracer.lanes import LANES, count_of, inner
from grandlattice.tracer.materials import MATERIAL_ROOM
from grandlattice.tracer.memory import float32s, int32s, load, scatter_to, store_packed

# mypy: disable-error-code="no-untyped-def"

FILM = np.dtype(
    [
        ("width", "i8"),
        # Addresses of float32 pixels: sums over samples …
        ("beauty", "i8"), ("albedo", "i8"), ("occlusion", "i8"),
        # … and what the nearest sample of each pixel met; depth is +inf where nothing.
        ("depth", "i8"), ("normal", "i8"),
        # Sums over samples of what surfaces that catch shadow say, 0 where there are none: how
        # much of the pixel they cover, the light that would reach them, what of it is blocked.
        ("caught", "i8"),
    ],
    align=True,
)  # fmt: skip

BATCH = 2048
_CAPACITY = BATCH + LANES

# A thread's room in 4-byte words: rays, a material's inputs, the stream, the paths' results.
MATERIAL = RAY_ROOM
_STREAM = MATERIAL + MATERIAL_ROOM
_STREAM_FIELDS, _RESULT_FIELDS = 24, 18
_RESULTS = _STREAM + _STREAM_FIELDS * _CAPACITY
ROOM = _RESULTS + _RESULT_FIELDS * _CAPACITY
# What each path of the batch is, and what it brings home.
(
    COLUMN, LINE, SAMPLE, RADIANCE, ALPHA, ALBEDO, OPENNESS, DEPTH, NORMAL, CAUGHT,
) = (_RESULTS + field * _CAPACITY for field in (0, 1, 2, 3, 6, 7, 10, 11, 12, 15))  # fmt: skip


class Path(NamedTuple):
    """Paths under way, a lane each."""

    origin: Any
    direction: Any
    throughput: Any
    radiance: Any
    t_near: Any
    t_last: Any
    followed: Any  # density its direction was drawn with
    reach_total: Any  # of all lights, at the vertex it left
    alpha: Any
    cover: Any  # share of the pixel that nothing has covered yet
    state: Any  # vertices so far, and from bit 16 on whether its data passes are written
    number: Any  # of the path in its batch
    seed: Any
    sample: Any
    matt: Any  # share of the last scattering that was diffuse
    linked: Any  # bits of the lights that reach the vertex it left, see `lights.Links`


@inner
def with_light(path, radiance, alpha):
    return Path(
        path.origin, path.direction, path.throughput, radiance, path.t_near, path.t_last,
        path.followed, path.reach_total, alpha, path.cover, path.state, path.number, path.seed,
        path.sample, path.matt, path.linked,
    )  # fmt: skip


@inner
def _load_triple(stream, k):
    return (load(stream, k), load(stream, k + _CAPACITY), load(stream, k + 2 * _CAPACITY))


@inner
def load_path(room, k):
    """Sixteen paths of the stream from place `k` on."""
    at, words, k = float32s(room), int32s(room), _STREAM + k
    return Path(
        origin=_load_triple(at, k),
        direction=_load_triple(at, k + 3 * _CAPACITY),
        throughput=_load_triple(at, k + 6 * _CAPACITY),
        radiance=_load_triple(at, k + 9 * _CAPACITY),
        t_near=load(at, k + 12 * _CAPACITY),
        t_last=load(at, k + 13 * _CAPACITY),
        followed=load(at, k + 14 * _CAPACITY),
        reach_total=load(at, k + 15 * _CAPACITY),
        alpha=load(at, k + 16 * _CAPACITY),
        cover=load(at, k + 17 * _CAPACITY),
        state=load(words, k + 18 * _CAPACITY),
        number=load(words, k + 19 * _CAPACITY),
        seed=load(words, k + 20 * _CAPACITY),
        sample=load(words, k + 21 * _CAPACITY),
        matt=load(at, k + 22 * _CAPACITY),
        linked=load(words, k + 23 * _CAPACITY),
    )


@inner
def _pack_triple(stream, k, value, going):
    for i in range(3):
        store_packed(stream, k + i * _CAPACITY, value[i], going)


@inner
def _pack_path(room, k, path, going):
    """Write the paths of a mask side by side to the stream from place `k` on."""
    at, words, k = float32s(room), int32s(room), _STREAM + k
    _pack_triple(at, k, path.origin, going)
    _pack_triple(at, k + 3 * _CAPACITY, path.direction, going)
    _pack_triple(at, k + 6 * _CAPACITY, path.throughput, going)
    _pack_triple(at, k + 9 * _CAPACITY, path.radiance, going)
    store_packed(at, k + 12 * _CAPACITY, path.t_near, going)
    store_packed(at, k + 13 * _CAPACITY, path.t_last, going)
    store_packed(at, k + 14 * _CAPACITY, path.followed, going)
    store_packed(at, k + 15 * _CAPACITY, path.reach_total, going)
    store_packed(at, k + 16 * _CAPACITY, path.alpha, going)
    store_packed(at, k + 17 * _CAPACITY, path.cover, going)
    store_packed(words, k + 18 * _CAPACITY, path.state, going)
    store_packed(words, k + 19 * _CAPACITY, path.number, going)
    store_packed(words, k + 20 * _CAPACITY, path.seed, going)
    store_packed(words, k + 21 * _CAPACITY, path.sample, going)
    store_packed(at, k + 22 * _CAPACITY, path.matt, going)
    store_packed(words, k + 23 * _CAPACITY, path.linked, going)


@inner
def keep(room, field, number, value, test):
    scatter_to(float32s(room), number + field, value, test)


@inner
def keep_triple(room, field, number, value, test):
    for i in range(3):
        scatter_to(float32s(room), number + (field + i * _CAPACITY), value[i], test)


@inner
def bring_home(room, path, ended):
    keep_triple(room, RADIANCE, path.number, path.radiance, ended)
    keep(room, ALPHA, path.number, path.alpha, ended)


def stride_of(count: int) -> int:
    """Places of a pixel with `count` samples in a batch.

    Sixteen places that go together are samples of one pixel, or all samples of a few.
    """
    stride = 1
    while stride < min(count, LANES):
        stride *= 2
    return stride * -(-count // stride)


@inner
def part(room, path, active, goes_on, going):
    """Bring home the paths that end, pack the others behind the `going` that are there already."""
    bring_home(room, path, active & ~goes_on)
    _pack_path(room, going, path, goes_on)
    return going + count_of(goes_on)


@inner
def line_up(room, left, top, width, first, count, stride, first_pixel, pixels):
    """Write the pixels and samples of a batch into the room, with results as of a miss.

    A pixel has `stride` places; those without a sample have the number −1.
    """
    words, results = int32s(room), float32s(room)
    for i in range(pixels):
        pixel = first_pixel + i
        for place in range(stride):
            k = i * stride + place
            words[COLUMN + k] = left + pixel % width
            words[LINE + k] = top + pixel // width
            words[SAMPLE + k] = first + place if place < count else -1
            for channel in range(3):
                results[ALBEDO + channel * _CAPACITY + k] = 0.0
                results[CAUGHT + channel * _CAPACITY + k] = 0.0
            results[OPENNESS + k], results[DEPTH + k] = 1.0, math.inf


@inner
def develop(room, film, pixels, stride, count):
    """Add the results of a batch to the film, a pixel's samples in their order."""
    words, results = int32s(room), float32s(room)
    beauty, albedo, openness = (
        float32s(film.beauty), float32s(film.albedo), float32s(film.occlusion)
    )  # fmt: skip
    depths, normals = float32s(film.depth), float32s(film.normal)
    for i in range(pixels):
        at = i * stride
        pixel = words[LINE + at] * film.width + words[COLUMN + at]
        nearest = depths[pixel]
        alpha, clear = 0.0, 0.0
        for k in range(at, at + count):
            alpha += results[ALPHA + k]
            clear += results[OPENNESS + k]
            if results[DEPTH + k] < nearest:
                nearest = results[DEPTH + k]
                for channel in range(3):
                    normals[3 * pixel + channel] = results[NORMAL + channel * _CAPACITY + k]
        for channel in range(3):
            light, tint = 0.0, 0.0
            for k in range(at, at + count):
                got = results[RADIANCE + channel * _CAPACITY + k]
                light += got if math.isfinite(got) else 0.0
                tint += results[ALBEDO + channel * _CAPACITY + k]
            beauty[4 * pixel + channel] += light
            albedo[3 * pixel + channel] += tint
        if film.caught != 0:
            for channel in range(3):
                part_of_all = 0.0
                for k in range(at, at + count):
                    part_of_all += results[CAUGHT + channel * _CAPACITY + k]
                float32s(film.caught)[3 * pixel + channel] += part_of_all
        beauty[4 * pixel + 3] += alpha
        openness[pixel] += clear
        depths[pixel] = nearest
