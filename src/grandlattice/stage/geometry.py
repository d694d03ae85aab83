"""From a USD mesh to triangles with corner normals and texture coordinates.

Polygons are fanned.  A mesh without normals of its own is smooth where its subdivision scheme
asks for a smooth surface, and faceted where the scheme is `none`.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Usd, UsdGeom

from grandlattice.snapshot import Geometry

_UV_TYPES = (
    Sdf.ValueTypeNames.TexCoord2fArray, Sdf.ValueTypeNames.Float2Array,
    Sdf.ValueTypeNames.TexCoord2hArray, Sdf.ValueTypeNames.TexCoord2dArray,
    Sdf.ValueTypeNames.Half2Array, Sdf.ValueTypeNames.Double2Array,
)  # fmt: skip
GEOMETRY_PROPERTIES = (
    "points", "faceVertex", "normals", "primvars:", "orientation", "subdivisionScheme",
    "holeIndices", "familyType", "indices",
)  # fmt: skip


def varies(mesh: UsdGeom.Mesh) -> bool:
    """Whether the shape itself changes over time."""
    attributes = [mesh.GetPointsAttr(), mesh.GetNormalsAttr(), mesh.GetFaceVertexIndicesAttr()]
    return any(attribute.ValueMightBeTimeVarying() for attribute in attributes)


@dataclass(frozen=True)
class MeshSource:
    """What USD says of a mesh's shape at a time.

    Two of them are equal when all their arrays are; comparing them is much cheaper than making
    triangles, and tells whether a mesh that was composed anew is still the same shape.
    `normals` and `uvs` are values with their interpolation, candidates in order of preference.
    """

    points: Any
    counts: Any
    indices: Any
    holes: Any
    left_handed: bool
    scheme: str
    normals: tuple[tuple[Any, str], ...]
    uvs: tuple[tuple[Any, str], ...]
    subsets: tuple[Any, ...]


def mesh_source(mesh: UsdGeom.Mesh, subsets: list[UsdGeom.Subset], time: Usd.TimeCode) -> MeshSource:
    """Read a mesh at a time."""
    api = UsdGeom.PrimvarsAPI(mesh)
    normals: list[tuple[Any, str]] = []
    primvar = api.GetPrimvar("normals")
    if primvar and primvar.HasValue():
        normals.append((primvar.ComputeFlattened(time), primvar.GetInterpolation()))
    elif mesh.GetNormalsAttr().HasValue():
        normals.append((mesh.GetNormalsAttr().Get(time), mesh.GetNormalsInterpolation()))
    candidates = [api.FindPrimvarWithInheritance("st")]
    candidates += [p for p in api.GetPrimvarsWithValues() if p.GetTypeName() in _UV_TYPES]
    return MeshSource(
        mesh.GetPointsAttr().Get(time),
        mesh.GetFaceVertexCountsAttr().Get(time),
        mesh.GetFaceVertexIndicesAttr().Get(time),
        mesh.GetHoleIndicesAttr().Get(time),
        mesh.GetOrientationAttr().Get(time) == UsdGeom.Tokens.leftHanded,
        mesh.GetSubdivisionSchemeAttr().Get(),
        tuple(normals),
        tuple((p.ComputeFlattened(time), p.GetInterpolation()) for p in candidates if p and p.HasValue()),
        tuple(subset.GetIndicesAttr().Get(time) for subset in subsets),
    )


def mesh_geometry(path: str, source: MeshSource) -> Geometry:
    """Triangles of a mesh, in its own space.

    Triangles of face f in subset k get subset k + 1; all others 0.  Faces that name points
    which are not there, and points that are not finite, are left out.
    """
    points = _array(source.points, (0, 3), np.float32)
    counts = _array(source.counts, (0,), np.int32)
    indices = _array(source.indices, (0,), np.int32)
    if counts.sum() != len(indices) or (counts < 0).any():
        counts, indices = counts[:0], indices[:0]
    face, corners = _fanned(counts)
    of_point = indices[corners]
    good = np.isfinite(points).all(axis=1) if len(points) else np.zeros(0, bool)
    inside = ((of_point >= 0) & (of_point < len(points))).all(axis=1)
    safe = np.clip(of_point, 0, max(len(points) - 1, 0))
    keep = inside & good[safe].all(axis=1) if len(points) else np.zeros(len(face), bool)
    keep &= ~np.isin(face, _array(source.holes, (0,), np.int32))
    face, corners, of_point = face[keep], corners[keep], of_point[keep]

    sources = _Sources(face, corners, of_point)
    normals = _normals(source, points, sources)
    uvs = _texture_coordinates(source, sources)
    if source.left_handed:
        of_point, uvs, normals = of_point[:, ::-1], uvs[:, ::-1], normals[:, ::-1]
    subset_of = np.zeros(len(counts), np.int32)
    for k, given in enumerate(source.subsets):
        members = _array(given, (0,), np.int32)
        subset_of[members[(members >= 0) & (members < len(counts))]] = k + 1
    return Geometry(
        path, np.where(np.isfinite(points), points, 0.0).astype(np.float32),
        np.ascontiguousarray(of_point, np.int32), np.ascontiguousarray(normals, np.float32),
        np.ascontiguousarray(uvs, np.float32), subset_of[face],
    )  # fmt: skip


class _Sources:
    """Where each corner of each triangle takes its values from: (T,) faces, (T, 3) others."""

    def __init__(self, face: NDArray, corners: NDArray, points: NDArray) -> None:
        self.face, self.corners, self.points = face, corners, points

    def read(self, values: NDArray, interpolation: str) -> NDArray | None:
        """Values at the corners, (T, 3, C); None where there are too few of them."""
        place = {
            UsdGeom.Tokens.faceVarying: self.corners,
            UsdGeom.Tokens.vertex: self.points,
            UsdGeom.Tokens.varying: self.points,
            UsdGeom.Tokens.uniform: np.repeat(self.face[:, None], 3, axis=1),
        }.get(interpolation, np.zeros((len(self.face), 3), np.int64))
        if place.size and place.max() >= len(values):
            return None
        return values[place] if len(values) else None


def _array(value: object, empty: tuple[int, ...], dtype: type) -> NDArray:
    return np.array(value, dtype) if value is not None and len(value) else np.zeros(empty, dtype)  # type: ignore[arg-type]


def _fanned(counts: NDArray[np.int32]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Triangles of polygons: (T,) the face of each, (T, 3) its corners."""
    fans = np.maximum(counts.astype(np.int64) - 2, 0)
    starts = np.cumsum(counts, dtype=np.int64) - counts
    face = np.repeat(np.arange(len(counts)), fans)
    step = np.arange(len(face)) - np.repeat(np.cumsum(fans) - fans, fans)
    first = starts[face] if len(face) else face
    return face, np.stack([first, first + step + 1, first + step + 2], axis=1)


