"""Which material each prim has: bindings of USD resolved for all rows at once.

For each purpose the nearest binding at or above a prim counts, unless one above it is stronger than its
descendants; of several that are the topmost.  At one prim bindings by collections go before the direct one,
in the order of their properties.  The full purpose goes before all others.

References
----------
UsdShadeMaterialBindingAPI, "Material resolve".
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from pxr import Sdf, Usd, UsdShade

from grandlattice.stage.shape_rows import NOTHING, PART, REPEATED, Bools, Ints, ShapeRows

_PURPOSES = UsdShade.Tokens.full, UsdShade.Tokens.allPurpose
_STRONGER = UsdShade.Tokens.strongerThanDescendants
_DEEP = 1 << 30


@dataclass(frozen=True)
class _Gathering:
    """A binding by a collection."""

    collection: Usd.CollectionAPI
    material: int
    is_strong: bool


class MaterialBindings:
    """Reads the bindings of prims, and resolves them."""

    def __init__(self) -> None:
        self._paths: list[Sdf.Path] = []
        self._numbers: dict[Sdf.Path, int] = {}
        self._gathered: dict[str, tuple[list[_Gathering], ...]] = {}  # name of a row → for each purpose

    def path_of(self, number: int) -> Sdf.Path | None:
        """The path of a material by its number in `ShapeRows.bound`; there may be nothing there."""
        return self._paths[number] if number >= 0 else None

    def numbers_of(self, paths: frozenset[Sdf.Path]) -> list[int]:
        """Numbers of materials, as far as any was bound."""
        return [self._numbers[path] for path in paths if path in self._numbers]

    def read(self, rows: ShapeRows, row: int) -> None:
        """Read what is bound at a prim."""
        api, gathered = UsdShade.MaterialBindingAPI(rows.prims[row]), []
        for k, purpose in enumerate(_PURPOSES):
            path = api.GetDirectBinding(purpose).GetMaterialPath()
            rows.direct[row, k] = self._number(path)
            rows.strong[row, k] = bool(path) and self._is_strong(api.GetDirectBindingRel(purpose))
            found = api.GetCollectionBindings(purpose)
            gathered.append([
                _Gathering(
                    each.GetCollection(), self._number(each.GetMaterialPath()),
                    self._is_strong(each.GetBindingRel()),
                )
                for each in found if each.GetMaterialPath()
            ])  # fmt: skip
        rows.gathers[row] = any(gathered)
        if any(gathered):
            self._gathered[rows.names[row]] = tuple(gathered)

    def resolve(self, rows: ShapeRows, row_of: Mapping[str, int]) -> Bools:
        """Find `bound` for all rows; which have another than before."""
        gathered = {name: row_of.get(name, NOTHING) for name in self._gathered}
        for name, row in gathered.items():
            if row < 0 or not rows.gathers[row]:
                del self._gathered[name]
        sites = sorted(row for row in gathered.values() if row >= 0 and rows.gathers[row])
        bound = np.full(len(rows), NOTHING, np.int64)
        for k in range(len(_PURPOSES)):
            if (rows.direct[:, k] >= 0).any() or sites:
                found = self._resolved(rows, k, sites, lambda each: members(each, rows, row_of))
                bound = np.where(bound >= 0, bound, found)
        more = list(rows.more_bound)
        for row in np.flatnonzero(rows.kind == REPEATED).tolist():
            bound[row], *parts = self._repeated(rows, row)
            more[row] = tuple(parts)
        differs = bound != rows.bound
        if more != rows.more_bound:
            differs |= np.array([a != b for a, b in zip(more, rows.more_bound, strict=True)], bool)
        rows.bound, rows.more_bound = bound, more
        for row in np.flatnonzero(differs & (rows.kind == PART)).tolist():
            differs[rows.parent[row]] = True
        return differs

    def _number(self, path: Sdf.Path) -> int:
        if not path:
            return NOTHING
        if path not in self._numbers:
            self._numbers[path] = len(self._paths)
            self._paths.append(path)
        return self._numbers[path]

    @staticmethod
    def _is_strong(relation: Usd.Relationship) -> bool:
        return bool(UsdShade.MaterialBindingAPI.GetMaterialBindingStrength(relation) == _STRONGER)

    def _resolved(
        self, rows: ShapeRows, k: int, sites: list[int], includes: Callable[[Usd.CollectionAPI], Bools]
    ) -> Ints:  # fmt: skip
        """Numbers of materials for a purpose."""
        direct, strong = rows.direct[:, k], rows.strong[:, k]
        near = direct.copy()
        near_depth = np.where(direct >= 0, rows.depth, NOTHING)
        top = np.where(strong, direct, NOTHING)
        top_depth = np.where(strong, rows.depth, _DEEP)
        for level in rows.levels(rows.depth > 0):
            above = rows.parent[level]
            none = near[level] < 0
            near[level[none]], near_depth[level[none]] = near[above[none]], near_depth[above[none]]
            held = top[above] >= 0
            top[level[held]], top_depth[level[held]] = top[above[held]], top_depth[above[held]]
        for site in sites:  # each before those below it
            below, depth = slice(site, rows.end[site]), rows.depth[site]
            for each in reversed(self._gathered[rows.names[site]][k]):
                held = includes(each.collection)[below]
                nearer = held & (near_depth[below] <= depth)
                near[below][nearer], near_depth[below][nearer] = each.material, depth
                if each.is_strong or strong[site]:
                    higher = held & (top_depth[below] >= depth)
                    top[below][higher], top_depth[below][higher] = each.material, depth
        return np.where((top >= 0) & (top_depth < near_depth), top, near)

    def _repeated(self, rows: ShapeRows, row: int) -> list[int]:
        """What a shape that an instancer repeats has, and its parts: it stands elsewhere on the stage."""
        shape = rows.shapes[row]
        assert shape is not None
        parts = [shape.prim, *(subset.GetPrim() for subset in shape.subsets)]
        found = UsdShade.MaterialBindingAPI.ComputeBoundMaterials(parts, UsdShade.Tokens.full)[0]
        return [self._number(each.GetPath()) if each else NOTHING for each in found]


def members(collection: Usd.CollectionAPI, rows: ShapeRows, row_of: Mapping[str, int]) -> Bools:
    """(R,) which rows a collection includes."""
    found = np.zeros(len(rows), bool)
    if not collection:
        return found
    query = collection.ComputeMembershipQuery()
    if query.UsesPathExpansionRuleMap():
        rules, alone = query.GetAsPathExpansionRuleMap(), []
        for path in sorted(rules, key=lambda path: path.pathElementCount):
            row = row_of.get(str(path))
            if row is not None and rules[path] == Usd.Tokens.explicitOnly:
                alone.append(row)
            elif row is not None:
                found[row : rows.end[row]] = rules[path] != Usd.Tokens.exclude
        found[alone] = True
    else:
        stage = collection.GetPrim().GetStage()
        paths = Usd.ComputeIncludedPathsFromCollection(query, stage, Usd.TraverseInstanceProxies())
        for path in paths:
            if (row := row_of.get(str(path))) is not None:
                found[row] = True
    for row in np.flatnonzero(rows.kind == REPEATED).tolist():
        found[row] = query.IsPathIncluded(rows.shapes[row].prim.GetPath())  # type: ignore[union-attr]
    return found
