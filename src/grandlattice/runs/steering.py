"""Steering a run from elsewhere: orders that wait in its ledger until the coordinator takes them.

There is one writer of an output folder at a time, kept by a lock the system lets go of when the
process ends, however it ends.
"""

from __future__ import annotations

import json
import os
import platform
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from filelock import FileLock, Timeout
from numpy.typing import NDArray

from grandlattice.errors import (
    LatticeError,
    NoSuchCell,
    OutputError,
    PlanError,
    RunError,
    RunUnderWay,
    nearest,
)
from grandlattice.readable import many
from grandlattice.runs.ledger import DROPPED, WAITING, Ledger

if TYPE_CHECKING:
    from grandlattice.runs.coordinator import Coordinator

HIGHEST_PRIORITY = 1000
MOST_WORKERS = 1024
_ANSWER_WITHIN = 30.0  # seconds
_LOCK_WITHIN = 1.0  # seconds; whoever asks whether a run is under way holds the lock for an instant


@contextmanager
def sole_writer(ledger: Ledger) -> Iterator[None]:
    """Hold the output of a plan; nobody else runs it meanwhile.

    Raises
    ------
    RunUnderWay
        When somebody does.
    """
    file = lock_file(ledger)
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise OutputError(
            f"{file.parent} cannot be made: {problem.strerror}.", cure="choose another folder with --into"
        ) from problem
    if file.is_symlink():
        raise RunError(f"{file} is a link, and links are not written through.", cure="move the link away")
    lock = FileLock(file, timeout=_LOCK_WITHIN)
    try:
        lock.acquire()
    except Timeout:
        raise RunUnderWay(
            f"A run of {ledger.file.name.split('.')[0]} writes to this folder already{_whose(file)}.",
            cure="glat status --follow shows it, glat stop ends it; other cells can be added to it with "
            "glat retry and glat priority, another plan with glat add",
        ) from None
    except OSError as problem:
        raise RunError(
            f"{file} cannot be locked: {problem.strerror}.", cure="choose another folder with --into"
        ) from problem
    holder = file.with_suffix(".holder")
    ours = _write_holder(holder)
    try:
        yield
    finally:
        if ours:
            holder.unlink(missing_ok=True)
        lock.release()


def _write_holder(file: Path) -> bool:
    """Say in a file beside the lock who holds it; False where something else stands in its place."""
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
    try:
        if _whose(file.with_suffix(".lock")) and not file.is_symlink():  # of a run that was killed
            file.unlink(missing_ok=True)
        with os.fdopen(os.open(file, flags, 0o644), "w", encoding="utf-8") as stream:
            stream.write(f"{os.getpid()} {platform.node()} {time.time():.0f}")
    except OSError:
        return False
    return True


def lock_file(ledger: Ledger) -> Path:
    """What is locked while a run writes."""
    return ledger.file.with_name(f".{ledger.file.stem.removesuffix('.ledger')}.lock")


def is_under_way(ledger: Ledger) -> bool:
    """Whether somebody runs this plan now."""
    file = lock_file(ledger)
    if not file.exists() or file.is_symlink():
        return False
    lock = FileLock(file, timeout=0)
    try:
        lock.acquire()
    except Timeout:
        return True
    except OSError:
        return False
    lock.release()
    return False


def _whose(file: Path) -> str:
    try:
        pid, host, since = file.with_suffix(".holder").read_text().split()
        began = time.strftime("%H:%M", time.localtime(float(since)))
    except (OSError, ValueError):
        return ""
    return f", since {began}, as process {pid} on {host}"


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


# --- on the other side ---------------------------------------------------------------------------


def obey(coordinator: Coordinator) -> None:
    """Carry out the orders that wait in the ledger.

    Whatever somebody wrote there, the worst it comes to is that the order is refused.
    """
    ledger = coordinator.run.ledger
    for number, verb, details in ledger.orders():
        try:
            answer, refused = _carried_out(coordinator, verb, details), False
        except LatticeError as problem:
            answer, refused = problem.what, True
        except Exception as problem:  # the night does not end for an order nobody can read
            answer, refused = f"That order is not understood: {type(problem).__name__}.", True
        ledger.answer(number, answer, refused=refused)


