"""Rendered frames into files, with what they are in their metadata, each whole or absent."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import fields, replace
from functools import cache, partial
from importlib.metadata import version
from pathlib import Path
from typing import Any

import numpy as np
import psutil
from numpy.typing import NDArray
from pydantic import BaseModel

from grandlattice import images
from grandlattice.plan import Cell, CellSettings
from grandlattice.plan.captions import PictureFigures, label_texts
from grandlattice.plan.settings import MARKS
from grandlattice.runs.camera_facts import CameraFacts
from grandlattice.runs.fingerprints import TaskFile
from grandlattice.runs.finishing import RELIT_ON, TIME_FORM, Source, film_from, noisy_channels
from grandlattice.runs.ledger import FileRecord, coordinates_text
from grandlattice.runs.store import Prepared
from grandlattice.runs.tasks import Member, Task
from grandlattice.runs.work_order import Rendered, WorkOrder
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import known_pass
from grandlattice.tracer import Film, can_denoise, denoised, hashes

Measure = Callable[[Cell, str, str], tuple[tuple[float, float], ...]]
"""Ranges of a cell's pass, by its name and its look; see `images.range_of`."""

_RANGED = ("distance", "place", "amount", "lux")


PRIMS = "prims"
"""The mark that says what is said of the prims in a picture."""


