"""The table of lights that kernels walk: what a snapshot says of them, the chances a sky's directions
and glowing triangles are drawn by, and whom each light reaches.

How light comes from them is in `light_sampling`.  All surfaces that glow are one light, a table of their
triangles; a triangle is drawn by its area and its brightness.  A dome is sampled by its brightness:
its image, averaged to a grid of at most 256×128 and smoothed as it is when it is read, gives rows and
columns their probabilities.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Light, Matrix
from grandlattice.tables.light_kinds import LIGHT_KINDS
from grandlattice.tracer.company import Company
from grandlattice.tracer.embree import CAMERA, OTHER
from grandlattice.tracer.kernel_memory import records, table
from grandlattice.tracer.mipmaps import srgb_to_linear

DOME, DISTANT, RECT, DISK, SPHERE, CYLINDER = (
    LIGHT_KINDS[name].number for name in ("dome", "distant", "rect", "disk", "sphere", "cylinder")
)
GLOWING = len(LIGHT_KINDS)
NO_KIND = GLOWING + 1
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
        ("power", "f4"),  # sum of its radiance over the channels; on average where lightings differ in it
        # Where lightings are traced together: in how many ways the lamp stands, the row of the second of
        # them, and the bits of the sights in which this one does, see `company`.
        ("versions", "i4"), ("others", "i4"), ("in_sight", "i4"),
        # Of a sky that is turned in several ways: how many cells of its grid hold its sun, where their
        # cumulated chances, their numbers and the chances of all cells begin in `domes`; where the sun is,
        # and the cosine of its radius.  The grid of the first version is that of a mixture of all, without
        # the sun.  Where all turn about one pole: by what share of a circle, from the first.
        ("turned", "i4"), ("sun_count", "i4"), ("sun_steps", "i4"), ("sun_cells", "i4"),
        ("sun_chances", "i4"), ("sun_axis", "f4", (3,)), ("sun_cosine", "f4"),
        ("one_pole", "i4"), ("turn", "f4"),
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
    return _grid_of(brightness)


def _grid_of(brightness: NDArray[np.float64]) -> tuple[NDArray[np.float32], ...]:
    """The tables of `_dome_grid` from the brightness of cells."""
    grid_height = len(brightness)
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
    mean = np.array(_mean_of_sky(image), np.float32)
    return {"mean": mean, "texels": _closed(image), **dict(zip(_GRID, _dome_grid(image), strict=True))}


_GRID = ("rows", "cells", "row_guide", "cell_guide", "chances")  # in the order of `_dome_grid`


_BRIGHT = 30.0  # times as bright as the sky on average are cells of a sun
_WIDEST_SUN = 8.0  # degrees from its middle
_LEAST_OF_SUN = 0.03  # of the light of the sky, at least: a fainter one is not worth rays of its own


def turned_sky_tables(pixels: NDArray) -> dict[str, NDArray[np.float32]]:
    """What a sky that is turned in several ways is seen by, and its sun drawn by, under the names of `LIGHT`.

    The sun is all that lies within some angle of the middle of its brightest cells; it is drawn apart from
    the rest of the sky, since a direction in the rest serves all ways the sky is turned, and one in the sun
    only its own.  `rest` is the brightness of cells without the sun, for `mixture_tables`.
    """
    tables = dome_tables(pixels)
    chances = tables["chances"].astype(np.float64)
    height, width = chances.shape
    towards = _cell_directions(height, width)
    area = np.sin((np.arange(height) + 0.5) / height * np.pi)[:, None]
    brightness = chances / area
    bright = brightness > _BRIGHT * np.average(brightness.mean(axis=1), weights=area[:, 0])
    middle = (towards * (chances * bright)[..., None]).sum(axis=(0, 1))
    length = float(np.linalg.norm(middle))
    axis, cosine, sun = np.array([0.0, 1.0, 0.0]), 2.0, np.zeros_like(bright)
    if length > 0.0:
        axis = middle / length
        beside = towards @ axis
        cell = math.pi / min(height, width // 2)
        widest = math.acos(np.clip(beside[bright].min(), -1.0, 1.0)) + cell
        if math.degrees(widest) <= _WIDEST_SUN and chances[beside > math.cos(widest)].sum() > _LEAST_OF_SUN:
            cosine, sun = math.cos(widest), beside > math.cos(widest + 1.5 * cell)
    of_sun = np.where(sun, chances, 0.0) / max(chances[sun].sum(), 1e-300)
    kept = {name: tables[name] for name in ("mean", "texels")}
    found = {
        "sun_steps": np.concatenate([[0.0], np.cumsum(of_sun[sun])]), "sun_cells": np.flatnonzero(sun),
        "sun_chances": of_sun, "sun_axis": axis, "sun_cosine": np.array(cosine),
        "rest": np.where(_in_sun(towards, axis, cosine), 0.0, brightness),
    }  # fmt: skip
    return kept | {name: np.ascontiguousarray(array, np.float32) for name, array in found.items()}


def _in_sun(towards: NDArray, axis: NDArray, cosine: float) -> NDArray[np.bool_]:
    """Which directions lie in the sun."""
    return np.asarray(towards @ axis > cosine)


def _cell_directions(height: int, width: int) -> NDArray[np.float64]:
    """(H, W, 3) the middle of each cell of a sky, in the sky's own axes; see `light_sampling`."""
    v = (np.arange(height)[:, None] + 0.5) / height * np.pi
    turn = (0.5 - (np.arange(width) + 0.5) / width) * 2.0 * np.pi
    return np.stack(
        [np.sin(v) * np.sin(turn), np.cos(v) + 0.0 * turn, np.sin(v) * np.cos(turn)], axis=-1
    )  # fmt: skip


