"""The compiled kernel, kept between runs.

Compiling takes some seconds, once for each machine and version.  The result is kept in the
user's cache folder under a name made from the source of this room, so that no change to any of
its files can meet a stale kernel.  `GRANDLATTICE_CACHE` names another folder.
"""

from __future__ import annotations

import hashlib
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba
from numba import njit

from grandlattice.tracer import embree, integrator, stream


def cache_folder() -> Path:
    """Where compiled kernels are kept."""
    named = os.environ.get("GRANDLATTICE_CACHE")
    if named:
        return Path(named)
    if sys.platform == "win32":
        base = Path(os.environ.get("LOCALAPPDATA", Path.home()))
    elif sys.platform == "darwin":
        base = Path.home() / "Library" / "Caches"
    else:
        base = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    return base / "grandlattice"


def _kernel_folder() -> Path:
    digest = hashlib.blake2b(digest_size=8)
    for file in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(file.read_bytes())
    digest.update(f"{numba.__version__} {sys.version}".encode())
    return cache_folder() / f"kernel-{digest.hexdigest()}"


def _compiled() -> Callable[..., Any]:
    embree.library()  # the ray queries must be known before a kept kernel is loaded
    usual = numba.config.CACHE_DIR
    numba.config.CACHE_DIR = str(_kernel_folder())
    try:
        return njit(cache=True, nogil=True, error_model="numpy")(integrator.trace_batch)
    finally:
        numba.config.CACHE_DIR = usual


def is_compiled() -> bool:
    """Whether a kernel for this machine and version is already in the cache."""
    return any(_kernel_folder().glob("**/*.nbc"))


_trace_batch = _compiled()


def trace_tile(
    scene: Any, room: int, lens: Any, options: Any, film: Any, tile: tuple[int, int, int, int],
    first: int, count: int,
) -> int:  # fmt: skip
    """Trace samples `first` … `first + count` of a rectangle of pixels into `film`.

    Parameters
    ----------
    scene, lens, options, film : records, see `vertices`, `lens`, `integrator` and `stream`.
    room : address of `stream.ROOM` words of the calling thread.
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
