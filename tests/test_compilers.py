"""One picture with the kernels of each compiler; the plain one takes minutes to compile, once."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from conftest import PLAN
from grandlattice.images import read_channels
from shapes import room_scene


@pytest.mark.long
def test_both_compilers_make_the_same_picture_but_for_rounding(tmp_path: Path) -> None:
    room_scene(tmp_path / "room.usda")
    text = PLAN.replace("samples: 4", "samples: 64")
    (tmp_path / "room.lattice.yaml").write_text(text)
    pictures = {}
    for compiler in ("fast", "plain"):
        subprocess.run(
            [sys.executable, "-m", "grandlattice", "run", "--at", "day/Front", "--workers", "1", "--into", compiler],
            cwd=tmp_path, env={**os.environ, "GRANDLATTICE_COMPILER": compiler}, check=True, capture_output=True,
        )  # fmt: skip
        with sqlite3.connect(tmp_path / compiler / "room.ledger.sqlite") as ledger:
            assert ledger.execute("SELECT compiler FROM runs").fetchone() == (compiler,)
        (file,) = (tmp_path / compiler).rglob("*.exr")
        pictures[compiler] = read_channels(file, ("R", "G", "B", "Z"))
    fast, plain = pictures["fast"], pictures["plain"]
    # A sample whose path turns elsewhere for a last bit changes its pixel; nearly all stay as they are.
    same = np.isclose(fast, plain, rtol=2e-3, atol=2e-3, equal_nan=True).all(axis=-1)
    assert same.mean() > 0.98
    assert abs(fast[..., :3].mean() / plain[..., :3].mean() - 1.0) < 2e-3


def test_threads_that_begin_at_the_same_time_share_what_a_process_has_once() -> None:
    # Two handles of the ray library were made, and shapes of one were left out of scenes of the other.
    script = """
import threading
from grandlattice.tracer import embree, kernel, scattering
for make in (embree._device, kernel.load_kernels, scattering.albedo_tables):
    ready, made = threading.Barrier(8), []
    def ask():
        ready.wait()
        made.append(make())
    threads = [threading.Thread(target=ask) for _ in range(8)]
    [each.start() for each in threads], [each.join() for each in threads]
    assert len({id(each) if make is not embree._device else each for each in made}) == 1, make
"""
    subprocess.run([sys.executable, "-c", script], check=True)
