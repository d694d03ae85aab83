"""Digests of what a tracer is given: the view (what decides where paths go), and the lights.

They are taken from the composed scene, so that it does not matter how a change was said: in the plan, in a
variant, an overlay or the scene's own file.  What a cell does not hold, such as a variant that is not
chosen, a hidden prim or a comment, is in no snapshot and changes no digest.

What stays the same object from snapshot to snapshot is digested once.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import fields, replace
from pathlib import Path
from typing import Any, Generic, TypeVar
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

Thing = TypeVar("Thing")


class SnapshotDigests:
    """Makes digests of the snapshots of one scene; 16 bytes each, the same on every machine."""

    def __init__(self) -> None:
        self._shapes: WeakKeyDictionary[Geometry, bytes] = WeakKeyDictionary()
        self._items = _InOrder(self._item)
        self._materials = _InOrder(self._material, lambda material: not any(_textures(material)))
        self._images: dict[str, tuple[object, bytes]] = {}

    def view(self, snapshot: Snapshot) -> bytes:
        """Of all that decides where paths go: shapes, where they stand, materials with their images, the
        camera.  What glows is part of it."""
        return _digest(
            self._items.digest(snapshot.items), self._materials.digest(snapshot.materials),
            _camera(snapshot.camera), repr(snapshot.metres_per_unit).encode(),
            b"glows" if any(snapshot.glowing) else b"",
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


class _InOrder(Generic[Thing]):
    """Makes digests of things in their order; one that is the same object as the last time is told once.

    Parameters
    ----------
    tell : everything that counts of a thing, as bytes.
    keeps : whether that is the same for as long as the thing is.
    """

    def __init__(self, tell: Callable[[Thing], bytes], keeps: Callable[[Thing], bool] | None = None) -> None:
        self._tell, self._keeps = tell, keeps
        self._things: Sequence[Thing] = ()  # held, so that no other has the identity of one of them
        self._parts: list[bytes] = []
        self._made = _digest(b"")

    def digest(self, things: Sequence[Thing]) -> bytes:
        if things is not self._things:
            known = zip(self._kept(things), things, strict=True)
            self._parts = [part or _digest(self._tell(thing)) for part, thing in known]
            self._things = things
            self._made = _digest(b"".join(self._parts))
        return self._made

    def _kept(self, things: Sequence[Thing]) -> Iterable[bytes | None]:
        """What is known of things already."""
        if self._keeps is None and len(things) == len(self._things):  # most stand where they stood
            held = zip(things, self._things, self._parts, strict=True)
            return [part if new is old else None for new, old, part in held]
        keeps = self._keeps or (lambda _: True)
        held_by = zip(self._things, self._parts, strict=True)
        known = {id(thing): part for thing, part in held_by if keeps(thing)}
        return map(known.get, map(id, things))


def _textures(material: Material) -> Iterator[Texture]:
    return (given.texture for given in material.inputs.values() if isinstance(given, TextureInput))


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
