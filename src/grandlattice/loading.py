"""Names that are loaded when they are asked for.

Looking on a run needs no USD, planning needs no tracer; each takes a second to load.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from typing import Any


def on_demand(
    package: str, rooms: Mapping[str, Sequence[str]]
) -> tuple[Callable[[str], Any], Callable[[], list[str]]]:
    """A module's ``__getattr__`` and ``__dir__`` (PEP 562), which find names in the modules that define them.

    Parameters
    ----------
    rooms : module below the package → the names it defines.
    """
    room_of = {name: room for room, names in rooms.items() for name in names}

    def find(name: str) -> Any:
        if name in room_of:
            return getattr(import_module(f"{package}.{room_of[name]}"), name)
        raise AttributeError(f"module {package!r} has no attribute {name!r}")

    return find, lambda: sorted(room_of)
