"""Where things are while the shutter is open."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdGeom

from grandlattice.stage.drawn_shapes import DrawnShape
from grandlattice.stage.instancing import copies_of
from grandlattice.stage.light_reading import matrix_array


def track_of_copies(
    shape: DrawnShape, moments: list[UsdGeom.XformCache], count: int
) -> NDArray[np.float64] | None:  # fmt: skip
    """Where `count` copies of a shape are while the shutter is open, see `Item`; None for standing still."""
    each = [copies_of(shape.prim, shape.chain, at.GetTime(), at) for at in moments]
    if any(len(here) != count for _, here in each):
        return None  # some come or go meanwhile, and they have no names to match them by
    return if_it_moves(np.array([here @ to_world for to_world, here in each]))


def places_of(
    prim: Usd.Prim, moments: list[UsdGeom.XformCache],
    stands: Callable[[Usd.Prim, NDArray[np.float64]], NDArray[np.float64]] = lambda _, placed: placed,
) -> NDArray[np.float64] | None:  # fmt: skip
    """Where what belongs to a prim is at some moments, (S, 4, 4); None where it stands still.

    Parameters
    ----------
    stands : how it stands where the prim is placed.
    """
    placed = [matrix_array(at.GetLocalToWorldTransform(prim)) for at in moments]
    return if_it_moves(np.array([stands(prim, each) for each in placed]))


def if_it_moves(track: NDArray[np.float64]) -> NDArray[np.float64] | None:
    """A track, (S, …, 4, 4); None where it is not one."""
    return track if np.isfinite(track).all() and np.ptp(track, axis=0).any() else None
