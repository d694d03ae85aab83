"""Edits that move, swap, bring in, light and hold out, checked by USD's own queries."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import ephem
import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux

import grandlattice as lattice
from bench import Bench, to_world, visible
from grandlattice.errors import EditError
from grandlattice.stage import Explainer
from grandlattice.stage.edits.sun_position import _equatorial, sun_position
from shapes import plane, room_scene, sphere, write_geometry

BALL_A, BALL_B, KEY = "/World/Toys/BallA", "/World/Toys/BallB", "/World/Lights/Key"


@pytest.fixture
def bench(scene: Path) -> Bench:
    return Bench(scene)


def place(stage: Usd.Stage, path: str, frame: float = 1.0) -> np.ndarray:
    return to_world(stage, path, frame)[3, :3]


# --- moving -------------------------------------------------------------------------------------


def test_move_adds_lengths_of_the_scene_whatever_stands_above(bench: Bench) -> None:
    before = place(bench.lay(), BALL_A)  # its parent is scaled by a half
    stage = bench.lay(f"move: {{on: {BALL_A}, x: 1, y: 2 cm}}", f"move: {{on: {BALL_A}, x: 0.5}}")
    assert place(stage, BALL_A) == pytest.approx(before + (1.5, 2.0, 0.0))  # a unit is a centimetre
    stage = bench.lay(f"move: {{on: {KEY}, z: -3}}")
    assert place(stage, KEY) == pytest.approx((2, 6, 0))


def test_move_to_says_what_stands_and_ends_no_other_motion(bench: Bench) -> None:
    stage = bench.lay(f"move-to: {{on: {BALL_B}, x: 7, z: -1}}")
    for frame in (1, 13):
        assert place(stage, BALL_B, frame) == pytest.approx((7, 0.5, -1))
    assert to_world(stage, BALL_B, 13)[0, 0] < 0.5  # it still turns
    stage = bench.lay("move-to: {on: /World/Cameras/Front, y: 5}")  # a camera has one matrix
    assert place(stage, "/World/Cameras/Front") == pytest.approx((0, 5, 9))


def test_turn_and_resize_about_a_point_a_prim_and_the_centre(bench: Bench) -> None:
    stage = bench.lay(f"turn: {{on: {BALL_A}, y: 90, about: [0, 0, 0]}}")
    assert place(stage, BALL_A) == pytest.approx((0, 0.5, 0.75))  # from (-0.75, 0.5, 0)
    stage = bench.lay(f"turn: {{on: {BALL_A}, y: 180, about: {KEY}}}")
    assert place(stage, BALL_A) == pytest.approx((4.75, 0.5, 6))
    stage = bench.lay("turn: {on: /World/Toys, y: 180, about: centre}")
    assert place(stage, BALL_A) == pytest.approx((0.75, 0.5, 0), abs=1e-6)
    stage = bench.lay(f"resize: {{on: {BALL_A}, by: 3}}")
    assert place(stage, BALL_A) == pytest.approx((-0.75, 0.5, 0))
    assert np.linalg.norm(to_world(stage, BALL_A)[0, :3]) == pytest.approx(1.5)
    stage = bench.lay(f"resize: {{on: {BALL_A}, y: 2, about: [-0.75, 0, 0]}}")  # from the floor up
    assert place(stage, BALL_A) == pytest.approx((-0.75, 1.0, 0))
    with pytest.raises(EditError, match="has no centre"):
        bench.lay("turn: {on: /World/Cameras/Front, y: 5, about: centre}")


def test_spin_goes_round_once_and_does_not_repeat_its_first_frame(bench: Bench) -> None:
    stage = bench.lay(f"spin: {{on: {BALL_A}, frames: 1-8}}")
    angles = [
        np.degrees(np.arctan2(-m[0, 2], m[0, 0])) % 360
        for m in (to_world(stage, BALL_A, f) for f in range(1, 10))
    ]
    assert (np.array(angles) + 1e-3) % 360 == pytest.approx([0, 45, 90, 135, 180, 225, 270, 315, 0], abs=2e-3)
    assert all(place(stage, BALL_A, f) == pytest.approx((-0.75, 0.5, 0)) for f in range(1, 9))
    # BallB turns by itself, 90 degrees in 24 frames; a turntable goes on top of that.
    stage = bench.lay(f"spin: {{on: {BALL_B}, turns: -1, frames: 1-24}}")
    m = to_world(stage, BALL_B, 13)
    assert np.degrees(np.arctan2(-m[0, 2], m[0, 0])) % 360 == pytest.approx(45 - 180 + 360, abs=1e-3)


def test_a_turntable_takes_the_cells_planned_frames(bench: Bench) -> None:
    cell = bench.cell(f"spin: {BALL_A}", f"hide: {BALL_B}")
    assert cell.edits[0].edit.spin.frames.numbers == cell.settings.frames
    short = lattice.Plan(scene="room.usda", folder=bench.folder, defaults={"frames": "1-6"})
    short.axis("light").entry("spin", edits=[{"spin": BALL_A}])
    short.axis("camera").each("cameras")
    assert short.cells[0].edits[0].edit.spin.frames.numbers == (1, 2, 3, 4, 5, 6)


# --- states -------------------------------------------------------------------------------------


def test_one_state_stands_on_a_prim_the_later(bench: Bench) -> None:
    bench.lay(f"unseen: {BALL_A}", "matte: toys", f"catch: {BALL_B}", "unseen: /World/Floor")
    states = {i.path.rsplit("/", 1)[1]: (i.matte, i.catches, i.seen) for i in bench.take().items}
    assert states == {
        "BallA": (True, False, True), "BallB": (False, True, True), "Floor": (False, False, False),
    }  # fmt: skip
    bench.lay("matte: {on: /World, except: toys}")
    assert {i.path[-5:]: i.matte for i in bench.take().items} == {
        "BallA": False,
        "BallB": False,
        "Floor": True,
    }


# --- structure ----------------------------------------------------------------------------------


def asset(folder: Path, name: str, up: str = "Y", unit: float = 0.01, kind: str = "Xform") -> None:
    stage = Usd.Stage.CreateNew(str(folder / name))
    UsdGeom.SetStageUpAxis(stage, up)
    UsdGeom.SetStageMetersPerUnit(stage, unit)
    root = stage.DefinePrim("/Thing", kind)
    stage.SetDefaultPrim(root)
    write_geometry(stage, "/Thing" if kind == "Mesh" else "/Thing/Shape", sphere(12))
    stage.GetRootLayer().Save()


@pytest.fixture
def shop(tmp_path: Path) -> Bench:
    """A scene whose hero is a referenced asset with something said of its inside."""
    room_scene(tmp_path / "room.usda")
    asset(tmp_path, "first.usda")
    stage = Usd.Stage.Open(str(tmp_path / "room.usda"))
    hero = UsdGeom.Xform.Define(stage, "/World/Hero")
    hero.AddTranslateOp().Set(Gf.Vec3d(3, 1, 0))
    hero.GetPrim().GetReferences().AddReference("first.usda")
    UsdGeom.Imageable(stage.OverridePrim("/World/Hero/Shape")).CreatePurposeAttr("render")
    for name in ("Left", "Right"):
        twin = UsdGeom.Xform.Define(stage, f"/World/{name}").GetPrim()
        twin.GetReferences().AddReference("first.usda")
        twin.SetInstanceable(True)
    stage.GetRootLayer().Save()
    return Bench(tmp_path / "room.usda")


def test_swap_keeps_the_place_and_corrects_units_and_axis(shop: Bench) -> None:
    asset(shop.folder, "second.usda", up="Z", unit=1.0)
    stage = shop.lay("swap: {on: /World/Hero, with: second.usda}", "move: {on: /World/Hero, y: 1}")
    matrix = to_world(stage, "/World/Hero/Shape")
    assert matrix[3, :3] == pytest.approx((3, 2, 0))
    assert matrix[2, :3] == pytest.approx((0, 100, 0), abs=1e-4)  # its Z is up now, its metre 100 units
    assert "scaled by 100" in shop.notes()
    asset(shop.folder, "bare.usda", kind="Mesh")
    stage = shop.lay("swap: {on: /World/Hero, with: bare.usda}")
    assert "swapped" in shop.seen()
    assert "/World/Hero/Shape has nothing to act on" in shop.notes().replace("what the scene says of ", "")
    stage = shop.lay("swap: {on: /World/Toys, with: first.usda}")
    assert "BallA" not in shop.seen()
    stage = shop.lay()
    assert {"BallA", "BallB"} < shop.seen()
    with pytest.raises(EditError, match="gone.usda is not there".replace(".", r"\.")):
        shop.lay("swap: {on: /World/Hero, with: gone.usda}")


def test_place_and_light_bring_in_what_is_not_there(shop: Bench) -> None:
    stage = shop.lay(
        "place: {file: first.usda, name: Guest, under: /World/Toys, at: [5, 0, 1]}",
        "light: {kind: rect, name: Fill, at: /World/Hero, intensity: 12, width: 3}",
        "hide: //Guest/asset",
        "turn-to: {on: /Fill, x: -90}",
    )
    assert place(stage, "/World/Toys/Guest") == pytest.approx((5, 0, 1))
    assert not visible(stage, "/World/Toys/Guest/asset/Shape")
    fill = UsdLux.RectLight(stage.GetPrimAtPath("/Fill"))
    assert (fill.GetIntensityAttr().Get(), fill.GetWidthAttr().Get()) == (12, 3)
    assert place(stage, "/Fill") == pytest.approx((3, 1, 0))
    assert to_world(stage, "/Fill")[2, :3] == pytest.approx((0, 1, 0), abs=1e-6)  # it shines down
    assert len(shop.take().lights) == 4
    with pytest.raises(EditError, match="has a /World/Hero already"):
        shop.lay("light: {kind: sphere, name: Hero, under: /World}")
    stage = shop.lay()
    assert not stage.GetPrimAtPath("/Fill")


def test_an_edit_inside_an_instance_makes_a_copy_of_that_one(shop: Bench) -> None:
    stage = shop.lay(
        "hide: /World/Left/Shape", "assign: {on: /World/Right/Shape, material: /World/Looks/Red}"
    )
    assert not visible(stage, "/World/Left/Shape")
    assert visible(stage, "/World/Right/Shape")
    assert "it is one of several instances" in shop.notes()
    snapshot = shop.take()
    by_path = {i.path: snapshot.materials[i.materials[0]].path for i in snapshot.items}
    assert by_path["/World/Right/Shape"] == "/World/Looks/Red"
    assert shop.lay("show: //Shape").GetPrimAtPath("/World/Left").IsInstance()


def test_link_says_what_a_light_reaches(bench: Bench) -> None:
    stage = bench.lay(f"link: {{light: {KEY}, to: toys, shadow: {BALL_A}}}")
    light = UsdLux.LightAPI(stage.GetPrimAtPath(KEY))
    reaches = light.GetLightLinkCollectionAPI().ComputeMembershipQuery()
    assert reaches.IsPathIncluded(Sdf.Path(BALL_B))
    assert not reaches.IsPathIncluded(Sdf.Path("/World/Floor"))
    shadows = light.GetShadowLinkCollectionAPI().ComputeMembershipQuery()
    assert [shadows.IsPathIncluded(Sdf.Path(p)) for p in (BALL_A, BALL_B)] == [True, False]
    with pytest.raises(EditError, match="is no light"):
        bench.lay(f"link: {{light: {BALL_A}, to: toys}}")


# --- the sun ------------------------------------------------------------------------------------


def almanac(moment: datetime, latitude: float, longitude: float) -> tuple[float, float]:
    """Altitude and azimuth from an independent library of published series (VSOP87)."""
    there = ephem.Observer()
    there.lat, there.lon, there.pressure, there.temp = str(latitude), str(longitude), 1010, 10
    there.date = ephem.Date(moment.astimezone(UTC).replace(tzinfo=None))
    sun = ephem.Sun(there)
    return np.degrees(float(sun.alt)), np.degrees(float(sun.az))


PLACES = [
    # Golden, Colorado: the worked example of Reda and Andreas, "Solar Position Algorithm for Solar
    # Radiation Applications" (NREL, 2003): zenith 50.11162, azimuth 194.34024 (at 820 hPa, where
    # the air lifts the sun 0.0036 degrees less).
    ("2003-10-17T12:30:30-07:00", 39.742476, -105.1786, 90 - 50.11162, 194.34024),
    # Where the sun stands in the zenith at a published equinox or solstice: declinations 0 and
    # +-23.44 at noon of the local meridian, equation of time -7 min 28 s, -1 min 50 s, +1 min 58 s.
    ("2024-06-20T20:51:00+00:00", 23.44, -132.29, 90.0, None),
    ("2025-06-21T02:42:00+00:00", 23.44, 139.96, 90.0, None),
    ("2025-03-20T09:01:00+00:00", 0.0, 46.6, 90.0, None),
    ("2025-12-21T15:03:00+00:00", -23.44, -46.2, 90.0, None),
    ("2024-12-21T09:20:00+00:00", -23.44, 39.52, 90.0, None),
]  # fmt: skip


@pytest.mark.parametrize(("when", "latitude", "longitude", "altitude", "azimuth"), PLACES)
def test_the_sun_stands_where_published_figures_say(when, latitude, longitude, altitude, azimuth) -> None:
    found = sun_position(datetime.fromisoformat(when), latitude, longitude)
    assert found[0] == pytest.approx(altitude, abs=0.05)
    if azimuth is not None:
        assert found[1] == pytest.approx(azimuth, abs=0.05)


def test_the_suns_coordinates_are_those_of_the_books_example() -> None:
    """Meeus, Astronomical Algorithms, example 25.a: 1992 October 13, 0h dynamical time."""
    ascension, declination = np.degrees(_equatorial(2448908.5 - 2451545.0))
    assert ascension % 360 == pytest.approx(198.38083, abs=0.001)
    assert declination == pytest.approx(-7.78507, abs=0.001)


@settings(max_examples=300, deadline=None)
@given(st.datetimes(datetime(1950, 1, 1), datetime(2090, 1, 1)), st.floats(-66, 66), st.floats(-180, 180))
def test_the_sun_agrees_with_an_almanac_anywhere(when: datetime, latitude: float, longitude: float) -> None:
    moment = when.replace(tzinfo=UTC)
    altitude, azimuth = sun_position(moment, latitude, longitude)
    published, direction = almanac(moment, latitude, longitude)
    if altitude < 2.0:
        return  # near the horizon the air decides, not the sun
    assert altitude == pytest.approx(published, abs=0.05)
    apart = abs((azimuth - direction + 180) % 360 - 180) * np.cos(np.radians(altitude))
    assert apart < 0.05


def test_sun_turns_a_distant_light_towards_it(tmp_path: Path) -> None:
    for up in ("Y", "Z"):
        stage = Usd.Stage.Open(str(room_scene(tmp_path / f"{up}.usda", up=up)))
        UsdLux.DistantLight.Define(stage, "/World/Lights/Sun")
        stage.GetRootLayer().Save()
        bench = Bench(tmp_path / f"{up}.usda")
        said = "on: /World/Lights/Sun, latitude: 52.1, longitude: 5.2, zone: Europe/Amsterdam"
        stage = bench.lay(f"sun: {{{said}, date: 2026-06-21, time: '13:42'}}")
        towards = to_world(stage, "/World/Lights/Sun")[2, :3]  # it shines along its -Z
        south = {"Y": (0, 0, 1), "Z": (0, -1, 0)}[up]
        height = {"Y": 1, "Z": 2}[up]
        altitude = np.degrees(np.arcsin(towards[height]))
        assert altitude == pytest.approx(90 - 52.1 + 23.44, abs=0.05)  # noon of midsummer
        assert np.dot(towards, south) == pytest.approx(np.cos(np.radians(altitude)), abs=1e-3)
        stage = bench.lay(f"sun: {{{said}, date: 2026-06-21, time: '13:42', north: 90}}")
        turned = to_world(stage, "/World/Lights/Sun")[2, :3]
        assert turned[0] == pytest.approx(-np.cos(np.radians(altitude)), abs=1e-3)  # south is -X now
        bench.lay(f"sun: {{{said}, date: 2026-06-21, time: '01:00'}}")
        assert "below the horizon" in bench.notes()
    with pytest.raises(EditError, match="is no distant light"):
        bench.lay(f"sun: {{{said.replace('Sun', 'Key')}, date: 2026-06-21, time: '12:00'}}")


# --- who set it, and a layer of it --------------------------------------------------------------


def test_explain_names_the_winner_and_strikes_out_the_losers(plan_file: Path) -> None:
    plan = lattice.open_plan(plan_file)
    told = plan.explain("night/Front")
    (intensity,) = [c for c in told.changes if (c.prim, c.name) == (KEY, "intensity")]
    assert (intensity.before, intensity.after) == ("30", "60")
    assert [(o.value, o.source, o.wins) for o in intensity.opinions] == [
        ("60", "light=night", True), ("30", "scene", False),
    ]  # fmt: skip
    assert intensity.opinions[0].place == "room.lattice.yaml:17:11"
    assert intensity.opinions[1].place == "room.usda"
    against = plan.explain("night/Front", against="day/Side")
    assert {(c.prim, c.name) for c in against.changes} == {
        (KEY, "intensity"),
        ("/World/Lights/Sky", "visibility"),
    }
    assert [(c.name, c.before, c.after) for c in against.settings] == [
        ("camera", "/World/Cameras/Side", "/World/Cameras/Front")
    ]
    text = plan_file.read_text() + (
        "rules:\n  - at: {light: night}\n    exposure: 2\n    edits:\n"
        f"      - set: {{on: {KEY}, intensity: 5}}\n"
        "      - assign: {on: toys, material: /World/Looks/Floor}\n"
        "      - choose: {on: toys, size: large}\n"
    )
    plan_file.write_text(text)
    told = lattice.open_plan(plan_file).explain("night/Front")
    values = {(c.prim, c.name): c for c in told.changes}
    assert [o.value for o in values[KEY, "intensity"].opinions] == ["5", "60", "30"]
    assert [o.source for o in values[KEY, "intensity"].opinions] == ["rule 1", "light=night", "scene"]
    assert values["/World/Toys", "variant size"].after == "large"
    material = values["/World/Toys", "material"]
    assert (material.before, material.after) == ("Red", "Floor")
    (exposure,) = [c for c in told.settings if c.name == "exposure"]
    assert (exposure.after, exposure.opinions[0].place) == ("2", "room.lattice.yaml:24:5")


def test_edits_that_change_nothing_are_found(scene: Path) -> None:
    bench = Bench(scene)
    cell = bench.cell(
        f"set: {{on: {KEY}, intensity: 30}}", f"set: {{on: {KEY}, color: [1, 0, 0]}}",
        f"set: {{on: {KEY}, color: [0, 1, 0]}}", "show: toys", "hide: toys",
    )  # fmt: skip
    explainer = Explainer(bench.scene, bench.model, bench.folder)
    idle = [why for _, why in explainer.idle(explainer.explain(cell), cell)]
    assert idle == [
        "intensity is 30 already",
        "light=day says otherwise after it (the plan:17:11)",
        "what it asks for stands in the scene already",
    ]


def test_an_exported_cell_composes_to_the_same_picture(scene: Path) -> None:
    text = (
        "lattice: 1\nscene: room.usda\ndefaults: {frames: 1-3, passes: [beauty, depth]}\n"
        "materials:\n  clay: {color: [0.5, 0.4, 0.3]}\n"
        "axes:\n  look:\n    all:\n      edits:\n"
        "        - overlay: over.usda\n"
        "        - choose: {on: /World/Toys, size: large}\n"
        "        - light: {kind: disk, name: Fill, at: [0, 4, 0], intensity: 3}\n"
        f"        - assign: {{material: clay, on: /World/Toys, except: {BALL_B}}}\n"
        f"        - spin: {BALL_A}\n"
        f"        - multiply: {{on: {KEY}, intensity: 0.5}}\n"
        "        - set: {on: /World/Lights/Sky, texture: grid.png}\n"
        "        - only: {on: /World/Toys, rest: matte}\n"
        "  camera:\n    each: cameras\n"
    )
    folder = scene.parent
    over = Usd.Stage.CreateNew(str(folder / "over.usda"))
    write_geometry(over, "/World/Toys/Extra", plane(1))
    over.GetRootLayer().Save()
    (folder / "p.lattice.yaml").write_text(text)
    plan = lattice.open_plan(folder / "p.lattice.yaml")
    (folder / "deep").mkdir()
    file = plan.export("all/Side", folder / "deep" / "cell.usda")
    lens = plan.override(fstop=4.0, focus="2 m").export("all/Side", folder / "lens.usda")
    seen = Usd.Stage.Open(str(lens))
    camera = UsdGeom.Camera(seen.GetPrimAtPath("/World/Cameras/Side"))
    unit = UsdGeom.GetStageMetersPerUnit(seen)
    assert (camera.GetFStopAttr().Get(), camera.GetFocusDistanceAttr().Get()) == (4.0, 2.0 / unit)
    ours = Bench(scene)
    ours.model, ours.folder = plan.model, folder
    from grandlattice.stage import CellStage, Snapshotter, open_scene

    stage = CellStage(open_scene(scene), plan.model, folder)
    stage.switch(plan.cells["all/Side"].edits)
    alone = CellStage(open_scene(file), plan.model, folder)
    alone.switch(())
    for frame in (1, 2, 3):
        a = Snapshotter(stage).take("/World/Cameras/Side", frame)
        b = Snapshotter(alone).take("/World/Cameras/Side", frame)
        assert [i.path for i in a.items] == [i.path for i in b.items]
        for i, j in zip(a.items, b.items, strict=True):
            assert np.array_equal(i.to_world, j.to_world)
            assert np.array_equal(i.geometry.points, j.geometry.points)
            assert (i.matte, i.materials) == (j.matte, j.materials)
        assert a.materials == b.materials
        assert [(x.path, x.radiance, x.texture) for x in a.lights] == [
            (x.path, x.radiance, x.texture) for x in b.lights
        ]
        assert np.array_equal(a.camera.to_world, b.camera.to_world)
    layer = Sdf.Layer.FindOrOpen(str(file))
    assert list(layer.subLayerPaths) == ["../room.usda"]
    exported = Usd.Stage.Open(layer)
    product = exported.GetPrimAtPath("/Render/Lattice_all_Side/exr_beauty")
    assert product.GetRelationship("orderedVars").GetTargets()[1].name == "pass_depth"
    assert "all-Side.0002.exr" in product.GetAttribute("productName").Get(2)
    with pytest.raises(lattice.OutputError, match="exists already"):
        plan.export("all/Side", file)
