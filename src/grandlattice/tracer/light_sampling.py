"""Lights for kernels: sampling a direction towards one, and meeting one along a ray.

Light shapes block no paths between surfaces; what they hide from the camera stands in `direct_lighting`.  The
dome is seen as the background.  Densities are over solid angle at the point that is lit.  A path that
meets what glows knows the density of aiming at it from the triangle's area and brightness alone.

The table they stand in is made by `light_table`.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

from grandlattice.tracer.kernel_memory import float32s, int32s, load_rows
from grandlattice.tracer.lanes import (
    all_lanes,
    any_of,
    bits_of,
    inner,
    lowest_bit,
    number_in,
    power,
    to_floats,
    to_ints,
    where,
)
from grandlattice.tracer.light_table import CYLINDER, DISK, DISTANT, DOME, GLOWING, RECT, SPHERE, light_at
from grandlattice.tracer.material_table import sharp, surface_at
from grandlattice.tracer.sampling import angle_of, cone_direction, on_disk, sine_and_cosine
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
)

# mypy: disable-error-code="no-untyped-def"

_BELOW_ONE = 1.0 - 2.0**-24


@inner
def _find(tables, steps, guide, count, u):
    """The step of each lane's cumulated table (`count` + 1 entries from `steps`) that holds `u`."""
    mark = min(to_ints(u * to_floats(count)), count - 1)
    low = to_ints(tables[guide + mark])
    high = min(to_ints(tables[guide + mark + 1]) + 1, count)
    while any_of(high - low > 1):
        middle = (low + high) >> 1
        below = tables[steps + middle] <= u
        low, high = where(below, middle, low), where(below, high, middle)
    return low


@inner
def _dome_coordinates(light, direction):
    """Texture coordinates of a direction: u from longitude +180° leftmost, v from the top."""
    x, y, z = dot(direction, light.across), dot(direction, light.upward), dot(direction, light.facing)
    u = 0.5 - angle_of(x, z) * (0.5 / math.pi)
    v = angle_of(math.sqrt(x * x + z * z), y) * (1.0 / math.pi)
    return min(max(u, 0.0), _BELOW_ONE), min(max(v, 0.0), _BELOW_ONE)


@inner
def _image_radiance(light, domes, has_image, u, v):
    """The bilinear image at (u, v) times the radiance; lanes without one read nothing of use."""
    r, image = light.radiance, image_at(light, domes, has_image, u, v)
    return (r[0] * image[0], r[1] * image[1], r[2] * image[2])


@inner
def image_at(light, domes, has_image, u, v):
    """The bilinear image of a light at (u, v).

    Across, the image closes upon itself, as a dome's does.
    """
    width, height = where(has_image, light.width, 1), where(has_image, light.height, 1)
    texels = where(has_image, light.texels, 0)
    x, y = u * to_floats(width) - 0.5, v * to_floats(height) - 0.5
    left_edge, top_edge = math.floor(x), math.floor(y)
    a, b = x - left_edge, y - top_edge
    left, top = to_ints(left_edge), to_ints(top_edge)
    bottom, left, top = min(top + 1, height - 1), where(left < 0, width - 1, left), max(top, 0)
    line = 3 * (width + 1)
    high = load_rows(float32s(domes), texels + top * line + 3 * left)  # of both columns
    low = load_rows(float32s(domes), texels + bottom * line + 3 * left)
    w00, w10, w01, w11 = (1.0 - a) * (1.0 - b), a * (1.0 - b), (1.0 - a) * b, a * b
    return (
        w00 * high[0] + w10 * high[3] + w01 * low[0] + w11 * low[3],
        w00 * high[1] + w10 * high[4] + w01 * low[1] + w11 * low[4],
        w00 * high[2] + w10 * high[5] + w01 * low[2] + w11 * low[5],
    )


_EVEN = 1.0 / (4.0 * math.pi)  # density of all directions alike


@inner
def _dome_seen(light, domes, is_dome, direction):
    """Radiance of domes in a direction, and the density it is aimed at with."""
    radiance, density = light.radiance, 0.0 * direction[0] + _EVEN
    pictured = is_dome & (light.texels >= 0)
    if any_of(pictured):
        u, v = _dome_coordinates(light, direction)
        radiance = choose(pictured, _image_radiance(light, domes, pictured, u, v), radiance)
        density = where(pictured, _dome_density(light, domes, pictured, u, v), density)
    return radiance, where(is_dome, density, 0.0)


