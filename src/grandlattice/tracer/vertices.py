"""Where a ray met the scene: the point, its normals, its material; and where the next ray starts."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.embree import triangle_met
from grandlattice.tracer.kernel_memory import aligned_words, float32s, int32s, load_rows
from grandlattice.tracer.lanes import all_lanes, any_of, inner, to_floats, to_ints, where
from grandlattice.tracer.vectors import (
    add,
    along,
    choose,
    cross,
    dot,
    negative,
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
        # Triangles, in the order of the geometries.
        ("points", "i8"),  # (V, 3) float32
        ("corners", "i8"),  # (T, 3) int32
        ("shading", "i8"),  # (T, 16) float32, a cache line each, see `triangles`
        ("paint", "i8"),  # (T, 9) float32, the colours of each triangle's corners; 0 where there are none
        ("more_uvs", "i8"),  # (T, 6) float32, second uvs of each triangle's corners; 0 where there are none
        ("densities", "i8"),  # (T,) float32, area in texture coordinates over area; 0 without textures
        ("more_densities", "i8"),  # the same for the second uvs
        # Placements.
        ("first", "i8"),  # (P,) int32, the first triangle of each, see `embree.triangle_met`
        ("held_out", "i8"),  # (P,) int32: 0 what the camera sees is there, MATTE, CATCHES; 0 without any
        ("item", "i8"),  # (P,) int32, the item each is of
        ("looks", "i8"),  # (P,) int32, where the materials of its subsets begin in …
        ("materials_of", "i8"),  # … these, int32
        ("turns", "i8"),  # (P, 32) float32, see `pack_turns`; 0 where nothing is repeated
        # Where things move: how many steps while the shutter is open, and (P,) int32, the first row of
        # `turns` for the ends of these; −1 for what stands still.
        ("steps", "i8"), ("moving", "i8"),
        ("materials", "i8"), ("tables", "i8"),
        ("textures", "i8"), ("decode", "i8"),
        ("lights", "i8"), ("light_count", "i8"), ("domes", "i8"),
        ("row_count", "i8"),  # of the light table: lamps, and the other ways they stand
        ("light_steps", "i8"),  # how many places lights have that move; 0 where none does
        ("solid", "i8"),  # (P,) int32: 1 where glass is solid, −1 with its normals inwards; 0 without any
        ("reached", "i8"),  # (P,) int32, the bits of lights that do not reach everything; 0 without any
        ("brightness", "i8"),  # (M,) float32, how materials glow that are aimed at, 0 for others
        ("glows", "i8"),  # whether the last light is what glows
        ("glow_groups", "i8"),  # (P,) int32, bits of the light passes that what glows counts for
    ],
    align=True,
)  # fmt: skip
"""Everything a kernel reads of a scene: addresses of arrays and tables."""

MATTE, CATCHES = 1, 2


def pack_turns(matrices: NDArray, repeated: NDArray) -> NDArray[np.float32]:
    """How normals and edges of repeated geometries turn into the world.

    Parameters
    ----------
    matrices : (P, 3, 3) for row vectors; repeated : (P,) whether they count.

    Returns
    -------
    (P, 32) float32: the matrix of normals row by row, how many times as large areas become, 6 words of no
    meaning, the matrix itself.
    """
    packed = aligned_words(len(matrices) * 32).reshape(-1, 32)
    rows = np.where(repeated[:, None, None], matrices, np.eye(3))
    packed[:, :9] = normal_matrices(rows).reshape(-1, 9)
    packed[:, 9] = np.maximum(np.abs(np.linalg.det(rows)), 1e-30) ** (2 / 3)
    packed[:, 16:25] = rows.reshape(-1, 9)
    return packed


def normal_matrices(matrices: NDArray) -> NDArray:
    """The matrices (N, 3, 3) that normals go by where points go by `matrices`, for row vectors.

    Normals go with the inverse transpose; the adjugate is that without a division, and stays
    finite for a flattened object.
    """
    a, b, c = matrices[:, 0], matrices[:, 1], matrices[:, 2]
    adjugate = np.stack([np.cross(b, c), np.cross(c, a), np.cross(a, b)], axis=1)
    sign = np.sign(np.linalg.det(matrices))
    return np.asarray(adjugate * np.where(sign == 0.0, 1.0, sign)[:, None, None])


class Vertex(NamedTuple):
    """Where rays met surfaces, a lane each."""

    point: Any
    facing: Any  # geometric normal, towards the viewer
    normal: Any  # shading normal, bent to face the viewer
    distance: Any  # from where the ray started
    behind: Any  # whether the ray came from behind the geometric normal
    u: Any
    v: Any
    more_u: Any  # by the second set of texture coordinates
    more_v: Any
    paint: Any  # colour of its own
    triangle: Any
    placement: Any
    turn: Any  # row of `turns`
    stretch: Any  # how many times as large areas are as those of its geometry
    material: Any


@inner
def of_placements(words, placement):
    """What a table, (P,) int32 by address, says of placements; 0 where there is none."""
    found = all_lanes(0)
    if words != 0:
        found = int32s(words)[placement]
    return found


@inner
def _faced(normal, direction):
    """A shading normal turned just enough that the viewer is above its horizon."""
    below = dot(normal, direction)
    hidden = below > -1e-3
    if any_of(hidden):
        turned = normalized(add(normal, scale(direction, -(below + 2e-3))))
        normal = choose(hidden, turned, normal)
    return normal


@inner
def hit_vertex(scene, hit, origin, direction, time):
    """The surfaces at hits; lanes without a hit see some surface, of no meaning."""
    t, b, c = triangle_met(hit, int32s(scene.first)[hit.placement])
    a = 1.0 - b - c
    facing = hit.normal
    at = load_rows(float32s(scene.shading), t * 16)
    normal = add(scale((at[0], at[1], at[2]), a), scale((at[3], at[4], at[5]), b))
    normal = add(normal, scale((at[6], at[7], at[8]), c))
    row, stretch = hit.placement, 0.0 * time + 1.0
    if scene.turns != 0:
        after, part = row, 0.0 * time
        if scene.steps > 0:
            moving, place = int32s(scene.moving)[row], time * scene.steps
            step = min(to_ints(place), scene.steps - 1)
            moves, part = moving >= 0, place - to_floats(step)
            row = where(moves, moving + step, row)
            after = where(moves, row + 1, row)
        turn = load_rows(float32s(scene.turns), row * 32)
        stretch = turn[9]
        now, straight = _turned(turn, facing), _turned(turn, normal)
        if scene.steps > 0:
            turn = load_rows(float32s(scene.turns), after * 32)
            now = add(scale(now, 1.0 - part), scale(_turned(turn, facing), part))
            straight = add(scale(straight, 1.0 - part), scale(_turned(turn, normal), part))
        facing, normal = now, straight
    facing, normal = normalized(facing), normalized(normal)
    behind = dot(facing, direction) > 0.0
    facing = choose(behind, negative(facing), facing)
    normal = choose(dot(normal, facing) < 0.0, negative(normal), normal)
    white = 0.0 * time + 1.0
    paint = (white, white, white)
    if scene.paint != 0:
        p, k = float32s(scene.paint), 9 * t
        paint = add(scale(triple(p, k), a), scale(triple(p, k + 3), b))
        paint = add(paint, scale(triple(p, k + 6), c))
    u = a * at[9] + b * at[11] + c * at[13]
    v = a * at[10] + b * at[12] + c * at[14]
    more_u, more_v = u, v
    if scene.more_uvs != 0:
        w, k = float32s(scene.more_uvs), 6 * t
        more_u = a * w[k] + b * w[k + 2] + c * w[k + 4]
        more_v = a * w[k + 1] + b * w[k + 3] + c * w[k + 5]
    return Vertex(
        point=along(origin, direction, hit.distance),
        facing=facing,
        normal=_faced(normal, direction),
        distance=hit.distance,
        behind=behind,
        u=u,
        v=v,
        more_u=more_u,
        more_v=more_v,
        paint=paint,
        triangle=t,
        placement=hit.placement,
        turn=row,
        stretch=stretch,
        material=int32s(scene.materials_of)[int32s(scene.looks)[hit.placement] + to_ints(at[15])],
    )


@inner
def solid_at(scene, vertex):
    """Whether glass is solid at a vertex, and whether the ray comes from within it."""
    if scene.solid == 0:
        nowhere = vertex.distance < 0.0
        return nowhere, nowhere
    side = int32s(scene.solid)[vertex.placement]
    return side != 0, where(vertex.behind, side, 0 - side) > 0


@inner
def _turned(rows, v):
    """A vector times a matrix that `load_rows` read."""
    return (
        v[0] * rows[0] + v[1] * rows[3] + v[2] * rows[6],
        v[0] * rows[1] + v[1] * rows[4] + v[2] * rows[7],
        v[0] * rows[2] + v[1] * rows[5] + v[2] * rows[8],
    )


@inner
def _edges(scene, vertex):
    """Two sides of each triangle in the world, from its first corner."""
    p, i, k = float32s(scene.points), int32s(scene.corners), 3 * vertex.triangle
    p0, p1, p2 = triple(p, 3 * i[k]), triple(p, 3 * i[k + 1]), triple(p, 3 * i[k + 2])
    e1, e2 = subtract(p1, p0), subtract(p2, p0)
    if scene.turns != 0:
        turn = load_rows(float32s(scene.turns), vertex.turn * 32 + 16)
        e1, e2 = _turned(turn, e1), _turned(turn, e2)
    return e1, e2


@inner
def slid_coordinates(scene, vertex, by):
    """Texture coordinates a little beside vertices, `by` along their triangles' planes."""
    e1, e2 = _edges(scene, vertex)
    a, b, c = dot(e1, e1), dot(e1, e2), dot(e2, e2)
    x, y = dot(by, e1), dot(by, e2)
    whole = a * c - b * b
    flat = whole <= 1e-12 * a * c
    whole = where(flat, 1.0, whole)
    s, t = where(flat, 0.0, (c * x - b * y) / whole), where(flat, 0.0, (a * y - b * x) / whole)
    # No further than a triangle's own size: beyond it they say nothing.
    s, t = min(max(s, -1.0), 1.0), min(max(t, -1.0), 1.0)
    w, k = float32s(scene.shading), 16 * vertex.triangle + 9
    u = vertex.u + s * (w[k + 2] - w[k]) + t * (w[k + 4] - w[k])
    v = vertex.v + s * (w[k + 3] - w[k + 1]) + t * (w[k + 5] - w[k + 1])
    return u, v


