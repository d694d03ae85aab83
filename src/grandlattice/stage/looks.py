"""From USD materials to `Material` records: UsdPreviewSurface and the textures that drive it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade

from grandlattice.snapshot import Constant, Material, Texture, TextureInput

NEUTRAL = (0.18, 0.18, 0.18)
_INPUTS = (
    "diffuseColor", "emissiveColor", "specularColor", "useSpecularWorkflow", "metallic",
    "roughness", "clearcoat", "clearcoatRoughness", "opacity", "opacityThreshold", "ior", "normal",
)  # fmt: skip
# A surface with no specular at all, for geometry that has no material.
_PLAIN: dict[str, Constant | TextureInput] = {"useSpecularWorkflow": (1.0,), "specularColor": (0.0,) * 3}


def plain_material(prim: Usd.Prim, time: Usd.TimeCode) -> Material:
    """A matt surface of the prim's display colour, neutral grey without one."""
    colour = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance("displayColor")
    values = colour.Get(time) if colour and colour.HasValue() else None
    shown = tuple(float(c) for c in np.mean(np.array(values), axis=0)) if values else NEUTRAL
    return Material(f"displayColor {shown}", {**_PLAIN, "diffuseColor": shown})


def read_material(material: UsdShade.Material, time: Usd.TimeCode) -> Material:
    """The material's UsdPreviewSurface; any other shader is a neutral grey."""
    path = str(material.GetPath())
    shader, _, _ = material.ComputeSurfaceSource()
    if not shader or shader.GetIdAttr().Get() != "UsdPreviewSurface":
        return Material(path, {**_PLAIN, "diffuseColor": NEUTRAL})
    inputs: dict[str, Constant | TextureInput] = {}
    for name in _INPUTS:
        given = shader.GetInput(name)
        value = _input_value(given, time) if given else None
        if value is not None:
            inputs[name] = value
    mode = shader.GetInput("opacityMode")
    if mode and mode.Get() == "presence":
        inputs["opacityMode"] = (1.0,)
    return Material(path, inputs)


def unknown_surface(material: UsdShade.Material) -> str | None:
    """The id of a surface shader the tracer does not know; None where it does."""
    shader, _, _ = material.ComputeSurfaceSource()
    if not shader:
        return "no surface"
    identifier = shader.GetIdAttr().Get()
    return None if identifier == "UsdPreviewSurface" else str(identifier or "a shader without an id")


def _input_value(given: UsdShade.Input, time: Usd.TimeCode) -> Constant | TextureInput | None:
    for attribute in UsdShade.Utils.GetValueProducingAttributes(given):
        if UsdShade.Utils.GetType(attribute.GetName()) == UsdShade.AttributeType.Input:
            return _constant(attribute.Get(time))
        node = UsdShade.Shader(attribute.GetPrim())
        if node and node.GetIdAttr().Get() == "UsdUVTexture":
            texture = _texture(node, time)
            channel = attribute.GetName().removeprefix("outputs:")
            return TextureInput(texture, channel if channel in ("r", "g", "b", "a") else "rgb")
    return None


def _constant(value: Any) -> Constant | None:
    if value is None:
        return None
    if isinstance(value, Sequence) or hasattr(value, "__len__"):
        return tuple(float(part) for part in value)
    return (float(value),)


def _texture(node: UsdShade.Shader, time: Usd.TimeCode) -> Texture:
    def value(name: str, otherwise: Any) -> Any:
        given = node.GetInput(name)
        if not given:
            return otherwise
        for attribute in UsdShade.Utils.GetValueProducingAttributes(given):
            found = attribute.Get(time)
            return otherwise if found is None else found
        return otherwise

    def four(name: str, otherwise: tuple[float, ...]) -> tuple[float, float, float, float]:
        a, b, c, d = (float(part) for part in value(name, otherwise))
        return a, b, c, d

    return Texture(
        file=asset_file(value("file", Sdf.AssetPath())),
        prim=str(node.GetPath()),
        colour_space=str(value("sourceColorSpace", "auto")),
        wrap_s=str(value("wrapS", "useMetadata")),
        wrap_t=str(value("wrapT", "useMetadata")),
        scale=four("scale", (1.0, 1.0, 1.0, 1.0)),
        bias=four("bias", (0.0, 0.0, 0.0, 0.0)),
        fallback=four("fallback", (0.0, 0.0, 0.0, 1.0)),
        transform=_transform(node, time),
    )


def asset_file(asset: Sdf.AssetPath) -> str:
    """The resolved file of an asset path; as written where it does not resolve."""
    return str(asset.resolvedPath or asset.path)


def _transform(node: UsdShade.Shader, time: Usd.TimeCode) -> tuple[float, float, float, float, float, float]:
    """UsdTransform2d between the coordinates and the texture: scale, then turn, then move."""
    coordinates = node.GetInput("st")
    source = coordinates.GetConnectedSources()[0] if coordinates else []
    shader = UsdShade.Shader(source[0].source.GetPrim()) if source else None
    if shader is None or shader.GetIdAttr().Get() != "UsdTransform2d":
        return (1.0, 0.0, 0.0, 0.0, 1.0, 0.0)

    def value(name: str, otherwise: Any) -> Any:
        given = shader.GetInput(name)
        found = given.Get(time) if given else None
        return otherwise if found is None else found

    size, move = value("scale", Gf.Vec2f(1.0)), value("translation", Gf.Vec2f(0.0))
    angle = np.radians(float(value("rotation", 0.0)))
    cosine, sine = float(np.cos(angle)), float(np.sin(angle))
    return (
        cosine * size[0], -sine * size[1], float(move[0]),
        sine * size[0], cosine * size[1], float(move[1]),
    )  # fmt: skip
