"""Machine code of kernels, for this machine: as an object file that can be kept.

All functions that the kernels call are put together and optimised as one.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import llvmlite.binding as llvm
from numba import types
from numba.core.registry import cpu_target

from grandlattice.tracer.compiling import places as places  # what memory means to the compiler
from grandlattice.tracer.compiling import writers
from grandlattice.tracer.compiling.kinds import OPERATIONS
from grandlattice.tracer.compiling.pipeline import answers_kept, ask_ours_first, code_of, inner, nothing

Entries = Mapping[str, tuple[Callable[..., Any], int]]
"""Names of kernels → the function, and how many whole numbers it takes; each returns one."""


def machine_code(entries: Entries) -> bytes:
    """An object file with a function of the C language for each of some kernels."""
    ask_ours_first(OPERATIONS)
    whole = nothing()
    with answers_kept(), writers.at_work(code_of) as working:
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
    return bytes(machine.emit_object(whole))


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
