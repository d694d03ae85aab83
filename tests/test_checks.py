"""What `check` finds before anything is rendered, each on a scene that has just that flaw."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade

import grandlattice as lattice
from conftest import PLAN
from grandlattice.tracer import can_denoise
from shapes import make_material, room_scene, sphere, write_geometry


def findings(plan_file: Path, change=None, plan: str = PLAN, **options) -> list[str]:
    """What check says of the small scene after a change to it: ``gravity: what``."""
    if change is not None:
        stage = Usd.Stage.Open(str(plan_file.parent / "room.usda"))
        change(stage)
        stage.GetRootLayer().Save()
        stage.GetRootLayer().Reload()
    plan_file.write_text(plan)
    return [f"{f.gravity}: {f.what}" for f in lattice.open_plan(plan_file).check(**options)]


def has(said: list[str], gravity: str, words: str) -> bool:
    return any(line.startswith(gravity) and words in line for line in said)


def test_a_scene_without_flaws_has_no_findings(plan_file: Path) -> None:
    plan = PLAN.replace("select: {toys: //Toys}\n", "").replace("samples: 4", "samples: 4\n  frames: scene")
    assert findings(plan_file, plan=plan) == []


def test_lights_all_off(plan_file: Path) -> None:
    plan = PLAN.replace("    night:\n      edits:\n", "    night:\n      edits:\n        - hide: //Lights\n")
    said = findings(plan_file, plan=plan)
    assert has(said, "warning", "Every light is off")
    assert sum("Every light" in line for line in said) == 1  # of both cameras of the night


def test_nothing_visible_and_edits_that_fail(plan_file: Path) -> None:
    plan = PLAN.replace("    day:\n", "    day: {edits: [{hide: /World/Toys}, {hide: /World/Floor}]}\n")
    assert has(findings(plan_file, plan=plan), "warning", "Nothing is visible")
    plan = PLAN.replace("    day:\n", "    day: {edits: [{hide: /World/Tyos}]}\n")
    said = findings(plan_file, plan=plan)
    assert has(said, "error", "Did you mean /World/Toys?")
    assert sum(line.startswith("error") for line in said) == 1  # said once, not for every camera


def test_what_the_tracer_does_not_draw_or_draws_otherwise(plan_file: Path) -> None:
    def change(stage: Usd.Stage) -> None:
        UsdGeom.Points.Define(stage, "/World/Dust")
        UsdLux.PortalLight.Define(stage, "/World/Lights/Door")
        odd = UsdShade.Material.Define(stage, "/World/Looks/Odd")
        shader = UsdShade.Shader.Define(stage, "/World/Looks/Odd/S")
        shader.CreateIdAttr("Marble")
        odd.CreateSurfaceOutput().ConnectToSource(shader.CreateOutput("out", Sdf.ValueTypeNames.Token))

    said = findings(plan_file, change)
    assert has(said, "warning", "Not drawn, being of type Points: 1 prim.")
    assert has(said, "warning", "Lights of type PortalLight left out: 1 prim.")
    assert has(said, "warning", "its surface is Marble, not UsdPreviewSurface")


def test_broken_shapes_pictures_and_cameras_are_named_and_the_rest_is_drawn(plan_file: Path) -> None:
    def change(stage: Usd.Stage) -> None:
        def mesh(name: str, points, counts, indices) -> None:
            made = UsdGeom.Mesh.Define(stage, f"/World/{name}")
            made.CreatePointsAttr(points)
            made.CreateFaceVertexCountsAttr(counts)
            made.CreateFaceVertexIndicesAttr(indices)

        corners, nan, inf = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], float("nan"), float("inf")
        mesh("Nowhere", [*corners, (nan, 0, 0), (0, inf, 0)], [4, 3, 3], [0, 1, 2, 3, 0, 1, 4, 1, 2, 5])
        mesh("Astray", corners, [4, 3], [0, 1, 2, 3, 0, 1, 77])
        mesh("Odd", corners, [4, 4], [0, 1, 2, 3])
        mesh("Empty", [], [], [])
        mesh("Flat", [(0, 0, 0)] * 4, [4, 2], [0, 1, 2, 3, 0, 1])
        singular = UsdGeom.Xform.Define(stage, "/World/Crushed")
        singular.AddScaleOp().Set((1, 0, 1))
        UsdGeom.Sphere.Define(stage, "/World/Crushed/Ball").CreateRadiusAttr(float("inf"))
        # Two shaders that each wait for the other.
        look = UsdShade.Material.Define(stage, "/World/Looks/Ring")
        a, b = (UsdShade.Shader.Define(stage, f"/World/Looks/Ring/{name}") for name in "AB")
        for shader in (a, b):
            shader.CreateIdAttr("UsdUVTexture")
            shader.CreateInput("st", Sdf.ValueTypeNames.Float2)
            shader.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
        for one, other in ((a, b), (b, a)):
            one.GetInput("st").ConnectToSource(other.GetOutput("rgb"))
        surface = UsdShade.Shader.Define(stage, "/World/Looks/Ring/S")
        surface.CreateIdAttr("UsdPreviewSurface")
        colour = surface.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
        colour.ConnectToSource(a.GetOutput("rgb"))
        look.CreateSurfaceOutput().ConnectToSource(surface.CreateOutput("out", Sdf.ValueTypeNames.Token))
        UsdShade.MaterialBindingAPI.Apply(stage.GetPrimAtPath("/World/Flat")).Bind(look)

    said = findings(plan_file, change, allow_missing=True)
    assert has(said, "warning", "2 points of it lie nowhere")
    assert has(said, "warning", "2 faces of 3 cannot be drawn")
    assert has(said, "warning", "1 face of 2 cannot be drawn")
    assert has(said, "warning", "its faces ask for 8 points and 4 are given; none of it is drawn")
    assert has(said, "warning", "it has no faces")
    found = {f.place for f in lattice.open_plan(plan_file).check() if "broken" in f.what}
    assert found == {f"/World/{name}" for name in ("Nowhere", "Astray", "Odd", "Empty", "Flat")}
    run = lattice.open_plan(plan_file).run(workers=0, allow_missing=True)
    assert run.ok
    assert all(np.isfinite(run.picture(cell)).all() for cell in ("day/Front", "night/Side"))


def test_missing_layers_are_errors_with_their_prim(plan_file: Path) -> None:
    def change(stage: Usd.Stage) -> None:
        stage.DefinePrim("/World/Guest").GetReferences().AddReference("guest.usda")

    plan_file.write_text(PLAN)
    said = findings(plan_file, change)
    assert has(said, "error", "guest.usda is missing")
    (finding,) = [f for f in lattice.open_plan(plan_file).check() if f.gravity == "error"]
    assert finding.place == "/World/Guest"


def test_frames_aspects_names_and_displays(plan_file: Path) -> None:
    plan = PLAN.replace("  samples: 4", "  samples: 4\n  frames: 20-30\n  display: sRBG") + (
        "takes:\n  unused: {seed: 3}\nqualities:\n  none: {samples: 3}\nmaterials:\n  wax: {roughness: 1}\n"
    )
    said = findings(plan_file, plan=plan.replace("48x32", "48x48"))
    assert has(said, "warning", "Frame 25 lies outside the scene's frames 1–24")
    assert has(said, "note", "frames 1.50:1 and its pictures are 1.00:1")
    assert has(said, "error", "There is no display sRBG. Known here: sRGB - Display")
    for what in ("take unused", "quality none", "material wax", "selection toys"):
        assert has(said, "note", f"Nothing uses the {what}")


def test_room_on_the_disk(plan_file: Path) -> None:
    said = findings(
        plan_file, plan=PLAN.replace("48x32", "99999x99999").replace("samples: 4", "frames: 1-24")
    )
    assert has(said, "error", "GB and the disk has")


def test_denoise_that_is_not_installed_is_told_plainly(plan_file: Path) -> None:
    said = findings(plan_file, plan=PLAN.replace("samples: 4", "denoise: true"))
    assert has(said, "warning", "denoising is not installed") != can_denoise()


def test_a_scene_without_a_camera(plan_file: Path) -> None:
    def change(stage: Usd.Stage) -> None:
        stage.RemovePrim("/World/Cameras")
        stage.RemovePrim("/World/Lights")

    plan = PLAN.replace("  camera:\n    each: cameras\n", "").replace("{camera}", "x")
    assert has(findings(plan_file, change, plan), "error", "There is no camera")
    with pytest.raises(lattice.PlanError, match="the scene has no camera"):
        findings(plan_file)
    # begin proposes one that sees all of the scene, and a sky where there is no light.
    begun = lattice.open_plan(
        lattice.begin(plan_file.parent / "room.usda", plan_file.parent / "new.lattice.yaml")
    )
    begun = begun.override(samples=2, scale="5%")
    assert not [f for f in begun.check() if f.gravity != "note"]
    run = begun.run(workers=0)
    picture = run.picture(begun.cells[0].address)
    assert picture[..., 3].min() == 1.0
    depth = run.picture(begun.cells[0].address, pass_name="depth")
    assert np.isfinite(depth).mean() > 0.2
    empty = plan_file.parent / "empty.usda"
    nothing = Usd.Stage.CreateNew(str(empty))
    nothing.GetRootLayer().Save()
    with pytest.raises(lattice.SceneError, match="nothing a camera could look at"):
        lattice.begin(empty)


def test_cameras_that_see_nothing_stand_inside_or_clip(plan_file: Path) -> None:
    def change(stage: Usd.Stage) -> None:
        from pxr import Gf

        away = UsdGeom.Camera.Define(stage, "/World/Cameras/Away")
        away.AddTranslateOp().Set(Gf.Vec3d(0, 3, 9))
        away.AddRotateXYZOp().Set(Gf.Vec3f(40, 180, 0))
        inside = UsdGeom.Camera.Define(stage, "/World/Cameras/Inside")
        inside.AddTranslateOp().Set(Gf.Vec3d(-0.75, 0.5, 0))
        inside.CreateClippingRangeAttr(Gf.Vec2f(0.001, 1000))
        clipped = UsdGeom.Camera.Get(stage, "/World/Cameras/Front")
        clipped.GetClippingRangeAttr().Set(Gf.Vec2f(9.0, 1000.0))

    said = findings(plan_file, change)
    assert has(said, "warning", "/World/Cameras/Away sees none of the scene")
    assert has(said, "warning", "/World/Cameras/Inside stands inside an object")
    assert has(said, "warning", "The near clipping plane of /World/Cameras/Front cuts away")
    assert not any("Side" in line for line in said)


def test_black_and_burnt_out_cells_are_seen_at_a_glance_when_asked(plan_file: Path) -> None:
    plan = PLAN.replace("    night:\n      edits:\n", "    night:\n      edits:\n        - hide: //Lights\n").replace(
        "    day:\n", "    day: {exposure: 9}\n"
    )  # fmt: skip
    assert not any(
        "picture is black" in line or "burnt out" in line for line in findings(plan_file, plan=plan)
    )
    said = findings(plan_file, plan=plan, look=True)
    assert has(said, "warning", "The picture is black")
    assert has(said, "warning", "Half of the picture is burnt out")


def test_rival_axes_idle_edits_and_files_in_the_way_are_told(plan_file: Path) -> None:
    plan = PLAN.replace(
        "    day:\n", "    day: {exposure: 1, edits: [{set: {on: /World/Lights/Key, intensity: 30}}]}\n"
    )
    plan = plan.replace("each: cameras", "each: cameras\n    with: {Side: {exposure: 2}}")
    (plan_file.parent / "out/day").mkdir(parents=True)
    (plan_file.parent / "out/day/Front.0001.png").write_text("mine")
    plan += "rules:\n  - at: {light: night}\n    edits:\n      - show: /World/Lights/Sky\n"
    said = findings(plan_file, plan=plan)
    assert has(
        said,
        "note",
        "Both light=night and rule 1 set visibility of /World/Lights/Sky; where they meet, rule 1",
    )
    assert has(said, "note", "Both light and camera say exposure; where they meet, camera wins")
    assert has(said, "warning", "The set of light=day changes nothing: intensity is 30 already")
    assert has(said, "error", "out/day/Front.0001.png stands where a picture will be")


def test_a_plan_of_one_camera_needs_no_camera_axis(tmp_path: Path) -> None:
    scene = room_scene(tmp_path / "room.usda")
    stage = Usd.Stage.Open(str(scene))
    stage.RemovePrim("/World/Cameras/Side")
    stage.GetRootLayer().Save()
    plan = lattice.Plan(scene="room.usda", folder=tmp_path, defaults={"size": "48x32", "samples": 1})
    assert [cell.address for cell in plan.cells] == ["the one cell"]
    assert plan.cells[0].settings.camera == "/World/Cameras/Front"
    plan = plan.override(size="24x16", frames="2-3").override(samples=2)
    assert (str(plan.cells[0].settings.size), plan.cells[0].settings.frames) == ("24x16", (2, 3))
    assert str(plan.override(scale="50%").proofing().cells[0].settings.size) == "6x4"
    plan = plan.override(frames="1")
    run = plan.run(workers=0)
    assert run.ok
    assert [p.name for p in run.files("the one cell")] == ["cell.0001.exr"]


def test_the_plan_in_the_folder_is_found_when_it_is_the_only_one(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    assert lattice.find_queue(folder) == plan_file
    (folder / "second.lattice.yaml").write_text(PLAN)
    code, said = glat(folder, "cells")
    assert code == 2
    assert "There are 2 plans here" in said
    assert glat(folder, "cells", "room.lattice.yaml", "--count")[1].strip() == "4"
    for file in folder.glob("*.yaml"):
        file.unlink()
    code, said = glat(folder, "cells")
    assert code == 2
    assert "glat begin" in said


@pytest.mark.parametrize(
    ("size", "at", "says"),
    [
        (1.0, (0, 0, 0), ""),
        (0.6, (0, 0.2, 0), ""),  # smaller, not by half, and standing where the old one stood
        (3.0, (0, 2, 0), "3 times as large"),
        (100.0, (0, 99, 0), "100 times as large"),
        (0.01, (0, -0.99, 0), "100 times smaller"),
        (1.0, (0, -0.5, 0), "0.25 units below"),  # the group is half as large as its asset
        (1.0, (0, 900, 0), "out of the frame of /World/Cameras/Front"),
        (1.0, (900, 0, 0), "out of the frame"),
        (1.0, (0, 0, 100), "out of the frame"),  # behind the camera
    ],
)
@pytest.mark.parametrize("up", ["Y", "Z"])
def test_a_swapped_asset_stands_as_the_old_one_did(plan_file: Path, up: str, size, at, says: str) -> None:
    folder = plan_file.parent
    for name, scale, place in (("old", 1.0, (0, 0, 0)), ("new", size, at)):
        asset = Usd.Stage.CreateNew(str(folder / f"{name}.usda"))
        UsdGeom.SetStageUpAxis(asset, up)
        UsdGeom.SetStageMetersPerUnit(asset, 0.01)
        root = UsdGeom.Xform.Define(asset, "/Thing")
        asset.SetDefaultPrim(root.GetPrim())
        ball = write_geometry(asset, "/Thing/Ball", sphere(24))
        ball.AddTranslateOp().Set(Gf.Vec3d(*place))
        ball.AddScaleOp().Set(Gf.Vec3f(scale))
        asset.GetRootLayer().Save()

    def change(stage: Usd.Stage) -> None:
        UsdGeom.SetStageUpAxis(stage, up)
        if up == "Z":  # the whole scene lies down, so that what was up is up
            UsdGeom.Xformable(stage.GetPrimAtPath("/World")).AddRotateXOp().Set(90.0)
        held = UsdGeom.Xform.Define(stage, "/World/Toys/Held").GetPrim()
        held.GetReferences().AddReference("./old.usda")

    plan = PLAN.replace("    day:\n", "    day: {edits: [{swap: {on: /World/Toys/Held, with: new.usda}}]}\n")
    said = [line for line in findings(plan_file, change, plan=plan) if "swapped in" in line]
    assert any(says in line for line in said) == bool(says), said
    assert bool(said) == bool(says), said


@pytest.mark.parametrize("inherited", [False, True])
def test_a_mesh_without_the_coordinates_its_material_reads(plan_file: Path, inherited: bool) -> None:
    def change(stage: Usd.Stage) -> None:
        image = UsdShade.Shader.Get(stage, "/World/Looks/Floor/Image")
        reader = UsdShade.Shader.Define(stage, "/World/Looks/Floor/Reader")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("second")
        image.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(
            reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        )
        if inherited:
            world = UsdGeom.PrimvarsAPI(stage.GetPrimAtPath("/World"))
            kind = Sdf.ValueTypeNames.TexCoord2fArray
            world.CreatePrimvar("second", kind, UsdGeom.Tokens.constant).Set([Gf.Vec2f(0.5)])

    said = findings(plan_file, change)
    lacking = [line for line in said if "reads texture coordinates second, which the mesh lacks" in line]
    assert len(lacking) == (0 if inherited else 1)


def test_a_region_beyond_the_picture_is_said(plan_file: Path) -> None:
    def said(region: str) -> str:
        plan_file.write_text(PLAN.replace("samples: 4", f'samples: 4\n  region: "{region}"'))
        try:
            return "\n".join(f.what for f in lattice.open_plan(plan_file).check())
        except lattice.LatticeError as problem:
            return problem.what

    assert "lies outside the picture of" in said("900000 0 900001 10")
    assert "reaches beyond the picture of" in said("0 0 900001 10")
    assert "region" not in said("0 0 10 10")


@pytest.mark.parametrize("chosen", [False, True])
def test_an_image_that_a_variant_lacks_is_missed_where_the_variant_is_chosen(
    plan_file: Path, chosen: bool
) -> None:
    def change(stage: Usd.Stage) -> None:
        toys = stage.GetPrimAtPath("/World/Toys").GetVariantSets().GetVariantSet("size")
        for size, image in ("large", "lacking/grid.png"), ("small", "grid.png"):
            toys.SetVariantSelection(size)
            with toys.GetVariantEditContext():
                odd = make_material(stage, "/World/Toys/Odd", diffuseColor=image)
                extra = write_geometry(stage, "/World/Toys/Extra", sphere(8)).GetPrim()
                UsdShade.MaterialBindingAPI.Apply(extra).Bind(odd)

    size = "large" if chosen else "small"
    plan = PLAN.replace(
        "    day:\n", f"    day: {{edits: [{{choose: {{on: /World/Toys, size: {size}}}}}]}}\n"
    )
    missed = [line for line in findings(plan_file, change, plan=plan) if "is missing" in line]
    assert len(missed) == chosen
