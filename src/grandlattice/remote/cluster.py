"""Tasks on the workers of a `distributed` cluster.

The engine runs what it is handed and decides nothing: one task at a time in each slot, pinned to it, and no
more than there are slots, so that tasks begin in the coordinator's order.  Every try has a name of its own;
only what comes of the try that is waited for counts.  Slots make files under temporary names in a folder of
their machine; they are fetched, verified, and land by the coordinator, as those of local workers do.
"""

from __future__ import annotations

import pickle
import queue
import secrets
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial
from itertools import cycle, islice
from typing import Any

from grandlattice.errors import DiskFull, LatticeError, WorkerError
from grandlattice.remote import slot
from grandlattice.remote.carrying import Carrier
from grandlattice.remote.engine import Engine
from grandlattice.remote.mirror import cell_to_send, task_to_send
from grandlattice.remote.seats import Seat, Seats
from grandlattice.runs.backends import Abilities
from grandlattice.runs.events import Event, Failed, Finished, Progress, Returned, UnderWay
from grandlattice.runs.files_between_tasks import files_to_begin_with
from grandlattice.runs.kept_shares import KeptShares
from grandlattice.runs.slots import Slot
from grandlattice.runs.tasks import Task, pool_key
from grandlattice.runs.work_order import Probe, Taken, TaskResult, WorkOrder

_FIRST_LOOK = 3.0  # seconds until a cluster that shows no worker has none
_STARTING = 120.0  # seconds a slot may take to begin a task before it counts as stalled
_ANSWER = 30.0  # seconds a slot may take to answer a question
_PROBING = 130.0  # seconds a slot may take to answer a probe
_PROBED = 32  # slots that probe at once
_SENDERS = 4  # tasks whose files travel at once
_MOST_TOLD = 1000  # slots that are told of one by one
_ENDING = 5.0  # seconds slots have to end what they do


@dataclass
class _Doing:
    """A try of a task."""

    under_way: UnderWay
    seat: Seat
    future: Any = None
    fetching: bool = False
    share: float = 0.0


