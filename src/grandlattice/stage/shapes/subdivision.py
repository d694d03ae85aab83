"""Subdivision surfaces: a cage of polygons made finer, level by level.

Catmull–Clark with creases and corners of any sharpness, and the three rules for open borders, as
UsdGeomMesh defines them; `bilinear` only makes the faces smaller.  All of a level is array
arithmetic over corners, edges and points; there is no loop over faces.

References
----------
Catmull and Clark, "Recursively generated B-spline surfaces on arbitrary topological meshes", 1978.
DeRose, Kass and Truong, "Subdivision surfaces in character animation", SIGGRAPH 1998: creases that
grow softer from level to level.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

ENDLESS = 10.0  # a sharpness from which a crease stays sharp at every level, in UsdGeomMesh

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Cage:
    """A polygon mesh with what its subdivision depends on.

    Attributes
    ----------
    points : (V, D) positions, and whatever else is smooth over the surface, side by side.
    counts : (F,) corners of each face; indices : (C,) the point of each corner.
    corner_values : (C, E) values that are linear within faces, such as texture coordinates.
    faces : (F,) the face of the first cage that each comes from.
    creases : (K, 2) points of sharp edges, crease_sharpness : (K,) how sharp, 0 … `ENDLESS`.
    point_sharpness : (V,) of points that are corners.
    """

    points: Floats
    counts: Ints
    indices: Ints
    corner_values: Floats
    faces: Ints
    creases: Ints
    crease_sharpness: Floats
    point_sharpness: Floats


@dataclass(frozen=True, eq=False)
class _Edges:
    """The edges of a cage: (E, 2) points, (C,) the edge that begins at each corner, (E,) faces."""

    points: Ints
    of_corner: Ints
    face_counts: Ints
    sharpness: Floats


def subdivided(cage: Cage, levels: int, *, border: str = "edgeAndCorner", bilinear: bool = False) -> Cage:
    """The cage after some levels; its faces are quads then.

    Parameters
    ----------
    border : ``edgeAndCorner`` keeps open borders, and their corners sharp; ``edgeOnly`` rounds the
        corners; ``none`` leaves out the faces along the border, which only shape the others.
    bilinear : makes faces smaller and moves nothing.
    """
    if not bilinear:
        cage = _with_border(cage, border)
    for _ in range(levels):
        cage = _once(cage, bilinear)
    return cage


def without_border_faces(cage: Cage) -> NDArray[np.bool_]:
    """(F,) which faces do not touch an open border."""
    edges = _edges(cage)
    open_points = np.zeros(len(cage.points), bool)
    open_points[edges.points[edges.face_counts == 1]] = True
    face, _ = _of_corners(cage)
    return np.bincount(face, open_points[cage.indices], len(cage.counts)) == 0


def hard_edges(cage: Cage) -> Ints:
    """(K, 2) edges of a cage over which its surface has no common normal."""
    edges = _edges(cage)
    return edges.points[(edges.sharpness >= ENDLESS) | (edges.face_counts != 2)]


def _of_corners(cage: Cage) -> tuple[Ints, Ints]:
    """The face of each corner, and the corner after it in that face."""
    face = np.repeat(np.arange(len(cage.counts)), cage.counts)
    ends = np.cumsum(cage.counts)
    following = np.arange(len(cage.indices)) + 1
    last = following == ends[face]
    following[last] = (ends - cage.counts)[face[last]]
    return face, following


def _keys(pairs: Ints, count: int) -> Ints:
    """One number for each edge, whichever way round it is."""
    return pairs.min(axis=1) * count + pairs.max(axis=1)


def _edges(cage: Cage) -> _Edges:
    _, following = _of_corners(cage)
    count = max(len(cage.points), 1)
    pairs = np.stack([cage.indices, cage.indices[following]], axis=1)
    keys, of_corner, face_counts = np.unique(_keys(pairs, count), return_inverse=True, return_counts=True)
    sharpness = np.zeros(len(keys))
    if len(cage.creases):
        wanted = _keys(cage.creases, count)
        place = np.clip(np.searchsorted(keys, wanted), 0, len(keys) - 1)
        there = keys[place] == wanted
        np.maximum.at(sharpness, place[there], cage.crease_sharpness[there])
    points = np.stack([keys // count, keys % count], axis=1)
    sharpness[face_counts != 2] = ENDLESS  # a border, or more than two faces: no smooth way across
    return _Edges(points, of_corner.reshape(-1), face_counts, sharpness)


def _with_border(cage: Cage, border: str) -> Cage:
    """Corners of the open border made sharp, where the rule keeps them: points of one face alone."""
    if border != "edgeAndCorner":
        return cage
    edges = _edges(cage)
    faces = np.bincount(cage.indices, minlength=len(cage.points))
    open_points = np.zeros(len(cage.points), bool)
    open_points[edges.points[edges.face_counts == 1]] = True
    sharp = np.where(open_points & (faces == 1), ENDLESS, cage.point_sharpness)
    return replace(cage, point_sharpness=sharp)


def _mean_of(values: Floats, groups: Ints, count: int) -> Floats:
    """The mean of rows by group, (count, D); 0 for groups without rows."""
    sums = np.stack([np.bincount(groups, values[:, k], count) for k in range(values.shape[1])], axis=1)
    return sums / np.maximum(np.bincount(groups, minlength=count), 1)[:, None]


def _once(cage: Cage, bilinear: bool) -> Cage:
    points, indices = cage.points, cage.indices
    vertex_count, face_count = len(points), len(cage.counts)
    face, following = _of_corners(cage)
    edges = _edges(cage)
    edge_count = len(edges.points)

    of_faces = _mean_of(points[indices], face, face_count)
    middles = points[edges.points].mean(axis=1)
    if bilinear:
        of_edges, of_points = middles, points
    else:
        beside = _mean_of(of_faces[face], edges.of_corner, edge_count)
        share = np.clip(edges.sharpness, 0.0, 1.0)[:, None]
        of_edges = share * middles + (1.0 - share) * 0.5 * (middles + beside)
        of_points = _moved(cage, edges, of_faces[face], middles)

    # Each corner becomes a quad: its point, its edge, its face, the edge before it.
    before = np.empty_like(following)
    before[following] = np.arange(len(indices))
    quads = np.stack(
        [
            indices,
            vertex_count + edges.of_corner,
            vertex_count + edge_count + face,
            vertex_count + edges.of_corner[before],
        ],
        axis=1,
    )
    values = cage.corner_values
    centre = _mean_of(values, face, face_count)[face]
    ahead = 0.5 * (values + values[following])
    corner_values = np.stack([values, ahead, centre, ahead[before]], axis=1)
    sharp = np.flatnonzero(edges.sharpness > 0.0)
    left = np.where(edges.sharpness >= ENDLESS, ENDLESS, np.maximum(edges.sharpness - 1.0, 0.0))[sharp]
    halves = np.stack([edges.points[sharp], np.repeat(vertex_count + sharp[:, None], 2, axis=1)], axis=2)
    corners = cage.point_sharpness
    corners = np.where(corners >= ENDLESS, ENDLESS, np.maximum(corners - 1.0, 0.0))
    return Cage(
        points=np.concatenate([of_points, of_edges, of_faces]),
        counts=np.full(len(indices), 4, np.int64),
        indices=quads.reshape(-1),
        corner_values=corner_values.reshape(-1, values.shape[1]),
        faces=cage.faces[face],
        creases=halves.reshape(-1, 2),
        crease_sharpness=np.repeat(left, 2),
        point_sharpness=np.concatenate([corners, np.zeros(edge_count + face_count)]),
    )


def _moved(cage: Cage, edges: _Edges, of_faces: Floats, middles: Floats) -> Floats:
    """Where the points of a cage go: smooth, along a crease, or nowhere at a corner."""
    points, count = cage.points, len(cage.points)
    valence = np.bincount(cage.indices, minlength=count)[:, None]
    ends = edges.points.reshape(-1)
    faces_around = _mean_of(of_faces, cage.indices, count)
    middles_around = _mean_of(np.repeat(middles, 2, axis=0), ends, count)
    n = np.maximum(valence, 1.0)
    smooth = (faces_around + 2.0 * middles_around + (n - 3.0) * points) / n

    # Along a crease a point moves as on a curve: 3/4 of itself, 1/8 of each neighbour.
    sharp = edges.sharpness > 0.0
    sharp_ends = edges.points[sharp]
    sharp_count = np.bincount(sharp_ends.reshape(-1), minlength=count)
    sums = np.zeros_like(points)
    for k in range(points.shape[1]):
        sums[:, k] = np.bincount(
            sharp_ends.reshape(-1), points[sharp_ends[:, ::-1].reshape(-1), k], count
        )  # fmt: skip
    crease = 0.75 * points + 0.125 * sums
    summed = np.bincount(sharp_ends.reshape(-1), np.repeat(edges.sharpness[sharp], 2), count)
    sharpness = summed / np.maximum(sharp_count, 1)

    is_crease, is_corner = sharp_count == 2, sharp_count > 2
    target = np.where(is_crease[:, None], crease, points)
    share = np.where(is_crease | is_corner, np.clip(sharpness, 0.0, 1.0), 0.0)[:, None]
    moved = share * target + (1.0 - share) * smooth
    still = np.clip(cage.point_sharpness, 0.0, 1.0)[:, None]
    moved = still * points + (1.0 - still) * moved
    return np.where(valence > 0, moved, points)
