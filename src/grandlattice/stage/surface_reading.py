"""From USD materials to `Material` records: the surface, and the textures that drive it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade

from grandlattice.scene_records import Constant, Material, Texture, TextureInput
from grandlattice.stage.layered_surfaces import NEUTRAL, is_layered, read_layered

_INPUTS = (
    "diffuseColor", "emissiveColor", "specularColor", "useSpecularWorkflow", "metallic",
    "roughness", "clearcoat", "clearcoatRoughness", "opacity", "opacityThreshold", "ior", "normal",
)  # fmt: skip
# A surface with no specular at all, for geometry that has no material.
_PLAIN: dict[str, Constant | TextureInput] = {"useSpecularWorkflow": (1.0,), "specularColor": (0.0,) * 3}


def plain_material(prim: Usd.Prim, time: Usd.TimeCode) -> Material:
    """A matt surface of the prim's display colour, neutral grey without one."""
    colour = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance("displayColor")
    if is_painted(prim):
        return Material("displayColor", {**_PLAIN, "diffuseColor": (1.0,) * 3, "painted": (1.0,)})
    values = colour.Get(time) if colour and colour.HasValue() else None
    shown = tuple(float(c) for c in np.mean(np.array(values), axis=0)) if values else NEUTRAL
    return Material(f"displayColor {shown}", {**_PLAIN, "diffuseColor": shown})


def unpainted(material: Material, prim: Usd.Prim, time: Usd.TimeCode) -> Material:
    """A material that asks for the colours of its shape's points, on a shape that has none of its own:
    one colour for all of it, or what the material falls back to."""
    colour = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance("displayColor")
    values = colour.Get(time) if colour and colour.HasValue() else None
    inputs = {k: v for k, v in material.inputs.items() if k not in ("painted", "unpainted")}
    if values:
        shown: Constant | TextureInput = tuple(float(c) for c in np.mean(np.array(values), axis=0))
    else:
        shown = material.inputs["unpainted"]
    return Material(f"{material.path} {shown}", {**inputs, "diffuseColor": shown})


def is_painted(prim: Usd.Prim) -> bool:
    """Whether a mesh has colours of its own that are not the same all over."""
    colour = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance("displayColor")
    return bool(
        prim.IsA(UsdGeom.Mesh) and colour and colour.HasValue()
        and colour.GetInterpolation() != UsdGeom.Tokens.constant
    )  # fmt: skip


def _reads_paint(given: UsdShade.Input) -> bool:
    """Whether an input is fed by the display colour."""
    source = given.GetConnectedSources()[0] if given else []
    node = UsdShade.Shader(source[0].source.GetPrim()) if source else None
    if not node or not str(node.GetIdAttr().Get()).startswith(("UsdPrimvarReader_", "ND_geompropvalue_")):
        return False
    named = node.GetInput("varname") or node.GetInput("geomprop")
    found = UsdShade.Utils.GetValueProducingAttributes(named) if named else []
    return bool(found) and str(found[0].Get()) == "displayColor"


def read_material(material: UsdShade.Material, time: Usd.TimeCode) -> Material:
    """The material's surface: UsdPreviewSurface, or what a standard or open surface has in common with
    it; any other shader is a neutral grey."""
    path = str(material.GetPath())
    shader = surface_of(material)
    inputs: dict[str, Constant | TextureInput] = {**_PLAIN, "diffuseColor": NEUTRAL}
    if shader is not None and shader.GetIdAttr().Get() == "UsdPreviewSurface":
        inputs = {}
        for name in _INPUTS:
            given = shader.GetInput(name)
            value = input_value(given, time) if given else None
            if value is not None:
                inputs[name] = value
            elif name == "diffuseColor" and given and given.HasConnectedSource():
                inputs[name] = NEUTRAL  # something feeds it that is not read
        if _reads_paint(shader.GetInput("diffuseColor")):
            unpainted = inputs.get("diffuseColor", NEUTRAL)
            inputs |= {"diffuseColor": (1.0,) * 3, "painted": (1.0,), "unpainted": unpainted}
        mode = shader.GetInput("opacityMode")
        if mode and mode.Get() == "presence":
            inputs["opacityMode"] = (1.0,)
        for second in uv_sets(material)[1:]:
            inputs = {name: _read_by_second(shader, value, second) for name, value in inputs.items()}
    elif shader is not None and is_layered(shader):
        inputs = dict(read_layered(shader, lambda given: input_value(given, time)))
    return Material(path, inputs)


def surface_of(material: UsdShade.Material) -> UsdShade.Shader | None:
    """The shader of the surface: one that is known, where several contexts have one each."""
    shaders = [material.ComputeSurfaceSource(context)[0] for context in ("", "mtlx")]
    found = [UsdShade.Shader(shader) for shader in shaders if shader]
    known = [s for s in found if is_known_surface(s)]
    return next(iter([*known, *found]), None)


def is_known_surface(shader: UsdShade.Shader) -> bool:
    """Whether the tracer knows a surface shader."""
    return shader.GetIdAttr().Get() == "UsdPreviewSurface" or is_layered(shader)


def unknown_surface(material: UsdShade.Material) -> str | None:
    """The id of a surface shader the tracer does not know; None where it does."""
    shader = surface_of(material)
    if shader is None:
        return "no surface"
    identifier = shader.GetIdAttr().Get()
    return None if is_known_surface(shader) else str(identifier or "a shader without an id")


_IMAGES = ("ND_image_", "ND_tiledimage_")


