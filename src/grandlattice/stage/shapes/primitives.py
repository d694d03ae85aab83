"""Spheres, cubes, cylinders, cones, capsules and planes as triangles.

Round shapes are turned about their axis; their normals are those of the true shape.  UsdGeom gives
primitives no texture coordinates: here u runs around the axis and v along it, and each side of a
cube or plane holds the whole image.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdGeom

from grandlattice.scene_records import Geometry
from grandlattice.stage.shapes.polygons import turned_over
from grandlattice.stage.shapes.telling import told

PRIMITIVES = (
    "Sphere", "Cube", "Cylinder", "Cylinder_1", "Cone", "Capsule", "Capsule_1", "Plane",
)  # fmt: skip
_COLUMNS, _ROWS = 96, 48

Band = tuple[NDArray, NDArray, NDArray, NDArray]
"""A smooth part of an outline from bottom to top: radius, height, and the two of the normal."""


@dataclass(frozen=True)
class PrimitiveSource:
    """What USD says of a primitive at a time: its type, its sizes by name, its axis."""

    kind: str
    sizes: tuple[tuple[str, float], ...]
    axis: str
    left_handed: bool

    @staticmethod
    def read(
        prim: Usd.Prim, subsets: list[UsdGeom.Subset], time: Usd.TimeCode, levels: int, uv: tuple[str, ...]
    ) -> PrimitiveSource:
        """Read a primitive at a time; it has no subsets, and needs no levels and no primvar."""
        names = ("size", "radius", "radiusTop", "radiusBottom", "height", "width", "length")
        found = ((name, prim.GetAttribute(name)) for name in names)
        sizes = tuple((name, float(a.Get(time))) for name, a in found if a and a.Get(time) is not None)
        axis = prim.GetAttribute("axis")
        hand = UsdGeom.Gprim(prim).GetOrientationAttr().Get(time)
        return PrimitiveSource(
            str(prim.GetTypeName()), sizes, str(axis.Get(time)) if axis else "Z",
            hand == UsdGeom.Tokens.leftHanded,
        )  # fmt: skip

    def told(self) -> bytes:
        """All that its triangles are made of."""
        return told(self.kind, self.sizes, self.axis, self.left_handed)

    def geometry(self, path: str) -> Geometry:
        """Triangles of the primitive, in its own space; none where a size is not finite."""
        size = dict(self.sizes)
        if not all(np.isfinite(number) for number in size.values()):
            size = dict.fromkeys(size, 0.0)
        kind = self.kind.removesuffix("_1")
        if kind == "Cube":
            corners, normals, uvs = _cube(size["size"])
        elif kind == "Plane":
            corners, normals, uvs = _square(size["width"], size["length"])
        else:
            corners, normals, uvs = _turned(_outline(kind, size))
        # Shapes are made along Z; the other axes are a cyclic change of names.
        shift = {"X": 1, "Y": 2}.get(self.axis, 0)
        corners, normals = np.roll(corners, shift, axis=-1), np.roll(normals, shift, axis=-1)
        edges = corners[:, 1:] - corners[:, :1]
        real = np.linalg.norm(np.cross(edges[:, 0], edges[:, 1]), axis=-1) > 0.0
        if not real.any():  # at poles some triangles have no area; a quad needs both of its own
            corners, normals, uvs = corners[:0], normals[:0], uvs[:0]
        if self.left_handed:
            corners, normals, uvs = turned_over(corners), -turned_over(normals), turned_over(uvs)
        points, of_point = np.unique(
            corners.reshape(-1, 3).astype(np.float32) + np.float32(0.0), axis=0, return_inverse=True
        )
        return Geometry(
            path, points, of_point.reshape(-1, 3).astype(np.int32),
            np.ascontiguousarray(normals, np.float32), np.ascontiguousarray(uvs, np.float32),
            np.zeros(len(corners), np.int32),
        )  # fmt: skip


def _outline(kind: str, size: dict[str, float]) -> list[Band]:
    radius = size.get("radius", 0.0)
    below, above = size.get("radiusBottom", radius), size.get("radiusTop", radius)
    half = 0.5 * size.get("height", 0.0)
    if kind == "Sphere":
        return [_arc(radius, 0.0, -90.0, 90.0)]
    if kind == "Capsule":
        # Caps are half balls, also where their radii differ.
        return [
            _arc(below, -half, -90.0, 0.0), _straight(below, -half, above, half), _arc(above, half, 0.0, 90.0)
        ]  # fmt: skip
    if kind == "Cone":
        above = 0.0
    side = [_straight(below, -half, above, half)]
    return [_straight(0.0, -half, below, -half), *side, _straight(above, half, 0.0, half)]


def _arc(radius: float, height: float, begin: float, end: float) -> Band:
    angle = np.radians(np.linspace(begin, end, max(2, round(_ROWS * (end - begin) / 180.0)) + 1))
    across, up = np.cos(angle), np.sin(angle)
    across[np.abs(np.abs(np.degrees(angle)) - 90.0) < 1e-9] = 0.0
    return radius * across, height + radius * up, across, up


def _straight(r0: float, z0: float, r1: float, z1: float) -> Band:
    length = np.hypot(r1 - r0, z1 - z0) or 1.0
    across, up = (z1 - z0) / length, (r0 - r1) / length
    return np.array([r0, r1]), np.array([z0, z1]), np.full(2, across), np.full(2, up)


def _turned(bands: list[Band]) -> tuple[NDArray, NDArray, NDArray]:
    """Bands turned about Z: corners and normals (T, 3, 3), texture coordinates (T, 3, 2)."""
    turn = 2.0 * np.pi * np.arange(_COLUMNS + 1) / _COLUMNS
    turn[-1] = 0.0  # the seam closes to the last bit
    around = np.stack([np.cos(turn), np.sin(turn)], axis=-1)
    whole = sum(_length(band) for band in bands) or 1.0
    parts, begun = [], 0.0
    for band in bands:
        radius, height, across, up = band
        steps = np.hypot(np.diff(radius), np.diff(height))
        along = (begun + np.concatenate([[0.0], np.cumsum(steps)])) / whole
        begun += _length(band)
        ring = np.ones(len(around))
        points = np.stack(
            [np.outer(radius, around[:, 0]), np.outer(radius, around[:, 1]), np.outer(height, ring)], -1
        )
        normals = np.stack(
            [np.outer(across, around[:, 0]), np.outer(across, around[:, 1]), np.outer(up, ring)], -1
        )
        columns = np.broadcast_to(np.arange(_COLUMNS + 1) / _COLUMNS, points.shape[:2])
        uvs = np.stack([columns, np.outer(along, ring)], -1)
        parts.append(tuple(_quads(grid) for grid in (points, normals, uvs)))
    corners, normals, uvs = (np.concatenate([part[k] for part in parts]) for k in range(3))
    return corners, normals, uvs


def _length(band: Band) -> float:
    return float(np.hypot(np.diff(band[0]), np.diff(band[1])).sum())


def _quads(grid: NDArray) -> NDArray:
    """Values (n, m, D) at the corners of the triangles between neighbours, (T, 3, D)."""
    a, b, c, d = grid[:-1, :-1], grid[:-1, 1:], grid[1:, 1:], grid[1:, :-1]
    both = np.stack([np.stack([a, b, c], axis=2), np.stack([a, c, d], axis=2)], axis=2)
    return both.reshape(-1, 3, grid.shape[-1])


def _square(width: float, length: float) -> tuple[NDArray, NDArray, NDArray]:
    x, y = 0.5 * width, 0.5 * length
    grid = np.array([[(-x, -y, 0.0), (x, -y, 0.0)], [(-x, y, 0.0), (x, y, 0.0)]])
    uvs = np.array([[(0.0, 0.0), (1.0, 0.0)], [(0.0, 1.0), (1.0, 1.0)]])
    corners = _quads(grid)
    return corners, np.broadcast_to((0.0, 0.0, 1.0), corners.shape), _quads(uvs)


def _cube(size: float) -> tuple[NDArray, NDArray, NDArray]:
    corners, normals, uvs = _square(size, size)
    top = corners + (0.0, 0.0, 0.5 * size)
    half_turned = top * (-1.0, 1.0, -1.0)  # about Y: the side below
    sides = [np.roll(side, k, axis=-1) for k in range(3) for side in (top, half_turned)]
    facing = [np.roll(n, k, axis=-1) for k in range(3) for n in (normals, -normals)]
    return np.concatenate(sides), np.concatenate(facing), np.concatenate([uvs] * 6)
