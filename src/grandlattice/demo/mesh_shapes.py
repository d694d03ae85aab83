"""Shapes the demo is built of: each function returns a `Mesh` of polygons with texture coordinates.

Lengths are centimetres, Y is up.  Meshes are joined with ``+`` and placed with `moved`, `turned`
and `scaled`; normals are made once, when a mesh is written, with a crease angle.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Mesh:
    """Polygons: points (V, 3), corners of each face, indices (C,), uvs at the corners (C, 2)."""

    points: Floats
    counts: Ints
    indices: Ints
    uvs: Floats

    def __add__(self, other: Mesh) -> Mesh:
        return Mesh(
            np.concatenate([self.points, other.points]),
            np.concatenate([self.counts, other.counts]),
            np.concatenate([self.indices, other.indices + len(self.points)]),
            np.concatenate([self.uvs, other.uvs]),
        )

    def moved(self, x: float = 0.0, y: float = 0.0, z: float = 0.0) -> Mesh:
        return Mesh(self.points + (x, y, z), self.counts, self.indices, self.uvs)

    def turned(self, axis: str, degrees: float) -> Mesh:
        """Turned about X, Y or Z, counter-clockwise seen from its tip."""
        a = np.radians(degrees)
        c, s = np.cos(a), np.sin(a)
        i, j = {"x": (1, 2), "y": (2, 0), "z": (0, 1)}[axis]
        points = self.points.copy()
        points[:, i] = c * self.points[:, i] - s * self.points[:, j]
        points[:, j] = s * self.points[:, i] + c * self.points[:, j]
        return Mesh(points, self.counts, self.indices, self.uvs)

    @property
    def triangles(self) -> int:
        return int((self.counts - 2).sum())


def joined(meshes: Sequence[Mesh]) -> Mesh:
    """All meshes as one."""
    offsets = np.cumsum([0] + [len(m.points) for m in meshes[:-1]])
    return Mesh(
        np.concatenate([m.points for m in meshes]),
        np.concatenate([m.counts for m in meshes]),
        np.concatenate([m.indices + o for m, o in zip(meshes, offsets, strict=True)]),
        np.concatenate([m.uvs for m in meshes]),
    )


def surface(
    function: Callable[[Floats, Floats], tuple[Floats, Floats, Floats]], columns: int, rows: int
) -> Mesh:
    """A grid of quads over (u, v) in 0..1; the outside is where u × v points."""
    u, v = np.meshgrid(np.linspace(0, 1, columns + 1), np.linspace(0, 1, rows + 1))
    points = np.stack([np.broadcast_to(c, u.shape) for c in function(u, v)], axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(columns), np.arange(rows))
    a = (j * (columns + 1) + i).ravel()
    quads = np.stack([a, a + 1, a + columns + 2, a + columns + 1], axis=1)
    uv = np.stack([u.ravel(), v.ravel()], axis=1)
    return Mesh(points, np.full(len(quads), 4), quads.ravel(), uv[quads.ravel()])


def lathe(profile: Sequence[tuple[float, float]], segments: int = 64) -> Mesh:
    """A (radius, height) profile turned about Y, the outside on the right of its direction upward.

    Texture coordinates: u around, v along the profile by its length.
    """
    p = np.asarray(profile, float)
    length = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(p, axis=0), axis=1))])
    length /= length[-1]
    angle = np.linspace(0.0, 2 * np.pi, segments + 1)
    rings = np.stack(
        [
            np.outer(p[:, 0], np.sin(angle[:-1])),
            np.repeat(p[:, 1:], segments, axis=1),
            np.outer(p[:, 0], np.cos(angle[:-1])),
        ],
        axis=-1,
    )
    i, j = (np.ravel(a) for a in np.meshgrid(np.arange(segments), np.arange(len(p) - 1)))
    after = (i + 1) % segments
    quads = np.stack([j * segments + i, j * segments + after, (j + 1) * segments + after,
                      (j + 1) * segments + i], axis=1)  # fmt: skip
    u0, u1, v0, v1 = i / segments, (i + 1) / segments, length[j], length[j + 1]
    uvs = np.stack([np.stack([u0, v0], 1), np.stack([u1, v0], 1), np.stack([u1, v1], 1),
                    np.stack([u0, v1], 1)], axis=1)  # fmt: skip
    return Mesh(rings.reshape(-1, 3), np.full(len(quads), 4), quads.ravel(), uvs.reshape(-1, 2))


def rounded(
    profile: Sequence[tuple[float, float]], radius: float, steps: int = 3
) -> list[tuple[float, float]]:
    """A profile whose inner corners are rounded by arcs of about `radius`."""
    p = np.asarray(profile, float)
    out = [tuple(p[0])]
    for before, corner, after in zip(p[:-2], p[1:-1], p[2:], strict=True):
        a, b = before - corner, after - corner
        la, lb = np.linalg.norm(a), np.linalg.norm(b)
        cut = min(radius, 0.45 * la, 0.45 * lb)
        start, end = corner + a / la * cut, corner + b / lb * cut
        for t in np.linspace(0, 1, steps + 1):
            out.append(tuple((1 - t) ** 2 * start + 2 * t * (1 - t) * corner + t * t * end))
    out.append(tuple(p[-1]))
    return out


def disc(radius: float, y: float = 0.0, segments: int = 64, inner: float = 0.0) -> Mesh:
    """A flat disc or ring facing up, its texture laid flat over it (0..1 across the disc)."""
    mesh = lathe([(radius, y), (max(inner, 1e-4), y)], segments)
    at = mesh.points[mesh.indices]
    uvs = np.stack([at[:, 0] / (2 * radius) + 0.5, 0.5 - at[:, 2] / (2 * radius)], axis=1)
    return Mesh(mesh.points, mesh.counts, mesh.indices, uvs)


def sphere(radius: float, segments: int = 32) -> Mesh:
    """A sphere; u around from −Z, v from the south pole."""
    polar = np.linspace(np.pi, 0.0, segments // 2 + 1)
    return lathe([(radius * max(np.sin(a), 1e-5), radius * np.cos(a)) for a in polar], segments)


def cylinder(radius: float, height: float, segments: int = 24, bevel: float = 0.0) -> Mesh:
    """A closed cylinder standing on y = 0."""
    b = min(bevel, radius / 2, height / 2)
    profile = [(1e-4, 0.0), (radius - b, 0.0), (radius, b), (radius, height - b), (radius - b, height),
               (1e-4, height)]  # fmt: skip
    if b == 0.0:
        profile = [profile[0], profile[1], profile[3], profile[5]]
    return lathe(profile, segments)


def ring(radius: float, width: float, height: float, segments: int = 96, bevel: float = 0.08) -> Mesh:
    """A flat band around Y: middle radius, width outward, height upward from y = 0."""
    a, b, h, e = radius - width / 2, radius + width / 2, height, bevel
    profile = [
        (b - e, 0),
        (b, e),
        (b, h - e),
        (b - e, h),
        (a + e, h),
        (a, h - e),
        (a, e),
        (a + e, 0),
        (b - e, 0),
    ]
    return lathe(profile, segments)


def torus(radius: float, thickness: float, segments: int = 96, sides: int = 12) -> Mesh:
    """A ring with a round section."""
    a = np.linspace(0, 2 * np.pi, sides + 1)
    return lathe([(radius + thickness * np.cos(t), thickness * np.sin(t)) for t in a], segments)


def box(x: float, y: float, z: float, bevel: float = 0.2) -> Mesh:
    """A box with bevelled edges, centred on x and z, standing on y = 0.

    Texture coordinates are centimetres on each face, so that a grain keeps its scale.
    """
    half = np.array([x, y, z]) / 2
    b = min(bevel, 0.4 * float(half.min()) * 2)
    corners: dict[tuple[int, int, int, int], int] = {}
    points: list[Floats] = []

    def point(signs: tuple[int, int, int], face: int) -> int:
        key = (*signs, face)
        if key not in corners:
            inset = np.array([0.0 if axis == face else b for axis in range(3)])
            corners[key] = len(points)
            points.append(np.array(signs) * (half - inset))
        return corners[key]

    faces: list[list[int]] = []
    for axis in range(3):
        i, j = (axis + 1) % 3, (axis + 2) % 3
        for side in (-1, 1):
            loop = []
            for a, c in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
                signs = [0, 0, 0]
                signs[axis], signs[i], signs[j] = side, a, c
                loop.append(point((signs[0], signs[1], signs[2]), axis))
            faces.append(loop if side > 0 else loop[::-1])
    for axis in range(3):  # edges along `axis`
        i, j = (axis + 1) % 3, (axis + 2) % 3
        for a in (-1, 1):
            for c in (-1, 1):
                ends = []
                for end in (-1, 1):
                    signs = [0, 0, 0]
                    signs[axis], signs[i], signs[j] = end, a, c
                    ends.append((signs[0], signs[1], signs[2]))
                quad = [point(ends[0], i), point(ends[1], i), point(ends[1], j), point(ends[0], j)]
                faces.append(quad)
    for sx in (-1, 1):
        for sy in (-1, 1):
            for sz in (-1, 1):
                faces.append([point((sx, sy, sz), axis) for axis in range(3)])
    p = np.array(points)
    outward = []
    for face in faces:  # every face of a convex body looks away from its middle
        normal = np.cross(p[face[1]] - p[face[0]], p[face[2]] - p[face[0]])
        outward.append(face if normal @ p[face].mean(0) > 0 else face[::-1])
    uvs = []
    for face in outward:
        normal = np.abs(np.cross(p[face[1]] - p[face[0]], p[face[2]] - p[face[0]]))
        axis = int(np.argmax(normal))
        across, along = [(2, 1), (0, 2), (0, 1)][axis]
        uvs.append(p[face][:, [across, along]])
    counts = np.array([len(face) for face in outward])
    return Mesh(p + (0, half[1], 0), counts, np.concatenate(outward).astype(np.int64), np.concatenate(uvs))


def tube(path: Floats, radius: float | Floats, sides: int = 10) -> Mesh:
    """A round bar along a path of (N, 3) points; `radius` may change along it; ends closed."""
    p = np.asarray(path, float)
    r = np.broadcast_to(np.asarray(radius, float), (len(p),))
    tangent = np.gradient(p, axis=0)
    tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
    start = np.array([0.0, 1.0, 0.0]) if abs(tangent[0, 1]) < 0.9 else np.array([1.0, 0.0, 0.0])
    normals = []
    for t in tangent:  # parallel transport, so that the section never twists
        start = start - t * (start @ t)
        start = start / np.linalg.norm(start)
        normals.append(start)
    n = np.array(normals)
    b = np.cross(tangent, n)
    a = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    body = p[:, None] + r[:, None, None] * (
        np.cos(a)[None, :, None] * n[:, None] + np.sin(a)[None, :, None] * b[:, None]
    )
    rows = [np.repeat(p[:1], sides, 0)[None], body, np.repeat(p[-1:], sides, 0)[None]]
    grid = np.concatenate(rows)
    i, j = (np.ravel(a) for a in np.meshgrid(np.arange(sides), np.arange(len(grid) - 1)))
    k = (i + 1) % sides
    quads = np.stack([j * sides + i, j * sides + k, (j + 1) * sides + k, (j + 1) * sides + i], 1)
    uv = np.stack([np.stack([i / sides, j / len(grid)], 1), np.stack([(i + 1) / sides, j / len(grid)], 1),
                   np.stack([(i + 1) / sides, (j + 1) / len(grid)], 1), np.stack([i / sides, (j + 1) / len(grid)], 1)], 1)  # fmt: skip
    return Mesh(grid.reshape(-1, 3), np.full(len(quads), 4), quads.ravel(), uv.reshape(-1, 2))


def gear(teeth: int, module: float, thickness: float, spokes: int = 5, bore: float = 0.5) -> Mesh:
    """A spur gear about Y, standing on y = 0: pitch radius is teeth · module / 2.

    Teeth stand one module above the pitch circle and 1.25 below, with flanks of 20°.
    """
    pitch = teeth * module / 2
    outer, root = pitch + module, pitch - 1.25 * module
    step = 2 * np.pi / teeth
    half = step / 4
    lean = np.tan(np.radians(20)) * module / pitch
    offsets = [
        (-2 * half, root),
        (-half - lean, root),
        (-half + lean * 0.7, outer),
        (half - lean * 0.7, outer),
        (half + lean, root),
    ]
    angles = np.concatenate([k * step + np.array([o for o, _ in offsets]) for k in range(teeth)])
    radii = np.tile([r for _, r in offsets], teeth)
    rim = max(root - max(2.2 * module, 0.35), bore + 0.3)
    solid = rim < bore + 1.2
    inner = bore if solid else rim
    count = len(angles)
    profile = [(radii, 0.0), (radii, thickness), (np.full(count, inner), thickness),
               (np.full(count, inner), 0.0), (radii, 0.0)]  # fmt: skip
    rings = [np.stack([r * np.sin(angles), np.full(count, y), r * np.cos(angles)], 1) for r, y in profile]
    points = np.concatenate(rings)
    i, j = (np.ravel(a) for a in np.meshgrid(np.arange(count), np.arange(len(profile) - 1)))
    k = (i + 1) % count
    quads = np.stack([j * count + i, j * count + k, (j + 1) * count + k, (j + 1) * count + i], 1)
    at = points[quads.ravel()]
    parts = [Mesh(points, np.full(len(quads), 4), quads.ravel(), at[:, [0, 2]] * 0.05 + 0.5)]
    if not solid:
        hub = bore + max(0.5, 0.12 * pitch)
        parts.append(ring((bore + hub) / 2, hub - bore, thickness * 1.25, 32, 0.05))
        for s in range(spokes):
            bar = box(0.16 * rim + 0.2, thickness * 0.7, rim - hub + 0.3, 0.06)
            bar = bar.moved(0, thickness * 0.15, (rim + hub) / 2)
            parts.append(bar.turned("y", 360 * s / spokes))
    return joined(parts)


def corner_normals(mesh: Mesh, crease_deg: float = 38.0) -> Floats:
    """(C, 3) normals at the corners: neighbours are averaged unless they meet at a crease."""
    starts = np.cumsum(mesh.counts) - mesh.counts
    corners = mesh.points[mesh.indices]
    face_of = np.repeat(np.arange(len(mesh.counts)), mesh.counts)
    first = mesh.points[mesh.indices[starts]]
    following = np.roll(np.arange(len(mesh.indices)), -1)
    last = starts + mesh.counts - 1
    following[last] = starts
    crosses = np.cross(corners - first[face_of], mesh.points[mesh.indices[following]] - first[face_of])
    normals = np.stack([np.bincount(face_of, crosses[:, k], len(mesh.counts)) for k in range(3)], 1)
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    units = normals / np.where(length > 0, length, 1)
    # Points that coincide count as one.
    _, place = np.unique(np.round(mesh.points, 4), axis=0, return_inverse=True)
    vertex = place.ravel()[mesh.indices]
    order = np.argsort(vertex, kind="stable")
    edges = np.flatnonzero(np.diff(vertex[order])) + 1
    begin = np.concatenate([[0], edges])
    sizes = np.diff(np.concatenate([begin, [len(order)]]))
    out = np.zeros((len(vertex), 3))
    limit = np.cos(np.radians(crease_deg))
    for valence in np.unique(sizes):
        group = order[begin[sizes == valence][:, None] + np.arange(valence)]  # (G, valence) corners
        faces = face_of[group]
        close = np.einsum("gik,gjk->gij", units[faces], units[faces]) > limit
        close |= np.eye(valence, dtype=bool)
        out[group] = np.einsum("gij,gjk->gik", close, normals[faces])
    length = np.linalg.norm(out, axis=1, keepdims=True)
    return np.where(length > 0, out / np.where(length > 0, length, 1), (0.0, 1.0, 0.0))
