"""Everything that can be drawn, as triangles: meshes, primitives, curves.

A *source* is what USD says of a shape at a time; two sources that are equal make equal triangles,
and comparing them is much cheaper.  `subdivision` and `polygons` know arrays only.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace
from functools import cached_property
from itertools import count
from typing import Protocol
from weakref import WeakValueDictionary

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

    def told(self) -> bytes:
        """All that its triangles are made of, and nothing else."""
        ...


_serials = count()
_made: WeakValueDictionary[bytes, Geometry] = WeakValueDictionary()  # of shapes that are in use


class ReadShape:
    """A shape as it was read; its triangles are made when they are asked for, and kept.

    Attributes
    ----------
    source : what USD says of it.
    serial : another for each.
    """

    def __init__(self, source: ShapeSource, path: str) -> None:
        self.source, self._path, self.serial = source, path, next(_serials)

    @cached_property
    def geometry(self) -> Geometry:
        """Its triangles; the path is that of the prim that was read.

        Scenes are full of shapes that are copies of each other: their arrays are made once.
        """
        alike = _made.get(self.told)
        if alike is not None:
            return replace(alike, path=self._path)
        made = _made[self.told] = self.source.geometry(self._path)
        return made

    @cached_property
    def told(self) -> bytes:
        """Digest of all that its triangles are made of, 16 bytes."""
        kind = type(self.source).__name__.encode()
        return hashlib.blake2b(kind + self.source.told(), digest_size=16).digest()


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
    names = [name for name in prim.GetAuthoredPropertyNames() if name.startswith(SHAPE_PROPERTIES)]
    return any(
        attribute.ValueMightBeTimeVarying() for attribute in map(prim.GetAttribute, names) if attribute
    )


__all__ = ["ReadShape", "ShapeSource", "is_shape", "read_shape", "shape_varies"]
