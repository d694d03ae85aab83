"""What a run does when nobody looks: order, steering, budgets, outside renderers, bad nights."""

from __future__ import annotations

import datetime
import http.server
import json
import os
import pty
import re
import shlex
import shutil
import sqlite3
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from multiprocessing import resource_tracker, spawn
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest
from hypothesis import given, settings, strategies as st

import grandlattice as lattice
from conftest import PLAN, StandStill
from grandlattice import Failed, Finished, Held, Retried, Started
from grandlattice._support.processes import without_main_script
from grandlattice.errors import (
    NoSuchCell,
    OutputError,
    PlanError,
    RunError,
    RunUnderWay,
    SceneError,
    WorkerError,
)
from grandlattice.plan.run_block import Budget
from grandlattice.runs import Ledger, Patience, Schedule, Spending
from grandlattice.runs.budgets import seconds_until
from grandlattice.runs.writer_lock import is_under_way
from grandlattice.tables.ledger_columns import SCHEMA_VERSION
from test_runs import until

OUTSIDE = Path(__file__).parent.parent / "examples" / "outside_renderer.py"


# --- which task begins next --------------------------------------------------------------------


@st.composite
def nights(draw):
    count = draw(st.integers(1, 40))
    lengths = st.integers(0, 4)
    return (
        sorted(draw(st.lists(lengths, min_size=count, max_size=count))),  # steps
        draw(st.lists(st.integers(-2, 2), min_size=count, max_size=count)),  # priorities
        draw(st.lists(st.floats(0.1, 9.0), min_size=count, max_size=count)),  # seconds
        draw(st.lists(st.integers(0, 4), min_size=count, max_size=count)),  # failures before success
        draw(st.lists(st.integers(0, 2), min_size=1, max_size=7)),  # pools of workers, 0 is none
        draw(st.lists(st.integers(0, 2), min_size=count, max_size=count)),  # pools that tasks are for
    )


@settings(max_examples=200, deadline=None)
@given(nights())
def test_order_priorities_and_barriers_hold_whatever_happens(night) -> None:
    steps, priorities, seconds, fails, workers, meant = night
    pools = [pool if pool in workers else 0 for pool in meant]
    clock, patience = [0.0], Patience(retries=2, delay=1.0)
    schedule = Schedule(
        np.arange(len(steps)),
        np.array(steps, np.int32),
        np.array(priorities, np.int32),
        patience,
        lambda: clock[0],
        np.array(pools, np.int64),
    )
    idle = Counter(workers)

    def may(pool: int) -> bool:
        return idle[pool] > 0 if pool else idle.total() > 0

    busy: list[tuple[float, int, int]] = []
    began: dict[int, float] = {}
    ended: dict[int, float] = {}
    turns: dict[int, int] = {}
    tries = [0] * len(steps)
    while not schedule.is_done:
        while (number := schedule.next(may)) is not None:
            began.setdefault(number, clock[0])
            turns.setdefault(number, len(turns))
            tries[number] += 1
            worker = pools[number] or min(+idle)
            idle[worker] -= 1
            busy.append((clock[0] + seconds[number], number, worker))
        if busy:
            busy.sort()
            clock[0], number, worker = busy.pop(0)
            idle[worker] += 1
            if tries[number] <= fails[number] and schedule.again(number) is not None:
                continue
            schedule.ended(number)
            ended[number] = clock[0]
        else:
            clock[0] += 0.5  # all that is left waits to be tried again
    for pool in set(pools):  # the planned order holds in each
        own = [number for number in range(len(steps)) if pools[number] == pool]
        planned = sorted(own, key=lambda n: (steps[n], -priorities[n], n))
        assert sorted(own, key=turns.__getitem__) == planned
    assert set(ended) == set(range(len(steps)))
    assert tries == [min(fail, 2) + 1 for fail in fails]
    for number, when in began.items():
        assert all(ended[other] <= when for other in ended if steps[other] < steps[number])


def test_priorities_and_barriers_of_a_plan_decide_the_order(plan_file: Path) -> None:
    text = plan_file.read_text().replace("    night:\n", "    night:\n      priority: 3\n")
    plan_file.write_text(text + "rules:\n  - at: {light: day, camera: Side}\n    priority: 1\n")
    plan = lattice.open_plan(plan_file)
    assert [task.first.address for task in plan.tasks()] == [
        "night/Front",
        "night/Side",
        "day/Side",
        "day/Front",
    ]
    # With a barrier a light goes as a whole where its most urgent cell wants it.
    plan.change("run", {"wait": "light"}).change("rules", [{"at": {"camera": "Side"}, "priority": "5"}])
    assert [plan.cells[int(i)].address for i in plan.cells.running("light=night")] == [
        "night/Side",
        "night/Front",
    ]
    tasks = plan.tasks()
    assert [plan.cells[int(i)].address for i in plan.cells.running()] == [t.first.address for t in tasks]
    assert [task.first.address for task in tasks] == ["day/Side", "day/Front", "night/Side", "night/Front"]
    assert [task.step for task in tasks] == [0, 0, 1, 1]


# --- steering ----------------------------------------------------------------------------------


def in_thread(work: Callable[[], object]) -> tuple[threading.Thread, list]:
    came: list = []
    thread = threading.Thread(target=lambda: came.append(work()))
    thread.start()
    return thread, came


