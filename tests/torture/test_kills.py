"""Runs whose coordinator or worker is killed at a random moment, a hundred times over.

pytest tests/torture/test_kills.py
"""

from __future__ import annotations

import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest
from test_nights import COMMAND, recorded, whole

import grandlattice as lattice
from conftest import PLAN
from shapes import room_scene

KILLS = 100


@pytest.fixture
def night(tmp_path: Path) -> Path:
    """A plan of 240 frames of some tens of milliseconds each."""
    room_scene(tmp_path / "room.usda")
    file = tmp_path / "room.lattice.yaml"
    file.write_text(PLAN.replace("samples: 4", "samples: 60\n  frames: 1-60"))
    return file


def workers_of(process: subprocess.Popen) -> list[psutil.Process]:
    """The worker processes of a run; Python starts another helper beside them."""
    try:
        children = psutil.Process(process.pid).children()
        return [c for c in children if "spawn_main" in " ".join(c.cmdline())]
    except psutil.Error:
        return []


def test_a_hundred_kills_end_as_an_undisturbed_night(night: Path, tmp_path: Path) -> None:
    straight = tmp_path / "straight"
    assert lattice.open_plan(night).run(workers=2, into=straight).ok
    expected = whole(straight)
    assert len(expected) == 480
    rng = random.Random(7)
    kills = {"coordinator": 0, "worker": 0}
    nights = 0
    while sum(kills.values()) < KILLS:
        # When all is done the night begins anew, so that every kill strikes a run at work.
        arguments = ["--fresh"] if nights % 7 == 6 else []
        process = subprocess.Popen(
            [*COMMAND, *arguments], cwd=night.parent, start_new_session=True,
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        nights += 1
        deadline = time.monotonic() + rng.uniform(2.2, 6.0)
        while time.monotonic() < deadline and process.poll() is None:
            time.sleep(0.02)
        if process.poll() is None and rng.random() < 0.5:
            victims = workers_of(process)
            if victims:
                rng.choice(victims).kill()
                kills["worker"] += 1
                time.sleep(rng.uniform(0.1, 1.5))
        if process.poll() is None:
            process.kill()
            kills["coordinator"] += 1
        said = process.communicate()[1]
        assert "Traceback" not in said, said
        until_alone(process.pid)
        made = whole(night.parent / "out") if (night.parent / "out").exists() else {}
        for name, digest in made.items():
            assert expected[f"out/{name}"] == digest
        if not arguments:
            assert {p.removeprefix("out/") for p in recorded(night)} <= set(made)
        if len(made) == len(expected):
            for path in list((night.parent / "out").rglob("*.*"))[::2]:
                path.unlink()
    print(kills)
    assert min(kills.values()) > KILLS // 5
    assert lattice.open_plan(night).run(workers=2).ok
    assert {f"out/{n}": d for n, d in whole(night.parent / "out").items()} == expected
    assert not list(night.parent.rglob(".*part*"))
    with sqlite3.connect(night.with_name("room.ledger.sqlite")) as connection:
        rows = dict(connection.execute("SELECT path, bytes FROM files"))
        states = dict(connection.execute("SELECT state, COUNT(*) FROM tasks GROUP BY state"))
    sizes = {str(p.relative_to(night.parent)): p.stat().st_size for p in (night.parent / "out").rglob("*.*")}
    assert rows == sizes
    assert states == {"done": 240}
    assert not lattice.open_plan(night).run(workers=0).outlook.todo


def until_alone(pid: int) -> None:
    """Workers end by themselves when their coordinator was killed."""
    deadline = time.monotonic() + 10.0
    while time.monotonic() < deadline:
        left = [
            p
            for p in psutil.process_iter(["cmdline"])
            if f"parent_pid={pid}" in " ".join(p.info["cmdline"] or [])
        ]
        if not left:
            return
        time.sleep(0.05)
    raise AssertionError(f"{len(left)} workers live on without their coordinator")


def test_a_run_whose_ledger_is_cut_short_goes_on_from_the_pictures(night: Path) -> None:
    """Bytes of the ledger are lost while it is killed: it is put aside, and nothing is done twice."""
    rng, ledger = random.Random(3), night.with_name("room.ledger.sqlite")
    for _ in range(6):
        process = subprocess.Popen([*COMMAND], cwd=night.parent, start_new_session=True,
                                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
        time.sleep(rng.uniform(3.5, 5.0))
        if process.poll() is None:
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        if not ledger.exists():
            continue
        content = bytearray(ledger.read_bytes())
        at = rng.randrange(0, max(1, len(content) - 4000))
        content[at : at + 4000] = rng.randbytes(4000)
        ledger.write_bytes(content[: rng.randrange(len(content) // 2, len(content))])
        ledger.with_name(ledger.name + "-journal").unlink(missing_ok=True)
        first = lattice.open_plan(night).run(at=["day/Front"], frames=[1], workers=0)
        assert first.ok
        assert len(first.finished) <= 1
    run = lattice.open_plan(night).run(workers=2)
    assert run.ok
    assert len(whole(night.parent / "out")) == 480
    assert list(night.parent.glob("*.broken-*.sqlite"))


if __name__ == "__main__":
    sys.exit(pytest.main([__file__, "-s"]))
