"""What stands where a plan swapped an asset for another: how large it is, and how large the old one was."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom

from grandlattice.errors import EditError, Place
from grandlattice.plan import PlacedEdit
from grandlattice.stage.opened_scene import quiet_usd
from grandlattice.stage.selection import Selector


@dataclass(frozen=True)
class Swapped:
    """A prim with another asset in it; `before` and `after` are least and greatest corners, (2, 3), and `up`
    is the axis that points up, 1 or 2."""

    path: str
    before: NDArray[np.float64]
    after: NDArray[np.float64]
    up: int
    place: Place


def swapped(
    scene: Usd.Stage, cell: Usd.Stage, edits: Sequence[PlacedEdit], select: Mapping[str, Sequence[str]],
    frame: float,
) -> Iterator[Swapped]:  # fmt: skip
    """What swaps have put in place, where both assets have some size.

    Parameters
    ----------
    scene, cell : without the edits, and with them.
    select : the plan's named selections.
    """
    up = 2 if UsdGeom.GetStageUpAxis(scene) == UsdGeom.Tokens.z else 1
    for placed in edits:
        if placed.edit.verb != "swap":
            continue
        body = placed.edit.body
        try:
            paths = Selector(scene, select).prims(body.on, body.except_ or (), place=placed.place)
        except EditError:
            continue  # an edit before made what is swapped: nothing of it stands in the scene
        for path in paths:
            before, after = (_bounds(stage, path, frame) for stage in (scene, cell))
            if before is not None and after is not None:
                yield Swapped(str(path), before, after, up, placed.place)


@quiet_usd()
def _bounds(stage: Usd.Stage, path: Sdf.Path, frame: float) -> NDArray[np.float64] | None:
    prim = stage.GetPrimAtPath(path)
    if not prim:
        return None
    shown = [UsdGeom.Tokens.default_, UsdGeom.Tokens.render]
    box: Gf.Range3d = UsdGeom.BBoxCache(frame, shown).ComputeWorldBound(prim).ComputeAlignedRange()
    corners = np.array([box.GetMin(), box.GetMax()], float)
    return None if box.IsEmpty() or not np.isfinite(corners).all() else corners