@pytest.mark.long
def test_a_run_is_steered_from_elsewhere(plan_file: Path, glat) -> None:
    plan_file.write_text(plan_file.read_text().replace("samples: 4", "samples: 200\n  frames: 1-4"))
    plan, events = lattice.open_plan(plan_file), []
    still = StandStill()

    def hear(event: lattice.Event) -> None:
        if isinstance(event, Started):
            still.begin()
        events.append(event)

    thread, came = in_thread(lambda: plan.run(workers=1, on_event=hear))

    def begun() -> list[str]:
        return [e.task.label for e in events if isinstance(e, Started)]

    until(lambda: begun())
    with pytest.raises(RunUnderWay, match="writes to this folder already, since"):
        lattice.open_plan(plan_file).run(workers=0)
    steering = lattice.steering(plan_file)
    assert steering.pause().startswith("paused")
    still.end()
    until(lambda: not lattice.status(plan_file).counts.get("running"))
    before = begun()
    assert lattice.status(plan_file).held == "paused"
    assert steering.prioritise(7, "night/Side") == "4 frames now with priority 7"
    assert steering.drop("light=day", "camera=Side") == "4 frames left out"
    with pytest.raises(RunError, match="Did you mean night"):  # the run refuses it
        steering.drop("light=nite")
    with pytest.raises(NoSuchCell, match="Did you mean light"):  # and this one it need not even be asked
        steering.drop("ligt=night")
    with pytest.raises(NoSuchCell, match="Did you mean night"):
        lattice.status(plan_file, at=["light=nite"])
    assert begun() == before
    code, said = glat(plan_file.parent, "status")
    assert code == 0
    assert "‖ paused" in said
    assert "4 dropped" in said
    assert glat(plan_file.parent, "unpause") == (0, "going on\n")
    until(lambda: len(begun()) > len(before))
    assert begun()[len(before)] == "night/Side · 1"
    assert steering.retry("light=day", "camera=Side") == "4 frames will be done again"
    assert "stopping after 1 frame" in steering.stop()
    still.end()
    thread.join(60)
    (run,) = came
    assert run.interrupted
    assert run.left == 16 - len(run.finished)
    status = lattice.status(plan_file, states=["waiting"])
    assert (status.under_way, status.state, len(status.frames)) == (False, "stopped", run.left)
    with pytest.raises(RunError, match="No run of this plan is under way"):
        steering.pause()
    assert [known.name for known in lattice.all_runs()].count("room") >= 1
    (done,) = lattice.status(plan_file, at=["night/Side"], states=["done"]).frames[:1]
    assert done.seconds > done.trace_seconds > 0
    assert done.cpu_seconds > 0
    assert done.peak_bytes > 50e6
    table = run.frame_table()
    assert list(table["state"]).count("done") == len(run.finished)


@pytest.mark.long
def test_a_plan_added_meanwhile_comes_afterwards(plan_file: Path, glat) -> None:
    other = plan_file.with_name("other.lattice.yaml")
    other.write_text(PLAN.replace("out/", "other/"))
    thread, came = in_thread(lambda: glat(plan_file.parent, "run", "room.lattice.yaml", "--workers", "1"))
    ledger, still = Ledger(plan_file.with_name("room.ledger.sqlite")), StandStill()
    until(still.workers)
    still.begin()
    until(lambda: ledger.file.exists() and lattice.status(plan_file).under_way)
    code, said = glat(plan_file.parent, "add", "othr.lattice.yaml", "room.lattice.yaml")
    assert (code, "There is no plan at othr.lattice.yaml" in said) == (2, True), said
    code, said = glat(plan_file.parent, "add", "other.lattice.yaml", "room.lattice.yaml")
    assert (code, said) == (0, "other.lattice.yaml comes after this plan\n")
    still.end()
    thread.join(120)
    assert came[0][0] == 0, came[0][1]
    assert len(list(plan_file.parent.glob("other/*/*.exr"))) == 4


# --- files that are there, budgets, notices ------------------------------------------------------


def test_what_is_there_is_skipped_replaced_kept_or_refused(plan_file: Path) -> None:
    folder, plan = plan_file.parent, lattice.open_plan(plan_file)
    front = folder / "out/day/Front.0001.exr"
    assert plan.run(at=["day/"], workers=0).ok
    old = front.read_bytes()
    plan = plan.override(seed=5)
    with pytest.raises(OutputError, match="existing: refuse"):
        plan.run(at=["day/"], workers=0, existing="refuse")
    assert front.read_bytes() == old
    theirs = folder / "out/day/Side.0001.png"
    theirs.write_bytes(b"somebody's work")
    assert plan.run(at=["day/"], workers=0, existing="keep-both").ok
    kept = list(folder.glob("room-kept/*/out/day/*"))
    assert sorted(p.name for p in kept) == [
        "Front.0001.exr",
        "Front.0001.png",
        "Side.0001.exr",
        "Side.0001.png",
    ]
    assert {p.name: p.read_bytes() for p in kept}["Front.0001.exr"] == old
    assert {p.name: p.read_bytes() for p in kept}["Side.0001.png"] == b"somebody's work"
    assert front.read_bytes() != old
    assert not plan.run(at=["day/"], workers=0, existing="keep-both").outlook.todo
    assert len(plan.run(at=["day/"], workers=0, existing="replace").finished) == 2
    with pytest.raises(PlanError, match="Did you mean skip"):
        plan.run(workers=0, existing="skipp")


