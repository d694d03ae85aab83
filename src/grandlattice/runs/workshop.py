"""What a worker does with a task: have it rendered, write its files."""

from __future__ import annotations

import platform
import time
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.plug_ins import RENDERERS, load_plug_in
from grandlattice._support.readable import many
from grandlattice.errors import ImageError, RunError, SceneError
from grandlattice.plan import Cell, CellSettings
from grandlattice.runs.embedded_renderer import EmbeddedRenderer
from grandlattice.runs.file_writing import Filer
from grandlattice.runs.finishing import to_finish
from grandlattice.runs.ledger import FileRecord
from grandlattice.runs.store import Prepared
from grandlattice.runs.tasks import Shot, Task, kind_of
from grandlattice.runs.work_order import (
    MemberResult,
    Rendered,
    Renderer,
    Taken,
    TaskResult,
    Told,
    WorkOrder,
)
from grandlattice.scene_records import Snapshot
from grandlattice.stage import Scene, open_scene
from grandlattice.tracer import StopSignal, use_compiler


class Workshop:
    """Carries out the tasks of one run, one at a time.

    Parameters
    ----------
    order : what the tasks have in common.
    scene : opened, where the caller has it; else it is opened here.

    Raises
    ------
    SceneError
        When the scene is gone, or is another than when the run began.
    """

    def __init__(self, order: WorkOrder, scene: Scene | None = None) -> None:
        self._order = order
        if order.compiler:
            use_compiler(order.compiler)
        refuse_changed(order.scene_files)
        self._scene = scene or open_scene(order.scene)
        self._filer = Filer(order, lambda *asked: self._embedded.measure(*asked))
        self._renderers: dict[str, Renderer] = {}

    def perform(self, task: Task, progress: Told | None = None, stop: StopSignal | None = None) -> TaskResult:
        """Render a task and write its files, under temporary names.

        Raises
        ------
        LatticeError
            When something in the scene, the plan or the output folder stands in the way.
        Stopped
            When `stop` was set meanwhile; nothing is left of the task then.
        """
        started = time.perf_counter()
        finished = self._finished(task)
        made = dict(finished)
        left = task.without(finished)
        notes, films = list[str](), list[_Made]()
        renderer = None if left is None else self._renderer(task.first.settings.renderer)
        for each in () if renderer is None or left is None else renderer.render(left, progress, stop):
            shot = task.films[each.number]
            wild = _not_numbers(each)
            if wild and renderer is not None and not renderer.accepts_nan:
                raise _of_nan(shot, each, wild)
            notes += [f"frame {shot.frame}: {wild}"] if wild else []
            film = each.film
            films.append(
                _Made(
                    film.samples, film.noise, film.unfinished, film.seconds, film.rays, film.relit is not None
                )
            )  # fmt: skip
            for member in left.members if left is not None else ():
                if member.film == each.number:
                    made[member.number] = films[-1], self._filer.prepare(task, member, each)
        notes = [*(renderer.notes if renderer is not None else ()), *notes]
        relit = sum(film.relit for film, _ in made.values())
        lacking = next((member for member in task.members if member.number not in made), None)
        if lacking is not None:
            raise RunError(
                f"The renderer {task.first.settings.renderer} made no picture of {lacking.cell.address}, "
                f"frame {lacking.frame}.",
                cure="every frame of a task must come back from it",
            )
        if renderer is not None:
            renderer.done()
        seconds = time.perf_counter() - started
        files_of = {member.number: len(member.files) for member in task.members}
        members = (
            MemberResult(
                number, film.samples, film.noise, film.unfinished, files_of[number], seconds / len(made)
            )
            for number, (film, _) in made.items()
        )
        is_part = self._order.further or any(film.unfinished for film in films)  # tells nothing of a whole
        return TaskResult(
            members=tuple(members), files=tuple(each for _, files in made.values() for each in files),
            trace_seconds=sum(film.seconds for film in films), seconds=seconds,
            rays=sum(film.rays for film in films), notes=tuple(notes), cores=self._order.threads,
            kind="" if relit or finished or is_part else kind_of(task.first), log="\n".join(notes),
            host=platform.node(), relit=relit, finished=len(finished),
        )  # fmt: skip

    def _finished(self, task: Task) -> dict[int, tuple[_Made, list[tuple[Prepared, FileRecord]]]]:
        """Members of a task whose files are written from others of theirs, without a trace; one whose file
        cannot be read is traced."""
        made: dict[int, tuple[_Made, list[tuple[Prepared, FileRecord]]]] = {}
        for member in task.members if self._order.reuse and not self._order.further else ():
            sources = to_finish(self._order.store, member)
            if not sources:
                continue
            try:
                files = self._filer.finish(task, member, sources)
            except ImageError:
                continue
            record = files[0][1]
            film = _Made(record.samples, record.noise, record.unfinished, 0.0, 0, relit=False)
            made[member.number] = film, files
        return made

    def _renderer(self, wanted: str) -> Renderer:
        if wanted not in self._renderers:
            name, _, version = wanted.partition(" ")
            kind = "command" if name in self._order.model.renderers else name
            make = load_plug_in(RENDERERS, kind)
            self._renderers[wanted] = make(self._order, self._scene, name, version or None)
        return self._renderers[wanted]

    @cached_property
    def _embedded(self) -> EmbeddedRenderer:
        """The tracer, for the small pictures that probes and meters look at."""
        usual = self._renderer(CellSettings.renderer)
        return usual if isinstance(usual, EmbeddedRenderer) else EmbeddedRenderer(self._order, self._scene)

    def snapshot(self, cell: Cell, frame: int) -> Snapshot:
        """A cell's edits laid over the scene, and the scene at a frame."""
        return self._embedded.snapshot(cell, frame)

    def images_for(self, snapshot: Snapshot, cell: Cell):  # type: ignore[no-untyped-def]
        """Every image a snapshot needs, None for those that are missing and may be."""
        return self._embedded.images_for(snapshot, cell)

    def glance(self, cell: Cell) -> NDArray[np.float64]:
        """The luminance of a tiny picture of a cell; see `EmbeddedRenderer.glance`."""
        return self._embedded.glance(cell)

    def probe(self, cell: Cell, frame: int) -> Taken:
        """What a cell takes, by rendering it small; see `EmbeddedRenderer.probe`."""
        return self._embedded.probe(cell, frame)