def input_value(given: UsdShade.Input, time: Usd.TimeCode) -> Constant | TextureInput | None:
    """A number or a texture; None where something else feeds the input."""
    for attribute in UsdShade.Utils.GetValueProducingAttributes(given):
        if UsdShade.Utils.GetType(attribute.GetName()) == UsdShade.AttributeType.Input:
            return _constant(attribute.Get(time))
        node = UsdShade.Shader(attribute.GetPrim())
        identifier = str(node.GetIdAttr().Get() or "") if node else ""
        channel = attribute.GetName().removeprefix("outputs:")
        channel = channel if channel in ("r", "g", "b", "a") else "rgb"
        if identifier == "UsdUVTexture":
            return TextureInput(_texture(node, time), channel)
        if identifier.startswith("ND_normalmap") and node.GetInput("in"):
            inside = input_value(node.GetInput("in"), time)
            if isinstance(inside, TextureInput):
                # From 0..1 to −1..1, as UsdPreviewSurface wants its normals.
                moved = replace(inside.texture, scale=(2.0, 2.0, 2.0, 1.0), bias=(-1.0, -1.0, -1.0, 0.0))
                return replace(inside, texture=moved)
            return None
        if identifier.startswith("UsdPrimvarReader_"):
            fallback = node.GetInput("fallback")
            return input_value(fallback, time) if fallback else None
        if identifier.startswith(_IMAGES):
            one = "float" in identifier
            return TextureInput(_mtlx_texture(node, time), "r" if one else channel)
    return None


def _mtlx_texture(node: UsdShade.Shader, time: Usd.TimeCode) -> Texture:
    """An image of the MaterialX library; its colour space stands at the file."""
    given = node.GetInput("file")
    found = UsdShade.Utils.GetValueProducingAttributes(given) if given else []
    asset = found[0].Get(time) if found else None
    space = str(found[0].GetColorSpace()) if found else ""
    wraps = {"periodic": "repeat", "clamp": "clamp", "mirror": "mirror", "constant": "black"}

    def wrap(name: str) -> str:
        mode = node.GetInput(name)
        return wraps.get(str(mode.Get(time)) if mode else "periodic", "repeat")

    tiling = node.GetInput("uvtiling")
    times = tiling.Get(time) if tiling else None
    across, down = (float(times[0]), float(times[1])) if times is not None else (1.0, 1.0)
    return Texture(
        file=asset_file(asset) if asset is not None else "", prim=str(node.GetPath()),
        colour_space="sRGB" if "srgb" in space.lower() else "raw",
        wrap_s=wrap("uaddressmode"), wrap_t=wrap("vaddressmode"),
        transform=(across, 0.0, 0.0, 0.0, down, 0.0),
        tiles=_tiles(node, asset) if asset is not None and "<UDIM>" in asset.path else (),
    )  # fmt: skip


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

    file = value("file", Sdf.AssetPath())
    return Texture(
        file=asset_file(file),
        tiles=_tiles(node, file) if "<UDIM>" in file.path else (),
        prim=str(node.GetPath()),
        colour_space=str(value("sourceColorSpace", "auto")),
        wrap_s=str(value("wrapS", "useMetadata")),
        wrap_t=str(value("wrapT", "useMetadata")),
        scale=four("scale", (1.0, 1.0, 1.0, 1.0)),
        bias=four("bias", (0.0, 0.0, 0.0, 0.0)),
        fallback=four("fallback", (0.0, 0.0, 0.0, 1.0)),
        transform=_transform(node, time),
    )


def _tiles(node: UsdShade.Shader, asset: Sdf.AssetPath) -> tuple[tuple[int, str], ...]:
    """The tiles of an image that are there: number and file."""
    for attribute in UsdShade.Utils.GetValueProducingAttributes(node.GetInput("file")):
        for spec in attribute.GetPropertyStack():
            found = UsdShade.UdimUtils.ResolveUdimTilePaths(asset.path, spec.layer)
            if found:
                return tuple((int(number), str(path)) for path, number in found)
    return ()


def uv_sets(material: UsdShade.Material) -> tuple[str, ...]:
    """The primvars a material's textures are read by, in the order they are named; the first two count."""
    found: dict[str, None] = {}
    for below in Usd.PrimRange(material.GetPrim(), Usd.TraverseInstanceProxies()):
        reader = UsdShade.Shader(below)
        if reader and reader.GetIdAttr().Get() == "UsdPrimvarReader_float2":
            found.setdefault(_named_by(reader))
    return tuple(name for name in found if name)[:2]


def _named_by(reader: UsdShade.Shader) -> str:
    """The primvar that a reader reads."""
    named = reader.GetInput("varname")
    for attribute in UsdShade.Utils.GetValueProducingAttributes(named) if named else ():
        if attribute.Get():
            return str(attribute.Get())
    return ""


def _read_by(node: UsdShade.Shader) -> str:
    """The primvar that a texture is read by, whatever turns its coordinates on the way."""
    for name in ("st", "in", "in"):
        given = node.GetInput(name)
        source = given.GetConnectedSources()[0] if given else []
        if not source:
            return ""
        node = UsdShade.Shader(source[0].source.GetPrim())
        if node.GetIdAttr().Get() == "UsdPrimvarReader_float2":
            return _named_by(node)
    return ""


def _read_by_second(
    shader: UsdShade.Shader, value: Constant | TextureInput, second: str
) -> Constant | TextureInput:
    """An input, its texture marked where it is read by the `second` primvar."""
    if not isinstance(value, TextureInput):
        return value
    node = UsdShade.Shader(shader.GetPrim().GetStage().GetPrimAtPath(value.texture.prim))
    return replace(value, texture=replace(value.texture, second=_read_by(node) == second))


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