@pytest.mark.long
def test_the_command_line_replaces_what_it_is_told_to(plan_file: Path, glat) -> None:
    theirs = plan_file.parent / "out/day/Front.0001.png"
    theirs.parent.mkdir(parents=True)
    theirs.write_bytes(b"somebody's work")
    command = ("run", "--workers", "0", "--at", "day/Front")
    code, said = glat(plan_file.parent, *command)
    assert code == 1
    assert "no run of this plan made it" in said
    assert glat(plan_file.parent, *command, "--existing", "keep-both")[0] == 0
    (kept,) = plan_file.parent.glob("room-kept/*/out/day/*")
    assert kept.read_bytes() == b"somebody's work"
    # A ledger that is none is put aside; its pictures are ours and nothing is done twice.
    plan_file.with_name("room.ledger.sqlite").write_bytes(b"a shopping list " * 400)
    code, said = glat(plan_file.parent, *command)
    assert code == 0, said
    assert "everything is done already" in said
    assert "lies aside as room.ledger.broken-1.sqlite" in said


@pytest.mark.parametrize(
    ("budget", "spent", "why"),
    [
        ({"time": "10 s"}, (10.0, 0.0), "time of the run's budget"),
        ({"until": "07:00"}, (3600.0, 0.0), "it is 07:00"),
        ({"core-hours": "2"}, (1.0, 7200.0), "2 core-hours"),
        ({"rate": "3", "money": "4.5"}, (1.0, 5400.0), "the budget of 4.5"),
        ({"rate": "3"}, (1e9, 1e9), ""),
    ],
)
def test_a_budget_ends_when_it_is_spent_and_not_before(budget, spent, why: str) -> None:
    clock = [0.0]
    now = datetime.datetime(2026, 6, 21, 6, 0)
    spending = Spending(Budget.model_validate(budget), lambda: clock[0], lambda: now)
    assert spending.ended() == ""
    clock[0], spending.core_seconds = spent[0] * 0.99, spent[1] * 0.99
    assert spending.ended() == ""
    clock[0], spending.core_seconds = spent
    assert why in spending.ended()
    assert bool(spending.ended()) == bool(why)


def test_a_clock_time_is_the_next_to_come() -> None:
    assert seconds_until("07:00", datetime.datetime(2026, 6, 21, 6, 59, 30)) == 30.0
    assert seconds_until("07:00", datetime.datetime(2026, 6, 21, 7, 0)) == 86400.0


@pytest.mark.long
def test_a_run_ends_with_its_budget_and_is_taken_up_later(plan_file: Path, glat) -> None:
    plan_file.write_text(plan_file.read_text().replace("samples: 4", "samples: 600"))
    code, said = glat(plan_file.parent, "run", "--workers", "0", "--run", "budget.core-hours=0.00001")
    assert code == 1
    assert "1e-05 core-hours are spent; 3 frames left" in said
    assert "next:  glat run" in said
    assert glat(plan_file.parent, "status", "--json")[0] == 0
    assert lattice.status(plan_file).state == "budget"
    done = lattice.open_plan(plan_file).override(frames="1-3").run(workers=0, budget={"cell": 1e-6})
    assert len(done.finished) == 4  # a frame of each cell, which begins before its budget is spent
    assert (done.left, done.failures, done.ended_by) == (7, [], "budget")
    assert done.spent == "the time of day/Front is spent"
    assert lattice.status(plan_file).counts == {"done": 5, "waiting": 7}
    again = lattice.open_plan(plan_file).override(frames="1-3")
    again.run(workers=0, budget={"cell": 1e-6}, existing="replace")
    tasks = lattice.status(plan_file, states=["done", "waiting"]).frames
    # One that was done before waits now, and has no time of its own.
    assert [task.state for task in tasks].count("waiting") == 8
    assert all((task.seconds is None) == (task.state == "waiting") for task in tasks)


class Mailbox(http.server.BaseHTTPRequestHandler):
    letters: list[dict] = []  # noqa: RUF012

    def do_POST(self) -> None:
        self.letters.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
        self.send_response(200)
        self.end_headers()

    def log_message(self, *args: object) -> None:
        pass


def test_people_are_told_of_cells_the_first_failure_and_the_end(plan_file: Path, monkeypatch) -> None:
    server = http.server.HTTPServer(("127.0.0.1", 0), Mailbox)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    monkeypatch.setenv("NIGHT_BOX", f"json://127.0.0.1:{server.server_port}")
    text = plan_file.read_text().replace(
        "    night:\n      edits:\n", "    night:\n      edits:\n        - set: {on: //BallA, nonsense: 1}\n"
    )
    plan_file.write_text(
        text
        + "run:\n  notices:\n    - to: $NIGHT_BOX\n      on: [cell, failure, end]\n    - to: json://127.0.0.1:1\n      on: end\n"
    )
    try:
        run = lattice.open_plan(plan_file).run(workers=0)
    finally:
        server.shutdown()
    titles = [letter["title"] for letter in Mailbox.letters]
    assert titles == ["day/Front is done", "day/Side is done", "night/Front · 1 failed", "room: not all done"]
    assert "has no attribute nonsense" in Mailbox.letters[2]["message"]
    assert "2 failed" in Mailbox.letters[3]["message"]
    assert Mailbox.letters[0]["attachments"][0]["filename"] == "Front.0001.jpg"
    assert run.notes == ["A notice to json could not be sent."]


