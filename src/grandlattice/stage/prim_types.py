"""What kind of prim something is, asked of USD once for each type and not for each prim."""

from __future__ import annotations

from typing import NamedTuple

from pxr import Usd, UsdGeom, UsdShade, UsdSkel

from grandlattice.stage.attributes import is_light
from grandlattice.stage.shapes import is_shape


class PrimType(NamedTuple):
    """What all prims of one type, with the same applied schemas, have in common."""

    camera: bool
    light: bool
    material: bool
    mesh: bool
    curves: bool
    gprim: bool
    shape: bool  # the tracer draws it
    instancer: bool
    xformable: bool
    model: bool
    skinned: bool
    plain: bool  # no image or other file is named by it, as a rule


_PLAIN = frozenset({
    "", "Scope", "Xform", "Mesh", "GeomSubset", "Camera", "PointInstancer", "Points", "BasisCurves", "Cube",
    "Sphere", "Cylinder", "Cone", "Capsule", "Plane", "Material",
})  # fmt: skip
_known: dict[tuple[str, tuple[str, ...]], PrimType] = {}


def type_of(prim: Usd.Prim) -> PrimType:
    """The type of a prim."""
    key = prim.GetTypeName(), tuple(prim.GetAppliedSchemas())
    found = _known.get(key)
    if found is None:
        found = _known[key] = PrimType(
            camera=prim.IsA(UsdGeom.Camera),
            light=is_light(prim),
            material=prim.IsA(UsdShade.Material),
            mesh=prim.IsA(UsdGeom.Mesh),
            curves=prim.IsA(UsdGeom.Curves),
            gprim=prim.IsA(UsdGeom.Gprim),
            shape=is_shape(prim),
            instancer=prim.IsA(UsdGeom.PointInstancer),
            xformable=prim.IsA(UsdGeom.Xformable),
            model=prim.HasAPI(UsdGeom.ModelAPI),
            skinned=prim.HasAPI(UsdSkel.BindingAPI),
            plain=key[0] in _PLAIN,
        )
    return found
