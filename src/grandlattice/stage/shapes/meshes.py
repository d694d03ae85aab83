"""From a USD mesh to triangles with corner normals and texture coordinates.

A mesh with a subdivision scheme is made finer by the plan's levels, and smooth; one whose scheme is
`none` has the normals it brings, and is faceted without.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Usd, UsdGeom

from grandlattice._support.readable import many
from grandlattice.scene_records import Geometry
from grandlattice.stage.shapes.polygons import smooth_normals, triangulated, turned_over, unit
from grandlattice.stage.shapes.subdivision import (
    ENDLESS,
    Cage,
    hard_edges,
    subdivided,
    without_border_faces,
)
from grandlattice.stage.shapes.telling import told

_UV_TYPES = (
    Sdf.ValueTypeNames.TexCoord2fArray, Sdf.ValueTypeNames.Float2Array,
    Sdf.ValueTypeNames.TexCoord2hArray, Sdf.ValueTypeNames.TexCoord2dArray,
    Sdf.ValueTypeNames.Half2Array, Sdf.ValueTypeNames.Double2Array,
)  # fmt: skip


@dataclass(frozen=True)
class MeshSource:
    """What USD says of a mesh's shape at a time.

    Two of them are equal when all their arrays are; comparing them is much cheaper than making
    triangles, and tells whether a mesh that was composed anew is still the same shape.
    `normals` and `uvs` are values with their interpolation, candidates in order of preference;
    `creases` are points, lengths and sharpnesses, `sharp_points` points and sharpnesses.
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
    levels: int
    border: str
    creases: tuple[Any, Any, Any]
    sharp_points: tuple[Any, Any]
    paint: tuple[Any, str] | None
    more_uvs: tuple[Any, str] | None

    @staticmethod
    def read(
        prim: Usd.Prim, subsets: list[UsdGeom.Subset], time: Usd.TimeCode, levels: int, uv: tuple[str, ...]
    ) -> MeshSource:  # fmt: skip
        """Read a mesh at a time."""
        mesh, api = UsdGeom.Mesh(prim), UsdGeom.PrimvarsAPI(prim)
        said = frozenset(prim.GetAuthoredPropertyNames())  # asking only for these takes a third of the time

        def value(name: str, otherwise: Any = None) -> Any:
            return prim.GetAttribute(name).Get(time) if name in said else otherwise

        normals: list[tuple[Any, str]] = []
        primvar = api.GetPrimvar("normals") if "primvars:normals" in said else None
        if primvar and primvar.HasValue():
            normals.append((primvar.ComputeFlattened(time), primvar.GetInterpolation()))
        elif "normals" in said and mesh.GetNormalsAttr().HasValue():
            normals.append((mesh.GetNormalsAttr().Get(time), mesh.GetNormalsInterpolation()))
        candidates = [api.FindPrimvarWithInheritance(name) for name in dict.fromkeys((*uv[:1], "st"))]
        if any(name.startswith("primvars:") for name in said):
            candidates += [p for p in api.GetPrimvarsWithValues() if p.GetTypeName() in _UV_TYPES]
        return MeshSource(
            value("points"), value("faceVertexCounts"), value("faceVertexIndices"), value("holeIndices"),
            value("orientation") == UsdGeom.Tokens.leftHanded,
            mesh.GetSubdivisionSchemeAttr().Get() if "subdivisionScheme" in said else "catmullClark",
            tuple(normals),
            tuple((p.ComputeFlattened(time), p.GetInterpolation()) for p in candidates if p and p.HasValue()),
            tuple(subset.GetIndicesAttr().Get(time) for subset in subsets),
            levels,
            value("interpolateBoundary", UsdGeom.Tokens.edgeAndCorner),
            (value("creaseIndices"), value("creaseLengths"), value("creaseSharpnesses")),
            (value("cornerIndices"), value("cornerSharpnesses")),
            _paint(api, time),
            _primvar(api, uv[1], time) if len(uv) > 1 else None,
        )  # fmt: skip

    def told(self) -> bytes:
        """All that its triangles are made of.

        What a surface that is subdivided does not use, its own normals, is left out, and so are levels and
        creases of one that is not; of several texture coordinates the first that are enough count.
        """
        finer = self._is_made_finer
        uvs = next(((uv,) for uv in self.uvs if self._is_enough(*uv)), self.uvs)
        shape = (self.scheme, self.levels, self.border, self.creases, self.sharp_points) if finer else ()
        faceted = self.scheme == UsdGeom.Tokens.none
        return told(
            self.points, self.counts, self.indices, self.holes, self.left_handed, faceted, shape,
            () if finer else self.normals, uvs, self.subsets, self.paint, self.more_uvs,
        )  # fmt: skip

    @property
    def _is_made_finer(self) -> bool:
        return self.levels > 0 and self.scheme not in (UsdGeom.Tokens.none, UsdGeom.Tokens.loop)

    def _is_enough(self, values: Any, interpolation: str) -> bool:
        """Whether there are texture coordinates for every corner there may be."""
        needed = {
            UsdGeom.Tokens.faceVarying: self.indices, UsdGeom.Tokens.uniform: self.counts,
            UsdGeom.Tokens.vertex: self.points, UsdGeom.Tokens.varying: self.points,
        }.get(interpolation, (0,))  # fmt: skip
        return len(values or ()) >= max(1, len(needed or ()))

    def geometry(self, path: str) -> Geometry:
        """Triangles of the mesh, in its own space.

        Triangles of face f in subset k get subset k + 1; all others 0.  Faces that name points
        which are not there, and points that are not finite, are left out.
        """
        points = _array(self.points, (0, 3), np.float32)
        counts = _array(self.counts, (0,), np.int64)
        indices = _array(self.indices, (0,), np.int64)
        flaws = []
        if counts.sum() != len(indices) or (counts < 0).any():
            said = f"its faces ask for {counts.sum():,} points and {len(indices):,} are given"
            flaws.append(f"{said}; none of it is drawn")
            counts, indices = counts[:0], indices[:0]
        elif not len(counts):
            flaws.append("it has no faces")
        finite = np.isfinite(points).all(axis=1)
        here = (indices >= 0) & (indices < len(points))
        here[here] = finite[indices[here]]
        of_face = np.repeat(np.arange(len(counts)), counts)
        wrong = np.bincount(of_face, ~here, len(counts)) > 0
        good = ~wrong & (counts >= 3)
        if not finite.all():
            flaws.append(f"{many((~finite).sum(), 'point')} of it lie nowhere (not a number, or infinite)")
        if not good.all():
            flaws.append(f"{many((~good).sum(), 'face')} of {len(counts):,} cannot be drawn: left out")
        faces = np.flatnonzero(good)
        corners = np.flatnonzero(good[of_face])
        points = np.where(finite[:, None], points, 0.0).astype(np.float32)
        sources = _Sources(faces, corners, indices[corners], of_face[corners])
        uvs = self._texture_coordinates(sources)
        if self.more_uvs is not None:
            more = sources.read(_array(self.more_uvs[0], (0, 2), np.float32), self.more_uvs[1])
            uvs = np.concatenate([uvs, uvs if more is None else more], axis=1)
        if self.paint is not None:
            colours = sources.read(_array(self.paint[0], (0, 3), np.float32), self.paint[1])
            uvs = np.concatenate([uvs, np.ones((len(uvs), 3)) if colours is None else colours], axis=1)
        shown = ~np.isin(faces, _array(self.holes, (0,), np.int64))
        smooth = self.scheme != UsdGeom.Tokens.none
        finer = self._is_made_finer and len(faces)
        if finer:
            cage = Cage(
                points.astype(np.float64), counts[faces], indices[corners], uvs.astype(np.float64),
                np.arange(len(faces)), *self._creases(len(points)), self._sharp_points(len(points)),
            )  # fmt: skip
            if self.border == UsdGeom.Tokens.none:
                shown = shown & without_border_faces(cage)
            rule = {"border": self.border, "bilinear": self.scheme == UsdGeom.Tokens.bilinear}
            cage = subdivided(cage, self.levels, **rule)
            points, uvs, came_from = cage.points.astype(np.float32), cage.corner_values, cage.faces
            face, corner = triangulated(points, cage.counts, cage.indices)
            of_point, hard = cage.indices[corner], hard_edges(cage)
        else:
            came_from = np.arange(len(faces))
            face, corner = triangulated(points, counts[faces], indices[corners])
            of_point, hard = indices[corners][corner], np.zeros((0, 2), np.int64)
        seen = shown[came_from[face]]
        face, corner, of_point = came_from[face][seen], corner[seen], of_point[seen]
        given = None if finer else self._given_normals(sources, corner)
        if given is not None:
            normals = given
        elif smooth:
            normals = smooth_normals(points, of_point, hard)
        else:
            normals = _facets(points, of_point)
        if given is None and self.left_handed:
            normals = -normals
        uvs = uvs[corner]
        if self.left_handed:
            of_point, uvs, normals = turned_over(of_point), turned_over(uvs), turned_over(normals)
        colours = None if self.paint is None else np.ascontiguousarray(uvs[..., -3:], np.float32)
        more = None if self.more_uvs is None else np.ascontiguousarray(uvs[..., 2:4], np.float32)
        uvs = uvs[..., :2]
        subset_of = np.zeros(len(counts), np.int32)
        for k, members in enumerate(self.subsets):
            members = _array(members, (0,), np.int32)
            subset_of[members[(members >= 0) & (members < len(counts))]] = k + 1
        return Geometry(
            path, np.ascontiguousarray(points, np.float32), np.ascontiguousarray(of_point, np.int32),
            np.ascontiguousarray(normals, np.float32), np.ascontiguousarray(uvs, np.float32),
            subset_of[faces[face]], tuple(flaws), colours, more,
        )  # fmt: skip

    def _given_normals(self, sources: _Sources, corner: NDArray) -> NDArray | None:
        for values, interpolation in self.normals:
            given = sources.read(_array(values, (0, 3), np.float32), interpolation)
            if given is not None and np.isfinite(given).all():
                return unit(given)[corner]
        return None

    def _texture_coordinates(self, sources: _Sources) -> NDArray:
        for values, interpolation in self.uvs:
            read = sources.read(_array(values, (0, 2), np.float32), interpolation)
            if read is not None:
                return read
        return np.zeros((len(sources.corners), 2), np.float32)

    def _creases(self, point_count: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Sharp edges: chains of points, each of a length, with a sharpness for each chain or edge."""
        points = _array(self.creases[0], (0,), np.int64)
        lengths = _array(self.creases[1], (0,), np.int64)
        sharpness = _array(self.creases[2], (0,), np.float64)
        if not len(lengths) or lengths.min() < 2 or lengths.sum() != len(points):
            return np.zeros((0, 2), np.int64), np.zeros(0)
        last = np.zeros(len(points), bool)
        last[np.cumsum(lengths) - 1] = True
        starts = np.flatnonzero(~last)
        pairs = np.stack([points[starts], points[starts + 1]], axis=1)
        if len(sharpness) == len(lengths):
            sharpness = np.repeat(sharpness, lengths - 1)
        inside = ((pairs >= 0) & (pairs < point_count)).all(axis=1)
        if len(sharpness) != len(pairs):
            return np.zeros((0, 2), np.int64), np.zeros(0)
        return pairs[inside], np.clip(sharpness[inside], 0.0, ENDLESS)

    def _sharp_points(self, point_count: int) -> NDArray[np.float64]:
        points = _array(self.sharp_points[0], (0,), np.int64)
        sharpness = _array(self.sharp_points[1], (0,), np.float64)
        found = np.zeros(point_count)
        if len(points) == len(sharpness):
            inside = (points >= 0) & (points < point_count)
            found[points[inside]] = np.clip(sharpness[inside], 0.0, ENDLESS)
        return found


@dataclass(frozen=True)
class _Sources:
    """Where the corners of the faces that are kept take their values from.

    `faces` are those of the mesh that are kept; for each of their corners `corners` is its number in
    the mesh, `points` its point and `of` its face.
    """

    faces: NDArray[np.int64]
    corners: NDArray[np.int64]
    points: NDArray[np.int64]
    of: NDArray[np.int64]

    def read(self, values: NDArray, interpolation: str) -> NDArray | None:
        """Values at the corners, (C, D); None where there are too few of them."""
        place = {
            UsdGeom.Tokens.faceVarying: self.corners,
            UsdGeom.Tokens.vertex: self.points,
            UsdGeom.Tokens.varying: self.points,
            UsdGeom.Tokens.uniform: self.of,
        }.get(interpolation, np.zeros(len(self.corners), np.int64))
        if place.size and place.max() >= len(values):
            return None
        return values[place] if len(values) else None


def _array(value: object, empty: tuple[int, ...], dtype: type) -> NDArray:
    return np.array(value, dtype) if value is not None and len(value) else np.zeros(empty, dtype)  # type: ignore[arg-type]


def _primvar(api: UsdGeom.PrimvarsAPI, name: str, time: Usd.TimeCode) -> tuple[Any, str] | None:
    found = api.FindPrimvarWithInheritance(name)
    return (found.ComputeFlattened(time), found.GetInterpolation()) if found and found.HasValue() else None


def _paint(api: UsdGeom.PrimvarsAPI, time: Usd.TimeCode) -> tuple[Any, str] | None:
    """The display colour where it is not one for all."""
    colour = api.FindPrimvarWithInheritance("displayColor")
    if not colour or not colour.HasValue() or colour.GetInterpolation() == UsdGeom.Tokens.constant:
        return None
    return colour.ComputeFlattened(time), colour.GetInterpolation()


def _facets(points: NDArray, triangles: NDArray) -> NDArray:
    at = points[triangles] if len(points) else np.zeros((0, 3, 3), np.float32)
    return unit(np.repeat(np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])[:, None], 3, axis=1))
