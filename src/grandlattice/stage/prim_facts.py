"""What is said of each prim that a picture shows, shortly: kept with pictures that others may take the place
of, so that it can be told what changed between them.

Numbers and words stand as they are; what is long, such as points or places, stands as a digest, ``#`` first.
"""

from __future__ import annotations

import base64
import hashlib
import json
import zlib
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Any

import numpy as np

from grandlattice.scene_records import Camera, Item, Light, Material, Texture, TextureInput

PrimFacts = Mapping[str, Mapping[str, str]]
"""Prim → what is said of it, by name."""

_MOST = 5000  # prims of shapes that are told of
_LIGHT = {
    "kind": "kind", "radiance": "strength and colour, nits", "to_world": "place", "size": "size",
    "texture": "texture", "shaping": "shaping", "diffuse": "diffuse", "specular": "specular",
    "reaches": "light link", "shadowed_by": "shadow link", "seen": "visibility", "matte": "matte",
    "track": "motion",
}  # fmt: skip
_ITEM = {
    "to_world": "place", "matte": "matte", "seen": "visibility", "catches": "catching shadows",
    "copies": "copies", "sheet": "sheet", "track": "motion",
}  # fmt: skip
_CAMERA = {
    "to_world": "place", "aperture": "aperture", "offset": "aperture offset", "focal_length": "focal length",
    "lens_radius": "lens opening", "focus_distance": "focus distance", "clipping": "clipping range",
    "orthographic": "orthographic", "track": "motion",
}  # fmt: skip
_SHAPE = ("points", "triangles", "corner_normals", "corner_uvs", "corner_colours", "more_uvs")


def prim_facts(
    items: Sequence[Item], materials: Sequence[Material], lights: Sequence[Light], camera: Camera
) -> PrimFacts:  # fmt: skip
    """What is said of the prims of a snapshot; of shapes only where there are not too many."""
    found: dict[str, dict[str, str]] = {}
    several: dict[str, int] = {}
    for item in items if len(items) <= _MOST else ():
        path = item.path
        several[path] = number = several.get(path, 0) + 1
        told = {name: _text(getattr(item, field)) for field, name in _ITEM.items()}
        told["shape"] = _digest(*(getattr(item.geometry, field) for field in _SHAPE))
        told["material"] = ", ".join(materials[m].path for m in item.materials)
        found[path if number == 1 else f"{path} ({number})"] = told
    for material in materials:
        found[material.path] = {name: _text(value) for name, value in material.inputs.items()}
    for light in lights:
        found[light.path] = {name: _text(getattr(light, field)) for field, name in _LIGHT.items()}
    found[camera.path] = {name: _text(getattr(camera, field)) for field, name in _CAMERA.items()}
    return found


def packed_facts(facts: PrimFacts) -> str:
    """As a mark of a file."""
    told = json.dumps(facts, separators=(",", ":"), ensure_ascii=False).encode("utf-8", "surrogateescape")
    return base64.b85encode(zlib.compress(told, 9)).decode()


def unpacked_facts(text: str) -> PrimFacts:
    """As a file has them; none where it has none, or what is no such mark."""
    with suppress(ValueError, zlib.error):
        told = json.loads(zlib.decompress(base64.b85decode(text)))
        if isinstance(told, dict):
            return {str(path): said for path, said in told.items() if isinstance(said, dict)}
    return {}


def changes_between(then: PrimFacts, now: PrimFacts) -> list[tuple[str, str, str]]:
    """What differs: prim and name, as it was, as it is."""
    found: list[tuple[str, str, str]] = []
    for path in dict.fromkeys([*then, *now]):
        before, after = then.get(path), now.get(path)
        if before is None or after is None:
            found.append((path, "" if before is None else "there", "" if after is None else "there"))
            continue
        for name in dict.fromkeys([*before, *after]):
            old, new = str(before.get(name, "")), str(after.get(name, ""))
            if old != new:
                is_long = old.startswith("#") or new.startswith("#")
                found.append((f"{path}  {name}", *(("as it was", "another") if is_long else (old, new))))
    return found


def _text(value: Any) -> str:
    if isinstance(value, TextureInput):
        return f"{_text(value.texture)} {value.channel}"
    if isinstance(value, Texture):
        return f"{value.file.rpartition('/')[2]} {_digest(repr(value))}"
    if isinstance(value, np.ndarray):
        return _digest(value)
    if isinstance(value, bool) or value is None:
        return {True: "yes", False: "no", None: "none"}[value]
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, tuple | list):
        return " ".join(_text(part) for part in value)
    return str(value)


def _digest(*parts: Any) -> str:
    whole = hashlib.blake2b(digest_size=4)
    for part in parts:
        whole.update(
            np.ascontiguousarray(part).tobytes() if isinstance(part, np.ndarray) else repr(part).encode()
        )
    return f"#{whole.hexdigest()}"
