"""The table of lights that kernels walk: what a snapshot says of them, the chances glowing triangles are
drawn by, and what each light reaches.

How light comes from them is in `light_sampling`, the tables of their images in `light_images`.  All surfaces
that glow are one light, a table of their triangles; a triangle is drawn by its area and its brightness.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Light, Matrix
from grandlattice.tables.light_kinds import LIGHT_KINDS
from grandlattice.tracer.company import Company
from grandlattice.tracer.embree import CAMERA, OTHER
from grandlattice.tracer.kernel_memory import records, table
from grandlattice.tracer.light_images import TABLES, TURNED, Tables, guide_to, mixture_tables, tables_of

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
        ("row_guide", "i4"), ("cell_guide", "i4"),  # guides to both, see `guide_to`,
        ("chances", "i4"),  # and the chance of each cell, lines × columns
    ],
    align=True,
)  # fmt: skip

light_at = records(LIGHT)


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
        hold(row, "row_guide", guide_to(glowing.steps[None])[0])
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
    axes, turns = axes.astype(np.float64), None
    if np.abs(axes[:, 1] - axes[0, 1]).max() < 1e-6 and _same_hand(axes):
        rows["one_pole"][every] = 1
        ahead = axes[:, 2]
        turns = np.arctan2(ahead @ axes[0, 0], ahead @ axes[0, 2]) / (2.0 * np.pi) % 1.0
        rows["turn"][every] = turns
    sent = rows["radiance"][every].astype(np.float64).sum(axis=1)
    return mixture_tables([rest[row] for row in every], axes, sent, turns)


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
