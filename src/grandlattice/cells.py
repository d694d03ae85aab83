"""The cells of a plan as a sequence: counted, found by address, never listed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import PlanError
from grandlattice.plan import Cell, cells_at, running_order

if TYPE_CHECKING:
    from grandlattice.whole import Plan


class Cells:
    """The cells of a plan in the order they run: by index, by address, or one after another."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan

    def __len__(self) -> int:
        return len(self._plan.lattice)

    def __iter__(self) -> Iterator[Cell]:
        return (self._plan._make(index) for index in range(len(self)))

    def __getitem__(self, key: int | str) -> Cell:
        """A cell by its index in the run, or by an address that means exactly one."""
        if isinstance(key, int):
            return self._plan._make(key if key >= 0 else len(self) + key)
        found = cells_at(self._plan.lattice, [key])
        if len(found) > 1:
            raise PlanError(f"{key} means {len(found):,} cells; name one, or use at().")
        return self._plan._make(int(found[0]))

    def at(self, *wanted: str, sets: Sequence[str] = ()) -> list[Cell]:
        """Cells by addresses (``noon//all/Wide``), axes (``light=noon,evening``) and named sets."""
        return [self._plan._make(index) for index in self.indices(*wanted, sets=sets).tolist()]

    def indices(self, *wanted: str, sets: Sequence[str] = ()) -> NDArray[np.int64]:
        """Where those cells stand in the run, (N,) int64 from 0; nothing is listed but this."""
        return cells_at(self._plan.lattice, wanted, sets)

    def running(self, *wanted: str, sets: Sequence[str] = ()) -> NDArray[np.int64]:
        """The same indices in the order those cells begin: by barriers and priorities, then as planned."""
        plan = self._plan
        return running_order(plan.lattice, plan._make, self.indices(*wanted, sets=sets))
