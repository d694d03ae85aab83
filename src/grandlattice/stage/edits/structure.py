"""Edits that change what is there: variants, other assets, new assets, new lights.

Each is authored into a layer of its own, before any selection of the other edits is evaluated.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pxr import Gf, Sdf, Usd, UsdGeom

from grandlattice._support.filesystem import is_file
from grandlattice.errors import EditError, Place, nearest
from grandlattice.stage.edit_stage import Draft
from grandlattice.stage.edits.attribute_values import set_value
from grandlattice.stage.edits.transforms import point_of
from grandlattice.stage.opened_scene import resolved, usd_layer
from grandlattice.tables.light_kinds import LIGHT_KINDS


def choose(draft: Draft, body: Any, place: Place) -> None:
    """Choose variants."""
    for path in draft.selected(body, place):
        prim = draft.writable(path)
        sets = prim.GetVariantSets()
        for name, variant in body.values().items():
            if not sets.HasVariantSet(name):
                raise EditError(
                    f"{path} has no variant set {name}. {nearest(name, sets.GetNames())}", place=place
                )
            variants = sets.GetVariantSet(name).GetVariantNames()
            if str(variant) not in variants:
                raise EditError(
                    f"{name} of {path} has no variant {variant}. {nearest(str(variant), variants)}",
                    place=place,
                )
        for name, variant in body.values().items():
            sets.GetVariantSet(name).SetVariantSelection(str(variant))


def swap(draft: Draft, body: Any, place: Place) -> None:
    """Replace references and payloads; the prim keeps its place, units and up axis are corrected."""
    for path in draft.selected(body, place):
        prim = draft.writable(path)
        inline = [child for child in prim.GetChildren() if _stands_in_scene(child)]
        had_asset = prim.HasAuthoredReferences() or prim.HasAuthoredPayloads()
        overs = [] if not had_asset else [p.GetPath() for p in Usd.PrimRange(prim) if p != prim]
        prim.GetPayloads().SetPayloads([])
        source, kind = _source(draft, body.with_, place)
        if kind in ("", "Xform", "Scope") or kind == prim.GetTypeName():
            prim.GetReferences().SetReferences([source])
        else:
            # A bare mesh cannot be both itself and the group the scene makes of this prim.
            prim.GetReferences().SetReferences([])
            draft.stage.DefinePrim(path.AppendChild("swapped")).GetReferences().SetReferences([source])
        if not had_asset:
            for child in inline:
                child.SetActive(False)
            if inline:
                draft.note(
                    prim, f"it stands in the scene itself; its own {inline[0].GetName()} … are left out"
                )
        _correct_units(draft, prim, source)
        lost = [str(p) for p in overs if _has_lost_target(draft.stage.GetPrimAtPath(p))]
        if lost:
            more = f" and {len(lost) - 1} more" if len(lost) > 1 else ""
            draft.note(prim, f"what the scene says of {lost[0]}{more} has nothing to act on in {body.with_}")


def place(draft: Draft, body: Any, place: Place) -> None:
    """Bring in an asset."""
    source, _ = _source(draft, body.file, place)
    path = _new_path(draft, body, Path(body.file).stem, place)
    prim = UsdGeom.Xform.Define(draft.stage, path).GetPrim()
    draft.stage.DefinePrim(path.AppendChild("asset")).GetReferences().SetReferences([source])
    _put_at(draft, prim, body, place)
    _correct_units(draft, prim, source)


def light(draft: Draft, body: Any, place: Place) -> None:
    """Bring in a light."""
    path = _new_path(draft, body, f"{body.kind.capitalize()}Light", place)
    prim = draft.stage.DefinePrim(path, LIGHT_KINDS[body.kind].prims[0])
    _put_at(draft, prim, body, place)
    for name, text in body.values().items():
        set_value(draft, prim, name, text, place)


def _new_path(draft: Draft, body: Any, fallback: str, place: Place) -> Sdf.Path:
    name = body.name or "".join(letter if letter.isalnum() else "_" for letter in fallback)
    name = name if not name[:1].isdigit() else f"_{name}"
    if not Sdf.Path.IsValidIdentifier(name):
        raise EditError(f"{name!r} is no name for a prim.", place=place, cure="use letters, digits and _")
    parent = Sdf.Path.absoluteRootPath
    if body.under is not None:
        parent = draft.writable(draft.selector.prims([body.under], place=place)[0]).GetPath()
    path = parent.AppendChild(name)
    if draft.stage.GetPrimAtPath(path):
        raise EditError(f"The scene has a {path} already.", place=place, cure="give it another name:")
    return path


def _put_at(draft: Draft, prim: Usd.Prim, body: Any, place: Place) -> None:
    if body.at is not None:
        xformable = UsdGeom.Xformable(prim)
        parent = xformable.ComputeParentToWorldTransform(Usd.TimeCode.EarliestTime())
        point = parent.GetInverse().Transform(point_of(draft, body.at, place))
        xformable.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble).Set(point)


def _source(draft: Draft, text: str, place: Place) -> tuple[Sdf.Reference, str]:
    """A reference to a file or to a prim of the scene, and the type of what it brings."""
    if text.startswith("/") and Sdf.Path.IsValidPathString(text) and not is_file(draft.folder / text):
        path = draft.selector.prims([text], place=place)[0]
        prim = draft.stage.GetPrimAtPath(path)
        return Sdf.Reference(primPath=path), str(prim.GetTypeName())
    file = resolved(draft.folder / text)
    layer = usd_layer(file)
    if layer is None:
        raise EditError(
            f"The asset {text} is not there, or is no USD file.",
            place=place, cure="check the path; it is relative to the plan",
        )  # fmt: skip
    roots = [prim.path for prim in layer.rootPrims if prim.specifier == Sdf.SpecifierDef]
    if not roots:
        raise EditError(f"{text} holds nothing.", place=place)
    root = layer.GetPrimAtPath(f"/{layer.defaultPrim}") if layer.defaultPrim else None
    path = root.path if root is not None else roots[0]
    return Sdf.Reference(str(file), path), str(layer.GetPrimAtPath(path).typeName)


def _stands_in_scene(prim: Usd.Prim) -> bool:
    """Whether a prim is defined in the scene's own layers, not in an asset."""
    stack = prim.GetStage().GetLayerStack()
    return any(s.specifier == Sdf.SpecifierDef and s.layer in stack for s in prim.GetPrimStack())


