"""The shapes of a stage that may be drawn, each of an instance or a point instancer by itself."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from pxr import Sdf, Usd, UsdGeom, UsdShade

from grandlattice.stage.attributes import is_light
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


class FoundShapes(NamedTuple):
    """What stands at or below a prim: its shapes in the order of the stage, its materials, and whether there
    are collections that materials may be bound by."""

    shapes: list[DrawnShape]
    materials: frozenset[Sdf.Path]
    has_collections: bool


def find_shapes(top: Usd.Prim) -> FoundShapes:
    """Whatever may be drawn at or below a prim; what stands below a point instancer only as prototypes."""
    shapes, materials, has_collections = [], [], False
    prims = iter(Usd.PrimRange(top, Usd.TraverseInstanceProxies()))
    for prim in prims:
        if prim.IsA(UsdGeom.PointInstancer):
            shapes += [_shape(part, chain) for part, chain in chain_of(prim)]
            prims.PruneChildren()
        elif is_shape(prim) and is_drawn(prim):
            shapes.append(_shape(prim, ()))
        elif prim.IsA(UsdShade.Material):
            materials.append(prim.GetPath())
        has_collections = has_collections or (prim.HasAPI(Usd.CollectionAPI) and not is_light(prim))
    return FoundShapes(shapes, frozenset(materials), has_collections)


def _shape(prim: Usd.Prim, chain: Chain) -> DrawnShape:
    shared = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
    subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets() if prim.IsA(UsdGeom.Mesh) else []
    return DrawnShape(prim, shared, subsets, shape_varies(shared), chain)


def found_again(shape: DrawnShape) -> DrawnShape:
    """A shape as it is now."""
    return _shape(shape.prim, shape.chain)


def is_shown(shape: DrawnShape, time: Usd.TimeCode) -> bool:
    """Whether a shape is visible; the instancer's word counts for prototypes that stand elsewhere."""
    return is_visible(shape.prim, time) and all(is_visible(link.instancer, time) for link in shape.chain)


def is_visible(prim: Usd.Prim, time: Usd.TimeCode) -> bool:
    """Whether neither a prim nor anything above it is hidden."""
    return bool(UsdGeom.Imageable(prim).ComputeVisibility(time) != UsdGeom.Tokens.invisible)
