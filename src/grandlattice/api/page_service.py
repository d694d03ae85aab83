"""A page that follows a run: looked at again as frames arrive, with choices and orders from the browser."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from grandlattice.api.choices import Choice, choices_of, merged, write
from grandlattice.api.page_orders import CHANGES
from grandlattice.api.plan_files import PlanFiles
from grandlattice.api.run_control import status, steering
from grandlattice.errors import PlanError, RunError
from grandlattice.page import PageFiles, Service, pixel_script

if TYPE_CHECKING:
    from grandlattice.runs.status import RunStatus

_SHARE = 0.02  # of a processor that writing the page anew may take while a run goes on
_MOST_FAILURES = 50


P = TypeVar("P", bound=PlanFiles)


class PageService(Service, Generic[P]):
    """Serves the page of a plan.

    Parameters
    ----------
    write_page : writes the page of a plan.
    change : changes the plan's file by what a page hands back, see `page_orders`; returns the plan as it is
        then, and what came of it.
    """

    def __init__(
        self, plan: P, write_page: Callable[[P], PageFiles],
        change: Callable[[str, Mapping[str, Any]], tuple[P, str]], into: Path | None,
    ) -> None:  # fmt: skip
        self._plan, self._write_files, self._change, self._into = plan, write_page, change, into
        self._lock = Lock()
        self._told: dict[str, Any] = {}
        self._done = -1
        self._next = 0.0
        self._is_changed = False
        self._files = write_page(plan)
        self.folder = self._files.index.parent

    def look(self, tell: Callable[[Mapping[str, Any]], None]) -> None:
        found = self._status()
        told = {} if found is None else _told(found)
        if told != self._told:
            self._told = told
            tell({"kind": "run", **told})
        done = 0 if found is None else found.counts.get("done", 0)
        if self._done < 0:
            self._done = done
        if self._is_changed or (done != self._done and time.monotonic() >= self._next):
            started = time.process_time()
            with self._lock:
                self._write()
            self._done = done
            self._next = time.monotonic() + (time.process_time() - started) / _SHARE
            tell({"kind": "cells"})

    def _write(self) -> None:
        self._files = self._write_files(self._plan)
        self._is_changed = False

    def pixels(self, key: str) -> bytes | None:
        source = self._files.on_demand.get(key)
        return None if source is None else pixel_script(source)

    def _status(self) -> RunStatus | None:
        try:
            return status(self._file, into=self._into, states=("failed",), most=_MOST_FAILURES, logs=True)
        except RunError:
            return None

    @property
    def _file(self) -> Path:
        if self._plan.document.file is None:
            raise PlanError("This plan has no file.")
        return self._plan.document.file

    def choose(self, choices: Mapping[str, Any]) -> dict[str, Any]:
        given = {str(cell): Choice.model_validate(choice) for cell, choice in choices.items()}
        planned = self._plan.planned(self._into)
        with self._lock:
            made = merged(choices_of(planned), given)
            write(planned.store, planned.name, made)
        return {cell: choice.model_dump() for cell, choice in made.items()}

    def order(self, verb: str, details: Mapping[str, Any]) -> str:
        if verb in CHANGES:
            with self._lock:
                self._plan, said = self._change(verb, details)
                self._is_changed = True
            return said
        orders = steering(self._file, self._into)
        at = [str(cell) for cell in details.get("at", [])]
        if verb in ("pause", "unpause", "stop"):
            return str(getattr(orders, verb)())
        if verb == "retry":
            return orders.retry(*at)
        if verb == "drop" and at:
            return orders.drop(*at)
        if verb == "priority" and at:
            return orders.prioritise(int(details["priority"]), *at)
        raise PlanError(f"There is no order {verb!r}.")

    def end(self) -> None:
        """Nothing of a run is under way here."""


def _told(found: RunStatus) -> dict[str, Any]:
    """How a run stands, for the page."""
    failures = [
        {"cell": frame.cell, "frame": frame.frame, "problem": frame.problem, "log": frame.log[-4000:]}
        for frame in found.frames
    ]
    return {
        "under_way": found.under_way, "state": found.state, "held": found.held, "counts": found.counts,
        "share": round(found.share, 3), "workers": found.workers, "failures": failures,
        "left": None if found.seconds_left is None else round(found.seconds_left),
    }  # fmt: skip
