"""Polygons to triangles, and the normals of smooth surfaces."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]


def unit(vectors: NDArray) -> NDArray:
    """Vectors of length 1; those of no length point up."""
    length = np.linalg.norm(vectors, axis=-1, keepdims=True)
    if length.all():
        return np.asarray(vectors / length)
    return np.where(length > 0, vectors / np.where(length > 0, length, 1.0), (0.0, 0.0, 1.0))


def triangulated(points: NDArray, counts: Ints, indices: Ints) -> tuple[Ints, Ints]:
    """Triangles of polygons: (T,) the face of each, (T, 3) its corners.

    Parameters
    ----------
    points : (V, 3); counts : (F,) at least 3 each; indices : (C,) the point of each corner.

    Convex polygons are fanned; the others are cut ear by ear, those of one size together.
    """
    counts = counts.astype(np.int64)
    fans = np.maximum(counts - 2, 0)
    starts = np.cumsum(counts) - counts
    face = np.repeat(np.arange(len(counts)), fans)
    first_of_face = np.cumsum(fans) - fans
    step = np.arange(len(face)) - np.repeat(first_of_face, fans)
    first = starts[face] if len(face) else face
    corners = np.stack([first, first + step + 1, first + step + 2], axis=1)
    for size in np.unique(counts[counts > 3]):
        chosen = np.flatnonzero(counts == size)
        ring = starts[chosen][:, None] + np.arange(size)
        bent = np.flatnonzero(_bent(points.T.astype(np.float64)[:, indices[ring.T]]))
        if len(bent):
            cut = _clipped(_flattened(points[indices[ring[bent]]].astype(np.float64)))
            if size == 4:  # a fan as well, from one corner or its neighbour
                cut = (cut[:, :1, :1] + np.array([[0, 1, 2], [0, 2, 3]])) % 4
            place = first_of_face[chosen[bent]][:, None] + np.arange(size - 2)
            corners[place] = np.take_along_axis(ring[bent][:, None, :], cut, axis=2)
    return face, corners


def turned_over(corners: NDArray) -> NDArray:
    """Values (T, 3, …) of triangles the other way round.

    Two neighbours that are a quad, (a, b, c) and (a, c, d), still are one: (c, b, a) and (c, a, d).
    """
    turned = corners[:, ::-1].copy()
    turned[1::2] = corners[1::2][:, (1, 0, 2)]
    return turned


def _bent(polygons: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which polygons (3, n, B) turn the other way at any corner than they do on the whole."""
    at = polygons - polygons[:, :1]
    ahead = np.roll(at, -1, axis=1)
    facing = _crossed(at, ahead).sum(axis=1)
    area = (facing * facing).sum(axis=0)
    # At each corner the edge that comes crossed with the edge that goes, seen from the front.
    along, size = ahead - at, polygons.shape[1]
    came = np.roll(along, 1, axis=1)
    corners = 2 if size == 4 else size
    left = (_crossed(came[:, :corners], along[:, :corners]) * facing[:, None]).sum(axis=0)
    if size == 4:  # corners that are opposite each other add up to the whole
        left = np.concatenate([left, area - left])
    reach = (at * at).sum(axis=(0, 1))
    return np.asarray((left < -1e-9 * np.sqrt(area) * reach).any(axis=0))


def _crossed(a: NDArray, b: NDArray) -> NDArray:
    """Cross products of vectors whose three parts come first."""
    return np.stack([a[i - 2] * b[i - 1] - a[i - 1] * b[i - 2] for i in range(3)])


def _flattened(polygons: NDArray[np.float64]) -> NDArray[np.float64]:
    """Polygons (B, n, 3) in their own planes, (B, n, 2), counter-clockwise, about unit size."""
    at = polygons - polygons.mean(axis=1, keepdims=True)
    normal = np.cross(at, np.roll(at, -1, axis=1)).sum(axis=1)
    normal = unit(normal)
    axis = np.eye(3)[np.argmin(np.abs(normal), axis=1)]
    across = unit(np.cross(axis, normal))
    upward = np.cross(normal, across)
    flat = np.stack([(at * across[:, None]).sum(-1), (at * upward[:, None]).sum(-1)], axis=-1)
    reach = np.abs(flat).max(axis=(1, 2), keepdims=True)
    return np.asarray(flat / np.where(reach > 0, reach, 1.0))


