"""What the terminal says: times, sizes, tables, bars, problems; and plans for odd scenes."""

from __future__ import annotations

import io
import json
from contextlib import contextmanager
from pathlib import Path

import pytest
from pxr import Usd, UsdGeom, UsdLux
from rich.console import Console

import grandlattice as lattice
from grandlattice import Failed, Finished, LatticeError, Pace, Progress, Started
from grandlattice.cli import progress_bars, terminal_text
from grandlattice.errors import Place, RunError


@pytest.mark.parametrize(
    ("seconds", "said"),
    [(0, "0.0 s"), (0.44, "0.4 s"), (9.94, "9.9 s"), (10, "10 s"), (59.4, "59 s"), (59.6, "1 min 0 s"),
     (200, "3 min 20 s"), (3599.6, "1 h 0 min"), (4320, "1 h 12 min"), (100_000, "27 h 46 min")],
)  # fmt: skip
def test_times_are_readable(seconds: float, said: str) -> None:
    assert terminal_text.duration(seconds) == said


def test_amounts_plurals_and_paths() -> None:
    assert [terminal_text.size(n) for n in (0, 999, 1000, 3_240_000, 7.5e9, 2e12)] == [
        "0 B", "999 B", "1.0 kB", "3.2 MB", "7.5 GB", "2.0 TB",
    ]  # fmt: skip
    assert [terminal_text.many(n, "cell") for n in (0, 1, 2, 1234)] == [
        "0 cells",
        "1 cell",
        "2 cells",
        "1,234 cells",
    ]
    assert terminal_text.many(2, "pass") == "2 passes"
    assert terminal_text.many(3, "entry", "entries") == "3 entries"
    assert terminal_text.quoted("my room.usda") == '"my room.usda"'
    assert terminal_text.quoted("room.usda") == "room.usda"
    assert terminal_text.short(Path.cwd() / "a" / "b") == str(Path("a/b"))


@pytest.fixture
def heard(monkeypatch):
    """What the terminal would show, at will as a terminal or a file."""

    def listen(terminal: bool) -> io.StringIO:
        stream = io.StringIO()
        console = Console(file=stream, force_terminal=terminal, width=110, highlight=False, no_color=True)
        monkeypatch.setattr(terminal_text, "console", console)
        monkeypatch.setattr(terminal_text, "errors", console)
        monkeypatch.setattr(progress_bars, "console", console)
        return stream

    return listen


def test_a_problem_is_one_block(heard) -> None:
    stream = heard(terminal=False)
    terminal_text.show_problem(
        RunError(
            "The lamp [red] is off.", place=Place(file=Path("a.yaml"), line=3, column=7), cure="switch it on"
        )
    )
    assert stream.getvalue().splitlines() == [
        "✗ The lamp [red] is off.", "  where  a.yaml:3:7", "  do     switch it on",
    ]  # fmt: skip


def events_of(plan_file: Path):
    """A run's events, remembered, with what it was to do."""
    plan, events = lattice.open_plan(plan_file), []
    run = plan.run(workers=0, on_event=events.append)
    return run, events


@contextmanager
def drawn(outlook, **options):
    bars = progress_bars.RunBars(outlook, workers=1, **options)
    bars.start()
    yield bars
    bars.stop()


def test_the_bars_follow_a_run_and_leave_nothing_behind(plan_file: Path, heard) -> None:
    run, events = events_of(plan_file)
    lost = next(e.task for e in events if isinstance(e, Started))
    for terminal in (True, False):
        stream = heard(terminal)
        with drawn(run.outlook) as bars:
            for event in events:
                if isinstance(event, Finished) and event.task is lost:
                    event = Failed(lost, 0, RunError("The lamp [off] fell over."))
                bars.follow(event)
        said = stream.getvalue()
        assert "day/Front" in said
        assert "The lamp [off] fell over." in said
        if terminal:
            assert "3 of 4 frames" in said
            assert "100 %" in said
        else:
            lines = said.splitlines()
            assert [line.split("  ")[0] for line in lines] == ["1/4", "2/4", "3/4", "4/4"]
            assert lines[0] == "1/4  day/Front · 1  failed: The lamp [off] fell over."
    stream = heard(terminal=False)
    with drawn(run.outlook, quiet=True) as bars:
        for event in events:
            bars.follow(event)
    assert stream.getvalue() == ""


