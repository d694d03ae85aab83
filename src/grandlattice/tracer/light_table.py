"""The table of lights that kernels walk: what a snapshot says of them, the chances a sky's directions
and glowing triangles are drawn by, and whom each light reaches.

How light comes from them is in `light_sampling`.  All surfaces that glow are one light, a table of their
triangles; a triangle is drawn by its area and its brightness.  A dome is sampled by its brightness:
its image, averaged to a grid of at most 256×128 and smoothed as it is when it is read, gives rows and
columns their probabilities.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Light, Matrix
from grandlattice.tables.light_kinds import LIGHT_KINDS
from grandlattice.tracer.embree import CAMERA, OTHER
from grandlattice.tracer.kernel_memory import records, table
from grandlattice.tracer.mipmaps import srgb_to_linear

DOME, DISTANT, RECT, DISK, SPHERE, CYLINDER = (
    LIGHT_KINDS[name].number for name in ("dome", "distant", "rect", "disk", "sphere", "cylinder")
)
GLOWING = len(LIGHT_KINDS)
_LUMA = np.array([0.2126, 0.7152, 0.0722])
HELD_OUT = 2
_NARROWEST = 0.01  # degrees; a distant light of no width still has to be sampled


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
        ("mean", "f4"),  # brightness of its image on the whole; 1 without one
        # Off its axis `facing`: cos θ to the power of `focus`, fading from `fades_from` to `cone`.
        ("shaped", "i4"), ("focus", "f4"), ("fades_from", "f4"), ("cone", "f4"),
        ("groups", "i4"),  # bits of the light passes it counts for
        ("linked", "i4"),  # the bit of what it reaches; 0 where that is everything
        ("shadows", "i4"),  # who blocks it: a mask for rays
        ("followed", "i4"),  # whether a path that meets it counts
        ("seen", "i4"),  # whether the camera sees its shape, and `HELD_OUT` where that hides without a light
        ("track", "i4"),  # the row of its first place while the shutter is open; −1 where it stands still
        ("width", "i4"), ("height", "i4"),  # the image of a dome or rect; how many triangles glow
        ("columns", "i4"), ("lines", "i4"),  # the grid it is sampled by
        # Where in the scene's `domes`, for what glows in place of the cells the bits of each triangle, …
        ("texels", "i4"),  # … the image's RGB begins, (height, width + 1), or −1; the triangles that glow,
        ("rows", "i4"),  # the cumulated chances of the grid's lines, lines + 1,
        ("cells", "i4"),  # those along each line, columns + 1 for each,
        ("row_guide", "i4"), ("cell_guide", "i4"),  # guides to both, see `_guide`,
        ("chances", "i4"),  # and the chance of each cell, lines × columns
    ],
    align=True,
)  # fmt: skip

light_at = records(LIGHT)

Tables = Mapping[str, NDArray]


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
    image = _linear_image(pixels)
    names = ("rows", "cells", "row_guide", "cell_guide", "chances")
    mean = np.array(_mean_of_sky(image), np.float32)
    return {"mean": mean, "texels": _closed(image), **dict(zip(names, _dome_grid(image), strict=True))}


def rect_tables(pixels: NDArray) -> dict[str, NDArray[np.float32]]:
    """What a rect with this image is seen by, under the names of `LIGHT`; `pixels` as in `dome_tables`."""
    image = _linear_image(pixels)
    return {"mean": np.array((image @ _LUMA).mean(), np.float32), "texels": _closed(image)}


def _closed(image: NDArray[np.float32]) -> NDArray[np.float32]:
    """An image whose first column stands behind its last one, too."""
    return np.concatenate([image, image[:, :1]], axis=1)


TABLES: Mapping[str, Callable[[NDArray], Tables]] = {"dome": dome_tables, "rect": rect_tables}
"""Kinds of lights that may have an image → what is worked out of it."""


def tables_of(kind: str, pixels: NDArray) -> Tables:
    """What is worked out of the image of a light."""
    return TABLES[kind](pixels)


def _mean_of_sky(texels: NDArray[np.float32]) -> float:
    """Brightness of a sky's image, on average over all directions."""
    latitude = (np.arange(len(texels)) + 0.5) / len(texels) * np.pi
    return float(np.average((texels @ _LUMA).mean(axis=1), weights=np.sin(latitude)))


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
    glow_groups: NDArray[np.int32] | None = None,
    tables_of: Callable[[str, NDArray], Tables] = tables_of,
) -> tuple[NDArray, NDArray[np.float32]]:  # fmt: skip
    """A table of `LIGHT`, and the `domes` it refers to; `images` as in `pack_textures`.

    Behind the lights stand the places of those that move, see `LIGHT_STEPS`.

    Parameters
    ----------
    glowing : the surfaces that glow; they are the last light.
    groups, glow_groups : (lights,) and (items,) bits of the light passes they count for, see
        `light_passes.SharePlan`.
    tables_of : may keep what it returned for an image before.
    """
    links = links or link(lights, ())
    domes: list[NDArray] = [np.zeros(16, np.float32)]  # lanes that aim at no dome read here
    rows_of_table = table(LIGHT, len(lights) + (glowing is not None))
    rows_of_table["diffuse"] = rows_of_table["specular"] = rows_of_table["mean"] = 1.0
    rows_of_table["texels"], rows_of_table["shadows"], rows_of_table["followed"] = -1, OTHER, 1
    rows_of_table["track"] = -1
    if groups is not None:
        rows_of_table["groups"][: len(groups)] = groups

    def hold(row: NDArray, name: str, array: NDArray) -> None:
        row[name] = sum(part.size for part in domes)
        domes.append(array.ravel())

    for row, light, linked, shadows in zip(
        rows_of_table, lights, links.linked, links.shadows, strict=False
    ):  # fmt: skip
        row["kind"], row["radiance"] = LIGHT_KINDS[light.kind].number, light.radiance
        row["diffuse"], row["specular"] = light.diffuse, light.specular
        # A path that is followed is stopped by what casts no shadow in this light.
        row["linked"], row["shadows"], row["followed"] = linked, shadows, shadows == OTHER
        row["seen"] = _seen(light)
        _stand(row, light, light.to_world)
        if light.shaping is not None:
            row["shaped"], row["focus"] = 1, light.shaping.focus
            row["cone"], row["fades_from"] = np.radians((light.shaping.cone, light.shaping.fades_from))
        pixels = images.get(light.texture.file) if light.texture is not None else None
        if pixels is not None and light.kind in TABLES:  # without an image it is the same everywhere
            tables = tables_of(light.kind, pixels)
            row["height"], row["width"] = tables["texels"].shape[0], tables["texels"].shape[1] - 1
            row["mean"] = tables["mean"]
            if "chances" in tables:
                row["lines"], row["columns"] = tables["chances"].shape
            for name, array in tables.items():
                if name != "mean":
                    hold(row, name, array)
    if glowing is not None:
        row = rows_of_table[-1]
        row["kind"], row["radiance"], row["extent"] = GLOWING, 1.0, glowing.power
        row["position"], row["width"] = glowing.centre, len(glowing.triangles)
        row["columns"] = glowing.steps.size - 1
        hold(row, "rows", glowing.steps)
        hold(row, "row_guide", _guide(glowing.steps[None])[0])
        hold(row, "texels", glowing.triangles)
        if glow_groups is not None:
            hold(row, "cells", glow_groups[glowing.items].view(np.float32))
    domes.append(np.zeros(16, np.float32))  # rows are read whole
    return _with_tracks(rows_of_table, lights), np.concatenate(domes)


