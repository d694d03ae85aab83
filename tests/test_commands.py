"""The real command line on small plans and on the demo: what is printed, written and answered."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pandas
import pytest
from PIL import Image
from pxr import Usd

import grandlattice as lattice
from conftest import PLAN
from grandlattice.cli import terminal_text
from grandlattice.plan.captions import PictureFigures, label_texts
from grandlattice.tables.caption_names import LABEL


def test_places_are_printed_as_they_are() -> None:
    terminal_text.console.begin_capture()
    terminal_text.console.print("plan.yaml:100:14")
    assert terminal_text.console.end_capture() == "plan.yaml:100:14\n"


def test_cells_as_tables_matrix_pages_and_counts(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    plan_file.write_text(
        PLAN + "rules:\n  - drop: {light: night, camera: Side}\nsets: {tonight: [{light: night}]}\n"
    )
    assert glat(folder, "cells", "--count")[1].strip() == "3"
    assert glat(folder, "cells", "--count", "--set-of", "tonight")[1].strip() == "1"
    code, said = glat(folder, "cells", "--matrix")
    assert code == 0
    rows = {line.split()[0]: line.split()[1:] for line in said.splitlines() if line[:3] in ("day", "nig")}
    assert rows == {"day": ["█", "1", "█", "1"], "night": ["█", "1", "·"]}
    for ending, read in (
        (".csv", pandas.read_csv),
        (".parquet", pandas.read_parquet),
        (".json", pandas.read_json),
    ):
        code, said = glat(folder, "cells", "--table", f"all{ending}")
        assert code == 0, said
        table = read(folder / f"all{ending}")
        assert list(table["address"]) == ["day/Front", "day/Side", "night/Front"]
        assert list(table["light"]) == ["day", "day", "night"]
        assert table["first_file"][2] == "out/night/Front.0001.exr"
    code, said = glat(folder, "cells", "--table", "all.xls")
    assert code == 2
    assert ".csv, .parquet or .json" in said
    code, said = glat(folder, "cells", "--page", "2")
    assert code == 2
    assert "There is no page 2; the last is 1" in said
    listed = json.loads(glat(folder, "cells", "--json", "--at", "camera=Side")[1])
    assert [cell["address"] for cell in listed] == ["day/Side"]


def test_explain_on_the_command_line(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    code, said = glat(folder, "explain", "night/Front")
    assert code == 0, said
    assert "intensity  30 → 60" in said
    assert "light=night  room.lattice.yaml:17:11" in said
    code, said = glat(folder, "explain", "room.lattice.yaml", "night/Front", "--against", "night/Side")
    assert code == 0
    assert "/World/Lights" not in said
    assert "camera  /World/Cameras/Side → /World/Cameras/Front" in said
    told = json.loads(glat(folder, "explain", "night/Front", "--json")[1])
    winners = [o["source"] for change in told["changes"] for o in change["opinions"] if o["wins"]]
    assert set(winners) == {"light=night"}
    code, said = glat(folder, "explain", "nihgt/Front")
    assert code == 2
    assert "Did you mean night?" in said
    code, said = glat(folder, "explain", "a", "b", "c")
    assert code == 2
    assert "Name a plan and one cell" in said
    code, said = glat(folder, "explain", "night/Front", "room.lattice.yaml")
    assert code == 2
    assert "room.lattice.yaml night/Front" in said


def test_export_writes_a_layer_that_opens_and_never_replaces(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    before = (folder / "room.usda").read_bytes()
    code, said = glat(folder, "export", "night/Front")
    assert code == 0, said
    stage = Usd.Stage.Open(str(folder / "room-night-Front.usda"))
    assert stage.GetPrimAtPath("/World/Lights/Key").GetAttribute("inputs:intensity").Get() == 60
    assert stage.GetMetadata("renderSettingsPrimPath") == "/Render/Lattice_night_Front"
    assert glat(folder, "export", "night/Front")[0] == 1
    for name, says in (
        ("room.usda", "exists already"),
        ("x.png", "is no USD layer"),
        ("no/such/x.usda", "wrote"),
    ):
        assert says in glat(folder, "export", "night/Front", "--file", name)[1]
    assert (folder / "room.usda").read_bytes() == before


def test_schema_and_check_for_programs(plan_file: Path, glat) -> None:
    schema = json.loads(glat(plan_file.parent, "schema")[1])
    assert "axes" in schema["properties"]
    plan_file.write_text(PLAN.replace("/World/Lights/Sky", "/World/Lights/Sk"))
    code, said = glat(plan_file.parent, "check", "--json")
    assert code == 1
    errors = [finding for finding in json.loads(said) if finding["gravity"] == "error"]
    assert errors[0]["place"] == "room.lattice.yaml:16:11"
    assert "Did you mean /World/Lights/Sky?" in errors[0]["what"]
    plan_file.write_text(PLAN + "  gone: {a: {edits: [{show: /World/Toys}]}}\n")
    assert glat(plan_file.parent, "check")[0] == 0
    assert glat(plan_file.parent, "check", "--strict")[0] == 1


@pytest.mark.long
def test_one_bad_plan_of_a_queue_does_not_lose_the_others(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    bad = PLAN.replace("/World/Lights/Sky", "/World/Lights/Sk")
    (folder / "bad.lattice.yaml").write_text(bad.replace("out/", "bad/"))
    both = ("run", "bad.lattice.yaml", "room.lattice.yaml", "--workers", "0", "--set", "samples=1")
    code, said = glat(folder, *both, "--at", "night/Front")
    assert code == 1
    assert "Nothing of bad was rendered: 1 thing to mend first" in said
    assert (folder / "out/night/Front.0001.exr").is_file()
    assert not (folder / "bad").exists()
    # What no plan of them means is found before any is rendered, and so are files of both.
    code, said = glat(folder, *both, "--at", "day/Frnt")
    assert code == 2
    assert "bad: day/Frnt is no cell: camera has no entry Frnt. Did you mean Front?" in said
    (folder / "bad.lattice.yaml").write_text(bad)
    code, said = glat(folder, *both)
    assert code == 1
    assert "The plans bad and room would both write Front.0001.exr" in said
    assert not (folder / "out/day").exists()
    code, said = glat(folder, "check", "bad.lattice.yaml")
    assert code == 1


@pytest.mark.long
@pytest.mark.parametrize("name", ["layers", "day"])
def test_the_other_plans_of_the_demo_hold(demo: Path, glat, name: str) -> None:
    code, said = glat(demo.parent / "more", "check", f"{name}.lattice.yaml", "--json")
    assert code == 0, said
    worse = [f["what"] for f in json.loads(said) if f["gravity"] != "note"]
    assert [what for what in worse if "denoising is not installed" not in what] == []


@pytest.mark.long
def test_proofs_and_first_frames_come_before_the_rest(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    plan_file.write_text(
        PLAN.replace("samples: 4", "samples: 4\n  frames: 3-4")
        + "qualities: {proof: {scale: 50%, samples: 1}}\n"
    )
    plan = lattice.open_plan(plan_file)
    assert plan.default_workers(**plan.hurried) == os.cpu_count()
    spared = plan_file.with_name("spared.lattice.yaml")
    spared.write_text(plan_file.read_text() + "run: {spare: 1}\n")
    assert lattice.open_plan(spared).hurried == {}
    spared.unlink()
    code, said = glat(folder, "proof", "--workers", "0")
    assert code == 0, said
    assert sorted(p.name for p in (folder / "room-proof").glob("day-*")) == [
        "day-Front.0003.png",
        "day-Side.0003.png",
    ]
    assert (folder / "room-proof/room-sheet.png").is_file()
    with Image.open(folder / "room-proof/day-Front.0003.png") as picture:
        assert picture.size == (24, 16)
    assert not (folder / "out").exists()
    code, said = glat(folder, "run", "--first", "--workers", "0", "--at", "light=day")
    assert code == 0, said
    assert sorted(p.name for p in (folder / "out/day").glob("*.exr")) == ["Front.0003.exr", "Side.0003.exr"]
    assert "glat run" in said.splitlines()[-1]  # nobody was there to say yes
    code, said = glat(folder, "run", "--first", "--go-on-after", "0", "--workers", "0", "--at", "light=day")
    assert code == 0, said
    assert len(list((folder / "out/day").glob("*.exr"))) == 4


def test_a_label_and_every_format_and_density(plan_file: Path, glat) -> None:
    import OpenImageIO as oiio

    text = PLAN.replace("[exr, png]", "[exr, png, jpg, tiff, tga, hdr]").replace(
        "size: 48x32", "print: {width: 2 in, height: 1 in, ppi: 100}\n  label: true"
    )
    plan_file.write_text(text)
    plan = lattice.open_plan(plan_file).override(samples=1)
    assert plan.run(at=["day/Front"], workers=0).ok
    folder = plan_file.parent / "out/day"
    for ending, height in (
        ("exr", 100),
        ("png", 118),
        ("jpg", 118),
        ("tiff", 118),
        ("tga", 118),
        ("hdr", 100),
    ):
        spec = oiio.ImageInput.open(str(folder / f"Front.0001.{ending}")).spec()
        assert (spec.width, spec.height) == (200, height), ending
        if ending not in ("tga", "hdr"):
            assert spec.getattribute("XResolution") == pytest.approx(100, abs=0.1), ending
    # Each of them says by itself that it is done, even without a ledger.
    for file in plan_file.parent.glob("*.sqlite"):
        file.unlink()
    assert not lattice.open_plan(plan_file).override(samples=1).outlook(at=["day/Front"]).todo


def test_a_label_says_what_its_list_says(plan_file: Path) -> None:
    text = PLAN.replace("size: 48x32", "size: 400x64\n  label: [NAMES]")
    plan_file.write_text(text.replace("NAMES", "nosuch"))
    with pytest.raises(lattice.PlanError, match="There is no caption nosuch") as refused:
        lattice.open_plan(plan_file).outlook()
    assert refused.value.place is not None
    said = "camera, value, noise, job, size"
    words = "words: {job: Atlas}\naxes:\n  sun:\n    sweep: {from: 5, to: 10, step: 5}\n    exposure: 0\n"
    text = text.replace("NAMES", said).replace("axes:\n", words).replace("out/{light}", "out/{sun}/{light}")
    plan_file.write_text(text)
    plan = lattice.open_plan(plan_file)
    cell = next(cell for cell in plan.cells if cell.coordinates["sun"] == "05")
    names = cell.settings.label
    assert names == tuple(said.split(", "))
    figures = PictureFigures(samples=4, noise=0.125, seconds=1.0)
    assert label_texts(plan.model, cell, 1, names, figures) == (
        "Front   sun 5   Atlas",
        "noise 12.5%   400x64",
    )
    assert plan.override(label=True).cells[0].settings.label == LABEL
    assert plan.override(label=False).cells[0].settings.label == ()
    # A word that is another makes another picture, and no other trace.
    assert plan.run(workers=0, at="05/day/Front").ok
    plan_file.write_text(plan_file.read_text().replace("Atlas", "Ceres"))
    outlook = lattice.open_plan(plan_file).run(workers=0, at="05/day/Front").outlook
    assert (outlook.todo.frame_count, len(outlook.traced)) == (1, 0)


def test_a_lens_of_the_plans_own(plan_file: Path) -> None:
    dark = "edits: [{unseen: /World/Lights}]"
    text = PLAN.replace(
        "    day:\n",
        f"    day: {{{dark}}}\n    sharp: {{fstop: off, {dark}}}\n    soft: {{fstop: 0.05, focus: 2 cm, {dark}}}\n",
    )
    plan_file.write_text(text)
    plan = lattice.open_plan(plan_file).override(samples=16)
    run = plan.run(at=["/Front"], workers=0)
    assert run.ok
    sharp, soft = (run.picture(f"{name}/Front")[..., :3] for name in ("sharp", "soft"))
    assert abs(run.picture("day/Front")[..., :3] - sharp).max() == 0.0  # the scene's camera is a pinhole
    edges = [abs(p[:, 1:] - p[:, :-1]).max() for p in (sharp, soft)]
    assert edges[1] < 0.7 * edges[0]


def test_only_what_is_done_and_stays_so_is_not_checked(plan_file: Path, glat, monkeypatch) -> None:
    from grandlattice.api import checking

    checked, check = [], checking.check
    monkeypatch.setattr(checking, "check", lambda *a, **k: checked.append(a) or check(*a, **k))
    here = ("--at", "day/Front", "--workers", "0")

    def checks(*arguments: str) -> int:
        checked.clear()
        code, said = glat.here(plan_file.parent, (*arguments, *here))
        assert code == 0, said
        return len(checked)

    assert [checks(*words.split()) for words in ("run", "run", "run --fresh", "continue", "run")] == [
        1,
        0,
        1,
        1,
        0,
    ]
    plan_file.write_text(plan_file.read_text() + "run: {existing: replace}\n")
    assert [checks("run"), checks("run")] == [1, 1]


COMMAND = "import sys; sys.argv[0] = 'glat'; from grandlattice.cli.main import main; main()"


def test_the_shell_completes_commands_and_options(tmp_path: Path) -> None:
    def completed(words: str) -> list[str]:
        done = subprocess.run(
            [sys.executable, "-c", COMMAND], cwd=tmp_path, capture_output=True, text=True,
            env={**os.environ, "_GLAT_COMPLETE": "complete_bash", "COMP_WORDS": words,
                 "COMP_CWORD": str(len(words.split()) - 1)},
        )  # fmt: skip
        return done.stdout.split()

    assert completed("glat st") == ["status", "stop"]
    assert completed("glat run --ex") == ["--existing"]
