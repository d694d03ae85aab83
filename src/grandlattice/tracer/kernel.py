"""The compiled kernel, kept between runs in the folder `compiled` names."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numba
from numba import njit

from grandlattice.compiled import kernel_folder
from grandlattice.tracer import embree, integrator, stream
from grandlattice.tracer.compiling import ask_ours_first
from grandlattice.tracer.lanes import OPERATIONS
from grandlattice.tracer.memory import Pinned


def _compiled() -> Callable[..., Any]:
    ask_ours_first(OPERATIONS)
    embree.library()  # the ray queries must be known before a kept kernel is loaded
    usual = numba.config.CACHE_DIR
    numba.config.CACHE_DIR = str(kernel_folder())
    try:
        return njit(cache=True, nogil=True, error_model="numpy")(integrator.trace_tile)
    finally:
        numba.config.CACHE_DIR = usual


_trace_tile = _compiled()


def load_kernel(scene: Pinned, lens: Pinned, options: Pinned, film: Pinned) -> None:
    """Have the kernel ready, compiled or from the cache, so that no picture's time is spent on it."""
    records = (part.address for part in (lens, options, film))
    _trace_tile(scene.address, 0, *records, 0, 0, 0, 0, 0, 0, 1, 1)


def trace_tile(
    scene: Pinned, room: int, lens: Pinned, options: Pinned, film: Pinned, tile: tuple[int, int, int, int],
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
    stride = stream.stride_of(count)
    return _trace_tile(
        scene.address, room, lens.address, options.address, film.address, *tile, first, count, stride,
        stream.BATCH // stride,
    )  # fmt: skip
