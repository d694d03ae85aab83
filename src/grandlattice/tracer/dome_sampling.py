"""Domes for kernels: what they show in a direction, and how directions towards them are drawn.

A dome's image is drawn from by its brightness.  A sky that lightings turn in several ways is drawn from
as one: its sun apart, the rest from the mean of all ways.  Pdfs are over solid angle.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

from grandlattice.tracer.kernel_memory import float32s, load_rows
from grandlattice.tracer.lanes import (
    all_lanes,
    any_of,
    inner,
    number_in,
    to_floats,
    to_ints,
    where,
)
from grandlattice.tracer.sampling import angle_of, sine_and_cosine
from grandlattice.tracer.vectors import (
    choose,
    dot,
    to_world,
)

# mypy: disable-error-code="no-untyped-def"

BELOW_ONE = 1.0 - 2.0**-24


@inner
def step_holding(tables, steps, guide, count, u):
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
def dome_coordinates(light, direction):
    """Texture coordinates of a direction: u from longitude +180° leftmost, v from the top."""
    x, y, z = dot(direction, light.across), dot(direction, light.upward), dot(direction, light.facing)
    u = 0.5 - angle_of(x, z) * (0.5 / math.pi)
    v = angle_of(math.sqrt(x * x + z * z), y) * (1.0 / math.pi)
    return min(max(u, 0.0), BELOW_ONE), min(max(v, 0.0), BELOW_ONE)


@inner
def image_radiance(light, domes, has_image, u, v):
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
def dome_seen(light, domes, is_dome, direction):
    """Radiance of domes in a direction, and the density it is aimed at with."""
    radiance, density = light.radiance, 0.0 * direction[0] + _EVEN
    pictured = is_dome & (light.texels >= 0)
    if any_of(pictured):
        u, v = dome_coordinates(light, direction)
        radiance = choose(pictured, image_radiance(light, domes, pictured, u, v), radiance)
        density = where(pictured, dome_density(light, domes, pictured, u, v), density)
    return radiance, where(is_dome, density, 0.0)


@inner
def sample_domes(light, domes, is_dome, s, t):
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
def dome_density(light, domes, is_dome, u, v):
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
    y = step_holding(tables, rows, light.row_guide, height, t)
    low, high = tables[rows + y], tables[rows + y + 1]
    v = (to_floats(y) + (t - low) / max(high - low, 1e-30)) / to_floats(height)
    line = y * (width + 1)
    cells = light.cells + line
    x = step_holding(tables, cells, light.cell_guide + line, width, s)
    low, high = tables[cells + x], tables[cells + x + 1]
    u = (to_floats(x) + (s - low) / max(high - low, 1e-30)) / to_floats(width)
    u, v = min(u, BELOW_ONE), min(v, BELOW_ONE)
    east, ahead = sine_and_cosine(0.5 - u)
    sine, up = sine_and_cosine(0.5 * v)
    local = (sine * east, up, sine * ahead)
    direction = to_world(local, light.across, light.upward, light.facing)
    return direction, image_radiance(light, domes, is_dome, u, v), dome_density(light, domes, is_dome, u, v)


class SkySeen(NamedTuple):
    """Where directions lie in a turned sky, as it is turned first."""

    u: Any
    v: Any
    density: Any  # of drawing them for all the ways it is turned


@inner
def sky_seen(head, domes, active, direction):
    """Where directions lie in a turned sky, whose first version is `head`."""
    u, v = dome_coordinates(head, direction)
    return SkySeen(u, v, dome_density(head, domes, active & (head.turned == 1), u, v))


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
        u, v = dome_coordinates(light, direction)
    radiance = image_radiance(light, domes, active & (light.turned == 1), u, v)
    return radiance, in_sun(light, direction)


@inner
def in_sun(light, direction):
    """Whether directions lie in the sun of a turned sky."""
    return dot(direction, light.sun_axis) > light.sun_cosine


@inner
def sun_density(light, domes, active, direction):
    """Density of drawing directions in the sun of a turned sky."""
    u, v = dome_coordinates(light, direction)
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
    return min(u, BELOW_ONE), min(v, BELOW_ONE)
