"""Edits as USD: each edit of a plan authors its opinions on a drafting stage.

The drafting stage has one layer of ours over the scene; an edit reads what stands (the scene and
the edits before it) and writes into that layer alone.  Structural edits (`overlay`, `choose`)
are layers of their own, see `switching`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade

from grandlattice.errors import EditError, Place, nearest
from grandlattice.plan import PlacedEdit
from grandlattice.plan.edits import Selected
from grandlattice.stage.attributes import (
    find_attribute,
    is_light,
    multiplied,
    read_factor,
    read_value,
    value_type,
)
from grandlattice.stage.selecting import HELPERS, Selector, topmost

STATE = "lattice:state"  # matte or unseen, for a prim and everything below it
MATERIALS = HELPERS.AppendChild("Materials")


@dataclass
class Draft:
    """What edits are authored on.

    `notes` gathers what an artist should know of an edit that worked: (prim, what, place).
    """

    stage: Usd.Stage
    selector: Selector
    folder: Path
    notes: list[tuple[str, str, Place]] = field(default_factory=list)
    bindings: int = 0

    def selected(self, body: Selected, place: Place) -> list[Sdf.Path]:
        """Exactly the prims an edit's body selects."""
        return self.selector.prims(body.on, body.except_ or (), place=place, maybe=body.maybe)

    def tops(self, body: Selected, place: Place) -> tuple[list[Sdf.Path], list[Sdf.Path]]:
        """Topmost selected prims, and the topmost of those left out below them."""
        included = self.selector.prims(body.on, place=place, maybe=body.maybe)
        excluded = self.selector.prims(body.except_ or (), place=place, maybe=True)
        return topmost(included), topmost(excluded)


def author(draft: Draft, placed: PlacedEdit) -> None:
    """Author one look, value or transform edit.

    Raises
    ------
    EditError
        When the edit cannot be laid over this scene.
    """
    _AUTHORS[placed.edit.verb](draft, placed.edit.body, placed.place)


# --- visibility ------------------------------------------------------------------------------


def _hide(draft: Draft, body: Any, place: Place) -> None:
    included, excluded = draft.tops(body, place)
    for path in _without(draft.stage, included, excluded):
        _set_visibility(draft.stage.GetPrimAtPath(path), UsdGeom.Tokens.invisible)


def _show(draft: Draft, body: Any, place: Place) -> None:
    included, excluded = draft.tops(body, place)
    layer = draft.stage.GetEditTarget().GetLayer()
    for path in _without(draft.stage, included, excluded):
        hidden: list[Sdf.Path] = []
        layer.Traverse(path, hidden.append)
        for spec in hidden:
            if spec.IsPropertyPath() and spec.name == UsdGeom.Tokens.visibility:
                draft.stage.GetPrimAtPath(spec.GetPrimPath()).RemoveProperty(spec.name)
        for ancestor in path.GetPrefixes():
            prim = draft.stage.GetPrimAtPath(ancestor)
            if not _is_hidden(prim):
                continue
            _set_visibility(prim, UsdGeom.Tokens.inherited)
            if ancestor != path:
                for child in prim.GetChildren():
                    if not path.HasPrefix(child.GetPath()):
                        _set_visibility(child, UsdGeom.Tokens.invisible)


def _only(draft: Draft, body: Any, place: Place) -> None:
    included, excluded = draft.tops(body, place)
    kept = _without(draft.stage, included, excluded)
    for prim in _everything_but(draft.stage, kept):
        if body.rest == "hide":
            _set_visibility(prim, UsdGeom.Tokens.invisible)
        else:
            prim.CreateAttribute(STATE, Sdf.ValueTypeNames.Token, True).Set(body.rest)


def _everything_but(stage: Usd.Stage, kept: Iterable[Sdf.Path]) -> list[Usd.Prim]:
    """Topmost prims that hold something to see, nothing of `kept`, and no light."""
    kept = list(kept)
    found = []
    iterator = iter(Usd.PrimRange(stage.GetPseudoRoot()))
    for prim in iterator:
        path = prim.GetPath()
        if path == Sdf.Path.absoluteRootPath:
            continue
        if path.HasPrefix(HELPERS) or any(path.HasPrefix(top) for top in kept):
            iterator.PruneChildren()
            continue
        if any(top.HasPrefix(path) for top in kept):
            continue
        if not prim.IsA(UsdGeom.Imageable) or prim.IsA(UsdGeom.Camera) or is_light(prim):
            continue
        if any(is_light(below) for below in Usd.PrimRange(prim)):
            continue  # its lights stay, so its children are looked at one by one
        found.append(prim)
        iterator.PruneChildren()
    return found


