"""Kernels compiled through numba's public interface: minutes once, then from numba's own cache."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from numba import cfunc, config, njit, types

# What memory means to the compiler.
from grandlattice.tracer.compiling import pointer_types as pointer_types
from grandlattice.tracer.compiling.native import function_at

inner = njit(error_model="numpy")
"""For functions that kernels alone call."""


def load(entries: Mapping[str, tuple[Callable[..., Any], int]], cache: Path) -> dict[str, Callable[..., int]]:
    """Kernels, compiled or from the cache.

    Parameters
    ----------
    entries : name of a kernel → its function, and how many whole numbers it takes.
    cache : a folder that belongs to this very source; numba itself would not see that a function which a
        kernel calls has changed.
    """
    cache.mkdir(parents=True, exist_ok=True)
    before, config.CACHE_DIR = config.CACHE_DIR, str(cache)
    try:
        for name, (function, count) in entries.items():
            signature = types.int64(*[types.int64] * count)
            made = cfunc(signature, error_model="numpy", cache=True)(function)
            _made[name] = made, count
    finally:
        config.CACHE_DIR = before
    return {name: function_at(made.address, count) for name, (made, count) in _made.items()}


_made: dict[str, tuple[Any, int]] = {}  # machine code lives as long as its function
