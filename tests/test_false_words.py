"""What was said and was not so, each with what is said now."""

from __future__ import annotations

import http.server
import json
import sqlite3
import threading
from pathlib import Path

import pytest
from pxr import Gf, Usd, UsdGeom

import grandlattice as lattice
from conftest import PLAN
from grandlattice.runs import estimates
from shapes import sphere, write_geometry


def test_an_edit_that_changes_nothing_is_said_of_the_whole_plan_alone(plan_file: Path, glat) -> None:
    plan_file.write_text(PLAN.replace(
        "    day:\n", "    day: {edits: [{choose: {on: /World/Toys, size: small}}]}\n"
        "    dusk: {edits: [{choose: {on: /World/Toys, size: large}}]}\n",
    ))  # fmt: skip
    folder = plan_file.parent
    assert "changes nothing" not in glat(folder, "check")[1]  # one entry of the axis stands for the others
    assert "changes nothing" not in glat(folder, "check", "--at", "light=day")[1]
    plan_file.write_text(
        PLAN.replace("    day:\n", "    day: {edits: [{choose: {on: /World/Toys, size: small}}]}\n")
    )
    assert "The choose of light=day changes nothing" in glat(folder, "check")[1]
    assert "changes nothing" not in glat(folder, "check", "--at", "light=day")[1]


def test_the_quality_of_proofs_is_used(plan_file: Path, glat) -> None:
    plan_file.write_text(PLAN + "qualities:\n  proof: {samples: 2}\n  best: {samples: 9}\n")
    said = glat(plan_file.parent, "check")[1]
    assert "Nothing uses the quality best" in said
    assert "Nothing uses the quality proof" not in said
    done, words = glat(plan_file.parent, "proof", "--workers", "0", "--set", "samples=1")
    assert done == 0
    assert "denois" not in words.lower()  # nobody asked for it


@pytest.mark.parametrize("count", [1, 2, 4])
def test_a_warning_lists_all_cells_it_is_of(plan_file: Path, count: int) -> None:
    hide = "edits: [{hide: /World/Toys}, {hide: /World/Floor}]"
    lights = ["day"] if count < 4 else ["day", "dusk"]
    entries = "".join(f"    {name}: {{{hide}}}\n" for name in lights)
    text = PLAN.split("axes:")[0] + f"axes:\n  light:\n{entries}  camera: {{each: cameras}}\n"
    plan_file.write_text(text)
    at = ["day/Front"] if count == 1 else []
    empty = [f for f in lattice.open_plan(plan_file).check(at=at) if f.what == "Nothing is visible."]
    cells = {cell for finding in empty for cell in finding.cells}
    assert cells == {c.address for c in lattice.open_plan(plan_file).cells.at(*at)}


