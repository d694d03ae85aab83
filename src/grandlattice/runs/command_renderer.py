"""Any renderer that draws a USD file: the cell exported, a command run on it, its files looked at.

The command is a list of arguments, filled in one by one and never put through a shell.  What it
wrote counts when it can be read to its end, has the size asked for, and the channels of every
pass; whatever it says of itself.
"""

from __future__ import annotations

import os
import re
import shutil
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import numpy as np

from grandlattice.errors import ImageError, Place, RunError, SceneError, WorkerError
from grandlattice.images import read_channels, read_facts
from grandlattice.plan import Cell
from grandlattice.runs.renderer_process import RendererProcess, end_noted_process
from grandlattice.runs.tasks import Task
from grandlattice.runs.temporary_files import exchange_folder, new_attempt
from grandlattice.runs.work_order import Rendered, Told, WorkOrder
from grandlattice.stage import Scene, export_cell
from grandlattice.tables.passes import known_pass
from grandlattice.tracer import Film, Stopped, StopSignal

_MOST_NOTES = 20
_LAST_LINES = 200
_LOUDEST = 1_000_000  # letters of what a renderer says that go into the log as they come


def make(order: WorkOrder, scene: Scene, name: str, version: str | None) -> ExternalRenderer:
    """A renderer of the plan's own, for the entry point ``command``."""
    return ExternalRenderer(order, scene, name, version)


