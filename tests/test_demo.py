"""The real command line, on the demo and on a scene of one's own, as a newcomer would use it."""

from __future__ import annotations

import hashlib
import json
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from pxr import Usd, UsdGeom

import grandlattice as lattice
from grandlattice.demo.orrery_mechanism import PLANETS
from shapes import room_scene


def digests(folder: Path) -> dict[str, str]:
    return {
        str(p.relative_to(folder)): hashlib.sha256(p.read_bytes()).hexdigest()
        for p in sorted(folder.rglob("*"))
        if p.is_file()
    }


def test_the_demo_scene_is_what_it_says(demo: Path) -> None:
    found = lattice.survey(demo.parent / "orrery.usda")
    assert 60_000 <= found.triangles <= 200_000
    assert [c.path.rsplit("/", 1)[1] for c in found.cameras] == ["Wide", "Dial", "Portrait", "Above"]
    assert {light.kind for light in found.lights} == {"dome", "distant", "sphere", "rect"}
    assert set(found.variants["/Room/Orrery"]["finish"]) == {"brass", "verdigris", "porcelain"}
    assert set(found.variants["/Room"]["dressing"]) == {"bare", "reading-table"}
    assert found.frames == (1, 96)
    assert not found.problems
    assert not found.omitted
    assert not found.unknown_materials
    assert all(asset.found for asset in found.assets)


def test_gears_turn_at_the_true_periods_of_the_planets(demo: Path) -> None:
    # Sidereal periods in years; the teeth come within 0.2 % of each.
    periods = {"Mercury": 0.24085, "Venus": 0.61520, "Earth": 1.0, "Mars": 1.88085,
               "Jupiter": 11.862, "Saturn": 29.457, "Uranus": 84.02, "Neptune": 164.79}  # fmt: skip
    stage = Usd.Stage.Open(str(demo.parent / "orrery.usda"))
    for planet in PLANETS:
        arm = UsdGeom.Xformable(stage.GetPrimAtPath(f"/Room/Orrery/Works/{planet.name}Arm"))
        (turn,) = arm.GetOrderedXformOps()
        turned = (turn.Get(97) - turn.Get(1)) / 360
        assert 1 / turned == pytest.approx(periods[planet.name], rel=2e-3)
        pinion = stage.GetPrimAtPath(f"/Room/Orrery/Works/{planet.name}Pinion")
        turn = UsdGeom.Xformable(pinion).GetOrderedXformOps()[1]
        assert (turn.Get(97) - turn.Get(1)) / 360 == pytest.approx(float(-planet.shaft), rel=1e-5)
        assert planet.turns_a_year == planet.shaft * Fraction(planet.pinion, planet.wheel)


@pytest.mark.long
def test_the_demo_from_first_look_to_sheet(demo: Path, tmp_path: Path, glat) -> None:
    folder = demo.parent
    before = digests(folder)
    code, said = glat(folder, "survey", "orrery.usda")
    assert code == 0
    assert "/Room/Cameras/Wide" in said
    assert "reading-table" in said
    code, said = glat(folder, "cells")
    assert code == 0
    assert "27 cells" in said
    assert "noon/brass/all/Wide" in said
    assert glat(folder, "cells", "--count")[1].strip() == "27"
    rows = json.loads(glat(folder, "cells", "--at", "moon///Dial", "--json")[1])
    assert [row["address"] for row in rows] == ["moon/brass/all/Dial", "moon/verdigris/all/Dial"]
    code, said = glat(folder, "check", "--into", str(tmp_path))
    assert code == 0, said
    assert "nothing stands in the way" in said
    small = [
        "--at",
        "camera=Wide,Portrait",
        "--set",
        "scale=4%",
        "--set",
        "samples=2",
        "--into",
        str(tmp_path),
    ]
    code, said = glat(folder, "run", *small, "--workers", "2", timeout=280)
    assert code == 0, said
    assert "20 frames" in said or "frames in" in said
    code, said = glat(folder, "run", *small)
    assert code == 0
    assert "everything is done already" in said
    code, said = glat(folder, "review", "--into", str(tmp_path))
    assert code == 0, said
    with Image.open(tmp_path / "orrery-sheet.png") as sheet:
        assert sheet.size == (1280, 800)
        assert np.asarray(sheet).std() > 10
    assert before == digests(folder)  # neither the scene nor anything beside it was touched


