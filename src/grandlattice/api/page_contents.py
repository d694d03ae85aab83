"""What a page is told of a plan's pictures: cells, axes, passes, figures, and where their pixels are."""

from __future__ import annotations

import hashlib
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.api.cell_states import states_of
from grandlattice.api.choices import choices_of
from grandlattice.errors import ImageError, LatticeError
from grandlattice.images import display_shader, display_table, displays, find_display
from grandlattice.page import PixelSource, Thumbnail
from grandlattice.plan import Cell, PlannedFile, planned_files
from grandlattice.plan.addresses import Indices
from grandlattice.plan.schema import SweepAxis
from grandlattice.review.cell_pictures import cell_picture
from grandlattice.runs.finishing import noisy_channels
from grandlattice.runs.kept_pictures import day_of, earlier_of, file_of, kept_top
from grandlattice.runs.ledger import FileRecord
from grandlattice.runs.status import read_status
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.grades import GRADES
from grandlattice.tables.passes import known_pass

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.api.planned import Planned
    from grandlattice.stage import Explanation

_EXPLAINED = 300
"""Cells whose scene is looked at for what changed in it; of more cells the settings are told alone."""
_SPANS = 3000  # frames that a timeline shows at most
NOISY = "noisy"
"""The name of the beauty as it was traced, where it was kept."""


class _There(NamedTuple):
    """A file of a cell, and where it is."""

    planned: PlannedFile
    path: Path


class _Shown(NamedTuple):
    """A cell on the page, with its files of each frame that are there.

    `past` : of an earlier picture of a cell its place among the cells, and when another took its place.
    """

    cell: Cell
    files: dict[int, list[_There]]
    past: tuple[int, str] | None = None

    @property
    def first(self) -> list[_There]:
        """The files of its first frame that is there."""
        wanted = self.cell.settings.frames[0]
        return self.files.get(wanted) or next(iter(self.files.values()), [])


