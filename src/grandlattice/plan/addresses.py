"""Which cells are meant: addresses such as ``noon//all/Wide`` and ``--at light=noon,evening``."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import NoSuchCell, PlanError, nearest
from grandlattice.plan.lattice import Lattice


def cells_at(lattice: Lattice, wanted: Sequence[str]) -> list[int]:
    """Indices of the cells that all of `wanted` mean, in running order.

    Each is an address (an empty part means any, globs and comma lists allowed), the name of an
    added cell, or ``axis=entries``.  Several ``axis=`` narrow each other down; several addresses
    add up.  Nothing wanted means every cell.

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
            masks[a] = mask if before is None else before & mask
        else:
            addresses.append(text)
    narrowed = lattice.select(masks)
    if addresses:
        meant = {index for text in addresses for index in _addressed(lattice, text)}
        narrowed = [index for index in narrowed if index in meant]
    if not narrowed:
        raise NoSuchCell(f"No cell of the run is meant by {' '.join(wanted)}.")
    return narrowed


def _addressed(lattice: Lattice, address: str) -> list[int]:
    first_added = len(lattice) - len(lattice.added)
    named = {cell.name: first_added + k for k, cell in enumerate(lattice.added)}
    if address in named:
        return [named[address]]
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
    try:
        masks = [
            axis.matching(part.split(",")) if part else None for axis, part in zip(axes, parts, strict=True)
        ]
    except PlanError as problem:
        raise NoSuchCell(f"{address} is no cell: {problem.what}") from None
    found = lattice.select(masks)
    if not found:
        raise NoSuchCell(f"{address} is not in the run: a rule or skip takes it out.")
    return found
