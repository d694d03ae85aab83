"""Surfaces of the MaterialX library, `standard_surface` and `open_pbr_surface`, as far as they are the
same model as UsdPreviewSurface: base, metal, gloss, coat, glass, glow and opacity.

What the two have besides (sheen, thin film, subsurface, anisotropy) is left out.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from pxr import UsdShade

from grandlattice.scene_records import Constant, TextureInput

Value = Constant | TextureInput
NEUTRAL = (0.18, 0.18, 0.18)
"""Drawn where the colour is unknown."""
Read = Callable[[UsdShade.Input], Value | None]


@dataclass(frozen=True)
class _Names:
    """What a surface calls its inputs, with what they are where nothing is said."""

    base: str
    base_colour: tuple[float, float, float]
    metal: str
    ior: str
    specular: str
    glow: str
    coat: str = "coat"
    coat_roughness: str = "coat_roughness"
    roughness: float = 0.3
    coat_rough: float = 0.0
    glass: str = "transmission"
    opacity: str = "opacity"
    normal: str = "normal"


_KINDS = {
    "ND_standard_surface_surfaceshader": _Names(
        "base", (0.8, 0.8, 0.8), "metalness", "specular_IOR", "specular",
        "emission", roughness=0.2, coat_rough=0.1
    ),
    "ND_open_pbr_surface_surfaceshader": _Names(
        "base_weight", (0.8, 0.8, 0.8), "base_metalness", "specular_ior", "specular_weight",
        "emission_luminance",
        coat="coat_weight", glass="transmission_weight", opacity="geometry_opacity",
        normal="geometry_normal",
    ),
}  # fmt: skip


def is_layered(shader: UsdShade.Shader) -> bool:
    """Whether a surface is one of these."""
    return shader.GetIdAttr().Get() in _KINDS


def read_layered(shader: UsdShade.Shader, read: Read) -> Mapping[str, Value]:
    """The inputs of such a surface under the names of UsdPreviewSurface.

    Parameters
    ----------
    read : what feeds an input: numbers, a texture, or None.
    """
    names = _KINDS[shader.GetIdAttr().Get()]

    def value(name: str, otherwise: Constant) -> Value:
        given = shader.GetInput(name)
        found = read(given) if given else None
        return otherwise if found is None else found

    def unread(name: str) -> bool:
        """Whether something feeds an input that is not read, so that its colour is unknown."""
        given = shader.GetInput(name)
        return bool(given) and given.HasConnectedSource() and read(given) is None

    weight = 1.0 if names.base == "base_weight" else 0.8
    base = times(value("base_color", names.base_colour), number(value(names.base, (weight,))))
    glass, shine = number(value(names.glass, (0.0,))), number(value(names.specular, (1.0,)))
    inputs: dict[str, Value] = {
        "diffuseColor": base,
        "metallic": value(names.metal, (0.0,)),
        "roughness": value("specular_roughness", (names.roughness,)),
        "ior": (_weakened(number(value(names.ior, (1.5,))), 1.0 if glass > 0.0 else shine),),
        "clearcoat": value(names.coat, (0.0,)),
        "clearcoatRoughness": value(names.coat_roughness, (names.coat_rough,)),
    }
    strength = number(value(names.glow, (0.0,)))
    if strength > 0.0 and not unread("emission_color"):
        inputs["emissiveColor"] = times(value("emission_color", (1.0, 1.0, 1.0)), strength)
    if unread("base_color"):
        inputs["diffuseColor"] = NEUTRAL
    presence = value(names.opacity, (1.0,))
    if glass > 0.0:
        inputs |= {
            "opacity": (1.0 - glass,),
            "transmissionColor": value("transmission_color", (1.0, 1.0, 1.0)),
        }
    elif isinstance(presence, TextureInput) or min(presence) < 1.0:
        one = replace(presence, channel="r") if isinstance(presence, TextureInput) else (min(presence),)
        inputs |= {"opacity": one, "opacityMode": (1.0,)}
    normal = shader.GetInput(names.normal)
    bump = read(normal) if normal and normal.HasConnectedSource() else None
    if isinstance(bump, TextureInput):
        inputs["normal"] = bump
    return inputs


def _weakened(ior: float, weight: float) -> float:
    """The index of refraction at which a surface reflects `weight` times as much head-on.

    OpenPBR 1.1, specular_weight: it scales F0 = ((n - 1) / (n + 1))², and the index follows from that.
    """
    root = math.sqrt(min(max(weight, 0.0), 1.0)) * abs(ior - 1.0) / (ior + 1.0)
    return (1.0 + root) / (1.0 - root)


def number(value: Value) -> float:
    """A weight; one that is textured counts whole."""
    return 1.0 if isinstance(value, TextureInput) else float(value[0])


def times(value: Value, weight: float) -> Value:
    """A colour or texture times a number."""
    if not isinstance(value, TextureInput):
        return tuple(part * weight for part in value)
    if weight == 1.0:
        return value
    r, g, b, a = value.texture.scale
    br, bg, bb, ba = value.texture.bias
    scaled = replace(
        value.texture, scale=(r * weight, g * weight, b * weight, a),
        bias=(br * weight, bg * weight, bb * weight, ba),
    )  # fmt: skip
    return replace(value, texture=scaled)
