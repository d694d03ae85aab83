"""Packs: everything a plan's cells need and nothing else; opened anywhere, and nothing outside is touched."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import zipfile
from pathlib import Path

import pytest
from hypothesis import given, settings, strategies as st
from pxr import Sdf, Usd, UsdShade

import grandlattice as lattice
from grandlattice.remote import Manifest, Places
from grandlattice.remote.manifest import read_manifest
from scattered import scattered_plan


@pytest.fixture
def shot(tmp_path: Path) -> Path:
    return scattered_plan(tmp_path)


def pixels(plan: Path) -> dict[str, str]:
    opened = lattice.open_plan(plan)
    run = opened.run(workers=0)
    assert run.ok, run.failures
    return {
        cell.address: hashlib.sha256(run.picture(cell.address).tobytes()).hexdigest() for cell in opened.cells
    }


def test_a_pack_renders_the_same_without_its_sources(shot: Path, tmp_path: Path, glat) -> None:
    before = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
    code, said = glat(shot.parent, "pack", "bild.lattice.yaml", str(tmp_path / "weg.zip"))
    assert code == 0, said
    assert {path: path.read_bytes() for path in before} == before
    plan = lattice.open_plan(shot)
    plan.pack(tmp_path / "beside")
    assert plan.document.data == lattice.open_plan(shot).document.data  # paths are changed in the copy alone
    wanted = pixels(shot)
    away = tmp_path / "away"
    away.mkdir()
    (tmp_path / "weg.zip").rename(away / "weg.zip")
    for name in ("schau", "lager"):
        shutil.rmtree(tmp_path / name)
    code, said = glat(away, "unpack", "weg.zip")
    assert code == 0, said
    told = json.loads((away / "weg/pack.json").read_text())
    names = sorted(file["path"] for file in told["files"])
    assert names == sorted([
        "plan 1/bild.lattice.yaml", "gemeinsam/haus.lattice.yaml", "szene/größe 夜.usda", "plan 1/himmel/tag.hdr",
        "plan 1/himmel/nacht.hdr", "elsewhere/1/bunt.png", "elsewhere/1/m.usda", "elsewhere/1/raum.usda", "elsewhere/1/grid.png",
        "elsewhere/2/laid.usd", "elsewhere/2/more.usda", "elsewhere/3/t.1001.png", "elsewhere/3/t.1012.png",
    ])  # fmt: skip
    assert not [path for path in (away / "weg").rglob("*") if path.is_symlink()]
    assert (away / "weg/elsewhere/2/laid.usd").read_bytes().startswith(b"PXR-USDC")
    assert "# as a whole path" in (away / "weg/plan 1/bild.lattice.yaml").read_text(encoding="utf-8")
    assert pixels(away / "weg/plan 1/bild.lattice.yaml") == wanted
    # What was packed once is packed again to the same content.
    again = lattice.open_plan(away / "weg/plan 1/bild.lattice.yaml").pack(away / "again")
    assert [(f.path, f.sha256) for f in again.manifest.files] == [
        (f["path"], f["sha256"]) for f in told["files"]
    ]


def test_what_is_missing_is_refused_or_told(plan_file: Path, glat) -> None:
    stage = Usd.Stage.Open(str(plan_file.with_name("room.usda")))
    shader = UsdShade.Shader.Define(stage, "/World/Gone")
    shader.CreateIdAttr("UsdUVTexture")
    shader.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath("weg.png"))
    stage.GetRootLayer().Save()
    code, said = glat(plan_file.parent, "pack", "there")
    assert (code, "weg.png is missing" in said, "--incomplete" in said) == (1, True, True), said
    assert not plan_file.with_name("there").exists()
    code, said = glat(plan_file.parent, "pack", "there", "--incomplete")
    assert (code, "without weg.png" in said) == (0, True), said
    code, said = glat(plan_file.parent, "pack", "there", "--incomplete")
    assert (code, "exists already" in said) == (1, True), said
    assert [path.name for path in plan_file.parent.iterdir() if "part" in path.name] == []


@pytest.fixture
def packed(plan_file: Path) -> Path:
    return lattice.open_plan(plan_file).pack(plan_file.with_name("packed")).path


def rezipped(folder: Path, archive: Path, change) -> Path:
    """A pack as an archive whose entries `change` has altered."""
    entries = {p.relative_to(folder).as_posix(): p.read_bytes() for p in folder.rglob("*") if p.is_file()}
    with zipfile.ZipFile(archive, "w") as made:
        for name, data in change(entries).items():
            entry = name if isinstance(name, zipfile.ZipInfo) else zipfile.ZipInfo(name)
            made.writestr(entry, data)
    return archive


def test_packs_that_lie_are_refused_and_write_nothing(packed: Path, tmp_path: Path, glat) -> None:
    def manifest(**changes: object):
        def change(entries: dict) -> dict:
            told = json.loads(entries["pack.json"]) | changes
            return entries | {"pack.json": json.dumps(told).encode()}

        return change

    def file(path: str, data: bytes = b"x") -> dict:
        return {"path": path, "size": len(data), "sha256": hashlib.sha256(data).hexdigest()}

    def with_file(path: str, **changes: object):
        def change(entries: dict) -> dict:
            told = json.loads(entries["pack.json"])
            told["files"].append(file(path) | changes)
            return entries | {"pack.json": json.dumps(told).encode(), path: b"x"}

        return change

    def link(entries: dict) -> dict:
        entry = zipfile.ZipInfo("room.usda")
        entry.external_attr = 0o120777 << 16
        return {k: v for k, v in entries.items() if k != "room.usda"} | {entry: b"/etc/passwd"}

    lies = [
        *(with_file(name) for name in (
            "../out.txt", "/out.txt", "a/../../b", "C:/x", "a\\b", "", ".", "a//b", "a/./b", "pack.json",
            "ROOM.usda", "room.usda/x", "a\nb",
        )),
        with_file("big", size=10), with_file("small", size=0), with_file("other", sha256="0" * 64),
        with_file("odd", sha256="g" * 64), with_file("negative", size=-1), with_file("more", mode=7),
        manifest(pack=2), manifest(plan="../room.lattice.yaml"), manifest(plan="none.yaml"), manifest(files=[]),
        lambda entries: entries | {"room.usda": b"another"}, link,
        lambda entries: {k: v for k, v in entries.items() if k != "room.usda"},
        lambda entries: {k: v for k, v in entries.items() if k != "pack.json"},
        lambda entries: entries | {"pack.json": b"[" * 10000}, lambda entries: entries | {"pack.json": b"\xff{"},
    ]  # fmt: skip
    before = sorted(tmp_path.iterdir())
    for number, lie in enumerate(lies):
        archive = rezipped(packed, tmp_path / "lie.zip", lie)
        code, said = glat(tmp_path, "unpack", "lie.zip", "there")
        assert code == 1, (number, said)
        assert "foresee" not in said
        archive.unlink()
        assert sorted(tmp_path.iterdir()) == before, number
    # An archive that unpacks to more than it said is left at what it said.
    with zipfile.ZipFile(tmp_path / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as bomb:
        told = {"pack": 1, "made by": "", "plan": "a.yaml", "files": [file("a.yaml", b"0" * 100)]}
        bomb.writestr("pack.json", json.dumps(told))
        bomb.writestr("a.yaml", b"0" * 50_000_000)
    code, said = glat(tmp_path, "unpack", "bomb.zip", "there")
    assert (code, "another file than the pack says" in said) == (1, True), said
    # Archives of others: encrypted, compressed in a way that is not known, with damaged data.
    whole = (tmp_path / "bomb.zip").read_bytes()
    at, listed = whole.index(b"a.yaml") - 30, whole.rindex(b"a.yaml") - 46
    for k, (change, local, central) in enumerate(((1, 6, 8), (99, 8, 10), (255, 60, None))):
        data = bytearray(whole)
        data[at + local] = change
        if central is not None:
            data[listed + central] = change
        (tmp_path / "odd.zip").write_bytes(data)
        code, said = glat(tmp_path, "unpack", "odd.zip", "there")
        assert (code, "foresee" in said) == (1, False), (k, said)
    (tmp_path / "torn.zip").write_bytes((tmp_path / "bomb.zip").read_bytes()[:500])
    for wrong in ("torn.zip", "none.zip", "room.usda"):
        assert glat(tmp_path, "unpack", wrong, "there")[0] in (1, 2)
    # Links in a folder, files and folders alike, are never followed.
    os.rename(packed / "room.usda", tmp_path / "aside.usda")
    os.symlink(tmp_path / "aside.usda", packed / "room.usda")
    code, said = glat(tmp_path, "unpack", "packed", "there")
    assert (code, "is a link" in said) == (1, True), said
    assert not (tmp_path / "there").exists()


@settings(max_examples=200, deadline=None)
@given(st.text(st.characters(codec="utf-8"), max_size=12), st.text("ab./\\:é日", max_size=12))
def test_no_name_of_a_pack_leads_out_of_it(one: str, other: str) -> None:
    for path in (one, other, f"{other}/{one}"):
        told = {"pack": 1, "plan": path, "files": [{"path": path, "size": 0, "sha256": "0" * 64}]}
        try:
            manifest = read_manifest(json.dumps(told).encode())
        except lattice.OutputError:
            continue
        full = os.path.normpath(os.path.join("/pack", manifest.plan))
        assert full.startswith("/pack/")
        assert Manifest.model_validate_json(manifest.text()) == manifest


def test_files_keep_their_places_towards_each_other(tmp_path: Path) -> None:
    show = tmp_path / "show"
    files = [
        show / "a/x.png",
        show / "b/c/y.png",
        tmp_path / "lib/one/z.png",
        Path("/far/two/z.png"),
        Path("/far/two/w.png"),
    ]
    places = Places([show / "a", show / "b/c"], files)
    assert [str(places(path)) for path in files[:2]] == ["a/x.png", "b/c/y.png"]
    far = {str(places(path)) for path in files[2:]}
    assert far == {"elsewhere/1/z.png", "elsewhere/1/w.png", "elsewhere/2/z.png"}
    assert places(Path("/nowhere/q.png")) is None
    alone = Places([Path("/one/plan"), Path("/two/scene")], [Path("/two/scene/s.usda")])
    assert str(alone(Path("/two/scene/s.usda"))) == "elsewhere/1/s.usda"  # no disk is a project
