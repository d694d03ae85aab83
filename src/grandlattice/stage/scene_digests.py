"""Digests of what a tracer is given: the view (what decides where paths go), and the lights.

They are taken from the composed scene, so that it does not matter how a change was said: in the plan, in a
variant, an overlay or the scene's own file.  What a cell does not hold, such as a variant that is not
chosen, a hidden prim or a comment, is in no snapshot and changes no digest.

What stays the same object from snapshot to snapshot is digested once.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import fields, replace
from pathlib import Path
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
from pxr import Ar

from grandlattice._support.filesystem import is_file
from grandlattice.scene_records import (
    Camera,
    Geometry,
    Item,
    Light,
    Material,
    Snapshot,
    Texture,
    TextureInput,
)
from grandlattice.stage.opened_scene import file_digest, read_asset


class SnapshotDigests:
    """Makes digests of the snapshots of one scene; 16 bytes each, the same on every machine."""

    def __init__(self) -> None:
        self._shapes: WeakKeyDictionary[Geometry, bytes] = WeakKeyDictionary()
        self._items: tuple[tuple[Item, ...], bytes] = ((), b"")
        self._materials: tuple[tuple[Material, ...], bytes] = ((), b"")
        self._images: dict[str, tuple[object, bytes]] = {}

    def view(self, snapshot: Snapshot) -> bytes:
        """Of all that decides where paths go: shapes, where they stand, materials with their images, the
        camera.  What glows is part of it."""
        if self._items[0] is not snapshot.items:
            self._items = snapshot.items, _joined(self._item(item) for item in snapshot.items)
        if self._materials[0] is not snapshot.materials:
            self._materials = snapshot.materials, _joined(map(self._material, snapshot.materials))
        return _digest(
            self._items[1], self._materials[1], _camera(snapshot.camera),
            repr(snapshot.metres_per_unit).encode(), b"glows" if any(snapshot.glowing) else b"",
        )  # fmt: skip

    def later(self, snapshot: Snapshot) -> bytes:
        """Of where everything is at the next frame; empty where that was not asked for."""
        if snapshot.later is None:
            return b""
        places = b"".join(np.asarray(place).tobytes() for place in snapshot.later.places)
        return _digest(places, _camera(snapshot.later.camera))

    def lights(self, snapshot: Snapshot) -> bytes:
        """Of the lights and their images, in the order of their paths."""
        return _joined(self._light(light) for light in sorted(snapshot.lights, key=lambda each: each.path))

    def lamp(self, light: Light) -> bytes:
        """Of a light, whatever its strength and tint."""
        return _digest(self._light(replace(light, radiance=(0.0, 0.0, 0.0))))

    def _item(self, item: Item) -> bytes:
        shape = self._shapes.get(item.geometry)
        if shape is None:
            shape = self._shapes[item.geometry] = _digest(*_told(item.geometry))
        return shape + b"".join(_told(replace(item, geometry=None)))  # type: ignore[arg-type]

    def _material(self, material: Material) -> bytes:
        told = [material.path]
        for name in sorted(material.inputs):
            given = material.inputs[name]
            if isinstance(given, TextureInput):
                told += [name, given.channel, *self._texture(given.texture)]
            else:
                told += [name, repr(tuple(given))]
        return "\0".join(told).encode()

    def _texture(self, texture: Texture) -> list[str]:
        """How an image is read, and what is in it, whatever it is called."""
        read = repr(replace(texture, file="", prim="", tiles=()))
        numbers = [str(number) for number, _ in texture.tiles]
        return [read, *numbers, *(self._image(file).hex() for file in texture.files)]

    def _light(self, light: Light) -> bytes:
        texture = [] if light.texture is None else self._texture(light.texture)
        told = b"".join(_told(replace(light, texture=None)))
        return told + "\0".join(texture).encode() + b"\n"

    def _image(self, file: str) -> bytes:
        """Of a file's bytes, kept until it changes."""
        outer = Path(Ar.SplitPackageRelativePathOuter(file)[0] if "[" in file else file)
        if not is_file(outer):
            return b"missing"
        found = outer.stat()
        state = found.st_mtime_ns, found.st_size
        known = self._images.get(file)
        if known is None or known[0] != state:
            held = read_asset(file) if "[" in file else None
            made = _digest(held) if held is not None else bytes.fromhex(file_digest(outer))
            self._images[file] = known = state, made
        return known[1]


def _camera(camera: Camera) -> bytes:
    # The camera's own exposure is laid on what is traced.
    return b"".join(_told(replace(camera, stops=0.0)))


def _told(record: Any) -> list[bytes]:
    """Every field of a record, arrays with their shapes."""
    told = []
    for each in fields(record):
        value = getattr(record, each.name)
        if isinstance(value, np.ndarray):
            told.append(
                f"{each.name} {value.dtype} {value.shape}".encode() + np.ascontiguousarray(value).tobytes()
            )
        else:
            told.append(f"{each.name} {value!r}\0".encode())
    return told


def _joined(parts: Iterable[bytes]) -> bytes:
    whole = hashlib.blake2b(digest_size=16)
    for part in parts:
        whole.update(len(part).to_bytes(8, "little"))
        whole.update(part)
    return whole.digest()


def _digest(*parts: bytes) -> bytes:
    return _joined(parts)
