"""From a `Snapshot` to the flat arrays the kernel walks, and the Embree scene beside them.

Whatever did not change since the last snapshot is kept: a change of lights or materials alone
never touches triangles.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Geometry, Item, Light, Material, Snapshot, Texture, TextureInput
from grandlattice.tracer import embree
from grandlattice.tracer.company import Company
from grandlattice.tracer.kernel_memory import Pinned
from grandlattice.tracer.light_images import TABLES, TURNED, Tables, tables_of
from grandlattice.tracer.light_table import LIGHT_STEPS, Glow, Links, glow_of, link, pack_lights
from grandlattice.tracer.material_table import brightness_of, is_clear, pack_materials
from grandlattice.tracer.scattering import albedo_tables
from grandlattice.tracer.sky_steps import Turns, steps_of
from grandlattice.tracer.texture_lookup import Sizes, decode_table, pack_textures
from grandlattice.tracer.triangles import Standing, Triangles
from grandlattice.tracer.turned_sky import TurnedSkies
from grandlattice.tracer.vertices import (
    CATCHES,
    MATTE,
    SCENE,
    pack_turns,
)


@dataclass(frozen=True, eq=False)
class TraceScene:
    """A scene ready to be traced; `scene.record` is what the kernel takes.

    `bounds` are the least and the greatest corner of everything, (2, 3).  `held` keeps alive what
    the record points at.
    """

    scene: Pinned
    bounds: NDArray[np.float64]
    held: object
    skies: TurnedSkies | None = None


def _held_out(item: Item) -> int:
    return CATCHES if item.catches else MATTE if item.matte else 0


Images = Mapping[str, "NDArray | None"]
_MOST_LIGHT_IMAGES = 12


def textures_of(materials: Iterable[Material]) -> tuple[Texture, ...]:
    """The textures that materials read, each once, in a stable order."""
    found: dict[Texture, None] = {}
    for material in materials:
        for name in sorted(material.inputs):
            given = material.inputs[name]
            if isinstance(given, TextureInput):
                found.setdefault(given.texture)
    return tuple(found)


def image_files(materials: Iterable[Material], lights: Iterable[Light] = ()) -> dict[str, Texture]:
    """Every image file that materials and lights need, with a texture that asks for it."""
    needed = {file: texture for texture in textures_of(materials) for file in texture.files}
    for light in lights:
        if light.texture is not None:
            needed.setdefault(light.texture.file, light.texture)
    return needed


class _Placed(NamedTuple):
    """All triangles, and Embree's own view of them.

    `item` is the item of each placement, `bounds` the corners of everything; `winding` is −1 where
    triangles run the other way round than in their geometry.
    """

    rays: embree.RayScene
    item: NDArray[np.int64]
    winding: NDArray[np.int32]
    steps: int  # while the shutter is open
    bounds: NDArray[np.float64]
    arrays: dict[str, NDArray]  # fields of SCENE
    triangles: Triangles


class SceneBuilder:
    """Builds scenes for the kernel, keeping the parts that stay the same from one to the next."""

    def __init__(self, threads: int = 1) -> None:
        self._threads = threads
        self._sizes: Sizes = {}
        self._items: tuple[tuple[object, ...], ...] = ()
        self._placed: _Placed | None = None
        self._looks: tuple[object, ...] = ()
        self._packed: tuple[NDArray, NDArray, list[NDArray]] | None = None
        self._triangles: Triangles | None = None
        self._glowing: tuple[object, Glow | None] = ((), None)
        self._closed: dict[int, tuple[Geometry, int]] = {}
        self._light_images: dict[tuple[str, int], tuple[NDArray, Tables]] = {}
        self._sorted: tuple[NDArray, int, NDArray] | None = None

    def place(self, snapshot: Snapshot, images: Images) -> NDArray[np.float64]:
        """Have shapes and looks of a snapshot ready; returns the corners of everything, (2, 3).

        `images` as in `texture_lookup.pack_textures`.
        """
        with ThreadPoolExecutor(1) as aside:  # each of the two leaves processors idle
            packing = aside.submit(self._pack, snapshot, images)
            _, placed, _, _ = self._stand(snapshot)
            packing.result()
        return placed.bounds

    def build(
        self, snapshot: Snapshot, images: Images, groups: NDArray[np.int32] | None = None,
        glow_groups: NDArray[np.int32] | None = None, company: Company | None = None,
    ) -> TraceScene:  # fmt: skip
        """A scene for `snapshot`.

        Parameters
        ----------
        images : as in `texture_lookup.pack_textures`.
        groups, glow_groups : (lights,) and (items,) bits of the light passes they count for, see
            `light_passes.SharePlan`; None for none.
        company : of lightings that are traced together; the snapshot's lights are its versions.
        """
        items, placed, links, solid = self._stand(snapshot)
        held_out = np.array([_held_out(item) for item in items], np.int32)
        uses = [len(item.materials) for item in items]
        looks = np.array(np.cumsum(uses) - uses, np.int32)
        standing = _standing(snapshot)
        if glow_groups is None:
            glow_groups = np.zeros(len(standing), np.int32)
        materials, texture_rows, pixels = self._pack(snapshot, images)
        brightness = np.array([brightness_of(m, images) for m in snapshot.materials] or [0.0], np.float32)
        by_second = np.array([_glows_by_second(m) for m in snapshot.materials] or [False], bool)
        glowing = self._glow(items, brightness, by_second)
        if glowing is None:
            brightness[:] = 0.0
        lights, domes = pack_lights(
            snapshot.lights, images, links, glowing, groups, glow_groups[standing], self._light_tables,
            company,
        )  # fmt: skip
        lamps = len(snapshot.lights) if company is None else company.lamp_count
        skies = None if company is None else self._turned_skies(company, lights, images)
        textured, triangles = bool(textures_of(snapshot.materials)), placed.triangles
        scene = Pinned(
            SCENE,
            densities=triangles.densities if textured else 0,
            more_densities=triangles.more_densities if textured and triangles.more_uvs is not None else 0,
            opaque=placed.rays.opaque,
            clear=placed.rays.clear,
            steps=placed.steps,
            **placed.arrays,
            held_out=held_out[placed.item] if held_out.any() else 0,
            solid=_or_nought(solid[placed.item] * placed.winding) if solid.any() else 0,
            item=_or_nought(np.flatnonzero(standing)[placed.item].astype(np.int32)),
            looks=_or_nought(looks[placed.item]),
            materials_of=np.array([m for item in items for m in item.materials] or [0], np.int32),
            materials=materials,
            tables=albedo_tables(),
            textures=texture_rows,
            decode=decode_table(),
            lights=lights,
            light_count=lamps + (glowing is not None),
            row_count=len(snapshot.lights) + (glowing is not None or company is not None),
            light_steps=LIGHT_STEPS if any(light.track is not None for light in snapshot.lights) else 0,
            domes=domes,
            reached=links.reached[standing][placed.item] if links.reached.any() else 0,
            brightness=brightness,
            glows=glowing is not None,
            glow_groups=_or_nought(glow_groups[standing][placed.item]),
        )
        return TraceScene(scene, placed.bounds, (placed, pixels), skies)

    def _turned_skies(self, company: Company, lights: NDArray, images: Images) -> TurnedSkies:
        """The skies that are turned about their poles."""
        found = {}
        for lamp in sorted(company.turned_skies):
            texture = company.versions[lamp].light.texture
            pixels = images.get(texture.file) if texture is not None else None
            if pixels is not None and lights["one_pole"][lamp]:
                found[lamp] = np.asarray(self._light_tables(TURNED, pixels)["texels"])
        return TurnedSkies(company, lights, found, self._steps)

    def _steps(self, turns: Turns, image: NDArray[np.float32]) -> NDArray[np.float32]:
        """The image of a turned sky sorted by steps, kept for the next scene."""
        known = self._sorted
        if known is None or known[0] is not image or known[1] != turns.parts:
            known = self._sorted = image, turns.parts, steps_of(turns, image)
        return known[2]

    def _pack(self, snapshot: Snapshot, images: Images) -> tuple[NDArray, NDArray, list[NDArray]]:
        """Tables of materials and textures, and the pixels these point at; those of lights are ready."""
        for light in snapshot.lights:
            image = images.get(light.texture.file) if light.texture is not None else None
            if image is not None and light.kind in TABLES:
                self._light_tables(light.kind, image)
        textures = textures_of(snapshot.materials)
        seen = (
            snapshot.materials, textures, tuple(id(images.get(file)) for t in textures for file in t.files)
        )  # fmt: skip
        if self._packed is None or seen != self._looks:
            rows, pixels = pack_textures(textures, images, self._sizes, self._threads)
            self._packed = pack_materials(snapshot.materials, textures), rows, pixels
            self._looks = seen
        return self._packed

    def _stand(self, snapshot: Snapshot) -> tuple[list[Item], _Placed, Links, NDArray[np.int32]]:
        """What stands there, whom lights reach, and which glass is solid."""
        clear = [is_clear(material) for material in snapshot.materials]
        items = [item for item in snapshot.items if len(item.geometry.triangles)]
        see_through = [any(clear[m] for m in item.materials) for item in items]
        links = link(snapshot.lights, [item.seen for item in snapshot.items])
        placed = self._place(items, see_through, links.masks[_standing(snapshot)])
        return items, placed, links, self._solid(items, see_through)

    def _solid(self, items: list[Item], see_through: list[bool]) -> NDArray[np.int32]:
        """For each item 1 where its glass is solid, −1 where its normals point inwards, else 0."""
        known, self._closed = self._closed, {}
        sides = np.zeros(len(items), np.int32)
        for k, (item, through) in enumerate(zip(items, see_through, strict=True)):
            if through and not item.sheet:
                shape = item.geometry
                held = known.get(id(shape)) or self._closed.get(id(shape)) or (shape, closed_side(shape))
                self._closed[id(shape)] = held
                sides[k] = held[1]
        return sides

    def _light_tables(self, kind: str, pixels: NDArray) -> Tables:
        """Tables of a light's image, kept while it stays the very same; a lattice has few of them."""
        known = self._light_images.get((kind, id(pixels)))
        if known is None or known[0] is not pixels:
            if len(self._light_images) >= _MOST_LIGHT_IMAGES:
                self._light_images.clear()
            known = self._light_images[kind, id(pixels)] = (pixels, tables_of(kind, pixels))
        return known[1]

    def _glow(
        self, items: list[Item], brightness: NDArray[np.float32], by_second: NDArray[np.bool_]
    ) -> Glow | None:
        """What glows and may be aimed at; None where nothing does, or too much."""
        lit = {k: item for k, item in enumerate(items) if any(brightness[m] > 0.0 for m in item.materials)}
        if sum(len(item.geometry.triangles) * len(item.placements) for item in lit.values()) > _MOST_GLOWING:
            return None
        shapes = tuple((k, i.geometry, i.placements.tobytes(), i.materials) for k, i in lit.items())
        key = shapes, brightness.tobytes(), by_second.tobytes()
        if self._glowing[0] != key:
            parts = [_glowing_part(k, item, brightness, by_second) for k, item in lit.items()]
            made = glow_of(*(np.concatenate(each) for each in zip(*parts, strict=True))) if parts else None
            self._glowing = key, made
        return self._glowing[1]

    def _place(self, items: list[Item], clear: list[bool], masks: NDArray[np.int64]) -> _Placed:
        key = tuple(
            (item.geometry, item.placements.tobytes(), _bytes_of(item.track), mask, through)
            for item, mask, through in zip(items, masks.tolist(), clear, strict=True)
        )
        if self._placed is not None and key == self._items:
            return self._placed
        times: dict[int, int] = {}
        for item in items:
            copies = 1 if item.copies is None else len(item.copies)
            times[id(item.geometry)] = times.get(id(item.geometry), 0) + copies

        standing: list[Standing] = []
        numbers: dict[int, int] = {}  # of geometries that are repeated
        geometry, matrices, repeated, item_of = [], [np.zeros((0, 4, 4))], [], []
        for k, item in enumerate(items):
            shape, placements = item.geometry, item.placements
            again = item.track is not None or _is_repeated(item, times[id(shape)])
            if again and id(shape) not in numbers:
                numbers[id(shape)] = len(standing)
                standing.append((shape, None))
            for matrix in placements[: 0 if again else None]:
                geometry.append(len(standing))
                standing.append((shape, matrix))
            if again:
                geometry += [numbers[id(shape)]] * len(placements)
            matrices.append(placements)
            repeated += [again] * len(placements)
            item_of += [k] * len(placements)
        every, of_item = np.concatenate(matrices), np.array(item_of, np.int64)
        triangles = self._triangles = Triangles(standing, self._triangles)
        arrays = {"points": triangles.points, "corners": triangles.corners, "shading": triangles.shading}
        if triangles.paint is not None:
            arrays["paint"] = triangles.paint
        if triangles.more_uvs is not None:
            arrays["more_uvs"] = triangles.more_uvs
        again_of, number = np.array(repeated, bool), np.array(geometry, np.int64)
        tracks = _tracks(items)
        standing_there = embree.Placements(
            triangles.points, triangles.corners, triangles.first, geometry=number,
            matrices=np.ascontiguousarray(every[:, :, :3].transpose(0, 2, 1), np.float32),
            tracks=np.ascontiguousarray(tracks[..., :3].swapaxes(-1, -2), np.float32),
            repeated=again_of, masks=masks[of_item], clear=np.array(clear, bool)[of_item],
        )  # fmt: skip
        steps = 0
        if again_of.any():
            turns, of_turns, steps = every[:, :3, :3], again_of, max(tracks.shape[1] - 1, 0)
            if steps:
                moves = np.array([item.track is not None for item in items], bool)[of_item]
                ends = tracks[moves][..., :3, :3].reshape(-1, 3, 3)
                first = len(every) + (steps + 1) * (np.cumsum(moves) - 1)
                arrays["moving"] = np.where(moves, first, -1).astype(np.int32)
                turns, of_turns = np.concatenate([turns, ends]), np.append(of_turns, np.ones(len(ends), bool))
            arrays["turns"] = pack_turns(turns, of_turns)
        bounds = triangles.bounds(number, every, again_of)
        mirrored = ~again_of & (np.linalg.det(every[:, :3, :3]) < 0.0)
        winding = np.where(mirrored, -1, 1).astype(np.int32)
        rays = embree.RayScene(standing_there)
        arrays["first"] = _or_nought(rays.first)
        self._placed = _Placed(rays, of_item, winding, steps, bounds, arrays, triangles)
        self._items = key
        return self._placed


