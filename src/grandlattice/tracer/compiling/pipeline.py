"""How functions of kernels are compiled: each once, types first, and code later.

Left to itself numba optimises a function together with all that it calls, and makes machine code of
it, before it begins with those that call it: what stands deep down is optimised dozens of times over,
and machine code is made that is never called.  Of functions marked `inner` only types are found at first,
which is all that their callers ask; `code_writers` has their code written meanwhile.

All that is known about numba's inside, but for types, stands in this file.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import Any

import llvmlite.binding as llvm
from numba import njit, types
from numba.core.codegen import CPUCodeLibrary
from numba.core.compiler import CompilerBase, _LowerResult
from numba.core.compiler_machinery import (
    FunctionPass,
    LoweringPass,
    PassManager,
    _pass_registry,
    register_pass,
)
from numba.core.errors import NumbaError
from numba.core.funcdesc import PythonFunctionDescriptor
from numba.core.interpreter import Interpreter
from numba.core.ir_utils import build_definitions
from numba.core.lowering import Environment, Lower
from numba.core.registry import cpu_target
from numba.core.ssa import reconstruct_ssa
from numba.core.targetconfig import ConfigStack
from numba.core.transforms import canonicalize_cfg
from numba.core.typed_passes import (
    NoPythonBackend,
    NopythonTypeInference,
    PreLowerStripPhis,
)
from numba.core.untyped_passes import FixupArgs

from grandlattice.tracer.compiling import code_writers


class _NoMachineCode:
    """What numba asks of a code generator for a function it takes to be ready."""

    def set_env(self, name: str, environment: object) -> None:
        """There is no code that could look for its environment."""


class Function(CPUCodeLibrary):  # type: ignore[misc]
    """A function whose types are known: its callers may name it before its code is written."""

    def promise(self, state: Any) -> None:
        """Keep what it takes to write the code of a function, and tell numba what it will be called."""
        context = state.targetctx
        named = PythonFunctionDescriptor.from_specialized_function(
            state.func_ir, state.typemap, state.return_type, state.calltypes,
            mangler=context.mangler, inline=False, noalias=False,
            abi_tags=[state.flags.get_mangle_string()],
        )  # fmt: skip
        self._context, self._named, self._known = context, named, state.func_ir
        self._flags, self._metadata, self._written = state.flags, state.metadata, False
        called = context.get_executable(self, named, Environment.from_fndesc(named))
        context.insert_user_function(called, named, [self])
        state["cr"] = _LowerResult(named, None, cfunc=called, env=None)

    def write(self) -> None:
        """Write the code, as it is, and note what it calls; once."""
        if not self._written:
            with ConfigStack().enter(self._flags), self._context.push_code_library(self):
                Lower(self._context, self, self._named, self._known, metadata=self._metadata).lower()
            self._written = True

    def add_llvm_module(self, module: Any) -> None:
        self._final_module.link_in(module)

    def add_linking_library(self, library: Any) -> None:
        if not isinstance(library, Function):  # ours may not be written yet
            library._ensure_finalized()
        self._linking_libraries.append(library)

    def finalize(self) -> None:
        """Numba asks for it before it links: nothing more is to be done."""

    def _get_module_for_linking(self) -> Any:
        """The code of this function and of all it calls, for one that numba compiles in its own way."""
        found = [self]
        for function in found:  # it grows meanwhile
            function.write()
            called = dict.fromkeys(function._linking_libraries)
            found += [each for each in called if isinstance(each, Function) and each not in found]
        module = llvm.parse_bitcode(code_of(found))
        for each in module.functions:
            if not each.is_declaration and each.linkage == llvm.Linkage.external:
                each.linkage = "linkonce_odr"  # several may bring it along, and it may go when inlined
        return module

    def get_pointer_to_function(self, name: str) -> int:
        """An address that is never called; numba needs one to make a callable."""
        return 1

    @property
    def codegen(self) -> Any:
        return _NoMachineCode()


def code_of(functions: Iterable[Function]) -> bytes:
    """The code of some functions, and of what they call that is numba's own, in LLVM's form."""
    whole = nothing()
    brought: dict[Any, None] = {}
    for function in functions:
        function.write()
        whole.link_in(function._final_module, preserve=True)
        brought |= {each: None for each in function._linking_libraries if not isinstance(each, Function)}
    for library in brought:
        whole.link_in(library._get_module_for_linking(), preserve=True)
    return bytes(whole.as_bitcode())


def nothing() -> Any:
    """A module of LLVM without any function."""
    return llvm.parse_assembly(str(cpu_target.target_context.codegen()._create_empty_module("kernels")))


class _Reader(Interpreter):  # type: ignore[misc]
    """Reads bytecode; what is looked for in it afterwards has no dictionaries and no `with`."""

    def post_process(self, peepholes: list[Any], func_ir: Any) -> Any:
        needless = ("peep_hole_delete_with_exit", "peep_hole_fuse_dict_add_updates")
        return super().post_process([each for each in peepholes if each.__name__ not in needless], func_ir)


class _Step(FunctionPass):  # type: ignore[misc]
    """A step of our own; numba wants each to say how it begins."""

    def __init__(self) -> None:
        super().__init__()


@register_pass(mutates_CFG=True, analysis_only=False)
class _Read(_Step):
    """From bytecode to numba's own form."""

    _name = "read"

    def run_pass(self, state: Any) -> bool:
        state.func_ir = _Reader(state.func_id).interpret(state.bc)
        return True