@inner
def _sample_domes(light, domes, is_dome, s, t):
    """A direction towards domes, their radiance there, and its density."""
    up = 1.0 - 2.0 * t
    level = math.sqrt(max(1.0 - up * up, 0.0))
    sine, cosine = sine_and_cosine(s)
    direction, radiance, density = (level * cosine, up, level * sine), light.radiance, 0.0 * s + _EVEN
    pictured = is_dome & (light.texels >= 0)
    if any_of(pictured):
        towards, seen, chance = _sample_dome(light, domes, pictured, s, t)
        direction, radiance = choose(pictured, towards, direction), choose(pictured, seen, radiance)
        density = where(pictured, chance, density)
    return direction, radiance, where(is_dome, density, 0.0)


@inner
def _dome_density(light, domes, is_dome, u, v):
    width, height = where(is_dome, light.columns, 1), where(is_dome, light.lines, 1)
    across, down = to_floats(width), to_floats(height)
    x, y = min(to_ints(u * across), width - 1), min(to_ints(v * down), height - 1)
    share = float32s(domes)[light.chances + y * width + x]
    sine, _ = sine_and_cosine(0.5 * v)
    density = share * across * down / (2.0 * math.pi * math.pi * max(sine, 1e-9))
    return where(is_dome & (sine > 0.0), density, 0.0)


@inner
def _sample_dome(light, domes, is_dome, s, t):
    width, height = where(is_dome, light.columns, 1), where(is_dome, light.lines, 1)
    tables, rows = float32s(domes), light.rows
    y = _find(tables, rows, light.row_guide, height, t)
    low, high = tables[rows + y], tables[rows + y + 1]
    v = (to_floats(y) + (t - low) / max(high - low, 1e-30)) / to_floats(height)
    line = y * (width + 1)
    cells = light.cells + line
    x = _find(tables, cells, light.cell_guide + line, width, s)
    low, high = tables[cells + x], tables[cells + x + 1]
    u = (to_floats(x) + (s - low) / max(high - low, 1e-30)) / to_floats(width)
    u, v = min(u, _BELOW_ONE), min(v, _BELOW_ONE)
    east, ahead = sine_and_cosine(0.5 - u)
    sine, up = sine_and_cosine(0.5 * v)
    local = (sine * east, up, sine * ahead)
    direction = to_world(local, light.across, light.upward, light.facing)
    return direction, _image_radiance(light, domes, is_dome, u, v), _dome_density(light, domes, is_dome, u, v)


class SkySeen(NamedTuple):
    """Where directions lie in a turned sky, as it is turned first."""

    u: Any
    v: Any
    density: Any  # of drawing them for all the ways it is turned


@inner
def sky_seen(head, domes, active, direction):
    """Where directions lie in a turned sky, whose first version is `head`."""
    u, v = _dome_coordinates(head, direction)
    return SkySeen(u, v, _dome_density(head, domes, active & (head.turned == 1), u, v))


@inner
def sky_radiance(light, domes, active, seen, direction):
    """Radiance of a turned sky in directions, and whether they lie in its sun.

    `seen` says where they lie in the first version; the record of the light is one for all lanes.
    """
    u, v = seen.u, seen.v
    if any_of(light.one_pole == 1):
        u = u + light.turn
        u = where(u >= 1.0, u - 1.0, u)
    else:
        u, v = _dome_coordinates(light, direction)
    radiance = _image_radiance(light, domes, active & (light.turned == 1), u, v)
    return radiance, in_sun(light, direction)


@inner
def in_sun(light, direction):
    """Whether directions lie in the sun of a turned sky."""
    return dot(direction, light.sun_axis) > light.sun_cosine


@inner
def sun_density(light, domes, active, direction):
    """Density of drawing directions in the sun of a turned sky."""
    u, v = _dome_coordinates(light, direction)
    width, height = where(active, light.columns, 1), where(active, light.lines, 1)
    across, down = to_floats(width), to_floats(height)
    x, y = min(to_ints(u * across), width - 1), min(to_ints(v * down), height - 1)
    chance = float32s(domes)[where(active, light.sun_chances, 0) + y * width + x]
    sine, _ = sine_and_cosine(0.5 * v)
    density = chance * across * down / (2.0 * math.pi * math.pi * max(sine, 1e-9))
    return where(active & (sine > 0.0), density, 0.0)


