"""Nothing that is not ours is removed, replaced or written through, whatever it is called."""

from __future__ import annotations

import shutil
import sqlite3
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from pxr import Sdf, Usd, UsdGeom, UsdLux, UsdShade

import grandlattice as lattice
from grandlattice.errors import LatticeError, OutputError
from grandlattice.runs.temporary_files import new_attempt, part_of
from shapes import make_material, plane, write_geometry

NOT_OURS = [
    ".notes.part.txt", ".keep.part.d/diary.txt", ".keep.part.d/deep/er.txt", ".part.", ".a.part.", ".x.part.exr",
    ".Front.0001.4711.part.exr", "out/.Front.0001.1.part.png", "out/day/.Side.0001.22.part.exr",
    "out/day/.Front.0001.part.part.exr", ".lattice-probe-17.part", ".outside.99.part.d/cell.usda",
    ".Front.1-2-3.part.exr", ".Front.1-2-3-zzzz.part.exr", "out/.1-2-3-0011.part.exr",
    f"out/day/.Front.0001.{new_attempt(1, 0, 0)}.part.exr", f".renderer.{new_attempt(1, 1, 1)}.part.d/x",
    part_of("out/day/Side.0001.exr", new_attempt(9, 9, 9)), "room-unfinished/.a.part.npz", ".room.lock.part.old",
    "out/night/.part.jpg", "out/day/.ünïcode.part.tiff", ".room.ledger.sqlite.part", "sub/.hidden.part.d/.part.x",
]  # fmt: skip


@pytest.mark.long
def test_files_that_look_like_our_temporary_ones_stay(plan_file: Path) -> None:
    for name in NOT_OURS:
        path = plan_file.parent / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(name)
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=1).ok
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=0, fresh=True).ok
    for name in NOT_OURS:
        assert (plan_file.parent / name).read_text() == name
    assert len(NOT_OURS) > 20


@pytest.mark.long
def test_pictures_whose_names_look_like_temporary_ones_stay(plan_file: Path) -> None:
    attempt = new_attempt()
    text = plan_file.read_text().replace(
        '"out/{light}/{camera}.{frame:04d}.{ext}"', f'".{{camera}}-{{light}}.{attempt}.part.{{ext}}"'
    )
    plan_file.write_text(text)
    assert lattice.open_plan(plan_file).run(workers=1).ok
    assert not lattice.open_plan(plan_file).run(workers=0).outlook.todo
    assert len(list(plan_file.parent.glob(f".*{attempt}.part.exr"))) == 4


def test_what_a_killed_run_noted_is_removed_by_the_next(plan_file: Path) -> None:
    plan = lattice.open_plan(plan_file)
    assert plan.run(at=["day/Front"], workers=0).ok
    attempt = new_attempt(1, 1, 0)
    left, other = part_of("out/day/Side.0001.exr", attempt), part_of("out/day/Else.0001.exr", new_attempt())
    for name in (left, other):
        (plan_file.parent / name).write_bytes(b"half")
    with sqlite3.connect(plan_file.with_name("room.ledger.sqlite")) as connection:
        connection.execute("INSERT INTO parts VALUES (?, ?)", (attempt, f'["{left}", "room.usda", 5]'))
    assert lattice.open_plan(plan_file).run(at=["day/"], workers=0).ok
    assert not (plan_file.parent / left).exists()
    assert (plan_file.parent / other).exists()
    assert (plan_file.parent / "room.usda").exists()
    with sqlite3.connect(plan_file.with_name("room.ledger.sqlite")) as connection:
        assert connection.execute("SELECT COUNT(*) FROM parts").fetchone() == (0,)


# --- what the scene and the plan read ----------------------------------------------------------