def test_the_pictures_of_the_demo_hold_what_the_plan_says(demo: Path, tmp_path: Path) -> None:
    plan = lattice.open_plan(demo).override(scale="6%", samples="4")
    run = plan.run(
        at=["noon/brass//Portrait", "noon/clay/all/Portrait", "moon/brass/all/Portrait"],
        workers=0,
        into=tmp_path,
    )
    whole, alone = run.picture("noon/brass/all/Portrait"), run.picture("noon/brass/instrument/Portrait")
    assert whole[..., 3].min() > 0.99
    assert 0.1 < alone[..., 3].mean() < 0.7  # the room is held out
    depth = run.picture("noon/brass/instrument/Portrait", pass_name="depth")
    assert np.isinf(depth[0, 0])
    assert np.isfinite(run.picture("noon/brass/all/Portrait", pass_name="depth")).all()
    albedo = {f: run.picture(f"noon/{f}/all/Portrait", pass_name="albedo") for f in ("brass", "clay")}
    instrument = alone[..., 3] > 0.99
    warmth = {f: (a[instrument][:, 0] / a[instrument][:, 2].clip(1e-3)).mean() for f, a in albedo.items()}
    assert warmth["brass"] > 1.5 * warmth["clay"]
    assert run.picture("moon/brass/all/Portrait")[..., :3].mean() < 0.3 * whole[..., :3].mean()
    occlusion = run.picture("noon/brass/all/Portrait", pass_name="occlusion")
    assert 0.2 < occlusion.mean() < 0.95


@pytest.mark.parametrize("ending", [".usda", ".usdc", ".usd"])
def test_begin_writes_a_plan_that_runs_for_a_scene_of_ones_own(tmp_path: Path, glat, ending: str) -> None:
    room_scene(tmp_path / f"mine{ending}")
    code, said = glat(tmp_path, "begin", f"mine{ending}")
    assert code == 0, said
    assert "glat cells" in said
    assert glat(tmp_path, "begin", f"mine{ending}")[0] == 2  # never overwrites
    plan = lattice.open_plan(tmp_path / "mine.lattice.yaml")
    assert not [f for f in plan.check() if f.gravity == "error"]
    assert len(plan.cells) == 4 * 2 * 2
    assert plan.override(scale="5%", samples=1).run(at=["asis/small/Front"], workers=0).ok


@pytest.mark.parametrize(
    ("arguments", "code", "says"),
    [
        (["survey", "nothing.usda"], 1, "There is no scene at nothing.usda"),
        (["survey", "notes.txt"], 1, "is no USD scene"),
        (["cells", "absent.lattice.yaml"], 2, "There is no plan at"),
        (["cells", "notes.txt"], 2, "should be keys with values"),
        (["cells", "--at", "day/Frnt"], 2, "Did you mean Front?"),
        (["cells", "--set", "sampels=3"], 2, "Did you mean samples?"),
        (["run", "--set", "samples=lots"], 2, "should be a whole number"),
        (["run", "--frames", "9-1"], 2, "end before they begin"),
        (["check", "--set", "camera=/World/Cameras/Frnt"], 1, "Did you mean /World/Cameras/Front?"),
        (["run", "--set", "display=nowhere"], 1, "There is no display nowhere"),
        (["run", "--into", "notes.txt"], 1, "notes.txt"),
        (["run", "--wrokers", "2"], 2, "No such option"),
        (["rnu"], 2, "No such command"),
        (["proof", "--workers", "two"], 2, "'--workers': a whole number is wanted."),
        (["run", "--workers", "-1"], 2, "'--workers': it may not be less than 0"),
        (["review"], 1, "There is no picture to show yet"),
    ],
)
def test_what_cannot_be_done_is_said_in_one_block(
    plan_file: Path, glat, arguments, code: int, says: str
) -> None:
    (plan_file.parent / "notes.txt").write_text("buy milk")
    got, said = glat(plan_file.parent, *arguments)
    assert says in said
    assert got == code
    assert "Traceback" not in said
    assert not (plan_file.parent / "out").exists()
