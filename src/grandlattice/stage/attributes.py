"""Attributes by the short names artists use, and values from text by their USD type.

`roughness` on a material reaches the input of its surface shader, `intensity` on a light its
`inputs:intensity`, `texture` its image file.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, Vt

from grandlattice.errors import EditError, Place, nearest

_SYNONYMS = {"texture": "inputs:texture:file", "color": "inputs:color"}


def find_attribute(prim: Usd.Prim, name: str, place: Place) -> Usd.Attribute:
    """The attribute that `name` means on `prim`.

    Raises
    ------
    EditError
        When it means none, with the nearest names.
    """
    shader = surface_shader(prim)
    if shader is not None:
        found = shader.GetInput(name)
        if found:
            return found.GetAttr()
        known_input = _schema_attribute(shader.GetPrim(), f"inputs:{name}")
        if known_input is not None:
            return known_input
    for candidate in (name, f"inputs:{name}", _SYNONYMS.get(name, name)):
        attribute = prim.GetAttribute(candidate)
        if attribute and attribute.IsDefined():
            return attribute
    known = short_names(prim)
    if shader is not None:
        known += [i.GetBaseName() for i in shader.GetInputs()]
    raise EditError(f"{prim.GetPath()} has no attribute {name}. {nearest(name, known)}", place=place)


def metres_per_unit_of(stage: Usd.Stage) -> float:
    """The length of a scene unit; USD's own fallback, a centimetre, where the scene says none that can be."""
    length = float(UsdGeom.GetStageMetersPerUnit(stage))
    return length if 0.0 < length < float("inf") else 0.01


def surface_shader(prim: Usd.Prim) -> UsdShade.Shader | None:
    """The surface shader of a material prim, None for other prims."""
    if not prim.IsA(UsdShade.Material):
        return None
    source = UsdShade.Material(prim).ComputeSurfaceSource()
    shader = source[0] if isinstance(source, tuple) else source
    return shader if shader else None


# Inputs of UsdPreviewSurface a scene may leave out, with their types.
_SURFACE_INPUTS = {
    "diffuseColor": Sdf.ValueTypeNames.Color3f, "emissiveColor": Sdf.ValueTypeNames.Color3f,
    "specularColor": Sdf.ValueTypeNames.Color3f, "useSpecularWorkflow": Sdf.ValueTypeNames.Int,
    "metallic": Sdf.ValueTypeNames.Float, "roughness": Sdf.ValueTypeNames.Float,
    "clearcoat": Sdf.ValueTypeNames.Float, "clearcoatRoughness": Sdf.ValueTypeNames.Float,
    "opacity": Sdf.ValueTypeNames.Float, "opacityThreshold": Sdf.ValueTypeNames.Float,
    "ior": Sdf.ValueTypeNames.Float, "normal": Sdf.ValueTypeNames.Normal3f,
}  # fmt: skip


def _schema_attribute(prim: Usd.Prim, name: str) -> Usd.Attribute | None:
    shader = UsdShade.Shader(prim)
    short = name.removeprefix("inputs:")
    if shader.GetIdAttr().Get() == "UsdPreviewSurface" and short in _SURFACE_INPUTS:
        return prim.GetAttribute(name)
    return None


def value_type(attribute: Usd.Attribute) -> Sdf.ValueTypeName:
    """The type of an attribute, known to the schema even where the scene leaves it out."""
    if attribute.IsDefined():
        return attribute.GetTypeName()
    return _SURFACE_INPUTS[attribute.GetBaseName()]


def short_names(prim: Usd.Prim) -> list[str]:
    """Names an artist may use for the attributes of a prim."""
    return [name.removeprefix("inputs:") for name in prim.GetPropertyNames()]


