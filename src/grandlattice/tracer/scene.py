"""From a `Snapshot` to the flat arrays the kernel walks, and the Embree scene beside them.

Whatever did not change since the last snapshot is kept: a change of lights or materials alone
never touches triangles.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.snapshot import Item, Snapshot, Texture, TextureInput
from grandlattice.tracer import embree
from grandlattice.tracer.lights import dome_tables, pack_lights
from grandlattice.tracer.materials import is_clear, pack_materials
from grandlattice.tracer.memory import Pinned
from grandlattice.tracer.scattering import albedo_tables
from grandlattice.tracer.textures import decode_table, pack_textures
from grandlattice.tracer.vertices import CATCHES, MATTE, SCENE, pack_shading


@dataclass(frozen=True, eq=False)
class TraceScene:
    """A scene ready to be traced; `scene.record` is what the kernel takes.

    `points` are all vertices in world space, (V, 3) float32.  `held` keeps alive what the record
    points at.
    """

    scene: Pinned
    points: NDArray[np.float32]
    held: object


def _held_out(item: Item) -> int:
    return CATCHES if item.catches else MATTE if item.matte else 0


Images = Mapping[str, "NDArray | None"]
_MOST_SKIES = 4


def textures_of(snapshot: Snapshot) -> tuple[Texture, ...]:
    """The textures the materials of a snapshot read, each once, in a stable order."""
    found: dict[Texture, None] = {}
    for material in snapshot.materials:
        for name in sorted(material.inputs):
            given = material.inputs[name]
            if isinstance(given, TextureInput):
                found.setdefault(given.texture)
    return tuple(found)


def image_files(snapshot: Snapshot) -> dict[str, Texture]:
    """Every image file a snapshot needs, with a texture that asks for it."""
    needed = {texture.file: texture for texture in textures_of(snapshot)}
    for light in snapshot.lights:
        if light.texture is not None:
            needed.setdefault(light.texture.file, light.texture)
    return needed


class _Placed(NamedTuple):
    """All triangles in world space, and Embree's own view of them."""

    rays: embree.RayScene
    points: NDArray[np.float32]
    arrays: dict[str, NDArray]  # fields of SCENE


class SceneBuilder:
    """Builds scenes for the kernel, keeping the parts that stay the same from one to the next."""

    def __init__(self) -> None:
        self._items: tuple[tuple[object, ...], ...] = ()
        self._placed: _Placed | None = None
        self._looks: tuple[object, ...] = ()
        self._packed: tuple[NDArray, NDArray, list[NDArray]] | None = None
        self._baked: dict[int, tuple[object, bytes, NDArray, NDArray]] = {}
        self._skies: dict[int, tuple[NDArray | None, Mapping[str, NDArray]]] = {}

    def build(self, snapshot: Snapshot, images: Images) -> TraceScene:
        """A scene for `snapshot`; `images` as in `textures.pack_textures`."""
        clear = [is_clear(material) for material in snapshot.materials]
        items = [item for item in snapshot.items if len(item.geometry.triangles)]
        see_through = [any(clear[m] for m in item.materials) for item in items]
        placed = self._place(items, see_through)
        textures = textures_of(snapshot)
        looks = (snapshot.materials, textures, tuple(id(images.get(t.file)) for t in textures))
        if self._packed is None or looks != self._looks:
            self._packed = (
                pack_materials(snapshot.materials, textures), *pack_textures(textures, images)
            )  # fmt: skip
            self._looks = looks
        materials, texture_rows, pixels = self._packed
        lights, domes = pack_lights(snapshot.lights, images, self._dome_tables)
        scene = Pinned(
            SCENE,
            opaque=placed.rays.opaque,
            clear=placed.rays.clear,
            **placed.arrays,
            held_out=np.array([_held_out(item) for item in items] or [0], np.int32),
            materials=materials,
            tables=albedo_tables(),
            textures=texture_rows,
            decode=decode_table(),
            lights=lights,
            light_count=len(snapshot.lights),
            domes=domes,
        )
        return TraceScene(scene, placed.points, (placed, pixels))

    def _dome_tables(self, pixels: NDArray | None) -> Mapping[str, NDArray]:
        """Tables of the sky, kept while the image stays the very same; a lattice has few skies."""
        known = self._skies.get(id(pixels))
        if known is None or known[0] is not pixels:
            if len(self._skies) >= _MOST_SKIES:
                self._skies.clear()
            known = self._skies[id(pixels)] = (pixels, dome_tables(pixels))
        return known[1]

    def _place(self, items: list[Item], clear: list[bool]) -> _Placed:
        key = tuple(
            (item.geometry, item.to_world.tobytes(), item.seen, through, item.materials)
            for item, through in zip(items, clear, strict=True)
        )
        if self._placed is not None and key == self._items:
            return self._placed
        points, corners = [np.zeros((0, 3), np.float32)], [np.zeros((0, 3), np.int32)]
        normals, uvs = [np.zeros((0, 3, 3), np.float32)], [np.zeros((0, 3, 2), np.float32)]
        first = np.zeros(len(items) + 1, np.int64)
        vertex_count = 0
        baked: dict[int, tuple[object, bytes, NDArray, NDArray]] = {}
        for g, item in enumerate(items):
            standing = self._bake(item)
            baked[id(item.geometry)] = standing
            points.append(standing[2])
            normals.append(standing[3])
            corners.append(item.geometry.triangles + np.int32(vertex_count))
            uvs.append(item.geometry.corner_uvs)
            vertex_count += len(standing[2])
            first[g + 1] = first[g] + len(item.geometry.triangles)
        padding = np.zeros((1, 3), np.float32)
        all_points, all_corners = np.concatenate([*points, padding]), np.concatenate(corners)
        masks = [embree.OTHER | (embree.CAMERA if item.seen else 0) for item in items]
        rays = embree.RayScene(all_points, all_corners, first, masks, clear)
        of_triangle = [np.asarray(i.materials, np.int32)[i.geometry.subsets] for i in items]
        materials = np.concatenate([np.zeros(0, np.int32), *of_triangle])
        shading = pack_shading(np.concatenate(normals), np.concatenate(uvs), materials)
        arrays = {
            "points": all_points,
            "corners": all_corners,
            "first": first.astype(np.int32),
            "shading": shading,
        }
        self._placed = _Placed(rays, all_points[:-1], arrays)
        self._items, self._baked = key, baked
        return self._placed

    def _bake(self, item: Item) -> tuple[object, bytes, NDArray, NDArray]:
        """Points and normals of an item in world space; kept while it stands still."""
        matrix = np.asarray(item.to_world, np.float64)
        known = self._baked.get(id(item.geometry))
        if known is not None and known[0] is item.geometry and known[1] == matrix.tobytes():
            return known
        points = item.geometry.points @ matrix[:3, :3] + matrix[3, :3]
        # Normals go with the inverse transpose; the adjugate is that without a division,
        # and stays finite for a flattened object.
        rows = matrix[:3, :3]
        adjugate = np.stack(
            [np.cross(rows[1], rows[2]), np.cross(rows[2], rows[0]), np.cross(rows[0], rows[1])]
        )
        adjugate *= np.sign(np.linalg.det(rows)) or 1.0
        normals = item.geometry.corner_normals @ adjugate
        length = np.linalg.norm(normals, axis=-1, keepdims=True)
        normals /= np.where(length > 0, length, 1.0)
        return item.geometry, matrix.tobytes(), points.astype(np.float32), normals.astype(np.float32)