_WORTH_REPEATING = 4096  # triangles more, from which standing there by reference is worth its slower rays


_MOST_GLOWING = 2_000_000  # triangles that are aimed at; more are only found by following


def _glowing_part(
    number: int, item: Item, brightness: NDArray, by_second: NDArray[np.bool_]
) -> tuple[NDArray, ...]:
    """Points, texture coordinates, materials, brightness and item of the triangles of an item that glow."""
    shape, placements = item.geometry, item.placements
    material = np.asarray(item.materials)[shape.subsets]
    glows = brightness[material] > 0.0
    corners, uvs, material = shape.points[shape.triangles[glows]], shape.corner_uvs[glows], material[glows]
    if shape.more_uvs is not None:
        uvs = np.where(by_second[material][:, None, None], shape.more_uvs[glows], uvs)
    count, times = len(material), len(placements)
    world = corners.reshape(-1, 3) @ placements[:, :3, :3] + placements[:, 3:, :3]
    return (
        world.reshape(-1, 3, 3), np.tile(uvs, (times, 1, 1)), np.tile(material, times),
        np.tile(brightness[material], times), np.full(count * times, number, np.int32),
    ) if count else (np.zeros((0, 3, 3)), np.zeros((0, 3, 2)), *np.zeros((3, 0), int))  # fmt: skip


