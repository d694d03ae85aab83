"""How kernels are compiled: everything at once, and each function once.

Left to itself numba optimises a function together with all that it calls, and makes machine code of
it, before it begins with those that call it: what stands deep down is optimised dozens of times over,
and machine code is made that nobody calls.  Functions marked `inner` are only put together here; the
kernel that calls them is optimised as a whole, and machine code is made of that.

All that is known about numba's inside, but for types, stands in this file.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import llvmlite.binding as llvm
from numba import njit, types
from numba.core.codegen import CPUCodeLibrary
from numba.core.compiler import CompilerBase
from numba.core.compiler_machinery import PassManager, _pass_registry
from numba.core.errors import NumbaError
from numba.core.registry import cpu_target
from numba.core.typed_passes import (
    NativeLowering,
    NoPythonBackend,
    NopythonTypeInference,
    PreLowerStripPhis,
)
from numba.core.untyped_passes import (
    FixupArgs,
    IRProcessing,
    ReconstructSSA,
    TranslateByteCode,
)


class _NoMachineCode:
    """What numba asks of a code generator for a function it takes to be ready."""

    def set_env(self, name: str, environment: object) -> None:
        """There is no code that could look for its environment."""


class _Linked(CPUCodeLibrary):  # type: ignore[misc]
    """The code of one function as it was written, and which others it calls."""

    def add_llvm_module(self, module: Any) -> None:
        self._final_module.link_in(module)

    def finalize(self) -> None:
        self._raise_if_finalized()
        for function in self._final_module.functions:
            if not function.is_declaration and function.linkage == llvm.Linkage.external:
                function.linkage = "linkonce_odr"  # several may bring it along, and it may go when inlined
        for library in self._linking_libraries:
            self._reload_init.update(library._reload_init)
        self._finalized = True

    def _get_module_for_linking(self) -> Any:
        """The code of this function and of all that stand behind it, for a kernel."""
        self._ensure_finalized()
        found, left = {self: None}, [self]
        while left:
            for library in left.pop()._linking_libraries:
                if library not in found:
                    found[library] = None
                    left.append(library)
        whole = self._final_module.clone()
        for library in [library for library in found if library is not self]:
            own = isinstance(library, _Linked)
            module = library._final_module if own else library._get_module_for_linking()
            whole.link_in(module, preserve=True)
        return whole

    def get_pointer_to_function(self, name: str) -> int:
        """Nobody goes there: numba wants a number to make a callable of."""
        self._ensure_finalized()
        return 1

    @property
    def codegen(self) -> Any:
        return _NoMachineCode()


_STEPS = (
    (TranslateByteCode, "read the function"),
    (FixupArgs, "name its arguments"),
    (IRProcessing, "find its variables"),
    (ReconstructSSA, "give each value a name of its own"),
    (NopythonTypeInference, "find types"),
    (PreLowerStripPhis, "join branches"),
    (NativeLowering, "write code"),
    (NoPythonBackend, "hand it over"),
)
"""What code needs that has no closures, no containers and no Python objects."""


class _Straight(PassManager):  # type: ignore[misc]
    """One step after the other.  Numba looks at everything again after each; these need no looking after."""

    def run(self, state: Any) -> None:
        for step, what in self.passes:
            try:
                _pass_registry.get(step).pass_inst.run_pass(state)
            except NumbaError as problem:
                raise self._patch_error(f"{state.func_id.func_qualname}, {what}", problem) from problem


class _Inner(CompilerBase):  # type: ignore[misc]
    """Those of numba's steps that are needed, into a library that is only linked."""

    def define_pipelines(self) -> list[Any]:
        state = self.state
        state.library = _Linked(state.targetctx.codegen(), state.func_id.func_qualname)
        steps = _Straight("inner")
        for step, what in _STEPS:
            steps.add_pass(step, what)
        steps.finalize()
        return [steps]


inner = njit(
    error_model="numpy", no_cpython_wrapper=True, no_cfunc_wrapper=True, _nrt=False, pipeline_class=_Inner
)
"""For functions that kernels alone call."""


def ask_ours_first(operations: Iterable[Any]) -> None:
    """Have numba try our own meanings of operators before all others: it tries them one by one, and
    writes a report of each that does not fit."""
    context = cpu_target.typing_context
    context.refresh()
    for operation in operations:
        known = context._lookup_global(operation)
        if known is not None:
            ours = [t for t in known.templates if any(k.__module__.startswith(_OURS) for k in t.__mro__)]
            others = [t for t in known.templates if t not in ours]
            context._remove_global(operation)
            context._insert_global(operation, types.Function((*ours, *others)))


def outside(name: str, arguments: int) -> Any:
    """A function of a library, which takes so many addresses and returns nothing."""
    return types.ExternalFunction(name, types.void(*[types.intp] * arguments))


_OURS = __name__.partition(".")[0]
