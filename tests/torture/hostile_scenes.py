"""Scenes that are wrong in every way: each command answers, names the prim, and the rest is drawn.

    python tests/torture/hostile_scenes.py [--seconds 300] [--seed 1]

First scenes made by hand, each an example of a class; then the bytes of scenes and images are changed
and cut at random, for as long as is asked for.
"""

from __future__ import annotations

import inspect
import os
import random
import shutil
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from campaign import Campaign, answer
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from conftest import PLAN
from shapes import room_scene

nan = float("nan")


def cam0(s, d):
    UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front")).GetVerticalApertureAttr().Set(0.0)


def cam00(s, d):
    UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front")).GetVerticalApertureAttr().Set(0.0)
    UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front")).GetHorizontalApertureAttr().Set(0.0)


def camnan(s, d):
    UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front")).GetHorizontalApertureAttr().Set(nan)


def camf0(s, d):
    UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front")).GetFocalLengthAttr().Set(0.0)


def camfn(s, d):
    UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front")).GetFocalLengthAttr().Set(-5.0)


def camclip(s, d):
    UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front")).GetClippingRangeAttr().Set(Gf.Vec2f(10, 1))


def camfocus(s, d):
    c = UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front"))
    c.CreateFStopAttr(2.0)
    c.CreateFocusDistanceAttr(-3.0)


def camx(s, d):
    UsdGeom.Xformable(s.GetPrimAtPath("/World/Cameras/Front")).GetOrderedXformOps()[0].Set(Gf.Matrix4d(0))


def mpu0(s, d):
    s.SetMetadata("metersPerUnit", 0.0)


def mpun(s, d):
    s.SetMetadata("metersPerUnit", -1.0)


def mpunan(s, d):
    s.SetMetadata("metersPerUnit", nan)


def upx(s, d):
    s.SetMetadata("upAxis", "X")


def stnan(s, d):
    s.SetStartTimeCode(nan)


def stinf(s, d):
    s.SetEndTimeCode(float("inf"))


def sthuge(s, d):
    s.SetEndTimeCode(1e300)


def tcps0(s, d):
    s.SetTimeCodesPerSecond(0)


def tcpsneg(s, d):
    s.SetTimeCodesPerSecond(-24)


def tcpsnan(s, d):
    s.SetTimeCodesPerSecond(nan)


def refdev(s, d):
    s.DefinePrim("/World/R").GetReferences().AddReference("/dev/zero")


def reffifo(s, d):
    s.DefinePrim("/World/R").GetReferences().AddReference("fifo.usda")


def subfifo(s, d):
    s.GetRootLayer().subLayerPaths.append("fifo.usda")


def paybad(s, d):
    (d / "trunc.usdc").write_bytes(b"PXR-USDC" + bytes(200))
    s.DefinePrim("/World/R").GetPayloads().AddPayload("trunc.usdc")


def paybad2(s, d):
    (d / "trunc.usda").write_text('#usda 1.0\ndef Xform "A" {')
    s.DefinePrim("/World/R").GetPayloads().AddPayload("trunc.usda")


def refself(s, d):
    s.DefinePrim("/World/R").GetReferences().AddReference("scene.usda")


def texfifo(s, d):
    UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Image")).GetInput("file").Set(
        Sdf.AssetPath("fifo.png")
    )


def texdir(s, d):
    UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Image")).GetInput("file").Set(Sdf.AssetPath("."))


def texlong(s, d):
    UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Image")).GetInput("file").Set(
        Sdf.AssetPath("x" * 5000 + ".png")
    )


def texdev(s, d):
    UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Image")).GetInput("file").Set(
        Sdf.AssetPath("/dev/zero")
    )


def textxt(s, d):
    UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Image")).GetInput("file").Set(
        Sdf.AssetPath("base.usda")
    )


def texring(s, d):
    a = UsdShade.NodeGraph.Define(s, "/World/Looks/Floor/N")
    o = a.CreateOutput("o", Sdf.ValueTypeNames.Color3f)
    i = a.CreateInput("i", Sdf.ValueTypeNames.Color3f)
    o.ConnectToSource(i)
    i.ConnectToSource(a.ConnectableAPI(), "o", UsdShade.AttributeType.Output)
    UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Surface")).GetInput("diffuseColor").ConnectToSource(
        a.ConnectableAPI(), "o"
    )