def test_a_command_follows_only_when_told(plan_file: Path, monkeypatch, glat) -> None:
    from grandlattice.cli import run_commands

    monkeypatch.setattr(run_commands, "_COUNTDOWN", 0)
    after = [sys.executable, "-c", "open('asleep', 'w')"]
    plan_file.write_text(plan_file.read_text() + f"run:\n  after: {json.dumps(after)}\n")
    queue = lattice.open_queue(plan_file)
    monkeypatch.chdir(plan_file.parent)
    assert glat(plan_file.parent, "run", "--workers", "0", "--at", "day/Front")[0] == 0
    assert not Path("asleep").exists()
    run_commands._and_then(queue, {})
    assert Path("asleep").exists()


@pytest.mark.long
def test_a_frame_that_its_seconds_end_is_taken_further_to_the_same_bytes(
    plan_file: Path, tmp_path: Path, glat
) -> None:
    plan_file.write_text(
        plan_file.read_text().replace("samples: 4", "samples: 6400\n  seconds: 0.2").replace("48x32", "24x16")
    )
    plan = lattice.open_plan(plan_file)
    # What this process loads for its first picture is not in the seconds of those that are looked at.
    assert plan.override(samples=1).run(at=["day/"], workers=0, into=tmp_path / "before").ok
    run = plan.run(at=["day/"], workers=0)
    assert run.ok
    table = run.table()
    assert (table["unfinished"] == 1).all()
    assert (table["samples"] < 6400).all()
    assert (table["samples"] > 1).all()
    assert (table["noise"].dropna() > 0).all()
    assert run.tasks[0].trace
    front = oiio.ImageInput.open(str(run.files("day/Front")[0])).spec()
    assert front.getattribute("lattice:unfinished") == 1
    assert len(list(plan_file.parent.glob("room-unfinished/*.npz"))) == 2
    assert not lattice.open_plan(plan_file).run(at=["day/"], workers=0).outlook.todo
    code, said = glat(
        plan_file.parent, "continue", "--at", "light=day", "--workers", "0", "--run", "threads=2"
    )
    assert code == 0, said
    assert not plan_file.with_name("room-unfinished").exists()
    after = lattice.open_plan(plan_file).run(at=["day/"], workers=0).table()
    assert (after["samples"] == 6400).all()
    assert not after["unfinished"].any()
    assert (after["noise"] > 0).all()
    assert (after["noise"] < 0.05).all()
    straight = (
        lattice.open_plan(plan_file).override(seconds="1 h").run(at=["day/"], workers=0, into=tmp_path / "b")
    )
    for file, other in zip(run.files("day/Front")[:1], straight.files("day/Front")[:1], strict=True):
        pixels = [oiio.ImageInput.open(str(p)).read_image(oiio.FLOAT) for p in (file, other)]
        assert np.array_equal(*pixels)
    # The command that is named after a run with settings of its own takes them along.
    own = ("--at", "light=day", "--set", "seconds=0.1", "--into", "own")
    code, said = glat(plan_file.parent, "run", *own, "--workers", "0")
    assert code == 0, said
    named = shlex.split(said.partition("further:")[2].partition("next:")[0])
    assert named == ["glat", "continue", *own]
    assert "no frame here" in glat(plan_file.parent, "continue", "--into", "own")[1]
    code, said = glat(plan_file.parent, *named[1:], "--workers", "0")
    assert code == 0, said
    assert not (plan_file.parent / "own" / "room-unfinished").exists()


# --- bad nights ----------------------------------------------------------------------------------


def test_a_full_disk_is_waited_for_and_the_run_goes_on(plan_file: Path, tmp_path: Path) -> None:
    small = tmp_path / "small"
    small.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(small)]
    if subprocess.run(mount, capture_output=True, check=False).returncode:
        pytest.skip("a small disk cannot be mounted here")
    try:
        plan, events = lattice.open_plan(plan_file).override(size="480x320", samples=1), []

        def tell(event) -> None:
            events.append(event)
            if isinstance(event, Held) and event.reason:
                subprocess.run(["mount", "-o", "remount,size=64m", str(small)], check=True)

        run = plan.run(workers=1, into=small, on_event=tell)
        assert run.ok
        assert [("full" in e.reason) for e in events if isinstance(e, Held)] == [True, False]
        assert len(list(small.rglob("*.exr"))) == 4
        assert not [e for e in events if isinstance(e, Failed | Retried)]
    finally:
        subprocess.run(["umount", "-l", str(small)], check=True)


def test_a_disk_that_stays_full_ends_the_run_in_time(plan_file: Path, tmp_path: Path, monkeypatch) -> None:
    small = tmp_path / "small"
    small.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(small)]
    if subprocess.run(mount, capture_output=True, check=False).returncode:
        pytest.skip("a small disk cannot be mounted here")
    monkeypatch.setattr("grandlattice.runs.coordinator._TRY_ANYWAY", 0.5)  # tried in vain, again and again
    try:
        plan = lattice.open_plan(plan_file).override(size="480x320", samples=1)
        run = plan.run(workers=0, into=small, room=2.0)
        assert (run.ok, run.ended_by) == (False, "full")
        assert run.left > 0
        assert 2.0 < run.seconds < 20.0
    finally:
        subprocess.run(["umount", "-l", str(small)], check=True)


