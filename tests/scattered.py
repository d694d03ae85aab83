"""A plan whose files lie all over: above it, beside it, far away, in tiles, behind links."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Sdf, Usd, UsdGeom, UsdShade

from grandlattice.images import write_hdr
from shapes import room_scene

TEXT = """\
lattice: 1
include: ../gemeinsam/haus.lattice.yaml
scene: ../szene/größe 夜.usda
defaults: {size: 32x24, samples: 2, format: exr, passes: [beauty], output: "out/{sky}-{light}.{ext}",
  camera: /Room/World/Cameras/Front}
axes:
  sky:
    each: {files: "himmel/*.hdr"}
    edits:
      - set: {on: //Sky, texture: "{sky}"}
  light:
    plain:
    laid:
      edits:
        - overlay: LAID
"""


def picture(path: Path, colour: tuple[int, int, int]) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    Image.new("RGB", (4, 4), colour).save(path)


def scattered_plan(tmp_path: Path) -> Path:
    """The plan; everything it needs is below `tmp_path`."""
    show, far = tmp_path / "schau/folge", tmp_path / "lager"
    plan = show / "plan 1/bild.lattice.yaml"
    plan.parent.mkdir(parents=True)
    far.mkdir()
    for k, name in enumerate(("tag", "nacht")):
        (plan.parent / "himmel").mkdir(exist_ok=True)
        write_hdr(plan.parent / f"himmel/{name}.hdr", np.full((4, 8, 3), 1.0 + k, np.float32), {})
    (show / "gemeinsam").mkdir()
    (show / "gemeinsam/haus.lattice.yaml").write_text(
        f"lattice: 1\nmaterials:\n  own: {{file: {far}/m.usda, prim: /own}}\n"
    )
    (far / "m.usda").write_text('#usda 1.0\ndef Material "own" {}\n')
    room = room_scene(far / "raum.usda")
    stage = Usd.Stage.Open(str(room))
    for name, asset in (("Tiled", "../schau/kacheln/t.<UDIM>.png"), ("Linked", "bunt.png")):
        shader = UsdShade.Shader.Define(stage, f"/World/{name}")
        shader.CreateIdAttr("UsdUVTexture")
        shader.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(asset))
    stage.GetRootLayer().Save()
    for tile in (1001, 1012):
        picture(tmp_path / f"schau/kacheln/t.{tile}.png", (tile % 255, 9, 9))
    picture(tmp_path / "schau/kacheln/t.ignored.png", (1, 2, 3))
    picture(far / "store/real.png", (200, 30, 30))
    os.symlink(far / "store/real.png", far / "bunt.png")
    scene = show / "szene/größe 夜.usda"
    scene.parent.mkdir()
    top = Usd.Stage.CreateNew(str(scene))
    UsdGeom.SetStageMetersPerUnit(top, 1.0)
    UsdGeom.Xform.Define(top, "/Room")
    world = UsdGeom.Xform.Define(top, "/Room/World").GetPrim()
    world.GetReferences().AddReference(str(room), "/World")  # by its whole path
    top.SetDefaultPrim(top.GetPrimAtPath("/Room"))
    top.GetRootLayer().Save()
    laid = far / "über/laid.usd"
    laid.parent.mkdir()
    layer = Sdf.Layer.CreateNew(str(laid), args={"format": "usdc"})
    layer.subLayerPaths = ["./more.usda"]
    layer.Save()
    (far / "über/more.usda").write_text(
        '#usda 1.0\nover "Room" { over "World" { over "Cameras" { over "Front" { float focalLength = 30 } } } }\n'
    )
    plan.write_text(TEXT.replace("LAID", f"{laid}   # as a whole path"), encoding="utf-8")
    (plan.parent / "notes.txt").write_text("no file of the plan")
    return plan