def _seen(light: Light) -> int:
    """Whether the camera sees a light's shape; a dome is its background, a ray of no width has none."""
    if not light.seen or light.kind == "dome" or (light.kind == "distant" and light.size[0] <= 0.0):
        return 0
    return HELD_OUT if light.matte else 1


def _stand(row: NDArray, light: Light, to_world: Matrix) -> None:
    """Write where a light is, how it is turned and how large it is then."""
    matrix = np.asarray(to_world, float)
    x, y, z, row["position"] = matrix[0, :3], matrix[1, :3], matrix[2, :3], matrix[3, :3]
    if light.kind == "dome":
        for name, axis in (("across", x), ("upward", y), ("facing", z)):
            row[name] = axis / np.linalg.norm(axis)
        return
    row["facing"] = -z / np.linalg.norm(z)
    if light.kind == "distant":
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


LIGHT_STEPS = 32
"""Places a light that moves has while the shutter is open."""


def _with_tracks(rows: NDArray, lights: Sequence[Light]) -> NDArray:
    """A table with rows behind it for each place of the lights that move."""
    moving = [k for k, light in enumerate(lights) if light.track is not None]
    if not moving:
        return rows
    made = table(LIGHT, len(rows) + LIGHT_STEPS * len(moving))
    for n, k in enumerate(moving):
        first = len(rows) + LIGHT_STEPS * n
        rows[k]["track"] = first
        track = np.asarray(lights[k].track, float)
        for step in range(LIGHT_STEPS):
            place = (step + 0.5) / LIGHT_STEPS * (len(track) - 1)
            before, part = int(place), place - int(place)
            made[first + step] = rows[k]
            at = track[before] * (1.0 - part) + track[before + 1] * part
            _stand(made[first + step], lights[k], at)
    made[: len(rows)] = rows
    return made


class Glow(NamedTuple):
    """Triangles that glow, in world space.

    `triangles` is (T, 16) float32: three points, three texture coordinates, the material;
    `steps` (T + 1,) float32 their cumulated chances; `power` the sum of area × brightness; `centre`
    their mean place; `items` (T,) int32 the item each is of.
    """

    triangles: NDArray[np.float32]
    steps: NDArray[np.float32]
    power: float
    centre: NDArray[np.float64]
    items: NDArray[np.int32]


def glow_of(
    points: NDArray, uvs: NDArray, materials: NDArray, brightness: NDArray, items: NDArray
) -> Glow | None:
    """The light of surfaces that glow; None where nothing does.

    Parameters
    ----------
    points : (T, 3, 3) in world space; uvs : (T, 3, 2); materials : (T,).
    brightness : (T,) of each triangle, all above 0.
    items : (T,) the item of each.
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
    return Glow(packed, (steps / steps[-1]).astype(np.float32), float(steps[-1]), centre, items[good])


def _linear_image(pixels: NDArray) -> NDArray[np.float32]:
    if pixels.dtype == np.uint8:
        pixels = srgb_to_linear(pixels / 255.0).astype(np.float32)
    if pixels.shape[2] < 3:
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    # An infinite texel (a badly stored sun) would make every pixel infinite.
    return np.clip(np.nan_to_num(pixels[..., :3], posinf=65504.0), 0.0, None).astype(np.float32)