def read_by_a_scene(folder: Path) -> list[str]:
    """A scene and a plan that read pictures in every way there is; their names."""
    names = [
        "tex/diffuse.png", "tex/rough.tiff", "tex/normal.exr", "tex/sky.hdr", "tex/gel.jpg", "tex/tile.1001.png",
        "tex/tile.1002.png", "tex/variant-a.png", "tex/variant-b.png", "tex/timed-1.exr", "tex/timed-2.exr",
        "tex/layered.png", "tex/referenced.png", "tex/payload.png", "tex/hidden.png", "tex/unbound.png",
        "skies/dawn.hdr", "skies/noon.hdr", "skies/040.exr", "skies/set.exr", "tex/overlay.png", "tex/looks.png",
        "tex/placed.png", "tex/swapped.png", "linked.png", "tex/gone.png",
    ]  # fmt: skip
    for name in names:
        (folder / name).parent.mkdir(exist_ok=True)
        if name.endswith(("hdr", "exr")):
            lattice_picture(folder / name)
        else:
            Image.fromarray(np.full((4, 4, 3), 90, np.uint8)).save(folder / name)
    (folder / "tex/gone.png").unlink()  # named and missing: it will be put back some day
    (folder / "linked.png").unlink()
    (folder / "linked.png").symlink_to(folder / "tex" / "gel.jpg")

    def textured(stage: Usd.Stage, path: str, file: str) -> UsdShade.Material:
        return make_material(stage, path, diffuseColor=file)

    for other in ("layered", "referenced", "payload", "overlay", "looks", "placed", "swapped"):
        stage = Usd.Stage.CreateNew(str(folder / f"{other}.usda"))
        stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/Other").GetPrim())
        textured(stage, "/Other/Look", f"tex/{other}.png")
        write_geometry(stage, "/Other/Floor", plane(1))
        stage.GetRootLayer().Save()
    stage = Usd.Stage.CreateNew(str(folder / "room.usda"))
    stage.GetRootLayer().subLayerPaths.append("layered.usda")
    write_geometry(stage, "/World/Floor", plane(4))
    UsdGeom.Camera.Define(stage, "/World/Front").AddTranslateOp().Set((0, 1, 5))
    for name in ("diffuse.png", "rough.tiff", "normal.exr", "tile.<UDIM>.png", "hidden.png", "gone.png"):
        textured(stage, "/World/Looks/" + name.split(".")[0].title(), f"tex/{name}")
    textured(stage, "/World/Looks/Linked", "linked.png")
    UsdLux.DomeLight.Define(stage, "/World/Sky").CreateTextureFileAttr("tex/sky.hdr")
    UsdLux.RectLight.Define(stage, "/World/Window").CreateTextureFileAttr("tex/gel.jpg")
    prim = stage.GetPrimAtPath("/World")
    sets = prim.GetVariantSets().AddVariantSet("finish")
    for variant in ("a", "b"):
        sets.AddVariant(variant)
        sets.SetVariantSelection(variant)
        with sets.GetVariantEditContext():
            textured(stage, "/World/Looks/Chosen", f"tex/variant-{variant}.png")
    timed = textured(stage, "/World/Looks/Timed", "tex/timed-1.exr").GetPrim().GetStage()
    file = timed.GetPrimAtPath("/World/Looks/Timed/Image").GetAttribute("inputs:file")
    file.Set(Sdf.AssetPath("tex/timed-2.exr"), 2.0)
    UsdGeom.Xform.Define(stage, "/World/Ref").GetPrim().GetReferences().AddReference("referenced.usda")
    UsdGeom.Xform.Define(stage, "/World/Pay").GetPrim().GetPayloads().AddPayload("payload.usda")
    textured(stage, "/World/Looks/Unbound", "tex/unbound.png")
    stage.GetRootLayer().Save()
    (folder / "room.lattice.yaml").write_text(
        """\
lattice: 1
scene: room.usda
materials:
  clay: {file: looks.usda, prim: /Other/Look}
defaults: {size: 8x8, samples: 1, output: "renders/{cell}.{ext}"}
takes:
  put:
    edits:
      - place: {file: placed.usda, at: [0, 0, 0], under: /World}
      - swap: {on: /World/Ref, with: swapped.usda}
      - overlay: overlay.usda
axes:
  sky:
    each: {files: "skies/*.hdr"}
    edits:
      - set: {on: /World/Sky, texture: "{value}"}
  angle:
    sweep: {from: 40, to: 40, step: 10}
    edits:
      - set: {on: /World/Sky, texture: "skies/0{angle}.exr"}
rules:
  - at: {angle: "40"}
    edits:
      - set: {on: /World/Sky, texture: skies/set.exr}
"""
    )
    return names


def lattice_picture(file: Path) -> None:
    import OpenImageIO as oiio

    out = oiio.ImageOutput.create(str(file))
    out.open(str(file), oiio.ImageSpec(4, 2, 3, oiio.FLOAT))
    out.write_image(np.ones((2, 4, 3), np.float32))
    out.close()


def test_no_file_that_the_scene_or_the_plan_reads_is_ever_a_target(tmp_path: Path, glat) -> None:
    names = read_by_a_scene(tmp_path)
    before = {name: (tmp_path / name).read_bytes() for name in names if (tmp_path / name).exists()}
    assert len(names) > 20
    plan = lattice.open_plan(tmp_path / "room.lattice.yaml")
    for name in names:
        stem, _, ending = name.rpartition(".")
        template = f"{stem}.{{ext}}"
        plan = plan.override(output=template, format=[{"jpg": "jpg", "tiff": "tiff"}.get(ending, ending)])
        for existing in ("replace", "keep-both", "skip"):
            with pytest.raises(OutputError, match="reads") as refused:
                plan.run(at=["dawn/40"], workers=0, existing=existing)
            assert name in refused.value.what
            assert "--fresh" not in refused.value.cure
    findings = [f for f in plan.check() if f.gravity == "error" and "written over" in f.what]
    assert findings
    assert not any("--fresh" in f.cure for f in plan.check())
    code, said = glat(tmp_path, "check", "--set", "output=tex/DIFFUSE.{ext}", "--set", "format=png")
    assert code == 1
    assert "the scene or the plan reads it" in said
    assert {name: (tmp_path / name).read_bytes() for name in before} == before