class Filer:
    """Writes the files of tasks.

    Parameters
    ----------
    order : what the tasks have in common.
    measure : what a pass shows at either end of its scale, in all frames of a cell.
    """

    def __init__(self, order: WorkOrder, measure: Measure) -> None:
        self._order, self._measure = order, measure
        self._store = order.store
        self._clean: tuple[Film, tuple[float, tuple[str, ...]], Film] | None = None
        saved = max((changed for _, _, changed in order.scene_files), default=0)
        self._saved = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(saved // 10**9)) if saved else ""

    def prepare(self, task: Task, member: Member, rendered: Rendered) -> list[tuple[Prepared, FileRecord]]:
        """Write every file of a member of a task, under temporary names.

        Raises
        ------
        OutputError
            When one cannot be written.
        """
        film = self._cleaned(rendered.film, member.cell)
        return [
            self._prepare(task, member, file, _of_eye(film, file.planned.eye), rendered)
            for file in member.files
        ]

    def finish(
        self, task: Task, member: Member, wanted: Sequence[Source]
    ) -> list[tuple[Prepared, FileRecord]]:
        """Write files of a member from others of it, see `finishing`, under temporary names.

        Raises
        ------
        ImageError, OutputError
            When one cannot be read or written.
        """
        made, own = [], self._order.model.own_kinds
        read: dict[tuple[Any, ...], tuple[Film, CameraFacts, str]] = {}
        for file, sources, as_traced in wanted:
            paths = tuple(self._store.path(source.planned.path) for source in sources)
            passes = sources[0].planned.passes if as_traced else file.planned.passes
            lights = member.cell.settings.passes if as_traced else None
            if (key := (paths, passes, as_traced)) not in read:
                read = {key: film_from(paths, passes, own, lights)}
            traced, camera, company = read[key]
            film = self._cleaned(traced, member.cell)
            if len(sources) == 2 or not sources[0].planned.eye:
                film = _of_eye(film, file.planned.eye)
            prims = images.read_mark(paths[0], PRIMS) or ""
            rendered = Rendered(member.film, traced, camera=camera, prims=prims)
            made.append(self._prepare(replace(task, company=company), member, file, film, rendered))
        return made

    def _cleaned(self, film: Film, cell: Cell) -> Film:
        """A film without as much of its noise as its cell wants."""
        share = cell.settings.denoise if film.guides and can_denoise() else 0.0
        lights = tuple(name for name in cell.settings.passes if name in film.sources)
        if not share:
            return film
        known = self._clean  # cells that differ in exposure or format alone have one film
        if known is None or known[0] is not film or known[1] != (share, lights):
            self._clean = known = film, (share, lights), denoised(film, lights, share)
        return known[2]

    def _prepare(
        self, task: Task, member: Member, file: TaskFile, film: Film, rendered: Rendered
    ) -> tuple[Prepared, FileRecord]:
        write = partial(
            self._write, file=file, cell=member.cell, film=film, rendered=rendered, company=task.company
        )
        prepared = self._store.prepare(file.planned.path, write, task.attempt)
        return prepared, self._record(member.cell, file, prepared.size, film, task)

    def _write(
        self, path: Path, file: TaskFile, cell: Cell, film: Film, rendered: Rendered, company: str
    ) -> None:  # fmt: skip
        settings, kind = cell.settings, file.planned.format
        metadata = self._metadata(cell, file, film, company)
        camera = rendered.camera if FORMATS[kind].layered else CameraFacts(rendered.camera.stops)
        metadata |= {f"{images.MARK}{name}": value for name, value in camera.marks.items()}
        if rendered.prims and FORMATS[kind].layered:
            metadata[f"{images.MARK}{PRIMS}"] = rendered.prims
        ppi = settings.size.ppi
        whole = set(file.planned.passes) == set(settings.passes) and not file.planned.eye
        if FORMATS[kind].layered and rendered.original is not None and whole:
            images.copy_with_marks(rendered.original, path, metadata)
            return
        if FORMATS[kind].layered:
            options = settings.files.exr
            layers = [
                images.Channels(
                    (told := known_pass(name, self._order.model.own_kinds)).channels, film.passes[name],
                    told.exact or options.passes.get(name, options.depth) == "float",
                )
                for name in file.planned.passes
            ]  # fmt: skip
            if settings.keep_noisy and film.guides and file.as_traced:
                layers += _as_traced(_of_eye(rendered.film, file.planned.eye), settings.passes)
                metadata[f"{images.MARK}as traced"] = file.as_traced
                metadata[f"{images.MARK}light sources"] = json.dumps(film.sources, separators=(",", ":"))
            for name in file.planned.passes:
                if name in film.names:
                    metadata |= id_marks(name, film.names[name])
            half = options.depth == "half" or "half" in options.passes.values()
            left, top = (settings.region or (0, 0))[:2]
            whole_size = (settings.size.width, settings.size.height)
            within = (left, top, *whole_size) if settings.region else None
            images.write_exr(path, layers, metadata, half=half, ppi=ppi, within=within)
            return
        (name,) = file.planned.passes
        values = self._as_kept(settings, name, film.passes[name])
        if not FORMATS[kind].displayed:
            colour = values[..., :3] if values.shape[2] >= 3 else np.repeat(values[..., :1], 3, axis=2)
            images.write_hdr(path, colour, metadata)
            return
        stops = settings.exposure + (rendered.camera.stops if settings.camera_exposure else 0.0)
        pixels, marks = self._shown(cell, kind, name, values, stops)
        metadata |= marks
        if settings.label:
            memory = psutil.Process().memory_info().rss if "memory" in settings.label else None
            known = PictureFigures(film.samples, film.noise, film.seconds, memory)
            words, figures = label_texts(self._order.model, cell, file.planned.frame, settings.label, known)
            pixels = images.with_label(pixels, words or self._order.plan_name, figures)
        deep = getattr(settings.files, kind)
        bits = int(deep.depth) if FORMATS[kind].deep else 8
        images.write_display(
            path, pixels, metadata, kind=kind, bits=bits, quality=settings.files.jpg.quality, ppi=ppi
        )

    def _as_kept(
        self, settings: CellSettings, name: str, values: NDArray[np.float32]
    ) -> NDArray[np.float32]:  # fmt: skip
        """A pass as an OpenEXR file of the same frame has it, so that what is shown is the same whether it
        comes from the trace or from that file."""
        options = settings.files.exr
        exact = known_pass(name, self._order.model.own_kinds).exact
        layered = any(FORMATS[each].layered for each in settings.format)
        if not layered or exact or options.passes.get(name, options.depth) == "float":
            return values
        return np.clip(values, -images.HALF_MOST, images.HALF_MOST).astype(np.float16).astype(np.float32)

    def _shown(
        self, cell: Cell, kind: str, name: str, values: NDArray[np.float32], stops: float
    ) -> tuple[NDArray[np.float32], dict[str, str | int | float]]:
        """A pass as it is displayed, and what its file says of that."""
        settings = cell.settings
        if name == "beauty":
            marks = {f"{images.MARK}grade": _grade_text(settings.graded)} if settings.graded else {}
            return images.to_display(values, settings.display, stops, settings.graded), dict(marks)
        look = known_pass(name, self._order.model.own_kinds).look
        ranges: tuple[tuple[float, float], ...] = ()
        if look in _RANGED:
            given = getattr(settings.files, kind).range
            ranges = (given,) * (3 if look == "place" else 1) if given else self._measure(cell, name, look)
        told = " ".join(f"{low:g} {high:g}" for low, high in ranges)
        pixels = images.show_pass(values, look, ranges, settings.display, stops)
        return pixels, {f"{images.MARK}shown": f"{name} as {look} {told}".strip()}

    def _metadata(self, cell: Cell, file: TaskFile, film: Film, company: str) -> dict[str, str | int | float]:
        edits = "; ".join(f"{p.edit.verb}: {_edit_text(p.edit.body)} ({p.source})" for p in cell.edits)
        facts: dict[str, str | int | float] = {
            "plan": self._order.plan_name,
            "scene": self._order.scene.name,
            "cell": cell.address,
            "frame": file.planned.frame,
            "camera": cell.settings.camera or "",
            "edits": edits,
            "samples": film.samples,
            "seed": cell.settings.seed,
            "seconds": round(film.seconds, 3),
            "rays": film.rays,
            "denoised": f"{film.denoised:g}",
            "versions": _versions(),
            "settings": _settings_text(cell.settings),
            "scene saved": self._saved,
            "fingerprint": file.fingerprint,
            "owner": self._order.owner,
        }
        if company:
            facts["company"] = company
        stamp = file.planned.stamp
        if stamp is not None:
            facts["version"] = f"{stamp.version} {stamp.date} {stamp.content}"
        if file.planned.eye:
            facts["eye"] = file.planned.eye
        if film.noise is not None:
            facts["noise"] = round(film.noise, 6)
        if film.unfinished:
            facts["unfinished"] = 1
        if film.relit is not None:
            facts["relit"] = RELIT_ON + time.strftime(TIME_FORM, time.localtime(film.relit))
        facts |= {f"axis:{axis}": entry for axis, entry in cell.coordinates.items()}
        return {"Software": _software(), **{images.MARK + name: value for name, value in facts.items()}}

    def _record(self, cell: Cell, file: TaskFile, size: int, film: Film, task: Task) -> FileRecord:
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
            denoised=film.denoised > 0.0,
            finished=time.time(),
            trace=task.trace,
            noise=film.noise,
            unfinished=film.unfinished,
        )


