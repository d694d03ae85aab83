"""Where a ray met the scene: the point, its normals, its material; and where the next ray starts."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grandlattice.tracer.embree import hit_distance, hit_normal, hit_place
from grandlattice.tracer.materials import surface_at
from grandlattice.tracer.memory import float32s, float64s, int32s, int64s
from grandlattice.tracer.vectors import (
    add,
    along,
    cross,
    dot,
    normalized,
    scale,
    subtract,
    to_world,
    triple,
)

# mypy: disable-error-code="no-untyped-def"

SCENE = np.dtype(
    [
        ("opaque", "i8"),  # Embree scenes; 0 where nothing is clear
        ("clear", "i8"),
        # Triangles in world space, in the order of the geometries.
        ("points", "i8"),  # (V, 3) float32
        ("corners", "i8"),  # (T, 3) int32
        ("shading", "i8"),  # (T, 16) float32, a cache line each, see `pack_shading`
        ("first", "i8"),  # (G,) int64, the first triangle of each geometry
        ("matte", "i8"),  # (G,) uint8
        ("materials", "i8"), ("tables", "i8"),
        ("textures", "i8"), ("decode", "i8"),
        ("lights", "i8"), ("light_count", "i8"),
    ],
    align=True,
)  # fmt: skip
"""Everything a kernel reads of a scene: addresses of arrays and tables."""


def pack_shading(normals: NDArray, uvs: NDArray, materials: NDArray) -> NDArray[np.float32]:
    """What shading reads of each triangle, in one cache line.

    Parameters
    ----------
    normals : (T, 3, 3); uvs : (T, 3, 2); materials : (T,), below 2^24.

    Returns
    -------
    (T, 16) float32 at an address that is a multiple of 64: three normals, three uvs, material.
    """
    count = len(normals)
    raw = np.zeros(count * 16 + 16, np.float32)
    start = (-raw.ctypes.data % 64) // 4
    packed = raw[start : start + count * 16].reshape(count, 16)
    packed[:, :9] = normals.reshape(count, 9)
    packed[:, 9:15] = uvs.reshape(count, 6)
    packed[:, 15] = materials
    return packed


class Vertex(NamedTuple):
    """Where a ray met a surface."""

    point: tuple[float, float, float]
    facing: tuple[float, float, float]  # geometric normal, towards the viewer
    normal: tuple[float, float, float]  # shading normal, bent to face the viewer
    distance: float  # from where the ray started
    u: float
    v: float
    triangle: int
    geometry: int


@njit(error_model="numpy")
def _corner_points(scene, t):
    p, i = float32s(scene.points), int32s(scene.corners)
    k = 3 * t
    return triple(p, 3 * i[k]), triple(p, 3 * i[k + 1]), triple(p, 3 * i[k + 2])


@njit(error_model="numpy")
def hit_vertex(scene, ray, origin, direction):
    """The surface at the hit in the ray buffer."""
    geometry, triangle, b, c = hit_place(ray)
    t = int64s(scene.first)[geometry] + triangle
    a = 1.0 - b - c
    facing = normalized(hit_normal(ray))
    at, k = float32s(scene.shading), 16 * t
    normal = add(scale(triple(at, k), a), scale(triple(at, k + 3), b))
    normal = normalized(add(normal, scale(triple(at, k + 6), c)))
    if dot(facing, direction) > 0.0:
        facing = scale(facing, -1.0)
    if dot(normal, facing) < 0.0:
        normal = scale(normal, -1.0)
    u = a * at[k + 9] + b * at[k + 11] + c * at[k + 13]
    v = a * at[k + 10] + b * at[k + 12] + c * at[k + 14]
    distance = hit_distance(ray)
    point = along(origin, direction, distance)
    return Vertex(point, facing, _faced(normal, direction), distance, u, v, t, geometry)


@njit(error_model="numpy")
def _faced(normal, direction):
    """A shading normal turned just enough that the viewer is above its horizon."""
    below = dot(normal, direction)
    if below > -1e-3:
        normal = normalized(add(normal, scale(direction, -(below + 2e-3))))
    return normal


@njit(error_model="numpy")
def bumped(scene, vertex, bump, direction):
    """The shading normal after a normal map, in the tangent frame of the texture coordinates."""
    p0, p1, p2 = _corner_points(scene, vertex.triangle)
    e1, e2 = subtract(p1, p0), subtract(p2, p0)
    w, k = float32s(scene.shading), 16 * vertex.triangle + 9
    u1, v1 = float(w[k + 2]) - w[k], float(w[k + 3]) - w[k + 1]
    u2, v2 = float(w[k + 4]) - w[k], float(w[k + 5]) - w[k + 1]
    area = u1 * v2 - u2 * v1
    if area == 0.0:
        return vertex.normal
    tangent = scale(subtract(scale(e1, v2), scale(e2, v1)), 1.0 / area)
    rising = scale(subtract(scale(e2, u1), scale(e1, u2)), 1.0 / area)
    n = vertex.normal
    tangent = normalized(subtract(tangent, scale(n, dot(tangent, n))))
    across = cross(n, tangent)
    if dot(across, rising) < 0.0:
        across = scale(across, -1.0)
    return _faced(normalized(to_world(bump, tangent, across, n)), direction)


# A thread's room: the ray, what `surface_at` reads, and two surfaces.
_INPUTS, PATH_SURFACE, OTHER_SURFACE = 128, 448, 704


@njit(error_model="numpy")
def hit_surface(scene, ray, vertex, room):
    """The material at a vertex; `room` says which of the thread's two surfaces it becomes."""
    material = int(float32s(scene.shading)[16 * vertex.triangle + 15])
    return surface_at(scene, material, vertex.u, vertex.v, float64s(ray + _INPUTS), ray + room)


@njit(error_model="numpy")
def lifted(vertex, direction):
    """A start for the next ray, off the surface by what single precision can blur."""
    p = vertex.point
    # The origin is blurred by its own size, the point by how far the ray came.
    step = 1e-5 * max(abs(p[0]), max(abs(p[1]), abs(p[2]))) + 1e-6 * vertex.distance + 1e-7
    side = 1.0 if dot(vertex.facing, direction) > 0.0 else -1.0
    return along(p, vertex.facing, side * step)


@njit(error_model="numpy")
def just_behind(t, origin):
    reach = max(abs(origin[0]), max(abs(origin[1]), abs(origin[2])))
    return t * (1.0 + 1e-6) + 2e-6 * reach + 1e-7
