"""What USD says of shapes as bytes, for digests."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np


def told(*values: object) -> bytes:
    """Values of USD one after the other: numbers, words, arrays of numbers, and tuples of all that."""
    return b"".join(_parts(values))


def _parts(values: Iterable[object]) -> Iterable[bytes]:
    for value in values:
        if value is None or isinstance(value, str | bool | int | float):
            yield f"{value!r}\0".encode()
        elif isinstance(value, tuple):
            yield f"({len(value)} ".encode()
            yield from _parts(value)
        else:
            array = np.asarray(value)
            yield f"{array.dtype} {array.shape} ".encode()
            yield array.tobytes() if array.dtype.kind != "O" else repr(value).encode()
