"""Materials of the demo as UsdPreviewSurface networks."""

from __future__ import annotations

from collections.abc import Mapping

from pxr import Gf, Sdf, Usd, UsdShade

_TYPES = {
    "diffuseColor": Sdf.ValueTypeNames.Color3f, "emissiveColor": Sdf.ValueTypeNames.Color3f,
    "specularColor": Sdf.ValueTypeNames.Color3f, "normal": Sdf.ValueTypeNames.Normal3f,
    "useSpecularWorkflow": Sdf.ValueTypeNames.Int,
}  # fmt: skip

Image = tuple[str, float, float]
"""A texture with how often it repeats along u and v."""


def define(stage: Usd.Stage, path: str, **inputs: float | tuple[float, ...] | Mapping[str, object]) -> None:
    """Define a material.

    Each input is a number, a colour, or ``{"image": file, "repeat": (u, v), "out": channel}``
    where out is ``rgb`` or ``r``.
    """
    material = UsdShade.Material.Define(stage, path)
    shader = UsdShade.Shader.Define(stage, f"{path}/Surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    for name, value in inputs.items():
        kind = _TYPES.get(name, Sdf.ValueTypeNames.Float)
        given = shader.CreateInput(name, kind)
        if isinstance(value, Mapping):
            texture = _texture(stage, f"{path}/{name}Image", name, value)
            given.ConnectToSource(texture.ConnectableAPI(), str(value.get("out", "rgb")))
        elif isinstance(value, tuple):
            given.Set(Gf.Vec3f(*value))
        else:
            given.Set(value)
    shader.CreateOutput("surface", Sdf.ValueTypeNames.Token)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")


def _texture(stage: Usd.Stage, path: str, name: str, value: Mapping[str, object]) -> UsdShade.Shader:
    texture = UsdShade.Shader.Define(stage, path)
    texture.CreateIdAttr("UsdUVTexture")
    texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(str(value["image"])))
    texture.CreateInput("wrapS", Sdf.ValueTypeNames.Token).Set("repeat")
    texture.CreateInput("wrapT", Sdf.ValueTypeNames.Token).Set("repeat")
    data = name not in ("diffuseColor", "emissiveColor", "specularColor")
    texture.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set("raw" if data else "sRGB")
    if name == "normal":
        texture.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(2, 2, 2, 1))
        texture.CreateInput("bias", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(-1, -1, -1, 0))
    reader = UsdShade.Shader.Define(stage, f"{path}Coordinates")
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
    source = reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    repeat = value.get("repeat")
    if repeat is not None:
        placed = UsdShade.Shader.Define(stage, f"{path}Placement")
        placed.CreateIdAttr("UsdTransform2d")
        placed.CreateInput("in", Sdf.ValueTypeNames.Float2).ConnectToSource(source)
        placed.CreateInput("scale", Sdf.ValueTypeNames.Float2).Set(Gf.Vec2f(*repeat))  # type: ignore[misc]
        source = placed.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(source)
    for channel in ("r", "g", "b", "a"):
        texture.CreateOutput(channel, Sdf.ValueTypeNames.Float)
    texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    return texture


def image(file: str, out: str = "rgb", repeat: tuple[float, float] | None = None) -> dict[str, object]:
    """An image input for `define`."""
    return {"image": f"textures/{file}.png", "out": out, "repeat": repeat}


