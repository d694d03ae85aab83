"""What a file depends on, as a digest that stands in the file and in the ledger.

A file with the right fingerprint is done.  Cells that are told the same share their settings and
edits as objects, so that each is digested once and a million cells take seconds.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from grandlattice._support.filesystem import is_file
from grandlattice.plan import Cell, PlanModel, PlannedFile
from grandlattice.plan.cell_maker import CellSettings
from grandlattice.plan.setting_layers import PlacedEdit
from grandlattice.stage.opened_scene import file_digest
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import known_pass

TRACE_VERSION = 13  # raise when the same inputs give other pictures, or other fingerprints, than before
_MOST_KNOWN = 20_000


@dataclass(frozen=True)
class TaskFile:
    """A file of a task, and the fingerprint it will have."""

    planned: PlannedFile
    fingerprint: str


class Fingerprints:
    """Makes fingerprints for the cells of one plan over one scene.

    Parameters
    ----------
    scene : digest of the scene and all its files.
    can_denoise : whether `denoise` does anything here.
    folder : the plan's folder, for the files edits name.
    """

    def __init__(self, model: PlanModel, scene: str, folder: Path, can_denoise: bool) -> None:
        self._model, self._folder = model, folder
        self._can_denoise = can_denoise
        self._shared = _digest({
            "version": TRACE_VERSION,
            "scene": scene,
            "select": model.select,
            "materials": {k: v.model_dump(mode="json") for k, v in model.materials.items()},
            "files": [self._file(m.file) for m in model.materials.values() if m.file],
        })  # fmt: skip
        self._known: dict[tuple[int, str], tuple[object, bytes]] = {}

    def of_plan(self, caller: object) -> str:
        """Of everything any file of the plan depends on.

        Parameters
        ----------
        caller : what is said over the plan.
        """
        told = self._model.model_dump(mode="json", exclude={"run"})
        named = sorted({text for text in _texts(told) if self._is_file(text)})
        files = [[name, self._file(name)] for name in named]
        order = [self._model.run.wait, self._can_denoise, self._shared.hex()]
        return _digest([told, files, order, repr(caller)]).hex()

    def inputs(self, settings: CellSettings, edits: Sequence[PlacedEdit]) -> bytes:
        """Of everything the light in a cell's pictures depends on, but the frame."""
        laid = [self._once(placed.edit, "edit", self._edit) for placed in edits]
        return _bytes(b"".join((self._shared, self._once(settings, "traced", self._traced), *laid)))

    @staticmethod
    def trace(inputs: bytes, frames: Sequence[int]) -> bytes:
        """Of a task: what it traces, and when; 16 bytes.

        Parameters
        ----------
        inputs : see `inputs`.
        """
        return _bytes(inputs + repr(tuple(frames)).encode())

    def file(self, inputs: bytes, cell: Cell, planned: PlannedFile) -> str:
        """Of everything a file depends on."""

        def kind(settings: CellSettings) -> bytes:
            return self._kind(settings, planned.format, planned.passes)

        told = self._once(cell.settings, f"{planned.format} {planned.passes}", kind)
        return hashlib.blake2b(
            inputs + told + f"{planned.frame}{planned.eye} {cell.address}".encode(), digest_size=16
        ).hexdigest()

    def content(self, cell: Cell) -> str:
        """Of everything the pictures of a cell depend on, whatever their frames and names."""
        kinds = [PlannedFile("", 0, ext, cell.settings.passes) for ext in cell.settings.format]
        inputs = self.inputs(cell.settings, cell.edits)
        return _digest([self.file(inputs, cell, kind) for kind in kinds]).hex()

    def _once(self, thing: Any, what: str, work: Any) -> bytes:
        """The digest of a thing that many cells share, worked out once."""
        known = self._known.get((id(thing), what))
        if known is None or known[0] is not thing:
            if len(self._known) >= _MOST_KNOWN:
                self._known.clear()
            self._known[id(thing), what] = known = thing, work(thing)
        return known[1]

    def _traced(self, settings: CellSettings) -> bytes:
        told = settings.traced
        told["own"] = {
            name: own.model_dump(mode="json")
            for name, own in self._model.own_passes.items()
            if name in settings.passes
        }
        told["size"], told["denoise"] = str(settings.size), settings.denoise and self._can_denoise
        if told["denoise"]:
            # Cleaned shares of light are made to add up: each depends on which others are asked for, so that
            # cells share a trace only where they ask for the same.
            kinds = self._model.own_kinds
            told["shares"] = sorted(p for p in settings.passes if known_pass(p, kinds).look == "light")
        name, _, version = settings.renderer.partition(" ")
        if name in self._model.renderers:
            told["renderer"] = [name, self._model.renderers[name].told(version or None)]
        return _digest(told)

    @staticmethod
    def _kind(settings: CellSettings, ext: str, passes: Sequence[str]) -> bytes:
        shown = FORMATS[ext].displayed
        return _digest({
            "passes": passes,
            "format": ext,
            "options": getattr(settings.files, ext).model_dump(mode="json", exclude={"output"}),
            "ppi": settings.size.ppi,
            "label": settings.label if shown else None,
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
