"""Edits laid over a scene, checked by USD's own queries; snapshots; the scene left as it was."""

from __future__ import annotations

import hashlib
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdUtils

from bench import FRONT, Bench, bound, snapshot_of, visible
from conftest import PLAN
from grandlattice.errors import EditError, SceneError
from grandlattice.plan import parse, validate
from grandlattice.scene_records import TextureInput
from grandlattice.stage import CellStage, Snapshotter, open_scene, survey_scene
from shapes import camera, make_material, plane, room_scene, sphere, trace, write_geometry


@pytest.fixture
def bench(scene: Path) -> Bench:
    return Bench(scene, "materials:\n  clay: {color: [0.3, 0.3, 0.3], roughness: 1}\n")


def test_hide_and_show(bench: Bench) -> None:
    stage = bench.lay("hide: /World/Toys", "show: /World/Toys/BallA")
    assert visible(stage, "/World/Toys/BallA")
    assert not visible(stage, "/World/Toys/BallB")
    assert bench.seen() == {"BallA", "Floor"}
    stage = bench.lay("hide: {on: toys, except: //BallB}")
    assert not visible(stage, "/World/Toys/BallA")
    assert visible(stage, "/World/Toys/BallB")
    stage = bench.lay()
    assert visible(stage, "/World/Toys/BallA")


def test_only_in_its_three_ways(bench: Bench) -> None:
    stage = bench.lay("only: toys")
    assert bench.seen() == {"BallA", "BallB"}
    assert visible(stage, "/World/Lights/Key")
    bench.lay("only: {on: //BallA, rest: matte}")
    states = {i.path.rsplit("/", 1)[1]: (i.matte, i.seen) for i in bench.take().items}
    assert states == {"BallA": (False, True), "BallB": (True, True), "Floor": (True, True)}
    bench.lay("only: {on: toys, rest: unseen}", "only: {on: //BallB, rest: matte}")
    states = {i.path.rsplit("/", 1)[1]: (i.matte, i.seen) for i in bench.take().items}
    # Two of them intersect, and one such state stands on a prim: the later.
    assert states == {"BallA": (True, True), "BallB": (False, True), "Floor": (True, True)}


def test_assign_beats_every_binding_but_leaves_out_what_it_is_told(scene: Path) -> None:
    stage = Usd.Stage.Open(str(scene))
    looks = make_material(stage, "/World/Looks/Full", diffuseColor=(0, 1, 0))
    api = UsdShade.MaterialBindingAPI(stage.GetPrimAtPath("/World/Toys/BallA"))
    api.Bind(looks, UsdShade.Tokens.strongerThanDescendants, UsdShade.Tokens.full)
    toys = UsdShade.MaterialBindingAPI.Apply(stage.GetPrimAtPath("/World/Toys"))
    toys.Bind(looks, UsdShade.Tokens.strongerThanDescendants)
    subset = UsdGeom.Subset.Define(stage, "/World/Floor/Part")
    subset.CreateIndicesAttr([0])
    UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(looks)
    UsdShade.MaterialBindingAPI(stage.GetPrimAtPath("/World/Floor")).SetMaterialBindSubsetsFamilyType(
        "partition"
    )
    subset.CreateFamilyNameAttr("materialBind")
    stage.GetRootLayer().Save()
    bench = Bench(scene, "materials:\n  clay: {color: [0.3, 0.3, 0.3]}\n  wax: {color: [0.9, 0.9, 0.1]}\n")
    clay, wax = "/LatticeHelpers/Materials/clay", "/LatticeHelpers/Materials/wax"
    stage = bench.lay("assign: {material: clay, on: /World, except: //BallB}")
    for purpose in (UsdShade.Tokens.full, UsdShade.Tokens.preview, UsdShade.Tokens.allPurpose):
        assert bound(stage, "/World/Toys/BallA", purpose) == clay
    assert bound(stage, "/World/Toys/BallB") == "/World/Looks/Full"
    assert bound(stage, "/World/Floor/Part") == clay
    stage = bench.lay("assign: {material: clay, on: toys}", "assign: {material: wax, on: //BallB}")
    assert (bound(stage, "/World/Toys/BallA"), bound(stage, "/World/Toys/BallB")) == (clay, wax)
    snapshot = bench.take()
    by_name = {i.path.rsplit("/", 1)[1]: snapshot.materials[i.materials[0]] for i in snapshot.items}
    assert by_name["BallB"].inputs["diffuseColor"] == pytest.approx((0.9, 0.9, 0.1))


