"""What a file depends on, as a digest that stands in the file and in the ledger.

A file with the right fingerprint is done.  For the embedded tracer it is taken from the composed scene, in
two halves: the view, which decides where paths go, and the light they carry.  Cells with one view can be
traced together.  Other renderers may read anything in the scene, so that all that plan and scene say counts.

Cells that are told the same share their settings and edits as objects, so that each is digested once and a
million cells take seconds.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

from grandlattice._support.filesystem import is_file
from grandlattice.plan import Cell, PlanModel, PlannedFile
from grandlattice.plan.captions import told_words
from grandlattice.plan.cell_settings import CellSettings
from grandlattice.plan.setting_layers import PlacedEdit, Saying
from grandlattice.runs.compositions import Compositions, Halves
from grandlattice.stage.opened_scene import file_digest
from grandlattice.tables.edit_kinds import EDIT_KINDS
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import is_light_pass, is_share

TRACE_VERSION = 19  # raise when the same inputs give other pictures, or other fingerprints, than before
_MOST_KNOWN = 20_000
MOST_COMPOSED = 200_000
"""Different scenes of a plan that are composed at most; of one with more what the plan says decides what is
shared: that takes seconds, where composing would take hours."""

Told = tuple[CellSettings, Sequence[PlacedEdit]]
Composing = Callable[[int, int], object]
"""Is told how many scenes of how many are composed."""


@dataclass(frozen=True)
class TaskFile:
    """A file of a task, and the fingerprint it will have.

    Attributes
    ----------
    as_traced : of an OpenEXR file with the beauty, what it depends on before anything is done to the finished
        picture; else empty.
    """

    planned: PlannedFile
    fingerprint: str
    as_traced: str = ""


_COMPOSED = ("camera", "subdivision", "shutter", "fstop", "focus")
"""Settings that are in the composed scene."""


class Traced(NamedTuple):
    """What is traced for a cell at a frame, as digests of 16 bytes.

    Attributes
    ----------
    view : of what decides where paths go; cells that have it in common can be traced together.
    inputs : of everything the light in the picture depends on.
    files : of everything files depend on besides their format and what is done to the picture.
    shares : of the view whose light shares are kept; empty where none are.
    """

    view: bytes
    inputs: bytes
    files: bytes
    shares: bytes = b""


class Fingerprints:
    """Makes fingerprints for the cells of one plan over one scene.

    Parameters
    ----------
    scene : digest of the scene and all its files.
    can_denoise : whether `denoise` does anything here.
    folder : the plan's folder, for the files edits name.
    compositions : composes cells; without it what the plan says of them counts.
    cells : how many there are; everything : what is told of all of them, asked where there may be too many to
        be composed.
    """

    def __init__(
        self, model: PlanModel, scene: str, folder: Path, can_denoise: bool,
        compositions: Compositions | None = None, cells: int = 0,
        everything: Callable[[], Iterable[Told]] = tuple,
    ) -> None:  # fmt: skip
        self._model, self._folder = model, folder
        self._composer, self._cells, self._everything = compositions, cells, everything
        self._can_denoise = can_denoise
        self._shared = _digest({
            "version": TRACE_VERSION,
            "scene": scene,
            "select": model.select,
            "materials": {k: v.model_dump(mode="json") for k, v in model.materials.items()},
            "files": [self._file(m.file) for m in model.materials.values() if m.file],
        })  # fmt: skip
        self._known: dict[tuple[int, str], tuple[object, bytes]] = {}

    def of_plan(self, caller: Saying) -> str:
        """Of everything any file of the plan depends on.

        Parameters
        ----------
        caller : what is said over the plan.
        """
        laid = [placed.edit.model_dump(mode="json") for placed in caller.edits]
        told = [self._model.model_dump(mode="json", exclude={"run"}), laid]
        named = sorted({text for text in _texts(told) if self._is_file(text)})
        files = [[name, self._file(name)] for name in named]
        order = [self._model.run.wait, self._can_denoise, self._shared.hex()]
        return _digest([told, files, order, repr(caller.settings)]).hex()

    def told(self, settings: CellSettings, edits: Sequence[PlacedEdit]) -> bytes:
        """Of everything that the plan and the scene's files say of the light in a cell's pictures."""
        return _bytes(b"".join((self._laid(edits), self._once(settings, "traced", self._all_traced))))

    def scene_of(self, settings: CellSettings, edits: Sequence[PlacedEdit]) -> bytes:
        """Of everything that decides what a cell's scene is composed of, but the frame."""
        return _bytes(self._laid(edits) + self._once(settings, "scene", _scene_settings))

    def traced(
        self, settings: CellSettings, edits: Sequence[PlacedEdit], frames: Sequence[int]
    ) -> Traced:  # fmt: skip
        """Of what is traced for some frames of a cell: one, but for renderers that take several."""
        halves = self.halves(settings, edits, frames[0]) if len(frames) == 1 else None
        if halves is None:
            whole = _bytes(self.told(settings, edits) + repr(tuple(frames)).encode())
            return Traced(whole, whole, whole)
        view = _bytes(halves.view + self._once(settings, "view", self._view))
        lit = _bytes(b"".join((halves.lights, _limit(settings, halves), _stops(halves))))
        # Lightings of a view are in the order of this: one that no setting changes but those of their light.
        # A limit of time, or more samples, would give the same light in other pictures otherwise.
        inputs = lit[:8] + _bytes(view + lit)[:8]
        files = _bytes(inputs + halves.later) if halves.later else inputs
        shares = view if settings.keep_light_shares and halves.is_shared else b""
        if not halves.is_shared or not can_share(settings):
            return Traced(inputs, inputs, files, shares)
        return Traced(view, inputs, files, shares)

    def compose(
        self, asked: Iterable[tuple[CellSettings, Sequence[PlacedEdit], int]],
        told: Composing | None = None,
    ) -> None:  # fmt: skip
        """Compose cells at frames, as far as that was never done: those that have their structure in common
        one after the other, since exchanging it takes longest.

        Parameters
        ----------
        asked : settings, edits and frame.
        told : is told how far that is.
        """
        if self._compositions is None:
            return
        unknown: dict[tuple[bytes, int], tuple[CellSettings, Sequence[PlacedEdit], int]] = {}
        structures: dict[tuple[int, ...], int] = {}
        order = []
        for settings, edits, frame in asked:
            key = self.scene_of(settings, edits), frame
            if settings.renderer != "tracer" or key in unknown or self._compositions.knows(*key):
                continue
            unknown[key] = settings, edits, frame
            structure = tuple(id(each.edit) for each in edits if EDIT_KINDS[each.edit.verb].is_structural)
            order.append(structures.setdefault(structure, len(structures)))
        cells = list(unknown.values())
        for done, k in enumerate(sorted(range(len(cells)), key=order.__getitem__), 1):
            self.halves(*cells[k])
            if told is not None:
                told(done, len(cells))

    def halves(
        self, settings: CellSettings, edits: Sequence[PlacedEdit], frame: int
    ) -> Halves | None:  # fmt: skip
        """What the composed scene says of a cell at a frame; None where it is not composed."""
        if self._compositions is None or settings.renderer != "tracer":
            return None
        return self._compositions.of(self.scene_of(settings, edits), settings, edits, frame)

    @cached_property
    def _compositions(self) -> Compositions | None:
        """Composes cells; None where there are too many different scenes."""
        if self._composer is None or self._cells <= MOST_COMPOSED:
            return self._composer
        scenes = set[bytes]()
        for settings, edits in self._everything():
            scenes.add(self.scene_of(settings, edits))
            if len(scenes) > MOST_COMPOSED:
                return None
        return self._composer

    @property
    def composes(self) -> bool:
        """Whether cells are composed."""
        return self._compositions is not None

    def view_settings(self, settings: CellSettings) -> bytes:
        """Of the settings that decide where paths go, wherever the camera is; see `Traced.view`."""
        return self._once(settings, "view", self._view)

    def file(self, inputs: bytes, cell: Cell, planned: PlannedFile) -> str:
        """Of everything a file depends on.

        Parameters
        ----------
        inputs : of its frame, see `Traced.files`.
        """

        def kind(settings: CellSettings) -> bytes:
            return self._kind(settings, planned.format, planned.passes)

        told = self._once(cell.settings, f"{planned.format} {planned.passes}", kind)
        return hashlib.blake2b(
            inputs + told + f"{planned.frame}{planned.eye} {cell.address}".encode(), digest_size=16
        ).hexdigest()

    def content(self, cell: Cell) -> str:
        """Of everything the pictures of a cell depend on, whatever their frames and names."""
        kinds = [PlannedFile("", 0, ext, cell.settings.passes) for ext in cell.settings.format]
        inputs = self.told(cell.settings, cell.edits)
        return _digest([self.file(inputs, cell, kind) for kind in kinds]).hex()

    def _laid(self, edits: Sequence[PlacedEdit]) -> bytes:
        laid = [self._once(placed.edit, "edit", self._edit) for placed in edits]
        return b"".join((self._shared, *laid))

    def _once(self, thing: Any, what: str, work: Any) -> bytes:
        """The digest of a thing that many cells share, worked out once."""
        known = self._known.get((id(thing), what))
        if known is None or known[0] is not thing:
            if len(self._known) >= _MOST_KNOWN:
                self._known.clear()
            self._known[id(thing), what] = known = thing, work(thing)
        return known[1]

    def _all_traced(self, settings: CellSettings) -> bytes:
        return _digest({**self._traced(settings), "clamped": settings.clamped})

    def _view(self, settings: CellSettings) -> bytes:
        """Of the settings that are not in the composed scene and decide where paths go."""
        told = {k: v for k, v in self._traced(settings).items() if k not in _COMPOSED}
        if told["own"]:
            told["select"] = self._model.select
        # Where light passes are asked for, light is added up in another way, and for illuminance all shadow
        # rays from the first vertices are traced.
        told["parts"] = any(is_light_pass(name) for name in settings.passes)
        told["lux"] = "illuminance" in settings.passes
        return _digest({**told, "version": TRACE_VERSION, "limited": settings.clamp is not None})

    def _traced(self, settings: CellSettings) -> dict[str, object]:
        told = settings.traced
        told["own"] = {
            name: own.model_dump(mode="json")
            for name, own in self._model.own_passes.items()
            if name in settings.passes
        }
        told["size"] = str(settings.size)
        name, _, version = settings.renderer.partition(" ")
        if name in self._model.renderers:
            told["renderer"] = [name, self._model.renderers[name].told(version or None)]
        return told

    def task_file(self, inputs: bytes, cell: Cell, planned: PlannedFile) -> TaskFile:
        """A file of a task; see `file`."""
        told = ""
        if FORMATS[planned.format].layered and "beauty" in planned.passes:
            key = f"as traced {planned.format} {planned.passes}"
            told = (inputs + self._once(cell.settings, key, lambda s: self._stored(s, planned))).hex()
        return TaskFile(planned, self.file(inputs, cell, planned), told)

    @staticmethod
    def _stored(settings: CellSettings, planned: PlannedFile) -> bytes:
        """Of how an OpenEXR file holds passes."""
        options = settings.files.exr.model_dump(mode="json", exclude={"output"})
        return _digest([planned.passes, options, settings.size.ppi])

    def _kind(self, settings: CellSettings, ext: str, passes: Sequence[str]) -> bytes:
        shown = FORMATS[ext].displayed
        grade = settings.graded if shown and "beauty" in passes else {}
        kinds = self._model.own_kinds
        shares = sorted(name for name in settings.passes if is_share(name, kinds))
        cleaned = {"beauty", *shares}.intersection(passes)
        clean = settings.denoise if self._can_denoise and cleaned else 0.0
        return _digest({
            **({"grade": grade} if grade else {}),
            # Cleaned shares of light are made to add up: each depends on which others are asked for.
            **({"denoise": clean} if clean else {}),
            **({"shares": shares} if clean and cleaned != {"beauty"} else {}),
            **({"noisy": True} if _has_noisy(settings, ext, passes) else {}),
            "passes": passes,
            "format": ext,
            "options": getattr(settings.files, ext).model_dump(mode="json", exclude={"output"}),
            "ppi": settings.size.ppi,
            "label": told_words(settings.label, self._model) if shown else None,
            "exposure": settings.exposure if shown else None,
            "camera exposure": settings.camera_exposure if shown else None,
            "display": settings.display if shown else None,
        })  # fmt: skip

    def _edit(self, edit: Any) -> bytes:
        body = edit.body.model_dump(mode="json")
        return _digest([edit.verb, body, [self._file(text) for text in _texts(body) if self._is_file(text)]])

    def _is_file(self, text: str) -> bool:
        return "." in text and len(text) < 1024 and is_file(self._folder / text)

    def _file(self, name: str | None) -> str:
        path = self._folder / str(name)
        return file_digest(path) if is_file(path) else "missing"


