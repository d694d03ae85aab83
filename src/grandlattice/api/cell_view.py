"""The cells of a plan as a sequence: counted, found by address, never listed."""

from __future__ import annotations

import operator
from collections.abc import Iterator, Sequence
from typing import SupportsIndex, overload

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.readable import html_table
from grandlattice.errors import PlanError
from grandlattice.plan import Cell, CellMaker, Lattice, cells_at, running_order

_SHOWN = 60  # cells in a notebook


class Cells(Sequence[Cell]):
    """The cells of a plan in the order they run: by index, by address, or one after another.

    Parameters
    ----------
    name : of the plan.
    lattice : axes multiplied and rules applied.
    make : makes a cell from its index.

    >>> from grandlattice import Plan
    >>> Plan(scene="orrery.usda").cells["noon/brass/all/Wide"]      # doctest: +SKIP
    <Cell 1: noon/brass/all/Wide>
    """

    def __init__(self, name: str, lattice: Lattice, make: CellMaker) -> None:
        self._name, self._lattice, self._make = name, lattice, make

    def __repr__(self) -> str:
        return f"<{len(self):,} cells of {self._name}>"

    def __len__(self) -> int:
        return len(self._lattice)

    def __iter__(self) -> Iterator[Cell]:
        return (self._make(index) for index in range(len(self)))

    def __contains__(self, wanted: object) -> bool:
        """Whether a cell is one of them, or an address means any."""
        if isinstance(wanted, Cell):
            return 0 <= wanted.index < len(self) and self[wanted.index].address == wanted.address
        try:
            return isinstance(wanted, str) and len(self.indices(wanted)) > 0
        except PlanError:
            return False

    @overload
    def __getitem__(self, key: SupportsIndex | str) -> Cell: ...
    @overload
    def __getitem__(self, key: slice) -> list[Cell]: ...
    def __getitem__(self, key: SupportsIndex | str | slice) -> Cell | list[Cell]:
        """A cell by its index in the run, or by an address that means exactly one; of a slice, several.

        Raises
        ------
        NoSuchCell
            Where there is none; for a number, `IndexError`.
        """
        if isinstance(key, slice):
            return [self._make(index) for index in range(*key.indices(len(self)))]
        if isinstance(key, str):
            found = cells_at(self._lattice, [key])
            if len(found) > 1:
                raise PlanError(f"{key} means {len(found):,} cells; name one, or use at().")
            return self._make(int(found[0]))
        index = operator.index(key)
        if not -len(self) <= index < len(self):
            raise IndexError(f"there are {len(self):,} cells, and none of number {index}")
        return self._make(index % len(self))

    @property
    def axes(self) -> tuple[str, ...]:
        """Names of the axes, in the order written."""
        return tuple(axis.name for axis in self._lattice.axes)

    def _repr_html_(self) -> str:
        """A table of the first cells, for notebooks."""
        axes = self.axes
        rows = [
            [str(cell.index + 1), cell.address, *(cell.coordinates.get(axis, "") for axis in axes),
             str(cell.settings.size), str(len(cell.settings.frames)), " ".join(cell.settings.passes)]
            for cell in self[:_SHOWN]
        ]  # fmt: skip
        more = f"{len(self):,} cells" + (f", the first {_SHOWN} of them" if len(self) > _SHOWN else "")
        return html_table(["", "cell", *axes, "size", "frames", "passes"], rows, more)

    def at(self, *wanted: str, sets: Sequence[str] = ()) -> list[Cell]:
        """Cells by addresses (``noon//all/Wide``), axes (``light=noon,evening``) and named sets."""
        return [self._make(index) for index in self.indices(*wanted, sets=sets).tolist()]

    def indices(self, *wanted: str, sets: Sequence[str] = ()) -> NDArray[np.int64]:
        """Where those cells stand in the run, (N,) int64 from 0; nothing is listed but this."""
        return cells_at(self._lattice, wanted, sets)

    def running(self, *wanted: str, sets: Sequence[str] = ()) -> NDArray[np.int64]:
        """The same indices in the order those cells begin: by barriers and priorities, then as planned."""
        return running_order(self._lattice, self._make, self.indices(*wanted, sets=sets))