def read_value(text: Any, attribute: Usd.Attribute, folder: Path, place: Place) -> Any:
    """A value of the attribute's type from text or a list of texts.

    Raises
    ------
    EditError
        When the text is none.
    """
    kind = value_type(attribute)
    name = attribute.GetName().removeprefix("inputs:")
    words = list(text) if isinstance(text, Sequence) and not isinstance(text, str) else [text]
    python = kind.type.pythonClass
    try:
        if kind in (Sdf.ValueTypeNames.Asset,):
            return Sdf.AssetPath(str((folder / str(words[0])).resolve()))
        if kind in (Sdf.ValueTypeNames.Token, Sdf.ValueTypeNames.String):
            return _token(str(words[0]), attribute, place)
        if kind == Sdf.ValueTypeNames.Bool:
            return _boolean(str(words[0]))
        if kind in (Sdf.ValueTypeNames.Int, Sdf.ValueTypeNames.UInt, Sdf.ValueTypeNames.Int64):
            return int(str(words[0]))
        if kind in (Sdf.ValueTypeNames.Float, Sdf.ValueTypeNames.Double, Sdf.ValueTypeNames.Half):
            if len(words) != 1:
                raise ValueError("one number is wanted")
            return float(str(words[0]))
        numbers = [float(str(word)) for word in words]
        if kind.isArray:
            return Vt.Vec3fArray([Gf.Vec3f(*numbers)])
        if python is not None and hasattr(python, "dimension"):
            size = int(python.dimension)
            if len(numbers) == 1:
                numbers *= size
            if len(numbers) != size:
                raise ValueError(f"{size} numbers are wanted")
            return python(*numbers)
    except ValueError as problem:
        raise EditError(
            f"{name} of {attribute.GetPrim().GetPath()} cannot be {text!r}: {problem}.", place=place
        ) from None
    raise EditError(
        f"{name} of {attribute.GetPrim().GetPath()} is a {kind}, which a plan cannot set.", place=place
    )


def _token(text: str, attribute: Usd.Attribute, place: Place) -> str:
    allowed = attribute.GetMetadata("allowedTokens") if attribute.IsDefined() else None
    if allowed and text not in allowed:
        raise EditError(
            f"{attribute.GetName()} of {attribute.GetPrim().GetPath()} cannot be {text}. "
            f"{nearest(text, allowed)}",
            place=place,
        )
    return text


def _boolean(text: str) -> bool:
    if text.lower() in ("true", "yes", "on", "1"):
        return True
    if text.lower() in ("false", "no", "off", "0"):
        return False
    raise ValueError("true or false is wanted")


def read_factor(text: Any, attribute: Usd.Attribute, place: Place) -> tuple[float, ...]:
    """A factor: one number, or three for a colour."""
    words = list(text) if isinstance(text, Sequence) and not isinstance(text, str) else [text]
    try:
        factor = tuple(float(str(word)) for word in words)
        if len(factor) not in (1, 3):
            raise ValueError
        return factor
    except ValueError:
        raise EditError(
            f"{attribute.GetName().removeprefix('inputs:')} cannot be multiplied by {text!r}.",
            place=place,
            cure="write one number, or three for a colour",
        ) from None


def multiplied(value: Any, factor: tuple[float, ...], attribute: Usd.Attribute, place: Place) -> Any:
    """`value` times `factor`, of the same type."""
    if isinstance(value, float) or (isinstance(value, int) and not isinstance(value, bool)):
        return type(value)(value * factor[0])
    if isinstance(value, Gf.Vec3f | Gf.Vec3d | Gf.Vec3h):
        factors = factor * 3 if len(factor) == 1 else factor
        return type(value)(*(v * f for v, f in zip(value, factors, strict=True)))
    if isinstance(value, Gf.Vec4f):
        factors = factor * 3 if len(factor) == 1 else factor
        return Gf.Vec4f(*(v * f for v, f in zip(value, (*factors, 1.0), strict=True)))
    raise EditError(
        f"{attribute.GetName()} of {attribute.GetPrim().GetPath()} is no number to multiply.",
        place=place,
    )


def said_by_usd(problem: Exception, most: int = 160) -> str:
    """What an error of USD says, without where in its own source that was."""
    lines = [line.strip() for line in str(problem).splitlines() if line.strip()]
    last = lines[-1] if lines else "it cannot be read"
    quoted = re.search(r"in file \S+ : '(.*)'$", last)
    return (quoted[1] if quoted else last)[:most]


def is_light(prim: Usd.Prim) -> bool:
    """Whether a prim is a light of any kind."""
    return "LightAPI" in prim.GetAppliedSchemas()  # half the time of asking by type
