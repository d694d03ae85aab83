"""Backends and renderers of other packages: installed, found, and asked."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import grandlattice as lattice
from grandlattice.images import read_channels

OTHER = Path(__file__).parent / "other_backend"


@pytest.fixture(scope="module")
def glat_with_others(tmp_path_factory: pytest.TempPathFactory):
    """The command, where the other package is installed."""
    folder, source = tmp_path_factory.mktemp("installed"), tmp_path_factory.mktemp("source") / "other"
    shutil.copytree(OTHER, source, ignore=shutil.ignore_patterns("build", "*.egg-info"))  # pip builds there
    subprocess.run(
        [sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--target", folder, source],
        check=True, capture_output=True,
    )  # fmt: skip

    def glat(where: Path, *arguments: str) -> tuple[int, str]:
        path = os.pathsep.join([str(folder), os.environ.get("PYTHONPATH", "")])
        done = subprocess.run(
            [sys.executable, "-m", "grandlattice", *arguments], cwd=where, capture_output=True, text=True,
            env={**os.environ, "PYTHONPATH": path}, timeout=300,
        )  # fmt: skip
        return done.returncode, done.stdout + done.stderr

    return glat


@pytest.mark.long
def test_the_demo_runs_on_a_backend_of_another_package(tmp_path: Path, glat_with_others) -> None:
    from grandlattice.demo import write_demo

    file = write_demo(tmp_path)
    small = ["--set", "samples=1", "--set", "scale=10%", "--set", "denoise=false", "--at", "camera=Dial"]
    code, said = glat_with_others(tmp_path, "run", "--on", "threads:2", *small)
    assert code == 0, said
    there = {str(path.relative_to(tmp_path)): path for path in tmp_path.rglob("*.exr")}
    assert lattice.open_plan(file).override(samples=1, scale="10%", denoise=False).run(
        at="camera=Dial", into=tmp_path / "here", workers=1
    ).ok  # fmt: skip
    here = {str(path.relative_to(tmp_path / "here")): path for path in (tmp_path / "here").rglob("*.exr")}
    assert set(there) == set(here)
    assert len(here) == 7
    for name, path in here.items():
        np.testing.assert_array_equal(read_channels(path, "RGBA"), read_channels(there[name], "RGBA"))


@pytest.mark.long
def test_a_renderer_of_another_package_draws_and_the_plan_names_a_backend(
    plan_file: Path, glat_with_others
) -> None:
    plan_file.write_text(
        plan_file.read_text()
        .replace("samples: 4", "samples: 4\n  renderer: flat")
        .replace("[beauty, depth]", "beauty")
        + "run: {on: threads}\n"
    )
    code, said = glat_with_others(plan_file.parent, "run", "--at", "day/Front", "--workers", "1")
    assert code == 0, said
    (file,) = plan_file.parent.rglob("*.exr")
    np.testing.assert_allclose(read_channels(file, "RGBA")[5, 5], (0.25, 0.5, 0.75, 1.0), rtol=1e-3)


@pytest.mark.long
def test_what_is_not_installed_is_said_with_what_is(plan_file: Path, glat) -> None:
    code, said = glat(plan_file.parent, "run", "--on", "smoke://render:8786")
    assert code == 2
    assert not list(plan_file.parent.glob("*.sqlite"))  # nothing was begun
    assert "There is no backend smoke" in said
    assert "Known here: " in said
    plan_file.write_text(plan_file.read_text().replace("samples: 4", "samples: 4\n  renderer: trcer"))
    code, said = glat(plan_file.parent, "cells")
    assert (code, "Did you mean tracer" in said) == (2, True)