@pytest.mark.long
def test_files_that_are_kept_are_not_announced_as_replaced(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    assert glat(folder, "run", "--workers", "0", "--at", "day/Front")[0] == 0
    for existing, fate in (("keep-both", "to be kept aside"), ("replace", "to be replaced")):
        code, said = glat(
            folder, "run", "--workers", "0", "--at", "day/Front", "--set", "samples=5", "--existing", existing
        )
        assert code == 0
        assert f"2 files out of date, {fate}" in said
        assert glat(folder, "run", "--workers", "0", "--at", "day/Front")[0] == 0
    assert len(list(folder.glob("**/room-kept/**/*.exr"))) == 1


class _Box(http.server.BaseHTTPRequestHandler):
    def do_POST(self) -> None:
        self.server.letters.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
        self.send_response(200)
        self.end_headers()

    def log_message(self, *args: object) -> None:
        pass


@pytest.mark.parametrize("wrong", [True, False])
def test_the_kind_of_a_notice_is_that_of_its_news(plan_file: Path, monkeypatch, wrong: bool) -> None:
    server = http.server.HTTPServer(("127.0.0.1", 0), _Box)
    server.letters = []
    threading.Thread(target=server.serve_forever, daemon=True).start()
    monkeypatch.setenv("NIGHT_BOX", f"json://127.0.0.1:{server.server_port}")
    edits = "        - set: {on: //BallA, nonsense: 1}\n" if wrong else ""
    plan_file.write_text(
        PLAN.replace("    night:\n      edits:\n", f"    night:\n      edits:\n{edits}")
        + "run: {notices: [{to: $NIGHT_BOX, on: [cell, failure, end]}]}\n"
    )
    try:
        lattice.open_plan(plan_file).run(at=["/Front"], workers=0)
    finally:
        server.shutdown()
    kinds = [letter["type"] for letter in server.letters]
    assert kinds == (["success", "failure", "failure"] if wrong else ["success", "success", "success"])


def test_survey_counts_the_triangles_that_are_shown(tmp_path: Path) -> None:
    stage = Usd.Stage.CreateNew(str(tmp_path / "many.usda"))
    ball = sphere(12)
    write_geometry(stage, "/Alone", ball)
    many = UsdGeom.PointInstancer.Define(stage, "/Many")
    write_geometry(stage, "/Many/Ball", ball)
    many.CreatePrototypesRel().AddTarget("/Many/Ball")
    many.CreatePositionsAttr([Gf.Vec3f(k, 0, 0) for k in range(7)])
    many.CreateProtoIndicesAttr([0] * 7)
    stage.GetRootLayer().Save()
    assert lattice.survey(tmp_path / "many.usda").triangles == 8 * len(ball.triangles)


def test_what_is_suggested_names_the_folder_that_was_named(plan_file: Path, glat, monkeypatch) -> None:
    folder = plan_file.parent
    wrong = "    night:\n      edits:\n        - set: {on: //BallA, nonsense: 1}\n"
    plan_file.write_text(PLAN.replace("    night:\n      edits:\n", wrong))
    run = lattice.open_plan(plan_file).run(workers=0, into=folder / "else where")
    assert len(run.failures) == 2
    said = glat(folder, "status", "--into", "else where")[1]
    assert 'next:  glat status --failed --into "else where"' in said
    said = glat(folder, "status", "--failed", "--into", "else where")[1]
    assert "has no attribute nonsense" in said
    assert "--failed" not in said  # it would recommend itself

    class Obedient:
        def stop(self, *, now: bool) -> str:
            return "it stops"

    monkeypatch.setattr(lattice, "steering", lambda plan, into: Obedient())
    code, said = glat.here(folder, ("stop", "--into", "else where"))
    assert code == 0
    assert 'next:  glat run --into "else where"' in said


def test_going_on_is_foretold_without_the_limit_it_lifts(plan_file: Path) -> None:
    plan_file.write_text(PLAN.replace("samples: 4", "samples: 40"))
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=0).ok
    plan_file.write_text(PLAN.replace("samples: 4", "samples: 40\n  seconds: 0.001"))
    plan = lattice.open_plan(plan_file)
    run = plan.run(at=["day/Front"], workers=0, fresh=True)
    assert run.table()["unfinished"].all()
    tasks, ledger = plan.tasks(at=["day/Front"]), run.ledger

    def foretold(*, further: bool) -> float:
        found = estimates.estimate(tasks, 1, 1, ledger, None, further=further)
        assert found is not None
        return found.seconds

    # One frame of 48 × 32 pixels and 40 samples, at what a sample of the whole one took; its limit leaves a
    # millisecond of that, and what it has is not traced again.
    assert foretold(further=False) < 0.01 < foretold(further=True)
    (have,), whole = set(ledger.unfinished().values()), foretold(further=True)
    with sqlite3.connect(ledger.file) as connection:
        connection.execute("UPDATE files SET samples = 30")
    assert foretold(further=True) == pytest.approx(whole * (40 - 30) / (40 - have))
