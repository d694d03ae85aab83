"""The orrery room as USD: three layers, textures and skies, all made by code.

`orrery.usda` holds cameras and lights and is meant to be read; it refers to `room.usdc` and
`instrument.usdc` for everything solid.
"""

from __future__ import annotations

from pathlib import Path

from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from grandlattice.demo import demo_materials, orrery_mechanism, room_geometry
from grandlattice.demo.drawn_textures import write_textures
from grandlattice.demo.mesh_writing import write_mesh

FIRST, LAST = 1, 96
_UP = room_geometry.PEDESTAL_HEIGHT + 8.6  # the dial's plane; the feet stand on the pedestal


def write_scene(folder: Path) -> Path:
    """Write the orrery room below a folder and return the scene's file."""
    folder.mkdir(parents=True, exist_ok=True)
    write_textures(folder)
    _write_instrument(folder / "instrument.usdc")
    _write_room(folder / "room.usdc")
    return _write_root(folder / "orrery.usda")


def _new_stage(file: Path, root: str) -> Usd.Stage:
    file.unlink(missing_ok=True)
    layer = Sdf.Layer.CreateNew(str(file))
    stage = Usd.Stage.Open(layer)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, root).GetPrim())
    stage.SetStartTimeCode(FIRST)
    stage.SetEndTimeCode(LAST)
    stage.SetTimeCodesPerSecond(24)
    stage.SetFramesPerSecond(24)
    return stage


def _write_instrument(file: Path) -> None:
    stage = _new_stage(file, "/Orrery")
    UsdGeom.Scope.Define(stage, "/Orrery/Looks")
    demo_materials.define_all(stage, "/Orrery/Looks")
    orrery = stage.GetPrimAtPath("/Orrery")
    for kind in ("Metal", "MetalDark", "Dial"):
        UsdShade.Material.Define(stage, f"/Orrery/Looks/{kind}")
    finishes = orrery.GetVariantSets().AddVariantSet("finish")
    for finish, kinds in demo_materials.FINISHES.items():
        finishes.AddVariant(finish)
        finishes.SetVariantSelection(finish)
        with finishes.GetVariantEditContext():
            for kind, made_of in kinds.items():
                prim = stage.OverridePrim(f"/Orrery/Looks/{kind}")
                prim.GetReferences().AddInternalReference(f"/Orrery/Looks/{made_of}")
    finishes.SetVariantSelection("brass")
    UsdGeom.Xform.Define(stage, "/Orrery/Works")
    for part in orrery_mechanism.parts():
        mesh = write_mesh(stage, f"/Orrery/Works/{part.name}", part.mesh, f"/Orrery/Looks/{part.made_of}")
        if part.x or part.z:
            mesh.AddTranslateOp().Set(Gf.Vec3d(part.x, 0, part.z))
        if part.turns_a_year:
            turn = mesh.AddRotateYOp()
            for frame in (FIRST, LAST + 1):
                year = (frame - FIRST) / LAST
                turn.Set(part.start_deg + 360.0 * float(part.turns_a_year) * year, frame)
    UsdGeom.Xform.Define(stage, "/Orrery/Dome")
    glass, knob, foot = orrery_mechanism.dome()
    write_mesh(stage, "/Orrery/Dome/Glass", glass, "/Orrery/Looks/Glass")
    write_mesh(stage, "/Orrery/Dome/Knob", knob, "/Orrery/Looks/Metal")
    write_mesh(stage, "/Orrery/Dome/Foot", foot, "/Orrery/Looks/MetalDark")
    stage.GetRootLayer().Save()


def _write_room(file: Path) -> None:
    stage = _new_stage(file, "/Room")
    UsdGeom.Scope.Define(stage, "/Room/Looks")
    demo_materials.define_all(stage, "/Room/Looks")
    for piece in room_geometry.pieces():
        _write_piece(stage, piece)
    dressing = stage.GetPrimAtPath("/Room").GetVariantSets().AddVariantSet("dressing")
    for variant in ("bare", "reading-table"):
        dressing.AddVariant(variant)
    dressing.SetVariantSelection("reading-table")
    with dressing.GetVariantEditContext():
        for piece in room_geometry.reading_table():
            _write_piece(stage, piece)
    stage.GetRootLayer().Save()


def _write_piece(stage: Usd.Stage, piece: room_geometry.Piece) -> None:
    group = piece.path.rpartition("/")[0]
    UsdGeom.Xform.Define(stage, f"/Room/{group}")
    write_mesh(stage, f"/Room/{piece.path}", piece.mesh, f"/Room/Looks/{piece.material}")