def test_set_reaches_lights_shaders_and_tokens(bench: Bench) -> None:
    stage = bench.lay(
        "set: {on: /World/Lights/Key, intensity: 7, color: [1, 0.5, 0.25], colorTemperature: 2700}",
        "set: {on: /World/Looks/Red, roughness: 0.9, clearcoat: 1}",
        "set: {on: /World/Looks/Floor, diffuseColor: [0.1, 0.2, 0.3]}",
        "set: {on: //BallA, visibility: invisible}",
    )
    key = UsdLux.SphereLight(stage.GetPrimAtPath("/World/Lights/Key"))
    assert key.GetIntensityAttr().Get() == 7
    assert key.GetColorAttr().Get() == Gf.Vec3f(1, 0.5, 0.25)
    assert key.GetEnableColorTemperatureAttr().Get()
    materials = {m.path.rsplit("/", 1)[1]: m for m in bench.take().materials}
    assert materials["Red"].inputs["roughness"] == pytest.approx((0.9,))
    assert materials["Red"].inputs["clearcoat"] == (1.0,)
    assert materials["Floor"].inputs["diffuseColor"] == pytest.approx((0.1, 0.2, 0.3))
    assert bench.stage is not None
    assert any("driven by a texture" in what for _, what, _ in bench.stage.notes)
    assert not visible(stage, "/World/Toys/BallA")


def test_multiply_the_value_that_stands_and_every_sample(bench: Bench) -> None:
    stage = bench.lay(
        "set: {on: /World/Lights/Key, intensity: 10}",
        "multiply: {on: /World/Lights/Key, intensity: 0.5, color: [1, 0.5, 0]}",
        "multiply: {on: /World/Lights/Key, intensity: 3}",
        "multiply: {on: /World/Lights/Rim, intensity: 2}",
        "multiply: {on: /World/Looks/Floor, diffuseColor: [0.5, 0.5, 0.5]}",
    )
    key, rim = (
        stage.GetPrimAtPath(f"/World/Lights/{n}").GetAttribute("inputs:intensity") for n in ("Key", "Rim")
    )
    assert key.Get() == 15
    assert [rim.Get(t) for t in (1, 24)] == [8, 16]
    floor = next(m for m in bench.take().materials if m.path.endswith("Floor"))
    texture = floor.inputs["diffuseColor"]
    assert isinstance(texture, TextureInput)
    assert texture.texture.scale == (0.5, 0.5, 0.5, 1.0)


