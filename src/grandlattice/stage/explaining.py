"""Why a cell looks like that: every value it changes, and who set it.

Each edit is drafted into a layer of its own, so that USD's own composition says which opinions
there are on a value and which of them wins.  Nothing is worked out a second time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from pxr import Gf, Sdf, Usd, UsdShade, Vt
from pydantic import BaseModel

from grandlattice._support.readable import html_table, number
from grandlattice.plan import Cell, CellMaker, PlacedEdit, PlanModel
from grandlattice.plan.settings import SHARES
from grandlattice.stage.edit_authoring import Drafting
from grandlattice.stage.edit_stage import Note
from grandlattice.stage.opened_scene import Scene, quiet_usd
from grandlattice.stage.selection import HELPERS
from grandlattice.tables.edit_kinds import EDIT_KINDS

_NOTHING = "–"
_OURS = {
    "latticeTo": "turned to", "latticeMoveTo": "moved to", "latticeFace": "aimed",
    "latticeUnits": "units and axis",
}  # fmt: skip
"""Operations of ours by their suffix, as an artist knows them."""
_REPLACED = {"latticeTo": "xformOp:rotateXYZ", "latticeMoveTo": "xformOp:translate"}
_HIDDEN = ("xformOpOrder", "material:binding:collection", "collection:lattice")


@dataclass(frozen=True)
class Opinion:
    """What one speaker says of a value.

    `source` is ``light=evening``, ``rule 2`` or ``scene``; `place` the plan's line, or the
    scene's layer.  One opinion `wins`.
    """

    value: str
    source: str
    place: str
    wins: bool = False
    edit: PlacedEdit | None = field(default=None, compare=False, repr=False)


@dataclass(frozen=True)
class Change:
    """A value a cell changes: on a prim, or a setting, where `prim` is empty."""

    prim: str
    name: str
    before: str
    after: str
    opinions: tuple[Opinion, ...]


@dataclass(frozen=True, repr=False)
class Explanation:
    """A cell explained.

    Attributes
    ----------
    cell : its address.
    changes : what is laid over the scene, prim by prim; strongest opinion first.
    settings : what was said of each setting; the last word first.
    notes : what an artist should know of the edits: (prim, what, place).
    compared : the other cell, where only differences are told; `before` is its value then.
    """

    cell: str
    changes: tuple[Change, ...]
    settings: tuple[Change, ...] = ()
    notes: tuple[Note, ...] = ()
    compared: str = ""

    def __repr__(self) -> str:
        return f"<Explanation of {self.cell}: {len(self.changes)} changes, {len(self.settings)} settings>"

    def _repr_html_(self) -> str:
        """A table of what is changed and set, for notebooks."""
        rows = [
            [change.prim, change.name, str(change.before), str(change.after)]
            for change in (*self.changes, *self.settings)
        ]
        return html_table(["prim", "what", "before", "after"], rows, self.cell)

    def against(self, other: Explanation) -> Explanation:
        """Only what differs from another cell."""
        return Explanation(
            self.cell,
            tuple(_differing(self.changes, other.changes)),
            tuple(_differing(self.settings, other.settings)),
            self.notes,
            other.cell,
        )


def _differing(ours: Iterable[Change], theirs: Iterable[Change]) -> Iterator[Change]:
    mine = {(change.prim, change.name): change for change in ours}
    other = {(change.prim, change.name): change for change in theirs}
    for key, change in mine.items():
        before = other[key].after if key in other else change.before
        if before != change.after:
            yield replace(change, before=before)
    for key, change in other.items():
        if key not in mine and change.before != change.after:
            yield replace(change, before=change.after, after=change.before, opinions=())


class Explainer:
    """Explains cells of one plan over one scene."""

    def __init__(self, scene: Scene, model: PlanModel, folder: Path) -> None:
        self._scene = scene
        self._drafting = Drafting(scene, model, folder, apart=True)

    def explain(self, cell: Cell) -> Explanation:
        """Lay the edits of a cell and say what they change.

        Raises
        ------
        EditError
            When one of them cannot be laid over this scene.
        """
        self._drafting.lay(cell.edits)
        with quiet_usd():
            told = _Told(self._scene, self._drafting, Usd.TimeCode(cell.settings.frames[0]))
            changes = [*told.prims(), *told.materials(), *told.properties()]
        changes.sort(key=lambda change: Sdf.Path(change.prim))
        return Explanation(cell.address, tuple(changes), (), tuple(dict.fromkeys(self._drafting.notes)))

    def idle(self, explanation: Explanation, cell: Cell) -> Iterator[tuple[PlacedEdit, str]]:
        """Edits of the explained cell that change nothing, and why."""
        for placed in cell.edits:
            own = [(c, o) for c in explanation.changes for o in c.opinions if o.edit is placed]
            if not own:
                yield placed, "what it asks for stands in the scene already"
            elif all(o.wins and c.before == c.after for c, o in own):
                yield placed, f"{own[0][0].name} is {own[0][0].after} already"
            elif not any(o.wins for _, o in own):
                winner = next(o for o in own[0][0].opinions if o.wins)
                yield placed, f"{winner.source} says otherwise after it ({winner.place})"


def rivals(explanation: Explanation) -> Iterator[tuple[Change, Opinion, Opinion]]:
    """Values that two speakers of a cell replace: the change, who wins and who loses."""
    for change in explanation.changes:
        edits = [o for o in change.opinions if o.edit is not None and EDIT_KINDS[o.edit.edit.verb].replaces]
        for loser in edits[1:]:
            if loser.source != edits[0].source and loser.value != edits[0].value:
                yield change, edits[0], loser


class _Told:
    """What the layers of a drafted cell say."""

    def __init__(self, scene: Scene, drafting: Drafting, time: Usd.TimeCode) -> None:
        self._base, self._stage, self._time = scene.stage, drafting.stage, time
        scenes = {layer.identifier for layer in scene.stage.GetLayerStack(False)}
        self._edit_of: dict[str, PlacedEdit] = {}
        self._layers: list[tuple[Sdf.Layer, PlacedEdit]] = []
        for layer, placed in drafting.edited:
            for part in [layer, *_sublayers(layer)]:
                if part.identifier not in scenes and part.identifier not in self._edit_of:
                    self._edit_of[part.identifier] = placed
                    self._layers.append((part, placed))

    def _opinions(self, said: Iterable[tuple[Sdf.Layer, str]]) -> tuple[Opinion, ...]:
        """Opinions from specs, strongest first; the first of them wins."""
        found: list[Opinion] = []
        for layer, value in said:
            placed = self._edit_of.get(layer.identifier)
            if placed is None:
                found.append(Opinion(value, "scene", layer.GetDisplayName(), not found))
                continue
            place = str(placed.place)
            if not layer.anonymous:
                place = f"{layer.GetDisplayName()}, {place}"
            found.append(Opinion(value, placed.source, place, not found, placed))
        return tuple(found)

    def _paths(self, wanted: Callable[[Sdf.Path], bool]) -> list[Sdf.Path]:
        found: dict[Sdf.Path, None] = {}
        for layer, _ in self._layers:
            paths: list[Sdf.Path] = []
            layer.Traverse(Sdf.Path.absoluteRootPath, paths.append)
            found.update({path: None for path in paths if wanted(path) and not path.HasPrefix(HELPERS)})
        return list(found)

    def properties(self) -> Iterator[Change]:
        """Attributes and relationships that an edit says something of."""
        for path in self._paths(Sdf.Path.IsPrimPropertyPath):
            if path.name.startswith(_HIDDEN):
                continue
            after = self._stage.GetPropertyAtPath(path)
            before = self._base.GetPropertyAtPath(path)
            if not after:
                continue
            replaced = _REPLACED.get(path.name.rpartition(":")[2])
            if replaced is not None:  # what stood there under the name the scene gave it
                before = self._base.GetPropertyAtPath(path.GetPrimPath().AppendProperty(replaced))
            stack = after.GetPropertyStack(self._time)
            said = [(spec.layer, _spec_text(spec, self._time)) for spec in stack]
            yield Change(
                str(path.GetPrimPath()), _plain_name(path.name), self._text(before), self._text(after),
                self._opinions((layer, text) for layer, text in said if text is not None),
            )  # fmt: skip

    def _text(self, prop: Usd.Property | None) -> str:
        if not prop or not prop.IsDefined():
            return _NOTHING
        if isinstance(prop, Usd.Relationship):
            return _value_text(prop.GetTargets())
        if prop.HasAuthoredConnections() and prop.GetConnections():
            return f"from {prop.GetConnections()[0].GetPrimPath().name}"
        return _value_text(prop.Get(self._time))

    def prims(self) -> Iterator[Change]:
        """Variants, assets, what is new, and what stands apart or is left out."""
        for path in self._paths(Sdf.Path.IsPrimPath):
            prim, before = self._stage.GetPrimAtPath(path), self._base.GetPrimAtPath(path)
            specs = [s for s in prim.GetPrimStack() if s.layer.identifier in self._edit_of] if prim else []
            names = dict.fromkeys(name for spec in specs for name in spec.variantSelections)
            for name in names:
                said = [
                    (spec.layer, str(spec.variantSelections[name]))
                    for spec in prim.GetPrimStack()
                    if name in spec.variantSelections
                ]
                stood = before.GetVariantSet(name).GetVariantSelection() if before else ""
                chosen = prim.GetVariantSet(name).GetVariantSelection()
                yield Change(str(path), f"variant {name}", stood or _NOTHING, chosen, self._opinions(said))
            if any(spec.HasInfo("references") for spec in specs):
                said = [(s.layer, _references(s)) for s in prim.GetPrimStack() if s.HasInfo("references")]
                stood = next((_references(s) for s in _stack(before) if s.HasInfo("references")), _NOTHING)
                yield Change(str(path), "asset", stood, said[0][1], self._opinions(said))
            for key in ("active", "instanceable"):
                if any(spec.HasInfo(key) for spec in specs):
                    said = [(s.layer, _value_text(s.GetInfo(key))) for s in specs if s.HasInfo(key)]
                    stood = _value_text(before.GetMetadata(key)) if before else _NOTHING
                    yield Change(str(path), key, stood, said[0][1], self._opinions(said))
            if prim and not (before and before.IsDefined()):
                made = [(s.layer, str(s.typeName)) for s in specs if s.specifier == Sdf.SpecifierDef]
                if made:
                    kind = str(prim.GetTypeName()) or "asset"
                    yield Change(str(path), "new", _NOTHING, kind, self._opinions(made[:1]))

    def materials(self) -> Iterator[Change]:
        """What `assign` binds, prim by prim of its selection."""
        assigned = []
        for layer, placed in self._layers:
            if placed.edit.verb == "assign":
                assigned.append((layer, placed.edit.body.material, _members(layer, "includes"),
                                 _members(layer, "excludes")))  # fmt: skip
        for path in dict.fromkeys(path for _, _, included, _ in assigned for path in included):
            said = [
                (layer, material)
                for layer, material, included, excluded in assigned
                if any(path.HasPrefix(p) for p in included) and not any(path.HasPrefix(p) for p in excluded)
            ]
            stood = _bound(self._base.GetPrimAtPath(path))
            if stood != _NOTHING:
                said.append((self._base.GetRootLayer(), stood))
            yield Change(
                str(path), "material", stood, _bound(self._stage.GetPrimAtPath(path)), self._opinions(said)
            )


def explain_settings(make: CellMaker, cell: Cell) -> tuple[Change, ...]:
    """What was said of each setting of a cell, the last word first."""
    told: dict[str, list[tuple[Any, str, str]]] = {}
    for saying in make.said(cell.index):
        for key, value, place in saying.settings:
            told.setdefault(key, []).insert(0, (value, saying.source, str(place)))
    changes = []
    for key, said in told.items():
        opinions = tuple(
            Opinion(_setting_text(key, value), source, place, k == 0)
            for k, (value, source, place) in enumerate(said)
        )
        after = _setting_text(key, getattr(cell.settings, key, said[0][0]))
        if key == "exposure" and cell.settings.metered is not None:
            after = f"{cell.settings.exposure:+.2f} stops, {cell.settings.metered}"
        changes.append(Change("", key, "", after, opinions))
    return tuple(changes)


def _setting_text(key: str, value: Any) -> str:
    """A setting's value as it is read; shares of something as per cents."""
    return f"{100.0 * value:.4g}%" if key in SHARES and isinstance(value, float) else _value_text(value)


