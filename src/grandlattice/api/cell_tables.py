"""Cells as tables: for pandas, for matrices, for totals.  Nothing is composed or rendered."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from grandlattice.errors import PlanError, nearest
from grandlattice.plan import Cell, FileNames, Lattice, planned_files

if TYPE_CHECKING:
    import pandas


def with_axes(coordinates: Mapping[str, str], columns: Mapping[str, Any]) -> dict[str, Any]:
    """A row with a column for each axis behind its first two.

    An axis that has the name of another column is called ``axis:NAME``.

    >>> with_axes({"light": "noon", "samples": "few"}, {"number": 1, "address": "noon/few", "samples": 4})
    {'number': 1, 'address': 'noon/few', 'light': 'noon', 'axis:samples': 'few', 'samples': 4}
    """
    own = {f"axis:{name}" if name in columns else name: entry for name, entry in coordinates.items()}
    first = dict(list(columns.items())[:2])
    return {**first, **own, **columns}


_COLUMNS = (
    "number", "address", "camera_path", "width", "height", "frames", "first_frame", "samples", "passes",
    "formats", "exposure", "first_file",
)  # fmt: skip


def table(cells: Iterable[Cell], names: FileNames, axes: Sequence[str]) -> pandas.DataFrame:
    """A row for each cell, indexed by its address: its entries, size, frames, passes, first file."""
    import pandas

    rows = []
    for cell in cells:
        settings = cell.settings
        rows.append(with_axes(cell.coordinates, {
            "number": cell.index + 1, "address": cell.address,
            "camera_path": settings.camera, "width": settings.size.width,
            "height": settings.size.height, "frames": len(settings.frames),
            "first_frame": settings.frames[0], "samples": settings.samples,
            "passes": " ".join(settings.passes), "formats": " ".join(settings.format),
            "exposure": str(settings.metered) if settings.metered else settings.exposure,
            "first_file": next(planned_files(cell, names)).path,
        }))  # fmt: skip
    titles = list(with_axes(dict.fromkeys(axes, ""), dict.fromkeys(_COLUMNS)))
    return pandas.DataFrame(rows, columns=titles).set_index("address")


def combinations(lattice: Lattice, down: str, across: str) -> pandas.DataFrame:
    """How many cells each entry of one axis has with each of another; see `Plan.combinations`."""
    import pandas

    axes = {axis.name: a for a, axis in enumerate(lattice.axes)}
    for name in (down, across):
        if name not in axes:
            raise PlanError(f"There is no axis {name}. {nearest(name, axes)}")
    a, b = axes[down], axes[across]
    rows, columns = ([option.name for option in lattice.axes[k].options] for k in (a, b))
    counts = np.zeros((len(rows), len(columns)), np.int64)
    entries = lattice.entries_of(np.arange(len(lattice.positions)))
    np.add.at(counts, (entries[a], entries[b]), 1)
    for cell in lattice.added:
        counts[cell.entries[a], cell.entries[b]] += 1
    return pandas.DataFrame(counts, rows, columns)
