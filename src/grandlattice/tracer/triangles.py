"""All triangles of a scene, one shape after the other, in the arrays that Embree and kernels read.

Each array is made once at its full size and filled a piece at a time: a large scene never stands in
memory twice.  What stands where it stood before is copied from there.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Geometry, Matrix
from grandlattice.tracer.kernel_memory import aligned_words
from grandlattice.tracer.vertices import normal_matrices

_AT_ONCE = 1 << 16  # triangles or points in double precision

Standing = tuple[Geometry, Matrix | None]
"""A shape and the matrix it stands by; None where it stays in its own space."""


class Triangles:
    """Shapes where they stand.

    Parameters
    ----------
    standing : the shapes, in the order their triangles get.
    before : those of the scene before, if any; it is not kept.

    Attributes
    ----------
    points : (V + 1, 3) float32.  The last row is padding: Embree reads 16 bytes at each vertex.
    corners : (T, 3) int32 indices into `points`.
    shading : (T, 16) float32 at an address that is a multiple of 64, what shading reads of a triangle in
        one cache line: three normals, three uvs, its subset (below 2^24).
    paint : (T, 9) float32, colours of corners; None where no shape has any.
    more_uvs : (T, 6) float32, second uvs of corners, the first where a shape has no others; None where none
        has.
    first : (G + 1,) int64, triangles of shape g are ``first[g]:first[g + 1]``.
    boxes : (G, 2, 3) lowest and highest corner of each.
    """

    def __init__(self, standing: Sequence[Standing], before: Triangles | None = None) -> None:
        self._standing = list(standing)
        self._numbers = {_key(*each): g for g, each in enumerate(self._standing)}
        self.first = _sums(len(shape.triangles) for shape, _ in standing)
        self._first_point = _sums(len(shape.points) for shape, _ in standing)
        total = int(self.first[-1])
        self.points = np.zeros((int(self._first_point[-1]) + 1, 3), np.float32)
        self.corners = np.empty((total, 3), np.int32)
        self.shading = aligned_words(total * 16).reshape(total, 16)
        self.boxes = np.zeros((len(standing), 2, 3))
        known = before._numbers if before is not None else {}
        self._same = [known.get(_key(*each), -1) for each in self._standing]
        for g, (shape, matrix) in enumerate(self._standing):
            spots, rows = self._spots(g), self._rows(g)
            self.corners[rows] = shape.triangles
            self.corners[rows] += np.int32(self._first_point[g])
            if before is not None and self._same[g] >= 0:
                self.points[spots] = before.points[before._spots(self._same[g])]
                self.shading[rows] = before.shading[before._rows(self._same[g])]
                self.boxes[g] = before.boxes[self._same[g]]
            else:
                _place_points(self.points[spots], shape, matrix)
                _fill_shading(self.shading[rows], shape, matrix)
                self.boxes[g] = self.points[spots].min(0), self.points[spots].max(0)
        self.paint = self._painted()
        self.more_uvs = self._more_uvs()
        self._densities: NDArray[np.float32] | None = None
        self._known_densities = None if before is None else (before._densities, before.first)

    def _rows(self, g: int) -> slice:
        return slice(int(self.first[g]), int(self.first[g + 1]))

    def _spots(self, g: int) -> slice:
        return slice(int(self._first_point[g]), int(self._first_point[g + 1]))

    def _painted(self) -> NDArray[np.float32] | None:
        if all(shape.corner_colours is None for shape, _ in self._standing):
            return None
        paint = np.ones((len(self.corners), 9), np.float32)
        for g, (shape, _) in enumerate(self._standing):
            if shape.corner_colours is not None:
                paint[self._rows(g)] = shape.corner_colours.reshape(-1, 9)
        return paint

    def _more_uvs(self) -> NDArray[np.float32] | None:
        if all(shape.more_uvs is None for shape, _ in self._standing):
            return None
        more = self.shading[:, 9:15].copy()
        for g, (shape, _) in enumerate(self._standing):
            if shape.more_uvs is not None:
                more[self._rows(g)] = shape.more_uvs.reshape(-1, 6)
        return more

    @property
    def densities(self) -> NDArray[np.float32]:
        """(T,) area in texture coordinates over area; worked out when the first texture asks for it."""
        if self._densities is None:
            self._densities = np.empty(len(self.corners), np.float32)
            known, first = self._known_densities or (None, self.first)
            for g, old in enumerate(self._same):
                rows = self._rows(g)
                if known is not None and old >= 0:
                    self._densities[rows] = known[int(first[old]) : int(first[old + 1])]
                else:
                    for part in _parts(rows):
                        uvs = self.shading[part, 9:15].reshape(-1, 3, 2)
                        self._densities[part] = _density(self.points[self.corners[part]], uvs)
        self._known_densities = None
        return self._densities

    @cached_property
    def more_densities(self) -> NDArray[np.float32]:
        """(T,) the same for the second texture coordinates; only where there are any."""
        assert self.more_uvs is not None
        found = np.empty(len(self.corners), np.float32)
        for part in _parts(slice(0, len(found))):
            uvs = self.more_uvs[part].reshape(-1, 3, 2)
            found[part] = _density(self.points[self.corners[part]], uvs)
        return found

    def bounds(self, number: NDArray, matrices: NDArray, repeated: NDArray) -> NDArray[np.float64]:
        """The corners of everything that stands there, (2, 3); zeros where nothing does.

        Parameters
        ----------
        number : (P,) shapes; matrices : (P, 4, 4) that count for those that are `repeated`, (P,).
        """
        if not len(number):
            return np.zeros((2, 3))
        boxes = self.boxes[number]
        k = (np.arange(8)[:, None] >> np.arange(3)) & 1
        corners = boxes[:, k, np.arange(3)]
        there = corners @ matrices[:, :3, :3] + matrices[:, 3:, :3]
        at = np.where(repeated[:, None, None], there, corners).reshape(-1, 3)
        return np.stack([at.min(0), at.max(0)])


def _key(shape: Geometry, matrix: Matrix | None) -> tuple[int, bytes]:
    return id(shape), b"" if matrix is None else matrix.tobytes()


def _sums(counts: Iterator[int]) -> NDArray[np.int64]:
    return np.concatenate([[0], np.cumsum(np.fromiter(counts, np.int64))])


def _parts(rows: slice) -> Iterator[slice]:
    for start in range(rows.start, rows.stop, _AT_ONCE):
        yield slice(start, min(start + _AT_ONCE, rows.stop))


def _place_points(into: NDArray[np.float32], shape: Geometry, matrix: Matrix | None) -> None:
    if matrix is None:
        into[...] = shape.points
        return
    for part in _parts(slice(0, len(into))):
        into[part] = shape.points[part] @ matrix[:3, :3] + matrix[3, :3]


def _fill_shading(rows: NDArray[np.float32], shape: Geometry, matrix: Matrix | None) -> None:
    turn = None if matrix is None else normal_matrices(matrix[None, :3, :3])[0]
    for part in _parts(slice(0, len(rows))):
        normals = shape.corner_normals[part].reshape(-1, 3)
        if turn is not None:
            turned = normals @ turn
            squared = turned[:, 0] ** 2 + turned[:, 1] ** 2 + turned[:, 2] ** 2
            normals = turned / np.sqrt(np.where(squared > 0.0, squared, 1.0))[:, None]
        rows[part, :9] = normals.reshape(-1, 9)
        rows[part, 9:15] = shape.corner_uvs[part].reshape(-1, 6)
        rows[part, 15] = shape.subsets[part]


def _density(corners: NDArray, uvs: NDArray) -> NDArray[np.float32]:
    """Area in texture coordinates over area, (T,); of points (T, 3, 3) and uvs (T, 3, 2)."""
    (bx, by, bz), (cx, cy, cz) = ((corners[:, k] - corners[:, 0]).T for k in (1, 2))
    area = np.sqrt((by * cz - bz * cy) ** 2 + (bz * cx - bx * cz) ** 2 + (bx * cy - by * cx) ** 2)
    (s, t), (p, q) = ((uvs[:, k] - uvs[:, 0]).T for k in (1, 2))
    across = np.abs(s * q - t * p)
    return np.divide(across, area, out=np.zeros(len(corners), np.float32), where=area > 1e-30)