@register_pass(mutates_CFG=True, analysis_only=False)
class _NameOnce(_Step):
    """A name for each value.  Numba also works out how long each lives, which only counts for objects."""

    _name = "name_once"

    def run_pass(self, state: Any) -> bool:
        state.func_ir.blocks = canonicalize_cfg(state.func_ir.blocks)
        state.func_ir = reconstruct_ssa(state.func_ir)
        state.func_ir._definitions = build_definitions(state.func_ir.blocks)
        return True


@register_pass(mutates_CFG=True, analysis_only=False)
class _Join(_Step):
    """Where branches join, values are handed over before."""

    _name = "join"

    def run_pass(self, state: Any) -> bool:
        state.func_ir = PreLowerStripPhis()._strip_phi_nodes(state.func_ir)
        state.func_ir._definitions = build_definitions(state.func_ir.blocks)
        return True


@register_pass(mutates_CFG=False, analysis_only=False)
class _Promise(LoweringPass):  # type: ignore[misc]
    """Leaves the code of a function for later."""

    _name = "promise"

    def __init__(self) -> None:
        super().__init__()

    def run_pass(self, state: Any) -> bool:
        state.library.promise(state)
        code_writers.hand_in(state.library)
        return True


_STEPS = (
    (_Read, "read the function"),
    (FixupArgs, "name its arguments"),
    (_NameOnce, "give each value a name of its own"),
    (NopythonTypeInference, "find types"),
    (_Join, "join branches"),
    (_Promise, "say what it will be called"),
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
    """Those of numba's steps that are needed, up to the writing of code."""

    def define_pipelines(self) -> list[Any]:
        state = self.state
        state.library = Function(state.targetctx.codegen(), state.func_id.func_qualname)
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


@contextmanager
def answers_kept() -> Iterator[None]:
    """Ask numba once what a call of something means with arguments of some types: it looks through all
    it knows, each time.  Numbers that are written out are no types of their own to our functions."""
    kind, known = types.functions.BaseFunction, dict[Any, Any]()
    ask = kind.get_call_type

    def get_call_type(function: Any, context: Any, args: Any, kws: Any) -> Any:
        if kws:
            return ask(function, context, args, kws)
        question = function, args
        if question not in known:
            known[question] = ask(function, context, args, kws)
        return known[question]

    ours = types.Dispatcher
    ask_ours = ours.get_call_type

    def get_type_of_ours(function: Any, context: Any, args: Any, kws: Any) -> Any:
        if function.dispatcher._compiler.pipeline_class is _Inner:
            args = tuple(each.literal_type if isinstance(each, types.Literal) else each for each in args)
        return ask_ours(function, context, args, kws)

    kind.get_call_type, ours.get_call_type = get_call_type, get_type_of_ours
    try:
        yield
    finally:
        kind.get_call_type, ours.get_call_type = ask, ask_ours


_OURS = __name__.partition(".")[0]
