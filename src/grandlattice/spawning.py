"""Processes that do not import the script they were started from.

Python starts a new process by importing the caller's main script again, which runs a script that
has no ``if __name__ == "__main__":`` a second time, and fails where there is no script at all.
Workers need nothing from it.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any


@contextmanager
def without_main_script() -> Iterator[None]:
    """While this holds, new processes start without the caller's main script."""
    main = sys.modules["__main__"]
    kept: dict[str, Any] = {
        name: main.__dict__[name] for name in ("__file__", "__spec__") if name in main.__dict__
    }
    main.__dict__.pop("__file__", None)
    main.__spec__ = None
    try:
        yield
    finally:
        main.__dict__.update(kept)