def test_looking_on_never_keeps_a_run_from_beginning(plan_file: Path) -> None:
    plan = lattice.open_plan(plan_file)
    assert plan.run(workers=0).ok
    ledger, stop = Ledger(plan_file.with_name("room.ledger.sqlite")), threading.Event()

    def look() -> None:
        while not stop.is_set():
            is_under_way(ledger)

    threads = [threading.Thread(target=look) for _ in range(2)]
    for thread in threads:
        thread.start()
    try:
        assert all(plan.run(at=["day/Front"], workers=0).ok for _ in range(10))
    finally:
        stop.set()
        for thread in threads:
            thread.join()


def test_a_run_that_broke_off_is_not_paused_and_took_until_it_was_heard_of_last(plan_file: Path) -> None:
    assert lattice.open_plan(plan_file).run(workers=0).ok
    with sqlite3.connect(plan_file.with_name("room.ledger.sqlite")) as connection:
        connection.execute(
            "UPDATE runs SET state = 'running', ended = NULL, seconds = NULL, held = 'paused', heard = started + 90"
        )
    status = lattice.status(plan_file)
    assert (status.state, status.held) == ("broken off", "")
    assert status.seconds == pytest.approx(90.0)


def test_a_worker_that_holds_too_much_memory_is_ended(plan_file: Path) -> None:
    plan_file.write_text(plan_file.read_text().replace("samples: 4", "samples: 400000"))
    plan = lattice.open_plan(plan_file)
    run = plan.run(at=["day/Front"], workers=1, memory="40 MB", retries=0, gentle=True)
    (failure,) = run.failures
    assert isinstance(failure.problem, WorkerError)
    assert "held more than 40.0 MB of memory" in failure.problem.what
    assert not list(plan_file.parent.rglob("*.part*"))


@pytest.mark.long
def test_a_scene_that_changes_meanwhile_is_found_out(plan_file: Path) -> None:
    plan = lattice.open_plan(plan_file)
    scene, texture = plan_file.with_name("room.usda"), plan_file.with_name("grid.png")

    def run(change: Callable[[], object]):
        return plan.run(workers=1, fresh=True, on_outlook=lambda outlook: None, on_event=first(change))

    def first(change: Callable[[], object]):
        struck = []

        def tell(event) -> None:
            if isinstance(event, Started) and not struck:
                struck.append(change())

        return tell

    aside = plan_file.with_name("aside")
    gone = run(lambda: scene.rename(aside))
    assert all(isinstance(f.problem, SceneError) and "taken away" in f.problem.what for f in gone.failures)
    assert gone.failures
    aside.rename(scene)
    changed = run(lambda: texture.write_bytes(texture.read_bytes() + b"\0"))
    assert "grid.png was changed while the run was under way" in changed.failures[0].problem.what
    assert lattice.open_plan(plan_file).run(workers=0).ok


def test_a_clock_that_is_set_back_changes_nothing(plan_file: Path, monkeypatch) -> None:
    plan, real, back = lattice.open_plan(plan_file), time.time, [0.0]

    def set_back(event) -> None:
        back[0] += 3600.0

    monkeypatch.setattr(time, "time", lambda: real() - back[0])
    run = plan.run(workers=0, on_event=set_back, budget={"time": 600.0})
    assert run.ok
    assert 0.0 < run.seconds < 600.0
    assert not lattice.open_plan(plan_file).run(workers=0).outlook.todo


@pytest.mark.parametrize("version", ["1", "2"])
def test_ledgers_of_older_versions_are_taken_over(plan_file: Path, version: str) -> None:
    """Made as they were: without what came later."""
    assert lattice.open_plan(plan_file).run(workers=0).ok
    file = plan_file.with_name("room.ledger.sqlite")
    with sqlite3.connect(file) as connection:
        connection.execute("DROP TRIGGER keep_tally")
        for table in (
            "tasks",
            "members",
            "tally",
            "past",
            "columns",
            "logs",
            "orders",
            *(["versions"] if version == "1" else []),
        ):
            connection.execute(f"DROP TABLE {table}")
        connection.execute("DELETE FROM about WHERE key != 'schema'")
        for table, names in {
            "files": ("trace", "noise", "unfinished"),
            "runs": (
                "host",
                "pid",
                "heard",
                "held",
                "estimate_low",
                "estimate",
                "estimate_high",
                "seconds",
                "core_seconds",
                "worked",
                "worked_seconds",
            ),
        }.items():
            for name in names:
                connection.execute(f"ALTER TABLE {table} DROP COLUMN {name}")
        connection.execute("UPDATE about SET value = ? WHERE key = 'schema'", (version,))
    again = lattice.open_plan(plan_file).run(workers=0)
    assert not again.outlook.todo
    with sqlite3.connect(file) as connection:
        assert connection.execute("SELECT value FROM about WHERE key = 'schema'").fetchone() == (
            str(SCHEMA_VERSION),
        )
    assert lattice.open_plan(plan_file).run(workers=0, fresh=True).ok


