"""The drafting stage: the scene with edits authored on it, one after the other.

Structural edits come first, each in a layer of its own that is kept and used again; the rest
follow in one layer, or each in its own where somebody will ask which edit said what.  Drafting
happens beside the stage that is traced, so that nobody sees half of it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from pxr import Gf, Sdf, Usd, UsdShade, UsdUtils

from grandlattice.errors import EditError
from grandlattice.plan import STRUCTURAL, PlacedEdit, PlanModel
from grandlattice.plan.schema import MadeMaterial
from grandlattice.stage.composing import MATERIALS, Draft, Note
from grandlattice.stage.edits import author
from grandlattice.stage.scene import Scene, quiet_usd
from grandlattice.stage.selecting import HELPERS, Selector

_MOST_LAYERS = 500  # of structural edits, kept for the next cell that has them

Edited = tuple[Sdf.Layer, PlacedEdit]


class Drafting:
    """A stage edits are drafted on.

    Parameters
    ----------
    apart : give every edit a layer of its own.

    Attributes
    ----------
    layer : what the last edits that are not structural wrote, where they are not apart.
    structure : the layers of the structural edits, strongest first.
    edited : all layers with the edit each is of, strongest first; complete where they are apart.
    notes : what an artist should know of the last edits.
    """

    def __init__(self, scene: Scene, model: PlanModel, folder: Path, *, apart: bool = False) -> None:
        self._folder, self._apart = folder, apart
        self._scene = scene
        self.helpers = helper_layer(model.materials, folder)
        self.layer = Sdf.Layer.CreateAnonymous("edits")
        self._root = root_layer(scene, "drafted")
        self.structure: list[Sdf.Layer] = []
        self.edited: list[Edited] = []
        self.notes: list[Note] = []
        self._made: dict[object, tuple[Sdf.Layer, list[Note]]] = {}
        self._stacked: list[str] = []
        self._stack([self.layer])
        self.stage = Usd.Stage.Open(self._root, Usd.Stage.LoadAll)
        self._selector = Selector(self.stage, model.select)

    def lay(self, edits: Sequence[PlacedEdit]) -> None:
        """Draft these edits in place of the last ones.

        Raises
        ------
        EditError
            When one of them cannot be laid over this scene.
        """
        with quiet_usd():
            self.layer.Clear()
            self.notes = []
            structural = self._structure([e for e in edits if e.edit.verb in STRUCTURAL])
            looks = [e for e in edits if e.edit.verb not in STRUCTURAL]
            if self._apart:
                layers = [Sdf.Layer.CreateAnonymous(e.edit.verb) for e in looks]
                self._exchange([*reversed(layers), *self.structure])
                self.edited = [*reversed(list(zip(layers, looks, strict=True))), *structural]
            else:
                layers = [self.layer] * len(looks)
                self._exchange([self.layer, *self.structure])
            draft = Draft(self.stage, self._selector, self._folder, notes=self.notes)
            for layer, placed in zip(layers, looks, strict=True):
                if layer not in draft.layers:
                    draft.layers.insert(0, layer)
                self.stage.SetEditTarget(layer)
                author(draft, placed)

    def _structure(self, edits: Sequence[PlacedEdit]) -> list[Edited]:
        """Put the structural layers together; later edits stand above earlier ones."""
        done: list[Edited] = []
        key: object = ()
        for placed in edits:
            key = key, placed.edit.verb, repr(placed.edit.body)
            if key not in self._made:
                if len(self._made) >= _MOST_LAYERS:
                    self._made.clear()
                self._made[key] = self._make(placed, [layer for layer, _ in done])
            layer, notes = self._made[key]
            self.notes += notes
            done.insert(0, (layer, placed))
        self.structure = list(dict.fromkeys(layer for layer, _ in done))
        return done

    def _make(self, placed: PlacedEdit, below: list[Sdf.Layer]) -> tuple[Sdf.Layer, list[Note]]:
        """The layer of a structural edit, authored over those before it."""
        if placed.edit.verb == "overlay":
            return self._overlaid(placed), []
        layer = Sdf.Layer.CreateAnonymous(placed.edit.verb)
        self._exchange([self.layer, layer, *dict.fromkeys(below)])
        self.stage.SetEditTarget(layer)
        draft = Draft(self.stage, self._selector, self._folder, [layer, *below])
        author(draft, placed)
        return layer, draft.notes

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

    def _exchange(self, layers: list[Sdf.Layer]) -> None:
        if self._stack(layers):
            self._selector.forget()

    def _stack(self, layers: Sequence[Sdf.Layer]) -> bool:
        """Make these the layers over the scene; returns whether the structure is another."""
        wanted = [layer.identifier for layer in layers]
        if wanted == self._stacked:
            return False
        self._stacked = wanted
        self._root.subLayerPaths = [*wanted, self.helpers.identifier, self._scene.layer.identifier]
        return True


def root_layer(scene: Scene, name: str) -> Sdf.Layer:
    """An empty layer with the scene's own up axis, unit and frame rate.

    An anonymous layer has none of its own; samples would be rescaled.
    """
    root = Sdf.Layer.CreateAnonymous(name)
    UsdUtils.CopyLayerMetadata(scene.layer, root, True)
    return root


def helper_layer(materials: Mapping[str, MadeMaterial], folder: Path) -> Sdf.Layer:
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
