"""UsdPreviewSurface for kernels: the table of its inputs, and what they are at one point.

`pack_materials` turns `Material` records into a table; `surface_at` reads them, textures and all,
into a `Surface`, which is what scattering needs and no more.  How light scatters is `scattering`.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grandlattice.snapshot import Material, Texture, TextureInput
from grandlattice.tracer.lanes import LANES, all_lanes, any_of, first_of, load, records, store, where
from grandlattice.tracer.memory import float32s, int32s, table
from grandlattice.tracer.scattering import Surface, reflected_share
from grandlattice.tracer.textures import read_texture, texture_at
from grandlattice.tracer.vectors import choose, largest, scale

# mypy: disable-error-code="no-untyped-def"

# Inputs by their place in a row of the table.
(
    _DIFFUSE, _EMISSION, _SPECULAR, _BUMP, _METALLIC, _ROUGHNESS, _COAT, _COAT_ROUGHNESS,
    _OPACITY, _THRESHOLD, _IOR,
) = range(11)  # fmt: skip
_SLOTS, _COLOURS = 11, 4  # the first four are colours, the others single numbers
MATERIAL_ROOM = 3 * _SLOTS * LANES

# Input name → (place, fallback of the UsdPreviewSurface schema).
_INPUTS: dict[str, tuple[int, tuple[float, ...]]] = {
    "diffuseColor": (_DIFFUSE, (0.18, 0.18, 0.18)),
    "emissiveColor": (_EMISSION, (0.0, 0.0, 0.0)),
    "specularColor": (_SPECULAR, (0.0, 0.0, 0.0)),
    "normal": (_BUMP, (0.0, 0.0, 1.0)),
    "metallic": (_METALLIC, (0.0,)),
    "roughness": (_ROUGHNESS, (0.5,)),
    "clearcoat": (_COAT, (0.0,)),
    "clearcoatRoughness": (_COAT_ROUGHNESS, (0.01,)),
    "opacity": (_OPACITY, (1.0,)),
    "opacityThreshold": (_THRESHOLD, (0.0,)),
    "ior": (_IOR, (1.5,)),
}
_CHANNELS = {"rgb": 0, "r": 0, "g": 1, "b": 2, "a": 3}
_SMOOTHEST = 0.02  # roughness below which a highlight is narrower than the film can tell


MATERIAL = np.dtype(
    [
        ("value", "f4", (33,)),  # three numbers for each input
        ("texture", "i4", (11,)),  # row of the textures, or −1
        ("channel", "i4", (11,)),
        ("textured", "i4"),  # a bit for each input that has a texture
        ("specular_workflow", "i4"),
        ("presence", "i4"),  # opacityMode is `presence`
    ],
    align=True,
)

material_at = records(MATERIAL)
_WORDS = MATERIAL.itemsize // 4
_TEXTURE, _CHANNEL, _TEXTURED = (
    MATERIAL.fields[name][1] // 4  # type: ignore[index]
    for name in ("texture", "channel", "textured")
)


def is_clear(material: Material) -> bool:
    """Whether light may pass through: rays must then look at each hit of it."""
    opacity = material.inputs.get("opacity", (1.0,))
    return isinstance(opacity, TextureInput) or opacity[0] < 1.0


def pack_materials(materials: Sequence[Material], textures: Sequence[Texture]) -> NDArray:
    """A table of `MATERIAL`; `textures` gives each texture its row."""
    places = {texture: i for i, texture in enumerate(textures)}
    rows = table(MATERIAL, len(materials))
    rows["texture"] = -1
    for row, material in zip(rows, materials, strict=False):
        for name, (slot, fallback) in _INPUTS.items():
            given = material.inputs.get(name, fallback)
            if isinstance(given, TextureInput):
                row["texture"][slot] = places[given.texture]
                row["channel"][slot] = _CHANNELS[given.channel]
                row["textured"] |= 1 << slot
            else:
                row["value"][3 * slot : 3 * slot + 3] = given  # one number is spread over three
        row["specular_workflow"] = _flag(material, "useSpecularWorkflow")
        row["presence"] = _flag(material, "opacityMode")
    return rows


def _flag(material: Material, name: str) -> bool:
    given = material.inputs.get(name, (0.0,))
    return not isinstance(given, TextureInput) and given[0] > 0.5


@njit(error_model="numpy")
def _unit(x):
    return min(max(x, 0.0), 1.0)


@njit(error_model="numpy")
def _read_inputs(scene, m, u, v, room):
    """Write all inputs at (u, v), three lanes each, to `room`.

    One loop with one call: the texture code is large, and is compiled and fetched once.  Where
    all lanes are on one material, what it says is read once and spread.
    """
    values, words, inputs = float32s(scene.materials), int32s(scene.materials), float32s(room)
    rows = m * _WORDS
    one = first_of(m) * _WORDS
    same = not any_of(rows != one)
    bits = all_lanes(words[one + _TEXTURED]) if same else words[rows + _TEXTURED]
    for slot in range(_SLOTS):
        parts = 3 if slot < _COLOURS else 1
        for part in range(parts):
            k = 3 * slot + part
            value = all_lanes(values[one + k]) if same else values[rows + k]
            store(inputs, k * LANES, value)
        textured = ((bits >> slot) & 1) == 1
        if any_of(textured):
            row = where(textured, words[rows + (_TEXTURE + slot)], 0)
            channel = words[rows + (_CHANNEL + slot)]
            r, g, b, a = read_texture(texture_at(scene.textures, row), scene.decode, u, v)
            first = where(channel == 1, g, where(channel == 2, b, where(channel == 3, a, r)))
            _overwrite(inputs, 3 * slot, textured, first)
            if parts == 3:
                _overwrite(inputs, 3 * slot + 1, textured, g)
                _overwrite(inputs, 3 * slot + 2, textured, b)


@njit(error_model="numpy")
def _overwrite(inputs, k, test, value):
    store(inputs, k * LANES, where(test, value, load(inputs, k * LANES)))


@njit(error_model="numpy")
def _number(inputs, slot):
    return load(inputs, 3 * slot * LANES)


@njit(error_model="numpy")
def _colour(inputs, slot):
    k = 3 * slot * LANES
    return (load(inputs, k), load(inputs, k + LANES), load(inputs, k + 2 * LANES))


@njit(error_model="numpy")
def _unit_colour(inputs, slot):
    c = _colour(inputs, slot)
    return (_unit(c[0]), _unit(c[1]), _unit(c[2]))


@njit(error_model="numpy")
def surface_at(scene, m, u, v, room):
    """Materials `m` of a scene at texture coordinates (u, v), as a `Surface`.

    `room` is the address of `MATERIAL_ROOM` floats.
    """
    material = material_at(scene.materials, m)
    _read_inputs(scene, m, u, v, room)
    inputs = float32s(room)
    base = _unit_colour(inputs, _DIFFUSE)
    opacity, threshold = _unit(_number(inputs, _OPACITY)), _number(inputs, _THRESHOLD)
    masked, faded = threshold > 0.0, material.presence == 1
    presence = where(masked, where(opacity >= threshold, 1.0, 0.0), where(faded, opacity, 1.0))
    opacity = where(masked | faded, 1.0, opacity)
    metallic = _unit(_number(inputs, _METALLIC))
    ior = max(_number(inputs, _IOR), 1.0)
    edge = (ior - 1.0) / (ior + 1.0)
    dielectric = edge * edge * (1.0 - metallic)
    metal = scale(base, metallic)
    specular = material.specular_workflow == 1
    f0 = choose(
        specular,
        _unit_colour(inputs, _SPECULAR),
        (dielectric + metal[0], dielectric + metal[1], dielectric + metal[2]),
    )
    roughness = max(_unit(_number(inputs, _ROUGHNESS)), _SMOOTHEST)
    coat_roughness = max(_unit(_number(inputs, _COAT_ROUGHNESS)), _SMOOTHEST)
    e = _colour(inputs, _EMISSION)
    return Surface(
        diffuse=scale(base, where(specular, 1.0, 1.0 - metallic) * opacity),
        f0=f0,
        # The edge is white, but where there is no interface (ior 1, black specular) there is no edge.
        f90=min(50.0 * largest(f0), 1.0),
        alpha=roughness * roughness,
        coat=_unit(_number(inputs, _COAT)),
        coat_alpha=coat_roughness * coat_roughness,
        opacity=opacity,
        presence=presence,
        emission=(max(e[0], 0.0), max(e[1], 0.0), max(e[2], 0.0)),
        bump=_colour(inputs, _BUMP),
    )


@njit(error_model="numpy")
def see_through(surface, tables, cosine):
    """Share of light that passes straight through, 0..1.

    Glass is thin: what is not reflected by coat and surface, and not opaque, goes on unbent.
    """
    body = 0.0 * cosine
    if any_of(surface.opacity < 1.0):
        body = (1.0 - surface.opacity) * (1.0 - reflected_share(surface, tables, cosine))
    return (1.0 - surface.presence) + surface.presence * body