def _carried_out(coordinator: Coordinator, verb: Any, details: Any) -> str:
    told = json.loads(details)
    if not isinstance(told, dict) or verb not in _ORDERS:
        raise RunError(f"There is no order {verb!r}.")
    at = told.get("at") or []
    if not isinstance(at, list) or not all(isinstance(text, str) for text in at):
        raise RunError("Cells are named by texts, such as light=noon.")
    return _ORDERS[verb](coordinator, told)


def _pause(coordinator: Coordinator, details: dict[str, Any]) -> str:
    coordinator.paused = True
    under_way = coordinator.backend.busy
    return f"paused; {many(under_way, 'frame')} under way will be finished" if under_way else "paused"


def _unpause(coordinator: Coordinator, details: dict[str, Any]) -> str:
    coordinator.paused = False
    return "going on"


def _stop(coordinator: Coordinator, details: dict[str, Any]) -> str:
    if details.get("now"):
        coordinator.stop_now("stopped")
        return "stopping now; frames under way are given up"
    coordinator.finish_soon("stopped")
    return f"stopping after {many(coordinator.backend.busy, 'frame')} under way"


def _retry(coordinator: Coordinator, details: dict[str, Any]) -> str:
    run = coordinator.run
    revived = coordinator.members.revive(_members(coordinator, details))
    left = [(failure, failure.task.without(revived.tolist())) for failure in run.failures]
    run.failures = [replace(failure, task=task) for failure, task in left if task is not None]
    coordinator.mark(revived, state=WAITING)
    return f"{many(len(revived), 'frame')} will be done again"


def _drop(coordinator: Coordinator, details: dict[str, Any]) -> str:
    dropped = coordinator.members.drop(_members(coordinator, details))
    coordinator.mark(dropped, state=DROPPED)
    return f"{many(len(dropped), 'frame')} left out"


def _prioritise(coordinator: Coordinator, details: dict[str, Any]) -> str:
    priority = details.get("priority")
    if not isinstance(priority, int) or abs(priority) > HIGHEST_PRIORITY:
        raise RunError(f"A priority is between -{HIGHEST_PRIORITY} and {HIGHEST_PRIORITY}.")
    changed = coordinator.members.prioritise(_members(coordinator, details), priority)
    coordinator.mark(changed, priority=priority)
    return f"{many(len(changed), 'frame')} now with priority {priority}"


def _workers(coordinator: Coordinator, details: dict[str, Any]) -> str:
    return _resized(coordinator, _count(details, least=1))


def _spare(coordinator: Coordinator, details: dict[str, Any]) -> str:
    return _resized(coordinator, max(1, (os.cpu_count() or 1) - _count(details, least=0)))


def _count(details: dict[str, Any], least: int) -> int:
    count = details.get("count")
    if not isinstance(count, int) or not least <= count <= MOST_WORKERS:
        raise RunError(f"That is a number from {least} to {MOST_WORKERS}.")
    return count


def _resized(coordinator: Coordinator, count: int) -> str:
    coordinator.backend.resize(count)
    return f"{many(count, 'worker')} from the next frame on"


def _add(coordinator: Coordinator, details: dict[str, Any]) -> str:
    plan = details.get("plan")
    if not isinstance(plan, str) or not Path(plan).is_file():
        raise RunError(f"There is no plan {plan!r} to add.")
    coordinator.add_to_queue(plan)
    return f"{Path(plan).name} comes after this plan"


def _members(coordinator: Coordinator, details: dict[str, Any]) -> NDArray[np.int64]:
    """Numbers of the members that an order means."""
    from grandlattice.plan import cells_at  # whoever only gives orders needs no plan

    todo, at = coordinator.run.outlook.todo, details.get("at")
    return todo.of_cells(cells_at(todo.made_from.lattice, at)) if at else todo.members


_ORDERS: dict[str, Callable[[Coordinator, dict[str, Any]], str]] = {
    "pause": _pause, "unpause": _unpause, "stop": _stop, "retry": _retry, "drop": _drop,
    "priority": _prioritise, "add": _add, "workers": _workers, "spare": _spare,
}  # fmt: skip