def _has_lost_target(prim: Usd.Prim) -> bool:
    return bool(prim) and not prim.IsDefined()


def _correct_units(draft: Draft, prim: Usd.Prim, source: Sdf.Reference) -> None:
    """Scale and turn an asset that was made in other units or with another axis up."""
    layer = Sdf.Layer.Find(source.assetPath) if source.assetPath else None
    if layer is None or not prim.IsA(UsdGeom.Xformable):
        return
    root = layer.pseudoRoot
    xformable = UsdGeom.Xformable(prim)
    extra = []
    if root.HasInfo(UsdGeom.Tokens.metersPerUnit):
        factor = float(root.GetInfo(UsdGeom.Tokens.metersPerUnit)) / draft.metres_per_unit
        factor = factor if 0.0 < factor < float("inf") else 1.0
        if abs(factor - 1.0) > 1e-6:
            extra.append(Gf.Matrix4d().SetScale(factor))
            draft.note(prim, f"its units are others; it is scaled by {factor:g}")
    if root.HasInfo(UsdGeom.Tokens.upAxis):
        up = str(root.GetInfo(UsdGeom.Tokens.upAxis))
        ours = str(UsdGeom.GetStageUpAxis(draft.stage))
        if up != ours and {up, ours} == {"Y", "Z"}:
            angle = -90.0 if up == "Z" else 90.0
            extra.append(Gf.Matrix4d().SetRotate(Gf.Rotation(Gf.Vec3d.XAxis(), angle)))
            draft.note(prim, f"its {up} is up; it is turned so that {ours} is")
    if extra:
        whole = Gf.Matrix4d(1.0)
        for matrix in extra:
            whole *= matrix
        ops = xformable.GetOrderedXformOps()
        op = xformable.AddTransformOp(UsdGeom.XformOp.PrecisionDouble, "latticeUnits")
        op.Set(whole)
        xformable.SetXformOpOrder([*ops, op], xformable.GetResetXformStack())
