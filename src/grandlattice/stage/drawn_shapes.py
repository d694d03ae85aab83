"""Shapes of a stage that may be drawn, each of an instance or a point instancer by itself."""

from __future__ import annotations

from dataclasses import dataclass

from pxr import Usd, UsdGeom, UsdShade

from grandlattice.stage.instancing import Chain
from grandlattice.stage.shapes import shape_varies


@dataclass(frozen=True, eq=False)
class DrawnShape:
    """A shape that may be seen, and the parts of it that may have materials of their own.

    `shared` is the prim whose triangles these are: instances of a prototype have them in common.
    `chain` are the point instancers it is a prototype of.
    """

    prim: Usd.Prim
    shared: Usd.Prim
    subsets: list[UsdGeom.Subset]
    varies: bool
    chain: Chain

    @property
    def placed_by(self) -> Usd.Prim:
        """The prim whose transform places it in the world: itself, or the outermost of its instancers."""
        return self.chain[0].instancer if self.chain else self.prim


def drawn_shape(prim: Usd.Prim, chain: Chain = ()) -> DrawnShape:
    """A shape as it is now."""
    shared = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
    subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets() if prim.IsA(UsdGeom.Mesh) else []
    return DrawnShape(prim, shared, subsets, shape_varies(shared), chain)


def is_visible(prim: Usd.Prim, time: Usd.TimeCode) -> bool:
    """Whether neither a prim nor anything above it is hidden."""
    return bool(UsdGeom.Imageable(prim).ComputeVisibility(time) != UsdGeom.Tokens.invisible)