# --- links -------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "name",
    [".room.holder", ".room.lock", "room.ledger.sqlite", "room.ledger.sqlite-journal", "room-sheet.png",
     "out/day/Front.0001.exr", "out/day/Front.0001.png", "room-unfinished", "room-kept", "out/day"],
)  # fmt: skip
@pytest.mark.parametrize("leads", ["to a file", "nowhere", "to a folder"])
def test_no_link_is_written_through(plan_file: Path, tmp_path: Path, name: str, leads: str) -> None:
    precious = tmp_path / "elsewhere" / "precious.txt"
    precious.parent.mkdir()
    precious.write_text("keep me")
    target = {"to a file": precious, "nowhere": precious.with_name("new.txt"), "to a folder": precious.parent}
    link = plan_file.parent / name
    link.parent.mkdir(parents=True, exist_ok=True)
    link.symlink_to(target[leads])
    for existing in ("skip", "replace", "keep-both"):
        plan = lattice.open_plan(plan_file).override(seconds="0.01", samples="4096")
        try:
            plan.run(at=["day/Front"], workers=0, existing=existing, retries=0)
            plan.review(at=["day/Front"])
        except LatticeError:
            pass  # refused: as good
        assert precious.read_text() == "keep me"
        assert [path.name for path in precious.parent.iterdir()] == ["precious.txt"]


@pytest.mark.long
@pytest.mark.parametrize("where", ["out", "deep/er", "into"])
def test_the_output_folder_itself_may_be_a_link_and_that_is_said(
    plan_file: Path, tmp_path: Path, glat, where: str
) -> None:
    big = tmp_path / "big disk"
    big.mkdir()
    plan_file.write_text(plan_file.read_text().replace('"out/', f'"{where}/').replace("into/", ""))
    link = plan_file.parent / where
    link.parent.mkdir(exist_ok=True)
    link.symlink_to(big)
    more = ("--into", "into") if where == "into" else ()
    code, said = glat(plan_file.parent, "check", *more)
    assert code == 0
    assert str(big) in said
    code, said = glat(plan_file.parent, "run", "--at", "day/Front", *more)
    assert code == 0, said
    assert str(big) in said
    assert len(list(big.rglob("Front.0001.exr"))) == 1
    (big / "night").symlink_to(tmp_path)  # but never a link below it
    code, said = glat(plan_file.parent, "check", *more)
    assert (code, "is a link to" in said) == (1, True)
    code, said = glat(plan_file.parent, "run", *more)
    assert (code, list(tmp_path.glob("Front*"))) == (1, [])


def test_a_second_plan_leaves_the_pictures_of_the_first_alone(plan_file: Path, tmp_path: Path, glat) -> None:
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=0).ok
    made = plan_file.parent / "out/day/Front.0001.exr"
    before = made.read_bytes()
    other = plan_file.with_name("other.lattice.yaml")
    for text in (plan_file.read_text(), plan_file.read_text().replace("samples: 4", "samples: 5")):
        other.write_text(text)
        code, said = glat(plan_file.parent, "check", "other.lattice.yaml")
        assert code == 1
        assert "the plan room made it" in said
        with pytest.raises(OutputError, match="the plan room made it"):
            lattice.open_plan(other).run(workers=0)
        assert made.read_bytes() == before
    assert lattice.open_plan(other).run(at=["day/Front"], workers=0, existing="replace").ok
    with pytest.raises(OutputError, match="the plan other made it"):  # and now it is the other's
        lattice.open_plan(plan_file).override(seed=9).run(at=["day/Front"], workers=0)
    # A picture that somebody painted over is somebody's, whatever the ledger says of its name.
    painted = plan_file.parent / "out/day/Front.0001.png"
    Image.fromarray(np.full((32, 48, 3), 200, np.uint8)).save(painted)
    with pytest.raises(OutputError, match="no run of this plan made it"):
        lattice.open_plan(other).run(at=["day/Front"], workers=0)
    painted.unlink()
    assert lattice.open_plan(other).run(at=["day/Front"], workers=0).ok
    # Moved, carried into another folder, or with its ledger lost, a plan knows its own pictures.
    moved = tmp_path / "moved"
    shutil.copytree(plan_file.parent, moved, ignore=shutil.ignore_patterns("moved", "room.l*"))
    assert not lattice.open_plan(moved / "other.lattice.yaml").run(at=["day/Front"], workers=0).outlook.todo
    (moved / "other.ledger.sqlite").unlink()
    assert not lattice.open_plan(moved / "other.lattice.yaml").run(at=["day/Front"], workers=0).outlook.todo
    shutil.copytree(moved / "out", tmp_path / "into" / "out")
    run = lattice.open_plan(moved / "other.lattice.yaml").run(
        at=["day/Front"], workers=0, into=tmp_path / "into"
    )
    assert not run.outlook.todo
