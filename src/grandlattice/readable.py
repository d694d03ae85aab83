"""How numbers and times are said, wherever an artist reads them."""

from __future__ import annotations


def duration(seconds: float) -> str:
    """A readable time: ``0.4 s``, ``48 s``, ``3 min 20 s``, ``1 h 12 min``."""
    if seconds < 10:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


def size(count: float) -> str:
    """A readable amount of bytes: ``3.2 MB``."""
    for unit in ("B", "kB", "MB", "GB"):
        if count < 1000:
            return f"{count:.0f} {unit}" if unit == "B" else f"{count:.1f} {unit}"
        count /= 1000
    return f"{count:.1f} TB"


def many(count: int, one: str, more: str | None = None) -> str:
    """``1 cell``, ``27 cells``."""
    plural = more or one + ("es" if one.endswith(("s", "x", "ch", "sh")) else "s")
    return f"{count:,} {one if count == 1 else plural}"
