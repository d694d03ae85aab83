"""Lights for kernels: sampling a direction towards one, and meeting one along a ray.

Light shapes do not block paths and are not seen by the camera; they show in reflections.  The
dome is seen as the background.  Densities are over solid angle at the point that is lit.

All surfaces that glow are one light, a table of their triangles; a triangle is drawn by its area
and its brightness, and a path that meets one knows its density from these alone.

A dome is sampled by its brightness: its image, averaged to a grid of at most 256×128 and
smoothed as it is when it is read, gives rows and columns their probabilities.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.snapshot import Light
from grandlattice.tracer.embree import CAMERA, OTHER
from grandlattice.tracer.lanes import any_of, inner, power, to_floats, to_ints, where
from grandlattice.tracer.materials import sharp, surface_at
from grandlattice.tracer.memory import float32s, load_rows, records, table
from grandlattice.tracer.sampling import angle_of, cone_direction, on_disk, sine_and_cosine
from grandlattice.tracer.textures import srgb_to_linear
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

DOME, DISTANT, RECT, DISK, SPHERE, CYLINDER, GLOWING = range(7)
_KINDS = {
    "dome": DOME, "distant": DISTANT, "rect": RECT, "disk": DISK, "sphere": SPHERE, "cylinder": CYLINDER,
}  # fmt: skip
_LUMA = np.array([0.2126, 0.7152, 0.0722])
_NARROWEST = 0.01  # degrees; a distant light of no width still has to be sampled
_BELOW_ONE = 1.0 - 2.0**-24


LIGHT = np.dtype(
    [
        ("kind", "i4"),
        ("radiance", "f4", (3,)),
        ("position", "f4", (3,)),
        ("across", "f4", (3,)),  # half the width or length as a vector; a dome's local X
        ("upward", "f4", (3,)),  # half the height; a dome's local Y
        ("facing", "f4", (3,)),  # where it shines; a dome's local Z
        # Area; radius of a sphere or cylinder; a distant light's 1 − cos(half its angle); all that
        # glows: the sum of area × brightness.
        ("extent", "f4"),
        ("diffuse", "f4"), ("specular", "f4"),
        # Off its axis `facing`: cos θ to the power of `focus`, fading from `fades_from` to `cone`.
        ("shaped", "i4"), ("focus", "f4"), ("fades_from", "f4"), ("cone", "f4"),
        ("groups", "i4"),  # bits of the light passes it counts for
        ("linked", "i4"),  # the bit of what it reaches; 0 where that is everything
        ("shadows", "i4"),  # who blocks it: a mask for rays
        ("followed", "i4"),  # whether a path that meets it counts
        ("width", "i4"), ("height", "i4"),  # the image of a dome or rect; how many triangles glow
        ("columns", "i4"), ("lines", "i4"),  # the grid it is sampled by
        # Where in the scene's `domes` …
        ("texels", "i4"),  # … the image's RGB begins, or −1; the triangles that glow,
        ("rows", "i4"),  # the cumulated chances of the grid's lines, lines + 1,
        ("cells", "i4"),  # those along each line, columns + 1 for each,
        ("row_guide", "i4"), ("cell_guide", "i4"),  # guides to both, see `_guide`,
        ("chances", "i4"),  # and the chance of each cell, lines × columns
    ],
    align=True,
)  # fmt: skip

light_at = records(LIGHT)


def _dome_grid(texels: NDArray[np.float32]) -> tuple[NDArray[np.float32], ...]:
    """Cumulated chances of rows (h + 1,) and, within rows, of cells (h, w + 1), a guide to each
    of the same shape, and the chances (h, w).

    The chances are kept besides the sums, whose differences lose the faintest cells.
    """
    brightness = texels.astype(np.float64) @ _LUMA
    height, width = brightness.shape
    grid_height, grid_width = min(max(height, 32), 128), min(max(width, 64), 256)
    if height > grid_height or width > grid_width:
        row_edges = np.linspace(0, height, grid_height + 1).astype(int)[:-1]
        column_edges = np.linspace(0, width, grid_width + 1).astype(int)[:-1]
        sums = np.add.reduceat(np.add.reduceat(brightness, row_edges, 0), column_edges, 1)
        counts = np.add.reduceat(np.add.reduceat(np.ones_like(brightness), row_edges, 0), column_edges, 1)
        brightness = sums / counts
    else:
        brightness = brightness[np.arange(grid_height) * height // grid_height]
        brightness = brightness[:, np.arange(grid_width) * width // grid_width]
    # The mean of the bilinear image over each texel: no bright texel is left without a chance.
    padded = np.pad(brightness, ((1, 1), (0, 0)), "edge")
    tall = 0.75 * brightness + 0.125 * (padded[:-2] + padded[2:])
    brightness = 0.75 * tall + 0.125 * (np.roll(tall, 1, 1) + np.roll(tall, -1, 1))
    brightness = np.maximum(brightness, 1e-3 * brightness.mean() + 1e-12)
    latitude = (np.arange(grid_height) + 0.5) / grid_height * np.pi
    weight = brightness * np.sin(latitude)[:, None]
    along_row = np.concatenate([np.zeros((grid_height, 1)), np.cumsum(weight, 1)], 1)
    over_rows = np.concatenate([[0.0], np.cumsum(along_row[:, -1])])
    over_rows, along_row = over_rows / over_rows[-1], along_row / along_row[:, -1:]
    over_rows, along_row = over_rows.astype(np.float32), along_row.astype(np.float32)
    guides = _guide(over_rows[None])[0], _guide(along_row)
    found = over_rows, along_row, *guides, weight / weight.sum()
    return tuple(np.ascontiguousarray(array, np.float32) for array in found)


def _guide(steps: NDArray[np.float32]) -> NDArray[np.float32]:
    """Where to look in cumulated tables (n, count + 1): the step that holds i / count, each i.

    Whatever lies between i / count and (i + 1) / count is then held by one of few steps
    (Chen and Asau, "On generating random variates from an empirical distribution", 1974).
    """
    count = steps.shape[1] - 1
    marks = np.arange(count + 1, dtype=np.float32) / np.float32(count)
    held = [np.searchsorted(row, marks, "right") - 1 for row in steps]
    return np.minimum(held, count - 1).astype(np.float32)


def dome_tables(pixels: NDArray) -> dict[str, NDArray[np.float32]]:
    """What a dome with this image is seen and sampled by, under the names of `LIGHT`.

    `pixels` is (H, W, C) uint8 or float32, top row first.
    """
    image = np.ascontiguousarray(_linear_image(pixels))
    names = ("rows", "cells", "row_guide", "cell_guide", "chances")
    return {"texels": image, **dict(zip(names, _dome_grid(image), strict=True))}


class Links(NamedTuple):
    """Which items a light falls on, and which cast shadows in it, as bits.

    `reached` and `masks` are (items,), to be asked by a light's `linked` and `shadows`.
    """

    reached: NDArray[np.int32]
    masks: NDArray[np.int64]
    linked: list[int]
    shadows: list[int]


_MOST_LINKS = 28  # different collections; those after them are as the last one


def link(lights: Sequence[Light], seen: Sequence[bool]) -> Links:
    """Give each collection of items that lights ask for a bit.

    Parameters
    ----------
    seen : for each item whether the camera sees it.
    """
    reached = np.zeros(len(seen), np.int32)
    masks = np.where(np.array(seen, bool), CAMERA | OTHER, OTHER).astype(np.int64)
    bits: dict[tuple[str, bytes], int] = {}
    linked, shadows = [], []
    for light in lights:
        found = {"reach": 0, "shadow": OTHER}
        for kind, members, into in (
            ("reach", light.reaches, reached), ("shadow", light.shadowed_by, masks)
        ):  # fmt: skip
            if members is None:
                continue
            new = 1 << min(2 + sum(known[0] == kind for known in bits), _MOST_LINKS)
            bit = found[kind] = bits.setdefault((kind, members.tobytes()), new)
            into[members] |= bit
        linked.append(found["reach"])
        shadows.append(found["shadow"])
    return Links(reached, masks, linked, shadows)


def pack_lights(
    lights: Sequence[Light], images: Mapping[str, NDArray | None], links: Links | None = None,
    glowing: Glow | None = None, groups: NDArray[np.int32] | None = None,
    tables_of: Callable[[NDArray], Mapping[str, NDArray]] = dome_tables,
) -> tuple[NDArray, NDArray[np.float32]]:  # fmt: skip
    """A table of `LIGHT`, and the `domes` it refers to; `images` as in `pack_textures`.

    Parameters
    ----------
    glowing : the surfaces that glow; they are the last light.
    groups : (lights + 1,) bits of each light, and of what glows, see `shares.SharePlan`.
    tables_of : may keep what `dome_tables` returned for an image before.
    """
    links = links or link(lights, ())
    domes: list[NDArray] = [np.zeros(16, np.float32)]  # lanes that aim at no dome read here
    rows_of_table = table(LIGHT, len(lights) + (glowing is not None))
    rows_of_table["diffuse"] = rows_of_table["specular"] = 1.0
    rows_of_table["texels"], rows_of_table["shadows"], rows_of_table["followed"] = -1, OTHER, 1

    if groups is not None:
        rows_of_table["groups"] = groups[: len(rows_of_table)]

    def hold(row: NDArray, name: str, array: NDArray) -> None:
        row[name] = sum(part.size for part in domes)
        domes.append(array.ravel())

    for row, light, linked, shadows in zip(
        rows_of_table, lights, links.linked, links.shadows, strict=False
    ):  # fmt: skip
        row["kind"], row["radiance"] = _KINDS[light.kind], light.radiance
        row["diffuse"], row["specular"] = light.diffuse, light.specular
        # A path that is followed is stopped by what casts no shadow in this light.
        row["linked"], row["shadows"], row["followed"] = linked, shadows, shadows == OTHER
        matrix = np.asarray(light.to_world, float)
        x, y, z, row["position"] = matrix[0, :3], matrix[1, :3], matrix[2, :3], matrix[3, :3]
        if light.kind != "dome":
            row["facing"] = -z / np.linalg.norm(z)
        if light.shaping is not None:
            row["shaped"], row["focus"] = 1, light.shaping.focus
            row["cone"], row["fades_from"] = np.radians((light.shaping.cone, light.shaping.fades_from))
        if light.kind == "dome":
            for name, axis in (("across", x), ("upward", y), ("facing", z)):
                row[name] = axis / np.linalg.norm(axis)
            pixels = images.get(light.texture.file) if light.texture is not None else None
            if pixels is not None:  # without an image it is the same everywhere
                tables = tables_of(pixels)
                row["height"], row["width"] = tables["texels"].shape[:2]
                row["lines"], row["columns"] = tables["chances"].shape
                for name, array in tables.items():
                    hold(row, name, array)
        elif light.kind == "distant":
            half = np.radians(max(light.size[0], _NARROWEST)) / 2
            row["extent"] = 2.0 * np.sin(half / 2) ** 2
        elif light.kind == "sphere":
            volume = abs(np.linalg.det(matrix[:3, :3]))
            row["extent"] = light.size[0] * volume ** (1 / 3)
        elif light.kind == "cylinder":
            row["across"] = x * light.size[1] * 0.5
            row["extent"] = light.size[0] * 0.5 * (np.linalg.norm(y) + np.linalg.norm(z))
        else:
            half = 1.0 if light.kind == "disk" else 0.5
            across, upward = x * light.size[0] * half, y * light.size[1] * half
            row["across"], row["upward"] = across, upward
            shape = np.pi if light.kind == "disk" else 4.0
            row["extent"] = shape * np.linalg.norm(np.cross(across, upward))
            pixels = images.get(light.texture.file) if light.texture is not None else None
            if pixels is not None:
                image = _linear_image(pixels)
                row["height"], row["width"] = image.shape[:2]
                hold(row, "texels", image)
    if glowing is not None:
        row = rows_of_table[-1]
        row["kind"], row["radiance"], row["extent"] = GLOWING, 1.0, glowing.power
        row["position"], row["width"] = glowing.centre, len(glowing.triangles)
        row["columns"] = glowing.steps.size - 1
        hold(row, "rows", glowing.steps)
        hold(row, "row_guide", _guide(glowing.steps[None])[0])
        hold(row, "texels", glowing.triangles)
    return rows_of_table, np.concatenate(domes)


class Glow(NamedTuple):
    """Triangles that glow, in world space.

    `triangles` is (T, 16) float32: three points, three texture coordinates, the material;
    `steps` (T + 1,) float32 their cumulated chances; `power` the sum of area × brightness; `centre`
    their mean place.
    """

    triangles: NDArray[np.float32]
    steps: NDArray[np.float32]
    power: float
    centre: NDArray[np.float64]


def glow_of(points: NDArray, uvs: NDArray, materials: NDArray, brightness: NDArray) -> Glow | None:
    """The light of surfaces that glow; None where nothing does.

    Parameters
    ----------
    points : (T, 3, 3) in world space; uvs : (T, 3, 2); materials : (T,).
    brightness : (T,) of each triangle, all above 0.
    """
    edges = points[:, 1:].astype(float) - points[:, :1]
    area = 0.5 * np.linalg.norm(np.cross(edges[:, 0], edges[:, 1]), axis=-1)
    weight = area * brightness
    good = weight > 0.0
    if not good.any():
        return None
    weight = weight[good]
    packed = np.zeros((len(weight), 16), np.float32)
    packed[:, :9], packed[:, 9:15] = points[good].reshape(-1, 9), uvs[good].reshape(-1, 6)
    packed[:, 15] = materials[good]
    steps = np.concatenate([[0.0], np.cumsum(weight)])
    centre = np.average(points[good].mean(axis=1), axis=0, weights=weight)
    return Glow(packed, (steps / steps[-1]).astype(np.float32), float(steps[-1]), centre)


def _linear_image(pixels: NDArray) -> NDArray[np.float32]:
    if pixels.dtype == np.uint8:
        pixels = srgb_to_linear(pixels / 255.0).astype(np.float32)
    if pixels.shape[2] < 3:
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    # An infinite texel (a badly stored sun) would make every pixel infinite.
    return np.clip(np.nan_to_num(pixels[..., :3], posinf=65504.0), 0.0, None).astype(np.float32)


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
    """The bilinear image at (u, v) times the radiance; lanes without one read nothing of use.

    Across, the image closes upon itself, as a dome's does.
    """
    width, height = where(has_image, light.width, 1), where(has_image, light.height, 1)
    r, t, texels = light.radiance, float32s(domes), where(has_image, light.texels, 0)
    x, y = u * to_floats(width) - 0.5, v * to_floats(height) - 0.5
    left_edge, top_edge = math.floor(x), math.floor(y)
    a, b = x - left_edge, y - top_edge
    left, top = to_ints(left_edge), to_ints(top_edge)
    right, bottom = left + 1, min(top + 1, height - 1)
    left, right = where(left < 0, width - 1, left), where(right >= width, 0, right)
    top = max(top, 0)
    k00, k10 = texels + 3 * (top * width + left), texels + 3 * (top * width + right)
    k01, k11 = texels + 3 * (bottom * width + left), texels + 3 * (bottom * width + right)
    w00, w10, w01, w11 = (1.0 - a) * (1.0 - b), a * (1.0 - b), (1.0 - a) * b, a * b
    return (
        r[0] * (w00 * t[k00] + w10 * t[k10] + w01 * t[k01] + w11 * t[k11]),
        r[1] * (w00 * t[k00 + 1] + w10 * t[k10 + 1] + w01 * t[k01 + 1] + w11 * t[k11 + 1]),
        r[2] * (w00 * t[k00 + 2] + w10 * t[k10 + 2] + w01 * t[k01 + 2] + w11 * t[k11 + 2]),
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


FAR = 3e38


class Aim(NamedTuple):
    """A direction towards a light; the density is 0 where the light cannot reach."""

    direction: Any
    distance: Any
    radiance: Any
    density: Any


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
    """A point on what glows: (point, normal not of unit length, u, v, material)."""
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
    return point, normal, u, v, to_ints(row[15])


@inner
def sample_light(scene, room, light, active, point, s, t):
    """Directions from points towards a light of each lane, as an `Aim`.

    `room` is the address of `MATERIAL_ROOM` floats.
    """
    domes = scene.domes
    kind = light.kind
    direction = (0.0 * s, 0.0 * s, 0.0 * s + 1.0)
    radiance = light.radiance
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
        place, normal, u, v, material = _glowing_triangle(light, domes, glows, s, t)
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
    return Aim(direction, distance, radiance, density)


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


@inner
def meet_light(light, domes, active, origin, direction, t_near, t_far):
    """What rays meet of a light between two distances: (radiance, density of sampling it)."""
    kind = light.kind
    radiance, density = light.radiance, 0.0 * t_far
    away = active & (t_far >= FAR)
    is_dome = away & (kind == DOME)
    if any_of(is_dome):
        radiance, density = _dome_seen(light, domes, is_dome, direction)
    far = away & (kind == DISTANT)
    if any_of(far):
        # `facing` is where the light goes; a ray that meets it goes the other way.
        off_axis = add(direction, light.facing)
        met = far & (dot(off_axis, off_axis) <= 2.0 * light.extent)  # |off|² = 2 (1 − cos)
        density = where(met, 0.5 / (math.pi * light.extent), density)
    is_sphere = active & (kind == SPHERE)
    if any_of(is_sphere):
        to_centre, squared, narrow = _cone(light, origin)
        middle, chord = _into_sphere(light, to_centre, direction)
        outside = squared > light.extent * light.extent
        t = middle - math.sqrt(max(chord, 0.0))
        met = is_sphere & outside & (middle > 0.0) & (chord >= 0.0) & (t > t_near) & (t <= t_far)
        density = where(met, 0.5 / (math.pi * narrow), density)
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
    if any_of(active & (light.shaped == 1)):
        radiance = scale(radiance, _shaped(light, negative(direction)))
    return radiance, where(light.followed == 1, density, 0.0)


@inner
def light_reach(light, point):
    """A guess at what a light sends to points, unshadowed; only steers which one is sampled."""
    r = light.radiance
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
    return (r[0] + r[1] + r[2]) * angle