def _without(stage: Usd.Stage, included: Iterable[Sdf.Path], excluded: list[Sdf.Path]) -> list[Sdf.Path]:
    """Topmost prims that make up `included` with nothing of `excluded` at or below them."""
    out: list[Sdf.Path] = []
    for path in included:
        if any(path.HasPrefix(top) for top in excluded):
            continue
        if any(top.HasPrefix(path) for top in excluded):
            children = [p.GetPath() for p in stage.GetPrimAtPath(path).GetChildren()]
            out += _without(stage, children, excluded)
        else:
            out.append(path)
    return out


def _is_hidden(prim: Usd.Prim) -> bool:
    if not prim.IsA(UsdGeom.Imageable):
        return False
    return UsdGeom.Imageable(prim).GetVisibilityAttr().Get() == UsdGeom.Tokens.invisible


def _set_visibility(prim: Usd.Prim, value: str) -> None:
    """Set visibility on a prim; on its children where it has none, as a prim without a type."""
    if prim.IsA(UsdGeom.Imageable):
        UsdGeom.Imageable(prim).CreateVisibilityAttr().Set(value)
    else:
        for child in prim.GetChildren():
            _set_visibility(child, value)


# --- materials -------------------------------------------------------------------------------


def _assign(draft: Draft, body: Any, place: Place) -> None:
    """Bind by a collection on the topmost ancestor, stronger than anything below, both purposes.

    No binding on or under the selection can be stronger, and what `except` leaves out keeps its
    own; bindings made later stand first and win.
    """
    material = _material(draft, body.material, place)
    included, excluded = draft.tops(body, place)
    roots = dict.fromkeys(path.GetPrefixes()[0] for path in included)
    for root in roots:
        prim = draft.stage.GetPrimAtPath(root)
        name = f"lattice{draft.bindings}"
        draft.bindings += 1
        collection = Usd.CollectionAPI.Apply(prim, name)
        collection.CreateExpansionRuleAttr().Set(Usd.Tokens.expandPrims)
        collection.CreateIncludesRel().SetTargets([p for p in included if p.HasPrefix(root)])
        collection.CreateExcludesRel().SetTargets([p for p in excluded if p.HasPrefix(root)])
        binding = UsdShade.MaterialBindingAPI.Apply(prim)
        names = []
        for purpose in (UsdShade.Tokens.allPurpose, UsdShade.Tokens.full):
            binding.Bind(collection, material, name, UsdShade.Tokens.strongerThanDescendants, purpose)
            relation = binding.GetCollectionBindingRel(name, purpose)
            names.append(relation.GetName())
        spec = draft.stage.GetEditTarget().GetLayer().GetPrimAtPath(root)
        spec.propertyOrder = [*names, *(n for n in prim.GetPropertyOrder() if n not in names)]


def _material(draft: Draft, name: str, place: Place) -> UsdShade.Material:
    made = draft.stage.GetPrimAtPath(MATERIALS)
    known = [child.GetName() for child in made.GetChildren()] if made else []
    if name in known:
        return UsdShade.Material(draft.stage.GetPrimAtPath(MATERIALS.AppendChild(name)))
    if not name.startswith("/"):
        raise EditError(
            f"There is no material {name}. {nearest(name, known)}",
            place=place,
            cure="add it under materials, or write a material's prim path",
        )
    path = draft.selector.prims([name], place=place)[0]
    prim = draft.stage.GetPrimAtPath(path)
    if not prim.IsA(UsdShade.Material):
        raise EditError(f"{name} is no material but a {prim.GetTypeName() or 'group'}.", place=place)
    return UsdShade.Material(prim)


# --- values ----------------------------------------------------------------------------------


def _set(draft: Draft, body: Any, place: Place) -> None:
    for path in draft.selected(body, place):
        prim = draft.stage.GetPrimAtPath(path)
        for name, text in body.values().items():
            attribute = find_attribute(prim, name, place)
            value = read_value(text, attribute, draft.folder, place)
            if isinstance(value, Sdf.AssetPath) and not Path(value.path).exists():
                raise EditError(f"There is no file {text}.", place=place, cure="check the path")
            _disconnect(draft, attribute, place)
            _written(attribute).Set(value)
            if name in ("colorTemperature", "inputs:colorTemperature"):
                prim.GetAttribute("inputs:enableColorTemperature").Set(True)


def _multiply(draft: Draft, body: Any, place: Place) -> None:
    for path in draft.selected(body, place):
        prim = draft.stage.GetPrimAtPath(path)
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


# --- transforms ------------------------------------------------------------------------------


def _xformable(draft: Draft, path: Sdf.Path, place: Place) -> UsdGeom.Xformable:
    prim = draft.stage.GetPrimAtPath(path)
    if not prim.IsA(UsdGeom.Xformable):
        raise EditError(f"{path} has no place in space, so it cannot be turned.", place=place)
    return UsdGeom.Xformable(prim)