@pytest.mark.long
def test_the_cost_is_measured_first_and_its_error_remembered(plan_file: Path) -> None:
    text = plan_file.read_text().replace("samples: 4", "samples: 1200").replace("48x32", "96x64")
    plan_file.write_text(text)
    said = []
    run = lattice.open_plan(plan_file).run(workers=0, on_estimate=said.append)
    assert run.ok
    assert said[0].source in ("1 probe", "2 probes")  # on a busy machine one has to do
    assert said[0].last is None
    assert said[0].low < said[0].seconds < said[0].high
    traced = sum(event.result.seconds for event in run.finished)
    assert traced / 3.0 < said[0].core_seconds < traced * 3.0  # a busy machine; the benchmark is stricter
    lattice.open_plan(plan_file).run(workers=0, fresh=True, on_estimate=said.append)
    assert said[1].source == "frames rendered before"
    assert said[1].last == pytest.approx(run.seconds / said[0].seconds, rel=0.02)
    # A time limit counts: a hundred thousand samples would take hours.
    limited = lattice.open_plan(plan_file).override(samples=100_000, seconds=0.1)
    limited.run(workers=0, on_estimate=said.append)
    assert said[2].seconds < 0.2 * len(run.finished)


def test_a_worker_whose_run_was_killed_while_it_began_says_nothing() -> None:
    reader, writer = os.pipe()
    with without_main_script():
        line = spawn.get_command_line(tracker_fd=resource_tracker.getfd(), pipe_handle=reader)
    os.close(writer)  # nobody is left to tell it what to do
    ended = subprocess.run(line, pass_fds=[reader, resource_tracker.getfd()], capture_output=True, text=True)
    os.close(reader)
    assert (ended.returncode, ended.stdout, ended.stderr) == (1, "", "")


# --- any renderer --------------------------------------------------------------------------------


def outside(plan_file: Path, extra: str = "", chunk: int = 1, frames: str = "1") -> lattice.Plan:
    """The plan drawn by the program of the examples."""
    command = [
        "{executable}", str(OUTSIDE), "{usd}", "{output}", "--camera", "{camera}", "--size", "{width}x{height}",
        "--frames", "{frames}", *extra.split(),
    ]  # fmt: skip
    renderer = {
        "command": command,
        "executables": {"1": sys.executable},
        "chunk": chunk,
        "percent": "(\\d+) %",
        "retry": [75],
    }
    text = plan_file.read_text().replace("samples: 4", f"renderer: clay\n  frames: {frames}")
    plan_file.write_text(text + f"renderers: {json.dumps({'clay': renderer})}\nrun:\n  stalled: 10 s\n")
    return lattice.open_plan(plan_file)


@pytest.mark.long
def test_another_program_draws_the_cells(plan_file: Path) -> None:
    plan, events = outside(plan_file, chunk=3, frames="1-4"), []
    run = plan.run(at=["/Front"], workers=1, on_event=events.append)
    assert run.ok, run.failures
    assert [e.task.label for e in events if isinstance(e, Started)] == [
        "day/Front · 1-3", "day/Front · 4", "night/Front · 1-3", "night/Front · 4",
    ]  # fmt: skip
    assert len(run.table()) == 16
    beauty = run.picture("day/Front", frame=4)
    assert beauty.shape == (32, 48, 4)
    assert 0.1 < beauty[..., 0].max() <= 0.63
    depth = run.picture("day/Front", frame=4, pass_name="depth")
    assert np.isfinite(depth[beauty[..., 3] > 0]).all()
    spec = oiio.ImageInput.open(str(run.files("day/Front", 4)[0])).spec()
    assert spec.getattribute("lattice:cell") == "day/Front"
    assert spec.getattribute("frame") == 4
    assert not lattice.open_plan(plan_file).run(at=["/Front"], workers=0).outlook.todo
    assert not list(plan_file.parent.rglob(".outside*"))
    # Its own tracer sees the same shapes: the two agree on where there is something.
    ours = lattice.open_plan(plan_file).override(renderer="tracer", background="clear", frames="4")
    mine = ours.run(at=["day/Front"], workers=0, into=plan_file.parent / "ours").picture("day/Front")
    assert np.mean(np.abs(mine[..., 3] - beauty[..., 3])) < 0.05