class _Made(NamedTuple):
    """What is told of a film when its pixels are gone."""

    samples: int
    noise: float | None
    unfinished: bool
    seconds: float
    rays: int
    relit: bool


def _not_numbers(rendered: Rendered) -> str:
    """What is said of pixels that are no numbers; empty where all are."""
    for name, pixels in rendered.film.passes.items():
        # A depth may be infinite, and a surface may have no place; light always is some number.
        wild = (~np.isfinite(pixels) if name == "beauty" else np.isnan(pixels)).any(axis=-1)
        if wild.any():
            y, x = (int(k) for k in np.argwhere(wild)[0])
            return f"{many(int(wild.sum()), 'pixel')} of {name} are no numbers, the first at {x} {y}"
    return ""


def _of_nan(shot: Shot, rendered: Rendered, wild: str) -> RunError:
    outside = rendered.original is not None
    return RunError(
        f"{shot.cell.address}, frame {shot.frame}: {wild}.",
        cure="look for values that are no numbers in its lights, materials and transforms"
        + ("; accept: [nan] under the renderer lets such pictures count" if outside else ""),
    )


def refuse_changed(files: tuple[tuple[Path, int, int], ...]) -> None:
    """Refuse a scene that is another than when the run began: its pictures would not be what their
    fingerprints say.

    Raises
    ------
    SceneError
        Naming the first file that changed.
    """
    for path, size, changed in files:
        try:
            found = path.stat()
        except OSError:
            raise SceneError(
                f"{path.name} was taken away while the run was under way.",
                cure="put it back and give the same glat run again; what is done is kept",
            ) from None
        if (found.st_size, found.st_mtime_ns) != (size, changed):
            raise SceneError(
                f"{path.name} was changed while the run was under way.",
                cure="give the same glat run again; it renders anew what the change concerns",
            )
