"""The promises of a run: order, the same bytes, nothing done twice, nothing half, nothing lost."""

from __future__ import annotations

import hashlib
import multiprocessing
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest

import grandlattice as lattice
from grandlattice import Finished, Started
from grandlattice.errors import LatticeError, NoSuchCell, OutputError, RunError
from grandlattice.runs import InPlace


def until(true: Callable[[], object], seconds: float = 60.0) -> None:
    """Wait until something is so; what is not there yet is not so."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        with suppress(RunError):
            if true():
                return
        time.sleep(0.05)
    raise AssertionError("waited in vain")


def pixels(folder: Path) -> dict[str, str]:
    """Digest of the pixels of every picture below a folder."""
    found = {}
    for file in sorted(folder.rglob("*.[ep][xn][rg]")):
        image = oiio.ImageInput.open(str(file)).read_image(oiio.FLOAT)
        found[str(file.relative_to(folder))] = hashlib.sha256(image.tobytes()).hexdigest()
    return found


@pytest.mark.long
def test_one_worker_or_two_the_same_pixels_in_the_planned_order(plan_file: Path, tmp_path: Path) -> None:
    plan = lattice.open_plan(plan_file)
    digests, orders = [], []
    for workers in (0, 1, 2):
        events: list = []
        run = plan.run(workers=workers, into=tmp_path / str(workers), on_event=events.append)
        assert run.ok
        orders.append([e.task.number for e in events if isinstance(e, Started)])
        digests.append(pixels(tmp_path / str(workers)))
    assert len(digests[0]) == 8
    assert digests[0] == digests[1] == digests[2]
    assert orders == [[0, 1, 2, 3]] * 3


@pytest.mark.parametrize(
    ("at", "workers", "threads"), [(["day/Front"], 4, 4), (["day"], 4, 2), ((), 2, 1), (["day/Front"], 0, 1)]
)
def test_a_few_tasks_take_the_threads_of_many_workers(
    plan_file: Path, monkeypatch, at, workers, threads
) -> None:
    asked = []

    class NoSeats(InPlace):
        def __init__(self, order, *rest, **options) -> None:
            asked.append(order.threads)
            super().__init__(order)

    for kind in ("Processes", "InPlace"):
        monkeypatch.setattr(f"grandlattice.runs.local_backends.{kind}", NoSeats)
    monkeypatch.setattr("grandlattice.api.orchestration.Coordinator.carry_out", lambda run, workers: None)
    plan = lattice.open_plan(plan_file)
    plan.run(at=at and [f"{a}/" if "/" not in a else a for a in at], workers=workers)
    plan.run(at=["day/Front"], workers=workers, threads=3)
    assert asked == [threads, 3]


@pytest.mark.long
def test_what_is_done_is_not_done_again_until_it_changes(plan_file: Path) -> None:
    folder = plan_file.parent

    def todo(**options) -> list[str]:
        run = lattice.open_plan(plan_file).run(workers=0, **options)
        assert run.ok
        return [task.first.address for task in run.outlook.todo]

    assert todo(at=["day/Front"]) == ["day/Front"]
    assert todo() == ["day/Side", "night/Front", "night/Side"]
    assert todo() == []
    assert todo(fresh=True, at=["/Side"]) == ["day/Side", "night/Side"]
    plan_file.write_text(plan_file.read_text().replace("intensity: 2", "intensity: 3"))
    assert todo() == ["night/Front", "night/Side"]  # what the change concerns, and nothing else
    (folder / "out/day/Front.0001.png").unlink()
    assert todo() == ["day/Front"]
    (folder / "out/day/Side.0001.exr").write_bytes(b"cut short")
    assert todo() == ["day/Side"]
    (folder / "room.ledger.sqlite").unlink()  # the pictures themselves say what they are
    assert todo() == []
    grid = folder / "grid.png"
    grid.write_bytes(grid.read_bytes() + b"\0")
    assert len(todo()) == 4  # a texture changed


def test_cells_that_differ_only_on_the_picture_share_one_trace(plan_file: Path) -> None:
    text = plan_file.read_text().replace(
        "  camera:\n", "  stops:\n    normal:\n    bright: {exposure: 1}\n  camera:\n"
    )
    plan_file.write_text(text.replace("{camera}.", "{camera}-{stops}."))
    run = lattice.open_plan(plan_file).run(at=["day//Front"], workers=0)
    assert len(run.tasks) == 1
    assert (run.outlook.todo.frame_count, run.outlook.todo.trace_count) == (2, 1)
    normal, bright = (run.files(f"day/{stops}/Front")[1] for stops in ("normal", "bright"))
    assert normal.name == "Front-normal.0001.png"
    assert np.mean(oiio.ImageInput.open(str(bright)).read_image()) > np.mean(
        oiio.ImageInput.open(str(normal)).read_image()
    )


def test_the_run_hands_out_tables_and_pictures(plan_file: Path) -> None:
    run = lattice.open_plan(plan_file).run(workers=0)
    table = run.table()
    assert len(table) == 8
    assert set(table["light"]) == {"day", "night"}
    assert (table["seconds"] > 0).all()
    assert all(Path(p).is_file() for p in table["path"])
    beauty = run.picture("day/Front")
    assert (beauty.shape, beauty.dtype) == ((32, 48, 4), np.float32)
    assert run.picture("day/Front", pass_name="depth").shape == (32, 48)
    with pytest.raises(NoSuchCell, match="Did you mean Front"):
        run.picture("day/Frnt")
    with pytest.raises(RunError, match="Did you mean depth"):
        run.picture("day/Front", pass_name="dept")
    with pytest.raises(RunError, match="add normal to passes"):
        run.picture("day/Front", pass_name="normal")


def test_files_say_what_they_are(plan_file: Path) -> None:
    run = lattice.open_plan(plan_file).run(at=["night/Front"], workers=0)
    spec = oiio.ImageInput.open(str(run.files("night/Front")[0])).spec()
    for name, value in {
        "cell": "night/Front",
        "axis:light": "night",
        "samples": 4,
        "seed": 0,
        "frame": 1,
    }.items():
        assert spec.getattribute(f"lattice:{name}") == value
    assert "multiply" in spec.getattribute("lattice:edits")
    assert "usd-core" in spec.getattribute("lattice:versions")
    assert spec.getattribute("lattice:seconds") > 0


def test_a_foreign_file_is_not_replaced(plan_file: Path) -> None:
    theirs = plan_file.parent / "out/day/Front.0001.png"
    theirs.parent.mkdir(parents=True)
    theirs.write_bytes(b"somebody's work")
    with pytest.raises(OutputError, match="no run of this plan made it"):
        lattice.open_plan(plan_file).run(workers=0)
    assert theirs.read_bytes() == b"somebody's work"
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=0, fresh=True).ok


@pytest.mark.long
def test_a_task_that_fails_leaves_the_others_alone(plan_file: Path) -> None:
    text = plan_file.read_text().replace(
        "    day:\n", "    day: {edits: [{set: {on: //BallA, nonsense: 1}}]}\n"
    )
    plan_file.write_text(text)
    events: list = []
    run = lattice.open_plan(plan_file).run(workers=1, on_event=events.append)
    assert not run.ok
    assert [f.task.first.address for f in run.failures] == ["day/Front", "day/Side"]
    assert "has no attribute nonsense" in run.failures[0].problem.what
    assert sum(isinstance(e, Finished) for e in events) == 2
    assert not list(plan_file.parent.rglob("*.part*"))


@pytest.mark.long
def test_a_script_without_a_guard_may_start_workers(plan_file: Path) -> None:
    script = "import grandlattice as lattice; run = lattice.open_plan('room.lattice.yaml').run(workers=1); print(run.ok)"
    for arguments, given in (([str(plan_file.parent / "mine.py")], None), (["-"], script)):
        (plan_file.parent / "mine.py").write_text(script)
        done = subprocess.run(
            [sys.executable, *arguments],
            input=given,
            cwd=plan_file.parent,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.stdout.strip() == "True", done.stderr


@pytest.mark.long
def test_a_worker_that_dies_is_one_failure_and_the_run_goes_on(plan_file: Path) -> None:
    text = plan_file.read_text().replace("samples: 4", "samples: 400000", 1)
    plan_file.write_text(
        text.replace("    night:\n", "    night:\n      samples: 4\n") + "run: {retries: 0}\n"
    )
    killed: list[int] = []

    def on_event(event) -> None:
        if isinstance(event, Started) and not killed:
            time.sleep(4.0)
            (child,) = multiprocessing.active_children()
            killed.append(child.pid)
            os.kill(child.pid, signal.SIGKILL)

    run = lattice.open_plan(plan_file).run(at=["/Front"], workers=1, on_event=on_event)
    assert [f.task.first.address for f in run.failures] == ["day/Front"]
    assert "signal 9" in run.failures[0].problem.what
    assert [f.task.first.address for f in run.finished] == ["night/Front"]
    assert not list(plan_file.parent.rglob("*.part*"))


@pytest.mark.long
@pytest.mark.parametrize("twice", [False, True])
def test_ctrl_c_leaves_no_half_file_and_says_how_to_go_on(plan_file: Path, twice: bool) -> None:
    samples = 400_000 if twice else 20_000
    plan_file.write_text(plan_file.read_text().replace("samples: 4", f"samples: {samples}"))
    command = [
        sys.executable,
        "-c",
        "from grandlattice.cli.main import main; main()",
        "run",
        "--workers",
        "1",
    ]
    process = subprocess.Popen(
        command, cwd=plan_file.parent, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, start_new_session=True,
        env={**os.environ, "COLUMNS": "200"},
    )  # fmt: skip
    assert process.stdout is not None
    for line in process.stdout:
        if "to render" in line:
            break
    until(lambda: any((t.share or 0) > 0 for t in lattice.status(plan_file).frames))
    for _ in range(2 if twice else 1):
        os.killpg(process.pid, signal.SIGINT)
        time.sleep(0.3)
    said = process.communicate(timeout=90)[0]
    assert process.returncode == 130, said
    assert "stopped;" in said
    assert "glat run" in said
    made = (
        [p for p in (plan_file.parent / "out").rglob("*") if p.is_file()]
        if (plan_file.parent / "out").exists()
        else []
    )
    assert all(not p.name.startswith(".") for p in made)
    assert len(made) % 2 == 0  # a frame's EXR and PNG, or neither
    assert len(made) < 8
    for file in made:
        assert oiio.ImageInput.open(str(file)).read_image() is not None


def test_a_full_disk_is_said_and_loses_nothing(plan_file: Path, tmp_path: Path) -> None:
    small = tmp_path / "small"
    small.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(small)], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("a small disk cannot be mounted here")
    try:
        plan = lattice.open_plan(plan_file).override(size="480x320", samples=1)
        with pytest.raises(LatticeError, match="is full"):  # the ledger may be the one to find out
            raise plan.run(workers=0, into=small, room=0.0).failures[-1].problem
        assert not list(small.rglob("*.part*"))
        whole = [p for p in small.rglob("*.exr") if oiio.ImageInput.open(str(p)).read_image() is not None]
        assert len(whole) == len(list(small.rglob("*.exr")))
    finally:
        subprocess.run(["umount", str(small)], check=True)


def test_a_folder_that_cannot_be_written_to_is_found_out_first(plan_file: Path, tmp_path: Path) -> None:
    blocked = tmp_path / "blocked"
    blocked.write_text("a file where the folder should be")
    with pytest.raises(LatticeError):
        lattice.open_plan(plan_file).run(workers=0, into=blocked)
    link = plan_file.parent / "out" / "day"
    link.parent.mkdir()
    link.symlink_to(tmp_path.parent, target_is_directory=True)
    with pytest.raises(OutputError, match="outside the output folder"):
        lattice.open_plan(plan_file).run(at=["day/Front"], workers=0)


def test_a_missing_texture_stops_its_cells_unless_allowed(plan_file: Path) -> None:
    (plan_file.parent / "grid.png").unlink()
    plan = lattice.open_plan(plan_file)
    (finding,) = [f for f in plan.check() if f.gravity == "error"]
    assert "grid.png" in finding.what
    assert finding.place == "/World/Looks/Floor/Image"
    assert not [f for f in plan.check(allow_missing=True) if f.gravity == "error"]
    refused = plan.run(at=["day/Front"], workers=0)
    assert "grid.png" in refused.failures[0].problem.what
    assert plan.run(at=["day/Front"], workers=0, allow_missing=True).ok


def test_a_plan_built_in_python_is_the_plan_it_writes(scene: Path, tmp_path: Path) -> None:
    plan = lattice.Plan(
        scene=scene.name, folder=scene.parent, defaults={"size": "24x16", "samples": 1, "format": ["exr"]},
        select={"toys": "//Toys"},
    )  # fmt: skip
    plan.axis("light").entry("day").entry("040", edits=[{"hide": "/World/Lights/Sky"}], exposure=1.5)
    plan.axis("camera").each("cameras", Side={"skip": True})
    plan.rule(at={"light": "040"}, seed=7)
    assert [cell.address for cell in plan.cells] == ["day/Front", "040/Front"]
    assert plan.cells["040/Front"].settings.seed == 7
    written = lattice.open_plan(plan.write(scene.parent / "built.lattice.yaml"))
    assert [(c.address, c.settings, [e.edit for e in c.edits]) for c in written.cells] == [
        (c.address, c.settings, [e.edit for e in c.edits]) for c in plan.cells
    ]
    assert plan.run(workers=0, into=tmp_path / "built").ok
    with pytest.raises(FileExistsError):
        plan.write(scene.parent / "built.lattice.yaml")
