"""Nights that go wrong, again and again: takes minutes, and has its own command.

pytest tests/torture
"""

from __future__ import annotations

import hashlib
import multiprocessing
import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import OpenImageIO as oiio
import pytest

import grandlattice as lattice
from conftest import PLAN
from grandlattice import Progress, Retried, Started
from shapes import room_scene

COMMAND = [sys.executable, "-c", "from grandlattice.cli.main import main; main()", "run", "--workers", "2"]


@pytest.fixture
def night(tmp_path: Path) -> Path:
    """A plan of 16 frames of about half a second each."""
    room_scene(tmp_path / "room.usda")
    file = tmp_path / "room.lattice.yaml"
    file.write_text(PLAN.replace("samples: 4", "samples: 700\n  frames: 1-4"))
    return file


def whole(folder: Path) -> dict[str, str]:
    """Digest of the pixels of every picture below a folder; each must read to its end."""
    found = {}
    for file in sorted(folder.rglob("*")):
        if file.suffix not in (".exr", ".png") or file.name.startswith("."):
            continue
        source = oiio.ImageInput.open(str(file))
        assert source is not None, f"{file} is no picture"
        pixels = source.read_image(oiio.FLOAT)
        assert pixels is not None, f"{file} breaks off"
        found[str(file.relative_to(folder))] = hashlib.sha256(pixels.tobytes()).hexdigest()
    return found


def recorded(plan_file: Path) -> set[str]:
    """Every file that the ledger of the plan knows; none before a run has made its tables."""
    ledger = plan_file.with_name(plan_file.name.replace(".lattice.yaml", ".ledger.sqlite"))
    if not ledger.exists():
        return set()
    with sqlite3.connect(ledger) as connection:
        if not connection.execute("SELECT 1 FROM sqlite_master WHERE name = 'files'").fetchone():
            return set()
        return {row[0] for row in connection.execute("SELECT path FROM files")}


@pytest.mark.parametrize("seed", range(3))
def test_a_run_that_is_killed_again_and_again_ends_as_if_it_had_not(
    night: Path, tmp_path: Path, seed: int
) -> None:
    straight = tmp_path / "straight"
    assert lattice.open_plan(night).run(workers=2, into=straight).ok
    expected = whole(straight)
    assert len(expected) == 2 * 2 * 4 * 2
    rng, done, kills = random.Random(seed), 0, 0
    environment = {**os.environ, "COLUMNS": "120"}
    while done < 60:
        process = subprocess.Popen(
            COMMAND, cwd=night.parent, env=environment, start_new_session=True,
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        try:
            # Some are killed while they start, the others at work: how long starting takes is the machine's.
            if rng.random() < 0.75:
                _wait_for_a_new_file(process, night.parent / "out")
            process.wait(timeout=rng.uniform(0.0, 3.0))
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
            kills += 1
        said = process.stderr.read() if process.stderr else ""
        assert "Traceback" not in said, said
        done += 1
        made = whole(night.parent / "out") if (night.parent / "out").exists() else {}
        # Whatever has its name is whole and has the right bytes; what the ledger knows is there.
        for name, digest in made.items():
            assert expected[f"out/{name}"] == digest
        assert {p.removeprefix("out/") for p in recorded(night)} <= set(made)
        if process.returncode == 0:
            break
    assert process.returncode == 0
    assert kills > 0
    assert {f"out/{name}": digest for name, digest in made.items()} == expected
    assert not [p for p in night.parent.rglob(".*part*") if p.is_file()]
    again = lattice.open_plan(night).run(workers=0)
    assert not again.outlook.todo


def _wait_for_a_new_file(process: subprocess.Popen, folder: Path) -> None:
    before = len(list(folder.rglob("*.exr")))
    for _ in range(600):
        if process.poll() is not None or len(list(folder.rglob("*.exr"))) > before:
            return
        time.sleep(0.05)


def test_a_run_whose_ledger_is_cut_short_goes_on_from_the_pictures(night: Path) -> None:
    """Bytes of the ledger are lost while it is killed: it is put aside, and nothing is done twice."""
    night.write_text(PLAN.replace("samples: 4", "samples: 60\n  frames: 1-60"))
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


def mounted(folder: Path, kilobytes: int) -> bool:
    folder.mkdir(exist_ok=True)
    made = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={kilobytes}k", "tmpfs", str(folder)],
        capture_output=True,
        check=False,
    )
    return made.returncode == 0


def test_a_disk_that_fills_at_any_byte_leaves_only_whole_files(night: Path, tmp_path: Path) -> None:
    plan = lattice.open_plan(night).override(samples=1, frames="1", size="160x120")
    straight = tmp_path / "straight"
    assert plan.run(workers=0, into=straight).ok
    expected, small = whole(straight), tmp_path / "small"
    if not mounted(small, 64):
        pytest.skip("a small disk cannot be mounted here")
    subprocess.run(["umount", str(small)], check=True)
    ended = set()
    for kilobytes in range(32, 1100, 36):
        assert mounted(small, kilobytes)
        try:
            try:
                run = plan.run(workers=0, into=small, room=0.0)
                problems = [failure.problem for failure in run.failures]
            except lattice.LatticeError as problem:
                problems = [problem]
            assert all("full" in p.what or "cannot be written" in p.what for p in problems), problems
            ended.add(bool(problems))
            made = whole(small)
            assert all(expected[name] == digest for name, digest in made.items())
            assert not [p for p in small.rglob(".*part*") if p.is_file()]
            if problems:
                grown = ["mount", "-o", "remount,size=8m", str(small)]
                subprocess.run(grown, check=True, capture_output=True)
                assert plan.run(workers=0, into=small).ok
                assert whole(small) == expected
        finally:
            time.sleep(0.05)
            subprocess.run(["umount", "-l", str(small)], check=True)
    assert ended == {True, False}


def test_a_worker_that_hangs_is_replaced_and_its_frame_tried_again(night: Path) -> None:
    text = PLAN.replace("samples: 4", "samples: 3000")
    text = text.replace("    night:\n", "    night:\n      samples: 4\n")
    night.write_text(text + "run: {stalled: 2 s, wait: [light]}\norder: [light]\n")
    struck, heard = [], []

    def on_event(event) -> None:
        heard.append(event)
        if isinstance(event, Progress) and not struck:
            (child,) = multiprocessing.active_children()
            struck.append(child.pid)
            os.kill(child.pid, signal.SIGSTOP)

    run = lattice.open_plan(night).run(at=["/Front"], workers=1, on_event=on_event)
    assert run.ok
    (again,) = [event for event in heard if isinstance(event, Retried)]
    assert "no progress for 2.0 s" in again.problem.what
    assert again.task.first.address == "day/Front"
    # The night waits for the day, also while the day waits to be tried again.
    assert [e.task.first.address for e in heard if isinstance(e, Started)] == [
        "day/Front",
        "day/Front",
        "night/Front",
    ]
    assert not list(night.parent.rglob("*.part*"))