def _write_root(file: Path) -> Path:
    stage = _new_stage(file, "/Room")
    stage.GetRootLayer().comment = "The orrery room: demo scene of Grand Lattice, made by code."
    stage.GetPrimAtPath("/Room").GetReferences().AddReference("./room.usdc")
    orrery = UsdGeom.Xform.Define(stage, "/Room/Orrery")
    orrery.GetPrim().GetReferences().AddReference("./instrument.usdc")
    orrery.AddTranslateOp().Set(Gf.Vec3d(0, _UP, 0))
    UsdGeom.Scope.Define(stage, "/Room/Cameras")
    _camera(stage, "Wide", (56, 147, 204), (-13, 114, -16), (36.0, 20.25), 27.5)
    dial_eye, dial_target = (22, _UP + 25, 62), (5, _UP + 5, 8)
    _camera(stage, "Dial", dial_eye, dial_target, (36.0, 36.0), 62.0, f_stop=3.2, focus=(4, _UP + 4, 14))
    _camera(stage, "Portrait", (-44, 150, 146), (0, 117, 0), (28.8, 36.0), 50.0)
    above = _camera(stage, "Above", (0, _UP + 160, 0.0), (0, _UP, -0.001), (1320.0, 990.0), 50.0)
    above.CreateProjectionAttr(UsdGeom.Tokens.orthographic)
    _lights(stage)
    stage.GetRootLayer().Save()
    return file


Point = tuple[float, float, float]


def _camera(
    stage: Usd.Stage, name: str, eye: Point, target: Point, film_mm: tuple[float, float], focal_mm: float,
    *, f_stop: float = 0.0, focus: Point | None = None,
) -> UsdGeom.Camera:  # fmt: skip
    """A camera that looks from `eye` to `target`; the scene's unit makes a tenth of it a millimetre."""
    camera = UsdGeom.Camera.Define(stage, f"/Room/Cameras/{name}")
    up = Gf.Vec3d(0, 1, 0) if abs(eye[1] - target[1]) < 150 else Gf.Vec3d(0, 0, -1)
    view = Gf.Matrix4d().SetLookAt(Gf.Vec3d(*eye), Gf.Vec3d(*target), up)
    camera.AddTransformOp().Set(view.GetInverse())
    camera.CreateHorizontalApertureAttr(film_mm[0])
    camera.CreateVerticalApertureAttr(film_mm[1])
    camera.CreateFocalLengthAttr(focal_mm)
    camera.CreateClippingRangeAttr(Gf.Vec2f(1.0, 5000.0))
    sharp = Gf.Vec3d(*(focus or target)) - Gf.Vec3d(*eye)
    ahead = (Gf.Vec3d(*target) - Gf.Vec3d(*eye)).GetNormalized()
    camera.CreateFocusDistanceAttr(float(sharp * ahead))
    camera.CreateFStopAttr(f_stop)
    return camera


def _lights(stage: Usd.Stage) -> None:
    """A room by day, in nits and lux: some 500 lux on the table, 6800 where the low sun falls in, and a lamp
    of 4π² · 0.03² · 16 000 = 570 lumens."""
    UsdGeom.Scope.Define(stage, "/Room/Lights")
    sky = UsdLux.DomeLight.Define(stage, "/Room/Lights/Sky")
    sky.CreateTextureFileAttr(Sdf.AssetPath("skies/noon.hdr"))
    sky.CreateTextureFormatAttr(UsdLux.Tokens.latlong)
    sky.CreateIntensityAttr(400.0)
    sun = UsdLux.DistantLight.Define(stage, "/Room/Lights/Sun")
    sun.CreateIntensityAttr(6800.0)
    sun.CreateNormalizeAttr(True)
    sun.CreateAngleAttr(0.8)
    sun.CreateEnableColorTemperatureAttr(True)
    sun.CreateColorTemperatureAttr(5200.0)
    sun.AddRotateXYZOp().Set(Gf.Vec3f(-25, -80, 0))
    lamp = UsdLux.SphereLight.Define(stage, "/Room/Lights/Lamp")
    lamp.CreateRadiusAttr(3.0)
    lamp.CreateIntensityAttr(16000.0)
    lamp.CreateEnableColorTemperatureAttr(True)
    lamp.CreateColorTemperatureAttr(2700.0)
    lamp.AddTranslateOp().Set(Gf.Vec3d(*room_geometry.LAMP_BULB))
    z0, z1, y0, y1 = room_geometry.WINDOW
    window = UsdLux.RectLight.Define(stage, "/Room/Lights/Window")
    window.CreateWidthAttr(z1 - z0)
    window.CreateHeightAttr(y1 - y0)
    window.CreateIntensityAttr(3200.0)
    window.CreateColorAttr(Gf.Vec3f(0.88, 0.95, 1.0))
    window.AddTranslateOp().Set(Gf.Vec3d(room_geometry.LEFT + 1, (y0 + y1) / 2, (z0 + z1) / 2))
    window.AddRotateYOp().Set(-90.0)
