"""A scene of another kind than the demo: a harbour, Z up, in centimetres, at any number of frames a
second, with names beyond ASCII, layers with offsets and scales, instances, and things that move.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from shapes import make_material, plane, sphere, write_geometry

LAMP = "/Hafen/Lichter/Lampe_für_Süd"
BEACON = "/Hafen/Lichter/Leuchtfeuer"
CRANE = "/Hafen/Kräne/Kran_1"
BUOYS = "/Hafen/Bojen"
FIRST, LAST = 1001, 1048

PLAN = """\
lattice: 1
scene: häfen.usda
defaults:
  size: 48x27
  samples: 4
  frames: 1001
  passes: [beauty, depth]
  format: [exr, png]
  output: "bilder/{licht}/{camera}.{frame:04d}.{ext}"
axes:
  licht:
    früh:
    spät:
      edits:
        - multiply: {on: /Hafen/Lichter/Lampe_für_Süd, intensity: 0.5}
  camera:
    each: cameras
"""


def harbour_scene(folder: Path, rate: float = 25.0) -> Path:
    """Write the harbour and return its file; `rate` is in time codes a second."""
    folder.mkdir(parents=True, exist_ok=True)
    _buoy(folder / "boje.usda")
    _lamps(folder / "lichter.usda", rate)
    file = folder / "häfen.usda"
    stage = Usd.Stage.CreateNew(str(file))
    UsdGeom.SetStageUpAxis(stage, "Z")
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(rate)
    stage.SetFramesPerSecond(rate)
    stage.SetStartTimeCode(FIRST)
    stage.SetEndTimeCode(LAST)
    # What the layer of lights says at time t happens here at 2 t + 1001.
    stage.GetRootLayer().subLayerPaths.append("lichter.usda")
    stage.GetRootLayer().subLayerOffsets[0] = Sdf.LayerOffset(FIRST, 2.0)
    stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/Hafen").GetPrim())
    water = make_material(stage, "/Hafen/Farben/Wasser", diffuseColor=(0.1, 0.2, 0.25), roughness=0.3)
    red = make_material(stage, "/Hafen/Farben/Röt", diffuseColor=(0.6, 0.1, 0.05), roughness=0.6)
    quay = write_geometry(stage, "/Hafen/Kai", plane(600))
    quay.AddRotateXOp().Set(90.0)  # it is made lying with Y up
    UsdShade.MaterialBindingAPI.Apply(quay.GetPrim()).Bind(water)
    UsdGeom.Xform.Define(stage, "/Hafen/Kräne")
    for name, x in (("Kran_1", -150.0), ("Kran_2", 150.0)):
        crane = write_geometry(stage, f"/Hafen/Kräne/{name}", sphere(12))
        crane.AddTranslateOp().Set(Gf.Vec3d(x, 0, 60))
        turn = crane.AddRotateZOp()
        turn.Set(0.0, FIRST)
        turn.Set(94.0, LAST)
        crane.AddScaleOp().Set(Gf.Vec3f(60, 20, 60))
        UsdShade.MaterialBindingAPI.Apply(crane.GetPrim()).Bind(red)
    # Buoys: made in metres with Y up at 24 a second, brought in as they are; two of them instances.
    for k in range(3):
        buoy = UsdGeom.Xform.Define(stage, f"{BUOYS}/Boje_{k}")
        buoy.AddTranslateOp().Set(Gf.Vec3d(120.0 * k - 120, -200, 0))
        buoy.AddTransformOp().Set(
            Gf.Matrix4d().SetScale(100.0) * Gf.Matrix4d().SetRotate(Gf.Rotation(Gf.Vec3d.XAxis(), 90))
        )
        buoy.GetPrim().GetReferences().AddReference("boje.usda")
        buoy.GetPrim().SetInstanceable(k > 0)
    many = UsdGeom.PointInstancer.Define(stage, "/Hafen/Möwen")
    write_geometry(stage, "/Hafen/Möwen/Vogel", sphere(6)).AddScaleOp().Set(Gf.Vec3f(8))
    many.CreatePrototypesRel().SetTargets([Sdf.Path("/Hafen/Möwen/Vogel")])
    many.CreateProtoIndicesAttr([0] * 5)
    places = np.stack([np.linspace(-200, 200, 5), np.full(5, 100.0), np.full(5, 150.0)], 1)
    for frame, height in ((FIRST, 0.0), (LAST, 60.0)):
        many.CreatePositionsAttr().Set([Gf.Vec3f(x, y, z + height) for x, y, z in places.tolist()], frame)
    for name, eye in (("Weit", (0, -900, 300)), ("Nah_é", (300, -450, 160))):
        camera = UsdGeom.Camera.Define(stage, f"/Hafen/Kameras/{name}")
        op = camera.AddTransformOp()
        for frame, shift in ((FIRST, 0.0), (LAST, 100.0)):
            looking = Gf.Matrix4d().SetLookAt(
                Gf.Vec3d(eye[0] + shift, *eye[1:]), Gf.Vec3d(0, 0, 60), Gf.Vec3d(0, 0, 1)
            )
            op.Set(looking.GetInverse(), frame)
        camera.CreateHorizontalApertureAttr(36.0)
        camera.CreateVerticalApertureAttr(20.25)
        camera.CreateFocalLengthAttr(35.0)
        camera.CreateClippingRangeAttr(Gf.Vec2f(1, 100_000))
    stage.GetRootLayer().Save()
    return file


def harbour_plan(folder: Path, rate: float = 25.0) -> Path:
    """The harbour with a plan of four small cells; returns the plan."""
    harbour_scene(folder, rate)
    file = folder / "häfen.lattice.yaml"
    file.write_text(PLAN, encoding="utf-8")
    return file


def _buoy(file: Path) -> None:
    stage = Usd.Stage.CreateNew(str(file))
    UsdGeom.SetStageUpAxis(stage, "Y")
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetTimeCodesPerSecond(24)
    stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/Boje").GetPrim())
    body = write_geometry(stage, "/Boje/Körper", sphere(8))
    height = body.AddTranslateOp()
    height.Set(Gf.Vec3d(0, 0, 0), 960)
    height.Set(Gf.Vec3d(0, 0.5, 0), 1008)
    body.AddScaleOp().Set(Gf.Vec3f(0.3))
    stage.GetRootLayer().Save()


def _lamps(file: Path, rate: float) -> None:
    stage = Usd.Stage.CreateNew(str(file))
    stage.SetTimeCodesPerSecond(rate)
    UsdLux.DistantLight.Define(stage, "/Hafen/Lichter/Sonne").CreateIntensityAttr(1.0)
    lamp = UsdLux.SphereLight.Define(stage, LAMP)
    lamp.CreateRadiusAttr(10.0)
    for time, value in ((0, 100.0), (10, 400.0), (20, 100.0)):
        lamp.CreateIntensityAttr().Set(value, time)
    lamp.AddTranslateOp().Set(Gf.Vec3d(0, -100, 250))
    beacon = UsdLux.DiskLight.Define(stage, BEACON)
    beacon.CreateIntensityAttr(50.0)
    beacon.AddTranslateOp().Set(Gf.Vec3d(200, 200, 300))
    turn = beacon.AddRotateZOp()
    turn.Set(0.0, 0)
    turn.Set(360.0, 23.5)
    stage.GetRootLayer().Save()