@inner
def direction_in_sky(u, v):
    """The direction of texture coordinates of a dome, in its own axes."""
    east, ahead = sine_and_cosine(0.5 - u)
    sine, up = sine_and_cosine(0.5 * v)
    return sine * east, up, sine * ahead


@inner
def draw_rest_of_sky(head, domes, active, s, t):
    """A direction that serves a turned sky in all its ways, and its density."""
    direction, _, density = _sample_dome(head, domes, active & (head.turned == 1), s, t)
    return direction, density


@inner
def draw_sun(light, domes, s, t):
    """Texture coordinates in the sun of a turned sky; the light's record is one for all lanes."""
    tables, steps, chosen = float32s(domes), light.sun_steps, all_lanes(0)
    for k in range(1, number_in(light.sun_count, 0)):
        chosen = where(tables[steps + k] <= s, k, chosen)
    low, high = tables[steps + chosen], tables[steps + chosen + 1]
    cell = to_ints(tables[light.sun_cells + chosen])
    y = to_ints(to_floats(cell) / to_floats(light.columns))
    y = where(y * light.columns > cell, y - 1, y)
    x = cell - y * light.columns
    u = (to_floats(x) + min(max((s - low) / max(high - low, 1e-30), 0.0), 1.0)) / to_floats(light.columns)
    v = (to_floats(y) + t) / to_floats(light.lines)
    return min(u, _BELOW_ONE), min(v, _BELOW_ONE)


FAR = 3e38
SUN = 1e38
"""How far away a distant light is: before a dome, behind all else."""


class Aim(NamedTuple):
    """A direction towards a light; the density is 0 where the light cannot reach."""

    direction: Any
    distance: Any
    radiance: Any
    density: Any
    # Of the light, see `light_table.LIGHT`.
    groups: Any
    diffuse: Any
    specular: Any
    shadows: Any
    followed: Any


@inner
def reaches(light, bits):
    """Whether a light falls on what has these bits, see `light_table.Links`."""
    return (light.linked == 0) | ((light.linked & bits) != 0)


@inner
def aims(scene, room, rows, active, point, bits, s, t):
    """For each lane a direction from its point towards the light in its own row, as an `Aim`.

    One light after the other that lanes aim at: most often that is the same one.

    Parameters
    ----------
    room : address of `MATERIAL_ROOM` floats.
    bits : of what stands at the points, see `reaches`.
    s, t : uniform in [0, 1).
    """
    nought, none = 0.0 * s, all_lanes(0)
    dark = (nought, nought, nought)
    aim, left = Aim(dark, nought, dark, nought, none, nought, nought, none, none), active
    while any_of(left):
        row = number_in(rows, lowest_bit(bits_of(left)))
        here = left & (rows == row)
        left = left & ~here
        light = light_at(scene.lights, row)
        here = here & reaches(light, bits)
        if any_of(here):
            found = _aim_at(scene, room, light, here, point, s, t)
            aim = Aim(
                direction=choose(here, found.direction, aim.direction),
                distance=where(here, found.distance, aim.distance),
                radiance=choose(here, found.radiance, aim.radiance),
                density=where(here, found.density, aim.density),
                groups=where(here, found.groups, aim.groups),
                diffuse=where(here, found.diffuse, aim.diffuse),
                specular=where(here, found.specular, aim.specular),
                shadows=where(here, found.shadows, aim.shadows),
                followed=where(here, found.followed, aim.followed),
            )
    return aim


@inner
def _cone(light, point):
    """What of the sphere light is seen from a point: centre, squared distance, 1 − cos of its edge."""
    to_centre = subtract(light.position, point)
    squared = dot(to_centre, to_centre)
    radius = light.extent
    sine_squared = min(radius * radius / max(squared, 1e-30), 1.0)
    # 1 − cos without cancellation for small, far lights.
    narrow = sine_squared / (1.0 + math.sqrt(1.0 - sine_squared))
    return to_centre, squared, narrow


@inner
def _into_sphere(light, to_centre, direction):
    """Along a ray: the distance to its nearest approach, and the square of half the chord there.

    The chord is negative where the ray misses.  The miss is measured from the approach itself;
    a difference of squares would lose small, far lights.
    """
    middle = dot(to_centre, direction)
    off = subtract(to_centre, scale(direction, middle))
    return middle, light.extent * light.extent - dot(off, off)