class Contents:
    """What a page shows of some cells of a plan.

    Parameters
    ----------
    mark : stands before the addresses of cells on a page of several plans.
    """

    def __init__(self, plan: PlanFiles, planned: Planned, chosen: Indices, mark: str = "") -> None:
        self._plan, self._planned, self._mark = plan, planned, mark
        self._own = planned.model.own_kinds
        self._records: dict[str, FileRecord] = {}
        if planned.ledger.file.exists():
            with suppress(LatticeError):
                self._records = planned.ledger.files()
        self.shown = [self._look_at(plan.cells[index]) for index in chosen.tolist()]
        self._failed = self._failed_frames()
        self.shown += list(self._earlier())
        named = (
            name for s in self.shown for files in s.files.values() for f in files for name in f.planned.passes
        )
        self.passes = list(dict.fromkeys(("beauty", *named)))
        if any(shown.cell.settings.keep_noisy for shown in self.shown):
            self.passes.append(NOISY)
        wanted = dict.fromkeys(shown.cell.settings.display for shown in self.shown)
        self._names = {display: " / ".join(find_display(display)) for display in wanted}
        self.displays = list(dict.fromkeys([*self._names.values(), *_usual_displays()]))

    def _named(self, address: str) -> str:
        """The address of a cell on this page."""
        return f"{self._mark}: {address}" if self._mark else address

    def _key(self, shown: _Shown) -> str:
        """A picture in the names of files of the page."""
        told = "\0".join([self._named(shown.cell.address), *([shown.past[1]] if shown.past else [])])
        return hashlib.blake2b(told.encode("utf-8", "surrogateescape"), digest_size=6).hexdigest()

    def _look_at(self, cell: Cell) -> _Shown:
        """A cell with its files that are there, by frame; those of single eyes are not shown."""
        files: dict[int, list[_There]] = {}
        for file in planned_files(cell, self._plan.names):
            path = self._planned.output / file.path
            if not file.eye and path.is_file():
                files.setdefault(file.frame, []).append(_There(file, path))
        return _Shown(cell, files)

    def _earlier(self) -> Iterator[_Shown]:
        """Earlier pictures of cells, the latest first."""
        store, name = self._planned.store, self._planned.name
        if not (self._planned.output / kept_top(name)).is_dir():
            return
        for place, shown in enumerate(list(self.shown)):
            found: dict[str, dict[int, list[_There]]] = {}
            for file in planned_files(shown.cell, self._plan.names):
                for kept in () if file.eye else earlier_of(store, name, file.path):
                    there = _There(file, file_of(store, kept))
                    found.setdefault(kept.stamp, {}).setdefault(file.frame, []).append(there)
            for stamp in sorted(found, reverse=True):
                until = datetime.fromtimestamp(day_of(stamp))
                yield _Shown(shown.cell, found[stamp], (place, f"until {until:%d %b %H:%M:%S}"))

    def _failed_frames(self) -> set[tuple[str, int]]:
        if not self._planned.ledger.file.exists():
            return set()
        with suppress(LatticeError):
            found = read_status(self._planned.ledger, states=("failed",), most=_SPANS)
            return {(frame.cell, frame.frame) for frame in found.frames}
        return set()

    # --- what is told ----------------------------------------------------------------------------------

    def told(self, folder: Path, states: Mapping[str, str] | None = None) -> dict[str, Any]:
        """Everything but pictures."""
        plan = self._plan
        states = states_of(plan, self._planned) if states is None else states
        names, every = self._names, self.displays
        return {
            "plan": plan.name,
            "made": round(time.time(), 3),
            "id": self._planned.ledger.id if self._planned.ledger.file.exists() else "",
            "timeline": self._timeline(),
            "choices": {
                self._named(cell): each.model_dump() for cell, each in choices_of(self._planned).items()
            },
            "title": plan.name.replace("-", " ").replace("_", " "),
            "rate": plan.scene.frames_per_second,
            "axes": [
                {"name": axis.name, "entries": list(axis.index),
                 "sweeps": isinstance(self._planned.model.axes.get(axis.name), SweepAxis)}
                for axis in plan.lattice.axes
            ],
            "passes": [self._pass(name) for name in self.passes],
            "displays": every,
            "grades": {name: value._asdict() for name, value in GRADES.items()},
            "cells": [self._cell(shown, states, every, names, folder) for shown in self.shown],
        }  # fmt: skip

    def shaders(self) -> list[dict[str, Any]]:
        """The programs of the displays, in their order."""
        return [
            {"plain": _shader(display, graded=False), "graded": _shader(display, graded=True),
             "table": display_table(display)}
            for display in self.displays
        ]  # fmt: skip

    def _pass(self, name: str) -> dict[str, Any]:
        if name == NOISY:
            return {"name": NOISY, "look": "light", "letters": "RGB", "says": "the beauty as it was traced"}
        told = known_pass(name, self._own)
        letters = "".join(channel.rpartition(".")[2] for channel in told.channels)
        return {
            "name": name, "look": told.look, "letters": letters, "says": told.meaning,
            "lamp": name.removeprefix("light.") if name.startswith("light.") else "",
        }  # fmt: skip

    def _cell(
        self, shown: _Shown, states: Mapping[str, str], every: list[str], names: dict[str | None, str],
        folder: Path,
    ) -> dict[str, Any]:  # fmt: skip
        cell, settings = shown.cell, shown.cell.settings
        frames = settings.frames
        first = shown.first
        known = () if shown.past else first
        records = [self._records[f.planned.path] for f in known if f.planned.path in self._records]
        record = records[0] if records else None
        state = "" if shown.past else states.get(cell.address, "")
        lacks = [[f, (cell.address, f) in self._failed] for f in frames if f not in shown.files]
        if not shown.files:
            state = state if state == "failed" else "not rendered"
        elif lacks and not state and not shown.past:
            state = "frames missing"
        elif any(each.unfinished for each in records) and not state:
            state = "unfinished"
        axes = [axis.name for axis in self._plan.lattice.axes]
        places = [axis.index for axis in self._plan.lattice.axes]
        return {
            "a": self._named(cell.address) + (f", {shown.past[1]}" if shown.past else ""),
            "k": self._key(shown),
            **({"past": shown.past[0]} if shown.past else {"lacks": lacks} if lacks and shown.files else {}),
            "at": [
                places[n].get(cell.coordinates.get(axis, ""), -1) for n, axis in enumerate(axes)
            ],
            "s": state, "f": sorted(shown.files), "of": len(frames), "w": settings.size.width,
            "h": settings.size.height,
            "sec": None if record is None else round(record.seconds, 3),
            "n": None if record is None else record.noise, "spp": None if record is None else record.samples,
            "x": settings.exposure, "stops": settings.camera_exposure,
            "d": every.index(names[settings.display]), "g": settings.graded,
            "files": [_below(file.path, folder) for file in first],
            "v": self._version(first), "panorama": settings.projection != "camera",
            "stereo": settings.projection == "stereo-panorama",
            "word": shown.past[1] if shown.past else _edits_text(cell),
        }  # fmt: skip

    def _timeline(self) -> list[list[object]]:
        """What each worker did in the last run, and when: worker, from, to, cell."""
        with suppress(LatticeError):
            found = read_status(self._planned.ledger, states=("done",), most=_SPANS)
            begun = found.started or 0.0
            told = [(f.worker, f.started, f.ended, f.cell) for f in found.frames if f.worker is not None]
            timed = {
                (w, a, b): cell for w, a, b, cell in told if a is not None and b is not None and a >= begun
            }
            first = min((a for _, a, _ in timed), default=0.0)
            return [[w, round(a - first, 2), round(b - first, 2), c] for (w, a, b), c in timed.items()]
        return []

    @staticmethod
    def _version(files: Sequence[_There]) -> str:
        """Something that is another when the pictures are."""
        stats = [file.path.stat() for file in files]
        told = " ".join(f"{stat.st_size} {stat.st_mtime_ns}" for stat in stats)
        return hashlib.blake2b(told.encode(), digest_size=4).hexdigest()

    def explanations(self, explain: Callable[[Cell, bool], Explanation]) -> dict[str, list[list[object]]]:
        """What was said of each cell, by its address: rows of prim, what, before, after, who and where."""
        whole = len(self.shown) <= _EXPLAINED
        found: dict[str, list[list[object]]] = {}
        for shown in self.shown:
            if shown.past:
                continue
            with suppress(LatticeError):
                found[self._named(shown.cell.address)] = _rows(explain(shown.cell, whole))
        return found

    # --- pictures --------------------------------------------------------------------------------------

    def thumbnails(self) -> list[Thumbnail]:
        """Small pictures of all cells, in their order."""
        return [self._thumbnail(shown) for shown in self.shown if not shown.past]

    def _thumbnail(self, shown: _Shown) -> Thumbnail:
        cell = shown.cell
        there = [file for file in shown.first if "beauty" in file.planned.passes] or list(shown.first)
        # One that is displayed already comes first.
        there.sort(key=lambda file: FORMATS[file.planned.format].layered)
        if not there:
            return Thumbnail(_nothing, "")
        planned, path = there[0]
        stat = path.stat()
        name = "beauty" if "beauty" in planned.passes else planned.passes[0]
        read = partial(_small, path, partial(cell_picture, path, planned, cell.settings, name, self._own))
        settings = cell.settings
        finished = f"{settings.exposure} {settings.camera_exposure} {settings.display} {settings.graded}"
        return Thumbnail(read, f"{planned.path} {stat.st_size} {stat.st_mtime_ns} {finished}")

    def pixels(self) -> list[PixelSource]:
        """What may be looked into, the most important first: the beauty, other passes, other frames."""
        now = [shown for shown in self.shown if not shown.past]
        firsts = [(s, frame) for s in now for frame in list(s.files)[:1]]
        others = [(s, frame) for s in now for frame in list(s.files)[1:]]
        past = [(s, frame) for s in self.shown if s.past for frame in s.files]
        rest = [name for name in self.passes if name != "beauty"]
        return [
            *self._of(firsts, ["beauty"]), *self._of(firsts, rest), *self._of(others, ["beauty"]),
            *self._of(past, ["beauty"]), *self._of(others, rest), *self._of(past, rest),
        ]  # fmt: skip

    def _of(self, shots: Sequence[tuple[_Shown, int]], passes: Sequence[str]) -> Iterator[PixelSource]:
        for shown, frame in shots:
            for name in passes:
                held = "beauty" if name == NOISY else name
                for file, path in shown.files[frame]:
                    if not FORMATS[file.format].layered or held not in file.passes:
                        continue
                    if name == NOISY and not shown.cell.settings.keep_noisy:
                        continue
                    key = f"{self._key(shown)}-{frame}-{self.passes.index(name)}"
                    if name == NOISY:
                        yield PixelSource(key, path, noisy_channels("beauty"), "half")
                        break
                    told = known_pass(name, self._own)
                    kind = "bits" if told.look == "ids" else "float" if told.exact else "half"
                    channels = told.channels[:4] if told.look == "ids" else told.channels
                    yield PixelSource(key, path, channels, kind, names=told.look == "ids")
                    break


