"""UsdPreviewSurface for kernels: the table of its inputs, and what they are at one point.

`pack_materials` turns `Material` records into a table; `surface_at` reads them, textures and all,
into a `SURFACE`, which is what scattering needs and no more.  How light scatters is `scattering`.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grandlattice.snapshot import Material, Texture, TextureInput
from grandlattice.tracer.memory import records, table
from grandlattice.tracer.scattering import reflected_share
from grandlattice.tracer.textures import read_texture, texture_at
from grandlattice.tracer.vectors import add, largest, scale, triple

# mypy: disable-error-code="no-untyped-def"

# Inputs by their place in a row of the table.
(
    _DIFFUSE, _EMISSION, _SPECULAR, _BUMP, _METALLIC, _ROUGHNESS, _COAT, _COAT_ROUGHNESS,
    _OPACITY, _THRESHOLD, _IOR,
) = range(11)  # fmt: skip
_SLOTS = 11

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
        ("value", "f8", (33,)),  # three numbers for each input
        ("texture", "i8", (11,)),  # row of the textures, or −1
        ("channel", "i8", (11,)),
        ("specular_workflow", "i8"),
        ("presence", "i8"),  # opacityMode is `presence`
    ],
    align=True,
)

material_at = records(MATERIAL)


SURFACE = np.dtype(
    [
        ("diffuse", "f8", (3,)),
        ("f0", "f8", (3,)),  # reflectance at normal incidence
        ("f90", "f8"),  # and at grazing
        ("alpha", "f8"),  # GGX width
        ("coat", "f8"), ("coat_alpha", "f8"),
        ("opacity", "f8"),
        ("presence", "f8"),  # how much of the surface is there at all
        ("emission", "f8", (3,)),
        ("bump", "f8", (3,)),  # normal in the tangent frame
        # What depends on the outgoing direction, written by `scattering.prepare_lobes`.
        ("chance_coat", "f8"), ("chance_interface", "f8"), ("chance_base", "f8"),
        ("under_coat", "f8"),  # share that gets past the coat
        ("coat_boost", "f8"), ("boost", "f8", (3,)),
        ("base_out", "f8"),  # share that gets past the interface, over its mean
    ],
    align=True,
)  # fmt: skip
"""A material at a point, ready for scattering; colours are linear triples.

It lives in a thread's own room and is handed on by address: thirty numbers passed by value at
every call cost more than the shading itself.
"""

_surface_in = records(SURFACE)


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
def _read_inputs(scene, material, u, v, inputs):
    """Write all inputs at (u, v), three numbers each, to `inputs`.

    One loop with one call: the texture code is large, and is compiled and fetched once.
    """
    for slot in range(_SLOTS):
        k = 3 * slot
        row = material.texture[slot]
        if row < 0:
            inputs[k] = material.value[k]
            inputs[k + 1] = material.value[k + 1]
            inputs[k + 2] = material.value[k + 2]
        else:
            texel = read_texture(texture_at(scene.textures, row), scene.decode, u, v)
            channel = material.channel[slot]
            inputs[k] = texel[channel]
            inputs[k + 1] = texel[1]
            inputs[k + 2] = texel[2]


@njit(error_model="numpy")
def _unit_triple(inputs, slot):
    c = triple(inputs, 3 * slot)
    return (_unit(c[0]), _unit(c[1]), _unit(c[2]))


@njit(error_model="numpy")
def _write(numbers, colour):
    numbers[0], numbers[1], numbers[2] = colour[0], colour[1], colour[2]


@njit(error_model="numpy")
def surface_at(scene, m, u, v, inputs, room):
    """Material `m` of a scene at texture coordinates (u, v), as the `SURFACE` at address `room`.

    `inputs` points at room for 33 floats.
    """
    material = material_at(scene.materials, m)
    _read_inputs(scene, material, u, v, inputs)
    surface = _surface_in(room, 0)
    base = _unit_triple(inputs, _DIFFUSE)
    opacity, presence = _unit(inputs[3 * _OPACITY]), 1.0
    threshold = inputs[3 * _THRESHOLD]
    if threshold > 0.0:
        opacity, presence = 1.0, (1.0 if opacity >= threshold else 0.0)
    elif material.presence:
        opacity, presence = 1.0, opacity
    if material.specular_workflow:
        f0, diffuse = _unit_triple(inputs, _SPECULAR), base
    else:
        metallic, ior = _unit(inputs[3 * _METALLIC]), max(inputs[3 * _IOR], 1.0)
        dielectric = ((ior - 1.0) / (ior + 1.0)) ** 2 * (1.0 - metallic)
        f0 = add((dielectric, dielectric, dielectric), scale(base, metallic))
        diffuse = scale(base, 1.0 - metallic)
    roughness = max(_unit(inputs[3 * _ROUGHNESS]), _SMOOTHEST)
    coat_roughness = max(_unit(inputs[3 * _COAT_ROUGHNESS]), _SMOOTHEST)
    e = triple(inputs, 3 * _EMISSION)
    _write(surface.diffuse, scale(diffuse, opacity))
    _write(surface.f0, f0)
    # The edge is white, but where there is no interface (ior 1, black specular) there is no edge.
    surface.f90 = min(1.0, 50.0 * largest(f0))
    surface.alpha = roughness * roughness
    surface.coat = _unit(inputs[3 * _COAT])
    surface.coat_alpha = coat_roughness * coat_roughness
    surface.opacity, surface.presence = opacity, presence
    _write(surface.emission, (max(e[0], 0.0), max(e[1], 0.0), max(e[2], 0.0)))
    _write(surface.bump, triple(inputs, 3 * _BUMP))
    return surface


@njit(error_model="numpy")
def see_through(surface, tables, cosine):
    """Share of light that passes straight through, 0..1.

    Glass is thin: what is not reflected by coat and surface, and not opaque, goes on unbent.
    """
    body = 0.0
    if surface.opacity < 1.0:
        body = (1.0 - surface.opacity) * (1.0 - reflected_share(surface, tables, cosine))
    return (1.0 - surface.presence) + surface.presence * body
