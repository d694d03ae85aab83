"""A thousand kills of anything: the coordinator, a worker, all of a run at once; then every file is there
once, whole, with the pixels it has in an undisturbed night.

    python tests/torture/many_kills.py FOLDER [--kills 1000] [--seed 1]

What was done is kept in the folder: the same command goes on where it stopped.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent))

import psutil
from test_nights import COMMAND, recorded, whole

import grandlattice as lattice
from conftest import PLAN
from shapes import room_scene

KINDS = ("coordinator", *["worker"] * 6, "everything")


class Campaign:
    """Nights of 240 frames of about 0.2 seconds each, in a folder that remembers how far they came."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.folder, self.notes = folder, folder / "campaign.json"
        self.plan, self.straight = folder / "room.lattice.yaml", folder / "straight"
        self.said = folder / "said.txt"
        self.done = dict.fromkeys(KINDS, 0) | {"nights": 0}
        if self.notes.exists():
            self.done = json.loads(self.notes.read_text())
        else:
            folder.mkdir(parents=True, exist_ok=True)
            room_scene(folder / "room.usda")
            self.plan.write_text(PLAN.replace("samples: 4", "samples: 280\n  frames: 1-60"))
            assert lattice.open_plan(self.plan).run(workers=2, into=self.straight).ok
            self.note()
        self.expected = {name.removeprefix("out/"): digest for name, digest in whole(self.straight).items()}
        self.rng = random.Random(f"{seed} {self.kills}")

    @property
    def kills(self) -> int:
        return sum(self.done[kind] for kind in set(KINDS))

    def note(self) -> None:
        self.notes.write_text(json.dumps(self.done))

    def night(self, most: int) -> str:
        """One night, killed again and again until it is done; what is wrong with what it leaves."""
        fresh = ["--fresh"] if self.done["nights"] else []
        for _ in range(400):
            code = self.attempt(fresh, most)
            if problem := self.broken(certain=not fresh):
                return problem
            if code == 0:
                break
            fresh = []
        else:
            return "the night never ended"
        self.done["nights"] += 1
        self.note()
        return self.wrong()

    def attempt(self, fresh: list[str], most: int) -> int:
        """One run, until it ends or is killed; its exit code."""
        with self.said.open("w") as said:
            process = subprocess.Popen(
                [*COMMAND, *fresh],
                cwd=self.folder,
                start_new_session=True,
                stdout=subprocess.DEVNULL,
                stderr=said,
            )
        while True:
            try:
                return process.wait(self.rng.uniform(0.1, 1.5))
            except subprocess.TimeoutExpired:
                pass
            if self.kills >= most:
                return process.wait(600)
            kind = self.rng.choice(KINDS)
            if self.strike(process, kind):
                self.done[kind] += 1
                self.note()

    def strike(self, process: subprocess.Popen, kind: str) -> bool:
        """Kill something of a run; whether it was there."""
        try:
            children = [
                child for child in psutil.Process(process.pid).children()
                if "spawn_main" in " ".join(child.cmdline())
            ]  # fmt: skip
            if kind == "coordinator":
                process.kill()
                for child in children:  # they end by themselves
                    child.wait(30)
            elif kind == "everything":
                os.killpg(process.pid, signal.SIGKILL)
            elif children:
                self.rng.choice(children).kill()
            else:
                return False
        except (psutil.NoSuchProcess, ProcessLookupError):
            return False
        return True

    def broken(self, certain: bool) -> str:
        """What is wrong after an attempt; empty where nothing is.

        A run with ``--fresh`` forgets its files before it makes them anew: only after another one is what
        the ledger knows `certain` to be there.
        """
        if "Traceback" in (said := self.said.read_text()):
            return said
        found = whole(self.folder / "out")
        if other := {name for name, digest in found.items() if self.expected.get(name) != digest}:
            return f"other pixels: {sorted(other)[:3]}"
        known = {name.removeprefix("out/") for name in recorded(self.plan)}
        return (
            f"recorded and not there: {sorted(known - set(found))[:3]}"
            if certain and known - set(found)
            else ""
        )

    def wrong(self) -> str:
        """What is wrong after a night; empty where nothing is."""
        if missing := set(self.expected) - set(whole(self.folder / "out")):
            return f"missing: {sorted(missing)[:3]}"
        if left := [path for path in self.folder.rglob("*.part*") if "straight" not in path.parts]:
            return f"left behind: {left[:3]}"
        with sqlite3.connect(self.folder / "room.ledger.sqlite") as ledger:
            rows = dict(ledger.execute("SELECT path, bytes FROM files"))
            states = dict(ledger.execute("SELECT state, COUNT(*) FROM members GROUP BY state"))
        if rows != {name: (self.folder / name).stat().st_size for name in rows} or len(rows) != len(
            self.expected
        ):
            return f"the ledger knows {len(rows)} files of {len(self.expected)}, or other sizes"
        if states != {"done": 240} or lattice.open_plan(self.plan).run(workers=0).outlook.todo:
            return f"not done: {states}"
        return ""


def main() -> None:
    asked = argparse.ArgumentParser()
    asked.add_argument("folder", type=Path)
    asked.add_argument("--kills", type=int, default=1000)
    asked.add_argument("--seed", type=int, default=1)
    how = asked.parse_args()
    campaign, found, began = Campaign(how.folder, how.seed), 0, time.monotonic()
    while campaign.kills < how.kills:
        problem = campaign.night(how.kills)
        found += bool(problem)
        print(f"{campaign.done}  {problem or 'as undisturbed'}", flush=True)
    print(f"{campaign.kills} kills, {found} problems, {time.monotonic() - began:.0f} s")
    sys.exit(1 if found else 0)


if __name__ == "__main__":
    main()
