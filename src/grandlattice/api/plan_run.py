"""A run of a plan: what came of it, with what the plan shows of its pictures."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, fields
from pathlib import Path
from typing import TYPE_CHECKING

from grandlattice.api.plan_pictures import PlanPictures
from grandlattice.errors import LatticeError
from grandlattice.runs import Event, Finished
from grandlattice.runs.run import Run

if TYPE_CHECKING:
    from grandlattice.api.boards import BoardFiles
    from grandlattice.api.history import EarlierPicture

_SHARE = 0.03  # of the time that boards may be made in while a run goes on


@dataclass(repr=False)
class PlanRun(Run):
    """A run, and the plan it is a run of."""

    plan: PlanPictures | None = None

    @classmethod
    def of(cls, plan: PlanPictures, run: Run) -> PlanRun:
        """A run with its plan."""
        return cls(**{each.name: getattr(run, each.name) for each in fields(Run)}, plan=plan)

    def history(self, cell: str, *, frame: int | None = None) -> list[EarlierPicture]:
        """Earlier pictures of a cell, the latest first, and what changed; see `Plan.history`."""
        assert self.plan is not None
        return self.plan.history(cell, frame=frame, into=self.output)

    def board(self, *names: str) -> BoardFiles:
        """Write boards of the plan; see `Plan.board`."""
        assert self.plan is not None
        return self.plan.board(*names, into=self.output)


@contextmanager
def boards_kept(
    plan: PlanPictures, into: Path | None, hear: Callable[[Event], None] | None
) -> Iterator[tuple[Callable[[Event], None] | None, list[str]]]:
    """Make boards that are there anew while a run goes on, as its frames arrive, and when it ends.

    Yields what is to be told of all that happens, and notes on boards that could not be made.

    Parameters
    ----------
    hear : is told of all that happens besides.
    """
    notes: list[str] = []
    if not plan.model.boards:
        yield hear, notes
        return
    arrived, ended, begun = threading.Event(), threading.Event(), threading.Event()

    def renew() -> None:
        for name in plan.model.boards:
            try:
                plan.board(name, into=into, only_there=True)
            except LatticeError as problem:
                notes.append(f"The board {name} was not made anew: {problem.what}")

    def keep() -> None:
        while not ended.is_set():
            arrived.wait()
            arrived.clear()
            if ended.is_set():
                return
            started = time.monotonic()
            notes.clear()
            renew()
            ended.wait((time.monotonic() - started) / _SHARE)

    def told(event: Event) -> None:
        if isinstance(event, Finished):
            begun.set()
            arrived.set()
        if hear is not None:
            hear(event)

    keeper = threading.Thread(target=keep, daemon=True)
    keeper.start()
    is_done = False
    try:
        yield told, notes
        is_done = True
    finally:
        ended.set()
        arrived.set()
        keeper.join()
        notes.clear()
        if is_done and begun.is_set():
            renew()
