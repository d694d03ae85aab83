"""Scenes that are wrong in every way: each command answers, names the prim, and the rest is drawn.

    python tests/torture/hostile_scenes.py [--seconds 300] [--seed 1]

First scenes made by hand, each an example of a class; then the bytes of scenes and images are changed
and cut at random, for as long as is asked for.
"""

from __future__ import annotations

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

Change = Callable[[Usd.Stage, Path], object]
nan, inf = float("nan"), float("inf")
COLOUR = Sdf.ValueTypeNames.Color3f


def camera(s: Usd.Stage) -> UsdGeom.Camera:
    return UsdGeom.Camera(s.GetPrimAtPath("/World/Cameras/Front"))


def floor(s: Usd.Stage) -> UsdGeom.Mesh:
    return UsdGeom.Mesh(s.GetPrimAtPath("/World/Floor"))


def surface(s: Usd.Stage) -> UsdShade.Shader:
    return UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Surface"))


def key(s: Usd.Stage) -> UsdLux.LightAPI:
    return UsdLux.LightAPI(s.GetPrimAtPath("/World/Lights/Key"))


def extra(s: Usd.Stage) -> Usd.Prim:
    return s.DefinePrim("/World/R")


def image(file: str) -> Change:
    def change(s: Usd.Stage, folder: Path) -> None:
        shader = UsdShade.Shader(s.GetPrimAtPath("/World/Looks/Floor/Image"))
        shader.GetInput("file").Set(Sdf.AssetPath(file))

    return change


def reference(file: str) -> Change:
    return lambda s, d: extra(s).GetReferences().AddReference(file)


def payload(name: str, content: bytes) -> Change:
    return lambda s, d: (d / name).write_bytes(content) and extra(s).GetPayloads().AddPayload(name)


def metadata(name: str, value: object) -> Change:
    return lambda s, d: s.SetMetadata(name, value)


def instances(targets: list[str], numbers: list[int], positions: list[tuple[int, int, int]]) -> Change:
    def change(s: Usd.Stage, folder: Path) -> None:
        instancer = UsdGeom.PointInstancer.Define(s, "/World/I")
        instancer.CreatePrototypesRel().SetTargets(targets)
        instancer.CreateProtoIndicesAttr(numbers)
        instancer.CreatePositionsAttr(positions)

    return change


def without_a_film(s: Usd.Stage, folder: Path) -> None:
    camera(s).GetVerticalApertureAttr().Set(0.0)
    camera(s).GetHorizontalApertureAttr().Set(0.0)


def focused_behind(s: Usd.Stage, folder: Path) -> None:
    camera(s).CreateFStopAttr(2.0)
    camera(s).CreateFocusDistanceAttr(-3.0)


def ring_of_nodes(s: Usd.Stage, folder: Path) -> None:
    graph = UsdShade.NodeGraph.Define(s, "/World/Looks/Floor/N")
    out, into = graph.CreateOutput("o", COLOUR), graph.CreateInput("i", COLOUR)
    out.ConnectToSource(into)
    into.ConnectToSource(graph.ConnectableAPI(), "o", UsdShade.AttributeType.Output)
    surface(s).GetInput("diffuseColor").ConnectToSource(graph.ConnectableAPI(), "o")


def shader_of_itself(s: Usd.Stage, folder: Path) -> None:
    surface(s).CreateOutput("x", COLOUR)
    surface(s).GetInput("diffuseColor").ConnectToSource(surface(s).ConnectableAPI(), "x")


def material_of_itself(s: Usd.Stage, folder: Path) -> None:
    look = UsdShade.Material(s.GetPrimAtPath("/World/Looks/Floor"))
    look.GetSurfaceOutput().ConnectToSource(look.ConnectableAPI(), "surface", UsdShade.AttributeType.Output)


def temperature_that_is_none(s: Usd.Stage, folder: Path) -> None:
    key(s).CreateEnableColorTemperatureAttr(True)
    key(s).CreateColorTemperatureAttr(nan)


def variant_that_is_not_there(s: Usd.Stage, folder: Path) -> None:
    s.GetPrimAtPath("/World/Toys").GetVariantSets().GetVariantSet("size").SetVariantSelection("gone")


def curves_of_too_few_points(s: Usd.Stage, folder: Path) -> None:
    curves = UsdGeom.BasisCurves.Define(s, "/World/C")
    curves.CreateCurveVertexCountsAttr([3, -4])
    curves.CreatePointsAttr([Gf.Vec3f(0)] * 2)


def ring_of_collections(s: Usd.Stage, folder: Path) -> None:
    for a, b in (("a", "b"), ("b", "a")):
        collection = Usd.CollectionAPI.Apply(s.GetPrimAtPath("/World"), a)
        collection.CreateIncludesRel().SetTargets([f"/World.collection:{b}"])
    key(s).GetLightLinkCollectionAPI().CreateIncludesRel().SetTargets(["/World.collection:a"])