def test_turn_adds_and_turn_to_replaces(bench: Bench) -> None:
    def x_axis(stage: Usd.Stage, path: str) -> np.ndarray:
        matrix = UsdGeom.Xformable(stage.GetPrimAtPath(path)).ComputeLocalToWorldTransform(1)
        return np.array(matrix)[0, :3] / np.linalg.norm(np.array(matrix)[0, :3])

    stage = bench.lay("turn: {on: //BallB, y: 30}", "turn: {on: //BallB, y: 15}")
    assert x_axis(stage, "/World/Toys/BallB") == pytest.approx((np.cos(np.pi / 4), 0, -np.sin(np.pi / 4)))
    stage = bench.lay("turn-to: {on: //BallB, y: 90}")
    assert x_axis(stage, "/World/Toys/BallB") == pytest.approx((0, 0, -1), abs=1e-6)
    at_later = UsdGeom.Xformable(stage.GetPrimAtPath("/World/Toys/BallB")).ComputeLocalToWorldTransform(20)
    assert np.array(at_later)[0, :3] / 0.5 == pytest.approx((0, 0, -1), abs=1e-6)  # the animation is replaced
    assert np.array(at_later)[3, :3] == pytest.approx((0.75, 0.5, 0))  # its place is not
    # An axis left out keeps its angle: the key light stands at (10, 20, 30).
    stage = bench.lay("turn-to: {on: /World/Lights/Key, y: -50}")
    got = UsdGeom.Xformable(stage.GetPrimAtPath("/World/Lights/Key")).ComputeLocalToWorldTransform(1)
    wanted = Gf.Matrix4d(1)
    for axis, angle in ((Gf.Vec3d.XAxis(), 10), (Gf.Vec3d.YAxis(), -50), (Gf.Vec3d.ZAxis(), 30)):
        wanted *= Gf.Matrix4d().SetRotate(Gf.Rotation(axis, angle))
    assert np.array(got)[:3, :3] == pytest.approx(np.array(wanted)[:3, :3], abs=1e-6)
    # A camera has one matrix; turned in place, it stays where it is.
    stage = bench.lay(f"turn-to: {{on: {FRONT}, y: 0, x: 0, z: 0}}")
    matrix = UsdGeom.Xformable(stage.GetPrimAtPath(FRONT)).ComputeLocalToWorldTransform(1)
    assert np.array(matrix) == pytest.approx(np.array(Gf.Matrix4d().SetTranslate((0, 3, 9))), abs=1e-6)


def test_choose_and_overlay_come_first(bench: Bench) -> None:
    layer = Sdf.Layer.CreateNew(str(bench.folder / "more.usda"))
    extra = Usd.Stage.Open(layer)
    write_geometry(extra, "/World/Toys/Extra", plane(1))
    layer.Save()
    stage = bench.lay("hide: //Extra", "choose: {on: toys, size: large}", "overlay: more.usda")
    scale = np.array(UsdGeom.Xformable(stage.GetPrimAtPath("/World/Toys")).ComputeLocalToWorldTransform(1))
    assert scale[0, 0] == pytest.approx(1.5)
    assert stage.GetPrimAtPath("/World/Toys/Extra")
    assert not visible(stage, "/World/Toys/Extra")
    stage = bench.lay()
    assert not stage.GetPrimAtPath("/World/Toys/Extra")


@pytest.mark.parametrize(
    ("edit", "says"),
    [
        ("hide: /World/Tyos", "Did you mean /World/Toys?"),
        ("hide: /World/Toys/BalA", "Did you mean /World/Toys/BallA?"),
        ("hide: tyos", "There is no selection tyos. Did you mean toys?"),
        ("hide: //Nothing*", "selects nothing"),
        ("hide: //Flor*", "selects nothing in the scene. Did you mean Floor?"),
        ("hide: '//{isa:Msh}'", "There is no prim type Msh. Did you mean Mesh?"),
        ("hide: '//{isaa:Mesh}'", "A selection cannot ask isaa. Did you mean isa?"),
        ("hide: '//{isa:Mesh'", "cannot be understood"),
        ("set: {on: /World/Lights/Key, intenisty: 3}", "has no attribute intenisty. Did you mean intensity?"),
        ("set: {on: /World/Lights/Key, intensity: bright}", "cannot be 'bright'"),
        ("set: {on: /World/Lights/Key, color: [1, 2]}", "3 numbers are wanted"),
        ("set: {on: //BallA, visibility: gone}", "cannot be gone"),
        ("set: {on: /World/Lights/Sky, texture: gone.hdr}", "There is no file gone.hdr"),
        ("multiply: {on: /World/Lights/Key, intensity: [1, 2]}", "write one number, or three"),
        ("choose: {on: toys, sise: large}", "has no variant set sise. Did you mean size?"),
        ("choose: {on: toys, size: lage}", "has no variant lage. Did you mean large?"),
        ("assign: {on: toys, material: caly}", "There is no material caly. Did you mean clay?"),
        ("assign: {on: toys, material: /World/Floor}", "is no material but a Mesh"),
        ("overlay: gone.usda", "is not there, or is no USD file"),
        ("turn: {on: /World/Looks, y: 3}", "has no place in space"),
    ],
)
def test_an_edit_that_cannot_be_laid_says_why_and_where(bench: Bench, edit: str, says: str) -> None:
    with pytest.raises(EditError) as caught:
        bench.lay(edit)
    assert says in str(caught.value)
    assert caught.value.place is not None
    bench.lay("hide: {on: //Nothing*, maybe: true}")  # the bench still works


