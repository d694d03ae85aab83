"""UsdPreviewSurface for kernels: the table of its inputs, and what they are at one point.

`pack_materials` turns `Material` records into a table; `surface_at` reads them, textures and all,
into a `Surface`, which is what scattering needs and no more.  How light scatters is `scattering`.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Material, Texture, TextureInput
from grandlattice.tracer.kernel_memory import float32s, int32s, load, load_rows, store, store_rows, table
from grandlattice.tracer.lanes import LANES, all_lanes, any_of, inner, number_in, where
from grandlattice.tracer.scattering import Surface, reflected_share
from grandlattice.tracer.texture_lookup import mean_colour, read_texture, texture_at, tile_at
from grandlattice.tracer.vectors import choose, largest, multiply, scale

# mypy: disable-error-code="no-untyped-def"

# Inputs by their place in a row of the table.
(
    _DIFFUSE, _EMISSION, _SPECULAR, _BUMP, _TINT, _METALLIC, _ROUGHNESS, _COAT, _COAT_ROUGHNESS,
    _OPACITY, _THRESHOLD, _IOR,
) = range(12)  # fmt: skip
_SLOTS, _COLOURS = 12, 5  # the first five are colours, the others single numbers
_STEP = 3 * LANES  # from one input to the next where they are written out
MATERIAL_ROOM = LANES * 64  # a record, read sixteen words at a time

# Input name → (place, fallback of the UsdPreviewSurface schema).
_INPUTS: dict[str, tuple[int, tuple[float, ...]]] = {
    "diffuseColor": (_DIFFUSE, (0.18, 0.18, 0.18)),
    "emissiveColor": (_EMISSION, (0.0, 0.0, 0.0)),
    "specularColor": (_SPECULAR, (0.0, 0.0, 0.0)),
    "normal": (_BUMP, (0.0, 0.0, 1.0)),
    "transmissionColor": (_TINT, (1.0, 1.0, 1.0)),
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
        ("value", "f4", (36,)),  # three numbers for each input
        ("textured", "i4"),  # a bit for each input that has a texture
        ("specular_workflow", "i4"),
        ("presence", "i4"),  # opacityMode is `presence`
        ("flags", "i4"),  # see below
        ("texture", "i4", (12,)),  # row of the textures, or −1
        ("channel", "i4", (12,)),
    ],
    align=True,
)

# The colour of glass is only a hue; the surface has the colours of its shape; its normal map is read by
# the second texture coordinates.
_HUE, _PAINTED, _BUMP_BY_SECOND = 1, 2, 4
_WORDS = MATERIAL.itemsize // 4
_TEXTURE, _CHANNEL, _TEXTURED, _WORKFLOW, _MODE, _FLAGS = (
    MATERIAL.fields[name][1] // 4  # type: ignore[index]
    for name in ("texture", "channel", "textured", "specular_workflow", "presence", "flags")
)


def is_clear(material: Material) -> bool:
    """Whether light may pass through: rays must then look at each hit of it."""
    opacity = material.inputs.get("opacity", (1.0,))
    return isinstance(opacity, TextureInput) or opacity[0] < 1.0


def brightness_of(material: Material, images: Mapping[str, NDArray | None]) -> float:
    """How bright a material glows, in nits: the mean luminance of its emission; 0 where it does not."""
    given = material.inputs.get("emissiveColor", (0.0, 0.0, 0.0))
    if isinstance(given, TextureInput):
        given = tuple(mean_colour(given.texture, images))
    r, g, b = (max(float(part), 0.0) for part in np.broadcast_to(given[:3], 3))
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


def pack_materials(materials: Sequence[Material], textures: Sequence[Texture]) -> NDArray:
    """A table of `MATERIAL`; `textures` gives each texture its row."""
    places = {texture: i for i, texture in enumerate(textures)}
    rows = table(MATERIAL, len(materials))
    rows["texture"] = -1
    for row, material in zip(rows, materials, strict=False):
        inputs = dict(material.inputs)
        if is_clear(material) and "diffuseColor" in inputs and "transmissionColor" not in inputs:
            inputs["transmissionColor"] = inputs["diffuseColor"]
            row["flags"] |= _HUE
        row["flags"] |= _PAINTED * _flag(material, "painted")
        for name, (slot, fallback) in _INPUTS.items():
            given = inputs.get(name, fallback)
            if isinstance(given, TextureInput):
                row["texture"][slot] = places[given.texture]
                row["channel"][slot] = _CHANNELS[given.channel]
                row["textured"] |= 1 << slot
                row["flags"] |= _BUMP_BY_SECOND * (slot == _BUMP and given.texture.second)
            else:
                row["value"][3 * slot : 3 * slot + 3] = given  # one number is spread over three
        row["specular_workflow"] = _flag(material, "useSpecularWorkflow")
        row["presence"] = _flag(material, "opacityMode")
    return rows


def _flag(material: Material, name: str) -> bool:
    given = material.inputs.get(name, (0.0,))
    return not isinstance(given, TextureInput) and given[0] > 0.5


@inner
def _unit(x):
    return min(max(x, 0.0), 1.0)


@inner
def _read_inputs(scene, m, at, room):
    """Write the records of materials `m` to `room`, a row of lanes for each word, with what
    textures say at a place in the places of their inputs."""
    values, words = float32s(scene.materials), int32s(scene.materials)
    inputs, held = float32s(room), int32s(room)
    first = number_in(m, 0)
    if any_of(m != first):
        for k in range(0, _WORDS, LANES):
            store_rows(held, k * LANES, load_rows(words, m * _WORDS + k))
    else:
        plain = words[first * _WORDS + _TEXTURED] == 0
        for k in range(_TEXTURE if plain else _WORDS):  # textures come last
            store(inputs, k * LANES, all_lanes(values[first * _WORDS + k]))
    bits = load(held, _TEXTURED * LANES)
    for slot in range(_SLOTS):
        textured = ((bits >> slot) & 1) == 1
        if any_of(textured):
            row = where(textured, load(held, (_TEXTURE + slot) * LANES), 0)
            u, v, area = at.u, at.v, at.area
            if scene.more_uvs != 0:
                second = texture_at(scene.textures, row).second == 1
                u, v = where(second, at.more_u, u), where(second, at.more_v, v)
                area = where(second, at.more_area, area)
            row = tile_at(scene.textures, row, u, v)
            channel = load(held, (_CHANNEL + slot) * LANES)
            texture = texture_at(scene.textures, row)
            r, g, b, a = read_texture(texture, scene.decode, u, v, area, at.chance)
            red = where(channel == 1, g, where(channel == 2, b, where(channel == 3, a, r)))
            _overwrite(inputs, 3 * slot, textured, red)
            if slot < _COLOURS:
                _overwrite(inputs, 3 * slot + 1, textured, g)
                _overwrite(inputs, 3 * slot + 2, textured, b)


@inner
def _overwrite(inputs, k, test, value):
    store(inputs, k * LANES, where(test, value, load(inputs, k * LANES)))


@inner
def _colour(inputs, k):
    return (load(inputs, k), load(inputs, k + LANES), load(inputs, k + 2 * LANES))


@inner
def _unit_colour(inputs, k):
    c = _colour(inputs, k)
    return (_unit(c[0]), _unit(c[1]), _unit(c[2]))


class Spot(NamedTuple):
    """Where textures are read, a lane each."""

    u: Any
    v: Any
    area: Any  # that is looked at, in texture coordinates: its logarithm to base 2
    chance: Any  # in [0, 1)
    paint: Any  # the shape's own colour
    more_u: Any  # by the second set of texture coordinates
    more_v: Any
    more_area: Any


@inner
def sharp(u, v):
    """A spot that is looked at as closely as textures allow."""
    white, closely = 0.0 * u + 1.0, 0.0 * u - 99.0
    return Spot(u, v, closely, 0.0 * u, (white, white, white), u, v, closely)


@inner
def sharp_at(vertex):
    """The spot of a vertex, looked at as closely as textures allow."""
    u, closely = vertex.u, 0.0 * vertex.u - 99.0
    return Spot(u, vertex.v, closely, 0.0 * u, vertex.paint, vertex.more_u, vertex.more_v, closely)


@inner
def surface_at(scene, m, at, room):
    """Materials `m` of a scene at spots, as a `Surface`.

    `room` is the address of `MATERIAL_ROOM` floats.
    """
    _read_inputs(scene, m, at, room)
    inputs, held = float32s(room), int32s(room)
    flags = load(held, _FLAGS * LANES)
    base = _unit_colour(inputs, _DIFFUSE * _STEP)
    base = choose((flags & _PAINTED) != 0, multiply(base, at.paint), base)
    opacity, threshold = _unit(load(inputs, _OPACITY * _STEP)), load(inputs, _THRESHOLD * _STEP)
    masked, faded = threshold > 0.0, load(held, _MODE * LANES) == 1
    presence = where(masked, where(opacity >= threshold, 1.0, 0.0), where(faded, opacity, 1.0))
    opacity = where(masked | faded, 1.0, opacity)
    metallic = _unit(load(inputs, _METALLIC * _STEP))
    ior = max(load(inputs, _IOR * _STEP), 1.0)
    edge = (ior - 1.0) / (ior + 1.0)
    dielectric = edge * edge * (1.0 - metallic)
    metal = scale(base, metallic)
    specular = load(held, _WORKFLOW * LANES) == 1
    f0 = choose(
        specular,
        _unit_colour(inputs, _SPECULAR * _STEP),
        (dielectric + metal[0], dielectric + metal[1], dielectric + metal[2]),
    )
    roughness = max(_unit(load(inputs, _ROUGHNESS * _STEP)), _SMOOTHEST)
    coat_roughness = max(_unit(load(inputs, _COAT_ROUGHNESS * _STEP)), _SMOOTHEST)
    e = _colour(inputs, _EMISSION * _STEP)
    tint = _unit_colour(inputs, _TINT * _STEP)
    most = largest(tint)
    hue = choose(most > 0.0, scale(tint, 1.0 / max(most, 1e-30)), (1.0, 1.0, 1.0))
    return Surface(
        diffuse=scale(base, where(specular, 1.0, 1.0 - metallic) * opacity),
        f0=f0,
        # The edge is white, but where there is no interface (ior 1, black specular) there is no edge.
        f90=min(50.0 * largest(f0), 1.0),
        alpha=roughness * roughness,
        coat=_unit(load(inputs, _COAT * _STEP)),
        coat_alpha=coat_roughness * coat_roughness,
        opacity=opacity,
        tint=choose((flags & _HUE) != 0, hue, tint),
        ior=ior,
        presence=presence,
        emission=(max(e[0], 0.0), max(e[1], 0.0), max(e[2], 0.0)),
        bump=_colour(inputs, _BUMP * _STEP),
    )


@inner
def bumps_by_second(room):
    """Whether the normal maps of the materials `surface_at` read last go by second texture coordinates."""
    return (load(int32s(room), _FLAGS * LANES) & _BUMP_BY_SECOND) != 0


@inner
def see_through(surface, tables, cosine, solid):
    """Share of light that passes through each face, 0..1 in each channel.

    It is what coat and surface do not reflect and is not opaque, in the colour of the glass; what is
    `solid` is gone through twice, and has half of its colour from each face.
    """
    holes = 1.0 - surface.presence
    through = (holes, holes, holes)
    if any_of(surface.opacity < 1.0):
        body = (1.0 - surface.opacity) * (1.0 - reflected_share(surface, tables, cosine))
        body = body * surface.presence
        tint = face_colour(surface, solid)
        through = (holes + body * tint[0], holes + body * tint[1], holes + body * tint[2])
    return through


@inner
def face_colour(surface, solid):
    """What one face of glass does to the colour of light."""
    tint = surface.tint
    half = (math.sqrt(tint[0]), math.sqrt(tint[1]), math.sqrt(tint[2]))
    return choose(solid, half, tint)