def _usual_displays() -> Iterator[str]:
    """The views of the usual display: what an artist may want to see without rendering."""
    display, _ = find_display(None)
    for view in displays()[display]:
        if view != "Raw":
            yield f"{display} / {view}"


def _shader(display: str, *, graded: bool) -> dict[str, Any]:
    made = display_shader(display, graded=graded)
    return {"text": made.text, "tables": list(made.textures)}


def _rows(told: Explanation) -> list[list[object]]:
    """Rows of a table: prim, what, before, after, and who said it where."""
    rows: list[list[object]] = []
    for change in (*told.changes, *told.settings):
        wins = next((opinion for opinion in change.opinions if opinion.wins), None)
        said = "" if wins is None else f"{wins.source} {wins.place}".strip()
        rows.append([str(change.prim), change.name, str(change.before), str(change.after), said])
    return rows


def _edits_text(cell: Cell) -> str:
    said = Counter((placed.edit.verb, placed.source) for placed in cell.edits)
    return "; ".join(
        f"{verb} ({source})" if count == 1 else f"{count} × {verb} ({source})"
        for (verb, source), count in said.items()
    )


def _below(path: Path, folder: Path) -> str:
    """A file as a link from the page."""
    return os.path.relpath(path, folder).replace(os.sep, "/")


def _small(path: Path, read: Callable[[], NDArray[np.float32]]) -> NDArray[np.float32]:
    try:
        return read()
    except ImageError:
        return _nothing()


def _nothing() -> NDArray[np.float32]:
    return np.zeros((0, 0, 4), np.float32)