@inner
def bumped(scene, vertex, bump, by_second, direction):
    """Shading normals after a normal map, in the tangent frame of the texture coordinates it is read by:
    the second ones where `by_second` says so."""
    e1, e2 = _edges(scene, vertex)
    w, k = float32s(scene.shading), 16 * vertex.triangle + 9
    u1, v1 = w[k + 2] - w[k], w[k + 3] - w[k + 1]
    u2, v2 = w[k + 4] - w[k], w[k + 5] - w[k + 1]
    if scene.more_uvs != 0:
        w, k = float32s(scene.more_uvs), 6 * vertex.triangle
        u1, v1 = where(by_second, w[k + 2] - w[k], u1), where(by_second, w[k + 3] - w[k + 1], v1)
        u2, v2 = where(by_second, w[k + 4] - w[k], u2), where(by_second, w[k + 5] - w[k + 1], v2)
    area = u1 * v2 - u2 * v1
    side = where(area < 0.0, -1.0, 1.0)  # the frame is made unit length: only the area's sign counts
    tangent = scale(subtract(scale(e1, v2), scale(e2, v1)), side)
    rising = scale(subtract(scale(e2, u1), scale(e1, u2)), side)
    n = vertex.normal
    tangent = normalized(subtract(tangent, scale(n, dot(tangent, n))))
    across = cross(n, tangent)
    across = choose(dot(across, rising) < 0.0, negative(across), across)
    turned = _faced(normalized(to_world(bump, tangent, across, n)), direction)
    return choose((bump[2] == 1.0) | (area == 0.0), n, turned)


@inner
def _size(p):
    return max(abs(p[0]), max(abs(p[1]), abs(p[2])))


@inner
def lifted(vertex, direction):
    """Starts for the next rays, off the surface by what single precision can blur."""
    # The origin is blurred by its own size, the point by how far the ray came.
    step = 1e-5 * _size(vertex.point) + 1e-6 * vertex.distance + 1e-7
    step = where(dot(vertex.facing, direction) > 0.0, step, -step)
    return along(vertex.point, vertex.facing, step)


@inner
def just_behind(t, origin):
    return t * (1.0 + 1e-6) + 2e-6 * _size(origin) + 1e-7
