"""Parts that other packages bring, found by their entry points.

A package adds a part with ``[project.entry-points."grandlattice.backends"]`` or
``"grandlattice.renderers"`` in its `pyproject.toml`: a name, and the function that makes it.
"""

from __future__ import annotations

from functools import cache
from importlib.metadata import EntryPoint, entry_points
from typing import Any

from grandlattice.errors import LatticeError, PlanError, RunError, nearest

BACKENDS, RENDERERS = "grandlattice.backends", "grandlattice.renderers"
_KINDS = {BACKENDS: "backend", RENDERERS: "renderer"}


@cache
def _installed(group: str) -> dict[str, EntryPoint]:
    return {each.name: each for each in entry_points(group=group)}


def installed(group: str) -> list[str]:
    """Names of what is installed of a group."""
    return sorted(_installed(group))


def load_plug_in(group: str, name: str) -> Any:
    """The function that makes a part, by its name.

    Raises
    ------
    PlanError
        When none of that name is installed.
    RunError
        When it cannot be loaded.
    """
    found, kind = _installed(group).get(name), _KINDS[group]
    if found is None:
        raise PlanError(
            f"There is no {kind} {name}. {nearest(name, installed(group))}",
            cure="install the package that brings it",
        )
    try:
        return found.load()
    except LatticeError:
        raise
    except Exception as problem:
        raise RunError(
            f"The {kind} {name} cannot be loaded: {type(problem).__name__}: {problem}"
        ) from problem
