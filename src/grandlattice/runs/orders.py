"""What a run does with the orders that were left in its ledger, see `steering`."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.readable import many
from grandlattice.errors import LatticeError, RunError
from grandlattice.plan import cells_at
from grandlattice.runs.backends import Backend
from grandlattice.runs.ledger import DROPPED, WAITING
from grandlattice.runs.membership import Membership
from grandlattice.runs.run import Run
from grandlattice.runs.steering import HIGHEST_PRIORITY, MOST_WORKERS


class Steered(Protocol):
    """What carries a run out, as far as orders reach it."""

    run: Run
    backend: Backend
    members: Membership
    paused: bool

    def finish_soon(self, why: str) -> None:
        """Begin no more tasks."""
        ...

    def stop_now(self, why: str) -> None:
        """Give up the tasks under way too."""
        ...

    def add_to_queue(self, plan: str) -> None:
        """Have another plan carried out afterwards."""
        ...

    def mark(self, numbers: NDArray[np.int64], **values: Any) -> None:
        """Have the ledger know of members that do not begin now."""
        ...


def obey(coordinator: Steered) -> None:
    """Carry out the orders that wait in the ledger.

    An order that cannot be read or carried out is refused; none ends the run.
    """
    ledger = coordinator.run.ledger
    for number, verb, details in ledger.orders():
        try:
            answer, refused = _carried_out(coordinator, verb, details), False
        except LatticeError as problem:
            answer, refused = problem.what, True
        except Exception as problem:  # the night does not end for an order that cannot be read
            answer, refused = f"That order is not understood: {type(problem).__name__}.", True
        ledger.answer(number, answer, refused=refused)


def _carried_out(coordinator: Steered, verb: Any, details: Any) -> str:
    told = json.loads(details)
    if not isinstance(told, dict) or verb not in _ORDERS:
        raise RunError(f"There is no order {verb!r}.")
    at = told.get("at") or []
    if not isinstance(at, list) or not all(isinstance(text, str) for text in at):
        raise RunError("Cells are named by texts, such as light=noon.")
    return _ORDERS[verb](coordinator, told)


def _pause(coordinator: Steered, details: dict[str, Any]) -> str:
    coordinator.paused = True
    under_way = coordinator.backend.busy
    return f"paused; {many(under_way, 'frame')} under way will be finished" if under_way else "paused"


def _unpause(coordinator: Steered, details: dict[str, Any]) -> str:
    coordinator.paused = False
    return "going on"


def _stop(coordinator: Steered, details: dict[str, Any]) -> str:
    if details.get("now"):
        coordinator.stop_now("stopped")
        return "stopping now; frames under way are given up"
    coordinator.finish_soon("stopped")
    return f"stopping after {many(coordinator.backend.busy, 'frame')} under way"


def _retry(coordinator: Steered, details: dict[str, Any]) -> str:
    revived = coordinator.members.revive(_members(coordinator, details))
    left = [(failure, failure.task.without(revived.tolist())) for failure in coordinator.run.failures]
    coordinator.run.failures = [replace(failure, task=task) for failure, task in left if task is not None]
    coordinator.mark(revived, state=WAITING)
    return f"{many(len(revived), 'frame')} will be done again"


def _drop(coordinator: Steered, details: dict[str, Any]) -> str:
    dropped = coordinator.members.drop(_members(coordinator, details))
    coordinator.mark(dropped, state=DROPPED)
    return f"{many(len(dropped), 'frame')} left out"


def _prioritise(coordinator: Steered, details: dict[str, Any]) -> str:
    priority = details.get("priority")
    if not isinstance(priority, int) or abs(priority) > HIGHEST_PRIORITY:
        raise RunError(f"A priority is between -{HIGHEST_PRIORITY} and {HIGHEST_PRIORITY}.")
    changed = coordinator.members.prioritise(_members(coordinator, details), priority)
    coordinator.mark(changed, priority=priority)
    return f"{many(len(changed), 'frame')} now with priority {priority}"


def _workers(coordinator: Steered, details: dict[str, Any]) -> str:
    return _resized(coordinator, _count(details, least=1))


def _spare(coordinator: Steered, details: dict[str, Any]) -> str:
    return _resized(coordinator, max(1, (os.cpu_count() or 1) - _count(details, least=0)))


def _count(details: dict[str, Any], least: int) -> int:
    count = details.get("count")
    if not isinstance(count, int) or not least <= count <= MOST_WORKERS:
        raise RunError(f"That is a number from {least} to {MOST_WORKERS}.")
    return count


def _resized(coordinator: Steered, count: int) -> str:
    coordinator.backend.resize(count)
    return f"{many(count, 'worker')} from the next frame on"


def _add(coordinator: Steered, details: dict[str, Any]) -> str:
    plan = details.get("plan")
    if not isinstance(plan, str) or not Path(plan).is_file():
        raise RunError(f"There is no plan {plan!r} to add.")
    coordinator.add_to_queue(plan)
    return f"{Path(plan).name} comes after this plan"


def _members(coordinator: Steered, details: dict[str, Any]) -> NDArray[np.int64]:
    """Numbers of the members that an order means."""
    todo, at = coordinator.run.outlook.todo, details.get("at")
    return todo.of_cells(cells_at(todo.made_from.lattice, at)) if at else todo.members


_ORDERS: dict[str, Callable[[Steered, dict[str, Any]], str]] = {
    "pause": _pause, "unpause": _unpause, "stop": _stop, "retry": _retry, "drop": _drop,
    "priority": _prioritise, "add": _add, "workers": _workers, "spare": _spare,
}  # fmt: skip