def _normals(source: MeshSource, points: NDArray, sources: _Sources) -> NDArray:
    for values, interpolation in source.normals:
        given = sources.read(_array(values, (0, 3), np.float32), interpolation)
        if given is not None and np.isfinite(given).all():
            return _unit(given)
    triangle = points[sources.points] if len(points) else np.zeros((0, 3, 3), np.float32)
    face_normals = np.cross(triangle[:, 1] - triangle[:, 0], triangle[:, 2] - triangle[:, 0])
    if source.left_handed:
        face_normals = -face_normals
    if source.scheme == UsdGeom.Tokens.none:
        return _unit(np.repeat(face_normals[:, None], 3, axis=1))
    # Area-weighted vertex normals: the cross product's length is twice the area.
    smooth = np.zeros((max(len(points), 1), 3))
    for k in range(3):
        for axis in range(3):
            smooth[:, axis] += np.bincount(sources.points[:, k], face_normals[:, axis], minlength=len(smooth))
    return _unit(smooth[sources.points])


def _unit(vectors: NDArray) -> NDArray:
    length = np.linalg.norm(vectors, axis=-1, keepdims=True)
    return np.where(length > 0, vectors / np.where(length > 0, length, 1.0), (0.0, 0.0, 1.0))


def _texture_coordinates(source: MeshSource, sources: _Sources) -> NDArray:
    for values, interpolation in source.uvs:
        read = sources.read(_array(values, (0, 2), np.float32), interpolation)
        if read is not None:
            return read
    return np.zeros((len(sources.face), 3, 2), np.float32)
