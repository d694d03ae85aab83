"""The kernels: machine code, compiled once and kept in the folder `compiled` names."""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from functools import lru_cache
from importlib import import_module
from typing import Any

import llvmlite.binding as llvm

from grandlattice.compiled import keep_kernels, kept_kernels
from grandlattice.tracer import embree

_KERNELS = {
    "trace_tile": ("integrator", 13), "halve_bytes": ("sizes", 9), "spread_bytes": ("sizes", 4),
}  # fmt: skip
"""Names of kernels → the module they are written in, and how many whole numbers they take."""


def kernel(name: str) -> Callable[..., int]:
    """A kernel by its name; it leaves Python alone while it works."""
    return load_kernels()[name]


@lru_cache(maxsize=1)
def load_kernels() -> dict[str, Callable[..., int]]:
    """All kernels, compiled or from the cache."""
    embree.library()  # the ray queries must be known before machine code that asks them is loaded
    objects = kept_kernels() or _compiled()
    # The native target of an LLVM that compiled nothing in this process yet.
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    machine = llvm.Target.from_default_triple().create_target_machine(jit=True)
    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), machine)
    for each in objects:
        engine.add_object_file(llvm.ObjectFileRef.from_data(each))
    engine.finalize_object()
    loaded: dict[str, Callable[..., int]] = {}
    for name, (_, count) in _KERNELS.items():
        kind = ctypes.CFUNCTYPE(ctypes.c_int64, *[ctypes.c_int64] * count)
        loaded[name] = kind(engine.get_function_address(name))
    _engines.append(engine)
    return loaded


_engines: list[Any] = []  # machine code lives as long as its engine


def _compiled() -> list[bytes]:
    """Machine code of all kernels, in object files, made now and kept."""
    from grandlattice.tracer.compiling.machine import machine_code

    modules = {each: import_module(f"grandlattice.tracer.{each}") for each, _ in _KERNELS.values()}
    objects = machine_code({n: (getattr(modules[m], n), count) for n, (m, count) in _KERNELS.items()})
    keep_kernels(objects)
    return objects
