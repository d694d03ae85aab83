"""Curves as tubes: the curve as a line of points, a ring around each, and triangles between rings.

All curves of a prim are made together; the only loop runs along the longest of them, to carry the
rings' frames from point to point without a twist (Wang et al., "Computation of rotation minimizing
frames", ACM TOG 2008).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdGeom

from grandlattice.scene_records import Geometry
from grandlattice.stage.shapes.polygons import unit
from grandlattice.stage.shapes.telling import told

_AROUND, _STEPS = 8, 6  # corners of a ring; points of a cubic piece
_FALLBACK_WIDTH = 1.0

# What a piece of four points is at t: (1, t, t², t³) times these.
_BASES = {
    "bezier": np.array([[1, 0, 0, 0], [-3, 3, 0, 0], [3, -6, 3, 0], [-1, 3, -3, 1]], float),
    "bspline": np.array([[1, 4, 1, 0], [-3, 0, 3, 0], [3, -6, 3, 0], [-1, 3, -3, 1]], float) / 6.0,
    "catmullRom": np.array([[0, 2, 0, 0], [-1, 0, 1, 0], [2, -5, 4, -1], [-1, 3, -3, 1]], float) / 2.0,
}


@dataclass(frozen=True)
class CurvesSource:
    """What USD says of curves at a time; `widths` are values with their interpolation."""

    points: Any
    counts: Any
    widths: tuple[Any, str]
    kind: str
    basis: str
    wrap: str

    @staticmethod
    def read(
        prim: Usd.Prim, subsets: list[UsdGeom.Subset], time: Usd.TimeCode, levels: int, uv: tuple[str, ...]
    ) -> CurvesSource:  # fmt: skip
        """Read curves at a time; they have no subsets and need no levels."""
        curves = UsdGeom.BasisCurves(prim)
        return CurvesSource(
            curves.GetPointsAttr().Get(time), curves.GetCurveVertexCountsAttr().Get(time),
            (curves.GetWidthsAttr().Get(time), curves.GetWidthsInterpolation()),
            str(curves.GetTypeAttr().Get(time)), str(curves.GetBasisAttr().Get(time)),
            str(curves.GetWrapAttr().Get(time)),
        )  # fmt: skip

    def told(self) -> bytes:
        """All that its triangles are made of."""
        return told(self.points, self.counts, self.widths, self.kind, self.basis, self.wrap)

    def geometry(self, path: str) -> Geometry:
        """Triangles of the tubes, in the curves' own space.

        Curves with points that are not finite, or with too few of them, are left out.
        """
        points = np.array(self.points, float) if self.points is not None else np.zeros((0, 3))
        counts = np.array(self.counts, np.int64) if self.counts is not None else np.zeros(0, np.int64)
        if (counts < 0).any() or counts.sum() != len(points):
            points, counts = np.zeros((0, 3)), np.zeros(0, np.int64)
        starts = np.cumsum(counts) - counts
        widths = self._widths(len(points), counts)
        wrap = self.wrap
        cubic = self.kind == "cubic" and self.basis in _BASES
        if cubic and wrap == "pinned" and self.basis != "bezier":
            points, counts, starts, source = _pinned(points, counts, starts)
        else:
            source = np.arange(len(points))
        broken = ~np.isfinite(points).all(axis=1)
        finite = np.bincount(np.repeat(np.arange(len(counts)), counts), broken, len(counts)) == 0
        radius = 0.5 * widths[source]
        along = np.concatenate([points, radius[:, None]], axis=1)
        lines, sizes, of_curve, closed = _lines(along, counts, starts, finite, cubic, self.basis, wrap)
        places, triangles, normals, uvs, curve = _tubes(lines, sizes, of_curve, closed)
        return Geometry(
            path, places.astype(np.float32), triangles.astype(np.int32), normals.astype(np.float32),
            uvs.astype(np.float32), np.zeros(len(curve), np.int32),
        )  # fmt: skip

    def _widths(self, count: int, counts: NDArray) -> NDArray:
        """(V,) the width at each point; those between two that are said are between them."""
        values, interpolation = self.widths
        given = np.array(values, float) if values is not None and len(values) else np.array([_FALLBACK_WIDTH])
        given = np.where(np.isfinite(given), np.maximum(given, 0.0), 0.0)
        if len(given) == count and interpolation != UsdGeom.Tokens.constant:
            return given
        if len(given) == len(counts) and interpolation == UsdGeom.Tokens.uniform:
            return np.repeat(given, counts)
        if len(given) > len(counts) and interpolation == UsdGeom.Tokens.varying:
            return _spread(given, counts)
        return np.full(count, given[0])


def _spread(given: NDArray, counts: NDArray) -> NDArray:
    """Values at the ends of pieces, spread evenly over the points of each curve."""
    total, each = len(given), len(given) // max(len(counts), 1)
    starts = np.minimum(np.arange(len(counts)) * each, total - 1)
    curve = np.repeat(np.arange(len(counts)), counts)
    within = np.arange(len(curve)) - np.repeat(np.cumsum(counts) - counts, counts)
    position = within / np.maximum(counts[curve] - 1, 1) * max(each - 1, 0)
    low = np.floor(position).astype(np.int64)
    high, share = np.minimum(low + 1, max(each - 1, 0)), position - low
    value = given[starts[curve] + low] * (1.0 - share) + given[starts[curve] + high] * share
    return np.asarray(value)


def _pinned(points: NDArray, counts: NDArray, starts: NDArray) -> tuple[NDArray, NDArray, NDArray, NDArray]:
    """Points beyond both ends, so that curves begin and end where their points do: 2 P₀ − P₁."""
    long = counts >= 2
    longer = counts + 2 * long
    after = np.cumsum(longer) - longer
    curve = np.repeat(np.arange(len(counts)), longer)
    within = np.arange(len(curve)) - after[curve] - long[curve]
    source = starts[curve] + np.clip(within, 0, np.maximum(counts[curve] - 1, 0))
    counts = longer
    first, last = after[long], (after + counts - 1)[long]
    out = points[source]
    out[first] = 2.0 * points[source[first + 1]] - points[source[first + 2]]
    out[last] = 2.0 * points[source[last - 1]] - points[source[last - 2]]
    return out, counts, after, source


def _lines(
    along: NDArray, counts: NDArray, starts: NDArray, good: NDArray, cubic: bool, basis: str, wrap: str
) -> tuple[NDArray, NDArray, NDArray, bool]:
    """Curves as lines of points with radii: the points one after the other, how many each line has,
    the curve of each line, and whether lines are closed."""
    closed = wrap == "periodic"
    step = 3 if basis == "bezier" and cubic else 1
    if not cubic:
        pieces = np.where(good, counts - (0 if closed else 1), 0)
        span = 2
    else:
        pieces = counts // step if closed else np.where(counts >= 4, (counts - 4) // step + 1, 0)
        pieces = np.where(good & (counts >= (3 if closed else 4)), pieces, 0)
        span = 4
    pieces = np.maximum(pieces, 0)
    chosen = np.flatnonzero(pieces)
    curve = np.repeat(np.arange(len(counts)), pieces)
    k = np.arange(len(curve)) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    within = k[:, None] * step + np.arange(span)
    within = within % np.maximum(counts[curve], 1)[:, None]
    control = along[starts[curve][:, None] + within]
    if not cubic:
        made, each = control[:, :1], 1
    else:
        t = np.arange(_STEPS) / _STEPS
        made = np.einsum("tp,pc,ncd->ntd", t[:, None] ** np.arange(4), _BASES[basis], control)
        each = _STEPS
    ends = control[:, 1] if not cubic else np.einsum("pc,ncd->nd", _BASES[basis], control)
    last = np.zeros(len(curve), bool)
    last[np.cumsum(pieces)[chosen] - 1] = True
    sizes = pieces[chosen] * each + 1
    out = np.zeros((int(sizes.sum()), along.shape[1]))
    line = np.repeat(np.cumsum(sizes) - sizes, pieces[chosen])
    place = (line + k * each)[:, None] + np.arange(each)
    out[place] = made
    out[np.cumsum(sizes) - 1] = ends[last]
    return out, sizes, chosen, closed


def _tubes(
    lines: NDArray, sizes: NDArray, of_curve: NDArray, closed: bool
) -> tuple[NDArray, NDArray, NDArray, NDArray, NDArray]:
    """Points, and triangles around lines: corners, normals, texture coordinates, and the curve of each."""
    count = len(lines)
    if not count:
        none = np.zeros((0, 3), np.int64)
        return np.zeros((0, 3)), none, np.zeros((0, 3, 3)), np.zeros((0, 3, 2)), np.zeros(0, np.int64)
    starts = np.cumsum(sizes) - sizes
    is_first, is_last = np.zeros(count, bool), np.zeros(count, bool)
    is_first[starts], is_last[starts + sizes - 1] = True, True
    points, radius = lines[:, :3], lines[:, 3]
    ahead = np.where(is_last[:, None], 0.0, np.roll(points, -1, axis=0) - points)
    behind = np.where(is_first[:, None], 0.0, points - np.roll(points, 1, axis=0))
    if closed:
        ends = starts + sizes - 1
        behind[starts], ahead[ends] = behind[ends], ahead[starts]
    tangent = unit(_unit_or_nought(ahead) + _unit_or_nought(behind))
    side = _carried(points, tangent, starts, sizes)
    other = np.cross(tangent, side)
    turn = 2.0 * np.pi * np.arange(_AROUND + 1) / _AROUND
    around = np.cos(turn)[:, None] * side[:, None] + np.sin(turn)[:, None] * other[:, None]
    ring = points[:, None] + radius[:, None, None] * around
    line = np.repeat(np.arange(len(sizes)), sizes)
    v = (np.arange(count) - starts[line]) / np.maximum(sizes[line] - 1, 1)
    uvs = np.stack(np.broadcast_arrays(np.arange(_AROUND + 1) / _AROUND, v[:, None]), axis=-1)
    number = np.arange(ring.size // 3).reshape(*ring.shape[:2], 1)
    begin = np.flatnonzero(~is_last)

    def between(grid: NDArray) -> NDArray:
        a, b = grid[begin, :-1], grid[begin, 1:]
        d, c = grid[begin + 1, :-1], grid[begin + 1, 1:]
        both = np.stack([np.stack([a, b, c], axis=2), np.stack([a, c, d], axis=2)], axis=2)
        return both.reshape(-1, 3, grid.shape[-1])

    parts = [[between(number)[..., 0], between(around), between(uvs)]]
    curve = [np.repeat(of_curve[line[begin]], 2 * _AROUND)]
    if not closed:
        for at, direction in ((starts, -1.0), (starts + sizes - 1, 1.0)):
            a, b = number[at, :-1, 0], number[at, 1:, 0]
            centre = np.broadcast_to(ring.size // 3 + at[:, None], a.shape)
            order = (centre, a, b) if direction > 0 else (centre, b, a)
            # In the order they turn in: each ends where the next begins, as the halves of quads do.
            fan = np.stack(order, axis=2)[:, :: int(direction)].reshape(-1, 3)
            facing = np.broadcast_to((direction * tangent[at])[:, None, None], (*a.shape, 3, 3))
            flat = np.zeros((len(fan), 3, 2))
            parts.append([fan, facing.reshape(-1, 3, 3), flat])
            curve.append(np.repeat(of_curve, _AROUND))
    corners, normals, coordinates = (np.concatenate([part[k] for part in parts]) for k in range(3))
    return np.concatenate([ring.reshape(-1, 3), points]), corners, normals, coordinates, np.concatenate(curve)


def _unit_or_nought(vectors: NDArray) -> NDArray:
    length = np.linalg.norm(vectors, axis=-1, keepdims=True)
    return np.asarray(vectors / np.where(length > 0.0, length, 1.0))


def _carried(points: NDArray, tangent: NDArray, starts: NDArray, sizes: NDArray) -> NDArray:
    """A direction across each tangent, carried along its line by two reflections a step."""
    side = np.zeros_like(tangent)
    least = np.eye(3)[np.argmin(np.abs(tangent[starts]), axis=1)]
    side[starts] = unit(np.cross(tangent[starts], least))
    for k in range(1, int(sizes.max())):
        here = starts[sizes > k] + k
        step = points[here] - points[here - 1]
        squared = np.maximum((step * step).sum(1), 1e-300)[:, None]
        before, t = side[here - 1], tangent[here - 1]
        before = before - 2.0 * step * (step * before).sum(1)[:, None] / squared
        t = t - 2.0 * step * (step * t).sum(1)[:, None] / squared
        turn = tangent[here] - t
        squared = (turn * turn).sum(1)[:, None]
        turned = before - 2.0 * turn * (turn * before).sum(1)[:, None] / np.maximum(squared, 1e-300)
        across = np.where(squared > 1e-24, turned, before)
        # Rounding, and points that fall together, are set right against the tangent.
        across = across - tangent[here] * (tangent[here] * across).sum(1)[:, None]
        side[here] = unit(across)
    return side