def define_all(stage: Usd.Stage, scope: str) -> None:
    """Every material of the demo below `scope`."""

    def make(name: str, **inputs: float | tuple[float, ...] | Mapping[str, object]) -> None:
        define(stage, f"{scope}/{name}", **inputs)

    make("Brass", diffuseColor=(0.90, 0.66, 0.30), metallic=1.0, roughness=image("brushed", "r", (2, 2)))
    make("BrassDark", diffuseColor=(0.66, 0.43, 0.18), metallic=1.0, roughness=image("brushed", "r", (3, 3)))
    make("DialBrass", diffuseColor=image("dial-brass"), metallic=1.0, roughness=image("dial-roughness", "r"))
    for name, repeat in (("Verdigris", (2.0, 2.0)), ("VerdigrisDark", (1.3, 1.7))):
        make(
            name,
            diffuseColor=image("verdigris", repeat=repeat),
            metallic=image("verdigris-metal", "r", repeat),
            roughness=image("verdigris-roughness", "r", repeat),
        )
    make("DialVerdigris", diffuseColor=image("dial-verdigris"), metallic=0.15, roughness=0.55)
    make("Porcelain", diffuseColor=(0.86, 0.85, 0.81), roughness=0.35, clearcoat=1.0, clearcoatRoughness=0.04)
    make(
        "PorcelainBlue",
        diffuseColor=(0.035, 0.075, 0.24),
        roughness=0.35,
        clearcoat=1.0,
        clearcoatRoughness=0.04,
    )
    make(
        "DialPorcelain",
        diffuseColor=image("dial-porcelain"),
        roughness=0.3,
        clearcoat=1.0,
        clearcoatRoughness=0.05,
    )
    make("Steel", diffuseColor=(0.58, 0.57, 0.55), metallic=1.0, roughness=0.24)
    make("Sun", diffuseColor=(1.0, 0.72, 0.26), metallic=1.0, roughness=0.12)
    make("Glass", diffuseColor=(0.9, 0.95, 0.94), opacity=0.0, roughness=0.02, ior=1.5)
    make(
        "Walnut",
        diffuseColor=image("walnut", repeat=(0.012, 0.012)),
        roughness=image("walnut-roughness", "r", (0.012, 0.012)),
        clearcoat=0.6,
        clearcoatRoughness=0.12,
    )
    make(
        "WalnutTurned",
        diffuseColor=image("walnut", repeat=(1.0, 1.0)),
        roughness=image("walnut-roughness", "r", (1.0, 1.0)),
        clearcoat=0.6,
        clearcoatRoughness=0.12,
    )
    make(
        "Boards",
        diffuseColor=image("boards"),
        roughness=image("boards-roughness", "r"),
        normal=image("boards-normal"),
    )
    make("Panel", diffuseColor=(0.075, 0.135, 0.125), roughness=0.38)
    make("Plaster", diffuseColor=(0.52, 0.44, 0.33), roughness=0.8)
    make("Ivory", diffuseColor=(0.70, 0.66, 0.57), roughness=0.45)
    make("Velvet", diffuseColor=(0.30, 0.06, 0.035), roughness=0.9)
    make("Rug", diffuseColor=(0.20, 0.05, 0.04), roughness=0.95)
    make("RugBorder", diffuseColor=(0.42, 0.33, 0.20), roughness=0.95)
    make("Shade", diffuseColor=(0.85, 0.76, 0.58), roughness=0.8, opacity=0.45)
    make("LeatherRed", diffuseColor=(0.23, 0.035, 0.025), roughness=0.42)
    make("LeatherGreen", diffuseColor=(0.025, 0.085, 0.05), roughness=0.42)
    make("LeatherBrown", diffuseColor=(0.15, 0.07, 0.03), roughness=0.42)
    make("Paper", diffuseColor=(0.74, 0.69, 0.56), roughness=0.85)
    for name in ("Mercury", "Venus", "Earth", "Mars", "Jupiter", "Saturn", "Uranus", "Neptune", "Moon"):
        make(name, diffuseColor=image(name.lower()), roughness=0.4, clearcoat=1.0, clearcoatRoughness=0.06)


FINISHES = {
    "brass": {"Metal": "Brass", "MetalDark": "BrassDark", "Dial": "DialBrass"},
    "verdigris": {"Metal": "Verdigris", "MetalDark": "VerdigrisDark", "Dial": "DialVerdigris"},
    "porcelain": {"Metal": "Porcelain", "MetalDark": "PorcelainBlue", "Dial": "DialPorcelain"},
}
"""Variants of `finish`: what each kind of part is made of."""
