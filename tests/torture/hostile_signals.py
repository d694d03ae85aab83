"""Ctrl-C and its like at random moments, cold and warm: the command ends in order, with its code, and the
next run completes.

    python tests/torture/hostile_signals.py [--count 200] [--cold 20] [--seed 1] [--signal SIGINT]
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

import grandlattice as lattice
from conftest import PLAN
from shapes import room_scene

GLAT = [sys.executable, "-m", "grandlattice"]


def struck(folder: Path, rng: random.Random, cold: bool, always: str | None) -> str:
    """What is wrong with how a run ends that is struck at a random moment; empty where nothing is."""
    number = rng.choice([signal.SIGINT] * 3 + [signal.SIGTERM, signal.SIGHUP])
    number = number if always is None else signal.Signals[always]
    environment = {
        **os.environ,
        **({"GRANDLATTICE_CACHE": str(folder / f"cache{rng.random()}")} if cold else {}),
    }
    process = subprocess.Popen(
        [*GLAT, "run", "--workers", "2", "--fresh"], cwd=folder, text=True, start_new_session=True, env=environment,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
    )  # fmt: skip
    time.sleep(rng.uniform(0.1, 25.0 if cold else 6.0))  # before that Python itself begins
    if process.poll() is not None:
        return ""
    asked = time.monotonic()
    os.killpg(process.pid, number)
    try:
        said, _ = process.communicate(timeout=120)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        return f"{signal.Signals(number).name}: it never ended"
    took, left = time.monotonic() - asked, [*folder.rglob("*.part*"), *folder.glob(".*.holder")]
    good = (
        process.returncode == 128 + number and "Traceback" not in said and "failed" not in said and not left
    )
    if good and (number != signal.SIGTERM or took < 5.0):
        return ""
    return f"{signal.Signals(number).name}: code {process.returncode} after {took:.1f} s, left {left}: {said[-800:]}"


def main() -> None:
    asked = argparse.ArgumentParser()
    asked.add_argument("--count", type=int, default=200)
    asked.add_argument("--cold", type=int, default=20)
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument("--signal", help="always this one, such as SIGINT")
    how = asked.parse_args()
    for number in (signal.SIGINT, signal.SIGHUP):  # a shell that put us in the background had them ignored
        signal.signal(number, signal.SIG_DFL)
    rng, found = random.Random(how.seed), 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        room_scene(folder / "room.usda")
        plan = folder / "room.lattice.yaml"
        plan.write_text(PLAN.replace("samples: 4", "samples: 1500\n  frames: 1-8"))
        for k in range(how.count):
            problem = struck(folder, rng, cold=k < how.cold, always=how.signal)
            if problem:
                found += 1
                print(f"### {k}: {problem}", flush=True)
        run = lattice.open_plan(plan).override(samples=4).run(workers=2)
        if not run.ok or len(run.tasks) != 32:
            found += 1
            print("### the run afterwards did not complete")
    print(f"{how.count} signals, {found} problems")
    sys.exit(1 if found else 0)


if __name__ == "__main__":
    main()