def mixture_tables(
    rest: Sequence[NDArray], axes: NDArray, weights: NDArray
) -> dict[str, NDArray[np.float32]]:  # fmt: skip
    """What directions are drawn by that serve a sky in all the ways it is turned, in the axes of the first.

    Parameters
    ----------
    rest : for each way the (H, W) brightness of its cells.
    axes : (N, 3, 3) the axes of each way, in rows.
    weights : (N,) how bright each way is.
    """
    height, width = rest[0].shape
    towards = _cell_directions(height, width) @ axes[0]
    whole = np.zeros((height, width))
    for image, own, weight in zip(rest, axes, weights, strict=True):
        x, y, z = np.moveaxis(towards @ own.T, -1, 0)
        column = ((0.5 - np.arctan2(x, z) / (2.0 * np.pi)) * width).astype(int) % width
        line = np.minimum((np.arccos(np.clip(y, -1.0, 1.0)) / np.pi * height).astype(int), height - 1)
        whole += weight * image[line, column]
    return dict(zip(_GRID, _grid_of(whole), strict=True))


def rect_tables(pixels: NDArray) -> dict[str, NDArray[np.float32]]:
    """What a rect with this image is seen by, under the names of `LIGHT`; `pixels` as in `dome_tables`."""
    image = _linear_image(pixels)
    return {"mean": np.array((image @ _LUMA).mean(), np.float32), "texels": _closed(image)}


def _closed(image: NDArray[np.float32]) -> NDArray[np.float32]:
    """An image whose first column stands behind its last one, too."""
    return np.concatenate([image, image[:, :1]], axis=1)


TURNED = "turned sky"
TABLES: Mapping[str, Callable[[NDArray], Tables]] = {
    "dome": dome_tables, "rect": rect_tables, TURNED: turned_sky_tables,
}  # fmt: skip
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
    tables_of: Callable[[str, NDArray], Tables] = tables_of, company: Company | None = None,
) -> tuple[NDArray, NDArray[np.float32]]:  # fmt: skip
    """A table of `LIGHT`, and the `domes` it refers to; `images` as in `pack_textures`.

    Behind the lights stand the places of those that move, see `LIGHT_STEPS`.

    Parameters
    ----------
    glowing : the surfaces that glow; they are the last lamp.
    groups, glow_groups : (lights,) and (items,) bits of the light passes they count for, see
        `light_passes.SharePlan`.
    tables_of : may keep what it returned for an image before.
    company : the lights are its versions; the row of what glows stands behind those of its lamps, whether
        anything does or not.
    """
    links = links or link(lights, ())
    domes: list[NDArray] = [np.zeros(16, np.float32)]  # lanes that aim at no dome read here
    gap = glowing is not None or company is not None
    lamps = len(lights) if company is None else company.lamp_count
    rows_of_table = table(LIGHT, len(lights) + gap)
    rows_of_table["diffuse"] = rows_of_table["specular"] = rows_of_table["mean"] = 1.0
    rows_of_table["texels"], rows_of_table["shadows"], rows_of_table["followed"] = -1, OTHER, 1
    rows_of_table["track"], rows_of_table["kind"][lamps:] = -1, NO_KIND
    rows_of_table["versions"], rows_of_table["others"] = 1, -1
    row_of = rows_of(len(lights), lamps, gap=gap)
    if groups is not None:
        rows_of_table["groups"][row_of[: len(groups)]] = groups
    held: dict[tuple[int, str], tuple[int, NDArray]] = {}  # where tables stand that several lights have

    def hold(row: NDArray, name: str, array: NDArray) -> None:
        key = (id(array), name)
        if key not in held:
            held[key] = sum(part.size for part in domes), array
            domes.append(array.ravel())
        row[name] = held[key][0]

    turned = frozenset[int]() if company is None else company.turned_skies
    rest: dict[int, NDArray] = {}  # of turned skies, by row
    for k, (light, linked, shadows) in enumerate(zip(lights, links.linked, links.shadows, strict=False)):
        row = rows_of_table[row_of[k] : row_of[k] + 1][0]
        is_turned = company is not None and company.versions[k].lamp in turned
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
            tables = tables_of(TURNED if is_turned else light.kind, pixels)
            row["turned"] = is_turned
            row["height"], row["width"] = tables["texels"].shape[0], tables["texels"].shape[1] - 1
            row["mean"] = tables["mean"]
            if "chances" in tables:
                row["lines"], row["columns"] = tables["chances"].shape
            if is_turned:
                row["lines"], row["columns"] = tables["rest"].shape
                row["sun_count"], row["sun_cosine"] = len(tables["sun_cells"]), tables["sun_cosine"].item()
                axes = np.stack([row["across"], row["upward"], row["facing"]])
                row["sun_axis"] = tables["sun_axis"] @ axes
                rest[int(row_of[k])] = tables["rest"]
            for name, array in tables.items():
                if name not in ("mean", "rest", "sun_axis", "sun_cosine"):
                    hold(row, name, array)
    if glowing is not None:
        row = rows_of_table[lamps]
        row["kind"], row["radiance"], row["extent"] = GLOWING, 1.0, glowing.power
        row["position"], row["width"] = glowing.centre, len(glowing.triangles)
        row["columns"] = glowing.steps.size - 1
        hold(row, "rows", glowing.steps)
        hold(row, "row_guide", _guide(glowing.steps[None])[0])
        hold(row, "texels", glowing.triangles)
        if glow_groups is not None:
            hold(row, "cells", glow_groups[glowing.items].view(np.float32))
    r, g, b = rows_of_table["radiance"].T
    rows_of_table["power"] = r + g + b
    if company is not None:
        _note_versions(rows_of_table, company, row_of)
    for lamp in sorted(turned & {row for row in rest if row < lamps}):
        for name, array in _turned_together(rows_of_table, lamp, rest).items():
            hold(rows_of_table[lamp], name, array)
    domes.append(np.zeros(16, np.float32))  # rows are read whole
    return _with_tracks(rows_of_table, lights, row_of), np.concatenate(domes)