def _sublayers(layer: Sdf.Layer) -> Iterator[Sdf.Layer]:
    for path in layer.subLayerPaths:
        found = Sdf.Layer.FindRelativeToLayer(layer, path)
        if found is not None:
            yield found
            yield from _sublayers(found)


def _stack(prim: Usd.Prim | None) -> list[Sdf.PrimSpec]:
    return list(prim.GetPrimStack()) if prim else []


def _members(layer: Sdf.Layer, which: str) -> list[Sdf.Path]:
    """Targets of the collections of ours in a layer."""
    found: list[Sdf.Path] = []

    def look(path: Sdf.Path) -> None:
        if path.IsPropertyPath() and path.name.startswith("collection:lattice") and path.name.endswith(which):
            found.extend(layer.GetRelationshipAtPath(path).targetPathList.GetAddedOrExplicitItems())

    layer.Traverse(Sdf.Path.absoluteRootPath, look)
    return found


def _bound(prim: Usd.Prim) -> str:
    """The material a prim has; of a group, that of the first thing below it that has one."""
    for part in Usd.PrimRange(prim, Usd.TraverseInstanceProxies()) if prim else ():
        material = UsdShade.MaterialBindingAPI(part).ComputeBoundMaterial(UsdShade.Tokens.full)[0]
        if material:
            return str(material.GetPath().name)
    return _NOTHING


