"""A small scene on which edits are tried."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom, UsdShade

from conftest import PLAN
from grandlattice.plan import Cell, CellMaker, build_lattice, parse, validate
from grandlattice.scene_records import Snapshot
from grandlattice.stage import CellStage, Snapshotter, open_scene

FRONT = "/World/Cameras/Front"


class Bench:
    """Lays edits over a scene and looks at what composes."""

    def __init__(self, scene: Path, extra: str = "") -> None:
        self.scene = open_scene(scene)
        self.extra, self.folder = extra, scene.parent
        self.stage: CellStage | None = None

    def cell(self, *edits: str) -> Cell:
        lines = "\n".join(f"        - {edit}" for edit in edits)
        text = PLAN.replace("    day:\n", f"    day:\n      edits:\n{lines}\n" if edits else "    day:\n")
        document = parse(text + self.extra)
        self.model = validate(document)
        lattice = build_lattice(self.model, document, self.scene.facts())
        return CellMaker(lattice, self.scene.facts())(0)

    def lay(self, *edits: str) -> Usd.Stage:
        cell = self.cell(*edits)
        if self.stage is None:
            self.stage = CellStage(self.scene, self.model, self.folder)
            self.snapshots = Snapshotter(self.stage)
        self.stage.switch(cell.edits)
        return self.stage.stage

    def take(self, frame: float = 1.0):
        return self.snapshots.take(FRONT, frame)

    def seen(self) -> set[str]:
        return {item.path.rsplit("/", 1)[1] for item in self.take().items}

    def notes(self) -> str:
        assert self.stage is not None
        return "; ".join(f"{prim}: {what}" for prim, what, _ in self.stage.notes)


def visible(stage: Usd.Stage, path: str) -> bool:
    return UsdGeom.Imageable(stage.GetPrimAtPath(path)).ComputeVisibility() != UsdGeom.Tokens.invisible


def bound(stage: Usd.Stage, path: str, purpose=UsdShade.Tokens.full) -> str:
    material, _ = UsdShade.MaterialBindingAPI(stage.GetPrimAtPath(path)).ComputeBoundMaterial(purpose)
    return str(material.GetPath())


def to_world(stage: Usd.Stage, path: str, frame: float = 1.0) -> np.ndarray:
    """(4, 4) matrix for row vectors."""
    return np.array(UsdGeom.Xformable(stage.GetPrimAtPath(path)).ComputeLocalToWorldTransform(frame))


def snapshot_of(stage: Usd.Stage, frame: float = 1.0, levels: int = 1, **asked) -> Snapshot:
    """What the tracer would be given of a stage, without a plan's edits."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "scene.usda"
        stage.GetRootLayer().Export(str(file))
        made = Usd.Stage.Open(str(file))
        UsdGeom.Camera.Define(made, "/Camera")
        made.GetRootLayer().Save()
        model = validate(parse("lattice: 1\nscene: scene.usda\ndefaults: {camera: /Camera}\n"))
        cell_stage = CellStage(open_scene(file), model, Path(folder))
        cell_stage.switch(())
        return Snapshotter(cell_stage).take("/Camera", frame, levels, **asked)