def _area(a: NDArray, b: NDArray, c: NDArray) -> NDArray:
    ab, ac = b - a, c - a
    return ab[..., 0] * ac[..., 1] - ab[..., 1] * ac[..., 0]


def _clipped(flat: NDArray) -> NDArray[np.int64]:
    """Triangles of polygons of one size, (B, n − 2, 3) numbers of corners.

    Meisters' ears ("Polygons have ears", 1975): a corner that turns left and whose triangle holds no
    other corner is cut off, again and again.
    """
    count, size = flat.shape[:2]
    left = np.tile(np.arange(size), (count, 1))
    rows, out = np.arange(count), np.zeros((count, size - 2, 3), np.int64)
    for k in range(size - 3):
        at = np.take_along_axis(flat, left[:, :, None], axis=1)
        before, after = np.roll(at, 1, axis=1), np.roll(at, -1, axis=1)
        turn = _area(before, at, after)
        a, b, c, p = before[:, :, None], at[:, :, None], after[:, :, None], at[:, None]
        inside = (_area(a, b, p) > 1e-12) & (_area(b, c, p) > 1e-12) & (_area(c, a, p) > 1e-12)
        # Where rounding leaves no ear the corner that turns most is as good as any.
        chosen = np.argmax(np.where(inside.any(axis=2), turn - 1e3, turn), axis=1)
        m = left.shape[1]
        out[:, k] = np.stack(
            [left[rows, (chosen - 1) % m], left[rows, chosen], left[rows, (chosen + 1) % m]], 1
        )
        keep = np.ones_like(left, bool)
        keep[rows, chosen] = False
        left = left[keep].reshape(count, m - 1)
    out[:, size - 3] = left
    return out


def smooth_normals(points: NDArray, triangles: Ints, hard: Ints) -> NDArray:
    """Normals at the corners of triangles, (T, 3, 3): means over the faces around each point.

    Faces count by their area; there is no mean across the `hard` edges, (K, 2) points.
    """
    if not len(triangles):
        return np.zeros((0, 3, 3))
    at = points[triangles]
    facing = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])  # twice the area long
    group = triangles if not len(hard) else _smooth_groups(triangles, hard, len(points))
    sums = np.zeros((int(group.max()) + 1, 3))
    for axis in range(3):
        sums[:, axis] = np.bincount(group.reshape(-1), np.repeat(facing[:, axis], 3), len(sums))
    return unit(sums[group])


def _smooth_groups(triangles: Ints, hard: Ints, count: int) -> Ints:
    """(T, 3) a number for each corner: the same for those around a point with no hard edge between."""
    label: Ints = np.arange(triangles.size).reshape(triangles.shape)
    touched = np.zeros(count, bool)
    touched[hard] = True
    first = np.full(count, triangles.size, np.int64)
    np.minimum.at(first, triangles.reshape(-1), label.reshape(-1))
    label = np.asarray(np.where(touched[triangles], label, first[triangles])).reshape(-1)

    ahead = np.roll(triangles, -1, axis=1)
    begin, end = triangles.reshape(-1), ahead.reshape(-1)
    key = np.minimum(begin, end) * count + np.maximum(begin, end)
    order = np.argsort(key, kind="stable")
    one, other = order[:-1], order[1:]
    hard_keys = hard.min(axis=1) * count + hard.max(axis=1)
    pairs = (key[one] == key[other]) & ~np.isin(key[one], hard_keys)
    one, other = one[pairs], other[pairs]
    # Two triangles with a common edge run along it opposite ways: begin meets end.
    corner_after = np.roll(np.arange(triangles.size).reshape(-1, 3), -1, axis=1).reshape(-1)
    same_way = begin[one] == begin[other]
    links = np.concatenate([
        np.stack([one, np.where(same_way, other, corner_after[other])], axis=1),
        np.stack([corner_after[one], np.where(same_way, corner_after[other], other)], axis=1),
    ])  # fmt: skip
    while True:
        low = np.minimum(label[links[:, 0]], label[links[:, 1]])
        lower = label.copy()
        np.minimum.at(lower, links[:, 0], low)
        np.minimum.at(lower, links[:, 1], low)
        lower = lower[lower]  # a label is itself the number of a corner: its own label is as good
        if (lower == label).all():
            return label.reshape(triangles.shape)
        label = lower
