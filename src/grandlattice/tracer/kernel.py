"""The compiled kernel, kept between runs in the folder `compiled` names."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numba
from numba import njit

from grandlattice.compiled import kernel_folder
from grandlattice.tracer import embree, integrator, stream


def _compiled() -> Callable[..., Any]:
    embree.library()  # the ray queries must be known before a kept kernel is loaded
    usual = numba.config.CACHE_DIR
    numba.config.CACHE_DIR = str(kernel_folder())
    try:
        return njit(cache=True, nogil=True, error_model="numpy")(integrator.trace_batch)
    finally:
        numba.config.CACHE_DIR = usual


_trace_batch = _compiled()


def load_kernel(scene: Any, lens: Any, options: Any, film: Any) -> None:
    """Have the kernel ready, compiled or from the cache, so that no picture's time is spent on it."""
    _trace_batch(scene, 0, lens, options, film, 0, 0, 0, 0, 0, 0, 0, 1)


def trace_tile(
    scene: Any, room: int, lens: Any, options: Any, film: Any, tile: tuple[int, int, int, int],
    first: int, count: int,
) -> int:  # fmt: skip
    """Trace samples `first` … `first + count` of a rectangle of pixels into `film`.

    Parameters
    ----------
    scene, lens, options, film : records, see `vertices`, `lens`, `integrator` and `stream`.
    room : address of `stream.room_for(…)` words of the calling thread.
    tile : left, top, right, bottom.
    count : at most `stream.BATCH`.

    Returns
    -------
    The number of rays.
    """
    left, top, right, bottom = tile
    stride = stream.stride_of(count)
    at_once, rays = stream.BATCH // stride, 0
    pixels = (right - left) * (bottom - top)
    for pixel in range(0, pixels, at_once):
        rays += _trace_batch(
            scene, room, lens, options, film, left, top, right - left,
            pixel, min(at_once, pixels - pixel), first, count, stride,
        )  # fmt: skip
    return rays
