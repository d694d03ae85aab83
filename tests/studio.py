"""A cluster of processes of its own, for tests."""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

import psutil
import pytest

import grandlattice as lattice
from grandlattice._support.user_cache import cache_folder


class Studio:
    """A scheduler and workers as processes of their own, as people start them.

    Parameters
    ----------
    words : for all of them.
    host : where the scheduler listens.
    """

    def __init__(
        self, folder: Path, *words: str, protocol: str = "tcp", host: str = "127.0.0.1"
    ) -> None:  # fmt: skip
        self.folder, self.words = folder, words
        self._own = ("--host", host, "--protocol", protocol)
        self.file = folder / "scheduler.json"
        self.workers: list[subprocess.Popen[bytes]] = []
        self.begin()

    def begin(self, port: int = 0) -> None:
        """Begin the scheduler, on any port by default."""
        self.file.unlink(missing_ok=True)
        told = ("--scheduler-file", str(self.file), "--port", str(port), "--no-dashboard")
        self.scheduler = self._start("scheduler", *told, *self._own)
        end = time.monotonic() + 30.0
        while not self.file.exists():
            assert time.monotonic() < end
            time.sleep(0.05)
        time.sleep(0.1)

    def _start(
        self, kind: str, *words: str, within: Sequence[str] = (), **told: str
    ) -> subprocess.Popen[bytes]:  # fmt: skip
        code = f"from distributed.cli.dask_{kind} import main; main()"
        environment = {**os.environ, "GRANDLATTICE_CACHE": str(self.folder / "cache"), **told}
        return subprocess.Popen(
            [*within, sys.executable, "-c", code, *words, *self.words], cwd=self.folder, env=environment,
            stdout=subprocess.DEVNULL, stderr=(self.folder / f"{kind}.log").open("ab"),
        )  # fmt: skip

    def add(self, count: int = 1, *, within: Sequence[str] = (), **told: str) -> None:
        """Begin workers.

        Parameters
        ----------
        within : command that they are begun by.
        told : of their environment.
        """
        words = ("--scheduler-file", str(self.file), "--nthreads", "1", "--no-dashboard")
        self.workers += [self._start("worker", *words, within=within, **told) for _ in range(count)]

    @property
    def address(self) -> str:
        return str(json.loads(self.file.read_text())["address"])

    def renderers(self) -> list[psutil.Process]:
        """The processes that render for the slots."""
        found = []
        for worker in self.workers:
            with suppress(psutil.Error):  # one that has ended meanwhile
                for child in psutil.Process(worker.pid).children(recursive=True):
                    if "grandlattice.remote.slot" in " ".join(child.cmdline()):
                        found.append(child)
        return found

    def end(self) -> None:
        for process in [*self.workers, self.scheduler]:
            if process.poll() is None:
                for child in psutil.Process(process.pid).children(recursive=True):
                    child.kill()
                process.kill()
            process.wait()


def studio_folder(tmp_path: Path) -> Path:
    """A folder for a studio, whose machines have the kernels that this one has."""
    cache_of_a_machine(tmp_path / "studio/cache")
    return tmp_path / "studio"


def cache_of_a_machine(folder: Path) -> Path:
    """The cache of another machine, with the kernels that this one has."""
    folder.mkdir(parents=True, exist_ok=True)
    for path in cache_folder().glob("*"):
        if path.name != "cluster":
            os.symlink(path, folder / path.name)
    return folder


def pictures(plan: lattice.Plan, run: lattice.Run) -> dict[tuple[str, int], str]:
    """sha256 of the pixels of each frame of each cell."""
    return {
        (cell.address, frame): hashlib.sha256(run.picture(cell.address, frame=frame).tobytes()).hexdigest()
        for cell in plan.cells
        for frame in cell.settings.frames
    }


def apart(monkeypatch: pytest.MonkeyPatch) -> None:
    """Have slots see nothing of this machine, as those of other machines do."""
    monkeypatch.setattr("grandlattice.remote.seats.Seats._sees_our_folders", lambda self, address: False)


def whole(folder: Path) -> None:
    """No file is left under a temporary name."""
    assert list(folder.rglob(".*.part.*")) == []


def remembered_apart(monkeypatch: pytest.MonkeyPatch) -> None:
    """Have the address used last remembered for the tests of this process alone."""
    own = f"cluster-of-tests-{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"
    monkeypatch.setattr("grandlattice.remote.connecting._TABLE", own)
