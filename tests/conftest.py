"""Fixtures: the demo written once, and a small scene of its own for each test that asks."""

from __future__ import annotations

import hashlib
import io
import os
import signal
import subprocess
import sys
import threading
from contextlib import redirect_stderr, redirect_stdout, suppress
from datetime import date
from pathlib import Path

import psutil
import pytest

# Commands in processes of their own load what was compiled once, whatever this machine says of it.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
sys.dont_write_bytecode = False

import grandlattice as lattice  # noqa: E402
from grandlattice.demo import write_demo  # noqa: E402
from shapes import room_scene  # noqa: E402

QUICK = {
    "test_docs", "test_edits", "test_house", "test_images", "test_ledger", "test_lights", "test_matrix", "test_rates",
    "test_shapes", "test_stage", "test_tables", "test_textures", "test_words",
}  # fmt: skip
"""Files whose tests, but for the long ones, take a minute together."""


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--shuffled", action="store_true", help="in another order each day")


@pytest.hookimpl(tryfirst=True)  # before marks choose
def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    for item in items:
        if item.path.stem in QUICK and item.get_closest_marker("long") is None:
            item.add_marker("quick")
    if config.getoption("--shuffled"):
        day = date.today().isoformat()
        items.sort(key=lambda item: hashlib.sha256(f"{day} {item.nodeid}".encode()).digest())


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The plan of the demo, in a folder of its own; render into other folders."""
    return write_demo(tmp_path_factory.mktemp("demo"))


@pytest.fixture
def scene(tmp_path: Path) -> Path:
    """A small scene below the test's own folder."""
    return room_scene(tmp_path / "room.usda")


PLAN = """\
lattice: 1
scene: room.usda
select: {toys: //Toys}
defaults:
  size: 48x32
  samples: 4
  own-trace: true                 # a task for each cell; shared traces have tests of their own
  passes: [beauty, depth]
  format: [exr, png]
  output: "out/{light}/{camera}.{frame:04d}.{ext}"
axes:
  light:
    day:
    night:
      edits:
        - hide: /World/Lights/Sky
        - multiply:
            on: /World/Lights/Key
            intensity: 2
  camera:
    each: cameras
"""


@pytest.fixture
def plan_file(scene: Path) -> Path:
    """A plan of four small cells for `scene`."""
    file = scene.with_name("room.lattice.yaml")
    file.write_text(PLAN)
    return file


OWN_PROCESS = ("run", "continue", "proof", "demo", "live", "--help", "--version")
"""Commands that are tested in a process of their own: they start others, or how they start is what counts."""


@pytest.fixture
def glat():
    """Run the real command line in a folder; returns (exit code, what it printed)."""

    def here(folder: Path, arguments: tuple[str, ...]) -> tuple[int, str]:
        """The command in this process: a new one takes a second or two to load its libraries."""
        from grandlattice.cli.main import main

        said, code = io.StringIO(), 0
        before = Path.cwd()
        handled = {
            number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
        }
        with pytest.MonkeyPatch.context() as patch, redirect_stdout(said), redirect_stderr(said):
            patch.setenv("COLUMNS", "200")
            patch.setenv("NO_COLOR", "1")
            patch.setattr(sys, "argv", ["glat", *arguments])
            os.chdir(folder)
            try:
                main()
            except SystemExit as done:
                code = int(done.code or 0)
            finally:
                os.chdir(before)
                for number, handler in handled.items():
                    signal.signal(number, handler)
        return code, said.getvalue()

    def run(folder: Path, *arguments: str, timeout: float = 180.0) -> tuple[int, str]:
        if arguments and arguments[0] not in OWN_PROCESS:
            return here(folder, arguments)
        environment = {**os.environ, "COLUMNS": "200", "NO_COLOR": "1"}
        done = subprocess.run(
            [sys.executable, "-c", "from grandlattice.cli.main import main; main()", *arguments],
            cwd=folder, env=environment, capture_output=True, text=True, timeout=timeout, check=False,
        )  # fmt: skip
        return done.returncode, done.stdout + done.stderr

    run.here = here  # type: ignore[attr-defined]  # for those who know that nothing else goes on
    return run


class StandStill:
    """Has the workers of the runs this process began stand still.

    What they do is under way for as long as a test needs it to be, however fast it is traced.
    """

    def __init__(self) -> None:
        self.held: list[psutil.Process] = []

    @staticmethod
    def workers() -> list[psutil.Process]:
        """Workers of runs here, and of commands begun here."""
        found = []
        for process in psutil.Process().children(recursive=True):
            with suppress(psutil.Error):  # it has ended meanwhile
                if any("spawn_main" in word for word in process.cmdline()):
                    found.append(process)
        return found

    def begin(self) -> None:
        for worker in self.workers():
            with suppress(psutil.Error):
                worker.suspend()
                self.held.append(worker)

    def end(self) -> None:
        while self.held:
            with suppress(psutil.Error):
                self.held.pop().resume()


def meanwhile(plan: lattice.Plan, order) -> lattice.Run:  # type: ignore[no-untyped-def]
    """Run a plan and tell of what happens from another thread, as another terminal would.

    The worker stands still while it is told that a task has begun.
    """
    waiting: list[threading.Thread] = []

    def tell(event: lattice.Event, still: StandStill) -> None:
        try:
            order(event)
        finally:
            still.end()

    def hear(event: lattice.Event) -> None:
        still = StandStill()
        if isinstance(event, lattice.Started):
            still.begin()
        waiting.append(threading.Thread(target=tell, args=(event, still)))
        waiting[-1].start()

    run = plan.run(workers=1, on_event=hear)
    for thread in waiting:
        thread.join()
    return run