def test_only_what_changed_is_read_again(bench: Bench) -> None:
    bench.lay()
    first = bench.take()
    bench.lay("multiply: {on: /World/Lights/Key, intensity: 2}", "hide: /World/Lights/Sky")
    lit = bench.take()
    assert lit.items is first.items
    assert lit.materials is first.materials
    assert len(lit.lights) == len(first.lights) - 1
    bench.lay("set: {on: /World/Looks/Red, roughness: 0.9}")
    polished = bench.take()
    assert polished.materials != first.materials
    assert {i.geometry for i in polished.items} == {i.geometry for i in first.items}
    bench.lay("hide: //BallA")
    fewer = bench.take()
    assert {i.geometry for i in fewer.items} < {i.geometry for i in first.items}
    bench.lay()
    later = bench.take(13)
    turned = [np.array_equal(a.to_world, b.to_world) for a, b in zip(first.items, later.items, strict=True)]
    assert turned.count(False) == 1
    assert {i.geometry for i in later.items} == {i.geometry for i in first.items}


def test_a_material_fed_from_elsewhere_follows_what_feeds_it(scene: Path) -> None:
    stage = Usd.Stage.Open(str(scene))
    shared = stage.DefinePrim("/World/Shared")
    sets = shared.GetVariantSets().AddVariantSet("tint")
    for variant, gain in (("dark", 0.1), ("light", 0.9)):
        sets.AddVariant(variant)
        sets.SetVariantSelection(variant)
        with sets.GetVariantEditContext():
            image = UsdShade.Shader.Define(stage, "/World/Shared/Image")
            image.CreateIdAttr("UsdUVTexture")
            image.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath("grid.png"))
            image.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(gain))
            image.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    surface = UsdShade.Shader(stage.GetPrimAtPath("/World/Looks/Red/Surface"))
    surface.GetInput("diffuseColor").ConnectToSource(image.ConnectableAPI(), "rgb")
    stage.GetRootLayer().Save()
    bench = Bench(scene)
    for variant, gain in (("dark", 0.1), ("light", 0.9), ("dark", 0.1)):
        bench.lay(f"choose: {{on: /World/Shared, tint: {variant}}}")
        red = next(m for m in bench.take().materials if m.path.endswith("Red"))
        assert red.inputs["diffuseColor"].texture.scale[0] == pytest.approx(gain)


def test_the_scene_and_its_files_are_never_changed(scene: Path) -> None:
    before = {p: hashlib.sha256(p.read_bytes()).hexdigest() for p in scene.parent.iterdir()}
    bench = Bench(scene)
    bench.lay("hide: toys", "set: {on: /World/Lights/Key, intensity: 3}", "turn-to: {on: //BallB, y: 3}")
    bench.take()
    assert not bench.scene.layer.dirty
    with pytest.raises(Exception, match=r"permission|edit"):
        bench.scene.stage.DefinePrim("/World/New")
    bench.scene.layer.Save()
    assert before == {p: hashlib.sha256(p.read_bytes()).hexdigest() for p in scene.parent.iterdir()}