def shself(s, d):
    sh = UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Surface"))
    sh.CreateOutput("x", Sdf.ValueTypeNames.Color3f)
    sh.GetInput("diffuseColor").ConnectToSource(sh.ConnectableAPI(), "x")


def matself(s, d):
    m = UsdShade.Material(s.GetPrimAtPath("/World/Looks/Floor"))
    m.GetSurfaceOutput().ConnectToSource(m.ConnectableAPI(), "surface", UsdShade.AttributeType.Output)


def lnan(s, d):
    UsdLux.LightAPI(s.GetPrimAtPath("/World/Lights/Key")).GetIntensityAttr().Set(nan)


def lneg(s, d):
    UsdLux.LightAPI(s.GetPrimAtPath("/World/Lights/Key")).GetIntensityAttr().Set(-5.0)


def lexp(s, d):
    UsdLux.LightAPI(s.GetPrimAtPath("/World/Lights/Key")).CreateExposureAttr(1e30)


def lrad(s, d):
    UsdLux.SphereLight(s.GetPrimAtPath("/World/Lights/Key")).CreateRadiusAttr(-1.0)


def ltemp(s, d):
    light = UsdLux.LightAPI(s.GetPrimAtPath("/World/Lights/Key"))
    light.CreateEnableColorTemperatureAttr(True)
    light.CreateColorTemperatureAttr(nan)


def lblock(s, d):
    UsdLux.LightAPI(s.GetPrimAtPath("/World/Lights/Key")).GetIntensityAttr().Block()


def pts(s, d):
    UsdGeom.Mesh(s.GetPrimAtPath("/World/Floor")).GetPointsAttr().Set([Gf.Vec3f(nan)] * 4)


def idx(s, d):
    UsdGeom.Mesh(s.GetPrimAtPath("/World/Floor")).GetFaceVertexIndicesAttr().Set([0, 1, 999999, 2, -1, 3])


def cnt(s, d):
    UsdGeom.Mesh(s.GetPrimAtPath("/World/Floor")).GetFaceVertexCountsAttr().Set([2**30] * 3)


def pv(s, d):
    UsdGeom.PrimvarsAPI(s.GetPrimAtPath("/World/Floor")).GetPrimvar("st").Set([Gf.Vec2f(0)])


def pvi(s, d):
    UsdGeom.PrimvarsAPI(s.GetPrimAtPath("/World/Floor")).GetPrimvar("st").SetIndices([0, 10**6])


def sing(s, d):
    UsdGeom.Xformable(s.GetPrimAtPath("/World/Floor")).AddScaleOp().Set(Gf.Vec3f(0))


def xnan(s, d):
    UsdGeom.Xformable(s.GetPrimAtPath("/World/Floor")).AddTranslateOp().Set(Gf.Vec3d(nan))


def huge(s, d):
    UsdGeom.Xformable(s.GetPrimAtPath("/World/Floor")).AddTranslateOp().Set(Gf.Vec3d(1e300))


def esc(s, d):
    UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Surface")).GetIdAttr().Set(
        "\x1b]0;evil\x07\x1b[2J bad\nfaked ✓ done"
    )


def escasset(s, d):
    UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Image")).GetInput("file").Set(
        Sdf.AssetPath("no\x7f\u202e.png")
    )


def varno(s, d):
    s.GetPrimAtPath("/World/Toys").GetVariantSets().GetVariantSet("size").SetVariantSelection("gone")


def inst(s, d):
    i = UsdGeom.PointInstancer.Define(s, "/World/I")
    i.CreatePrototypesRel().SetTargets(["/World/Floor"])
    i.CreateProtoIndicesAttr([0, 5, -1])
    i.CreatePositionsAttr([(0, 0, 0)])


