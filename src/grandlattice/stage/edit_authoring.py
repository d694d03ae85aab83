"""The drafting stage: the scene with edits authored on it, one after the other.

Structural edits come first and are kept for the next cell that has the same; the rest follow.
Both have a layer that stays where it is, whose contents are exchanged: USD then recomposes only
what differs.  Overlays bring layers of their own, and where `explain` will ask which edit said
what, every edit has one; those are stacked anew.

Drafting happens beside the stage that is traced, so that a half-authored stage is never traced.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from pxr import Gf, Sdf, Usd, UsdShade, UsdUtils

from grandlattice.errors import EditError, nearest
from grandlattice.plan import PlacedEdit, PlanModel
from grandlattice.plan.schema import MadeMaterial
from grandlattice.stage.edit_stage import MATERIALS, Draft, Note
from grandlattice.stage.edits import author
from grandlattice.stage.opened_scene import Scene, material_paths, quiet_usd, resolved, usd_layer
from grandlattice.stage.selection import HELPERS, Selector
from grandlattice.tables.edit_kinds import EDIT_KINDS

_MOST_KEPT = 500  # structures

Edited = tuple[Sdf.Layer, PlacedEdit]


class Drafting:
    """A stage edits are drafted on.

    Parameters
    ----------
    apart : give every edit a layer of its own.
    keeps_schemas : apply schemas in a layer that stays from cell to cell, where they mean nothing by
        themselves: USD composes everything below a prim anew that a schema is applied to.

    Attributes
    ----------
    looks : the layer of the last edits that are not structural, where they are not apart.
    structure : the layer of the structural ones, where they are not apart.
    schemas : the layer that schemas are applied in; None where each edit's own is.
    stacked : layers of overlays and of edits apart, strongest first.
    edited : all layers with the edit each is of, strongest first; complete where they are apart.
    notes : what an artist should know of the last edits.
    """

    def __init__(
        self, scene: Scene, model: PlanModel, folder: Path, *,
        apart: bool = False, keeps_schemas: bool = False,
    ) -> None:  # fmt: skip
        self._folder, self._apart = folder, apart
        self._scene = scene
        self.helpers = helper_layer(scene, model.materials, folder)
        self.looks = blank_layer(scene, "looks")
        self.structure = blank_layer(scene, "structure")
        self.schemas = blank_layer(scene, "schemas") if keeps_schemas else None
        self.stacked: list[Sdf.Layer] = []
        self.edited: list[Edited] = []
        self.notes: list[Note] = []
        self._root = root_layer(scene, "drafted")
        self._kept: dict[object, tuple[Sdf.Layer, list[Note]]] = {}
        self.stands: object = ()  # what the structure layer holds: the edits it was made from
        with quiet_usd():  # its warnings were collected when the scene was opened
            self._stack([], force=True)
            self.stage = Usd.Stage.Open(self._root, Usd.Stage.LoadAll)
        self._selector = Selector(self.stage, model.select)

    def lay(self, edits: Sequence[PlacedEdit]) -> None:
        """Draft these edits in place of the last ones.

        Raises
        ------
        EditError
            When one of them cannot be laid over this scene.
        """
        structural = [e for e in edits if EDIT_KINDS[e.edit.verb].is_structural]
        looks = [e for e in edits if not EDIT_KINDS[e.edit.verb].is_structural]
        self.notes, self.edited = [], []
        with quiet_usd():
            empty(self.looks)
            if self._apart or any(e.edit.verb == "overlay" for e in structural):
                self._exchange(())
                self._lay_apart(structural)
            else:
                self._stack([])
                self._exchange(structural)
            if self._apart:
                self._lay_apart(looks)
                return
            draft = self._draft([self.looks])
            self.stage.SetEditTarget(self.looks)
            for placed in looks:
                author(draft, placed)

    def _draft(self, layers: list[Sdf.Layer]) -> Draft:
        return Draft(self.stage, self._selector, self._folder, layers, self.notes, schemas=self.schemas)

    def _exchange(self, edits: Sequence[PlacedEdit]) -> None:
        """Fill the structure layer, from what is kept where the same edits came before."""
        key = tuple((e.edit.verb, repr(e.edit.body)) for e in edits)
        if key != self.stands:
            self.stands = None  # until it is whole
            self._selector.forget()
            if key in self._kept:
                self.structure.TransferContent(self._kept[key][0])
            else:
                self._keep(key, edits)
            self.stands = key
        if edits:
            self.notes += self._kept[key][1]

    def _keep(self, key: object, edits: Sequence[PlacedEdit]) -> None:
        """Author structural edits, each over those before it, and keep what comes of it."""
        empty(self.structure)
        self.stage.SetEditTarget(self.structure)
        draft = Draft(self.stage, self._selector, self._folder, [self.structure])
        for placed in edits:
            author(draft, placed)
            self._selector.forget()
        if len(self._kept) >= _MOST_KEPT:
            self._kept.clear()
        copy = blank_layer(self._scene, "kept")
        copy.TransferContent(self.structure)
        self._kept[key] = copy, draft.notes

    def _lay_apart(self, edits: Sequence[PlacedEdit]) -> None:
        """Give each edit a layer of its own above those before it."""
        stacked = [layer for layer, _ in self.edited]
        if not stacked:
            self._stack([])
        draft = self._draft(stacked)
        for placed in edits:
            if placed.edit.verb == "overlay":
                layer = self._overlaid(placed)
            else:
                layer = blank_layer(self._scene, placed.edit.verb)
            if layer in stacked:
                stacked.remove(layer)
            stacked.insert(0, layer)
            self._stack(stacked)
            self.edited.insert(0, (layer, placed))
            if placed.edit.verb != "overlay":
                self.stage.SetEditTarget(layer)
                author(draft, placed)
            if EDIT_KINDS[placed.edit.verb].is_structural:
                self._selector.forget()

    def _overlaid(self, placed: PlacedEdit) -> Sdf.Layer:
        file = resolved(self._folder / placed.edit.body.file)
        layer = usd_layer(file)
        if layer is None:
            raise EditError(
                f"The overlay {placed.edit.body.file} is not there, or is no USD file.",
                place=placed.place,
                cure="check the path; it is relative to the plan",
            )
        if layer == self._scene.layer or file == self._scene.file.resolve():
            raise EditError(
                f"The overlay {placed.edit.body.file} is the scene itself.", place=placed.place,
                cure="name another file, with what is to be laid over the scene",
            )  # fmt: skip
        return layer

    def _stack(self, layers: Sequence[Sdf.Layer], force: bool = False) -> None:
        """Put layers between the two that stay and the scene."""
        if list(layers) != self.stacked or force:
            self.stacked = list(layers)
            between = [layer.identifier for layer in layers]
            schemas = [] if self.schemas is None else [self.schemas.identifier]
            self._root.subLayerPaths = [
                self.looks.identifier, self.structure.identifier, *between, self.helpers.identifier, *schemas,
                self._scene.layer.identifier,
            ]  # fmt: skip
            if not force:
                self._selector.forget()


def root_layer(scene: Scene, name: str) -> Sdf.Layer:
    """An empty layer with the scene's own up axis, unit and frame rate.

    An anonymous layer has none of its own; samples would be rescaled.
    """
    root = Sdf.Layer.CreateAnonymous(name)
    UsdUtils.CopyLayerMetadata(scene.layer, root, True)
    root.timeCodesPerSecond = scene.stage.GetTimeCodesPerSecond()
    return root


def blank_layer(scene: Scene, name: str) -> Sdf.Layer:
    """An empty layer whose time codes are the scene's.

    USD takes a layer that names no rate of its own to have 24 time codes a second, and would move
    every time sample in it to another time in a scene that has 25.
    """
    layer = Sdf.Layer.CreateAnonymous(name)
    layer.timeCodesPerSecond = scene.stage.GetTimeCodesPerSecond()
    return layer


def empty(layer: Sdf.Layer) -> None:
    """Remove everything from a layer but its time codes per second."""
    rate = layer.timeCodesPerSecond
    with Sdf.ChangeBlock():
        layer.Clear()
        layer.timeCodesPerSecond = rate


def helper_layer(scene: Scene, materials: Mapping[str, MadeMaterial], folder: Path) -> Sdf.Layer:
    """The plan's own materials, below a prim no scene has."""
    layer = blank_layer(scene, "helpers")
    stage = Usd.Stage.Open(layer)
    stage.DefinePrim(HELPERS, "Scope")
    stage.DefinePrim(MATERIALS, "Scope")
    for name, made in materials.items():
        if not Sdf.Path.IsValidIdentifier(name):
            raise EditError(
                f"{name!r} is no name for a material.", cure="use letters, digits and _, no spaces"
            )
        path = MATERIALS.AppendChild(name)
        if made.file is not None:
            _from_file(stage, path, made, folder)
        else:
            _made(stage, path, made)
    return layer


