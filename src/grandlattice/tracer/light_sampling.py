"""Lights for kernels: sampling a direction towards one, and meeting one along a ray.

Light shapes block no paths between surfaces; what they hide from the camera stands in `lights_met`, and how
domes are drawn from in `dome_sampling`.  Pdfs are over solid angle at the point that is lit.  A path that
meets what glows knows the pdf of aiming at it from the triangle's area and brightness alone.

The table they stand in is made by `light_table`.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

from grandlattice.tracer.dome_sampling import BELOW_ONE, dome_seen, image_radiance, sample_domes, step_holding
from grandlattice.tracer.kernel_memory import float32s, int32s, load_rows
from grandlattice.tracer.lanes import (
    all_lanes,
    any_of,
    bits_of,
    inner,
    lowest_bit,
    number_in,
    power,
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
)

# mypy: disable-error-code="no-untyped-def"


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
        u = min(max(0.5 - 0.5 * x, 0.0), BELOW_ONE)
        v = min(max(0.5 - 0.5 * y, 0.0), BELOW_ONE)
        radiance = choose(pictured, image_radiance(light, domes, pictured, u, v), radiance)
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
    k = step_holding(tables, where(active, light.rows, 0), where(active, light.row_guide, 0), count, s)
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
        direction, seen, density = sample_domes(light, domes, is_dome, s, t)
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
    radiance, _ = dome_seen(light, domes, is_dome, direction)
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
        radiance, density = dome_seen(light, domes, is_dome, direction)
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
