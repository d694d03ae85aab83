"""One composed stage, switched from cell to cell.

The scene is composed once, under two layers of ours that stay where they are: `helpers` (the
plan's own materials) and `scratch` (the edits of the current cell).  Switching replaces the
contents of `scratch` and nothing else, so that USD recomposes only what the edits touch.
Structural edits are layers between them, exchanged only when they differ from the last cell's.

Edits are drafted on a second stage over the same layers, so that each can read what the ones
before it did without the artist's scene, or the stage being traced, seeing half of it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from pxr import Gf, Sdf, Usd, UsdShade, UsdUtils

from grandlattice.errors import EditError, Place, nearest
from grandlattice.plan import PlacedEdit, PlanModel
from grandlattice.plan.schema import MadeMaterial
from grandlattice.stage.composing import MATERIALS, Draft, author
from grandlattice.stage.scene import Scene, quiet_usd
from grandlattice.stage.selecting import HELPERS, Selector

_STRUCTURAL = ("overlay", "choose")


class CellStage:
    """The scene with one cell's edits laid over it.

    Parameters
    ----------
    scene : opened read-only.
    model : the plan, for its selections and materials.
    folder : the plan's folder, which file names in edits are relative to.

    Attributes
    ----------
    stage : the composed stage; read it, do not edit it.
    notes : what an artist should know of the current cell's edits: (prim, what, place).
    """

    def __init__(self, scene: Scene, model: PlanModel, folder: Path) -> None:
        self.scene = scene
        self._folder = folder
        self._helpers = _helper_layer(model.materials, folder)
        self._scratch = Sdf.Layer.CreateAnonymous("cell")
        self._draft_layer = Sdf.Layer.CreateAnonymous("draft")
        self._structure: list[Sdf.Layer] = []
        self._variants: dict[tuple[object, ...], Sdf.Layer] = {}
        self._roots = [_root_layer(scene, "traced"), _root_layer(scene, "drafted")]
        self._stack()
        self.stage = Usd.Stage.Open(self._roots[0], Usd.Stage.LoadAll)
        self._draft_stage = Usd.Stage.Open(self._roots[1], Usd.Stage.LoadAll)
        self._draft_stage.SetEditTarget(self._draft_layer)
        self._selector = Selector(self._draft_stage, model.select)
        self.notes: list[tuple[str, str, Place]] = []

    def _stack(self) -> None:
        below = [layer.identifier for layer in self._structure]
        below += [self._helpers.identifier, self.scene.layer.identifier]
        with Sdf.ChangeBlock():
            self._roots[0].subLayerPaths = [self._scratch.identifier, *below]
            self._roots[1].subLayerPaths = [self._draft_layer.identifier, *below]

    def switch(self, edits: Sequence[PlacedEdit]) -> None:
        """Lay these edits over the scene in place of the last ones.

        Raises
        ------
        EditError
            When one of them cannot be laid over this scene; the last cell then stays.
        """
        with quiet_usd():
            self._draft_layer.Clear()
            self._restructure([e for e in edits if e.edit.verb in _STRUCTURAL])
            draft = Draft(self._draft_stage, self._selector, self._folder)
            for placed in edits:
                if placed.edit.verb not in _STRUCTURAL:
                    author(draft, placed)
            self._scratch.TransferContent(self._draft_layer)
        self.notes = draft.notes

    def _restructure(self, edits: Sequence[PlacedEdit]) -> None:
        """Exchange the structural layers; later edits stand above earlier ones."""
        wanted: list[Sdf.Layer] = []
        for placed in edits:
            make = self._overlaid if placed.edit.verb == "overlay" else self._chosen
            layer = make(placed)
            wanted = [layer, *(known for known in wanted if known != layer)]
            if placed.edit.verb == "overlay":
                # A selection in a later `choose` may mean what this file brings in.
                self._exchange(wanted)
        self._exchange(wanted)

    def _exchange(self, wanted: list[Sdf.Layer]) -> None:
        if wanted != self._structure:
            self._structure = list(wanted)
            self._stack()
            self._selector.forget()

    def _overlaid(self, placed: PlacedEdit) -> Sdf.Layer:
        file = (self._folder / placed.edit.body.file).resolve()
        layer = Sdf.Layer.FindOrOpen(str(file)) if file.is_file() else None
        if layer is None:
            raise EditError(
                f"The overlay {placed.edit.body.file} is not there, or is no USD file.",
                place=placed.place,
                cure="check the path; it is relative to the plan",
            )
        layer.SetPermissionToEdit(False)
        return layer

    def _chosen(self, placed: PlacedEdit) -> Sdf.Layer:
        body = placed.edit.body
        paths = self._selector.prims(body.on, body.except_ or (), place=placed.place, maybe=body.maybe)
        choices = {name: str(variant) for name, variant in body.values().items()}
        for path in paths:
            sets = self._draft_stage.GetPrimAtPath(path).GetVariantSets()
            for name, variant in choices.items():
                if not sets.HasVariantSet(name):
                    raise EditError(
                        f"{path} has no variant set {name}. {nearest(name, sets.GetNames())}",
                        place=placed.place,
                    )
                variants = sets.GetVariantSet(name).GetVariantNames()
                if variant not in variants:
                    raise EditError(
                        f"{name} of {path} has no variant {variant}. {nearest(variant, variants)}",
                        place=placed.place,
                    )
        key = (tuple(paths), tuple(sorted(choices.items())))
        if key not in self._variants:
            layer = Sdf.Layer.CreateAnonymous("choose")
            for path in paths:
                spec = Sdf.CreatePrimInLayer(layer, path)
                for name, variant in choices.items():
                    spec.variantSelections[name] = variant
            self._variants[key] = layer
        return self._variants[key]


def _root_layer(scene: Scene, name: str) -> Sdf.Layer:
    root = Sdf.Layer.CreateAnonymous(name)
    # An anonymous root has no up axis, unit or frame rate of its own; samples would be rescaled.
    UsdUtils.CopyLayerMetadata(scene.layer, root, True)
    return root


def _helper_layer(materials: Mapping[str, MadeMaterial], folder: Path) -> Sdf.Layer:
    """The plan's own materials, below a prim no scene has."""
    layer = Sdf.Layer.CreateAnonymous("helpers")
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
    file = (folder / str(made.file)).resolve()
    if not file.is_file():
        raise EditError(f"The material file {made.file} is not there.", cure="check its path")
    prim = stage.DefinePrim(path)
    prim.GetReferences().AddReference(str(file), str(made.prim))
    if not prim.IsA(UsdShade.Material):
        raise EditError(f"{made.file} has no material at {made.prim}.")


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