class Cluster:
    """The backend of a cluster.

    Parameters
    ----------
    order : what the tasks have in common.
    connect : makes a client of the engine, connected; see `Engine`.
    most : slots at most; None is all.
    may_share : whether a folder that a slot sees is used; otherwise files always travel.
    """

    abilities = Abilities(cancel=True, several_hosts=True, shared_folder=False)
    idle_bytes = 0

    def __init__(
        self, order: WorkOrder, connect: Callable[[], Any], most: int | None = None, *, gentle: bool = False,
        may_share: bool = True,
    ) -> None:  # fmt: skip
        self._order, self._engine, self._most = order, Engine(connect), most
        self._run = secrets.token_hex(12)
        self._shares = KeptShares(order.store, order.plan_name)
        self._doing: dict[str, _Doing] = {}
        self._events: queue.Queue[Event] = queue.Queue()
        self._carrier = Carrier(order, self._engine, self._run)
        self._seats = Seats(
            order, self._engine, self._carrier, self._run, gentle=gentle, may_share=may_share, lost=self._lost
        )
        self._lock = self._seats.lock
        self._carrying = ThreadPoolExecutor(_SENDERS, thread_name_prefix="carry")
        self._topic = f"grandlattice-{self._run}"
        self._engine.listen(self._topic, self._heard)
        self._seats.begin()

    # --- what the coordinator asks ---------------------------------------------------------------

    @property
    def free(self) -> int:
        with self._lock:
            idle = sum(seat.state == "ready" and not seat.key for seat in self._seats.all.values())
            left = len(self._seats.all) if self._most is None else self._most - len(self._doing)
            return max(0, min(idle, left))

    def takes(self, pool: int) -> bool:
        with self._lock:
            return self.free > 0 and any(seat.takes(pool) for seat in self._seats.all.values())

    @property
    def busy(self) -> int:
        with self._lock:
            return len(self._doing) + self._events.qsize()

    @property
    def under_way(self) -> list[UnderWay]:
        with self._lock:
            return [doing.under_way for doing in self._doing.values()]

    @property
    def waits_for(self) -> str:
        return self._seats.waits_for

    @property
    def slots(self) -> list[Slot]:
        """What each slot is and does."""
        now = time.monotonic()
        with self._lock:
            return [
                self._told(seat, now)
                for seat in sorted(self._seats.all.values(), key=lambda s: s.number)[:_MOST_TOLD]
            ]

    def _told(self, seat: Seat, now: float) -> Slot:
        host = seat.facts.name if seat.facts else seat.address
        pools = ", ".join(seat.facts.pools) if seat.facts else ""
        doing = self._doing.get(seat.key)
        if doing is None:
            return Slot(seat.number, host, seat.state, words=seat.reason or seat.words, pools=pools)
        task = doing.under_way.task
        return Slot(
            seat.number, host, seat.state, task.first.address, task.frame, round(doing.share, 3),
            round(now - doing.under_way.since, 1), doing.under_way.peak_bytes, seat.words, pools,
        )  # fmt: skip

    def await_seats(self, seconds: float) -> int:
        begun = time.monotonic()
        while (took := time.monotonic() - begun) < seconds:
            with self._lock:
                states = [seat.state for seat in self._seats.all.values()]
            if (states and "coming" not in states) or (not states and took > _FIRST_LOOK):
                break
            if self._carrier.on_the_way:  # which is shown, and may take long
                break
            time.sleep(0.1)
        return self.free

    def probe(self, probes: Sequence[Probe]) -> list[Taken | None]:
        with self._lock:
            there = [seat for seat in self._seats.all.values() if seat.state == "ready"]
        if not there:
            return [None for _ in probes]
        with ThreadPoolExecutor(_PROBED, thread_name_prefix="probe") as asking:
            return list(asking.map(self._probed, probes, islice(cycle(there), len(probes))))

    def _probed(self, asked: Probe, seat: Seat) -> Taken | None:
        cell = asked.cell if seat.shares else cell_to_send(asked.cell, self._order)
        sent = pickle.dumps(replace(asked, cell=cell))
        try:
            found: Taken | None = self._engine.ask_one(
                slot.probe, self._run, sent, worker=seat.address, seconds=_PROBING
            )
        except Exception:  # it is lost meanwhile
            return None
        return found

    def begin(self, task: Task) -> int:
        with self._lock:
            pool = pool_key(task.pool)
            # Machines of many pools are left for tasks that are for them.
            seat = min((s for s in self._seats.all.values() if s.takes(pool)), key=Seat.rank)
            key = f"t-{task.number}-{task.attempt or secrets.token_hex(4)}-{secrets.token_hex(3)}"
            now = time.monotonic()
            doing = _Doing(UnderWay(task, seat.number, now, now + _STARTING), seat)
            self._doing[key] = doing
            seat.key = key
        along = [] if seat.shares else files_to_begin_with(self._order, task, self._shares)
        if along:
            self._carrying.submit(self._hand_over, key, doing, along)
        else:
            self._hand_over(key, doing, along)
        return seat.number

    def _hand_over(self, key: str, doing: _Doing, along: Sequence[str]) -> None:
        """Give a task to its slot, with the files it begins with."""
        task, seat = doing.under_way.task, doing.seat

        def heard() -> None:
            doing.under_way.heard = time.monotonic() + _STARTING

        try:
            self._carrier.bring_along(along, seat.address, heard)
            sent = task if seat.shares else task_to_send(task, self._order)
            if not self._is_waited_for(key):
                return
            doing.future = self._engine.submit(
                slot.carry_out, self._run, pickle.dumps(sent), key, self._topic, key=key, worker=seat.address
            )
            doing.future.add_done_callback(partial(self._came, key))
            if not self._is_waited_for(key):
                self._engine.cancel(doing.future)
        except Exception:  # the line is cut in this moment
            self._lost(key)

    def _is_waited_for(self, key: str) -> bool:
        with self._lock:
            return key in self._doing

    def events(self, timeout: float) -> list[Event]:
        found: list[Event] = []
        try:
            found.append(self._events.get(timeout=timeout))
            while True:
                found.append(self._events.get_nowait())
        except queue.Empty:
            return found

    def give_up(self, doing: UnderWay, problem: LatticeError) -> None:
        with self._lock:
            key = next((key for key, each in self._doing.items() if each.under_way is doing), None)
            seat = self._doing[key].seat if key is not None else None
            if seat is not None and seat.state == "ready":
                seat.state = "resting"
        if key is not None and seat is not None:
            self._cancel(key)
            self._end(key, Failed(doing.task, doing.worker, problem))
            self._seats.rest(seat)

    def stop_now(self) -> None:
        with self._lock:
            keys = [(key, doing.under_way) for key, doing in self._doing.items()]
        for key, doing in keys:
            self._cancel(key)
            self._end(key, Returned(doing.task, doing.worker))

    def kill(self) -> None:
        with self._lock:
            keys = list(self._doing)
        for key in keys:
            self._cancel(key)

    def resize(self, workers: int) -> None:
        self._most = max(1, workers)

    def close(self) -> None:
        self._seats.end()
        with self._lock:
            keys = list(self._doing)
            there = [seat.address for seat in self._seats.all.values() if seat.state == "ready"]
        for key in keys:
            self._cancel(key)
        if there and self._engine.is_there:
            with suppress(Exception):  # those that do not answer see that they are not waited for
                self._engine.ask(slot.leave, self._run, workers=there, seconds=_ENDING)
        self._carrying.shutdown(wait=False, cancel_futures=True)
        self._engine.close(_ENDING)
        self._carrier.close()

    # --- what becomes of tries -------------------------------------------------------------------------

    def _heard(self, event: tuple[float, Any]) -> None:
        key, share, memory = event[1]
        with self._lock:
            doing = self._doing.get(key)
            if doing is None:
                return
            doing.under_way.heard = time.monotonic()
            doing.under_way.peak_bytes = max(doing.under_way.peak_bytes, int(memory))
            doing.share = float(share)
        self._events.put(Progress(doing.under_way.task, doing.under_way.worker, float(share)))

    def _came(self, key: str, future: Any) -> None:
        """The engine's task has ended, one way or another."""
        with self._lock:
            doing = self._doing.get(key)
            if doing is None or doing.fetching:
                return
            doing.fetching = future.status == "finished"
        if future.status != "finished":
            self._lost(key)
            return
        with suppress(RuntimeError):  # the run has ended meanwhile
            self._carrying.submit(self._take, key, future)

    def _take(self, key: str, future: Any) -> None:
        try:
            kind, answer, log = future.result(timeout=_ANSWER)
        except Exception:
            self._lost(key)
            return
        with self._lock:
            doing = self._doing.get(key)
        if doing is None:
            return
        task, worker = doing.under_way.task, doing.under_way.worker
        if kind == "failed":
            problem, details = answer
            if isinstance(problem, DiskFull) and not doing.seat.shares:
                problem = self._full_there(doing.seat, problem)
            self._end(key, Failed(task, worker, problem, details, log))
        elif kind == "unknown":  # it was long idle, and another run had it meanwhile
            self._lost(key)
            self._seats.await_again(doing.seat)
        elif kind == "returned":
            self._lost(key)
        elif doing.seat.shares:
            self._end(key, Finished(task, worker, answer))
        else:
            self._fetch(key, answer)

    def _full_there(self, seat: Seat, problem: DiskFull) -> WorkerError:
        """A machine has no room: another one does its task, and it is asked again later."""
        name = seat.facts.name if seat.facts else seat.address
        self._seats.ask_later(seat, "its disk is full")
        return WorkerError(f"{name}: {problem.what}", cure="make room there; others do its frames meanwhile")

    def _fetch(self, key: str, result: TaskResult) -> None:
        """Bring the files of a task here, verified, and tell that it is done."""
        with self._lock:
            doing = self._doing.get(key)
        if doing is None:
            return
        task, worker = doing.under_way.task, doing.under_way.worker

        def heard() -> None:
            doing.under_way.heard = time.monotonic()

        try:
            self._carrier.fetch(task, result, doing.seat.address, heard)
            event: Event = Finished(task, worker, result)
        except LatticeError as problem:
            event = Failed(task, worker, problem)
        except Exception:  # the line is cut
            event = Failed(task, worker, _lost_words(task))
        self._end(key, event)

    def _lost(self, key: str) -> None:
        with self._lock:
            doing = self._doing.get(key)
        if doing is not None:
            self._cancel(key)
            task = doing.under_way.task
            self._end(key, Failed(task, doing.under_way.worker, _lost_words(task)))

    def _cancel(self, key: str) -> None:
        """Tell the engine that a task is not waited for; its slot sees that and ends it."""
        with self._lock:
            doing = self._doing.get(key)
        if doing is not None and doing.future is not None:
            self._engine.cancel(doing.future)

    def _end(self, key: str, event: Event) -> None:
        """Tell what became of a try, unless that was told."""
        with self._lock:
            doing = self._doing.pop(key, None)
            if doing is None:
                return
            if doing.seat.key == key:
                doing.seat.key = ""
            if isinstance(event, Failed):
                doing.seat.words = event.problem.what
            self._events.put(event)


def _lost_words(task: Task) -> WorkerError:
    return WorkerError(
        f"The machine that rendered {task.first.address}, frame {task.frame}, was lost.",
        cure="it is tried again elsewhere; look whether its worker still runs",
    )