def test_pace_knows_nothing_then_ever_more(plan_file: Path) -> None:
    run, events = events_of(plan_file)
    tasks = run.outlook.todo
    pace = Pace(tasks, workers=2)
    assert pace.share == 0
    assert pace.seconds_left() is None
    done = next(e for e in events if isinstance(e, Finished))
    pace.follow(Started(tasks[0], 0))
    pace.follow(Progress(tasks[0], 0, 0.5))
    assert pace.share == pytest.approx(1 / 8)
    pace.follow(Finished(tasks[0], 0, done.result))
    rate = done.result.seconds
    assert pace.share == pytest.approx(1 / 4)
    assert pace.seconds_left() == pytest.approx(rate * 3 / 2)  # three tasks alike, two workers
    pace.follow(Progress(tasks[1], 1, 0.25))
    assert pace.seconds_left(task=tasks[1]) == pytest.approx(rate * 0.75)
    for task in tasks[1:]:
        pace.follow(Failed(task, 0, LatticeError("no")))
    assert pace.share == 1
    assert pace.seconds_left() == 0


def test_what_programs_read_is_json_and_nothing_else(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    for arguments, key in ((["survey", "room.usda", "--json"], "cameras"), (["cells", "--json"], None)):
        code, said = glat(folder, *arguments)
        assert code == 0, said
        value = json.loads(said)
        assert key in value if key else len(value) == 4
    plan_file.write_text(plan_file.read_text().replace("Lights/Key\n", "Lights/Kye\n"))
    code, said = glat(folder, "check", "--json")
    assert code == 1
    (finding,) = [f for f in json.loads(said) if f["gravity"] == "error"]
    assert "Key" in finding["what"] + finding["cure"]


def test_what_all_cells_share_is_said_once(plan_file: Path, glat) -> None:
    code, said = glat(plan_file.parent, "cells")
    assert code == 0
    assert said.count("beauty depth") == 1
    assert "size of all  48x32" in said
    plan_file.write_text(plan_file.read_text().replace("    night:\n", "    night:\n      size: 20x10\n"))
    code, said = glat(plan_file.parent, "cells")
    assert said.count("48x32") == said.count("20x10") == 2
    code, said = glat(plan_file.parent, "cells", "--at", "day/Front")
    assert "of all" not in said


# --- A first plan for scenes as they come -------------------------------------------------------


def odd_scene(file: Path, cameras, lights=("/World/Lamp",), variants=None) -> Path:
    stage = Usd.Stage.CreateNew(str(file))
    world = UsdGeom.Xform.Define(stage, "/World")
    UsdGeom.Cube.Define(stage, "/World/Box")
    for path in cameras:
        UsdGeom.Camera.Define(stage, path).AddTranslateOp().Set((0, 0, 9))
    for path in lights:
        UsdLux.SphereLight.Define(stage, path)
    for name, choices in (variants or {}).items():
        held = world.GetPrim().GetVariantSets().AddVariantSet(name)
        for choice in choices:
            held.AddVariant(choice)
        held.SetVariantSelection(choices[0])
    stage.GetRootLayer().Save()
    return file


@pytest.mark.parametrize(
    ("name", "cameras", "lights", "variants", "cells"),
    [
        ("my room #2.usda", ["/World/Cam"], ["/World/Lamp"], {}, 2),
        ("zimmer: grün, 'neu'.usda", ["/Cam", "/no", "/_1"], ["/World/Lamp"], {}, 6),
        ("twins.usda", ["/A/Cam", "/B/Cam", "/B/C/Cam"], ["/A/Lamp", "/B/Lamp", "/Lamp"], {}, 12),
        ("dark.usda", ["/Cam"], [], {}, 1),
        ("words.usda", ["/Cam"], [], {"frame": ["a", "b"], "light": ["x", "y"], "ext": ["no", "yes"]}, 8),
        ("one.usda", ["/Cam"], [], {"only": ["one"], "size": ["1", "02"]}, 2),
    ],
)
def test_begin_plans_scenes_with_odd_names(
    tmp_path: Path, name, cameras, lights, variants, cells: int
) -> None:
    scene = odd_scene(tmp_path / name, cameras, lights, variants)
    file = tmp_path / "first.lattice.yaml"
    lattice.begin(scene, file)
    plan = lattice.open_plan(file)
    assert len(plan.cells) == cells
    assert plan.scene.file.name == name
    assert not [f for f in plan.check() if f.gravity == "error"]
    paths = [
        f.path
        for task in plan.tasks()
        for member in task.members
        for f in (file.planned for file in member.files)
    ]
    assert len({p.casefold() for p in paths}) == len(paths)


def test_begin_never_replaces_and_leaves_nothing_half_begun(tmp_path: Path, glat) -> None:
    odd_scene(tmp_path / "blind.usda", [])
    (tmp_path / "blind.framing.usda").write_text("mine")
    code, said = glat(tmp_path, "begin", "blind.usda")
    assert code == 2
    assert "blind.framing.usda exists already" in said
    assert not (tmp_path / "blind.lattice.yaml").exists()
    (tmp_path / "blind.framing.usda").unlink()
    assert glat(tmp_path, "begin", "blind.usda")[0] == 0
    assert glat(tmp_path, "begin", "blind.usda")[0] == 2
