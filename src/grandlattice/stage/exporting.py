"""A cell as one USD layer over the scene: its edits, the plan's materials, and how it is rendered.

The layer has everything of ours flattened into it and the scene as its one sublayer, so that it
opens in any USD program and composes to the stage that was traced.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from pxr import Gf, Sdf, Usd, UsdGeom, UsdRender, UsdUtils

from grandlattice.errors import OutputError
from grandlattice.plan import Cell, PlanModel
from grandlattice.stage.edit_authoring import Drafting, root_layer
from grandlattice.stage.opened_scene import ENDINGS, Scene, quiet_usd

Product = tuple[str, int, str, tuple[str, ...]]
"""A file of the cell: path, frame, format, passes."""


def export_cell(
    scene: Scene, model: PlanModel, folder: Path, cell: Cell, products: Sequence[Product] | None, file: Path
) -> Path:
    """Write a cell as a layer and return its path.

    Parameters
    ----------
    products : what the cell renders to; each kind of file becomes a render product.  None leaves out how it
        is rendered: the layer has its edits alone.

    Raises
    ------
    EditError
        When an edit cannot be laid over this scene.
    OutputError
        When the file cannot be written.
    """
    if file.suffix.lower() not in ENDINGS[:3]:
        raise OutputError(f"{file.name} is no USD layer.", cure="name a file that ends in .usda or .usdc")
    if file.resolve() == scene.file.resolve():
        raise OutputError("The scene itself is never written over.", cure="name another file")
    drafting = Drafting(scene, model, folder)
    drafting.lay(cell.edits)
    with quiet_usd():
        ours = root_layer(scene, "ours")
        ours.subLayerPaths = [
            layer.identifier
            for layer in (drafting.looks, drafting.structure, *drafting.stacked, drafting.helpers)
        ]
        flat = UsdUtils.FlattenLayerStack(Usd.Stage.Open(ours), _relative_to(file))
        UsdUtils.CopyLayerMetadata(scene.layer, flat, True)
        flat.timeCodesPerSecond = scene.stage.GetTimeCodesPerSecond()
        relative = os.path.relpath(scene.file.resolve(), file.resolve().parent)
        flat.subLayerPaths = [relative.replace(os.sep, "/")]
        part = file.with_name(f".{file.stem}.part{file.suffix}")
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            layer = Sdf.Layer.CreateNew(str(part))
            layer.TransferContent(flat)
            stage = Usd.Stage.Open(layer)
            if products is not None:
                _add_settings(stage, cell, products)
                _add_lens(stage, cell)
            if not layer.Save():
                raise OutputError(f"{file} could not be written.")
            os.replace(part, file)
        except OSError as problem:
            raise OutputError(f"{file} could not be written: {problem.strerror}.") from problem
        finally:
            part.unlink(missing_ok=True)
    return file


def _relative_to(file: Path):  # type: ignore[no-untyped-def]
    folder = file.resolve().parent

    def resolve(layer: Sdf.Layer, asset: str) -> str:
        """Asset paths relative to the layer that is written."""
        path = Path(asset if layer.anonymous else layer.ComputeAbsolutePath(asset))
        if not path.is_absolute():
            return asset
        return os.path.relpath(path, folder).replace(os.sep, "/")

    return resolve


def _add_settings(stage: Usd.Stage, cell: Cell, products: Sequence[Product]) -> None:
    """UsdRender prims: settings, a product for each kind of file, a var for each pass."""
    settings = cell.settings
    root = Sdf.Path("/Render")
    if not stage.GetPrimAtPath(root):
        UsdGeom.Scope.Define(stage, root)
    size = Gf.Vec2i(settings.size.width, settings.size.height)
    path = root.AppendChild(_identifier(f"Lattice_{cell.file_name}"))
    made = UsdRender.Settings.Define(stage, path)
    made.CreateResolutionAttr(size)
    policy = "cropAperture" if settings.fit == "crop" else "expandAperture"
    made.CreateAspectRatioConformPolicyAttr(policy)
    if settings.camera is not None:
        made.CreateCameraRel().SetTargets([Sdf.Path(settings.camera)])
    names = []
    kinds: dict[tuple[str, tuple[str, ...]], list[Product]] = {}
    for product in products:
        kinds.setdefault((product[2], product[3]), []).append(product)
    for (kind, passes), files in kinds.items():
        child = UsdRender.Product.Define(stage, path.AppendChild(_identifier(f"{kind}_{passes[0]}")))
        name = child.CreateProductNameAttr()
        for file, frame, _, _ in files:
            name.Set(file, frame)
        variables = []
        for pass_name in passes:
            var = UsdRender.Var.Define(stage, path.AppendChild(_identifier(f"pass_{pass_name}")))
            var.CreateSourceNameAttr(pass_name)
            var.CreateSourceTypeAttr(UsdRender.Tokens.raw)
            var.CreateDataTypeAttr("float" if pass_name in ("depth", "occlusion") else "color3f")
            variables.append(var.GetPath())
        child.CreateOrderedVarsRel().SetTargets(variables)
        names.append(child.GetPath())
    made.CreateProductsRel().SetTargets(names)
    for name in ("samples", "seed", "bounces"):
        attribute = made.GetPrim().CreateAttribute(f"lattice:{name}", Sdf.ValueTypeNames.Int, True)
        attribute.Set(min(getattr(settings, name), 2**31 - 1))
    made.GetPrim().SetCustomDataByKey("lattice:cell", cell.address)
    stage.SetMetadata("renderSettingsPrimPath", str(path))
    frames = settings.frames
    stage.SetStartTimeCode(min(frames))
    stage.SetEndTimeCode(max(frames))


def _add_lens(stage: Usd.Stage, cell: Cell) -> None:
    """The cell's own f-number and distance in focus, over the camera's."""
    settings = cell.settings
    if settings.camera is None or (settings.fstop is None and settings.focus is None):
        return
    camera = UsdGeom.Camera(stage.OverridePrim(settings.camera))
    if settings.fstop is not None:
        camera.CreateFStopAttr(settings.fstop)
    if settings.focus is not None:
        camera.CreateFocusDistanceAttr(settings.focus.in_units(UsdGeom.GetStageMetersPerUnit(stage)))


def _identifier(name: str) -> str:
    return "".join(letter if letter.isascii() and letter.isalnum() else "_" for letter in name)
