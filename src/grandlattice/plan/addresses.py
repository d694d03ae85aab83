"""Which cells are meant: addresses such as ``noon//all/Wide`` and ``--at light=noon,evening``."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import NoSuchCell, PlanError, nearest
from grandlattice.plan.lattice import Lattice
from grandlattice.plan.setting_columns import Masks

Indices = NDArray[np.int64]


def cells_at(lattice: Lattice, wanted: Sequence[str], sets: Sequence[str] = ()) -> Indices:
    """Indices of the cells that all of `wanted` and `sets` mean, in running order; (N,) int64.

    Each is an address (an empty part means any, globs and comma lists allowed), the name of an
    added cell, or ``axis=entries``.  What is said of one axis adds up, and different axes narrow each
    other down; several addresses add up, and so do several sets.  Nothing wanted means every cell.

    Raises
    ------
    NoSuchCell
        When one of them means no cell.
    """
    masks: list[NDArray[np.bool_] | None] = [None] * len(lattice.axes)
    addresses = []
    for text in wanted:
        if "=" in text:
            name, _, entries = text.partition("=")
            names = [axis.name for axis in lattice.axes]
            if name not in names:
                raise NoSuchCell(f"There is no axis {name}. {nearest(name, names)}")
            a = names.index(name)
            mask = lattice.axes[a].matching(entries.split(","))
            before = masks[a]
            masks[a] = mask if before is None else before | mask
        else:
            addresses.append(text)
    found = []
    if any(mask is not None for mask in masks):
        found.append(lattice.select(tuple(masks)))
    if addresses:
        found.append(np.unique(np.concatenate([_addressed(lattice, text) for text in addresses])))
    if sets:
        found.append(np.unique(np.concatenate([_in_set(lattice, name) for name in sets])))
    narrowed = found[0] if found else np.arange(len(lattice))
    for more in found[1:]:
        narrowed = np.intersect1d(narrowed, more)
    if not len(narrowed):
        raise NoSuchCell(f"No cell of the run is meant by {' '.join([*wanted, *sets])}.")
    return narrowed


def _in_set(lattice: Lattice, name: str) -> Indices:
    if name not in lattice.sets:
        hint = nearest(name, lattice.sets) or "The plan names none; add it under sets."
        raise NoSuchCell(f"There is no set {name}. {hint}")
    return np.concatenate([lattice.select(masks) for masks in lattice.sets[name]])


def _addressed(lattice: Lattice, address: str) -> Indices:
    first_added = len(lattice) - len(lattice.added)
    for k, cell in enumerate(lattice.added):
        if cell.name == address:
            return np.array([first_added + k], np.int64)
    if address == "the one cell" and not lattice.axes:
        return np.array([0], np.int64)
    parts = address.split("/")
    axes = lattice.axes
    if len(parts) != len(axes):
        shape = "/".join(axis.name for axis in axes)
        raise NoSuchCell(
            f"{address} is no cell. An address has {len(axes)} parts, {shape}.",
            cure="leave a part empty to mean any entry: " + "/".join(
                axis.options[0].name if a == 0 else "" for a, axis in enumerate(axes)
            ),
        )  # fmt: skip
    entries = [axis.index.get(part) for axis, part in zip(axes, parts, strict=True)]
    if all(entry is not None for entry in entries):
        return np.array([lattice.index_of([int(entry or 0) for entry in entries])], np.int64)
    try:
        masks: Masks = tuple(
            axis.matching(part.split(",")) if part else None for axis, part in zip(axes, parts, strict=True)
        )
    except PlanError as problem:
        raise NoSuchCell(f"{address} is no cell: {problem.what}") from None
    found = lattice.select(masks)
    if not len(found):
        raise NoSuchCell(f"{address} is not in the run: a rule or skip takes it out.")
    return found
