"""Tables that kernels read by address.

A kernel that takes dozens of NumPy arrays pays for them at every call and while it is compiled.
Here a table is a structured array: records with named fields, some of which are the addresses of
other arrays.  A kernel gets one record and follows it; `light_at = records(LIGHT)` reads row `i`
of a table for each lane (see `lanes`), `float32s(address)` the numbers of an array.  `Pinned` keeps
alive what is pointed at.

Of an array, ``numbers[i]`` is one number and ``numbers[ints]`` gathers one for each lane; `load` and
`store` take sixteen neighbours, `load_rows` sixteen for each lane.

Nothing is checked on the way: code that fills a table must keep its indices in range.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.deferred_symbols import of_compiler, words


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
        self.address: int = self._table.ctypes.data
        """Of the record, for `record` in a kernel."""

    @property
    def record(self) -> Any:
        return self._table[0]


def numbers(kind: str) -> Any:
    """A word of kernels: the address of an array of `kind`, such as ``float32`` → the array."""
    return of_compiler("pointer_types", "numbers", kind)


def record(dtype: np.dtype[Any]) -> Any:
    """A word of kernels: the address of one record of `dtype` → the record."""
    return of_compiler("pointer_types", "record", dtype)


def records(dtype: np.dtype[Any]) -> Any:
    """A word of kernels: (address of a table of `dtype`, rows) → a record for each lane."""
    return of_compiler("pointer_types", "records", dtype)


def other_fields(kind: type[Any]) -> Any:
    """A word of kernels: (a named tuple of `kind`, values by name) → the same with these values."""
    return of_compiler("pointer_types", "other_fields", kind)


float32s, int32s, int64s, uint32s, uint16s, bytes_at = (
    numbers(kind) for kind in ("float32", "int32", "int64", "uint32", "uint16", "uint8")
)
load, load_rows, row_sums, store, store_rows, store_columns, store_packed, scatter_to = words(
    "pointer_types", "load load_rows row_sums store store_rows store_columns store_packed scatter_to"
)


def table(dtype: np.dtype[Any], count: int) -> NDArray[Any]:
    """An empty table of `count` records, at least one long so that it has an address.

    Behind it lie 64 bytes that may be read: see `records`.
    """
    count = max(count, 1)
    return np.zeros(count + -(-64 // dtype.itemsize), dtype)[:count]


def aligned_words(count: int) -> NDArray[np.float32]:
    """`count` numbers of four bytes, all 0, at an address that is a multiple of 64."""
    raw = np.zeros(count + 16, np.float32)
    start = (-raw.ctypes.data % 64) // 4
    return raw[start : start + count]
