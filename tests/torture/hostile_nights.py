"""Runs to whose ledger, terminal and renderer something happens at random moments: each ends, every picture is
there once and whole, and the ledger knows it.

    python tests/torture/hostile_nights.py [--seconds 300] [--seed 1]
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from campaign import GLAT, Campaign

import grandlattice as lattice
import test_trouble as trouble
from conftest import PLAN
from grandlattice.images import inspect_image
from grandlattice.runs import Ledger
from shapes import room_scene

LEDGERS: list[Callable[[Path], object]] = [
    trouble.hold, trouble.read, trouble.damage, trouble.take_away, trouble.replace_by_garbage,
    trouble.replace_by_nothing, trouble.replace_by_a_copy, trouble.replace_by_a_folder,
    trouble.replace_by_another_database, trouble.drop_a_table,
]  # fmt: skip
TERMINALS = ["/dev/full", "closed", "all closed", "read a little", "/dev/null"]
RENDERERS = ["helper", "loud", "talkative", "binary", "closes", "waits", "interrupt", "group", "nan"]


def begun(folder: Path, terminal: str) -> subprocess.Popen[bytes]:
    command = [*GLAT, "run", "--workers", "2", "--fresh"]
    if terminal.endswith("closed"):
        closing = ">&- 2>&-" if terminal == "closed" else "<&- >&- 2>&-"
        command = ["sh", "-c", f'exec "$@" {closing}', "sh", *command]
    out = subprocess.PIPE if not terminal.startswith("/") else open(terminal, "wb")  # noqa: SIM115
    process = subprocess.Popen(command, cwd=folder, stdout=out, stderr=out, stdin=subprocess.DEVNULL)
    if terminal == "read a little" and process.stdout is not None:
        process.stdout.readline()
        process.stdout.close()
    return process


def night(folder: Path, rng: random.Random) -> str:
    """What is wrong after a night of ledgers and terminals; empty where nothing is."""
    shutil.rmtree(folder / "out", ignore_errors=True)
    ledger = folder / "room.ledger.sqlite"
    terminal, happened = rng.choice(TERMINALS), []
    process = begun(folder, terminal)
    while process.poll() is None:
        time.sleep(rng.uniform(0.5, 4.0))
        if ledger.is_file() and process.poll() is None:
            what = rng.choice(LEDGERS)
            happened.append(what.__name__)
            try:
                what(ledger)
            except Exception:  # the run was quicker
                continue
    told = f"terminal {terminal}, {' '.join(happened)}"
    if process.returncode != 0:
        said = subprocess.run(
            [*GLAT, "status", "--failed"], cwd=folder, capture_output=True, text=True, check=False
        )
        return f"{told}: the run ended with {process.returncode}: {said.stdout[-800:]}"
    pictures = sorted((folder / "out").rglob("*.*"))
    if len(pictures) != 64 or any(inspect_image(str(p), thoroughly=True) for p in pictures):
        return f"{told}: {len(pictures)} pictures, or not all of them whole"
    try:
        run = lattice.open_plan(folder / "room.lattice.yaml").run(workers=2)
    except lattice.LatticeError as problem:
        return f"{told}: {problem}"
    if not run.ok or run.outlook.todo:
        return f"{told}: {len(run.outlook.todo)} frames were rendered again"
    if len(Ledger(ledger).files()) != 64 or list(folder.rglob("*.part*")):
        return f"{told}: the ledger lacks files, or something temporary is left"
    return ""


def drawn(folder: Path, rng: random.Random) -> str:
    """What is wrong after a renderer that misbehaves in one of its ways."""
    how = rng.choice(RENDERERS)
    here = Path(tempfile.mkdtemp(dir=folder))  # each its own: USD keeps layers by the names of their files
    room_scene(here / "room.usda")
    (here / "room.lattice.yaml").write_text(PLAN)
    run = trouble.drawn_by(here / "room.lattice.yaml", how).run(at=["/Front"], workers=2)
    expected = how not in ("group", "nan")
    if run.ok != expected:
        return f"renderer {how}: {[failure.problem.what for failure in run.failures]}"
    return f"renderer {how}: something temporary is left" if list(here.rglob("*.part*")) else ""


def main() -> None:
    campaign = Campaign("nights", 300.0)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        room_scene(folder / "room.usda")
        (folder / "room.lattice.yaml").write_text(PLAN.replace("samples: 4", "samples: 1000\n  frames: 1-8"))
        while campaign.goes_on:
            spoil = drawn if campaign.count % 2 else night
            campaign.tried(f"seed {campaign.seed}, night {campaign.count}", spoil(folder, campaign.rng))
    campaign.end()


if __name__ == "__main__":
    os.environ.setdefault("COLUMNS", "120")
    main()
