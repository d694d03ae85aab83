"""Proofs that follow plan and scene: each save, by whatever program, is a try.

A try proofs what it changed, by the digests that decide what is rendered at all; what is on show comes first.
A file that is half saved or wrong leaves the last good proofs standing, and is told.
"""

from __future__ import annotations

import difflib
import os
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from grandlattice.api import page_making
from grandlattice.api.opening import open_plan
from grandlattice.api.page_orders import CHANGES, change
from grandlattice.api.page_service import PageService
from grandlattice.errors import LatticeError, PlanError
from grandlattice.page import PageFiles
from grandlattice.runs import Event, Finished, Outlook
from grandlattice.stage import scene_files
from grandlattice.tables.formats import FORMATS

if TYPE_CHECKING:
    from grandlattice.api.plan_object import Plan
    from grandlattice.plan import Cell
    from grandlattice.stage import Explanation

Tell = Callable[[Mapping[str, Any]], None]

LAYERED = [name for name, kind in FORMATS.items() if kind.layered]
"""Formats that a page can look into."""

KEPT = 30
"""Tries that are kept."""
_HASTY = {"samples": 2, "bounces": 3}
"""What is quicker in these proofs than in those of `glat proof`, where a plan has no quality `proof`."""
_SHOWING = 0.1  # share of the time that goes into showing proofs as they arrive
_SETTLES = 0.15  # seconds without a change after which a save is over
_LINES = 20  # of what changed in a plan that are told


@dataclass
class Try:
    """A save of plan or scene.

    Attributes
    ----------
    number : from 1.
    at : when, seconds since 1970.
    changed : what, in lines: of the plan, or names of files of the scene.
    plan : as it was.
    cells : addresses of the cells that were proofed.
    seconds : from the save to the first of them on the page, and to the last.
    """

    number: int
    at: float
    changed: list[str]
    plan: Plan = field(repr=False)
    cells: list[str] = field(default_factory=list)
    seconds: tuple[float, float] = (0.0, 0.0)

    @property
    def told(self) -> dict[str, Any]:
        return {
            "number": self.number, "at": self.at, "changed": self.changed, "cells": self.cells,
            "seconds": [round(part, 2) for part in self.seconds],
        }  # fmt: skip


