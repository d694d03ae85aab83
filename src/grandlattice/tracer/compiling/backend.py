"""Which of two compilers makes the kernels, and the kernels themselves.

`fast` reaches into numba where that saves minutes, and is chosen for the versions of numba it was
tested with; `plain` keeps to numba's public interface and is chosen for all others, and where `fast`
fails.  Their pictures differ by rounding: one of them serves a whole run.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from contextlib import suppress
from importlib import import_module
from importlib.metadata import version
from pathlib import Path
from typing import Any, Literal, cast, get_args

from grandlattice.errors import TracerError
from grandlattice.tracer.compiling.kernel_cache import keep_kernels, kept_kernels, kernel_folder
from grandlattice.tracer.compiling.native import load_objects

Compiler = Literal["fast", "plain"]
TESTED = ("0.68",)
"""Versions of numba that `fast` was tested with."""

Kernels = Mapping[str, tuple[str, int]]
"""Name of a kernel → the module of `tracer` it is written in, and how many whole numbers it takes."""

_used: list[Compiler] = []  # the compiler whose kernels this process has, or was told to have


def use_compiler(compiler: str) -> None:
    """Have kernels made by one compiler in this process, whatever would be chosen.

    Raises
    ------
    TracerError
        For an unknown one, or where the other one's kernels are in use already.
    """
    if _used and _used[0] != _known(compiler):
        raise TracerError(f"This process has kernels of the compiler {_used[0]} already.")
    _used[:] = [_known(compiler)]


def _known(compiler: str) -> Compiler:
    if compiler not in get_args(Compiler):
        raise TracerError(f"There is no compiler {compiler}.", cure="GRANDLATTICE_COMPILER is fast or plain")
    return cast(Compiler, compiler)


def chosen_compiler() -> Compiler:
    """The compiler of this process; ``GRANDLATTICE_COMPILER`` names another one."""
    if _used:
        return _used[0]
    named = os.environ.get("GRANDLATTICE_COMPILER")
    if named:
        return _known(named)
    tested = ".".join(version("numba").split(".")[:2]) in TESTED
    # Asked for again each time: another process may find out meanwhile that `fast` fails.
    return "fast" if tested and not compiler_failure() else "plain"


def compiler_failure() -> str:
    """Why `fast` could not make the kernels on this machine; empty where it could, or was not asked."""
    try:
        return _failure_note().read_text(encoding="utf-8")
    except OSError:
        return ""


def is_compiled() -> bool:
    """Whether the kernels for this machine and version are in the cache."""
    return kept_kernels() is not None if chosen_compiler() == "fast" else (_plain_folder() / _READY).exists()


def load(kernels: Kernels) -> dict[str, Callable[..., int]]:
    """All kernels, compiled or from the cache."""
    if chosen_compiler() == "fast":
        was_told, _used[:] = bool(_used) or "GRANDLATTICE_COMPILER" in os.environ, ["fast"]
        try:
            objects = kept_kernels() or _compiled_fast(kernels)
            return load_objects(objects, {name: count for name, (_, count) in kernels.items()})
        except (MemoryError, OSError):  # of this moment, not of the compiler
            raise
        except Exception as problem:  # a private part of numba that is not what it was
            if was_told:
                raise
            _note_failure(problem)
    _used[:] = ["plain"]
    from grandlattice.tracer.compiling import plain

    loaded = plain.load(_entries(kernels), _plain_folder())
    with suppress(OSError):
        (_plain_folder() / _READY).touch()
    return loaded


def inner(function: Callable[..., Any]) -> Any:
    """A function that kernels alone call, as the compiler of this process knows it."""
    return import_module(f"{__package__}.{'pipeline' if chosen_compiler() == 'fast' else 'plain'}").inner(
        function
    )


def outside(name: str, arguments: int) -> Any:
    """A function of a library, which takes so many addresses and returns nothing."""
    from numba import types

    return types.ExternalFunction(name, types.void(*[types.intp] * arguments))


def type_of(real: Any) -> Any:
    """The type of something that a kernel names."""
    from numba.core.registry import cpu_target

    context = cpu_target.typing_context
    try:
        return context.resolve_value_type(real)
    except ValueError:  # it was made after the context was last refreshed
        context.refresh()
        return context.resolve_value_type(real)


_READY = "ready"


def _entries(kernels: Kernels) -> dict[str, tuple[Callable[..., Any], int]]:
    package = __package__.rpartition(".")[0]
    return {
        name: (getattr(import_module(f"{package}.{module}"), name), count)
        for name, (module, count) in kernels.items()
    }


def _compiled_fast(kernels: Kernels) -> list[bytes]:
    """Machine code of all kernels, in object files, made now and kept."""
    from grandlattice.tracer.compiling.machine_code import machine_code

    objects = machine_code(_entries(kernels))
    keep_kernels(objects)
    return objects


def _plain_folder() -> Path:
    return kernel_folder() / "plain"


def _failure_note() -> Path:
    return kernel_folder() / "fast-failed.txt"


def _note_failure(problem: Exception) -> None:
    with suppress(OSError):
        _failure_note().parent.mkdir(parents=True, exist_ok=True)
        _failure_note().write_text(f"{type(problem).__name__}: {problem}"[:500], encoding="utf-8")