def _references(spec: Sdf.PrimSpec) -> str:
    items = spec.referenceList.GetAddedOrExplicitItems()
    return ", ".join(Path(i.assetPath).name or str(i.primPath) for i in items) or _NOTHING


def _plain_name(name: str) -> str:
    """An attribute as an artist knows it; operations of ours by what they do."""
    if name.startswith("xformOp:") and ":lattice" in name:
        _, kind, suffix = name.split(":")
        word = {"translate": "moved", "orient": "turned", "transform": "placed"}.get(kind, "turned")
        number = suffix.removeprefix("lattice")
        return _OURS.get(suffix) or (word if number == "0" else f"{word}, {number}")
    return name.removeprefix("inputs:").removeprefix("xformOp:").removeprefix("lattice:")


def _spec_text(spec: Sdf.PropertySpec, time: Usd.TimeCode) -> str | None:
    """What one spec says; None where it says no value."""
    if isinstance(spec, Sdf.RelationshipSpec):
        return _value_text(list(spec.targetPathList.GetAddedOrExplicitItems()))
    samples = spec.layer.ListTimeSamplesForPath(spec.path)
    if samples:
        nearest = min(samples, key=lambda at: abs(at - time.GetValue()))
        return f"{_value_text(spec.layer.QueryTimeSample(spec.path, nearest))} ({len(samples)} samples)"
    if spec.HasDefaultValue():
        return _value_text(spec.default)
    connected = spec.connectionPathList.GetAddedOrExplicitItems()
    return f"from {connected[0].GetPrimPath().name}" if connected else None