class ExternalRenderer:
    """Draws with a command renderer of the plan.

    Parameters
    ----------
    order : what the tasks have in common.
    scene : opened.
    name, version : which of the plan's renderers, and which of its executables.
    """

    def __init__(self, order: WorkOrder, scene: Scene, name: str, version: str | None) -> None:
        self._order, self._scene, self._name = order, scene, name
        self._renderer = order.model.renderers[name]
        self._executable = self._renderer.executable(version)
        self._work: Path | None = None
        self._notes: list[str] = []
        self._share = 0.0
        self._said = 0

    @property
    def notes(self) -> tuple[str, ...]:
        return tuple(self._notes)

    def render(
        self, task: Task, progress: Told | None = None, stop: StopSignal | None = None
    ) -> list[Rendered]:
        self._notes, self._share, self._said = [], 0.0, 0
        cell, started = task.first, time.perf_counter()
        if cell.settings.camera is None:
            raise SceneError(f"{cell.address} has no camera.", cure="set camera: under defaults")
        with self._folder(task) as folder:
            self._run(self._command(task, folder), folder, task, progress, stop)
            seconds = (time.perf_counter() - started) / len(task.frames)
            frames = [(number, task.films[number].frame) for number in task.wanted]
            return [self._rendered(task, number, frame, folder, seconds) for number, frame in frames]

    @property
    def accepts_nan(self) -> bool:
        return "nan" in self._renderer.accept

    def done(self) -> None:
        if self._work is not None:
            shutil.rmtree(self._work, ignore_errors=True)

    # --- the command ---------------------------------------------------------------------------

    @contextmanager
    def _folder(self, task: Task) -> Iterator[Path]:
        """A folder for what passes between us and the command, below the output; it stays until the
        files of the task have their names."""
        folder = self._order.output / exchange_folder(task.attempt or new_attempt())
        folder.mkdir(parents=True)
        self._work = folder
        try:
            yield folder
        except BaseException:
            end_noted_process(folder)
            shutil.rmtree(folder, ignore_errors=True)
            raise

    def _command(self, task: Task, folder: Path) -> list[str]:
        cell, settings = task.first, task.first.settings
        usd = export_cell(self._scene, self._order.model, self._order.folder, cell, [], folder / "cell.usda")
        number = f"{task.frame:04d}" if len(task.frames) == 1 else self._renderer.number
        fields = {
            "usd": str(usd), "frame": task.frame, "frames": frames_text(task.frames),
            "camera": str(settings.camera), "output": str(folder / f"frame.{number}.exr"),
            "width": settings.size.width, "height": settings.size.height, "samples": settings.samples,
            "seed": settings.seed, "threads": self._order.threads, "executable": self._executable or "",
        }  # fmt: skip
        program, *arguments = (argument.format(**fields) for argument in self._renderer.command)
        beside = self._order.folder / program
        return [str(beside) if os.sep in program and beside.is_file() else program, *arguments]

    def _run(
        self, command: list[str], folder: Path, task: Task, progress: Told | None, stop: StopSignal | None
    ) -> None:
        try:
            process = RendererProcess(command, self._order.folder, folder, self._renderer.environment)
        except (OSError, ValueError) as problem:
            raise RunError(
                f"The renderer {self._name} cannot be started: {command[0]}: "
                f"{getattr(problem, 'strerror', None) or problem}.",
                place=Place(words=f"renderers: {self._name}: command"),
                cure="check the program's path",
            ) from problem
        last: deque[str] = deque(maxlen=_LAST_LINES)
        try:
            for line in process.lines(every=0.2):
                if stop is not None and stop.is_set():
                    raise Stopped
                if line:
                    last.append(line)
                    self._hear(line, progress)
            code = process.wait()
        finally:
            process.end()
            if self._said > _LOUDEST:
                print("…", *last, sep="\n", flush=True)
        if code:
            raise self._ended_with(code, task, next((line for line in reversed(last) if line.strip()), ""))

    def _hear(self, line: str, progress: Told | None) -> None:
        """A line of the command: how far it is, or a warning; any line is a sign of life."""
        self._said += len(line)
        if self._said <= _LOUDEST:
            print(line, flush=True)
        renderer = self._renderer
        if renderer.warnings and len(self._notes) < _MOST_NOTES and re.search(renderer.warnings, line):
            self._notes.append(line.strip())
        if progress is not None:
            found = re.search(renderer.percent, line) if renderer.percent else None
            with suppress(ValueError, TypeError):
                self._share = min(1.0, max(0.0, float(found[1]) / 100.0)) if found else self._share
            progress(self._share)

    def _ended_with(self, code: int, task: Task, last: str) -> Exception:
        said = f" It said last: {last.strip()[:300]}" if last else ""
        whom = f"The renderer {self._name} on {task.first.address}, frame {task.frame},"
        if code < 0:
            return WorkerError(f"{whom} crashed (signal {-code}).{said}", cure="look at its log: glat status")
        if code in self._renderer.retry:
            return WorkerError(f"{whom} asks to be tried again (code {code}).{said}")
        return RunError(f"{whom} ended with code {code}.{said}", cure="look at its log: glat status --failed")

    # --- what it wrote -------------------------------------------------------------------------

    def _rendered(self, task: Task, number: int, frame: int, folder: Path, seconds: float) -> Rendered:
        file, cell = folder / f"frame.{frame:04d}.exr", task.first
        try:
            passes = self._passes(file, task, frame, cell)
        except ImageError as problem:
            raise WorkerError(
                f"The renderer {self._name} said that {cell.address}, frame {frame}, was done: "
                f"{problem.what}",
                cure="try its command by hand; glat export writes the USD it gets",
            ) from problem
        return Rendered(number, Film(passes, cell.settings.samples, 0, seconds), original=file)

    def _passes(self, file: Path, task: Task, frame: int, cell: Cell) -> dict[str, np.ndarray]:
        """The passes in a file that has what was asked for.

        Raises
        ------
        ImageError
            Saying what it lacks.
        """
        if not file.is_file():
            raise ImageError("its file is not there.")
        width, height, held, says = read_facts(file)
        wanted = cell.settings.size
        if (width, height) != (wanted.width, wanted.height):
            raise ImageError(f"its file is {width}x{height} and {wanted} was asked for.")
        if says is not None and says != frame:
            raise ImageError(f"its file says it is frame {says}.")
        passes = {}
        for name in task.passes:
            channels = self._renderer.channels.get(name) or list(
                known_pass(name, self._order.model.own_kinds).channels
            )
            if name == "beauty" and len(channels) == 4 and channels[3] not in held:
                colour = read_channels(file, channels[:3])
                passes[name] = np.concatenate([colour, np.ones_like(colour[..., :1])], axis=2)
            else:
                passes[name] = read_channels(file, channels)
        return passes


def frames_text(frames: tuple[int, ...]) -> str:
    """Frames as most programs take them.

    >>> frames_text((1, 2, 3, 7))
    '1-3,7'
    """
    parts: list[list[int]] = []
    for frame in frames:
        if parts and frame == parts[-1][1] + 1:
            parts[-1][1] = frame
        else:
            parts.append([frame, frame])
    return ",".join(str(a) if a == b else f"{a}-{b}" for a, b in parts)