@inner
def _shaped(light, outwards):
    """What shaping leaves of the light that goes in a direction, 0..1."""
    cosine = min(max(dot(outwards, light.facing), -1.0), 1.0)
    angle = angle_of(math.sqrt(max(1.0 - cosine * cosine, 0.0)), cosine)
    past = (angle - light.fades_from) / max(light.cone - light.fades_from, 1e-6)
    past = min(max(past, 0.0), 1.0)
    share = 1.0 - past * past * (3.0 - 2.0 * past)
    share = where(angle > light.cone, 0.0, share)
    focused = where(light.focus > 0.0, power(max(cosine, 0.0), light.focus), 1.0)
    return where(light.shaped == 1, share * focused, 1.0)


@inner
def _on_rect(light, domes, active, x, y):
    """Radiance of rects at a place, −1..1 each way; the image is seen the right way round from
    where it shines."""
    pictured = active & (light.kind == RECT) & (light.texels >= 0)
    radiance = light.radiance
    if any_of(pictured):
        u = min(max(0.5 - 0.5 * x, 0.0), _BELOW_ONE)
        v = min(max(0.5 - 0.5 * y, 0.0), _BELOW_ONE)
        radiance = choose(pictured, _image_radiance(light, domes, pictured, u, v), radiance)
    return radiance


@inner
def _round_cylinder(light, point):
    """A cylinder seen from a point: unit axis, half its length, the vector from its axis to the point,
    how far that is, and the half angle of what is seen of its round."""
    half = math.sqrt(max(dot(light.across, light.across), 1e-30))
    axis = scale(light.across, 1.0 / half)
    off = subtract(point, light.position)
    off = subtract(off, scale(axis, dot(off, axis)))
    far = math.sqrt(max(dot(off, off), 1e-30))
    cosine = min(light.extent / far, 1.0)
    return axis, half, off, far, angle_of(math.sqrt(1.0 - cosine * cosine), cosine)


@inner
def _glowing_triangle(light, domes, active, s, t):
    """A point on what glows: (point, normal not of unit length, u, v, material, bits of light passes)."""
    count = where(active, light.columns, 1)
    tables = float32s(domes)
    k = _find(tables, where(active, light.rows, 0), where(active, light.row_guide, 0), count, s)
    low, high = tables[where(active, light.rows, 0) + k], tables[where(active, light.rows, 0) + k + 1]
    inside = min(max((s - low) / max(high - low, 1e-30), 0.0), 1.0)
    row = load_rows(tables, where(active, light.texels + 16 * k, 0))
    # Area-preserving, from the unit square (Turk, 1990).
    root = math.sqrt(inside)
    a, b = 1.0 - root, root * (1.0 - t)
    c = root * t
    p0, p1, p2 = (row[0], row[1], row[2]), (row[3], row[4], row[5]), (row[6], row[7], row[8])
    point = add(add(scale(p0, a), scale(p1, b)), scale(p2, c))
    normal = cross(subtract(p1, p0), subtract(p2, p0))
    u = a * row[9] + b * row[11] + c * row[13]
    v = a * row[10] + b * row[12] + c * row[14]
    groups = int32s(domes)[where(active, light.cells + k, 0)]
    return point, normal, u, v, to_ints(row[15]), groups