def rows_of(lights: int, lamps: int, *, gap: bool) -> NDArray[np.int64]:
    """Rows of lights in the table; with a `gap` one row behind the lamps is for what glows."""
    rows = np.arange(lights)
    return np.where(rows >= lamps, rows + gap, rows)


def _note_versions(rows: NDArray, company: Company, row_of: NDArray[np.int64]) -> None:
    """Write how many ways each lamp stands in, where they are, and what each sends out on average."""
    lamp_of = np.array([version.lamp for version in company.versions], np.int64)
    counts = np.bincount(lamp_of, minlength=company.lamp_count)
    rows["power"][row_of] = [version.power for version in company.versions]
    rows["in_sight"][row_of] = company.in_sight
    far = np.isin(rows["kind"], (DOME, DISTANT))
    for lamp in np.flatnonzero(counts > 1):
        every = row_of[lamp_of == lamp]
        rows["versions"][lamp], rows["others"][lamp] = counts[lamp], every[1]
        rows["versions"][every] = counts[lamp]
        if far[every].all() and len(set(rows["kind"][every])) == 1 and rows["mean"][lamp] > 0.0:
            # Far lights send as much everywhere: the first speaks for all.
            sent = rows["power"][every].astype(np.float64) * rows["mean"][every]
            rows["power"][every] = 0.0
            rows["power"][lamp] = sent.sum() / rows["mean"][lamp]


def _turned_together(rows: NDArray, lamp: int, rest: Mapping[int, NDArray]) -> Tables:
    """Note how the ways a sky is turned stand to each other; what directions in all of them are drawn by."""
    count, others = int(rows["versions"][lamp]), int(rows["others"][lamp])
    every = [lamp, *range(others, others + count - 1)]
    axes = np.stack([rows["across"][every], rows["upward"][every], rows["facing"][every]], axis=1)
    axes = axes.astype(np.float64)
    if np.abs(axes[:, 1] - axes[0, 1]).max() < 1e-6 and _same_hand(axes):
        rows["one_pole"][every] = 1
        ahead = axes[:, 2]
        turns = np.arctan2(ahead @ axes[0, 0], ahead @ axes[0, 2]) / (2.0 * np.pi)
        rows["turn"][every] = turns % 1.0
    sent = rows["radiance"][every].astype(np.float64).sum(axis=1)
    return mixture_tables([rest[row] for row in every], axes, sent)


def _same_hand(axes: NDArray) -> bool:
    """Whether all axes (N, 3, 3) are right-angled and of the same hand."""
    hand = np.linalg.det(axes)
    return bool((np.abs(np.abs(hand) - 1.0) < 1e-5).all() and (np.sign(hand) == np.sign(hand[0])).all())


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


def _with_tracks(rows: NDArray, lights: Sequence[Light], row_of: NDArray[np.int64]) -> NDArray:
    """A table with rows behind it for each place of the lights that move; `row_of` has those of lights."""
    moving = [k for k, light in enumerate(lights) if light.track is not None]
    if not moving:
        return rows
    made = table(LIGHT, len(rows) + LIGHT_STEPS * len(moving))
    for n, k in enumerate(moving):
        first = len(rows) + LIGHT_STEPS * n
        own = row_of[k]
        rows[own]["track"] = first
        track = np.asarray(lights[k].track, float)
        for step in range(LIGHT_STEPS):
            place = (step + 0.5) / LIGHT_STEPS * (len(track) - 1)
            before, part = int(place), place - int(place)
            made[first + step] = rows[own]
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
