"""Who carries tasks out.  A backend has seats for some tasks at a time; it is handed a task, and
tells what becomes of it as events.

It decides nothing: which task, when, how often and for how long is the coordinator's business.  Those of this
machine are in `local_backends`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

from grandlattice._support.plug_ins import BACKENDS, load_plug_in
from grandlattice.errors import LatticeError
from grandlattice.runs.events import Event, UnderWay
from grandlattice.runs.slots import Slot
from grandlattice.runs.tasks import Task
from grandlattice.runs.work_order import Probe, Taken, WorkOrder


@dataclass(frozen=True)
class BackendRequest:
    """What a backend is made for: the argument of the function at its entry point.

    Attributes
    ----------
    order : what all tasks of the run have in common.
    workers : how many tasks at once; 0 asks for this very process.
    gentle : whether workers make way for whatever else their machine does.
    address : as it was asked for, such as ``tcp://host:8786``, or the name alone.
    asked : how many workers were asked for in so many words; None where it was left open.
    trusted : whether the person at this machine says that the network is trusted.
    """

    order: WorkOrder
    workers: int
    gentle: bool
    address: str
    asked: int | None = None
    trusted: bool = False


def backend_maker(address: str, trusted: bool = False) -> Callable[[BackendRequest], Backend]:
    """The function that makes the backend of an address: a name, ``name:…`` or ``name://…``.

    One that has a method `refuse_unready` is asked before anything is done whether the address can be used.

    Parameters
    ----------
    trusted : see `BackendRequest`.

    Raises
    ------
    PlanError, RunError
        When none of that name is installed, it cannot be loaded, or it refuses the address.
    """
    maker: Callable[[BackendRequest], Backend] = load_plug_in(BACKENDS, address.partition(":")[0])
    refuse = getattr(maker, "refuse_unready", None)
    if refuse is not None:
        refuse(address, trusted)
    return maker


@dataclass(frozen=True)
class Abilities:
    """What a backend can do.

    Attributes
    ----------
    cancel : whether a task under way can be given up.
    several_hosts : whether workers may run on other machines than the coordinator.
    shared_folder : whether workers see the scene and the output folder under the same paths.
    """

    cancel: bool = True
    several_hosts: bool = False
    shared_folder: bool = True


class Backend(Protocol):
    """Carries tasks out.

    An implementation may be handed a task whenever it has a free seat.  For every task handed over
    it reports exactly one of `Finished`, `Failed` and `Returned`, and before that any number of
    `Progress`.
    """

    @property
    def abilities(self) -> Abilities:
        """What it can do."""
        ...

    @property
    def free(self) -> int:
        """How many more tasks may begin now."""
        ...

    def takes(self, pool: int) -> bool:
        """Whether a task of a pool of workers, see `tasks.pool_key`, may begin now; 0 is any worker."""
        ...

    @property
    def busy(self) -> int:
        """How many tasks were handed over and have not ended."""
        ...

    @property
    def under_way(self) -> list[UnderWay]:
        """Those tasks, with what their workers hold now."""
        ...

    @property
    def idle_bytes(self) -> int:
        """What the worker holds that would take the next task."""
        ...

    @property
    def waits_for(self) -> str:
        """Why no task can begin, where that is not for those under way; empty otherwise."""
        ...

    @property
    def slots(self) -> Sequence[Slot]:
        """Of a cluster its slots, with what each does; none of this machine's own workers."""
        ...

    def await_seats(self, seconds: float) -> int:
        """How many tasks can be done at once; waits so long at most for workers that are coming."""
        ...

    def probe(self, probes: Sequence[Probe]) -> list[Taken | None]:
        """Measure what cells take, as many at a time as there are seats; None for what went wrong.

        Before the first task; workers that probed have the scene open then.
        """
        ...

    def begin(self, task: Task) -> int:
        """Take a task; returns the number of its worker."""
        ...

    def events(self, timeout: float) -> list[Event]:
        """What happened; waits `timeout` seconds at most for the first of it."""
        ...

    def give_up(self, doing: UnderWay, problem: LatticeError) -> None:
        """End a task that takes too much of something; it is reported as failed."""
        ...

    def stop_now(self) -> None:
        """Give up the tasks under way; nothing is left of them."""
        ...

    def kill(self) -> None:
        """End whatever works, at once; nothing more is reported of it."""
        ...

    def resize(self, workers: int) -> None:
        """Have so many seats from the next task on; tasks under way are finished."""
        ...

    def close(self) -> None:
        """End all workers."""
        ...
