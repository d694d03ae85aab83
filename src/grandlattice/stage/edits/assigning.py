"""Assigning materials over whatever is bound."""

from __future__ import annotations

from typing import Any

from pxr import Usd, UsdShade

from grandlattice.errors import EditError, Place, nearest
from grandlattice.stage.edit_stage import MATERIALS, Draft


def assign(draft: Draft, body: Any, place: Place) -> None:
    """Bind by a collection on the topmost ancestor, stronger than anything below, both purposes.

    No binding on or under the selection can be stronger, and what `except` leaves out keeps its
    own; bindings made later stand first and win.
    """
    material = _material(draft, body.material, place)
    included, excluded = draft.tops(body, place)
    for path in included:
        draft.writable(path)
    roots = dict.fromkeys(path.GetPrefixes()[0] for path in included)
    for root in roots:
        prim = draft.writable(root)
        name = f"lattice{draft.bindings}"
        draft.bindings += 1
        collection = draft.collection(prim, name)
        collection.CreateExpansionRuleAttr().Set(Usd.Tokens.expandPrims)
        collection.CreateIncludesRel().SetTargets([p for p in included if p.HasPrefix(root)])
        collection.CreateExcludesRel().SetTargets([p for p in excluded if p.HasPrefix(root)])
        binding = UsdShade.MaterialBindingAPI(prim)
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
