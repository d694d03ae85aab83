"""What differs between frames: transforms, visibility and materials."""

from __future__ import annotations

from pxr import Usd, UsdGeom, UsdShade


def transform_varies(prim: Usd.Prim) -> bool:
    """Whether a prim moves over time, or anything above it does."""
    while prim and not prim.IsPseudoRoot():
        xformable = UsdGeom.Xformable(prim)
        if xformable and xformable.TransformMightBeTimeVarying():
            return True
        prim = prim.GetParent()
    return False


def visibility_varies(prim: Usd.Prim) -> bool:
    """Whether a prim is seen at some times only, for its own sake or for what is above it."""
    while prim and not prim.IsPseudoRoot():
        imageable = UsdGeom.Imageable(prim)
        if imageable and imageable.GetVisibilityAttr().ValueMightBeTimeVarying():
            return True
        prim = prim.GetParent()
    return False


def looks_vary(source: UsdShade.Material | Usd.Prim) -> bool:
    """Whether a material, or the materials below a prim, change over time."""
    prim = source.GetPrim() if isinstance(source, UsdShade.Material) else source
    return any(
        attribute.ValueMightBeTimeVarying()
        for below in Usd.PrimRange(prim)
        if below.IsA(UsdShade.Shader) or below.IsA(UsdShade.Material)
        for attribute in below.GetAttributes()
    )


def stands_alone(material: UsdShade.Material) -> bool:
    """Whether nothing outside the material's own prims feeds it, whose change would go unnoticed."""
    path = material.GetPath()
    return all(
        source.HasPrefix(path)
        for below in Usd.PrimRange(material.GetPrim(), Usd.TraverseInstanceProxies())
        for attribute in below.GetAuthoredAttributes()
        if attribute.HasAuthoredConnections()
        for source in attribute.GetConnections()
    )