def _from_file(stage: Usd.Stage, path: Sdf.Path, made: MadeMaterial, folder: Path) -> None:
    layer = usd_layer(resolved(folder / str(made.file)))
    if layer is None:
        raise EditError(
            f"The material file {made.file} is not there, or is no USD file.", cure="check its path"
        )
    known = material_paths(layer)
    if str(made.prim) not in known:
        raise EditError(
            f"{made.file} has no material at {made.prim}. {nearest(str(made.prim), known)}",
            cure="glat survey shows the materials of a file",
        )
    stage.DefinePrim(path).GetReferences().AddReference(layer.identifier, str(made.prim))


def _made(stage: Usd.Stage, path: Sdf.Path, made: MadeMaterial) -> None:
    material = UsdShade.Material.Define(stage, path)
    shader = UsdShade.Shader.Define(stage, path.AppendChild("Surface"))
    shader.CreateIdAttr("UsdPreviewSurface")
    colour, number = Sdf.ValueTypeNames.Color3f, Sdf.ValueTypeNames.Float
    for name, kind, value in (
        ("diffuseColor", colour, made.color), ("emissiveColor", colour, made.emission),
        ("roughness", number, made.roughness), ("metallic", number, made.metallic),
        ("opacity", number, made.opacity), ("clearcoat", number, made.clearcoat),
        ("ior", number, made.ior),
    ):  # fmt: skip
        if value is not None:
            shader.CreateInput(name, kind).Set(Gf.Vec3f(*value) if isinstance(value, list) else value)
    shader.CreateOutput("surface", Sdf.ValueTypeNames.Token)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
