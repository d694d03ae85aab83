"""What is done with pictures that are there: finished again, graded, compared, chosen from, cleared away."""

from __future__ import annotations

import json
import math
import re
import shutil
from pathlib import Path

import numpy as np
import PyOpenColorIO as ocio
import pytest

import grandlattice as lattice
from conftest import PLAN
from grandlattice.images import compare_pictures, read_mark, to_display
from grandlattice.images.grading import cdl_of, transforms_of

OUT = "out/day/Front.0001"


@pytest.fixture
def made(plan_file: Path) -> Path:
    """Four cells, traced."""
    assert lattice.open_plan(plan_file).run(workers=0).ok
    return plan_file


def files_of(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*.*")) if p.is_file()}


def undated(data: bytes) -> bytes:
    """A file without the time at which it was written."""
    return re.sub(rb"\d{4}:\d\d:\d\d \d\d:\d\d:\d\d", b"", data)


def rays(run: lattice.Run) -> int:
    return sum(event.result.rays for event in run.finished)


# --- finishing ------------------------------------------------------------------------------------------

FINISHED = {
    "exposure": "exposure: 1.5", "display": "display: sRGB / Un-tone-mapped",
    "grade": "grade: {contrast: 1.4, temperature: 0.5}", "label": "label: true",
    "options": "files: {png: {depth: 16}}", "camera-exposure": "camera-exposure: false\n  exposure: 0.5",
}  # fmt: skip


@pytest.mark.parametrize("change", FINISHED)
def test_what_is_done_to_finished_pictures_needs_no_trace_and_gives_the_same_bytes(
    made: Path, tmp_path: Path, change: str
) -> None:
    before = files_of(made.parent / "out")
    made.write_text(PLAN.replace("defaults:\n", f"defaults:\n  {FINISHED[change]}\n"))
    run = lattice.open_plan(made).run(workers=0)
    assert (run.ok, run.finished_frames, rays(run)) == (True, 4, 0)
    assert sum(event.result.finished for event in run.finished) == 4
    after = files_of(made.parent / "out")
    for name, data in before.items():
        assert (after[name] == data) == name.endswith(".exr"), name
    # A trace of the same plan elsewhere: the same pixels, and the same words but for times.
    other = tmp_path / "traced"
    assert rays(lattice.open_plan(made).run(workers=0, into=other)) > 0
    for name in (name for name in after if name.endswith(".png")):
        found = lattice.compare_files(made.parent / "out" / name, other / "out" / name)
        if change != "label":  # it says how long the trace took
            assert found.share == 0.0, name
        for mark in ("fingerprint", "samples", "denoised", "cell"):
            assert read_mark(made.parent / "out" / name, mark) == read_mark(other / "out" / name, mark)
    assert lattice.open_plan(made).is_done()


NOISY = PLAN.replace("defaults:\n", "defaults:\n  keep-noisy: true\n  denoise: true\n").replace(
    "passes: [beauty, depth]", "passes: [beauty, depth, albedo, object-id, light.Key]"
)


@pytest.mark.parametrize("denoise", ["false", "40%"])
def test_denoising_changes_without_a_trace_where_the_noisy_picture_was_kept(
    plan_file: Path, tmp_path: Path, denoise: str, glat
) -> None:
    pytest.importorskip("pyoidn")
    plan_file.write_text(NOISY)
    assert lattice.open_plan(plan_file).run(workers=0).ok
    before = files_of(plan_file.parent / "out")
    plan_file.write_text(NOISY.replace("denoise: true", f"denoise: {denoise}"))
    run = lattice.open_plan(plan_file).run(workers=0)
    assert (run.ok, run.finished_frames, rays(run)) == (True, 4, 0)
    after = files_of(plan_file.parent / "out")
    assert all(after[name] != data for name, data in before.items())
    said = glat(plan_file.parent, "where", "day/Front")[1]
    assert ("denoised by 40%" in said, "denoised" in said) == (denoise == "40%",) * 2
    other = tmp_path / "traced"
    assert rays(lattice.open_plan(plan_file).run(workers=0, into=other)) > 0
    for name in after:
        ours, theirs = plan_file.parent / "out" / name, other / "out" / name
        for each in ["beauty", "light.Key", "depth", "object-id"] if name.endswith(".exr") else [None]:
            assert lattice.compare_files(ours, theirs, pass_name=each).share == 0.0, (name, each)
        for mark in ("fingerprint", "denoised", "as traced", "light sources", "samples", "noise"):
            assert read_mark(ours, mark) == read_mark(theirs, mark), (name, mark)
    # And back again: the very bytes that were there, but for when they were written.
    plan_file.write_text(NOISY)
    assert rays(lattice.open_plan(plan_file).run(workers=0)) == 0
    assert {n: undated(d) for n, d in files_of(plan_file.parent / "out").items()} == {
        n: undated(d) for n, d in before.items()
    }


@pytest.mark.long
@pytest.mark.parametrize("apart", ["pass", "eye"])
def test_the_noisy_picture_may_be_in_a_file_for_each_pass_or_eye(
    plan_file: Path, tmp_path: Path, apart: str
) -> None:
    pytest.importorskip("pyoidn")
    text = NOISY.replace('"out/{light}', f'"out/{{{apart}}}/{{light}}')
    if apart == "eye":
        text = text.replace("size: 48x32", "size: 48x48\n  projection: stereo-panorama")
    plan_file.write_text(text)
    assert lattice.open_plan(plan_file).run(workers=0).ok
    before = files_of(plan_file.parent / "out")
    plan_file.write_text(text.replace("denoise: true", "denoise: 40%"))
    run = lattice.open_plan(plan_file).run(workers=0)
    assert (run.ok, run.finished_frames, rays(run)) == (True, 4, 0)
    after = files_of(plan_file.parent / "out")
    light = {name for name in before if "depth" not in name and "albedo" not in name and "-id" not in name}
    assert {name for name in before if undated(after[name]) != undated(before[name])} == light
    other = tmp_path / "traced"
    assert rays(lattice.open_plan(plan_file).run(workers=0, into=other)) > 0
    for name in light:
        ours, theirs = plan_file.parent / "out" / name, other / "out" / name
        assert lattice.compare_files(ours, theirs).share == 0.0, name
        for mark in ("fingerprint", "denoised", "as traced", "light sources"):
            assert read_mark(ours, mark) == read_mark(theirs, mark), (name, mark)
    # A share of a lamp that was not kept has to be traced.
    added = text.replace("denoise: true", "denoise: 10%").replace("light.Key]", "light.Key, light.Sky]")
    plan_file.write_text(added)
    assert rays(lattice.open_plan(plan_file).run(workers=0)) > 0


def test_what_was_not_kept_noisy_is_traced(plan_file: Path) -> None:
    pytest.importorskip("pyoidn")
    plan_file.write_text(PLAN.replace("defaults:\n", "defaults:\n  denoise: true\n"))
    assert lattice.open_plan(plan_file).run(workers=0).ok
    plan_file.write_text(PLAN)
    assert rays(lattice.open_plan(plan_file).run(workers=0)) > 0
    plan_file.write_text(NOISY)
    assert rays(lattice.open_plan(plan_file).run(workers=0)) > 0
    exr = plan_file.parent / f"{OUT}.exr"
    whole = exr.read_bytes()
    exr.write_bytes(whole[: len(whole) // 2])
    plan_file.write_text(NOISY.replace("denoise: true", "denoise: 10%"))
    run = lattice.open_plan(plan_file).run(workers=0)
    assert run.ok
    assert sum(event.result.finished for event in run.finished) == 3


@pytest.mark.long
def test_what_cannot_be_finished_is_traced(made: Path, glat) -> None:
    out = made.parent / "out"
    whole = files_of(out)
    (out / "day/Front.0001.png").unlink()  # its EXR stands
    (out / "night/Side.0001.exr").unlink()  # light itself is gone
    exr = out / "night/Front.0001.exr"
    exr.write_bytes(exr.read_bytes()[:-200])  # damaged
    code, said = glat(made.parent, "run", "--workers", "1")
    assert code == 0, said
    assert "1 finished from their OpenEXR files" in said
    assert {name: len(data) for name, data in files_of(out).items()}.keys() == whole.keys()
    for name in whole:
        assert lattice.compare_files(out / name, out / name).share == 0.0  # all can be read
    # A fresh run and one that is to be taken further trace what they are asked for.
    (out / "day/Front.0001.png").unlink()
    assert rays(lattice.open_plan(made).run(workers=0, fresh=True, at="day/Front")) > 0


# --- grades ---------------------------------------------------------------------------------------------


@pytest.mark.long
def test_a_grade_is_said_shown_kept_and_taken_back(made: Path, glat) -> None:
    whole = files_of(made.parent / "out")
    code, said = glat(made.parent, "grade", "exposure=0.5", "tint=-0.2", "--at", "light=day", "--dry")
    assert code == 0
    assert "+    grade: {exposure: 0.5, tint: -0.2}" in said
    assert made.read_text() == PLAN
    code, said = glat(made.parent, "grade", "exposure=0.5", "tint=-0.2", "--at", "light=day")
    assert code == 0, said
    assert "2 pictures written from OpenEXR files" in said
    assert "nothing traced" in said
    graded = files_of(made.parent / "out")
    changed = {name for name in whole if whole[name] != graded[name]}
    assert changed == {"day/Front.0001.png", "day/Side.0001.png"}
    assert read_mark(made.parent / f"{OUT}.png", "grade") == "exposure 0.5, tint -0.2"
    # More of it joins what is said, by rule and by value; comments and the rest of the plan stay.
    assert glat(made.parent, "grade", "exposure=1", "--at", "light=day")[0] == 0
    assert "grade: {exposure: 1, tint: -0.2}" in made.read_text()
    assert [line for line in made.read_text().splitlines() if line in PLAN.splitlines()] == PLAN.splitlines()
    settings = lattice.open_plan(made).cells["day/Front"].settings
    assert settings.graded == {"exposure": 1.0, "tint": -0.2}
    code, said = glat(made.parent, "grade", "off", "--at", "light=day")
    assert code == 0, said
    assert files_of(made.parent / "out") == whole
    assert not lattice.open_plan(made).outlook().todo


@pytest.mark.long
def test_a_grade_beside_the_pictures_leaves_the_plan_alone(made: Path, glat) -> None:
    folder, whole = made.parent, files_of(made.parent / "out")
    made.chmod(0o444)
    assert glat(folder, "run")[0] == 0  # remembered as done
    code, said = glat(folder, "grade", "exposure=0.5", "--at", "light=day", "--beside")
    assert code == 0, said
    assert "wrote  room.grades.yaml" in said
    assert made.read_text() == PLAN
    graded = files_of(folder / "out")
    assert {n for n in whole if whole[n] != graded[n]} == {"day/Front.0001.png", "day/Side.0001.png"}
    plan = lattice.open_plan(made)
    assert plan.cells["day/Front"].settings.graded == {"exposure": 0.5}
    assert not plan.outlook().todo
    assert "room.grades.yaml:4" in glat(folder, "explain", "day/Front")[1]
    # In another output folder there are other grades, and none of these.
    elsewhere = folder / "elsewhere"
    assert plan.run(at="day/Front", workers=0, into=elsewhere).ok
    assert not read_mark(elsewhere / f"{OUT}.png", "grade")
    code, said = glat(folder, "grade", "tint=1", "--at", "day/Front", "--beside", "--into", "elsewhere")
    assert code == 0, said
    assert (elsewhere / "room.grades.yaml").is_file()
    assert read_mark(elsewhere / f"{OUT}.png", "grade") == "tint 1"
    assert read_mark(folder / f"{OUT}.png", "grade") == "exposure 0.5"
    # It comes along in a pack, and goes with the entry it speaks of.
    plan.pack(folder / "packed")
    unpacked = lattice.open_plan(next((folder / "packed").rglob(made.name)))
    assert unpacked.cells["day/Front"].settings.graded == {"exposure": 0.5}
    plan.adopt(light="night")
    assert plan.cells["night/Front"].settings.graded == {}
    # Without its file the plan counts again; what a run said of it before does not.
    (folder / "room.grades.yaml").unlink()
    assert glat(folder, "run")[0] == 0
    assert files_of(folder / "out") == whole


@pytest.mark.parametrize(("text", "said"), [
    ("rules:\n  - at: {light: day}\n    samples: 4\n", "alone, not samples"),
    ("axes: {}\nrules: []\n", "alone, not axes"),
    ("rules: none\n", "A file of grades has rules"),
    ("rules: [a]\n", "A file of grades has rules"),
    ("rules:\n  - at: {light: dusk}\n    grade: {tint: 1}\n", "light has no entry dusk"),
    ("rules:\n  - at: {light: day}\n    grade: {tint: 99}\n", "tint should be at most"),
])  # fmt: skip
def test_grades_beside_the_pictures_that_cannot_be_are_refused_where_they_stand(
    plan_file: Path, glat, text: str, said: str
) -> None:
    beside = plan_file.with_name("room.grades.yaml")
    beside.write_text(text)
    code, answer = glat(plan_file.parent, "cells")
    assert code == 2
    assert said in answer
    assert "room.grades.yaml:" in answer
    beside.write_text("")
    assert glat(plan_file.parent, "cells")[0] == 0
    # One that an editor changed meanwhile is not written over.
    beside.write_text("rules: []\n")
    plan = lattice.open_plan(plan_file).grade(at="light=day", beside=True, exposure=1)
    beside.write_text("rules: []\n# mine\n")
    with pytest.raises(lattice.PlanError, match="changed since"):
        plan.save()
    assert beside.read_text() == "rules: []\n# mine\n"


def test_a_grade_without_light_to_write_from_is_refused_with_the_cure(plan_file: Path, glat) -> None:
    plan_file.write_text(PLAN.replace("[exr, png]", "png").replace("[beauty, depth]", "beauty"))
    assert lattice.open_plan(plan_file).run(workers=0).ok
    before = files_of(plan_file.parent)
    code, said = glat(plan_file.parent, "grade", "exposure=1")
    assert code == 1
    assert "add exr to its format" in said
    after = files_of(plan_file.parent)
    assert plan_file.read_text() == PLAN.replace("[exr, png]", "png").replace("[beauty, depth]", "beauty")
    assert {n: d for n, d in after.items() if n.endswith(".png")} == {
        n: d for n, d in before.items() if n.endswith(".png")
    }
    # Where the file is to come, not the format is what is missing.
    plan_file.write_text(PLAN)
    code, said = glat(plan_file.parent, "grade", "exposure=1", "--into", "other")
    assert (code, plan_file.read_text()) == (1, PLAN)
    assert "glat run traces it" in said
    assert "add exr" not in said


@pytest.mark.parametrize("words", [
    ("exposure=99",), ("exposre=1",), ("exposure",), ("exposure=abc",), ("exposure=nan",), ("off", "tint=1"),
    ("exposure=1", "--at", "light=dusk"),
])  # fmt: skip
def test_wrong_grades_are_said_in_words_and_change_nothing(plan_file: Path, glat, words) -> None:
    code, said = glat(plan_file.parent, "grade", *words)
    assert code == 2, said
    assert "did not foresee" not in said
    assert plan_file.read_text() == PLAN


def test_grades_by_hand_calculation() -> None:
    """Against the formulas of the operations, and against OpenColorIO's own ASC CDL."""
    light = np.array([[0.02, 0.1, 0.18], [0.5, 0.4, 0.3], [2.0, 1.0, 4.0]], np.float32)
    raw = ocio.Config.CreateRaw()

    def done(transforms: list[ocio.Transform]) -> np.ndarray:
        shown = light.copy().reshape(1, -1, 3)
        raw.getProcessor(ocio.GroupTransform(transforms)).getDefaultCPUProcessor().applyRGB(shown)
        return shown.reshape(-1, 3)

    np.testing.assert_allclose(done(transforms_of({"exposure": 1.0})), light * 2.0, rtol=1e-5)
    np.testing.assert_allclose(
        done(transforms_of({"contrast": 1.5})), 0.18 * (light / 0.18) ** 1.5, rtol=1e-4
    )
    warm = done(transforms_of({"temperature": 1.0})) / light
    np.testing.assert_allclose(warm, np.tile((2.0**0.5, 1.0, 2.0**-0.5), (3, 1)), rtol=1e-4)
    tinted = done(transforms_of({"tint": 0.9})) / light
    np.testing.assert_allclose(np.log2(tinted), np.tile((0.3, -0.6, 0.3), (3, 1)), atol=1e-4)
    grey = done(transforms_of({"saturation": 0.0}))
    np.testing.assert_allclose(grey, np.repeat(light @ [[0.2126], [0.7152], [0.0722]], 3, 1), rtol=1e-3)
    whole = {"exposure": 0.7, "contrast": 1.3, "temperature": 0.4, "tint": -0.3, "saturation": 0.6}
    slope, power, saturation = cdl_of(whole)
    cdl = ocio.CDLTransform()
    cdl.setStyle(ocio.CDL_NO_CLAMP)
    cdl.setSlope(list(slope))
    cdl.setPower(list(power))
    cdl.setSat(saturation)
    np.testing.assert_allclose(done(transforms_of(whole)), done([cdl]), rtol=2e-3)
    # Tones move what they name, the right way, and leave the far end alone.
    steps = np.repeat(np.array([0.01, 0.18, 4.0], np.float32), 3).reshape(1, 3, 3)
    shown = {name: to_display(np.dstack([steps, np.ones((1, 3, 1), np.float32)]), None, 0.0, {name: 0.8})
             for name in ("shadows", "highlights", "exposure")}  # fmt: skip
    plain = to_display(np.dstack([steps, np.ones((1, 3, 1), np.float32)]))
    assert shown["shadows"][0, 0, 0] > plain[0, 0, 0] + 0.02
    assert shown["shadows"][0, 2, 0] == pytest.approx(plain[0, 2, 0], abs=0.005)
    assert shown["highlights"][0, 2, 0] > plain[0, 2, 0] + 0.02
    assert shown["highlights"][0, 0, 0] == pytest.approx(plain[0, 0, 0], abs=0.005)


@pytest.mark.long
def test_grades_leave_as_an_asc_cdl_and_say_what_is_left_out(made: Path, glat) -> None:
    assert glat(made.parent, "grade", "exposure=1", "shadows=0.3", "--at", "day/Front")[0] == 0
    assert "at: {light: day, camera: Front}" in made.read_text()
    assert glat(made.parent, "grade", "tint=1", "--at", "night/", "--dry")[1].count("at: {light: night}") == 1
    assert glat(made.parent, "grade", "--cdl", "no/such/grades.ccc")[0] == 1
    code, said = glat(made.parent, "grade", "--cdl", "grades.ccc", "nothing.lattice.yaml")
    assert code == 2  # there is no such plan
    code, said = glat(made.parent, "grade", "room.lattice.yaml", "--cdl", "grades.ccc")
    assert code == 0, said
    assert "without shadows" in said
    found = ocio.CDLTransform.CreateFromFile(str(made.parent / "grades.ccc"), "day/Front")
    assert found.getSlope() == pytest.approx([2.0, 2.0, 2.0])


# --- comparing --------------------------------------------------------------------------------------------


def test_comparisons_by_hand_calculation() -> None:
    flat = np.full((20, 30, 3), 0.5, np.float32)
    other = flat.copy()
    other[3, 7, 1] += 0.25
    found = compare_pictures(flat, other, displayed=True)
    mse = 0.25**2 / (20 * 30 * 3)
    assert found.mse == pytest.approx(mse)
    assert found.psnr == pytest.approx(10 * math.log10(1 / mse))
    assert found.relative == pytest.approx(math.sqrt(mse) / 0.5)
    assert (found.largest, found.at) == (0.25, (7, 3))
    assert found.share == pytest.approx(1 / 600)
    assert found.ssim < 1.0
    # Structural similarity of two flat pictures is that of their luminance alone (Wang et al., 2004).
    darker = compare_pictures(flat, flat * np.float32(0.5), displayed=True)
    c1 = 0.01**2
    assert darker.ssim == pytest.approx((2 * 0.5 * 0.25 + c1) / (0.5**2 + 0.25**2 + c1), rel=1e-6)
    same = compare_pictures(flat, flat)
    assert (same.mse, same.psnr, same.ssim, same.share) == (0.0, math.inf, pytest.approx(1.0), 0.0)
    # A depth of nothing is the same as another, and never counts as a difference of light.
    deep, near = (np.full((20, 30, 1), value, np.float32) for value in (np.inf, np.inf))
    near[0, 0] = 3.0
    assert compare_pictures(deep, deep).share == 0.0
    assert compare_pictures(deep, near).share == pytest.approx(1 / 600)
    with pytest.raises(lattice.ImageError, match="30x20 with 3 channels and 10x20"):
        compare_pictures(flat, flat[:, :10])


def test_cells_and_files_are_compared(made: Path, glat) -> None:
    code, said = glat(made.parent, "compare", "day/Front", "night/Front", "--picture", "apart.png", "--json")
    assert code == 0, said
    told = json.loads(said)
    plan = lattice.open_plan(made)
    assert told["mse"] == pytest.approx(plan.compare("day/Front", "night/Front").mse)
    assert (made.parent / "apart.png").stat().st_size > 500
    code, said = glat(made.parent, "compare", "day/Front", "night/Front")
    assert code == 0
    assert "/World/Lights/Key" in said  # what differs in the plan
    assert glat(made.parent, "compare", "day/Front", "night/Front", "--within", "0.01")[0] == 1
    assert (
        glat(made.parent, "compare", "day/Front", "night/Front", "--pass", "depth", "--within", "0")[0] == 0
    )
    exr, png = f"{OUT}.exr", f"{OUT}.png"
    assert glat(made.parent, "compare", exr, exr)[1].startswith("the two are equal")
    shutil.copy(made.parent / exr, made.parent / "cut.exr")
    (made.parent / "cut.exr").write_bytes((made.parent / exr).read_bytes()[:700])
    (made.parent / "words.png").write_text("no picture")
    for first, second, says in (
        (exr, png, "scene-linear"), (exr, "cut.exr", "cut.exr"), (exr, "gone.exr", "no file gone.exr"),
        (png, "words.png", "no picture"), ("day/Front", "dusk/Front", "dusk"), ("day/Front", "Front", "Front"),
    ):  # fmt: skip
        code, said = glat(made.parent, "compare", first, second)
        assert code in (1, 2), (first, second)
        assert says in said, said
        assert "did not foresee" not in said
    code, said = glat(made.parent, "compare", "day/Front", "night/Front", "--pass", "dpth")
    assert (code, "depth" in said) == (1, True)


def test_where_a_cell_is(made: Path, glat) -> None:
    code, said = glat(made.parent, "where", "day/Front")
    assert code == 0, said
    assert f"{OUT}.exr" in said
    assert "room.usda" in said  # what it was made from
    night = glat(made.parent, "where", "night/Front")[1]
    assert "hide: {on: /World/Lights/Sky} (light=night)" in night  # as a plan writes it
    plan = lattice.open_plan(made)
    exr, png = plan.where("day/Front")
    assert (exr.is_there, exr.samples, exr.width, exr.height, exr.run) == (True, 4, 48, 32, 1)
    assert exr.passes == ("beauty", "depth")
    png.path.unlink()
    assert [facts.is_there for facts in plan.where("day/Front")] == [True, False]
    assert "not there" in glat(made.parent, "where", "day/Front")[1]
    for words in (("dusk/Front",), (), ("day/Front", "day/Side"), ("day/Front", "--frame", "7"),
                  ("day/Front", "--open", "moon")):  # fmt: skip
        code, said = glat(made.parent, "where", *words)
        assert code == 2, said
        assert "did not foresee" not in said


# --- chosen, asked for again, cleared away ----------------------------------------------------------------


SKIES = PLAN.replace("  light:\n", "  sky:\n    sweep: {from: 0, to: 90, step: 30}    # four of them\n    edits:\n"
    '      - turn-to: {on: /World/Lights/Key, y: "{sky}"}\n    with:\n      "30": {samples: 5}\n  light:\n'
).replace("out/{light}", "out/{sky}-{light}") + (
    "rules:\n  - drop: {sky: '00', light: night}\n  - at: {sky: ['30', '60'], camera: Side}\n"
    "    exposure: 1    # the side is dark\norder: [light, sky, camera]\n"
)  # fmt: skip


@pytest.mark.parametrize(
    ("axis", "entry"), [("sky", "30"), ("sky", "90"), ("light", "night"), ("camera", "Side")]
)
def test_an_adopted_entry_keeps_addresses_names_and_what_is_done(
    plan_file: Path, axis: str, entry: str
) -> None:
    plan_file.write_text(SKIES)
    assert lattice.open_plan(plan_file).run(workers=0).ok
    before = lattice.open_plan(plan_file)
    kept = {cell.address: before.files(cell) for cell in before.cells.at(f"{axis}={entry}")}
    plan = lattice.open_plan(plan_file)
    plan.adopt(**{axis: entry})
    assert "+" in plan.difference() or "-" in plan.difference()
    plan.save()
    after = lattice.open_plan(plan_file)
    assert {cell.address: after.files(cell) for cell in after.cells} == kept
    assert [o.name for table in after.lattice.axes if table.name == axis for o in table.options] == [entry]
    assert not after.outlook().todo  # nothing of it has to be rendered again
    if axis != "sky":
        assert "# four of them" in plan_file.read_text()
    if (axis, entry) == ("sky", "30"):
        assert "exposure: 1    # the side is dark" in plan_file.read_text()
        assert after.cells["30/day/Front"].settings.samples == 5


def test_what_rules_and_sets_say_of_other_entries_goes_with_them(plan_file: Path) -> None:
    plan_file.write_text(
        SKIES.replace("rules:\n", "rules:\n  - keep: [{sky: '0'}, {sky: '30', light: '*'}, {sky: 60}]\n")
        + ("sets:\n  low: [{sky: [0, 30]}, {sky: '90'}]\n  high: [{sky: '90'}]\n  day: [{light: day}]\n")
    )
    plan = lattice.open_plan(plan_file).adopt(sky="30")
    assert [cell.address for cell in plan.cells] == [
        "30/day/Front",
        "30/day/Side",
        "30/night/Front",
        "30/night/Side",
    ]
    plan.save()
    after = lattice.open_plan(plan_file)
    assert set(after.lattice.sets) == {"low", "day"}
    assert len(after.cells.at(sets=["low"])) == 4
    assert after.cells["30/day/Side"].settings.exposure == 1.0
    # What the rules leave out cannot be chosen: the matrix would become another one.
    with pytest.raises(lattice.NoSuchCell):
        lattice.open_plan(plan_file.parent / "room.lattice.yaml").override().adopt(sky="90")


def test_a_choice_of_what_is_not_there_or_of_a_plan_that_changed_is_refused(plan_file: Path, glat) -> None:
    for words, says in ((("sky=040",), "no axis sky"), (("light=dusk",), "no entry dusk"),
                        (("light",), "names no entry"), (("light=*",), "2 entries"), ((), "Missing")):  # fmt: skip
        code, said = glat(plan_file.parent, "adopt", *words, "--yes")
        assert code == 2, said
        assert says in said
        assert plan_file.read_text() == PLAN
    plan = lattice.open_plan(plan_file).adopt(light="day")
    plan_file.write_text(PLAN + "# written by an editor meanwhile\n")
    with pytest.raises(lattice.PlanError, match="was changed since it was read"):
        plan.save()
    assert plan_file.read_text().endswith("meanwhile\n")


def test_a_choice_leaves_as_a_layer_over_the_scene(plan_file: Path, glat) -> None:
    from pxr import Usd, UsdGeom, UsdLux

    code, said = glat(plan_file.parent, "adopt", "light=night", "--layer", "night.usda")
    assert code == 0, said
    assert plan_file.read_text() == PLAN
    stage = Usd.Stage.Open(str(plan_file.parent / "night.usda"))
    before = Usd.Stage.Open(str(plan_file.parent / "room.usda"))
    key = "/World/Lights/Key"
    intensity = [UsdLux.LightAPI(s.GetPrimAtPath(key)).GetIntensityAttr().Get() for s in (stage, before)]
    assert intensity[0] == pytest.approx(2.0 * intensity[1])
    sky = UsdGeom.Imageable(stage.GetPrimAtPath("/World/Lights/Sky"))
    assert sky.ComputeVisibility() == "invisible"
    assert not stage.GetPrimAtPath("/Render")
    assert glat(plan_file.parent, "adopt", "light=night", "--layer", "night.usda")[0] == 1  # it is there
    assert glat(plan_file.parent, "adopt", "light=night", "--layer", "room.usda")[0] == 1  # the scene itself


def test_a_cell_is_asked_for_again(made: Path, glat) -> None:
    code, said = glat(made.parent, "again", "day/Front", "samples=6", "size=24x16", "--yes")
    assert code == 0, said
    plan = lattice.open_plan(made)
    added = plan.cells[4]
    assert (added.settings.samples, str(added.settings.size)) == (6, "24x16")
    assert dict(added.coordinates) == {"light": "day", "camera": "Front"}
    assert len(plan.outlook().todo) == 1
    for words in (("day/Front",), ("samples=6",), ("day/Front", "sampels=6"), ("dusk/Front", "samples=6"),
                  ("day/Front", "samples=6", "size=24x16")):  # fmt: skip
        before = made.read_text()
        code, said = glat(made.parent, "again", *words, "--yes")
        assert code == 2, said
        assert "did not foresee" not in said
        assert made.read_text() == before


@pytest.mark.parametrize(
    ("sweep", "ends", "count", "named"),
    [
        ("{from: 0, to: 350, step: 10}", "040,050", 1, ["045"]),
        ("{from: 0, to: 350, step: 10}", "40,50", 3, ["042.5", "045", "047.5"]),
        ("{from: 0.5, to: 2, step: 0.5}", "1.0,1.5", 1, ["1.25"]),
        ("{from: 20, to: -20, step: -10}", "10,-10", 1, []),  # it is there
        ("{from: -20, to: 20, count: 5}", "-20,-10", 1, ["-15"]),
        ('{from: "08:00", to: "12:00", step: 1h}', "0900,1000", 1, ["0930"]),
        ('{from: "08:00", to: "08:10", step: 1min}', "0801,0802", 1, ["080130"]),
        ("{from: 2026-06-01, to: 2026-06-29, step: 1w}", "2026-06-08,2026-06-15", 1, ["2026-06-12"]),
    ],
)
def test_steps_between_two_are_added_and_all_others_stay(
    plan_file: Path, glat, sweep: str, ends: str, count: int, named: list[str]
) -> None:
    plan_file.write_text(PLAN.replace("axes:\n", f"axes:\n  hour:\n    sweep: {sweep}   # kept\n"))
    before = [cell.address for cell in lattice.open_plan(plan_file).cells]
    order = list(dict.fromkeys(address.split("/")[0] for address in before))
    code, said = glat(plan_file.parent, "finer", f"hour={ends}", "--count", str(count), "--yes")
    assert code == 0, said
    assert "# kept" in plan_file.read_text()
    after = [cell.address for cell in lattice.open_plan(plan_file).cells]
    found = list(dict.fromkeys(address.split("/")[0] for address in after))
    assert [name for name in found if name in order] == order
    assert [name for name in found if name not in order] == named
    assert [address for address in after if address in before] == before
    places = [found.index(name) for name in named]
    first, second = (
        (found.index(o) for o in order if o in ends.split(","))
        if len(set(order) & set(ends.split(","))) == 2
        else (0, len(found))
    )
    assert all(first < place < second for place in places)
    for wrong in (
        "hour=1",
        "hour=1,2,3",
        "light=day,night",
        "hour=nine,ten",
        "sky=1,2",
        f"hour={ends.split(',')[0]},{ends.split(',')[0]}",
    ):
        text = plan_file.read_text()
        code, said = glat(plan_file.parent, "finer", wrong, "--yes")
        assert (code, plan_file.read_text()) == (2, text), (wrong, said)


def test_what_is_left_over_is_listed_and_goes_on_a_yes_and_nothing_else(made: Path, glat) -> None:
    out = made.parent / "out"
    (out / "night/notes.txt").write_text("mine")
    foreign = out / "night/Front.0002.png"
    shutil.copy(out / "day/Front.0001.png", foreign)  # a copy by hand, which no run made
    assert "nothing is left over" in glat(made.parent, "clean")[1]
    assert glat(made.parent, "adopt", "light=day", "--yes")[0] == 0
    whole = files_of(out)
    code, said = glat(made.parent, "clean")  # nobody answers
    assert "night/Front.0001.exr" in said
    assert files_of(out) == whole
    (out / "night/Side.0001.png").write_bytes(b"someone else's")
    code, said = glat(made.parent, "clean", "--yes")
    assert code == 0, said
    assert "removed 3 files" in said
    left = set(files_of(out))
    assert {"night/notes.txt", "night/Front.0002.png", "night/Side.0001.png"} <= left
    assert not {"night/Front.0001.exr", "night/Front.0001.png", "night/Side.0001.exr"} & left
    assert {name for name in whole if name.startswith("day")} <= left
    assert not lattice.open_plan(made).outlook().todo


# --- earlier pictures -------------------------------------------------------------------------------------


def test_earlier_pictures_are_kept_told_of_and_put_back(plan_file: Path, glat) -> None:
    def text(samples: int, exposure: float) -> str:
        return PLAN.replace("samples: 4", f"samples: {samples}\n  exposure: {exposure}") + (
            "run: {keep-earlier: 2}\n"
        )

    pixels = {}
    for samples, exposure in ((4, 0.0), (4, 1.0), (5, 1.0), (6, 1.0)):
        plan_file.write_text(text(samples, exposure))
        plan = lattice.open_plan(plan_file)
        assert plan.run(workers=0, at="day/Front").ok
        pixels[samples, exposure] = (plan_file.parent / f"{OUT}.png").read_bytes()
    history = plan.history("day/Front")
    # Of the PNG two earlier ones stay of three, of the EXR all two.
    assert [each.number for each in history] == [1, 2]
    assert [change for each in history for change in each.changes if change[0] == "samples"] == [
        ("samples", "5", "6"), ("samples", "4", "5"),
    ]  # fmt: skip
    kept = [next(k for k, present in each.files if k.suffix == ".png").read_bytes() for each in history]
    assert kept == [pixels[5, 1.0], pixels[4, 1.0]]
    code, said = glat(plan_file.parent, "history", "day/Front")
    assert code == 0
    assert "samples  5 → 6" in said
    code, said = glat(plan_file.parent, "history", "day/Front", "--back", "2")
    assert code == 0, said
    assert (plan_file.parent / f"{OUT}.png").read_bytes() == pixels[4, 1.0]
    assert read_mark(plan_file.parent / f"{OUT}.exr", "samples") == "4"
    later = lattice.open_plan(plan_file)
    assert len(later.history("day/Front")) == 2  # the one that was there is kept in turn
    assert (plan_file.parent / "out/day").is_dir()
    mine = plan_file.parent / "room-kept/2020-01-01-000000/out/day/Front.0001.png"
    mine.parent.mkdir(parents=True)
    mine.write_bytes(b"no run made this")
    # The plan asks for another picture: it is made again, and the one that was put back is kept.
    assert later.run(workers=0, at="day/Front").finished_frames == 1
    assert (plan_file.parent / f"{OUT}.png").read_bytes()[:8] == pixels[6, 1.0][:8]
    assert lattice.compare_files(plan_file.parent / f"{OUT}.exr", history[0].files[0][1]).share == 0.0
    assert mine.exists()
    for words, expected in ((("day/Front", "--back", "9"), 1), (("day/Front", "--back", "0"), 2),
                            (("dusk/Front",), 2), (("day/Front", "--frame", "3"), 2)):  # fmt: skip
        code, said = glat(plan_file.parent, "history", *words)
        assert code == expected, said
        assert "did not foresee" not in said


def test_what_changed_in_the_scene_is_told_by_prims_and_what_is_said_of_them(plan_file: Path, glat) -> None:
    from pxr import Gf, Sdf, Usd, UsdGeom

    plan_file.write_text(PLAN.replace("own-trace: true ", "") + "run: {keep-earlier: 2}\n")
    assert lattice.open_plan(plan_file).run(workers=0).ok
    layer = Sdf.Layer.OpenAsAnonymous(str(plan_file.with_name("room.usda")))  # ours refuses to be edited
    stage = Usd.Stage.Open(layer)
    stage.GetPrimAtPath("/World/Lights/Key").GetAttribute("inputs:intensity").Set(45.0)
    UsdGeom.Xformable(stage.GetPrimAtPath("/World/Toys/BallA")).GetOrderedXformOps()[0].Set(
        Gf.Vec3d(-1, 1, 0)
    )
    stage.GetPrimAtPath("/World/Looks/Red/Surface").GetAttribute("inputs:roughness").Set(0.25)
    stage.GetPrimAtPath("/World/Cameras/Front").GetAttribute("focalLength").Set(50.0)
    stage.RemovePrim("/World/Lights/Rim")
    layer.Export(str(plan_file.with_name("room.usda")))
    assert lattice.open_plan(plan_file).run(workers=0).ok
    (picture,) = lattice.open_plan(plan_file).history("day/Front")
    told = {name: (then, now) for name, then, now in picture.changes if name.startswith("/")}
    assert told == {
        "/World/Toys/BallA  place": ("as it was", "another"),
        "/World/Looks/Red  roughness": ("0.4", "0.25"),
        "/World/Lights/Key  strength and colour, nits": ("30 30 30", "45 45 45"),
        "/World/Lights/Rim": ("there", ""),
        "/World/Cameras/Front  focal length": ("4", "5"),
    }
    code, said = glat(plan_file.parent, "history", "day/Front")
    assert (code, "/World/Looks/Red  roughness  0.4 → 0.25" in said) == (0, True), said
    assert "/World/Cameras/Front" not in glat(plan_file.parent, "history", "day/Side")[1]


# --- editions ---------------------------------------------------------------------------------------------

EDITIONS = (
    PLAN
    + """\
editions:
  web: {size: 24x24, format: [jpg, png, tga, hdr, exr], label: true}
  flyer: {print: {width: 4 mm, height: 4 mm, ppi: 300}, format: tiff, exposure: 1}
  wall: {purpose: ink-jet, scale: 50%}
  large: {scale: 400%}
"""
)


def test_editions_are_written_from_what_is_traced_and_stay(made: Path, glat) -> None:
    made.write_text(EDITIONS)
    code, said = glat(made.parent, "edition")
    assert code == 0, said
    assert "32 pictures written" in said
    there = made.parent / "editions"
    import OpenImageIO as oiio

    def facts(name: str) -> tuple[int, int, float | None]:
        spec = oiio.ImageInput.open(str(there / name)).spec()
        return spec.width, spec.height, spec.getattribute("XResolution")

    assert facts("wall/day-Front.0001.png") == (24, 16, pytest.approx(200.0, abs=0.1))
    assert facts("flyer/day-Front.0001.tiff") == (47, 31, pytest.approx(300.0, abs=0.1))
    assert facts("web/day-Front.0001.jpg")[0] == 24
    code, said = glat(made.parent, "edition", "large")
    assert code == 0, said
    large = oiio.ImageInput.open(str(there / "large/day-Front.0001.png")).read_image(oiio.FLOAT)
    traced = oiio.ImageInput.open(str(made.parent / f"{OUT}.png")).read_image(oiio.FLOAT)
    assert large.shape[:2] == (128, 192)
    np.testing.assert_allclose(large.reshape(32, 4, 48, 4, -1).mean(axis=(1, 3)), traced, atol=0.2)
    assert large[..., :3].mean() == pytest.approx(traced[..., :3].mean(), abs=0.01)
    # An area of the picture keeps its light, and looks as the display shows that.
    exr = made.parent / f"{OUT}.exr"
    light = lattice.open_plan(made).outlook()
    assert not light.todo
    from grandlattice.images import read_channels, resized

    picture = read_channels(exr, ("R", "G", "B", "A"))
    small = resized(picture, 24, 16)
    assert small.mean(axis=(0, 1)) == pytest.approx(picture.mean(axis=(0, 1)), rel=0.03)
    wall = read_channels(there / "wall/day-Front.0001.png", ("R", "G", "B"))
    np.testing.assert_allclose(wall, to_display(small)[..., :3], atol=0.6 / 255)
    # Again, nothing is written; of a picture that changed only its own.
    code, said = glat(made.parent, "edition", "wall", "web")
    assert (code, "24 as they should be already" in said) == (0, True), said
    made.write_text(
        EDITIONS.replace(
            "  camera:\n    each: cameras", "  camera:\n    each: cameras\n    with: {Side: {samples: 5}}"
        )
    )
    stale = lattice.open_plan(made).edition("wall")
    assert (stale.written, set(stale.stale)) == ((), {"day/Side", "night/Side"})
    assert "2 cells out of date, shown as traced before" in glat(made.parent, "edition", "wall")[1]
    assert lattice.open_plan(made).run(workers=0).ok
    found = lattice.open_plan(made).edition("wall")
    assert (len(found.written), found.stale) == (2, ())


def test_editions_refuse_what_is_not_theirs_and_say_what_is_missing(plan_file: Path, glat) -> None:
    plan_file.write_text(EDITIONS)
    code, said = glat(plan_file.parent, "edition", "web")
    assert code == 1
    assert "no OpenEXR file of day/Front" in said
    plan = lattice.open_plan(plan_file)
    assert plan.run(workers=0, at="day/Front").ok
    code, said = glat(plan_file.parent, "edition", "wall")
    assert code == 0
    assert "3 frames without an OpenEXR file" in said
    mine = plan_file.parent / "editions/web/day-Front.0001.png"
    mine.parent.mkdir(parents=True)
    mine.write_bytes(b"mine")
    code, said = glat(plan_file.parent, "edition", "web")
    assert (code, mine.read_bytes()) == (1, b"mine")
    assert "no edition of this plan made it" in said
    for text, says in (
        ("web: {size: 24x24, scale: 50%}", "only one can count"), ("web: {purpose: poster}", "offset"),
        ("web: {sise: 24x24}", "size"), ("'a/b': {size: 24x24}", "named with letters"),
        ("web: {output: \"out/{light}/{camera}.{frame:04d}.{ext}\"}", "written twice"),
        ("web: {output: \"../{cell}.{ext}\"}", "leaves"), ("web: {output: \"{sky}.{ext}\"}", "sky"),
        ("web: {output: \"e/{light}.{ext}\"}", "written twice"),
    ):  # fmt: skip
        plan_file.write_text(PLAN + f"editions:\n  {text}\n")
        lattice.open_plan(plan_file).run(workers=0) if "e/{light}" in text else None
        code, said = glat(plan_file.parent, "edition")
        assert code in (1, 2), (text, said)
        assert says in said, (text, said)
        assert "did not foresee" not in said
    plan_file.write_text(
        EDITIONS.replace("purpose: ink-jet, scale: 50%", "purpose: ink-jet, ppi: 400, size: 96x64")
    )
    code, said = glat(plan_file.parent, "check")
    assert code == 0, said
    assert "has 400 pixels an inch; ink-jet can use 200" in said
    assert "larger than the 48x32 that is traced" in said
    plan_file.write_text(EDITIONS)
    assert "Did you mean web?" in glat(plan_file.parent, "edition", "wbe")[1]


@pytest.mark.long
def test_a_proof_has_frames_of_each_cell_in_a_strip(plan_file: Path, glat) -> None:
    plan_file.write_text(PLAN.replace("  samples: 4", "  samples: 1\n  frames: 1-9"))
    code, said = glat(plan_file.parent, "proof", "--frames", "first,middle,last", "--workers", "0")
    assert code == 0, said
    names = {p.name for p in (plan_file.parent / "room-proof").glob("day-Front.*")}
    assert names == {"day-Front.0001.png", "day-Front.0005.png", "day-Front.0009.png"}
    assert glat(plan_file.parent, "proof", "--frames", "second")[0] == 2
    with pytest.raises(lattice.PlanError, match="no frame 'second'"):
        lattice.open_plan(plan_file).outlook(frames="first,second")