MADE: dict[str, Change] = {
    "film without height": lambda s, d: camera(s).GetVerticalApertureAttr().Set(0.0),
    "film without size": without_a_film,
    "film of no number": lambda s, d: camera(s).GetHorizontalApertureAttr().Set(nan),
    "no focal length": lambda s, d: camera(s).GetFocalLengthAttr().Set(0.0),
    "focal length below zero": lambda s, d: camera(s).GetFocalLengthAttr().Set(-5.0),
    "clipping planes crossed": lambda s, d: camera(s).GetClippingRangeAttr().Set(Gf.Vec2f(10, 1)),
    "focused behind": focused_behind,
    "camera squashed": lambda s, d: camera(s).GetOrderedXformOps()[0].Set(Gf.Matrix4d(0)),
    "no unit": metadata("metersPerUnit", 0.0),
    "unit below zero": metadata("metersPerUnit", -1.0),
    "unit of no number": metadata("metersPerUnit", nan),
    "up along x": metadata("upAxis", "X"),
    "start of no number": lambda s, d: s.SetStartTimeCode(nan),
    "endless": lambda s, d: s.SetEndTimeCode(inf),
    "nearly endless": lambda s, d: s.SetEndTimeCode(1e300),
    "no frame rate": lambda s, d: s.SetTimeCodesPerSecond(0),
    "frame rate below zero": lambda s, d: s.SetTimeCodesPerSecond(-24),
    "frame rate of no number": lambda s, d: s.SetTimeCodesPerSecond(nan),
    "reference to a device": reference("/dev/zero"),
    "reference to a pipe": reference("fifo.usda"),
    "reference to itself": reference("scene.usda"),
    "sublayer that is a pipe": lambda s, d: s.GetRootLayer().subLayerPaths.append("fifo.usda"),
    "binary payload cut short": payload("cut.usdc", b"PXR-USDC" + bytes(200)),
    "payload cut short": payload("cut.usda", b'#usda 1.0\ndef Xform "A" {'),
    "image that is a pipe": image("fifo.png"),
    "image that is a folder": image("."),
    "image of a long name": image("x" * 5000 + ".png"),
    "image that is a device": image("/dev/zero"),
    "image that is a scene": image("base.usda"),
    "image of a name that moves the cursor": image("no\x7f\u202e.png"),
    "ring of nodes": ring_of_nodes,
    "shader of itself": shader_of_itself,
    "material of itself": material_of_itself,
    "shader of a name that moves the cursor": lambda s, d: (
        surface(s).GetIdAttr().Set("\x1b]0;evil\x07\x1b[2J bad\nfaked ✓ done")
    ),
    "strength of no number": lambda s, d: key(s).GetIntensityAttr().Set(nan),
    "strength below zero": lambda s, d: key(s).GetIntensityAttr().Set(-5.0),
    "strength beyond numbers": lambda s, d: key(s).CreateExposureAttr(1e30),
    "strength blocked": lambda s, d: key(s).GetIntensityAttr().Block(),
    "radius below zero": lambda s, d: UsdLux.SphereLight(key(s).GetPrim()).CreateRadiusAttr(-1.0),
    "temperature that is none": temperature_that_is_none,
    "points of no numbers": lambda s, d: floor(s).GetPointsAttr().Set([Gf.Vec3f(nan)] * 4),
    "corners that are not there": lambda s, d: (
        floor(s).GetFaceVertexIndicesAttr().Set([0, 1, 999999, 2, -1, 3])
    ),
    "faces of too many corners": lambda s, d: floor(s).GetFaceVertexCountsAttr().Set([2**30] * 3),
    "too few texture coordinates": lambda s, d: (
        UsdGeom.PrimvarsAPI(floor(s)).GetPrimvar("st").Set([Gf.Vec2f(0)])
    ),
    "texture coordinates not there": lambda s, d: (
        UsdGeom.PrimvarsAPI(floor(s)).GetPrimvar("st").SetIndices([0, 10**6])
    ),
    "squashed": lambda s, d: floor(s).AddScaleOp().Set(Gf.Vec3f(0)),
    "placed at no number": lambda s, d: floor(s).AddTranslateOp().Set(Gf.Vec3d(nan)),
    "placed far away": lambda s, d: floor(s).AddTranslateOp().Set(Gf.Vec3d(1e300)),
    "variant that is not there": variant_that_is_not_there,
    "instances of what is not there": instances(["/World/Floor"], [0, 5, -1], [(0, 0, 0)]),
    "instances of nothing": instances([], [0], []),
    "type that nobody knows": lambda s, d: s.DefinePrim("/World/Weird", "NoSuchType"),
    "sphere of no radius": lambda s, d: UsdGeom.Sphere.Define(s, "/World/S").CreateRadiusAttr(nan),
    "cylinder turned inside out": lambda s, d: UsdGeom.Cylinder.Define(s, "/World/S").CreateHeightAttr(-1e30),
    "curves of too few points": curves_of_too_few_points,
    "empty": lambda s, d: s.RemovePrim("/World"),
    "ring of collections": ring_of_collections,
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
        scene, grid = folder / "scene.usda", (folder / "grid.png").read_bytes()
        for title, make in MADE.items():
            (folder / "grid.png").write_bytes(grid)
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
            of_scene, of_image = base.read_bytes(), grid
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
