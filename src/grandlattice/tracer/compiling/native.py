"""What is asked of LLVM without compiling anything: its processor, symbols, object files loaded."""

from __future__ import annotations

import ctypes
import platform
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import llvmlite.binding as llvm


def processor() -> str:
    """The kind of this machine's processor, with the features that code is made for."""
    return f"{llvm.get_host_cpu_name()} {llvm.get_host_cpu_features().flatten()}"


def add_symbol(name: str, address: int) -> None:
    """Let machine code that is loaded from now on call a function by its name."""
    llvm.add_symbol(name, address)


def load_objects(objects: Sequence[bytes], arguments: Mapping[str, int]) -> dict[str, Callable[..., int]]:
    """Functions of some object files that belong together.

    Parameters
    ----------
    arguments : name of a function → how many whole numbers it takes; each returns one.
    """
    # The native target of an LLVM that compiled nothing in this process yet.
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    machine = llvm.Target.from_default_triple().create_target_machine(jit=True)
    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), machine)
    for each in objects:
        engine.add_object_file(llvm.ObjectFileRef.from_data(each))
    engine.finalize_object()
    _engines.append(engine)
    return {name: function_at(engine.get_function_address(name), count) for name, count in arguments.items()}


def function_at(address: int, count: int) -> Callable[..., int]:
    """A function that takes `count` whole numbers and returns one; it leaves Python alone while it works."""
    return ctypes.CFUNCTYPE(ctypes.c_int64, *[ctypes.c_int64] * count)(address)


_engines: list[Any] = []  # machine code lives as long as its engine


def processor_class() -> str:
    """The class of this machine's processor: those of one class make the same bytes.

    Products are added without rounding between where a processor can (FMA), which is another picture than
    one that rounds twice.  Wider vectors change nothing.
    """
    features = llvm.get_host_cpu_features()
    fused = features.get("fma", False) or platform.machine().lower() in ("arm64", "aarch64")
    return f"{platform.machine().lower()}, {'fused' if fused else 'rounding'} products"