def _angles(body: Any) -> Gf.Vec3f:
    return Gf.Vec3f(body.x or 0.0, body.y or 0.0, body.z or 0.0)


def _turn(draft: Draft, body: Any, place: Place) -> None:
    """Add a rotation nearest to the geometry, about its pivot."""
    for path in topmost(draft.selected(body, place)):
        xformable = _xformable(draft, path, place)
        ops = xformable.GetOrderedXformOps()
        number = sum(op.GetOpName().startswith("xformOp:rotateXYZ:lattice") for op in ops)
        turn = xformable.AddRotateXYZOp(opSuffix=f"lattice{number}")
        turn.Set(_angles(body))
        pivots = [op for op in ops if op.GetOpName().endswith(":pivot") and not op.IsInverseOp()]
        if pivots:
            inverse = UsdGeom.XformOp(pivots[0].GetAttr(), True)
            ops = [*ops, pivots[0], turn, inverse]
        else:
            ops = [*ops, turn]
        xformable.SetXformOpOrder(ops, xformable.GetResetXformStack())


def _turn_to(draft: Draft, body: Any, place: Place) -> None:
    """Replace the rotation; an axis left out keeps its angle, place and scale stay."""
    for path in topmost(draft.selected(body, place)):
        xformable = _xformable(draft, path, place)
        ops = xformable.GetOrderedXformOps()
        if any(op.GetOpType() == UsdGeom.XformOp.TypeTransform for op in ops):
            ops = _split_matrix(xformable)
        standing = _standing_angles(ops)
        wanted = (body.x, body.y, body.z)
        angles = Gf.Vec3f(*(a if w is None else w for w, a in zip(wanted, standing, strict=True)))
        turning = [op for op in ops if _is_rotation(op)]
        at = ops.index(turning[0]) if turning else _after_translates(ops)
        name = "xformOp:rotateXYZ:latticeTo"
        existing = [op for op in ops if op.GetOpName() == name]
        turn = existing[0] if existing else xformable.AddRotateXYZOp(opSuffix="latticeTo")
        turn.Set(angles)
        others = [op for op in ops[:at] if not _is_rotation(op)]
        after = [op for op in ops[at:] if not _is_rotation(op)]
        xformable.SetXformOpOrder([*others, turn, *after], xformable.GetResetXformStack())


_ROTATIONS = frozenset(
    getattr(UsdGeom.XformOp, f"TypeRotate{name}")
    for name in ("X", "Y", "Z", "XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")
) | {UsdGeom.XformOp.TypeOrient}


def _is_rotation(op: UsdGeom.XformOp) -> bool:
    return op.GetOpType() in _ROTATIONS


def _after_translates(ops: list[UsdGeom.XformOp]) -> int:
    places = [i for i, op in enumerate(ops) if op.GetOpType() == UsdGeom.XformOp.TypeTranslate
              and not op.IsInverseOp()]  # fmt: skip
    return places[-1] + 1 if places else 0


def _standing_angles(ops: list[UsdGeom.XformOp]) -> tuple[float, float, float]:
    """Angles about X, Y and Z of the rotation that stands, as rotateXYZ would have them."""
    whole = Gf.Matrix4d(1.0)
    for op in reversed(ops):
        if _is_rotation(op):
            whole *= op.GetOpTransform(Usd.TimeCode.EarliestTime())
    rotation = whole.ExtractRotation()
    z, y, x = rotation.Decompose(Gf.Vec3d.ZAxis(), Gf.Vec3d.YAxis(), Gf.Vec3d.XAxis())
    return x, y, z


def _split_matrix(xformable: UsdGeom.Xformable) -> list[UsdGeom.XformOp]:
    """The standing transform as translate, rotate and scale operations."""
    whole = Gf.Transform(xformable.GetLocalTransformation(Usd.TimeCode.EarliestTime()))
    move = xformable.AddTranslateOp(opSuffix="latticeSplit")
    move.Set(whole.GetTranslation())
    turn = xformable.AddOrientOp(opSuffix="latticeSplit")
    turn.Set(Gf.Quatf(whole.GetRotation().GetQuat()))
    size = xformable.AddScaleOp(opSuffix="latticeSplit")
    size.Set(Gf.Vec3f(whole.GetScale()))
    return [move, turn, size]


_AUTHORS: dict[str, Callable[[Draft, Any, Place], None]] = {
    "hide": _hide, "show": _show, "only": _only, "assign": _assign, "set": _set,
    "multiply": _multiply, "turn": _turn, "turn-to": _turn_to,
}  # fmt: skip
