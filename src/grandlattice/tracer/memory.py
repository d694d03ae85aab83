"""Tables that kernels read by address.

A kernel that takes dozens of NumPy arrays pays for them at every call and while it is compiled.
Here a table is a structured array: records with named fields, some of which are the addresses of
other arrays.  A kernel gets one record and follows it; `light_at = records(LIGHT)` reads row `i`
of a table for each lane (see `lanes`), `float32s(address)` the numbers of an array.  `Pinned` keeps
alive what is pointed at.

Nothing is checked on the way: whoever fills a table answers for its indices.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numba import types
from numba.extending import intrinsic
from numpy.typing import NDArray


class Pinned:
    """One record filled from values and arrays; an array's field holds its address.

    The arrays live as long as this object; `record` is what a kernel takes.
    """

    def __init__(self, dtype: np.dtype[Any], **fields: object) -> None:
        self._table = np.zeros(1, dtype)
        self._held: list[object] = []
        for name, value in fields.items():
            if isinstance(value, np.ndarray) and dtype[name].shape == ():
                value = np.ascontiguousarray(value)
                self._held.append(value)
                value = value.ctypes.data
            self._table[name] = value

    @property
    def record(self) -> Any:
        return self._table[0]


def numbers(kind: types.Type) -> Callable[[int], Any]:
    pointer = types.CPointer(kind)

    @intrinsic
    def at(typing_context, address):  # type: ignore[no-untyped-def]
        def generate(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
            return builder.inttoptr(arguments[0], context.get_value_type(pointer))

        return pointer(types.int64), generate

    return at


float32s = numbers(types.float32)
int32s = numbers(types.int32)
int64s = numbers(types.int64)
uint32s = numbers(types.uint32)


def table(dtype: np.dtype[Any], count: int) -> NDArray[Any]:
    """An empty table of `count` records, at least one long so that it has an address.

    Behind it lie 64 bytes that may be read: see `lanes.records`.
    """
    count = max(count, 1)
    return np.zeros(count + -(-64 // dtype.itemsize), dtype)[:count]


def aligned_words(count: int) -> NDArray[np.float32]:
    """`count` numbers of four bytes, all 0, at an address that is a multiple of 64."""
    raw = np.zeros(count + 16, np.float32)
    start = (-raw.ctypes.data % 64) // 4
    return raw[start : start + count]
