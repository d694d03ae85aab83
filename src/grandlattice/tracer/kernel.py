"""The kernels: machine code, compiled once and kept in the folder that `compiling.kernel_cache` names."""

from __future__ import annotations

from collections.abc import Callable

from grandlattice._support.once import once
from grandlattice.tracer import embree
from grandlattice.tracer.compiling.backend import load

_KERNELS = {
    "trace_tile": ("integrator", 6), "halve_bytes": ("mipmaps", 8), "spread_bytes": ("mipmaps", 4),
}  # fmt: skip
"""Names of kernels → the module they are written in, and how many whole numbers they take."""


def kernel(name: str) -> Callable[..., int]:
    """A kernel by its name; it leaves Python alone while it works."""
    return load_kernels()[name]


@once
def load_kernels() -> dict[str, Callable[..., int]]:
    """All kernels, compiled or from the cache."""
    embree.library()  # the ray queries must be known before machine code that asks them is loaded
    return load(_KERNELS)
