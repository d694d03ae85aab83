"""Machine code of kernels, for this machine: as object files that can be kept.

All functions that the kernels call are put together and optimised as one.  What comes of it is written
in two halves at a time, by this process and another.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import llvmlite.binding as llvm
from numba import types
from numba.core.registry import cpu_target

from grandlattice.tracer.compiling import (
    code_writers,
    pointer_types as pointer_types,  # what memory means to the compiler
)
from grandlattice.tracer.compiling.lane_types import OPERATIONS
from grandlattice.tracer.compiling.pipeline import answers_kept, ask_ours_first, code_of, inner, nothing

Entries = Mapping[str, tuple[Callable[..., Any], int]]
"""Names of kernels → the function, and how many whole numbers it takes; each returns one."""


def machine_code(entries: Entries) -> list[bytes]:
    """Object files that belong together, with a function of the C language for each of some kernels."""
    ask_ours_first(OPERATIONS)
    whole = nothing()
    with answers_kept(), code_writers.at_work(code_of) as working:
        for name, (function, count) in entries.items():
            kernel = inner(function)
            kernel.compile(types.int64(*[types.int64] * count))
            (made,) = kernel.overloads.values()
            whole.link_in(llvm.parse_assembly(_doorway(name, made.fndesc.llvm_func_name, count)))
        for code in working.written():
            whole.link_in(llvm.parse_bitcode(code))
    for each in (*whole.functions, *whole.global_variables):
        if not each.is_declaration and each.name not in entries:
            each.linkage = llvm.Linkage.internal
    machine = cpu_target.target_context.codegen()._tm
    passes = llvm.create_pass_builder(machine, llvm.create_pipeline_tuning_options(speed_level=3))
    passes.getModulePassManager().run(whole, passes)
    code = bytes(whole.as_bitcode())
    first, second = _halves(whole)
    apart = code_writers.Apart.begin(lambda others: _object_without(code, others), first)
    there = _object_without(code, second)
    here = (apart and apart.result()) or _object_without(code, first)
    return [here, there]


def _halves(whole: Any) -> tuple[list[str], list[str]]:
    """The names of all functions in two parts that take about as long to write."""
    sizes = {each.name: sum(1 for _ in each.blocks) for each in whole.functions if not each.is_declaration}
    halves: tuple[list[str], list[str]] = [], []
    lengths = [0, 0]
    for name in sorted(sizes, key=lambda each: (-sizes[each], each)):
        shorter = lengths.index(min(lengths))
        halves[shorter].append(name)
        lengths[shorter] += sizes[name]
    return halves


def _object_without(code: bytes, others: list[str]) -> bytes:
    """An object file with all functions of a module but some, which stand in another."""
    part = llvm.parse_bitcode(code)
    for each in part.functions:
        if not each.is_declaration:
            each.linkage = "available_externally" if each.name in others else "external"
    return bytes(cpu_target.target_context.codegen()._tm.emit_object(part))


def _doorway(name: str, kernel: str, count: int) -> str:
    """A function that may be called from outside; numba's own have a way of their own to return."""
    taken = ", ".join(f"i64 %a{k}" for k in range(count))
    return f"""
    declare i32 @"{kernel}"(ptr, ptr, {", ".join(["i64"] * count)})
    define i64 @"{name}"({taken}) {{
        %found = alloca i64
        %problem = alloca ptr
        store i64 0, ptr %found
        %state = call i32 @"{kernel}"(ptr %found, ptr %problem, {taken})
        %value = load i64, ptr %found
        ret i64 %value
    }}
    """