def test_light_units_follow_usdlux(tmp_path: Path) -> None:
    stage = Usd.Stage.CreateNew(str(tmp_path / "l.usda"))
    UsdGeom.Camera.Define(stage, FRONT)
    kinds = {
        "Sphere": UsdLux.SphereLight,
        "Disk": UsdLux.DiskLight,
        "Rect": UsdLux.RectLight,
        "Sun": UsdLux.DistantLight,
    }
    for name, kind in kinds.items():
        light = kind.Define(stage, f"/L/{name}")
        light.CreateIntensityAttr(8)
        light.CreateExposureAttr(1)
        light.CreateNormalizeAttr(True)
        UsdGeom.XformCommonAPI(light).SetScale(Gf.Vec3f(2))
    white = UsdLux.DiskLight.Define(stage, "/L/White")
    white.CreateEnableColorTemperatureAttr(True)
    white.CreateColorTemperatureAttr(6500)
    stage.GetRootLayer().Save()
    document = parse(f"lattice: 1\nscene: l.usda\ndefaults: {{camera: {FRONT}}}\n")
    cell_stage = CellStage(open_scene(tmp_path / "l.usda"), validate(document), tmp_path)
    cell_stage.switch([])
    lights = {light.path.rsplit("/", 1)[1]: light for light in Snapshotter(cell_stage).take(FRONT, 1).lights}
    # L = intensity · 2^exposure over the area in world space: radius 0.5 and width 1, twice as large.
    assert lights["Sphere"].radiance[0] == pytest.approx(16 / (4 * np.pi * 1.0**2))
    assert lights["Disk"].radiance[0] == pytest.approx(16 / (np.pi * 1.0**2))
    assert lights["Rect"].radiance[0] == pytest.approx(16 / (2.0 * 2.0))
    assert lights["Sun"].radiance[0] == pytest.approx(16 / (np.pi * np.sin(np.radians(0.53 / 2)) ** 2))
    assert lights["White"].radiance == pytest.approx((1, 1, 1), rel=1e-4)


def test_geometry_of_every_interpolation_and_hand(tmp_path: Path) -> None:
    stage = Usd.Stage.CreateNew(str(tmp_path / "g.usda"))
    UsdGeom.Camera.Define(stage, FRONT)
    mesh = UsdGeom.Mesh.Define(stage, "/Quad")
    mesh.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (np.nan, 0, 0)])
    mesh.CreateFaceVertexCountsAttr([4, 3, 3])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 0, 1, 4, 0, 1, 99])  # a bad point, a missing point
    mesh.CreateOrientationAttr(UsdGeom.Tokens.leftHanded)
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    colour = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray)
    colour.Set([Gf.Vec3f(0.2, 0.4, 0.6)])
    st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("uv", Sdf.ValueTypeNames.Float2Array, UsdGeom.Tokens.vertex)
    st.Set([Gf.Vec2f(x, y) for x, y in ((0, 0), (1, 0), (1, 1), (0, 1), (5, 5))])
    stage.GetRootLayer().Save()
    document = parse("lattice: 1\nscene: g.usda\n")
    cell_stage = CellStage(open_scene(tmp_path / "g.usda"), validate(document), tmp_path)
    cell_stage.switch([])
    snapshot = Snapshotter(cell_stage).take(FRONT, 1)
    (item,) = snapshot.items
    shape = item.geometry
    assert len(shape.triangles) == 2
    assert shape.corner_normals == pytest.approx(np.broadcast_to((0, 0, -1), (2, 3, 3)))
    assert shape.corner_uvs == pytest.approx(shape.points[shape.triangles][..., :2])
    assert snapshot.materials[item.materials[0]].inputs["diffuseColor"] == pytest.approx((0.2, 0.4, 0.6))