@pytest.mark.long
def test_the_plan_of_the_examples_holds(demo: Path, tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setenv("PATH", os.pathsep.join([str(Path(sys.executable).parent), os.environ["PATH"]]))
    for name in ("outside.lattice.yaml", "outside_renderer.py"):
        (tmp_path / name).write_text((OUTSIDE.parent / name).read_text())
    (tmp_path / "orrery-room").symlink_to(demo.parent, target_is_directory=True)
    plan = lattice.open_plan(tmp_path / "outside.lattice.yaml")
    assert not [f for f in plan.check() if f.gravity == "error"]
    run = plan.run(at=["bare/Portrait"], frames=[36], workers=0)
    assert run.ok, run.failures
    assert run.picture("bare/Portrait", 36).shape == (360, 640, 4)


@pytest.mark.long
@pytest.mark.parametrize(
    ("how", "once", "said"),
    [
        ("crash", True, "crashed (signal 11)"),
        ("hang", True, "made no progress for 10 s"),
        ("half", True, "was done"),
        ("lie", False, "its file is not there"),
        ("busy", True, "asks to be tried again (code 75). It said last: no licence is free"),
        ("fail", False, "ended with code 1. It said last: the scene is not to my taste"),
    ],
)
def test_renderers_that_misbehave_are_found_out(
    plan_file: Path, tmp_path: Path, how, once, said: str
) -> None:
    extra = f"--misbehave {how}" + (f" --once {tmp_path / 'misbehaved'}" if once else "")
    plan, events = outside(plan_file, extra), []
    workers = 1 if how in ("hang", "fail") else 0  # in this process it is sooner ready
    run = plan.run(at=["day/Front"], workers=workers, retries=1, on_event=events.append)
    problems = [e.problem.what for e in events if isinstance(e, Retried | Failed)]
    assert said in problems[0]
    assert run.ok == once
    assert len(problems) == (2 if how == "lie" else 1)  # tried again, but for what will not pass
    assert not list(plan_file.parent.rglob("*.part*"))
    (task,) = lattice.status(plan_file, states=["failed", "done"], logs=True).frames
    assert task.tries == (0 if how == "fail" else 1)
    if how == "fail":
        assert "not to my taste" in task.log
    assert len(list(plan_file.parent.glob("out/*/*"))) == 2 * once
    assert len([e for e in events if isinstance(e, Finished)]) == once


@pytest.mark.parametrize(
    ("renderers", "said"),
    [
        ("{clay: {command: ['{usb}']}}", "there is no field {usb} for a command. Did you mean usd?"),
        ("{clay: {command: [x], percent: '(('}}", "is no pattern"),
        ("{clay: {command: [x], percent: done}}", "needs a group"),
        ("{clay: {command: ['{executable}']}}", "needs executables"),
        ("{chalk: {command: [x]}}", "There is no renderer clay. Known here: tracer, chalk"),
        ("{clay: {command: [x, '{usd.__class__}']}}", "there is no field {usd.__class__}"),
    ],
)
def test_renderers_that_cannot_be_are_said_with_their_place(
    plan_file: Path, renderers: str, said: str
) -> None:
    plan_file.write_text(
        plan_file.read_text().replace("samples: 4", "renderer: clay") + f"renderers: {renderers}\n"
    )
    with pytest.raises(PlanError) as caught:
        lattice.open_plan(plan_file).cells[0]
    assert said in caught.value.what
    assert caught.value.place is not None


def test_no_shell_is_between_a_plan_and_a_command(plan_file: Path) -> None:
    trap = plan_file.with_name("trap")
    renderer = {"command": [sys.executable, "-c", "pass", f"; touch {trap}; $(touch {trap})", "{usd}"]}
    text = plan_file.read_text().replace("samples: 4", "renderer: clay")
    plan_file.write_text(text + f"renderers: {json.dumps({'clay': renderer})}\n")
    run = lattice.open_plan(plan_file).run(at=["day/Front"], workers=0, retries=0)
    assert "its file is not there" in run.failures[0].problem.what
    assert not trap.exists()
    assert os.listdir(plan_file.parent)


# --- what is left to do --------------------------------------------------------------------------


@pytest.mark.long
def test_deciding_anew_and_deciding_from_the_ledger_agree_whatever_happened_to_the_files(
    plan_file: Path, tmp_path: Path
) -> None:
    """Files are lost, cut short, replaced by others', and lines of the ledger go missing."""
    plan_file.write_text(plan_file.read_text().replace("samples: 4", "samples: 1\n  frames: 1-4"))
    plan, out = lattice.open_plan(plan_file), tmp_path / "night"
    assert plan.run(workers=0, into=out).ok
    for seed in range(12):
        rng = np.random.default_rng(seed)
        here = tmp_path / str(seed)
        shutil.copytree(out, here)
        pictures = sorted(path for path in (here / "out").rglob("*.*"))
        expected = set()
        forgotten = []
        for path in rng.choice(pictures, 9, replace=False):
            name = str(path.relative_to(here))
            fate = rng.integers(4)
            if fate == 0:
                path.unlink()
            elif fate == 1:
                path.write_bytes(path.read_bytes()[:-7])
            elif fate == 2:
                path.write_bytes(b"somebody's work")
            else:  # the ledger forgets it; the picture itself says what it is
                forgotten.append((name,))
                continue
            expected.add(name.rpartition(".")[0])
        with sqlite3.connect(here / "room.ledger.sqlite") as connection:
            connection.executemany("DELETE FROM files WHERE path = ?", forgotten)
        shutil.copytree(here, tmp_path / f"{seed} anew")
        with sqlite3.connect(tmp_path / f"{seed} anew" / "room.ledger.sqlite") as connection:
            connection.execute("DELETE FROM about WHERE key = 'planned'")
        quick, anew = (plan.outlook(into=folder) for folder in (here, tmp_path / f"{seed} anew"))
        assert quick.todo.numbers.tolist() == anew.todo.numbers.tolist()
        assert quick.done.numbers.tolist() == anew.done.numbers.tolist()
        assert sorted(quick.foreign) == sorted(anew.foreign)
        assert {
            f.planned.path.rpartition(".")[0] for t in quick.todo for m in t.members for f in m.files
        } == expected
        for (path,) in forgotten:
            assert Ledger(here / "room.ledger.sqlite").find(path) is not None


def test_frames_in_chunks_and_shared_traces_are_tasks_of_their_own(plan_file: Path) -> None:
    text = (
        plan_file.read_text()
        .replace("samples: 4", "samples: 4\n  frames: 1-5")
        .replace("{camera}.", "{camera}-{stops}.")
    )
    plan_file.write_text(
        text.replace("  camera:\n", "  stops:\n    a:\n    b: {exposure: 1}\n    c: {seed: 3}\n  camera:\n")
    )
    plan = lattice.open_plan(plan_file)
    tasks = plan.tasks(at=["day//Front"], frames=[1, 2, 3, 5])
    assert [(task.label, task.frames) for task in tasks] == [
        (f"{cell} · {frame}", (frame,)) for cell in ("day/a/Front +1", "day/c/Front") for frame in (1, 2, 3, 5)
    ]  # fmt: skip
    assert len({task.trace for task in tasks}) == 8
    assert (tasks.frame_count, tasks.trace_count) == (12, 8)
    assert [len(task.members[0].files) for task in tasks] == [2] * 8
    # One and the same task whatever else is asked for.
    alone = plan.tasks(at=["day/b/Front"], frames=[5])[0]
    assert alone.trace == tasks[3].trace
    assert tasks.columns.task_of[tasks.of_cells(plan.cells.indices("day/c/Front"))].tolist() == [4, 5, 6, 7]
    assert tasks[2:4].work == 2 * 48 * 32 * 4


@pytest.mark.long
def test_a_queue_foretells_tells_and_sums_up_as_a_whole(plan_file: Path, glat, monkeypatch) -> None:
    server = http.server.HTTPServer(("127.0.0.1", 0), Mailbox)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    monkeypatch.setenv("NIGHT_BOX", f"json://127.0.0.1:{server.server_port}")
    folder, text = plan_file.parent, plan_file.read_text()
    for name in ("hall", "garden"):
        (folder / f"{name}.lattice.yaml").write_text(text.replace("out/", f"{name}/"))
    wrong = "    night:\n      edits:\n        - set: {on: //BallA, nonsense: 1}\n"
    (folder / "garden.lattice.yaml").write_text(
        text.replace("out/", "garden/").replace("    night:\n      edits:\n", wrong)
    )
    (folder / "night.queue.yaml").write_text(
        "plans: [hall.lattice.yaml, garden.lattice.yaml]\nnotices: [{to: $NIGHT_BOX}]\nafter: [systemctl, suspend]\n"
    )
    Mailbox.letters.clear()
    try:
        assert glat(folder, "run", "hall.lattice.yaml", "--at", "light=day", "--workers", "0")[0] == 0
        code, said = glat(folder, "run", "night.queue.yaml", "--workers", "0")
    finally:
        server.shutdown()
    assert code == 1
    assert "2 plans: 8 cells, 8 frames, 16 files" in said
    assert "nothing was rendered yet of garden" in said
    assert re.search(r"about .* for all of it", said)
    assert "in all  2 frames of 1 plan in" in said  # the garden has mistakes and did not begin
    assert [letter["title"] for letter in Mailbox.letters] == ["night: not all done"]
    queue = lattice.open_queue(folder / "night.queue.yaml")
    assert queue.after() == queue.narrowed(["light=day"]).after() == ["systemctl", "suspend"]


@pytest.mark.long
def test_a_notice_may_be_a_sound(plan_file: Path) -> None:
    plan_file.write_text(plan_file.read_text() + "run: {notices: [{to: sound, on: end}]}\n")
    heard = b""
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(plan_file.parent)
        os.execv(sys.executable, [sys.executable, "-m", "grandlattice", "run", "--workers", "0", "--quiet"])
    with suppress(OSError):  # the terminal is gone with the command
        while part := os.read(terminal, 4096):
            heard += part
    assert os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == 0
    assert heard.count(b"\a") == 1


@pytest.mark.long
def test_frames_begin_only_where_there_is_memory_for_them(plan_file: Path, glat, monkeypatch) -> None:
    from grandlattice.runs import memory_room

    plan = lattice.open_plan(plan_file)
    first = plan.run(at=["/Front"], workers=1, into=plan_file.parent / "known")  # what one of them holds
    assert first.ok

    def most_at_once(free: int) -> tuple[int, list[str]]:
        monkeypatch.setattr(memory_room, "free_memory", lambda: free)
        at_once, most, held = 0, 0, []

        def told(event: lattice.Event) -> None:
            nonlocal at_once, most
            at_once += isinstance(event, Started) - isinstance(event, Finished)
            most = max(most, at_once)
            held.extend([event.reason] if isinstance(event, Held) and event.reason else [])

        run = plan.run(workers=2, into=plan_file.parent / "known", fresh=True, on_event=told)
        assert run.ok, run.failures
        assert len(run.finished) == 4
        return most, held

    assert most_at_once(64_000_000_000) == (2, [])
    most, held = most_at_once(10_000_000)
    assert most == 1  # however little there is, one at a time goes on
    assert all(reason.startswith("fewer frames at once: the next takes") for reason in held)
    monkeypatch.undo()
    told = plan.worker_room(into=plan_file.parent / "known")
    assert 1e8 < told.worker < 4e9
    assert told.fit == told.free // told.worker
    code, said = glat(plan_file.parent, "check")
    assert code == 0
    assert re.search(r"\d+ workers? of [\d.]+ MB each fit into the memory that is free, [\d.]+ GB", said)
