"""Light and passes against what can be worked out by hand, on scenes the demo is not like."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdSkel

import grandlattice as lattice
from grandlattice.images import read_image, to_display
from grandlattice.plan import PlannedFile
from shapes import plane, sphere, write_geometry


class Table:
    """A table seen from above, under whatever a test puts there, and a plan of one cell."""

    def __init__(self, folder: Path, size: str = "16x16") -> None:
        self.folder = folder
        self.stage, self.written = Usd.Stage.CreateInMemory(), 0
        self.mesh = write_geometry(self.stage, "/Table", plane(10))
        camera = UsdGeom.Camera.Define(self.stage, "/Camera")
        camera.AddTransformOp().Set(
            Gf.Matrix4d().SetLookAt(Gf.Vec3d(0, 10, 0), Gf.Vec3d(0), Gf.Vec3d(0, 0, -1)).GetInverse()
        )
        for name in ("HorizontalAperture", "VerticalAperture"):
            getattr(camera, f"Create{name}Attr")(20.0)
        camera.CreateFocalLengthAttr(50.0)
        self.text = f"lattice: 1\nscene: table.usda\ndefaults: {{size: {size}, samples: 64, camera: /Camera, format: exr}}\n"

    def look(self, path: str = "/Look", **inputs: object) -> UsdShade.Shader:
        material = UsdShade.Material.Define(self.stage, path)
        shader = UsdShade.Shader.Define(self.stage, f"{path}/Surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        for name, value in {"roughness": 1.0, "useSpecularWorkflow": 1, **inputs}.items():
            kind = {int: Sdf.ValueTypeNames.Int, float: Sdf.ValueTypeNames.Float}.get(
                type(value), Sdf.ValueTypeNames.Color3f
            )
            shader.CreateInput(name, kind).Set(Gf.Vec3f(*value) if isinstance(value, tuple) else value)
        shader.CreateInput("specularColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(0))
        shader.CreateOutput("surface", Sdf.ValueTypeNames.Token)
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        UsdShade.MaterialBindingAPI.Apply(self.mesh.GetPrim()).Bind(material)
        return shader

    def node(
        self, shader: UsdShade.Shader, name: str, identifier: str, output: str = "rgb"
    ) -> UsdShade.Shader:
        node = UsdShade.Shader.Define(
            self.stage, shader.GetPrim().GetParent().GetPath().AppendChild(f"N_{name}")
        )
        node.CreateIdAttr(identifier)
        node.CreateOutput(output, Sdf.ValueTypeNames.Float3)
        given = shader.GetInput(name) or shader.CreateInput(name, Sdf.ValueTypeNames.Color3f)
        given.ConnectToSource(node.ConnectableAPI(), output)
        return node

    def plan(self) -> lattice.Plan:
        self.written += 1  # a layer that was opened stays as it was
        self.file = self.folder / f"table{self.written}.usda"
        self.stage.GetRootLayer().Export(str(self.file))
        (self.folder / "table.lattice.yaml").write_text(self.text.replace("table.usda", self.file.name))
        return lattice.open_plan(self.folder / "table.lattice.yaml")

    def picture(self, pass_name: str = "beauty", **settings: object) -> np.ndarray:
        settings = {"passes": [pass_name], **settings}
        run = self.plan().override(**settings).run(workers=0, fresh=True)
        assert run.ok, run.failures
        return run.picture("the one cell", pass_name=pass_name)

    def warnings(self) -> str:
        return "\n".join(f"{f.what} {f.place} {f.cure}" for f in self.plan().check() if f.gravity != "note")


@pytest.fixture
def table(tmp_path: Path) -> Table:
    return Table(tmp_path)


def test_alpha_is_nothing_where_the_camera_sees_nothing_and_no_sky_is_there(table: Table) -> None:
    table.mesh.AddScaleOp().Set(Gf.Vec3f(0.1, 1, 0.1))  # 2 units of the 4 that are seen
    UsdLux.DistantLight.Define(table.stage, "/Sun").AddRotateXOp().Set(-90.0)
    for background in ("sky", "clear"):
        alpha = table.picture(background=background)[..., 3]
        assert alpha[0, 0] == 0.0
        assert alpha[8, 8] == 1.0
        assert alpha.mean() == pytest.approx(0.25, abs=0.05)
        assert table.picture("coverage", background=background)[0, 0] == 0.0
    sky = UsdLux.DomeLight.Define(table.stage, "/Sky")
    assert table.picture()[0, 0, 3] == 1.0
    assert table.picture(background="clear")[0, 0, 3] == 0.0
    UsdGeom.Imageable(sky).MakeInvisible()  # a sky that the cell does not show is none
    assert table.picture()[0, 0, 3] == 0.0


@pytest.mark.parametrize("normalize", [False, True])
def test_a_distant_light_of_no_angle_sends_its_intensity_in_lux(table: Table, normalize: bool) -> None:
    table.look(diffuseColor=(0.5, 0.5, 0.5))
    sun = UsdLux.DistantLight.Define(table.stage, "/Sun")
    sun.AddRotateXOp().Set(-90.0)
    sun.CreateAngleAttr(0.0)
    sun.CreateNormalizeAttr(normalize)
    sun.CreateIntensityAttr(3.0)
    assert table.picture("illuminance").mean() == pytest.approx(3.0, rel=0.01)
    assert table.picture()[8, 8, 0] == pytest.approx(3.0 * 0.5 / np.pi, rel=0.01)  # E ρ / π


@pytest.mark.parametrize("kind", ["png", "tga", "tiff"])
def test_the_colours_of_an_image_with_alpha_are_those_it_holds(table: Table, kind: str) -> None:
    pixels = np.zeros((4, 4, 4), np.uint8)
    pixels[...] = (200, 100, 50, 51)
    Image.fromarray(pixels).save(table.folder / f"leaf.{kind}")
    np.testing.assert_array_equal(read_image(str(table.folder / f"leaf.{kind}")), pixels)
    shader = table.look()
    node = table.node(shader, "diffuseColor", "UsdUVTexture")
    node.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(f"leaf.{kind}"))
    node.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set("raw")
    UsdLux.DomeLight.Define(table.stage, "/Sky")
    albedo = table.picture("albedo")[8, 8]
    np.testing.assert_allclose(albedo, np.array([200, 100, 50]) / 255, atol=0.004)


@pytest.mark.parametrize("has", ["nothing", "constant", "vertex"])
def test_a_reader_of_a_primvar_that_is_missing_gives_its_fallback(table: Table, has: str) -> None:
    shader = table.look()
    node = table.node(shader, "diffuseColor", "UsdPrimvarReader_float3", "result")
    node.CreateInput("varname", Sdf.ValueTypeNames.String).Set("displayColor")
    node.CreateInput("fallback", Sdf.ValueTypeNames.Float3).Set(Gf.Vec3f(0.1, 0.6, 0.2))
    expected = (0.1, 0.6, 0.2)
    if has != "nothing":
        colour = table.mesh.CreateDisplayColorPrimvar(
            UsdGeom.Tokens.constant if has == "constant" else UsdGeom.Tokens.vertex
        )
        count = 1 if has == "constant" else len(table.mesh.GetPointsAttr().Get())
        expected = (0.7, 0.2, 0.4)
        colour.Set([Gf.Vec3f(*expected)] * count)
    UsdLux.DomeLight.Define(table.stage, "/Sky")
    np.testing.assert_allclose(table.picture("albedo")[8, 8], expected, atol=0.003)


@pytest.mark.parametrize(
    "identifier", ["ND_standard_surface_surfaceshader", "ND_open_pbr_surface_surfaceshader"]
)
def test_a_surface_of_no_specular_reflects_nothing(table: Table, identifier: str) -> None:
    shader = table.look()
    shader.CreateIdAttr(identifier)
    standard = "standard" in identifier
    UsdLux.DomeLight.Define(table.stage, "/Sky")
    for name in ("base", "base_weight"):
        shader.CreateInput(name, Sdf.ValueTypeNames.Float).Set(0.0)
    weight = shader.CreateInput("specular" if standard else "specular_weight", Sdf.ValueTypeNames.Float)
    shader.CreateInput("specular_roughness", Sdf.ValueTypeNames.Float).Set(0.02)
    weight.Set(0.0)
    assert table.picture()[8, 8, 0] == pytest.approx(0.0, abs=1e-4)
    for part in (1.0, 0.5):  # F0 = 0.04 at 1.5, times the weight
        weight.Set(part)
        assert table.picture(samples=256)[8, 8, 0] == pytest.approx(0.04 * part, rel=0.1)


def test_a_colour_that_comes_from_a_node_that_is_not_read_is_grey_and_named(table: Table) -> None:
    UsdLux.DomeLight.Define(table.stage, "/Sky")
    shader = table.look()
    table.node(shader, "diffuseColor", "ND_multiply_color3", "out")
    np.testing.assert_allclose(table.picture("albedo")[8, 8], 0.18, atol=0.003)
    said = table.warnings()
    assert "diffuseColor comes from a node that is not read (ND_multiply_color3)" in said
    assert "/Look" in said
    shader.CreateIdAttr("ND_standard_surface_surfaceshader")
    table.node(shader, "base_color", "ND_mix_color3", "out")
    shader.CreateInput("emission", Sdf.ValueTypeNames.Float).Set(1.0)
    table.node(shader, "emission_color", "ND_ramp4_color3", "out")
    picture = table.picture(bounces=0)
    assert picture[8, 8, 0] < 0.5  # it does not glow white
    np.testing.assert_allclose(table.picture("albedo")[8, 8], 0.18, atol=0.06)
    assert "emission_color comes from a node that is not read (ND_ramp4_color3)" in table.warnings()


def skinned(table: Table) -> None:
    UsdSkel.BindingAPI.Apply(table.mesh.GetPrim()).CreateJointIndicesPrimvar(True, 1).Set([0])


def shaped(table: Table) -> None:
    UsdSkel.BindingAPI.Apply(table.mesh.GetPrim()).CreateBlendShapeTargetsRel().SetTargets(["/Table/Smile"])


def displaced(table: Table) -> None:
    shader = table.look()
    output = UsdShade.Material.Get(table.stage, "/Look").CreateDisplacementOutput()
    shader.CreateOutput("displacement", Sdf.ValueTypeNames.Token)
    output.ConnectToSource(shader.ConnectableAPI(), "displacement")


def looped(table: Table) -> None:
    table.mesh.CreateSubdivisionSchemeAttr("loop")


def subsurface(table: Table) -> None:
    shader = table.look()
    shader.CreateIdAttr("ND_standard_surface_surfaceshader")
    shader.CreateInput("subsurface", Sdf.ValueTypeNames.Float).Set(0.5)
    shader.CreateInput("sheen", Sdf.ValueTypeNames.Float).Set(0.5)


def carded(table: Table) -> None:
    model = UsdGeom.Xform.Define(table.stage, "/Tree").GetPrim()
    UsdGeom.ModelAPI.Apply(model).CreateModelDrawModeAttr("cards")


def ribbons(table: Table) -> None:
    curves = UsdGeom.BasisCurves.Define(table.stage, "/Grass")
    curves.CreateTypeAttr("linear")
    curves.CreateCurveVertexCountsAttr([2])
    curves.CreatePointsAttr([Gf.Vec3f(0), Gf.Vec3f(0, 1, 0)])
    curves.CreateWidthsAttr([0.1])
    curves.CreateNormalsAttr([Gf.Vec3f(0, 0, 1)] * 2)


def profiled(table: Table) -> None:
    lamp = UsdLux.SphereLight.Define(table.stage, "/Lamp")
    UsdLux.ShapingAPI.Apply(lamp.GetPrim()).CreateShapingIesFileAttr("spot.ies")


def filtered(table: Table) -> None:
    lamp = UsdLux.SphereLight.Define(table.stage, "/Lamp")
    UsdLux.LightAPI(lamp).CreateFiltersRel().SetTargets(["/Gobo"])


def plugged(table: Table) -> None:
    UsdLux.PluginLight.Define(table.stage, "/Lamp")


def geometry_light(table: Table) -> None:
    UsdLux.GeometryLight.Define(table.stage, "/Lamp")


def smoke(table: Table) -> None:
    table.stage.DefinePrim("/Smoke", "Volume")


def foggy(table: Table) -> None:
    shader = table.look()
    output = UsdShade.Material.Get(table.stage, "/Look").CreateVolumeOutput()
    shader.CreateOutput("volume", Sdf.ValueTypeNames.Token)
    output.ConnectToSource(shader.ConnectableAPI(), "volume")


def unknown_shader(table: Table) -> None:
    table.look().CreateIdAttr("SomeOtherSurface")


def bumpy(table: Table) -> None:
    table.node(table.look(), "normal", "ND_bump_vector3", "out")


def rough_by_noise(table: Table) -> None:
    table.node(table.look(), "roughness", "ND_noise2d_float", "out")


def hsv(table: Table) -> None:
    table.node(table.look(), "emissiveColor", "ND_hsvadjust_color3", "out")


def transform_of_colour(table: Table) -> None:
    table.node(table.look(), "opacity", "ND_clamp_float", "out")


def film(table: Table) -> None:
    shader = table.look()
    shader.CreateIdAttr("ND_open_pbr_surface_surfaceshader")
    for name in ("thin_film_weight", "fuzz_weight", "subsurface_weight"):
        shader.CreateInput(name, Sdf.ValueTypeNames.Float).Set(0.5)


def hermite(table: Table) -> None:
    table.stage.DefinePrim("/Wire", "HermiteCurves")


def short_st(table: Table) -> None:
    UsdGeom.PrimvarsAPI(table.mesh).GetPrimvar("st").Set([Gf.Vec2f(0)])


def wild_indices(table: Table) -> None:
    st = UsdGeom.PrimvarsAPI(table.mesh).GetPrimvar("st")
    st.SetIndices([0] * (len(table.mesh.GetFaceVertexIndicesAttr().Get()) - 1) + [10**6])


def long_colour(table: Table) -> None:
    table.mesh.CreateDisplayColorPrimvar(UsdGeom.Tokens.vertex).Set([Gf.Vec3f(1)] * 99)


def dark_lamp(table: Table) -> None:
    UsdLux.SphereLight.Define(table.stage, "/Lamp").CreateIntensityAttr(float("nan"))


def negative_lamp(table: Table) -> None:
    UsdLux.SphereLight.Define(table.stage, "/Lamp").CreateIntensityAttr(-1.0)


def hot_lamp(table: Table) -> None:
    lamp = UsdLux.SphereLight.Define(table.stage, "/Lamp")
    lamp.CreateEnableColorTemperatureAttr(True)
    lamp.CreateColorTemperatureAttr(float("nan"))


def tiny_lamp(table: Table) -> None:
    UsdLux.SphereLight.Define(table.stage, "/Lamp").CreateRadiusAttr(0.0)


def flat(table: Table) -> None:
    write_geometry(table.stage, "/Flat", plane(1)).AddScaleOp().Set(Gf.Vec3f(0, 1, 1))


def nowhere(table: Table) -> None:
    write_geometry(table.stage, "/Flat", plane(1)).AddTranslateOp().Set(Gf.Vec3d(float("nan")))


def gone_variant(table: Table) -> None:
    held = table.mesh.GetPrim().GetVariantSets().AddVariantSet("size")
    held.AddVariant("small")
    held.SetVariantSelection("large")


def ring(table: Table) -> None:
    node = table.node(table.look(), "diffuseColor", "ND_add_color3", "out")
    node.CreateInput("in1", Sdf.ValueTypeNames.Color3f).ConnectToSource(node.ConnectableAPI(), "out")


def lens(**values: object):
    def make(table: Table) -> None:
        camera = UsdGeom.Camera.Define(table.stage, "/Other")
        for name, value in values.items():
            getattr(camera, f"Create{name}Attr")(value)

    return make


@pytest.mark.parametrize(
    ("make", "prim", "word"),
    [(skinned, "/Table", "skeleton"), (shaped, "/Table", "blend shapes"), (displaced, "/Look", "displace"),
     (looped, "/Table", "Loop"), (subsurface, "/Look", "subsurface"), (subsurface, "/Look", "sheen"),
     (carded, "/Tree", "cards"), (ribbons, "/Grass", "Ribbons"), (profiled, "/Lamp", "IES"),
     (filtered, "/Lamp", "filters"), (plugged, "/Lamp", "PluginLight"), (geometry_light, "/Lamp", "GeometryLight"),
     (smoke, "/Smoke", "Volume"), (foggy, "/Look", "volume"), (unknown_shader, "/Look", "SomeOtherSurface"),
     (bumpy, "/Look", "ND_bump"), (rough_by_noise, "/Look", "ND_noise2d"), (hsv, "/Look", "ND_hsvadjust"),
     (transform_of_colour, "/Look", "ND_clamp"), (film, "/Look", "thin film"), (film, "/Look", "fuzz"),
     (film, "/Look", "subsurface"), (hermite, "/Wire", "HermiteCurves"),
     (short_st, "/Table", "st that do not fit"), (wild_indices, "/Table", "st that do not fit"),
     (long_colour, "/Table", "displayColor that do not fit"), (dark_lamp, "/Lamp", "no number"),
     (negative_lamp, "/Lamp", "below zero"), (hot_lamp, "/Lamp", "no number"), (tiny_lamp, "/Lamp", "radius"),
     (flat, "/Flat", "Squashed flat"), (nowhere, "/Flat", "numbers that are none"),
     (gone_variant, "/Table", "variant large of size"), (ring, "/Look", "feed themselves"),
     (lens(HorizontalAperture=0.0), "/Other", "no size"), (lens(FocalLength=-3.0), "/Other", "no focal length"),
     (lens(FStop=2.0, FocusDistance=-1.0), "/Other", "focus on nothing"),
     (lens(ClippingRange=Gf.Vec2f(9, 1)), "/Other", "nothing between")],
)  # fmt: skip
def test_nothing_is_left_out_without_a_word(table: Table, make, prim: str, word: str) -> None:
    UsdLux.DomeLight.Define(table.stage, "/Sky")
    make(table)
    said = [line for line in table.warnings().splitlines() if word in line]
    assert len(said) == 1, table.warnings()
    assert prim in said[0]
    survey = lattice.survey(table.file)
    told = {**survey.omitted, **{why: [path] for path, why in survey.unknown_materials.items()}}
    assert any(word in what and prim in prims for what, prims in told.items())


def test_nothing_is_said_of_a_scene_that_is_drawn_whole(table: Table) -> None:
    table.look(diffuseColor=(0.5, 0.5, 0.5))
    UsdLux.DomeLight.Define(table.stage, "/Sky")
    write_geometry(table.stage, "/Ball", sphere(6))
    table.text += "axes:\n  a:\n    b:\n      edits:\n        - link: {light: /Sky, to: /Ball}\n"
    assert table.warnings() == ""


def test_no_picture_that_is_no_numbers_counts_as_done(table: Table) -> None:
    sky = UsdLux.DomeLight.Define(table.stage, "/Sky")
    sky.CreateTextureFileAttr("sky.exr")
    pixels = np.ones((8, 16, 3), np.float32)
    pixels[2:6] = np.nan
    out = oiio.ImageOutput.create(str(table.folder / "sky.exr"))
    out.open(str(table.folder / "sky.exr"), oiio.ImageSpec(16, 8, 3, oiio.FLOAT))
    out.write_image(pixels)
    out.close()
    table.mesh.AddScaleOp().Set(Gf.Vec3f(0.05, 1, 0.05))
    run = table.plan().override(output="p.{ext}").run(workers=0)
    if run.ok:  # then it has been kept out of the picture
        assert np.isfinite(run.picture("the one cell")).all()
    else:
        assert "are no numbers" in run.failures[0].problem.what
        assert not (table.folder / "p.exr").exists()


def test_motion_is_there_whichever_cell_asks_for_it(table: Table) -> None:
    UsdLux.DomeLight.Define(table.stage, "/Sky")
    move = table.mesh.AddTranslateOp()
    move.Set(Gf.Vec3d(0), 1)
    move.Set(Gf.Vec3d(0.5, 0, 0), 2)
    table.text += "axes:\n  pass:\n    one: {passes: [beauty]}\n    two: {passes: [motion]}\n"
    table.text = table.text.replace("pass:", "which:").replace(
        "format: exr", 'format: exr, output: "{which}.{ext}"'
    )
    run = table.plan().run(workers=0)
    assert len(run.tasks) == 1, run.tasks
    # 4 units are 16 pixels wide.
    np.testing.assert_allclose(run.picture("two", pass_name="motion")[8, 8], (2.0, 0.0), atol=1e-3)
    assert oiio.geterror() == ""


def test_position_depth_and_texture_coordinates_of_a_pixel_are_of_one_place(table: Table) -> None:
    """A slanted, scaled and turned table, instances of it, seen from aside; any pixel it fills."""
    UsdLux.DomeLight.Define(table.stage, "/Sky")
    table.mesh.AddRotateXYZOp().Set(Gf.Vec3f(20, 15, 50))
    table.mesh.AddScaleOp().Set(Gf.Vec3f(1.5, 1, 0.7))
    passes = ["position", "depth", "uv", "coverage"]
    run = table.plan().override(passes=passes, samples=24, size="40x40").run(workers=0)
    assert run.ok
    position, depth, uv, cover = (run.picture("the one cell", pass_name=name) for name in passes)
    whole = cover > 0.999
    assert whole.mean() > 0.5
    # The camera looks down from (0, 10, 0): depth along its axis is 10 − y, and x, z follow from the pixel.
    np.testing.assert_allclose(10.0 - position[whole][:, 1], depth[whole], atol=1e-4)
    at = (np.arange(40) + 0.5) / 40 - 0.5
    x, z = np.meshgrid(at * 0.4, at * 0.4)
    np.testing.assert_allclose(position[whole][:, 0], (x * depth)[whole], atol=1e-4)
    np.testing.assert_allclose(position[whole][:, 2], (z * depth)[whole], atol=1e-4)
    # Texture coordinates are linear on a plane: what fits some pixels fits all to a hair.
    known = np.concatenate([position[whole], np.ones((whole.sum(), 1))], axis=1)
    fitted, *_ = np.linalg.lstsq(known, uv[whole], rcond=None)
    np.testing.assert_allclose(known @ fitted, uv[whole], atol=1e-4)


def test_a_cameras_own_exposure_is_of_the_displayed_picture_alone(table: Table, glat) -> None:
    table.look(diffuseColor=(0.5, 0.5, 0.5))
    UsdLux.DomeLight.Define(table.stage, "/Sky").CreateIntensityAttr(0.2)
    shown = {"format": ["png"], "output": "{cell}.{ext}"}

    def png(**more: object) -> np.ndarray:
        assert table.plan().override(**shown, **more).run(workers=0, fresh=True).ok
        return read_image(str(table.folder / "cell.png"))[8, 8, :3].astype(float)

    plain = png()
    prim = table.stage.GetPrimAtPath("/Camera")
    for name, value in (("exposure:time", 0.01), ("exposure:iso", 400.0), ("exposure:fStop", 2.0),
                        ("exposure:responsivity", 50.0), ("exposure", 1.0)):  # fmt: skip
        prim.CreateAttribute(name, Sdf.ValueTypeNames.Float).Set(value)
    # responsivity × time × iso / 100 × 2^exposure / fStop² = 50 × 0.01 × 4 × 2 / 4 = 1: the same again
    np.testing.assert_array_equal(png(), plain)
    prim.GetAttribute("exposure").Set(3.0)
    brighter = png()
    assert (brighter > plain + 20).all()
    np.testing.assert_array_equal(brighter, png(exposure=0.0))
    np.testing.assert_allclose(png(camera_exposure=False), plain)
    prim.GetAttribute("exposure").Set(1.0)
    np.testing.assert_allclose(png(exposure=2.0), brighter)  # two stops are two stops
    prim.GetAttribute("exposure").Set(3.0)
    assert table.picture()[8, 8, 0] == pytest.approx(0.1, rel=0.02)  # the EXR never scales
    assert table.picture("illuminance")[8, 8] == pytest.approx(0.2 * np.pi, rel=0.05)
    (camera,) = lattice.survey(table.file).cameras
    assert camera.stops == pytest.approx(2.0, abs=1e-5)
    assert "exposed by +2.0 stops" in glat(table.folder, "survey", table.file.name)[1]


def test_cleaned_shares_of_light_depend_on_no_other_cell(table: Table) -> None:
    """They are made to add up to the beauty: all are traced together, and files differ where others are asked
    for."""
    from grandlattice.runs import Fingerprints

    UsdLux.DomeLight.Define(table.stage, "/Sky")
    table.text += "axes:\n  which:\n    all: {passes: [beauty, light.Sky, light.surfaces]}\n    one: {passes: [beauty, light.Sky, diffuse]}\n"
    table.text += "    same: {passes: [light.Sky, beauty, depth]}\n"
    for denoise, kinds in (("true", 2), ("false", 1)):
        plan = table.plan().override(denoise=denoise)
        prints = Fingerprints(plan.model, "scene", table.folder, can_denoise=True)
        assert len({prints.told(cell.settings, cell.edits) for cell in plan.cells}) == 1
        first, file = plan.cells[0], PlannedFile("a.png", 1, "png", ("light.Sky",))
        shown = {prints.file(b"", replace(first, settings=cell.settings), file) for cell in plan.cells}
        assert len(shown) == kinds


def _lit_table(table: Table, nits: float, night: float | None = None, **settings: str) -> None:
    """A grey table under a sky of some nits: it reflects half of them, 50 × 10 units wide all around.

    With a share of the sky that is left at `night`, the plan has an axis of day and night.
    """
    table.look(diffuseColor=(0.5, 0.5, 0.5))
    UsdLux.DomeLight.Define(table.stage, "/Sky").CreateIntensityAttr(nits)
    said = ", ".join(f"{name}: {value}" for name, value in settings.items())
    table.text = table.text.replace("format: exr", said or "format: exr")
    if night is not None:
        edit = f"{{multiply: {{on: /Sky, intensity: {night}}}}}"
        table.text += f"axes:\n  light:\n    day:\n    night: {{edits: [{edit}]}}\n"


def test_an_exposure_is_metered_to_mid_grey_stored_and_explained(table: Table) -> None:
    _lit_table(table, 4000.0, night=0.001, format="[exr, png]", exposure="metered")
    table.text += "  size: {small: {samples: 16}, large: {size: 24x24}}\n"
    plan = table.plan()
    run = plan.run(workers=0)
    assert run.ok, run.failures
    grey = to_display(np.array([[[0.18, 0.18, 0.18, 1.0]]], np.float32))
    for entry, nits in (("day", 2000.0), ("night", 2.0)):
        expected = np.log2(0.18 / nits)
        for size in ("small", "large"):  # neither the size nor the samples make a difference
            cell = f"{entry}/{size}"
            (told,) = (c for c in plan.explain(cell).settings if c.name == "exposure")
            assert told.after == f"{expected:+.2f} stops, metered"
            assert run.picture(cell)[..., :3].mean() == pytest.approx(
                nits, rel=0.01
            )  # the EXR holds the light
            shown = np.asarray(Image.open(plan.files(plan.cells[cell])[1]).convert("L"))
            assert shown.mean() == pytest.approx(255 * grey[0, 0, 0], abs=1.0)
    proof = {c.name: c.after for c in plan.proofing().explain("day/small").settings}
    assert proof["exposure"] == f"{np.log2(0.18 / 2000.0):+.2f} stops, metered"
    again = lattice.open_plan(table.folder / "table.lattice.yaml")
    assert not again.outlook().todo  # the same values, whoever asks again


def test_exposures_metered_by_an_axis_are_one_for_its_entries(table: Table) -> None:
    _lit_table(table, 1000.0, night=1 / 16, format="png", exposure="metered by light")
    table.text += "  back: {sky: , none: {edits: [{multiply: {on: /Sky, intensity: 4}}]}}\n"

    def stops(plan: lattice.Plan, cell: str) -> str:
        return next(c.after for c in plan.explain(cell).settings if c.name == "exposure")

    plan = table.plan()
    # By day 500 nits, by night a sixteenth: the mean of both is two stops under what the day needs alone.
    expected = np.log2(0.18 / 500.0) + 2.0
    for entry in ("day", "night"):
        assert stops(plan, f"{entry}/sky") == f"{expected:+.2f} stops, metered by light"
        assert stops(plan, f"{entry}/none") == f"{expected - 2.0:+.2f} stops, metered by light"
    table.text = table.text.replace("metered by light", "metered by lihgt")
    with pytest.raises(lattice.PlanError, match=r"no axis of that name\. Did you mean light"):
        _ = table.plan().cells[0]
    table.text = table.text.replace("metered by lihgt", "meterde")
    with pytest.raises(lattice.PlanError, match="an exposure is stops, metered"):
        _ = table.plan().cells[0]


def test_a_clamp_is_relative_to_what_is_shown_or_in_nits(table: Table) -> None:
    # Two facing walls of a corner scatter light twice and more: there the clamp takes effect.
    _lit_table(table, 4000.0)
    wall = write_geometry(table.stage, "/Wall", plane(10))
    wall.AddRotateXOp().Set(60.0)
    wall.AddTranslateOp().Set(Gf.Vec3d(0, -3, 0))
    whole = table.picture(exposure=-12.0)
    same = table.picture(exposure=-12.0, clamp=4.0)  # 16,384 nits are never reached
    assert np.array_equal(whole, same)
    clamped = table.picture(exposure=0.0, clamp=4.0)
    assert np.array_equal(clamped, table.picture(exposure=-12.0, clamp="4 nits"))
    assert clamped[..., :3].mean() < 0.99 * whole[..., :3].mean()
    table.text += "axes: {exposure: {a: {exposure: 0}, b: {exposure: 1}}}\n"
    table.text = table.text.replace("format: exr", "format: png")
    plans = [table.plan().override(clamp=c) for c in (None, "4 nits", 4.0)]
    assert [len(plan.tasks()[0].films) for plan in plans] == [1, 1, 2]  # each limit has a film of its own


def test_a_first_plan_of_a_scene_in_real_units_has_its_exposure_metered(table: Table) -> None:
    _lit_table(table, 4000.0)
    table.plan()
    plan = lattice.open_plan(lattice.begin(table.file, table.folder / "bright.lattice.yaml"))
    assert plan.cells[0].settings.metered is not None
    UsdLux.DomeLight(table.stage.GetPrimAtPath("/Sky")).CreateIntensityAttr(0.5)
    table.plan()
    plan = lattice.open_plan(lattice.begin(table.file, table.folder / "fair.lattice.yaml"))
    assert plan.cells[0].settings.metered is None


def test_unseen_and_only_hide_the_shapes_of_lights(table: Table) -> None:
    table.look(diffuseColor=(0.5, 0.5, 0.5))
    lamp = UsdLux.DiskLight.Define(table.stage, "/Lamps/Lamp")
    lamp.AddTranslateOp().Set(Gf.Vec3d(0, 5, 0))
    lamp.AddRotateXOp().Set(90.0)  # it shines up, at the camera
    lamp.CreateIntensityAttr(7.0)
    table.text += """axes:
  lamp:
    seen:
    unseen: {edits: [{unseen: /Lamps}]}
    only: {edits: [{only: {on: /Table}}]}
    alone: {edits: [{only: {on: /Lamps}}]}
    held-out: {edits: [{only: {on: /Table, rest: matte}}]}
"""
    run = table.plan().run(workers=0)
    assert run.ok, run.failures
    found = {name: run.picture(name)[8, 8] for name in ("seen", "unseen", "only", "alone", "held-out")}
    assert found["seen"] == pytest.approx((7, 7, 7, 1))
    for name in ("unseen", "only"):
        assert found[name] == pytest.approx((0, 0, 0, 1))  # the table is lit from nowhere
    assert found["alone"] == pytest.approx((7, 7, 7, 1))
    assert found["held-out"] == pytest.approx((0, 0, 0, 0))
