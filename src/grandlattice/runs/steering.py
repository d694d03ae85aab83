"""Steering a run from elsewhere: orders that wait in its ledger until its coordinator takes them.

`orders` has the other side: what the coordinator does with them.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from grandlattice.errors import NoSuchCell, PlanError, RunError, nearest
from grandlattice.runs.ledger import Ledger
from grandlattice.runs.writer_lock import is_under_way

HIGHEST_PRIORITY = 1000
MOST_WORKERS = 1024
_ANSWER_WITHIN = 30.0  # seconds


@dataclass(frozen=True)
class Steering:
    """Orders for the run of a plan that is under way.

    Parameters
    ----------
    ledger : of the plan.

    Examples
    --------
    >>> steering = lattice.steering("orrery.lattice.yaml")      # doctest: +SKIP
    >>> steering.pause()                                        # doctest: +SKIP
    """

    ledger: Ledger

    def pause(self) -> str:
        """Begin no more frames for now; those under way are finished."""
        return self._order("pause")

    def unpause(self) -> str:
        """Go on."""
        return self._order("unpause")

    def stop(self, *, now: bool = False) -> str:
        """End the run after the frames under way, or give those up too."""
        return self._order("stop", now=now)

    def retry(self, *at: str) -> str:
        """Do frames again that failed or were dropped; of these cells, or of all."""
        return self._order("retry", at=list(at))

    def drop(self, *at: str) -> str:
        """Leave out the frames of these cells that have not begun."""
        return self._order("drop", at=list(at))

    def prioritise(self, priority: int, *at: str) -> str:
        """Change the priority of the frames of these cells that have not begun, -1000 to 1000."""
        if not -HIGHEST_PRIORITY <= priority <= HIGHEST_PRIORITY:
            raise PlanError(
                f"A priority is between -{HIGHEST_PRIORITY} and {HIGHEST_PRIORITY}, not {priority}.",
                cure="higher ones run first; 0 is usual",
            )
        return self._order("priority", at=list(at), priority=priority)

    def workers(self, count: int) -> str:
        """Have so many workers from the next frame on, 1 to 1024; they change no byte."""
        if not 1 <= count <= MOST_WORKERS:
            raise PlanError(f"Workers are 1 to {MOST_WORKERS}, not {count}.")
        return self._order("workers", count=count)

    def spare(self, count: int) -> str:
        """Leave so many processors to others from the next frame on; one at least works."""
        if not 0 <= count <= MOST_WORKERS:
            raise PlanError(f"Processors to spare are 0 to {MOST_WORKERS}, not {count}.")
        return self._order("spare", count=count)

    def add(self, plan: str | Path) -> str:
        """Have another plan carried out when this one is done."""
        return self._order("add", plan=str(Path(plan).resolve()))

    def _order(self, verb: str, **details: Any) -> str:
        """Leave an order and wait for what comes of it.

        Raises
        ------
        PlanError
            When the order can be known to be wrong before anybody takes it.
        RunError
            When no run is under way, or it refuses the order or does not answer.
        """
        if not is_under_way(self.ledger):
            raise RunError("No run of this plan is under way.", cure="glat run begins one")
        self._refuse_unknown_axes(details.get("at") or ())
        number = self.ledger.give_order(verb, details)
        deadline = time.monotonic() + _ANSWER_WITHIN
        while time.monotonic() < deadline:
            answer = self.ledger.answer_to(number)
            if answer is not None:
                text, refused = answer
                if refused:
                    raise RunError(text, cure="the run goes on as before")
                return text
            time.sleep(0.1)
        raise RunError(
            f"The run has not answered for {_ANSWER_WITHIN:.0f} s; the order stands.",
            cure="glat status shows whether it still works",
        )

    def _refuse_unknown_axes(self, at: Sequence[str]) -> None:
        known = self.ledger.axes()
        for text in at:
            name, equals, _ = text.partition("=")
            if equals and known and name not in known:
                raise NoSuchCell(f"There is no axis {name}. {nearest(name, known)}")