class LiveProofs(PageService["Plan"]):
    """The page of a plan's proofs, made anew whenever plan or scene are saved.

    Parameters
    ----------
    file : the plan.
    width : of the proofs, pixels.

    Raises
    ------
    LatticeError
        When the plan cannot be opened to begin with.
    """

    def __init__(
        self, file: Path, at: Sequence[str] = (), sets: Sequence[str] = (), width: int = 320
    ) -> None:
        self._path, self._at, self._sets, self._width = file.resolve(), tuple(at), tuple(sets), width
        self.tries: deque[Try] = deque(maxlen=KEPT)
        self._showing: list[str] = []
        self._why: dict[str, Explanation] = {}
        self._hurries = False  # proofs are arriving
        self._stale: set[str] = set()  # cells that are not proofed as plan and scene want them now
        self._problem = ""
        self._is_told = self._ends = False
        self._stop: Callable[[], None] = lambda: None
        self._seen: dict[Path, tuple[int, int]] = {}
        self._open()
        self._into_folder = self._path.parent / f"{self._source.name}-live"
        super().__init__(self._quick, self._page_of, self._hand_back, self._into_folder)

    def _open(self) -> None:
        """The plan as it stands on the disk, made small and quick."""
        before = _stamps(self._seen or [self._path])  # what is saved from here on is another try
        source = open_plan(self._path)
        beside = source.grades_file() or self._path
        files = [self._path, beside, *source.document.other_files, *scene_files(source.scene)]
        self._source = source
        quick = source.proofing()
        self._quick: Plan = quick.override(
            **{
                **quick.given(),
                **({} if "proof" in source.model.qualities else _HASTY),
                "format": [*quick.given()["format"], *LAYERED],
                "scale": _scale(source, self._width),
            }
        )
        self._plan = self._quick
        self._seen = {path: before.get(path, stamp) for path, stamp in _stamps(files).items()}

    def _page_of(self, plan: Plan) -> PageFiles:
        chosen = plan._chosen(self._at, self._sets)
        states = dict.fromkeys(self._stale, "out of date")
        return page_making.write(
            plan, self._explained, chosen, self._into_folder, None, may_be_empty=True, states=states
        )

    def _explained(self, cell: Cell, whole: bool) -> Explanation:
        """What was set in a cell; while proofs arrive, as it was in the last try."""
        if not self._hurries or cell.address not in self._why:
            self._why[cell.address] = self._quick.explained(cell, whole)
        return self._why[cell.address]

    # --- looking ---------------------------------------------------------------------------------------

    def look(self, tell: Tell) -> None:
        """Proof what a save changed, and tell it as it comes."""
        if not self._is_told:
            self._is_told = True
            self._tried(lambda: self._try([], tell), tell)
        now = _stamps(self._seen)
        if now != self._seen:
            time.sleep(_SETTLES)
            if _stamps(self._seen) != now:
                return  # it is still being written; the next look finds it
            changed = [path for path, stamp in now.items() if stamp != self._seen[path]]
            self._seen = now
            self._tried(lambda: self._saved(changed, tell), tell)

    def _saved(self, changed: Sequence[Path], tell: Tell) -> None:
        before = self._source.text
        self._open()
        what = _changed_lines(before, self._source.text) if self._path in changed else []
        self._try(what + [path.name for path in changed if path != self._path], tell)

    def _tried(self, work: Callable[[], None], tell: Tell) -> None:
        """Do something; what stands in the way is told, and the last good proofs stay."""
        try:
            work()
        except LatticeError as problem:
            self._problem = str(problem)
            tell({"kind": "live", **self.state})

    def _try(self, what: list[str], tell: Tell) -> None:
        """Proof what is not as plan and scene want it now: what is on show first, then the rest."""
        started = time.perf_counter()
        number = self.tries[-1].number + 1 if self.tries else 1
        made = Try(number, time.time(), what, self._source)
        first = 0.0
        threads = os.cpu_count() or 1
        known = {cell.address for cell in self._quick.cells}
        next_show = 0.0

        def show(*, hurries: bool = False) -> None:
            nonlocal first, next_show
            self._hurries = hurries
            begun = time.perf_counter()
            with self._lock:
                self._write()
            now = time.perf_counter()
            next_show = now + (now - begun) / _SHOWING
            first = first or (now - started)
            tell({"kind": "cells"})

        def arrived(event: Event) -> None:
            if not isinstance(event, Finished):
                return
            for cell in sorted(member.cell.address for member in event.task.members):
                self._stale.discard(cell)
                if cell not in made.cells:
                    made.cells.append(cell)
            if not first or time.perf_counter() > next_show:
                show(hurries=True)

        def foreseen(outlook: Outlook) -> None:
            stale = {member.cell.address for task in outlook.todo for member in task.members}
            # Of those on show alone nothing is known of the others; of all, that is all there is.
            self._stale = stale if part is None else self._stale | stale

        for part in ([cell for cell in self._showing if cell in known], None):
            if part == []:
                continue
            at = self._at if part is None else part
            done = self._quick.run(
                at=at, sets=self._sets if part is None else (), into=self._into_folder, frames="first",
                workers=0, threads=threads, allow_missing=True, keep_earlier=KEPT,
                on_begin=self._begin, on_event=arrived, on_outlook=foreseen,
            )  # fmt: skip
            if done.failures:
                raise done.failures[0].problem
            if self._ends:
                return
            show()
        made.seconds = first, time.perf_counter() - started
        self._problem = ""
        self.tries.append(made)
        tell({"kind": "live", **self.state})

    @property
    def state(self) -> dict[str, Any]:
        """Tries and what stands in the way, for the page."""
        return {"tries": [each.told for each in self.tries], "problem": self._problem}

    # --- orders ----------------------------------------------------------------------------------------

    def order(self, verb: str, details: Mapping[str, Any]) -> str:
        if verb == "showing":
            self._showing = [str(cell) for cell in details.get("at", [])][:4]
            return ""
        if verb == "restore":
            return self._restore(int(details["try"]))
        if verb in CHANGES:
            return super().order(verb, details)
        raise PlanError("Proofs that follow the plan take no such order.")

    def _restore(self, number: int) -> str:
        """Write the plan of an earlier try into the plan file; the next look proofs it."""
        found = next((each for each in self.tries if each.number == number), None)
        if found is None:
            raise PlanError(f"Try {number} is not kept any more.", cure=f"the last {KEPT} are")
        self._source.refuse_stale()
        found.plan.write(self._path, over=True)
        return f"the plan is as in try {number}"

    def _hand_back(self, verb: str, details: Mapping[str, Any]) -> tuple[Plan, str]:
        """Change the plan's file; that is a save as any other."""
        return self._quick, change(open_plan(self._path), verb, details)

    def end(self) -> None:
        """End the proofs that are under way."""
        self._ends = True
        self._stop()

    def _begin(self, stop: Callable[[], None]) -> None:
        """Proofs begin, which `stop` ends."""
        self._stop = stop
        if self._ends:
            stop()


def _scale(plan: Plan, width: int) -> str:
    """The share of the largest size of a plan that is so wide."""
    whole = plan.override(scale="100%").cells
    widest = max((cell.settings.size.width for cell in whole[:200]), default=width)
    return f"{min(100.0, 100.0 * width / widest):.4g}%"


def _stamps(files: Mapping[Path, object] | Sequence[Path]) -> dict[Path, tuple[int, int]]:
    """Size and time of files; noughts for those that are gone."""
    found = {}
    for path in files:
        found[path] = (0, 0)
        with suppress(OSError):
            stat = path.stat()
            found[path] = stat.st_size, stat.st_mtime_ns
    return found


def _changed_lines(before: str, after: str) -> list[str]:
    """Lines of a plan that came and went."""
    lines = difflib.unified_diff(before.splitlines(), after.splitlines(), lineterm="", n=0)
    told = [line for line in lines if line[:1] in "+-" and line[:3] not in ("+++", "---")]
    more = len(told) - _LINES
    return told[:_LINES] + ([f"and {more} lines more"] if more > 0 else [])
