"""What is typed, and what scenes and other programs say: answered, bounded, and shown without harm."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import pytest
from pxr import Usd, UsdGeom, UsdShade

import grandlattice as lattice
from bench import Bench
from conftest import PLAN
from grandlattice._support.readable import cleaned
from grandlattice.errors import EditError, NoSuchCell, PlanError
from grandlattice.plan.spelled_values import read_frames, read_seconds
from harbour import harbour_plan, harbour_scene

FORBIDDEN = [
    chr(k) for k in (*range(9), *range(11, 32), *range(127, 160), 0x200E, 0x202E, 0x2066, 0x2028, 0xFEFF)
]


def test_nothing_that_steers_a_terminal_is_shown() -> None:
    assert len(FORBIDDEN) > 60
    for letter in FORBIDDEN:
        assert cleaned(f"a{letter}b") == "a\ufffdb"
    assert cleaned("Möwe\t✓\n日本") == "Möwe\t✓\n日本"


@pytest.mark.long
def test_a_scene_writes_nothing_into_the_terminal(plan_file: Path, glat) -> None:
    stage = Usd.Stage.Open(str(plan_file.with_name("room.usda")))
    texts = ["\x1b]0;title\x07", "\x1b[2J\x1b[H", "\x9b31m", "ok\r✓ all done", "\x08" * 9]
    for k, text in enumerate(texts):
        material = UsdShade.Material.Define(stage, f"/World/Looks/Odd{k}")
        surface = UsdShade.Shader.Define(stage, f"/World/Looks/Odd{k}/Surface")
        surface.CreateIdAttr(f"My{text}Surface{k}")
        material.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "out")
    copy = plan_file.with_name("other.usda")
    stage.GetRootLayer().Export(str(copy))
    plan_file.write_text(PLAN.replace("room.usda", "other.usda"))
    for command in (("survey", "other.usda"), ("survey", "other.usda", "--json"), ("check",), ("check", "--json"),
                    ("run", "--at", "day/Front")):  # fmt: skip
        _, said = glat(plan_file.parent, *command)
        assert not any(letter in said for letter in FORBIDDEN), (command, said)
        assert [f"Surface{k}" in said for k in range(len(texts))] == [True] * len(texts), (command, said)


@pytest.mark.long
def test_what_usd_says_of_a_broken_scene_is_not_written_past_us(plan_file: Path, glat, capfd) -> None:
    stage = Usd.Stage.Open(str(plan_file.with_name("room.usda")))
    floor = UsdGeom.PrimvarsAPI(stage.GetPrimAtPath("/World/Floor"))
    floor.GetPrimvar("st").SetIndices([0, 10**6])
    many = UsdGeom.PointInstancer.Define(stage, "/World/Many")
    many.CreateProtoIndicesAttr([0, 5, -1])
    many.CreatePositionsAttr([(0, 0, 0)])
    many.CreatePrototypesRel().AddTarget("/World/Floor")
    stage.DefinePrim("/World/Gone").GetReferences().AddReference("gone.usda")
    stage.GetRootLayer().Save()
    capfd.readouterr()
    commands: tuple[tuple[str, ...], ...] = (
        ("survey", "room.usda"), ("cells", "--why"),
        ("check",), ("explain", "day/Front"), ("export", "day/Front"), ("pack", "packed"), ("passes",),
        ("run", "--at", "day/Front", "--workers", "1", "--allow-missing"), ("proof", "--at", "day/Front"),
        ("begin", "room.usda", "--plan", "other.lattice.yaml"),
    )  # fmt: skip
    told = {words[0]: glat(plan_file.parent, *words)[1] for words in commands}
    assert capfd.readouterr() == ("", "")  # libraries write to the terminal themselves
    assert plan_file.with_name("out").is_dir(), told["run"]
    for command in ("survey", "check"):
        for what in (
            "st that do not fit their mesh",
            "their prototype not being there",
            "having no position",
        ):
            assert what in told[command], (command, what)


@pytest.mark.parametrize(
    "text",
    ["9" * 400, "1 " * 40 + "x", "1" * 5000 + " h", "1 h" * 2000, "1.5.5 s", "-1 s", "0", "nan", "inf", "1e5", "h",
     "1 h 30", "1 min min", "", " ", "1e400 s", "1,5 h", "1 parsec", "0x10 s", "99999999999 d"],
)  # fmt: skip
def test_a_time_that_cannot_be_is_said_at_once(text: str) -> None:
    with pytest.raises(ValueError, match="a time is written"):
        read_seconds(text)


def test_lists_of_frames_are_bounded_as_a_whole() -> None:
    with pytest.raises(ValueError, match="more than"):
        read_frames(",".join(f"{k * 2_000_000}-{k * 2_000_000 + 600_000}" for k in range(3)))
    assert len(read_frames("1-400000,500000-800000").numbers or ()) == 700_001


def many_takes(deep: int, twice: bool) -> str:
    takes = "".join(f"  t{k}: {{use: [t{k + 1}{f', t{k + 1}' if twice else ''}]}}\n" for k in range(deep))
    return (
        PLAN.replace("    day:\n", "    day: {use: [t0]}\n") + f"takes:\n{takes}  t{deep}: {{samples: 3}}\n"
    )


def ring_of(what: str) -> str:
    if what == "qualities":
        return PLAN.replace("samples: 4", "quality: a") + "qualities:\n  a: {quality: b}\n  b: {quality: a}\n"
    named = "  toys: others\n  others: [//Toys, toys]"
    return PLAN.replace("select: {toys: //Toys}", "select:\n" + named).replace("/World/Lights/Sky", "toys")


@pytest.mark.long
@pytest.mark.parametrize(
    ("text", "says"),
    [(many_takes(50, True), "unroll to more"), (many_takes(3000, False), "more than 60 deep"),
     (ring_of("qualities"), "built on itself"), (ring_of("selections"), "made of itself"),
     (PLAN.replace("[beauty, depth]", "[]"), "one pass at least"), (PLAN.replace("[exr, png]", "[]"), "one format"),
     (PLAN.replace("[beauty, depth]", "[-beauty]"), "No pass is left"),
     (PLAN.replace("hide: /World/Lights/Sky", "overlay: room.usda"), "is the scene itself"),
     (PLAN.replace("hide: /World/Lights/Sky", "overlay: grid.png"), "is no USD file"),
     (PLAN.replace("hide: /World/Lights/Sky", f"overlay: {'x' * 5000}"), "is no USD file"),
     (PLAN.replace("hide: /World/Lights/Sky", "overlay: pipe.usda"), "is no USD file"),
     (PLAN.replace("room.usda", "pipe.usda"), "no file but something else"),
     (PLAN.replace("room.usda", "/dev/zero"), "no USD scene"),
     (PLAN.replace("room.usda", "y" * 5000 + ".usda"), "There is no scene"),
     (PLAN + f"include: {'z' * 5000}\n", "There is no file"), (PLAN + "include: pipe.usda\n", "There is no file"),
     (PLAN + "materials: {m: {file: room.usda, prim: /World/Looks/Rad}}\n", "Did you mean /World/Looks/Red"),
     (PLAN + "materials: {m: {file: grid.png, prim: /A}}\n", "no USD file"),
     (PLAN + 'renderers: {r: {command: [x], environment: {"A=B": c}}}\n', "no name for a variable"),
     (PLAN.replace("    each: cameras", '    each: {files: ""}'), "no pattern"),
     ("lattice: 1\nscene: room.usda\naxes:\n" + "".join(f"  a{k}: {{x: {{}}}}\n" for k in range(80)), "80 axes"),
     (PLAN.replace("hide: /World/Lights/Sky", "spin: {on: /World/Toys, frames: 1-900000}"), "frames at most")],
)  # fmt: skip
def test_plans_that_never_end_or_cannot_be_are_answered(plan_file: Path, glat, text: str, says: str) -> None:
    os.mkfifo(plan_file.with_name("pipe.usda"))
    plan_file.write_text(text)
    code, said = glat(plan_file.parent, "check")
    assert code in (1, 2)
    assert says in said, said
    assert "foresee" not in said


def test_selections_take_names_beyond_ascii(tmp_path: Path) -> None:
    bench = Bench(harbour_scene(tmp_path))
    stage = bench.scene.stage
    from grandlattice.errors import Place
    from grandlattice.stage.selection import Selector

    def found(text: str) -> set[str]:
        return {str(path).rpartition("/")[2] for path in Selector(stage, {}).prims([text], place=Place())}

    assert found("//Kr*än*/Kran_?") == {"Kran_1", "Kran_2"}
    assert found("/Hafen/Kräne//") == {"Kräne", "Kran_1", "Kran_2"}
    assert found("//Möwe*{isa:PointInstancer}") == {"Möwen"}
    assert found("//Kran_* + //Möwen") == {"Kran_1", "Kran_2", "Möwen"}
    assert found("//Kran_* //Möwen") == {"Kran_1", "Kran_2", "Möwen"}
    assert found("/Hafen/Kräne/* - //Kran_1") == {"Kran_2"}
    assert found("//*ö* & //{isa:Mesh}") == {"Körper"}
    assert found("(//Möwen + //Kran_1) & //Kran*") == {"Kran_1"}
    assert found("//Lampe_für_*") == {"Lampe_für_Süd"}
    for wrong in ("//Möwe (", "//ü {isa:", "+ //Möwe", "//Möwe )", "~", "//ü + "):
        with pytest.raises(EditError):
            found(wrong)


def test_one_axis_said_twice_is_a_union_and_two_axes_an_intersection(plan_file: Path, glat) -> None:
    plan = lattice.open_plan(plan_file)
    assert len(plan.cells.indices("light=day", "light=night")) == 4
    assert [c.address for c in plan.cells.at("light=day", "light=night", "camera=Side")] == [
        "day/Side",
        "night/Side",
    ]
    queue = plan_file.with_name("two.queue.yaml")
    queue.write_text("plans:\n  - {plan: room.lattice.yaml, at: light=day}\n")
    _, said = glat(plan_file.parent, "cells", "two.queue.yaml", "--at", "camera=Side", "--json")
    assert [row["address"] for row in json.loads(said)] == ["day/Side"]
    assert glat(plan_file.parent, "cells", "two.queue.yaml", "--at", "light=night")[0] == 2
    assert plan.run(at=["day/"], workers=0).ok
    found = lattice.status(plan_file, at=["light=day", "light=night", "camera=Front"], states=["done"]).frames
    assert [task.cell for task in found] == ["day/Front"]
    with pytest.raises(NoSuchCell):
        lattice.status(plan_file, at=["ligt=day"])


def test_what_is_required_must_be_said_also_by_an_included_file(plan_file: Path, glat) -> None:
    plan_file.with_name("house.lattice.yaml").write_text("require: [output, samples]\n")
    text = PLAN + "include: house.lattice.yaml\n"
    plan_file.write_text(text)
    assert len(lattice.open_plan(plan_file).cells) == 4
    plan_file.write_text(text.replace('  output: "out/{light}/{camera}.{frame:04d}.{ext}"\n', ""))
    with pytest.raises(PlanError, match="requires output"):
        _ = lattice.open_plan(plan_file).cells[0]
    plan_file.write_text(PLAN.replace('  output: "out/{light}/{camera}.{frame:04d}.{ext}"\n', ""))
    code, said = glat(plan_file.parent, "check", "room.lattice.yaml")
    assert (code, "pictures go to renders/{cell}.{frame:04d}.{ext}" in said) == (0, True)
    assert "to renders" in glat(plan_file.parent, "cells", "room.lattice.yaml")[1]


def test_settings_are_fields_of_names_without_being_axes(tmp_path: Path) -> None:
    plan_file = harbour_plan(tmp_path)
    text = plan_file.read_text().replace('"bilder/{licht}/{camera}.{frame:04d}.{ext}"',
                                         '"{camera}/{licht}-{size}-{quality}-{renderer}-{projection}.{ext}"')  # fmt: skip
    text = text.replace("  camera:\n    each: cameras\n", "  view:\n    w: {camera: /Hafen/Kameras/Weit}\n"
                        "    n: {camera: /Hafen/Kameras/Nah_é, quality: fine}\n") + "qualities: {fine: {samples: 9}}\n"  # fmt: skip
    plan_file.write_text(text)
    plan = lattice.open_plan(plan_file)
    names = sorted(
        str(f.relative_to(tmp_path)) for cell in plan.cells for f in plan.files(cell) if f.suffix == ".exr"
    )
    assert names == [
        "Nah_é/früh-48x27-fine-tracer-camera.exr", "Nah_é/spät-48x27-fine-tracer-camera.exr",
        "Weit/früh-48x27-quality-tracer-camera.exr", "Weit/spät-48x27-quality-tracer-camera.exr",
    ]  # fmt: skip
    plan.filing().refuse_collisions()
    assert set(plan.filing().standing(["Nah_é/spät-48x27-fine-tracer-camera.exr"]).tolist()) == {
        plan.cells["spät/n"].index
    }


def damaged(file: Path, how: str) -> None:
    data = file.read_bytes()
    if how == "cut":
        file.write_bytes(data[: int(len(data) * 0.8)])
    elif how == "empty":
        file.write_bytes(b"")
    elif how == "text":
        file.write_text("no picture at all")
    else:
        file.write_bytes(data[:40])


@pytest.mark.parametrize("how", ["cut", "empty", "text", "header"])
@pytest.mark.parametrize("thorough", [False, True])
def test_check_opens_every_image_to_its_end(plan_file: Path, glat, how: str, thorough: bool) -> None:
    import numpy as np
    from PIL import Image

    noise = np.random.default_rng(1).integers(0, 255, (256, 256, 3), np.uint8)
    Image.fromarray(noise).save(plan_file.with_name("grid.png"))
    more = ("--thorough",) if thorough else ()
    assert glat(plan_file.parent, "check", *more)[0] == 0
    damaged(plan_file.with_name("grid.png"), how)
    code, said = glat(plan_file.parent, "check", *more)
    assert code == 1, said
    assert "grid.png" in said
    assert "/World/Looks/Floor/Image" in said
    assert glat(plan_file.parent, "check", "--allow-missing", *more)[0] == 0


def test_the_version_and_short_help_are_there(tmp_path: Path, glat) -> None:
    assert glat(tmp_path, "--version")[0] == 0
    assert "Usage" in glat(tmp_path, "-h")[1]
    assert "Example" in glat(tmp_path, "run", "-h")[1]


@pytest.mark.long
def test_nobody_dies_of_a_bottomless_scene(tmp_path: Path, glat) -> None:
    from pxr import Sdf

    layer = Sdf.Layer.CreateNew(str(tmp_path / "deep.usdc"))
    with Sdf.ChangeBlock():
        parent = layer.pseudoRoot
        for _ in range(3000):
            parent = Sdf.PrimSpec(parent, "a", Sdf.SpecifierDef, "Xform")
    layer.Save()
    stage = Usd.Stage.CreateNew(str(tmp_path / "self.usda"))
    for name, target in (("A", "/B"), ("B", "/A")):
        instancer = UsdGeom.PointInstancer.Define(stage, f"/{name}")
        instancer.CreatePrototypesRel().SetTargets([target])
        instancer.CreateProtoIndicesAttr([0] * 10)
        instancer.CreatePositionsAttr([(0, 0, 0)] * 10)
    stage.Save()
    many = Usd.Stage.CreateNew(str(tmp_path / "many.usda"))
    path = ""
    for k in range(9):
        path += f"/I{k}"
        instancer = UsdGeom.PointInstancer.Define(many, path)
        instancer.CreatePrototypesRel().SetTargets([f"{path}/I{k + 1}"])
        instancer.CreateProtoIndicesAttr([0] * 10)
        instancer.CreatePositionsAttr([(0, 0, 0)] * 10)
    many.Save()
    for name, says in (("deep.usdc", "deep"), ("self.usda", "own prototypes"), ("many.usda", "unfolds to")):
        code, said = glat(tmp_path, "survey", name)
        assert (code, says in said) == (1, True), said


def test_a_first_plan_makes_a_handful_and_shows_the_rest(tmp_path: Path) -> None:
    from pxr import UsdLux

    stage = Usd.Stage.CreateNew(str(tmp_path / "hall.usda"))
    world = UsdGeom.Xform.Define(stage, "/World")
    for k in range(6):
        UsdGeom.Camera.Define(stage, f"/World/Cam{k}")
    for k in range(5):
        UsdLux.SphereLight.Define(stage, f"/World/Lamp{k}")
    for name in ("seat", "floor"):
        held = world.GetPrim().GetVariantSets().AddVariantSet(name)
        for choice in ("a", "b", "c"):
            held.AddVariant(choice)
        held.SetVariantSelection("a")
    stage.GetRootLayer().Save()
    file = lattice.begin(tmp_path / "hall.usda")
    assert len(lattice.open_plan(file).cells) == 6
    text = file.read_text()
    assert "# only-Lamp0:" in text
    file.write_text(re.sub(r"^    # (?!more of it|the other)", "    ", text, flags=re.MULTILINE))
    assert len(lattice.open_plan(file).cells) == 6 * 4 * 3 * 3


def test_a_camera_that_is_not_there_is_said_with_the_line_that_names_it(plan_file: Path, glat) -> None:
    plan_file.write_text(PLAN.replace("  samples: 4", "  samples: 4\n  camera: /World/Cameras/Frnt").replace(
        "  camera:\n    each: cameras\n", "").replace("{camera}.", ""))  # fmt: skip
    code, said = glat(plan_file.parent, "check")
    assert (code, "Did you mean /World/Cameras/Front" in said, "room.lattice.yaml:7" in said) == (
        1,
        True,
        True,
    ), said


def test_tables_keep_their_columns_whatever_an_axis_is_called(plan_file: Path) -> None:
    plan_file.write_text(PLAN.replace("  light:\n", "  samples:\n    few:\n  seconds:\n    s:\n  light:\n"))
    plan = lattice.open_plan(plan_file)
    table = plan.table()
    assert list(table["samples"]) == [4] * 4
    assert set(table["axis:samples"]) == {"few"}
    run = plan.run(at=["few/s/day/Front"], workers=0)
    made = run.table()
    assert set(made["samples"]) == {4}
    assert set(made["axis:samples"]) == {"few"}
    assert (made["seconds"] > 0).all()


def test_a_task_of_several_cells_has_as_many_frames_as_it_traces(plan_file: Path) -> None:
    text = PLAN.replace("  camera:\n", "  stops:\n    normal:\n    bright: {exposure: 1}\n  camera:\n")
    plan_file.write_text(text.replace("{camera}.", "{camera}-{stops}."))
    assert lattice.open_plan(plan_file).run(at=["day//Front"], workers=0).ok
    normal, bright = lattice.status(plan_file, states=["done"]).frames
    assert (normal.cell, bright.cell) == ("day/normal/Front", "day/bright/Front")
    assert (normal.task, normal.samples) == (bright.task, bright.samples)


@pytest.mark.long
def test_a_budget_with_a_rate_says_what_it_costs_in_its_currency(plan_file: Path, glat) -> None:
    plan_file.write_text(PLAN + "run: {budget: {rate: 3600, currency: crowns}}\n")
    code, said = glat(plan_file.parent, "run", "--at", "day/Front", "--workers", "1")
    assert code == 0
    cost = re.search(r"it cost ([\d.]+) crowns", said)
    assert cost
    assert 0 < float(cost[1]) < 60  # a crown a second


def test_stills_over_many_frames_and_one_frame_of_what_moves_are_said(plan_file: Path, glat) -> None:
    _, said = glat(plan_file.parent, "check")
    assert "The scene moves, over frames 1–24, and one frame alone is rendered" in said
    stage = Usd.Stage.Open(str(plan_file.with_name("room.usda")))
    copy = Usd.Stage.CreateInMemory()
    copy.GetRootLayer().TransferContent(stage.GetRootLayer())
    copy.RemovePrim("/World/Toys")
    copy.RemovePrim("/World/Lights/Rim")
    copy.GetRootLayer().Export(str(plan_file.with_name("still.usda")))
    plan_file.write_text(PLAN.replace("room.usda", "still.usda").replace("samples: 4", "frames: 1-12"))
    code, said = glat(plan_file.parent, "check")
    assert (code, "Nothing moves, and 12 frames are rendered" in said) == (0, True), said


def test_a_queue_is_steered_and_looked_at_as_one(plan_file: Path, glat) -> None:
    plan_file.with_name("other.lattice.yaml").write_text(PLAN.replace("out/", "other/"))
    plan_file.with_name("two.queue.yaml").write_text("plans: [room.lattice.yaml, other.lattice.yaml]\n")
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=0).ok
    code, said = glat(plan_file.parent, "status", "two.queue.yaml")
    assert code == 0
    assert "other  has not been run yet" in said
    assert "in all  1 of 1 frame done" in said
    code, said = glat(plan_file.parent, "pause", "two.queue.yaml")
    assert (code, "No plan of this queue is under way" in said) == (1, True)
