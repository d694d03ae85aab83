"""Setting and multiplying attributes of exactly the selected prims."""

from __future__ import annotations

from typing import Any

from pxr import Gf, Sdf, Usd, UsdLux, UsdShade

from grandlattice._support.filesystem import is_file
from grandlattice.errors import EditError, Place
from grandlattice.stage.attributes import (
    find_attribute,
    is_light,
    multiplied,
    read_factor,
    read_value,
    value_type,
)
from grandlattice.stage.edit_stage import Draft


def set_value(draft: Draft, prim: Usd.Prim, name: str, text: Any, place: Place) -> None:
    """Set one attribute by its short name, whatever stood there."""
    attribute = find_attribute(prim, name, place)
    value = read_value(text, attribute, draft.folder, place)
    if isinstance(value, Sdf.AssetPath) and not is_file(value.path):
        raise EditError(f"There is no file {text}.", place=place, cure="check the path")
    _disconnect(draft, attribute, place)
    written = _written(attribute)
    written.Clear()  # samples of an edit before would be stronger than one value
    written.Set(value)
    if name in ("colorTemperature", "inputs:colorTemperature"):
        prim.GetAttribute("inputs:enableColorTemperature").Set(True)


def set_values(draft: Draft, body: Any, place: Place) -> None:
    for path in draft.selected(body, place):
        prim = draft.writable(path)
        for name, text in body.values().items():
            set_value(draft, prim, name, text, place)


def multiply_values(draft: Draft, body: Any, place: Place) -> None:
    for path in draft.selected(body, place):
        prim = draft.writable(path)
        for name, text in body.values().items():
            attribute = find_attribute(prim, name, place)
            factor = read_factor(text, attribute, place)
            texture = _texture_behind(attribute)
            if texture is not None:
                scale = texture.GetInput("scale") or texture.CreateInput("scale", Sdf.ValueTypeNames.Float4)
                stands = scale.Get()
                stands = Gf.Vec4f(1.0) if stands is None else stands
                scale.Set(multiplied(stands, factor, attribute, place))
                continue
            times = attribute.GetTimeSamples()
            if not attribute.HasValue():
                raise EditError(f"{name} of {path} has no value to multiply.", place=place)
            values = {time: attribute.Get(time) for time in times}
            stands = attribute.Get()
            if stands is not None:
                attribute.Set(multiplied(stands, factor, attribute, place))
            for time, value in values.items():
                attribute.Set(multiplied(value, factor, attribute, place), time)


def _written(attribute: Usd.Attribute) -> Usd.Attribute:
    """The attribute, declared first where the schema knows it but the scene leaves it out."""
    if attribute.IsDefined():
        return attribute
    return attribute.GetPrim().CreateAttribute(attribute.GetName(), value_type(attribute))


def _disconnect(draft: Draft, attribute: Usd.Attribute, place: Place) -> None:
    if attribute.HasAuthoredConnections():
        attribute.SetConnections([])
        prim = str(attribute.GetPrim().GetPath())
        name = attribute.GetName().removeprefix("inputs:")
        draft.notes.append((prim, f"{name} was driven by a texture and is now one value", place))


def _texture_behind(attribute: Usd.Attribute) -> UsdShade.Shader | None:
    for source in attribute.GetConnections() if attribute.HasAuthoredConnections() else ():
        shader = UsdShade.Shader(attribute.GetStage().GetPrimAtPath(source.GetPrimPath()))
        if shader and shader.GetIdAttr().Get() == "UsdUVTexture":
            return shader
    return None


def link(draft: Draft, body: Any, place: Place) -> None:
    """What a light reaches, and what casts its shadow."""
    for path in draft.selector.prims(body.light, place=place, maybe=body.maybe):
        prim = draft.writable(path)
        if not is_light(prim):
            raise EditError(f"{path} is no light, so nothing can be linked to it.", place=place)
        light = UsdLux.LightAPI(prim)
        for texts, collection in (
            (body.to, light.GetLightLinkCollectionAPI()), (body.shadow, light.GetShadowLinkCollectionAPI()),
        ):  # fmt: skip
            if texts is None:
                continue
            members = draft.selector.prims(texts, place=place, maybe=body.maybe)
            collection.CreateIncludeRootAttr().Set(False)
            collection.CreateExpansionRuleAttr().Set(Usd.Tokens.expandPrims)
            collection.CreateIncludesRel().SetTargets(members)
            collection.CreateExcludesRel().SetTargets([])
