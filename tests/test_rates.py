"""Scenes of other frame rates, units, axes and alphabets than the demo's."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom, UsdLux

import grandlattice as lattice
from bench import to_world
from grandlattice.plan import CellMaker, build_lattice, parse, validate
from grandlattice.stage import CellStage, Snapshotter, export_cell, open_scene
from harbour import BEACON, CRANE, FIRST, LAMP, LAST, PLAN, harbour_plan, harbour_scene

RATES = [24, 25, 30000 / 1001, 30, 48, 60]


class Laid:
    """Edits laid over the harbour, and the same exported and opened again."""

    def __init__(self, folder: Path, rate: float, *edits: str) -> None:
        self.scene = open_scene(harbour_scene(folder, rate))
        lines = "\n".join(f"        - {edit}" for edit in edits)
        text = PLAN.replace("    früh:\n", f"    früh:\n      edits:\n{lines}\n").replace(
            "frames: 1001", "frames: scene"
        )
        document = parse(text)
        model, facts = validate(document), self.scene.facts()
        self.cell = CellMaker(build_lattice(model, document, facts), facts)(0)
        self.traced = CellStage(self.scene, model, folder)
        self.traced.switch(self.cell.edits)
        exported = export_cell(self.scene, model, folder, self.cell, [], folder / "cell.usda")
        self.stages = [self.traced.stage, Usd.Stage.Open(str(exported))]


@pytest.mark.parametrize("rate", RATES)
def test_every_edit_lands_at_the_time_it_is_of(tmp_path: Path, rate: float) -> None:
    plain = open_scene(harbour_scene(tmp_path / "plain", rate)).stage
    laid = Laid(
        tmp_path / "laid", rate,
        f"multiply: {{on: {LAMP}, intensity: 0.5}}",
        f"spin: {{on: {CRANE}}}",
        "move: {on: /Hafen/Kräne/Kran_2, x: 50 cm}",
        f"turn-to: {{on: {BEACON}, z: 30}}",
    )  # fmt: skip
    count = LAST - FIRST + 1
    for stage in laid.stages:
        assert stage.GetTimeCodesPerSecond() == pytest.approx(rate)
        lamp, was = (UsdLux.SphereLight(s.GetPrimAtPath(LAMP)).GetIntensityAttr() for s in (stage, plain))
        for frame in range(FIRST, LAST + 1):
            assert lamp.Get(frame) == pytest.approx(0.5 * was.Get(frame), rel=1e-6), frame
            # The spin goes on about Z, evenly, outside the turning that is there.
            before, now = to_world(plain, CRANE, frame), to_world(stage, CRANE, frame)
            angle = 360.0 * (frame - FIRST) / count
            spun = before.copy()
            turn = np.array(Gf.Matrix4d().SetRotate(Gf.Rotation(Gf.Vec3d.ZAxis(), angle)))
            spun[:3, :3] = before[:3, :3] @ turn[:3, :3]
            np.testing.assert_allclose(now, spun, atol=1e-4)
            moved, stood = (to_world(s, "/Hafen/Kräne/Kran_2", frame)[3, :3] for s in (stage, plain))
            np.testing.assert_allclose(moved - stood, [50, 0, 0], atol=1e-4)
            np.testing.assert_allclose(
                to_world(stage, "/Hafen/Bojen/Boje_0/Körper", frame),
                to_world(plain, "/Hafen/Bojen/Boje_0/Körper", frame), atol=1e-6,
            )  # fmt: skip
        assert lamp.Get(FIRST + 20) == pytest.approx(200.0)


@pytest.mark.parametrize("rate", [25, 30])
def test_layers_of_ours_have_the_stages_rate_whatever_cell_comes_next(tmp_path: Path, rate: float) -> None:
    laid = Laid(tmp_path, rate, f"multiply: {{on: {LAMP}, intensity: 0.5}}")
    snapshots = Snapshotter(laid.traced)
    for _ in range(3):
        for edits in (laid.cell.edits, ()):
            laid.traced.switch(edits)
            factor = 0.5 if edits else 1.0
            for frame, value in ((FIRST, 100.0), (FIRST + 10, 250.0), (FIRST + 20, 400.0)):
                taken = snapshots.take("/Hafen/Kameras/Weit", frame)
                (light,) = [light for light in taken.lights if light.path == LAMP]
                assert light.radiance[0] == pytest.approx(factor * value, rel=1e-5)
    for layer in laid.traced.stage.GetLayerStack(includeSessionLayers=False):
        if layer.anonymous:
            assert layer.timeCodesPerSecond == rate


def test_the_harbour_goes_the_whole_way(tmp_path: Path, glat) -> None:
    """From a survey to pictures, in an alphabet of its own."""
    plan_file = harbour_plan(tmp_path)
    assert glat(tmp_path, "survey", "häfen.usda")[0] == 0
    code, said = glat(tmp_path, "check")
    assert code == 0, said
    assert "häfen" not in said or "error" not in said
    plan = lattice.open_plan(plan_file)
    run = plan.override(frames="1001,1025").run(workers=0)
    assert run.ok, run.failures
    assert len(run.table()) == 16
    early, late = (run.picture("früh/Weit", frame)[..., :3].mean() for frame in (1001, 1025))
    assert early > 0
    assert abs(early - late) > 1e-3
    assert glat(tmp_path, "explain", "spät/Nah_é")[0] == 0
    framed = tmp_path / "begun.lattice.yaml"
    lattice.begin(tmp_path / "häfen.usda", framed)
    assert len(lattice.open_plan(framed).cells) > 0


def test_a_proposed_camera_stands_in_the_scenes_own_space(tmp_path: Path) -> None:
    stage = Usd.Stage.Open(str(harbour_scene(tmp_path)))
    stage.RemovePrim("/Hafen/Kameras")
    stage.GetRootLayer().Save()
    lattice.begin(tmp_path / "häfen.usda")
    (framing,) = tmp_path.glob("*.framing.usda")
    layer = Usd.Stage.Open(str(framing))
    assert layer.GetTimeCodesPerSecond() == 25
    assert UsdGeom.GetStageUpAxis(layer) == "Z"
    assert UsdGeom.GetStageMetersPerUnit(layer) == pytest.approx(0.01)