def inst2(s, d):
    i = UsdGeom.PointInstancer.Define(s, "/World/I")
    i.CreatePrototypesRel().SetTargets([])
    i.CreateProtoIndicesAttr([0])


def typeno(s, d):
    s.DefinePrim("/World/Weird", "NoSuchType")


def spherer(s, d):
    UsdGeom.Sphere.Define(s, "/World/S").CreateRadiusAttr(nan)


def cyl(s, d):
    UsdGeom.Cylinder.Define(s, "/World/S").CreateHeightAttr(-1e30)


def curves(s, d):
    c = UsdGeom.BasisCurves.Define(s, "/World/C")
    c.CreateCurveVertexCountsAttr([3, -4])
    c.CreatePointsAttr([Gf.Vec3f(0)] * 2)


def empty(s, d):
    s.RemovePrim("/World")


def collring(s, d):
    for a, b in (("a", "b"), ("b", "a")):
        c = Usd.CollectionAPI.Apply(s.GetPrimAtPath("/World"), a)
        c.CreateIncludesRel().SetTargets([f"/World.collection:{b}"])
    UsdLux.LightAPI(
        s.GetPrimAtPath("/World/Lights/Key")
    ).GetLightLinkCollectionAPI().CreateIncludesRel().SetTargets(["/World.collection:a"])


MADE: dict[str, Callable] = {
    name: make
    for name, make in list(globals().items())
    if inspect.isfunction(make) and list(inspect.signature(make).parameters) == ["s", "d"]
}
COMMANDS = (["survey", "scene.usda"], ["begin", "scene.usda"], ["check", "room.lattice.yaml"],
            ["run", "room.lattice.yaml", "--workers", "0"])  # fmt: skip


def problems_of(folder: Path) -> list[str]:
    """What is wrong with how the commands answer the scene that stands there."""
    found = []
    shutil.rmtree(folder / "out", ignore_errors=True)
    for old in [*folder.glob("*.sqlite*"), *folder.glob("scene.*lattice*"), *folder.glob("scene.framing*")]:
        old.unlink()
    return [*found, *filter(None, (answer(folder, *command, within=60.0)[1] for command in COMMANDS))]


def spoiled(data: bytes, rng: random.Random) -> bytes:
    """Bytes with some of them changed, or cut short."""
    if rng.random() < 0.3:
        return data[: rng.randrange(len(data))]
    changed = bytearray(data)
    for _ in range(rng.choice([1, 2, 8, 64])):
        changed[rng.randrange(len(changed))] = rng.randrange(256)
    return bytes(changed)


def main() -> None:
    campaign = Campaign("scenes and images", 300.0)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        base = room_scene(folder / "base.usda")
        os.mkfifo(folder / "fifo.usda")
        os.mkfifo(folder / "fifo.png")
        plan = PLAN.replace("room.usda", "scene.usda").replace("samples: 4", "samples: 1")
        (folder / "room.lattice.yaml").write_text(plan.replace("48x32", "16x12"))
        scene, image = folder / "scene.usda", (folder / "grid.png").read_bytes()
        for title, make in MADE.items():
            (folder / "grid.png").write_bytes(image)
            stage = Usd.Stage.CreateInMemory()
            stage.GetRootLayer().TransferContent(Sdf.Layer.FindOrOpen(str(base)))
            try:
                make(stage, folder)
            except Exception as problem:  # USD refuses to write it: then nobody else has either
                print(f"{title}: not made, {str(problem)[:80]!r}")
                continue
            stage.GetRootLayer().Export(str(scene))
            campaign.tried(title, *problems_of(folder))
        while campaign.goes_on:
            kind = "scene" if campaign.count % 2 else "image"
            of_scene, of_image = base.read_bytes(), image
            if kind == "scene":
                of_scene = spoiled(of_scene, campaign.rng)
            else:
                of_image = spoiled(of_image, campaign.rng)
            scene.write_bytes(of_scene)
            (folder / "grid.png").write_bytes(of_image)
            campaign.tried(f"seed {campaign.seed}, {kind} {campaign.count}", *problems_of(folder))
    campaign.end()


if __name__ == "__main__":
    main()
