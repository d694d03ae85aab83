"""What the campaigns have in common: how long they last, what they found, how a command answers."""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import time
from pathlib import Path

GLAT = [sys.executable, "-m", "grandlattice"]
_ACCIDENTS = "not foresee", "Traceback", "\x1b", "pxrInternal", "pxr/usd", "/opt/USD"


class Campaign:
    """Tries one thing after the other, the same ones for the same seed, until its time is over.

    Parameters
    ----------
    of : what it tries, in the plural.
    seconds : how long it lasts if the command does not say.
    """

    def __init__(self, of: str, seconds: float) -> None:
        asked = argparse.ArgumentParser()
        asked.add_argument("--seconds", type=float, default=seconds)
        asked.add_argument("--seed", type=int, default=1)
        how = asked.parse_args()
        self.seed, self.count = how.seed, 0
        self.rng = random.Random(how.seed)
        self._of, self._found = of, 0
        self._ends = time.monotonic() + how.seconds

    @property
    def goes_on(self) -> bool:
        """Whether there is time for another one."""
        return time.monotonic() < self._ends

    def tried(self, title: str, *problems: str) -> None:
        """Count one, and say what is wrong with it; empty problems are none."""
        self.count += 1
        for problem in filter(None, problems):
            self._found += 1
            print(f"### {title}: {problem}", flush=True)

    def end(self) -> None:
        """Say what was found; exits with 1 where there is anything."""
        print(f"{self.count} {self._of}, {self._found} problems")
        sys.exit(1 if self._found else 0)


def answer(folder: Path, *command: str, within: float = 30.0) -> tuple[int, str]:
    """The exit code of a command, and what is wrong with how it answers: empty where nothing is; it has
    so many seconds for that."""
    try:
        done = subprocess.run(
            [*GLAT, *command], cwd=folder, capture_output=True, text=True, timeout=within, errors="replace",
            check=False,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return -1, f"glat {command[0]} did not answer within {within:.0f} s"
    said = done.stdout + done.stderr
    if done.returncode in (0, 1, 2) and not any(sign in said for sign in _ACCIDENTS):
        return done.returncode, ""
    return done.returncode, f"glat {command[0]} ended with {done.returncode}: {said[-600:]}"
