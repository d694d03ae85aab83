"""The shapes of a stage that may be drawn, each of an instance or a point instancer by itself."""

from __future__ import annotations

from dataclasses import dataclass

from pxr import Usd, UsdGeom, UsdShade

from grandlattice.stage.instancing import Chain, chain_of, is_drawn
from grandlattice.stage.shapes import is_shape, shape_varies


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


def find_shapes(stage: Usd.Stage) -> list[DrawnShape]:
    """Whatever may be drawn; what stands below a point instancer only as its prototypes."""
    found = []
    prims = iter(Usd.PrimRange.Stage(stage, Usd.TraverseInstanceProxies()))
    for prim in prims:
        if prim.IsA(UsdGeom.PointInstancer):
            found += [_shape(part, chain) for part, chain in chain_of(prim)]
            prims.PruneChildren()
        elif is_shape(prim) and is_drawn(prim):
            found.append(_shape(prim, ()))
    return found


def _shape(prim: Usd.Prim, chain: Chain) -> DrawnShape:
    shared = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
    subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets() if prim.IsA(UsdGeom.Mesh) else []
    return DrawnShape(prim, shared, subsets, shape_varies(shared), chain)


def is_shown(shape: DrawnShape, time: Usd.TimeCode) -> bool:
    """Whether a shape is visible; the instancer's word counts for prototypes that stand elsewhere."""
    return is_visible(shape.prim, time) and all(is_visible(link.instancer, time) for link in shape.chain)


def is_visible(prim: Usd.Prim, time: Usd.TimeCode) -> bool:
    """Whether neither a prim nor anything above it is hidden."""
    return bool(UsdGeom.Imageable(prim).ComputeVisibility(time) != UsdGeom.Tokens.invisible)
