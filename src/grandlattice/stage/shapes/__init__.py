"""Everything that can be drawn, as triangles: meshes, primitives, curves.

A *source* is what USD says of a shape at a time; two sources that are equal make equal triangles,
and comparing them is much cheaper.  `subdivision` and `polygons` know arrays only.
"""

from __future__ import annotations

from typing import Protocol

from pxr import Usd, UsdGeom

from grandlattice.scene_records import Geometry
from grandlattice.stage.shapes.curves import CurvesSource
from grandlattice.stage.shapes.meshes import MeshSource
from grandlattice.stage.shapes.primitives import PRIMITIVES, PrimitiveSource

SHAPE_PROPERTIES = (
    "points", "faceVertex", "normals", "primvars:", "orientation", "subdivisionScheme", "holeIndices",
    "familyType", "indices", "crease", "corner", "interpolateBoundary", "size", "radius", "height",
    "width", "length", "axis", "curveVertexCounts", "basis", "wrap", "type",
)  # fmt: skip
"""How the names of properties begin that a shape depends on."""


class ShapeSource(Protocol):
    """What USD says of a shape at a time."""

    def geometry(self, path: str) -> Geometry:
        """Its triangles, in its own space."""
        ...


def is_shape(prim: Usd.Prim) -> bool:
    """Whether the tracer draws a prim by itself."""
    return bool(prim.IsA(UsdGeom.Mesh) or prim.GetTypeName() in PRIMITIVES or prim.IsA(UsdGeom.BasisCurves))


def read_shape(
    prim: Usd.Prim, subsets: list[UsdGeom.Subset], time: Usd.TimeCode, levels: int,
    uv: tuple[str, ...] = ("st",),
) -> ShapeSource:  # fmt: skip
    """Read a shape at a time.

    Parameters
    ----------
    levels : how often a mesh that is subdivided is.
    uv : the primvars its textures are read by, two at most; where there is no first one, another that may
        be meant.
    """
    kind: type[MeshSource] | type[PrimitiveSource] | type[CurvesSource] = MeshSource
    if prim.GetTypeName() in PRIMITIVES:
        kind = PrimitiveSource
    elif prim.IsA(UsdGeom.BasisCurves):
        kind = CurvesSource
    return kind.read(prim, subsets, time, levels, uv)


def shape_varies(prim: Usd.Prim) -> bool:
    """Whether a shape itself changes over time."""
    return any(
        attribute.ValueMightBeTimeVarying()
        for attribute in prim.GetAuthoredAttributes()
        if attribute.GetName().startswith(SHAPE_PROPERTIES)
    )


__all__ = ["ShapeSource", "is_shape", "read_shape", "shape_varies"]