@inner
def _aim_at(scene, room, light, active, point, s, t):
    """Directions from points towards a light, as an `Aim`."""
    domes = scene.domes
    kind = light.kind
    direction = (0.0 * s, 0.0 * s, 0.0 * s + 1.0)
    radiance, groups = light.radiance, light.groups
    distance, density = 0.0 * s + FAR, 0.0 * s
    is_dome = active & (kind == DOME)
    if any_of(is_dome):
        direction, seen, density = _sample_domes(light, domes, is_dome, s, t)
        radiance = choose(is_dome, seen, radiance)
    far = active & (kind == DISTANT)
    if any_of(far):
        towards = cone_direction(negative(light.facing), light.extent, s, t)
        direction = choose(far, towards, direction)
        density = where(far, 0.5 / (math.pi * light.extent), density)
    is_sphere = active & (kind == SPHERE)
    if any_of(is_sphere):
        to_centre, squared, narrow = _cone(light, point)
        towards = cone_direction(scale(to_centre, 1.0 / math.sqrt(max(squared, 1e-30))), narrow, s, t)
        middle, chord = _into_sphere(light, to_centre, towards)
        outside = squared > light.extent * light.extent
        direction = choose(is_sphere, towards, direction)
        distance = where(is_sphere, middle - math.sqrt(max(chord, 0.0)), distance)
        density = where(is_sphere, where(outside, 0.5 / (math.pi * narrow), 0.0), density)
    flat = active & ((kind == RECT) | (kind == DISK))
    if any_of(flat):
        disk_x, disk_y = on_disk(s, t)
        x = where(kind == DISK, disk_x, 2.0 * s - 1.0)
        y = where(kind == DISK, disk_y, 2.0 * t - 1.0)
        offset = add(scale(light.across, x), scale(light.upward, y))
        to_light = add(subtract(light.position, point), offset)
        squared = max(dot(to_light, to_light), 1e-30)
        length = math.sqrt(squared)
        towards = scale(to_light, 1.0 / length)
        cosine = -dot(towards, light.facing)
        direction = choose(flat, towards, direction)
        distance = where(flat, length, distance)
        aimed = where(cosine > 0.0, squared / max(cosine * light.extent, 1e-30), 0.0)
        density = where(flat, aimed, density)
        radiance = choose(flat, _on_rect(light, domes, flat, x, y), radiance)
    is_cylinder = active & (kind == CYLINDER)
    if any_of(is_cylinder):
        axis, half, off, far, arc = _round_cylinder(light, point)
        outward = scale(off, 1.0 / far)
        turn = (2.0 * s - 1.0) * arc
        sine, cosine = sine_and_cosine(turn * (0.5 / math.pi))
        facing = add(scale(outward, cosine), scale(cross(axis, outward), sine))
        place = add(scale(axis, (2.0 * t - 1.0) * half), scale(facing, light.extent))
        to_light = subtract(add(light.position, place), point)
        squared = max(dot(to_light, to_light), 1e-30)
        length = math.sqrt(squared)
        towards = scale(to_light, 1.0 / length)
        cosine = -dot(towards, facing)
        area = 4.0 * arc * light.extent * half
        aimed = where((cosine > 0.0) & (far > light.extent), squared / max(cosine * area, 1e-30), 0.0)
        direction = choose(is_cylinder, towards, direction)
        distance = where(is_cylinder, length, distance)
        density = where(is_cylinder, aimed, density)
    glows = active & (kind == GLOWING)
    if any_of(glows):
        place, normal, u, v, material, of_triangle = _glowing_triangle(light, domes, glows, s, t)
        groups = where(glows, of_triangle, groups)
        to_light = subtract(place, point)
        squared = max(dot(to_light, to_light), 1e-30)
        length = math.sqrt(squared)
        towards = scale(to_light, 1.0 / length)
        cosine = abs(dot(towards, normalized(normal)))
        surface = surface_at(scene, where(glows, material, 0), sharp(u, v), room)
        brightness = float32s(scene.brightness)[where(glows, material, 0)]
        aimed = squared * brightness / max(cosine * light.extent, 1e-30)
        direction = choose(glows, towards, direction)
        distance = where(glows, length, distance)
        density = where(glows, where(cosine > 1e-6, aimed, 0.0), density)
        radiance = choose(glows, surface.emission, radiance)
    if any_of(active & (light.shaped == 1)):
        radiance = scale(radiance, _shaped(light, negative(direction)))
    return Aim(
        direction, distance, radiance, density, groups, light.diffuse, light.specular, light.shadows,
        light.followed,
    )  # fmt: skip


@inner
def glow_density(scene, light, vertex, cosine):
    """Density of aiming at what glows, where a path met it at `cosine` from its normal."""
    brightness = float32s(scene.brightness)[vertex.material]
    squared = vertex.distance * vertex.distance
    return squared * brightness / max(abs(cosine) * light.extent, 1e-30)


@inner
def background(light, domes, active, direction):
    """Radiance of the dome lights in a direction; 0 for other lights."""
    is_dome = active & (light.kind == DOME)
    radiance, _ = _dome_seen(light, domes, is_dome, direction)
    return choose(is_dome, radiance, (0.0, 0.0, 0.0))


class Met(NamedTuple):
    """What rays meet of a light's shape."""

    there: Any
    distance: Any
    radiance: Any
    density: Any  # with which the light is aimed at; 0 where paths that meet it do not count