@pytest.mark.long
def test_a_packaged_scene_brings_its_textures(scene: Path, glat) -> None:
    package = scene.with_suffix(".usdz")
    assert UsdUtils.CreateNewUsdzPackage(str(scene), str(package))
    assert "grid.png" in " ".join(zipfile.ZipFile(package).namelist())
    alone = scene.parent / "alone"
    alone.mkdir()
    moved = package.rename(alone / "room.usdz")
    plan = alone / "room.lattice.yaml"
    plan.write_text(PLAN.replace("room.usda", moved.name))
    code, said = glat(alone, "run", "--at", "day/Front", "--workers", "0")
    assert code == 0, said
    assert (alone / "out/day/Front.0001.exr").is_file()


@pytest.mark.parametrize("up", ["Y", "Z"])
def test_survey_tells_what_is_there(tmp_path: Path, up: str) -> None:
    found = survey_scene(open_scene(room_scene(tmp_path / "room.usda", up=up)))
    assert (found.up_axis, found.metres_per_unit, found.frames) == (up, 0.01, (1, 24))
    assert [c.path for c in found.cameras] == [FRONT, "/World/Cameras/Side"]
    assert {light.kind for light in found.lights} == {"dome", "sphere", "rect"}
    assert found.variants["/World/Toys"]["size"] == ["small", "large"]
    assert found.triangles == 2 + 2 * (2 * 24 * 12)
    assert all(asset.found for asset in found.assets)
    (tmp_path / "grid.png").unlink()
    (missing,) = [a for a in survey_scene(open_scene(tmp_path / "room.usda")).assets if not a.found]
    assert (missing.file, missing.prim) == ("grid.png", "/World/Looks/Floor/Image")


def test_what_is_no_scene_is_refused(tmp_path: Path) -> None:
    (tmp_path / "text.usda").write_text("no scene at all")
    (tmp_path / "noise.usdc").write_bytes(bytes(range(256)))
    (tmp_path / "scene.blob").write_text("")
    for name in ("text.usda", "noise.usdc", "scene.blob", "absent.usd"):
        with pytest.raises(SceneError):
            open_scene(tmp_path / name)


def test_surfaces_of_another_library_are_drawn_by_what_both_models_share(tmp_path: Path) -> None:
    stage = Usd.Stage.CreateInMemory()

    def surface(name: str, kind: str, **inputs) -> UsdShade.Shader:
        material = UsdShade.Material.Define(stage, f"/Looks/{name}")
        shader = UsdShade.Shader.Define(stage, f"/Looks/{name}/S")
        shader.CreateIdAttr(kind)
        for key, value in inputs.items():
            kinds = {tuple: Sdf.ValueTypeNames.Color3f, float: Sdf.ValueTypeNames.Float}
            shader.CreateInput(key, kinds[type(value)]).Set(value)
        material.CreateSurfaceOutput("mtlx").ConnectToSource(shader.ConnectableAPI(), "out")
        mesh = write_geometry(stage, f"/{name}", sphere(8))
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
        return shader

    standard, open_pbr = "ND_standard_surface_surfaceshader", "ND_open_pbr_surface_surfaceshader"
    surface("Metal", standard, base=1.0, base_color=(0.9, 0.6, 0.2), metalness=1.0, specular_roughness=0.3)
    surface("Glass", open_pbr, transmission_weight=1.0, transmission_color=(0.5, 0.9, 0.5), specular_ior=1.4)
    surface("Lamp", standard, emission=2.0, emission_color=(1.0, 0.5, 0.25), coat=0.5)
    surface("Leaf", standard, opacity=(0.25, 0.25, 0.25))
    surface("Odd", "ND_volume_thing")
    wood = surface("Wood", open_pbr, base_weight=0.5)
    image = UsdShade.Shader.Define(stage, "/Looks/Wood/Image")
    image.CreateIdAttr("ND_image_color3")
    file = image.CreateInput("file", Sdf.ValueTypeNames.Asset)
    file.Set(Sdf.AssetPath("wood.png"))
    file.GetAttr().SetColorSpace("srgb_texture")
    wood.CreateInput("base_color", Sdf.ValueTypeNames.Color3f).ConnectToSource(image.ConnectableAPI(), "out")
    found = {m.path.removeprefix("/Looks/"): m.inputs for m in snapshot_of(stage).materials}
    assert found["Metal"]["diffuseColor"] == pytest.approx((0.9, 0.6, 0.2))
    assert (found["Metal"]["metallic"], found["Metal"]["roughness"]) == ((1.0,), pytest.approx((0.3,)))
    assert found["Glass"]["opacity"] == (0.0,)
    assert found["Glass"]["transmissionColor"] == pytest.approx((0.5, 0.9, 0.5))
    assert found["Glass"]["ior"] == pytest.approx((1.4,))
    assert found["Lamp"]["emissiveColor"] == pytest.approx((2.0, 1.0, 0.5))
    assert found["Lamp"]["clearcoat"] == (0.5,)
    assert (found["Leaf"]["opacity"], found["Leaf"]["opacityMode"]) == ((0.25,), (1.0,))
    texture = found["Wood"]["diffuseColor"].texture
    assert (texture.colour_space, texture.scale[:3], texture.wrap_s) == ("sRGB", (0.5,) * 3, "repeat")
    assert found["Odd"]["diffuseColor"] == pytest.approx((0.18,) * 3)