def _value_text(value: Any) -> str:
    """A value in the fewest letters an artist can read."""
    if value is None or (isinstance(value, str) and not value):
        return _NOTHING
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return number(0.0 if abs(value) < 1e-9 else value)
    if isinstance(value, Sdf.AssetPath):
        return Path(value.path).name or _NOTHING
    if isinstance(value, Gf.Quatd | Gf.Quatf):
        rotation = Gf.Rotation(value)
        axis = ", ".join(f"{part:.3g}" for part in rotation.axis)
        return f"{rotation.angle:.4g}° about ({axis})"
    if isinstance(value, Gf.Matrix4d):
        return "matrix, to " + _value_text(tuple(value.ExtractTranslation()))
    if isinstance(value, BaseModel):
        return _value_text(value.model_dump(mode="json", exclude_unset=True))
    if isinstance(value, Mapping):
        return ", ".join(f"{key} {_value_text(part)}" for key, part in value.items()) or _NOTHING
    if isinstance(value, list | tuple | Gf.Vec2f | Gf.Vec3f | Gf.Vec3d | Gf.Vec4f | Vt.Vec3fArray):
        parts = list(value)
        shown = ", ".join(_value_text(part) for part in parts[:6])
        more = f", … ({len(parts)})" if len(parts) > 6 else ""
        return f"{shown}{more}" or _NOTHING
    return str(value)