def _has_noisy(settings: CellSettings, ext: str, passes: Sequence[str]) -> bool:
    """Whether a file has the beauty as traced beside the one that is cleaned."""
    return settings.keep_noisy and FORMATS[ext].layered and "beauty" in passes and not settings.is_outside


def can_share(settings: CellSettings) -> bool:
    """Whether a cell's settings let it be traced together with other lightings of its view."""
    metered_limit = settings.metered is not None and settings.clamp is not None and not settings.clamp.in_nits
    return not (settings.own_trace or metered_limit)


def _limit(settings: CellSettings, halves: Halves) -> bytes:
    """Of how light is limited."""
    return repr(settings.clamp_nits(halves.stops)).encode()


def _stops(halves: Halves) -> bytes:
    """Of the camera's own exposure: light is the same, but each film is shown with its own."""
    return repr(halves.stops).encode() if halves.stops else b""


def _scene_settings(settings: CellSettings) -> bytes:
    told = {name: getattr(settings, name) for name in (*_COMPOSED, "keep_light_shares")}
    return _digest({**told, "motion": "motion" in settings.passes})


def _texts(value: object) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, Mapping):
        for part in value.values():
            yield from _texts(part)
    elif isinstance(value, list | tuple):
        for part in value:
            yield from _texts(part)


def _digest(value: object) -> bytes:
    return _bytes(json.dumps(value, sort_keys=True, default=str).encode())


def _bytes(text: bytes) -> bytes:
    return hashlib.blake2b(text, digest_size=16).digest()
