"""Edits of visibility and state: what is hidden, shown, held out, unseen, and what catches shadow."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pxr import Sdf, Usd, UsdGeom

from grandlattice.errors import Place
from grandlattice.stage.edit_stage import Draft
from grandlattice.stage.selection import HELPERS

STATE = "lattice:state"  # matte, unseen or catch, for a prim and everything below it


def hide(draft: Draft, body: Any, place: Place) -> None:
    included, excluded = draft.tops(body, place)
    for path in _without(draft.stage, included, excluded):
        _set_visibility(draft, path, UsdGeom.Tokens.invisible)


def show(draft: Draft, body: Any, place: Place) -> None:
    """Give back what the scene says wherever the plan hid, and open hidden ancestors."""
    included, excluded = draft.tops(body, place)
    for path in _without(draft.stage, included, excluded):
        for hidden in _hidden_by_plan(draft, path):
            _set_visibility(draft, hidden, _in_scene(draft, hidden))
        for ancestor in path.GetPrefixes():
            prim = draft.stage.GetPrimAtPath(ancestor)
            if not _is_hidden(prim):
                continue
            _set_visibility(draft, ancestor, UsdGeom.Tokens.inherited)
            if ancestor != path:
                for child in prim.GetFilteredChildren(Usd.TraverseInstanceProxies()):
                    if not path.HasPrefix(child.GetPath()):
                        _set_visibility(draft, child.GetPath(), UsdGeom.Tokens.invisible)


def only(draft: Draft, body: Any, place: Place) -> None:
    included, excluded = draft.tops(body, place)
    kept = _without(draft.stage, included, excluded)
    lights = draft.selector.lights
    for path in _everything_but(draft.stage, kept, lights):
        if body.rest == "hide":
            _set_visibility(draft, path, UsdGeom.Tokens.invisible)
        else:
            _set_state(draft, path, body.rest)
    # Lights go on shining on what is kept, but their shapes belong to what is selected.
    for light in lights:
        if not any(light.HasPrefix(top) for top in kept):
            _set_state(draft, light, "matte" if body.rest == "matte" else "unseen")


def state(name: str) -> Any:
    """The edit that puts a selection into a state: matte, unseen or catch."""

    def put(draft: Draft, body: Any, place: Place) -> None:
        included, excluded = draft.tops(body, place)
        for path in _without(draft.stage, included, excluded):
            _set_state(draft, path, name)

    return put


def _set_state(draft: Draft, path: Sdf.Path, name: str) -> None:
    """One state stands on a prim, the later: those given below it before are replaced."""
    below = [
        spec.GetPrimPath()
        for layer in draft.layers
        for spec in _specs(layer, path)
        if spec.IsPropertyPath() and spec.name == STATE
    ]
    for at in dict.fromkeys([path, *below]):
        prim = draft.writable(at)
        prim.CreateAttribute(STATE, Sdf.ValueTypeNames.Token, True).Set(name)


def _specs(layer: Sdf.Layer, path: Sdf.Path) -> list[Sdf.Path]:
    found: list[Sdf.Path] = []
    if layer.GetPrimAtPath(path):
        layer.Traverse(path, found.append)
    return found


def _hidden_by_plan(draft: Draft, path: Sdf.Path) -> list[Sdf.Path]:
    """Prims at and below `path` whose visibility the plan has set."""
    found = [
        spec.GetPrimPath()
        for layer in draft.layers
        for spec in _specs(layer, path)
        if spec.IsPropertyPath() and spec.name == UsdGeom.Tokens.visibility
    ]
    return list(dict.fromkeys(found))


def _in_scene(draft: Draft, path: Sdf.Path) -> str:
    """The visibility a prim has without the plan's own edits."""
    own = {layer.identifier for layer in draft.layers}
    attribute = UsdGeom.Imageable(draft.stage.GetPrimAtPath(path)).GetVisibilityAttr()
    for spec in attribute.GetPropertyStack(Usd.TimeCode.Default()):
        if spec.layer.identifier not in own and spec.HasDefaultValue():
            return str(spec.default)
    return str(UsdGeom.Tokens.inherited)


def _everything_but(
    stage: Usd.Stage, kept: Iterable[Sdf.Path], lights: Iterable[Sdf.Path]
) -> list[Sdf.Path]:  # fmt: skip
    """Topmost prims that hold something to see, nothing of `kept`, and no light."""
    kept = list(kept)
    found, with_light = [], {path for light in lights for path in light.GetPrefixes()}
    iterator = iter(Usd.PrimRange(stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()))
    for prim in iterator:
        path = prim.GetPath()
        if path == Sdf.Path.absoluteRootPath:
            continue
        if path.HasPrefix(HELPERS) or any(path.HasPrefix(top) for top in kept):
            iterator.PruneChildren()
            continue
        if any(top.HasPrefix(path) for top in kept):
            continue
        if not prim.IsA(UsdGeom.Imageable) or prim.IsA(UsdGeom.Camera) or path in with_light:
            continue  # lights stay, so what stands beside them is looked at one by one
        found.append(path)
        iterator.PruneChildren()
    return found


def _without(stage: Usd.Stage, included: Iterable[Sdf.Path], excluded: list[Sdf.Path]) -> list[Sdf.Path]:
    """Topmost prims that make up `included` with nothing of `excluded` at or below them."""
    out: list[Sdf.Path] = []
    for path in included:
        if any(path.HasPrefix(top) for top in excluded):
            continue
        if any(top.HasPrefix(path) for top in excluded):
            prim = stage.GetPrimAtPath(path)
            children = [p.GetPath() for p in prim.GetFilteredChildren(Usd.TraverseInstanceProxies())]
            out += _without(stage, children, excluded)
        else:
            out.append(path)
    return out


def _is_hidden(prim: Usd.Prim) -> bool:
    if not prim.IsA(UsdGeom.Imageable):
        return False
    return bool(UsdGeom.Imageable(prim).GetVisibilityAttr().Get() == UsdGeom.Tokens.invisible)


def _set_visibility(draft: Draft, path: Sdf.Path, value: str) -> None:
    """Set visibility on a prim; on its children where it has none, as a prim without a type."""
    prim = draft.writable(path)
    if prim.IsA(UsdGeom.Imageable):
        UsdGeom.Imageable(prim).CreateVisibilityAttr().Set(value)
    else:
        for child in prim.GetFilteredChildren(Usd.TraverseInstanceProxies()):
            _set_visibility(draft, child.GetPath(), value)