def _glows_by_second(material: Material) -> bool:
    """Whether the second texture coordinates say where a material glows."""
    given = material.inputs.get("emissiveColor")
    return isinstance(given, TextureInput) and given.texture.second


def _standing(snapshot: Snapshot) -> NDArray[np.bool_]:
    return np.array([bool(len(item.geometry.triangles)) for item in snapshot.items], bool)


def _bytes_of(track: NDArray | None) -> bytes | None:
    return None if track is None else track.tobytes()


def _tracks(items: list[Item]) -> NDArray[np.float64]:
    """(P, S, 4, 4), where each placement is while the shutter is open; S is 0 where nothing moves."""
    times = max((len(item.track) for item in items if item.track is not None), default=0)
    found = [np.zeros((0, times, 4, 4))]
    for item in items:
        if item.track is not None and item.track.ndim == 4:
            found.append(item.track.swapaxes(0, 1))
            continue
        track = np.broadcast_to(item.to_world, (times, 4, 4)) if item.track is None else item.track
        copies = np.eye(4)[None] if item.copies is None else item.copies
        found.append(copies[:, None] @ track[None] if times else np.zeros((len(copies), 0, 4, 4)))
    return np.concatenate(found)


def closed_side(shape: Geometry) -> int:
    """1 where triangles close upon themselves with their normals outwards, −1 inwards, 0 where open.

    Closed is what has each of its edges twice, once in each direction; points that all but coincide are
    one, because the seams of many shapes have them twice.
    """
    fine = max(float(np.ptp(shape.points, axis=0).max()), 1e-30) * 1e-6
    places = np.round(shape.points / fine).astype(np.int64)
    points = np.unique(places, axis=0, return_inverse=True)[1].reshape(-1)
    corners = points[shape.triangles].astype(np.int64)
    corners = corners[(corners != np.roll(corners, 1, axis=1)).all(axis=1)]
    begin, end = corners.reshape(-1), np.roll(corners, -1, axis=1).reshape(-1)
    there, back = begin * len(points) + end, end * len(points) + begin
    if not np.array_equal(np.sort(there), np.sort(back)):
        return 0
    at = shape.points[shape.triangles].astype(float) - shape.points.mean(axis=0, dtype=float)
    volume = np.einsum("ij,ij->i", at[:, 0], np.cross(at[:, 1], at[:, 2])).sum()
    return int(np.sign(volume))


def _is_repeated(item: Item, times: int) -> bool:
    """Whether a geometry is kept once for all its placements; few small ones are baked."""
    return (times - 1) * len(item.geometry.triangles) > _WORTH_REPEATING


def _or_nought(numbers: NDArray) -> NDArray:
    """Lanes without a hit read the first entry of a table, so there must be one."""
    return numbers if len(numbers) else np.zeros(1, numbers.dtype)