@inner
def meet_light(light, domes, active, origin, direction, t_near, t_far):
    """What rays meet of a light between two distances, as `Met`."""
    kind = light.kind
    radiance, density, distance = light.radiance, 0.0 * t_far, 0.0 * t_far + FAR
    away = active & (t_far >= FAR)
    is_dome = away & (kind == DOME)
    if any_of(is_dome):
        radiance, density = _dome_seen(light, domes, is_dome, direction)
    far = active & (t_far >= SUN) & (kind == DISTANT)
    if any_of(far):
        # `facing` is where the light goes; a ray that meets it goes the other way.
        off_axis = add(direction, light.facing)
        met = far & (dot(off_axis, off_axis) <= 2.0 * light.extent)  # |off|² = 2 (1 − cos)
        density = where(met, 0.5 / (math.pi * light.extent), density)
        distance = where(met, SUN, distance)
    is_sphere = active & (kind == SPHERE)
    if any_of(is_sphere):
        to_centre, squared, narrow = _cone(light, origin)
        middle, chord = _into_sphere(light, to_centre, direction)
        outside = squared > light.extent * light.extent
        t = middle - math.sqrt(max(chord, 0.0))
        met = is_sphere & outside & (middle > 0.0) & (chord >= 0.0) & (t > t_near) & (t <= t_far)
        density = where(met, 0.5 / (math.pi * narrow), density)
        distance = where(met, t, distance)
    flat = active & ((kind == RECT) | (kind == DISK))
    if any_of(flat):
        facing = light.facing
        cosine = -dot(direction, facing)
        to_centre = subtract(light.position, origin)
        t = -dot(to_centre, facing) / where(cosine > 0.0, cosine, 1.0)
        offset = subtract(along(origin, direction, t), light.position)
        a, b = light.across, light.upward
        # Solve offset = x·a + y·b in the light's plane, whatever the angle between a and b.
        normal = cross(a, b)
        area = max(dot(normal, normal), 1e-30)
        x, y = dot(cross(offset, b), normal) / area, dot(cross(a, offset), normal) / area
        round_one = x * x + y * y <= 1.0
        square = (abs(x) <= 1.0) & (abs(y) <= 1.0)
        within = ((kind == DISK) & round_one) | ((kind == RECT) & square)
        met = flat & within & (cosine > 0.0) & (t > t_near) & (t <= t_far)
        density = where(met, t * t / max(cosine * light.extent, 1e-30), density)
        distance = where(met, t, distance)
        radiance = choose(flat, _on_rect(light, domes, flat, x, y), radiance)
    is_cylinder = active & (kind == CYLINDER)
    if any_of(is_cylinder):
        axis, half, off, far, arc = _round_cylinder(light, origin)
        across = subtract(direction, scale(axis, dot(direction, axis)))
        a, b = dot(across, across), dot(across, off)
        under = b * b - a * (far * far - light.extent * light.extent)
        t = (-b - math.sqrt(max(under, 0.0))) / max(a, 1e-30)
        offset = subtract(along(origin, direction, t), light.position)
        height = dot(offset, axis)
        facing = scale(subtract(offset, scale(axis, height)), 1.0 / max(light.extent, 1e-30))
        cosine = -dot(direction, facing)
        met = is_cylinder & (far > light.extent) & (under > 0.0) & (abs(height) <= half) & (cosine > 0.0)
        met = met & (t > t_near) & (t <= t_far)
        area = 4.0 * arc * light.extent * half
        density = where(met, t * t / max(cosine * area, 1e-30), density)
        distance = where(met, t, distance)
    if any_of(active & (light.shaped == 1)):
        radiance = scale(radiance, _shaped(light, negative(direction)))
    return Met(density > 0.0, distance, radiance, where(light.followed == 1, density, 0.0))


@inner
def light_reach(light, point):
    """A guess at what a light sends to points, unshadowed; only steers which one is sampled."""
    kind = light.kind
    to_centre = subtract(light.position, point)
    squared = dot(to_centre, to_centre) + 1e-9
    extent = light.extent
    cosine = max(-dot(to_centre, light.facing) / math.sqrt(squared), 0.05)
    angle = extent * cosine / (squared + extent)
    angle = where(kind == SPHERE, math.pi * extent * extent / squared, angle)
    round_off = 4.0 * extent * math.sqrt(max(dot(light.across, light.across), 1e-30))
    angle = where(kind == CYLINDER, round_off / (squared + round_off), angle)
    angle = where(kind == DISTANT, 2.0 * math.pi * extent, angle)
    angle = where(kind == DOME, math.pi, angle)
    # What glows is spread out: its middle says little about what is near.
    angle = where(kind == GLOWING, extent / (squared + 1.0), angle)
    return light.power * light.mean * angle
