"""Words that kernels are written with, without the compiler behind them.

Only once for each machine and version is a kernel compiled; all other processes load what became of
it, and the compiler, which takes half a second to load, has no business there.  So what kernels call
is a `Later`: the compiler asks it what it stands for, when there is one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cached_property, update_wrapper
from importlib import import_module
from typing import Any


class Later:
    """Stands for something that only the compiler needs.

    Parameters
    ----------
    find : what it is; called once, when a kernel that uses it is compiled.
    """

    def __init__(self, find: Callable[[], Any]) -> None:
        self._find = find

    @cached_property
    def real(self) -> Any:
        """What it stands for."""
        return self._find()

    @property
    def _numba_type_(self) -> Any:
        """Numba asks for this of what it meets in a kernel and does not know."""
        return _compiling("backend").type_of(self.real)


def _compiling(module: str) -> Any:
    """A module of `compiling`, which imports this one."""
    return import_module(f"grandlattice.tracer.compiling.{module}")


def of_compiler(module: str, name: str, *arguments: Any) -> Any:
    """A word of a module of `compiling`, called with arguments where there are any."""

    def find() -> Any:
        word = getattr(_compiling(module), name)
        return word(*arguments) if arguments else word

    return Later(find)


def words(module: str, names: str) -> Iterator[Any]:
    """Words of a module of `compiling`, by their names."""
    return (of_compiler(module, name) for name in names.split())


def of_outside(name: str, arguments: int) -> Any:
    """A function of a library, which takes so many addresses and returns nothing."""
    return of_compiler("backend", "outside", name, arguments)


def inner(function: Callable[..., Any]) -> Any:
    """For functions that kernels alone call."""
    return update_wrapper(of_compiler("backend", "inner", function), function)