def test_tiles_named_coordinates_and_painted_meshes(tmp_path: Path) -> None:
    for number, grey in ((1001, 50), (1012, 200)):
        Image.fromarray(np.full((4, 4, 3), grey, np.uint8)).save(tmp_path / f"skin.{number}.png")
    stage = Usd.Stage.CreateNew(str(tmp_path / "t.usda"))
    mesh = write_geometry(stage, "/Skin", plane(1.0))
    api = UsdGeom.PrimvarsAPI(mesh)
    other = api.CreatePrimvar("unwrapped", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
    other.Set([Gf.Vec2f(x, y) for x, y in ((1.2, 1.2), (1.8, 1.2), (1.8, 1.8), (1.2, 1.8))])
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(
        make_material(stage, "/Looks/Skin", diffuseColor="skin.<UDIM>.png")
    )
    reader = UsdShade.Shader.Define(stage, "/Looks/Skin/Reader")
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("unwrapped")
    painted = write_geometry(stage, "/Painted", plane(1.0))
    painted.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    colour = UsdGeom.PrimvarsAPI(painted).CreatePrimvar(
        "displayColor", Sdf.ValueTypeNames.Color3fArray, UsdGeom.Tokens.vertex
    )
    colour.Set([Gf.Vec3f(1, 0, 0), Gf.Vec3f(0, 1, 0), Gf.Vec3f(0, 0, 1), Gf.Vec3f(1, 1, 1)])
    UsdGeom.Camera.Define(stage, FRONT)
    stage.GetRootLayer().Save()
    assert all(asset.found for asset in survey_scene(open_scene(tmp_path / "t.usda")).assets)
    cell_stage = CellStage(
        open_scene(tmp_path / "t.usda"), validate(parse("lattice: 1\nscene: t.usda\n")), tmp_path
    )
    cell_stage.switch([])
    snapshot = Snapshotter(cell_stage).take(FRONT, 1)
    items = {item.path: item for item in snapshot.items}
    texture = snapshot.materials[items["/Skin"].materials[0]].inputs["diffuseColor"].texture
    assert [(n, Path(f).name) for n, f in texture.tiles] == [(1001, "skin.1001.png"), (1012, "skin.1012.png")]
    assert items["/Skin"].geometry.corner_uvs.min() == pytest.approx(1.2)
    images = {file: np.asarray(Image.open(file)) for file in texture.files}
    view = camera((0, 5, 0), (0, 0, 0), aperture=(2.0, 2.0), orthographic=True)
    film = trace([items["/Skin"]], [], view, (4, 4), 4, snapshot.materials, images=images, passes=("albedo",))
    # Tile 1012 is the second of the second line: these coordinates are between 1 and 2.
    lit = ((200 / 255 + 0.055) / 1.055) ** 2.4
    assert film.passes["albedo"][1:3, 1:3].mean() == pytest.approx(lit, rel=0.1)
    (look,) = (snapshot.materials[k] for k in items["/Painted"].materials)
    assert look.inputs["painted"] == (1.0,)
    film = trace([items["/Painted"]], [], view, (32, 32), 16, snapshot.materials, passes=("albedo",))
    corners = film.passes["albedo"][[-2, -2, 1, 1], [1, -2, -2, 1]]
    np.testing.assert_allclose(corners, [(1, 0, 0), (0, 1, 0), (0, 0, 1), (1, 1, 1)], atol=0.15)


def test_two_textures_of_a_material_are_read_by_two_sets_of_coordinates(tmp_path: Path) -> None:
    half = np.zeros((32, 32, 3), np.uint8)
    half[:, 16:] = 255  # white on the right
    Image.fromarray(half).save(tmp_path / "half.png")
    stage = Usd.Stage.CreateNew(str(tmp_path / "t.usda"))
    mesh = write_geometry(stage, "/Two", plane(1.0))
    turned = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
        "glow", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying
    )
    turned.Set([Gf.Vec2f(v, u) for u, v in plane(1.0).corner_uvs.reshape(-1, 2).tolist()])
    material = make_material(stage, "/Look", diffuseColor="half.png")
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
    surface, first = (UsdShade.Shader.Get(stage, f"/Look/{name}") for name in ("Surface", "Image"))
    second = UsdShade.Shader.Define(stage, "/Look/Glow")
    second.CreateIdAttr("UsdUVTexture")
    second.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath("half.png"))
    second.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    surface.CreateInput("emissiveColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(
        second.ConnectableAPI(), "rgb"
    )
    moved = UsdShade.Shader.Define(stage, "/Look/Moved")  # stays where it is
    moved.CreateIdAttr("UsdTransform2d")
    for name, varname, into in (("A", "st", (first, "st")), ("B", "glow", (moved, "in"))):
        reader = UsdShade.Shader.Define(stage, f"/Look/{name}")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set(varname)
        reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        into[0].CreateInput(into[1], Sdf.ValueTypeNames.Float2).ConnectToSource(
            reader.ConnectableAPI(), "result"
        )
    moved.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    second.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(moved.ConnectableAPI(), "result")
    snapshot = snapshot_of(stage)
    (item,), images = snapshot.items, {}
    for given in snapshot.materials[item.materials[0]].inputs.values():
        if isinstance(given, TextureInput):
            images[given.texture.file] = half
    view = camera((0, 5, 0), (0, 0, 0), aperture=(2.0, 2.0), orthographic=True)
    film = trace(
        [item], [], view, (16, 16), 16, snapshot.materials, images=images, passes=("albedo", "beauty")
    )
    white, glows = film.passes["albedo"][2:-2, 2:-2, 0] > 0.5, film.passes["beauty"][2:-2, 2:-2, 0] > 0.5
    here = np.arange(12) >= 6
    np.testing.assert_array_equal(white, np.broadcast_to(here, (12, 12)))
    np.testing.assert_array_equal(glows, np.broadcast_to(~here[:, None], (12, 12)))


def test_a_mesh_that_is_a_light_glows_with_its_power(tmp_path: Path) -> None:
    stage = Usd.Stage.CreateInMemory()
    mesh = write_geometry(stage, "/Lamp", plane(1.5))
    UsdLux.MeshLightAPI.Apply(mesh.GetPrim())
    light = UsdLux.LightAPI(mesh)
    light.CreateIntensityAttr(18.0)
    look = snapshot_of(stage).materials[-1]
    assert look.inputs["emissiveColor"] == pytest.approx((18.0,) * 3)
    light.CreateNormalizeAttr(True)  # its area is 3 × 3
    look = snapshot_of(stage).materials[-1]
    assert look.inputs["emissiveColor"] == pytest.approx((2.0,) * 3)