def _of_eye(film: Film, eye: str) -> Film:
    """The half of a stereo picture that an eye sees, the left eye's above; all of it where none is named."""
    if not eye:
        return film
    half = film.height // 2
    rows = slice(0, half) if eye == "left" else slice(film.height - half, film.height)
    passes, guides = (
        {name: pixels[rows] for name, pixels in each.items()} for each in (film.passes, film.guides)
    )
    return replace(film, passes=passes, guides=guides)


def _as_traced(film: Film, passes: Sequence[str]) -> list[images.Channels]:
    """The light of a film before it is cleaned, and what guides a denoiser, as layers of a file."""
    light = {**film.guides} | {name: film.passes[name] for name in passes if name in film.sources}
    return [
        images.Channels(channels := noisy_channels(name), pixels[..., : len(channels)], exact=True)
        for name, pixels in light.items()
    ]


def id_marks(name: str, names: Sequence[str]) -> dict[str, str]:
    """What a reader of the open Cryptomatte layout wants to know of a pass of ids."""
    key = f"cryptomatte/{hashes([name])[0]:08x}"[: len("cryptomatte/") + 7]
    manifest = {each: f"{number:08x}" for each, number in zip(names, hashes(names).tolist(), strict=True)}
    return {
        f"{key}/name": name, f"{key}/hash": "MurmurHash3_32", f"{key}/conversion": "uint32_to_float32",
        f"{key}/manifest": json.dumps(manifest, separators=(",", ":")),
    }  # fmt: skip


def _settings_text(settings: CellSettings) -> str:
    """The settings of a cell that are other than usual and can be seen in its pictures."""
    told = {
        field.name: str(getattr(settings, field.name)) for field in fields(CellSettings)
        if MARKS.get(field.name) in ("path", "light", "finished")
        and getattr(settings, field.name) != field.default and field.name not in ("frames", "grade")
    }  # fmt: skip
    told["size"] = str(settings.size)
    if settings.graded:
        told["grade"] = _grade_text(settings.graded)
    return json.dumps(told, separators=(",", ":"), ensure_ascii=False)


def _grade_text(grade: Mapping[str, float]) -> str:
    return ", ".join(f"{name} {value:g}" for name, value in grade.items())


def _edit_text(body: BaseModel) -> str:
    """What an edit says, as a plan writes it."""
    return _flow(body.model_dump(mode="json", by_alias=True, exclude_unset=True))


def _flow(value: object) -> str:
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{name}: {_flow(each)}" for name, each in value.items()) + "}"
    if isinstance(value, list | tuple):
        return _flow(value[0]) if len(value) == 1 else f"[{', '.join(map(_flow, value))}]"
    return str(value).lower() if isinstance(value, bool) else str(value)


@cache
def _software() -> str:
    return f"Grand Lattice {version('grandlattice')}"


@cache
def _versions() -> str:
    return f"grandlattice {version('grandlattice')}, usd-core {version('usd-core')}, numpy {np.__version__}"
