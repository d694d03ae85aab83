"""Asking for files by names that somebody typed: too long, no name at all, or no file but a device."""

from __future__ import annotations

import stat
from pathlib import Path


def is_file(path: str | Path) -> bool:
    """Whether a name is that of a file with contents: not of a folder, a pipe or a device.

    Examples
    --------
    >>> is_file("x" * 5000), is_file("a zero\\0byte"), is_file("/dev/zero")
    (False, False, False)
    """
    try:
        return stat.S_ISREG(Path(path).stat().st_mode)
    except (OSError, ValueError):
        return False


def is_there(path: str | Path) -> bool:
    """Whether anything at all stands there.

    Examples
    --------
    >>> is_there("/dev/null"), is_there("x" * 5000)
    (True, False)
    """
    try:
        Path(path).stat()
    except (OSError, ValueError):
        return False
    return True
