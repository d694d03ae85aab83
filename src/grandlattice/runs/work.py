"""What a worker does with a task: compose, snapshot, trace, write.

A `Workshop` opens the scene once and keeps it; task after task only what differs is read again.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import partial
from importlib.metadata import version
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from pxr import Ar
from pydantic import BaseModel

from grandlattice.errors import ImageError, Place, SceneError
from grandlattice.images import (
    MARK,
    Channels,
    read_image,
    to_display,
    with_label,
    write_display,
    write_exr,
    write_hdr,
)
from grandlattice.plan import Cell, CellSettings, PlanModel
from grandlattice.runs.ledger import FileRecord, coordinates_text
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Task, TaskFile
from grandlattice.snapshot import Camera, Snapshot
from grandlattice.stage import CellStage, Snapshotter, open_scene, read_asset
from grandlattice.tracer import PASSES, Film, Sensor, Tracer, TraceSettings, image_files


class StopSignal(Protocol):
    """Says whether to stop; an event of threads or of processes."""

    def is_set(self) -> bool: ...


@dataclass(frozen=True)
class WorkOrder:
    """What every task of a run has in common; it is sent to each worker once.

    Attributes
    ----------
    model, folder : the plan and the folder its file names are relative to.
    scene, output : the scene, and the folder pictures are written below.
    threads : that trace, in each worker.
    allow_missing : use a texture's fallback where its image is missing.
    plan_name : for metadata.
    """

    model: PlanModel
    folder: Path
    scene: Path
    output: Path
    plan_name: str
    threads: int = 1
    allow_missing: bool = False
    run: int = 0


@dataclass(frozen=True)
class TaskResult:
    """A finished task: its files, the seconds of tracing and of everything, rays, and notes."""

    records: tuple[FileRecord, ...]
    trace_seconds: float
    seconds: float
    rays: int
    notes: tuple[str, ...] = field(default=())


class Workshop:
    """Carries out the tasks of one run, one at a time."""

    def __init__(self, order: WorkOrder) -> None:
        self._order = order
        self._stage = CellStage(open_scene(order.scene), order.model, order.folder)
        self._snapshots = Snapshotter(self._stage)
        self._tracer = Tracer(order.threads)
        self._store = FolderStore(order.output)
        self._images: dict[str, tuple[float, NDArray | None]] = {}

    def perform(
        self, task: Task, progress: Callable[[float], None] | None = None,
        stop: StopSignal | None = None,
    ) -> TaskResult:  # fmt: skip
        """Render a task and write its files.

        Raises
        ------
        LatticeError
            When something in the scene, the plan or the output folder stands in the way.
        Stopped
            When `stop` was set meanwhile; nothing is left of the task then.
        """
        started = time.perf_counter()
        film, notes = self.trace(task, progress, stop)
        records = []
        for member in task.cells:
            for file in member.files:
                write = partial(self._write, file=file, cell=member.cell, film=film)
                size = self._store.put(file.planned.path, write)
                records.append(self._record(member.cell, file, size, film))
        return TaskResult(tuple(records), film.seconds, time.perf_counter() - started, film.rays, notes)

    def trace(
        self, task: Task, progress: Callable[[float], None] | None = None,
        stop: StopSignal | None = None,
    ) -> tuple[Film, tuple[str, ...]]:  # fmt: skip
        """Render a task without writing anything."""
        cell = task.first
        settings = cell.settings
        snapshot = self.snapshot(cell, task.frame)
        film = self._tracer.trace(
            snapshot,
            self.images_for(snapshot, cell),
            Sensor(snapshot.camera, settings.size.width, settings.size.height, settings.fit == "crop"),
            TraceSettings(
                samples=settings.samples,
                seed=settings.seed,
                bounces=settings.bounces,
                clamp=settings.clamp,
                show_background=settings.background == "sky",
                denoise=settings.denoise,
            ),
            task.passes,
            progress,
            stop,  # type: ignore[arg-type]
        )
        return film, tuple(f"{prim}: {what}" for prim, what, _ in self._stage.notes)

    def snapshot(self, cell: Cell, frame: int) -> Snapshot:
        """A cell's edits laid over the scene, and the scene at a frame."""
        if cell.settings.camera is None:
            raise SceneError(
                f"{cell.address} has no camera.",
                cure="set camera: under defaults, or add an axis with each: cameras",
            )
        self._stage.switch(cell.edits)
        snapshot = self._snapshots.take(cell.settings.camera, frame)
        return replace(snapshot, camera=_focused(snapshot.camera, cell.settings, snapshot.metres_per_unit))

    def glance(self, cell: Cell) -> tuple[float, float]:
        """The median and the highest luminance of a tiny picture of a cell, exposure in it; 1 is white.

        Where something catches shadow its alpha counts as light: such a picture is black by design.
        """
        settings = cell.settings
        snapshot = self.snapshot(cell, settings.frames[0])
        width = 64 if settings.size.width >= settings.size.height else 40
        height = max(8, min(80, round(width * settings.size.height / settings.size.width)))
        film = self._tracer.trace(
            snapshot, self.images_for(snapshot, cell),
            Sensor(snapshot.camera, width, height, settings.fit == "crop"),
            TraceSettings(samples=16, seed=settings.seed, bounces=min(settings.bounces, 4), clamp=10.0),
        )  # fmt: skip
        beauty = film.passes["beauty"]
        luminance = beauty[..., :3] @ (0.2126, 0.7152, 0.0722) * 2.0**settings.exposure
        if any(item.catches for item in snapshot.items):
            luminance = np.maximum(luminance, beauty[..., 3])
        return float(np.median(luminance)), float(np.quantile(luminance, 0.99))

    def images_for(self, snapshot: Snapshot, cell: Cell) -> Mapping[str, NDArray | None]:
        """Every image a snapshot needs, None for those that are missing and may be."""
        images = {}
        for file, texture in image_files(snapshot).items():
            image = self._image(file)
            if image is None and not self._order.allow_missing:
                raise SceneError(
                    f"{cell.address} lacks the image {file or 'of this texture'}.",
                    place=Place(prim=texture.prim),
                    cure="put the file back, or allow its fallback colour with --allow-missing",
                )
            images[file] = image
        return images

    def _image(self, file: str) -> NDArray | None:
        """An image, kept until its file changes; None when it is missing or none."""
        outer = Path(Ar.SplitPackageRelativePathOuter(file)[0] if "[" in file else file)
        try:
            changed = outer.stat().st_mtime
        except OSError:
            return None
        known = self._images.get(file)
        if known is None or known[0] != changed:
            try:
                packaged = read_asset(file) if "[" in file else None
                image = read_image(file, packaged) if "[" not in file or packaged else None
            except ImageError:
                image = None
            self._images[file] = known = changed, image
        return known[1]

    # --- writing -----------------------------------------------------------------------------

    def _write(self, path: Path, file: TaskFile, cell: Cell, film: Film) -> None:
        settings, kind = cell.settings, file.planned.format
        metadata = self._metadata(cell, file, film)
        ppi = settings.size.ppi
        if kind == "exr":
            options = settings.files.exr
            layers = [
                Channels(
                    PASSES[name].channels, film.passes[name],
                    PASSES[name].exact or options.passes.get(name, options.depth) == "float",
                )
                for name in file.planned.passes
            ]  # fmt: skip
            half = options.depth == "half" or "half" in options.passes.values()
            write_exr(path, layers, metadata, half=half, ppi=ppi)
            return
        beauty = film.passes["beauty"]
        if kind == "hdr":
            write_hdr(path, beauty[..., :3], metadata)
            return
        pixels = to_display(beauty, settings.display, settings.exposure)
        if settings.label:
            words = [f"{axis} {entry}" for axis, entry in cell.coordinates.items()]
            figures = f"frame {file.planned.frame}   {film.samples} samples   {film.seconds:.1f} s"
            pixels = with_label(pixels, cell.name or "   ".join(words) or self._order.plan_name, figures)
        deep = getattr(settings.files, kind)
        bits = int(deep.depth) if kind in ("png", "tiff") else 8
        write_display(
            path, pixels, metadata, kind=kind, bits=bits, quality=settings.files.jpg.quality, ppi=ppi
        )

    def _metadata(self, cell: Cell, file: TaskFile, film: Film) -> dict[str, str | int | float]:
        edits = "; ".join(f"{p.edit.verb} {_as_typed(p.edit.body)} ({p.source})" for p in cell.edits)
        facts: dict[str, str | int | float] = {
            "Software": f"Grand Lattice {version('grandlattice')}",
            f"{MARK}plan": self._order.plan_name,
            f"{MARK}scene": self._order.scene.name,
            f"{MARK}cell": cell.address,
            f"{MARK}frame": file.planned.frame,
            f"{MARK}camera": cell.settings.camera or "",
            f"{MARK}edits": edits,
            f"{MARK}samples": film.samples,
            f"{MARK}seed": cell.settings.seed,
            f"{MARK}seconds": round(film.seconds, 3),
            f"{MARK}rays": film.rays,
            f"{MARK}denoised": int(film.denoised),
            f"{MARK}versions": _versions(),
            f"{MARK}fingerprint": file.fingerprint,
        }
        facts |= {f"{MARK}axis:{axis}": entry for axis, entry in cell.coordinates.items()}
        return facts

    def _record(self, cell: Cell, file: TaskFile, size: int, film: Film) -> FileRecord:
        return FileRecord(
            path=file.planned.path,
            cell=cell.address,
            coordinates=coordinates_text(dict(cell.coordinates)),
            frame=file.planned.frame,
            format=file.planned.format,
            passes=" ".join(file.planned.passes),
            fingerprint=file.fingerprint,
            bytes=size,
            width=film.width,
            height=film.height,
            samples=film.samples,
            rays=film.rays,
            seconds=film.seconds,
            denoised=film.denoised,
            finished=time.time(),
            run=self._order.run,
        )


def _focused(camera: Camera, settings: CellSettings, metres_per_unit: float) -> Camera:
    """The camera with the cell's own f-number and distance in focus."""
    if settings.fstop is not None:
        radius = camera.focal_length / (2.0 * settings.fstop) if settings.fstop > 0 else 0.0
        camera = replace(camera, lens_radius=radius)
    if settings.focus is not None:
        camera = replace(camera, focus_distance=settings.focus.in_units(metres_per_unit))
    return camera


def _as_typed(body: BaseModel) -> object:
    return body.model_dump(mode="json", by_alias=True, exclude_unset=True)


def _versions() -> str:
    return f"grandlattice {version('grandlattice')}, usd-core {version('usd-core')}, numpy {np.__version__}"
