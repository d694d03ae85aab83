"""Digests of what a tracer is given: the view (what decides where paths go), and the lights.

They are taken from the composed scene, so that it does not matter how a change was said: in the plan, in a
variant, an overlay or the scene's own file.  What a cell does not hold, such as a variant that is not
chosen, a hidden prim or a comment, is in no snapshot and changes no digest.

What stays the same object from snapshot to snapshot is digested once.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Ar

from grandlattice._support.filesystem import is_file
from grandlattice.scene_records import (
    Camera,
    Items,
    Light,
    Material,
    Matrix,
    Snapshot,
    Texture,
    TextureInput,
)
from grandlattice.stage.opened_scene import file_digest, read_asset

_MOST_KNOWN = 20_000  # materials
_PIECE = 512  # rows of a table


class SnapshotDigests:
    """Makes digests of the snapshots of one scene; 16 bytes each, the same on every machine."""

    def __init__(self) -> None:
        self._shapes, self._is_told = np.zeros((0, 16), np.uint8), np.zeros(0, bool)  # by serial number
        self._images: dict[str, tuple[object, bytes]] = {}
        self._materials: dict[int, tuple[Material, bytes]] = {}  # by identity
        self._lights: dict[int, tuple[Light, bytes]] = {}  # by identity
        self._copies: dict[int, tuple[Matrix, bytes]] = {}  # by identity
        self._paths: tuple[object, bytes] = None, b""  # of the items, and their digest
        self._table = _Table()
        self._last: tuple[object, object, bytes] = None, None, b""  # items, materials, and their digest

    def view(self, snapshot: Snapshot) -> bytes:
        """Of all that decides where paths go: shapes, where they stand, materials with their images, the
        camera.  What glows is part of it.

        Parameters
        ----------
        snapshot : as a `Snapshotter` takes them.
        """
        return _digest(
            self._standing(snapshot), _camera(snapshot.camera), repr(snapshot.metres_per_unit).encode()
        )

    def _standing(self, snapshot: Snapshot) -> bytes:
        """Of the items and their materials, whatever the numbers of these."""
        items, materials = snapshot.items, snapshot.materials
        if self._last[0] is items and self._last[1] is materials:
            return self._last[2]
        assert isinstance(items, Items)
        of_material = [self._of_material(material) for material in materials]
        looks = [_digest(*(of_material[number] for number in used)) for used in items.materials]
        uses = np.frombuffer(b"".join(looks), np.uint8).reshape(-1, 16)[items.uses] if looks else items.uses
        glows = items.with_any(number for number, each in enumerate(materials) if each.may_glow).any()
        if self._paths[0] is not items.paths:
            paths = "\0".join(items.paths).encode("utf-8", "surrogateescape")
            self._paths = items.paths, _digest(paths)
        made = _digest(
            self._paths[1],
            self._table.digest(self._of_shapes(items), items.to_world, uses, items.states),
            self._repeated(items), b"glows" if glows else b"",
        )  # fmt: skip
        self._last = items, materials, made
        return made

    def _of_material(self, material: Material) -> bytes:
        """Of a material; kept, if there are no images that may change."""
        known = self._materials.get(id(material))
        if known is not None and known[0] is material:
            return known[1]
        made = _digest(self._material(material))
        if not any(_textures(material)):
            if len(self._materials) >= _MOST_KNOWN:
                self._materials.clear()
            self._materials[id(material)] = material, made
        return made

    def _repeated(self, items: Items) -> bytes:
        """Of copies, told again only when they are others, and of what moves while the shutter is open."""
        known, self._copies = self._copies, {}
        told = []
        for number, copies in items.copies.items():
            held = known.get(id(copies)) or (copies, _digest(repr(copies.shape).encode(), copies.tobytes()))
            self._copies[id(copies)] = held
            told.append(f"{number}".encode() + held[1])
        tracks = [
            f"{number} {track.shape}".encode() + track.tobytes() for number, track in items.tracks.items()
        ]
        return _digest(_joined(told), *tracks)

    def _of_shapes(self, items: Items) -> NDArray[np.uint8]:
        """(N, 16) digests of what shapes are made of, each made once."""
        most = int(items.serials.max(initial=-1)) + 1
        if most > len(self._is_told):
            more = max(most - len(self._is_told), len(self._is_told))
            self._shapes = np.concatenate([self._shapes, np.zeros((more, 16), np.uint8)])
            self._is_told = np.concatenate([self._is_told, np.zeros(more, bool)])
        for number in np.flatnonzero(~self._is_told[items.serials]).tolist():
            self._shapes[items.serials[number]] = np.frombuffer(items.shapes[number].told, np.uint8)
        self._is_told[items.serials] = True
        return self._shapes[items.serials]

    def later(self, snapshot: Snapshot) -> bytes:
        """Of where everything is at the next frame; empty where that was not asked for."""
        if snapshot.later is None:
            return b""
        places = b"".join(np.asarray(place).tobytes() for place in snapshot.later.places)
        return _digest(places, _camera(snapshot.later.camera))

    def lights(self, snapshot: Snapshot) -> bytes:
        """Of the lights and their images, in the order of their paths."""
        return _joined(self._of_light(light) for light in sorted(snapshot.lights, key=lambda each: each.path))

    def _of_light(self, light: Light) -> bytes:
        """What a light is; kept, if there is no image that may change."""
        known = self._lights.get(id(light))
        if known is not None and known[0] is light:
            return known[1]
        made = self._light(light)
        if light.texture is None:
            if len(self._lights) >= _MOST_KNOWN:
                self._lights.clear()
            self._lights[id(light)] = light, made
        return made

    def lamp(self, light: Light) -> bytes:
        """Of a light, whatever its strength and tint."""
        return _digest(self._light(replace(light, radiance=(0.0, 0.0, 0.0))))

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


class _Table:
    """Makes the digest of columns; again only of the pieces in which a row differs from the last time."""

    def __init__(self) -> None:
        self._columns: tuple[NDArray[Any], ...] = ()
        self._pieces: list[bytes] = []

    def digest(self, *columns: NDArray[Any]) -> bytes:
        """Of columns of one length; they must not be written to afterwards."""
        held = self._columns or tuple(column[:0] for column in columns)
        pieces = []
        for number, begin in enumerate(range(0, len(columns[0]), _PIECE)):
            rows = slice(begin, begin + _PIECE)
            same = all(np.array_equal(a[rows], b[rows]) for a, b in zip(columns, held, strict=True))
            if not same or number >= len(self._pieces):
                pieces.append(_digest(*(np.ascontiguousarray(column[rows]).data for column in columns)))
            else:
                pieces.append(self._pieces[number])
        self._columns, self._pieces = columns, pieces
        return _digest(f"{len(columns[0])}".encode(), *pieces)


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


def _joined(parts: Iterable[bytes | memoryview]) -> bytes:
    whole = hashlib.blake2b(digest_size=16)
    for part in parts:
        whole.update(memoryview(part).nbytes.to_bytes(8, "little"))
        whole.update(part)
    return whole.digest()


def _digest(*parts: bytes | memoryview) -> bytes:
    return _joined(parts)
