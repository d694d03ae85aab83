"""Tasks on the workers of a `distributed` cluster.

The engine runs what it is handed and decides nothing: one task at a time in each slot, pinned to it, and no
more than there are slots, so that tasks begin in the coordinator's order.  Every try has a name of its own;
only what comes of the try that is waited for counts.  Slots make files under temporary names in a folder of
their machine; they are fetched, verified, and land by the coordinator, as those of local workers do.
"""

from __future__ import annotations

import errno
import pickle
import queue
import secrets
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial
from itertools import cycle, islice
from pathlib import Path
from typing import Any

from grandlattice._support.readable import many
from grandlattice.errors import DiskFull, LatticeError, WorkerError
from grandlattice.remote import slot
from grandlattice.remote.carrying import Carrier
from grandlattice.remote.engine import Engine
from grandlattice.remote.mirror import cell_to_send, order_to_send, task_to_send
from grandlattice.remote.slot import SlotFacts, slot_facts
from grandlattice.runs.backends import Abilities
from grandlattice.runs.events import Event, Failed, Finished, Progress, Returned, UnderWay
from grandlattice.runs.slots import Slot
from grandlattice.runs.tasks import Task, pool_key
from grandlattice.runs.work_order import Probe, Taken, TaskResult, WorkOrder

_LOOK_EVERY = 1.0  # seconds between looks who is there
_FIRST_LOOK = 3.0  # seconds until a cluster that shows no worker has none
_TRIES = 5  # times a slot is welcomed that cannot begin
_STARTING = 120.0  # seconds a slot may take to begin a task before it counts as stalled
_ANSWER = 30.0  # seconds a slot may take to answer a question
_FULL = 60.0  # seconds until a machine whose disk is full is asked again
_RESTING = 2.0  # seconds until a slot that does not answer is asked again
_PROBING = 130.0  # seconds a slot may take to answer a probe
_PROBED = 32  # slots that probe at once
_SENDERS = 4  # machines that files go to or come from at once
_MOST_TOLD = 1000  # slots that are told of one by one
_ENDING = 5.0  # seconds slots have to end what they do


@dataclass
class _Seat:
    """A slot, as the coordinator knows it.

    Attributes
    ----------
    number : counts from 0, as slots come.
    state : ``coming``, ``ready``, ``resting`` after a task that was given up, ``refused`` or ``gone``.
    reason : why it is refused.
    shares : whether it sees scene and output folder under the same paths.
    key : of the engine's task that it does; empty where it is idle.
    words : what it failed with last.
    tries : how often it could not begin.
    pools : keys of those it is of.
    """

    number: int
    address: str
    state: str = "coming"
    facts: SlotFacts | None = None
    reason: str = ""
    shares: bool = False
    key: str = ""
    words: str = ""
    tries: int = 0
    pools: frozenset[int] = frozenset()

    def rank(self) -> tuple[int, int]:
        """Slots of a lower one take a task first: those of few pools, and of these those that came first."""
        return len(self.pools), self.number

    def takes(self, pool: int) -> bool:
        """Whether a task of a pool, see `tasks.pool_key`, may begin here now."""
        return self.state == "ready" and not self.key and (not pool or pool in self.pools)


@dataclass
class _Doing:
    """A try of a task."""

    under_way: UnderWay
    seat: _Seat
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
        self._gentle, self._may_share = gentle, may_share
        self._run = secrets.token_hex(12)
        self._own = slot_facts()
        self._seats: dict[str, _Seat] = {}
        self._count = 0
        self._doing: dict[str, _Doing] = {}
        self._events: queue.Queue[Event] = queue.Queue()
        self._lock = threading.RLock()
        self._carrier = Carrier(order, self._engine, self._run)
        self._ended = threading.Event()
        self._pool = ThreadPoolExecutor(_SENDERS, thread_name_prefix="cluster")
        self._topic = f"grandlattice-{self._run}"
        self._engine.listen(self._topic, self._heard)
        self._minder = threading.Thread(target=self._mind, daemon=True)
        self._minder.start()

    # --- what the coordinator asks ---------------------------------------------------------------

    @property
    def free(self) -> int:
        with self._lock:
            idle = sum(seat.state == "ready" and not seat.key for seat in self._seats.values())
            left = len(self._seats) if self._most is None else self._most - len(self._doing)
            return max(0, min(idle, left))

    def takes(self, pool: int) -> bool:
        with self._lock:
            return self.free > 0 and any(seat.takes(pool) for seat in self._seats.values())

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
        """Why no task can begin; empty where one can, or all slots are at work."""
        with self._lock:
            states = [seat.state for seat in self._seats.values()]
            refused = [seat for seat in self._seats.values() if seat.state == "refused"]
        if "ready" in states or "resting" in states:
            return ""
        if not self._engine.is_there:
            return "the scheduler does not answer"
        if self._carrier.on_the_way:
            return self._carrier.on_the_way
        if refused and "coming" not in states:
            name = refused[0].facts.name if refused[0].facts else refused[0].address
            return f"{many(len(refused), 'slot')} cannot be used; {name}: {refused[0].reason}"
        return "no worker has come yet" if "coming" not in states else "workers are coming"

    @property
    def slots(self) -> list[Slot]:
        """What each slot is and does."""
        now = time.monotonic()
        with self._lock:
            return [
                self._told(seat, now)
                for seat in sorted(self._seats.values(), key=lambda s: s.number)[:_MOST_TOLD]
            ]

    def _told(self, seat: _Seat, now: float) -> Slot:
        host = seat.facts.name if seat.facts else seat.address
        doing = self._doing.get(seat.key)
        if doing is None:
            return Slot(seat.number, host, seat.state, words=seat.reason or seat.words)
        task = doing.under_way.task
        return Slot(
            seat.number, host, seat.state, task.first.address, task.frame, round(doing.share, 3),
            round(now - doing.under_way.since, 1), doing.under_way.peak_bytes, seat.words,
        )  # fmt: skip

    def await_seats(self, seconds: float) -> int:
        begun = time.monotonic()
        while (took := time.monotonic() - begun) < seconds:
            with self._lock:
                states = [seat.state for seat in self._seats.values()]
            if (states and "coming" not in states) or (not states and took > _FIRST_LOOK):
                break
            time.sleep(_LOOK_EVERY / 10)
        return self.free

    def probe(self, probes: Sequence[Probe]) -> list[Taken | None]:
        with self._lock:
            there = [seat for seat in self._seats.values() if seat.state == "ready"]
        if not there:
            return [None for _ in probes]
        with ThreadPoolExecutor(_PROBED, thread_name_prefix="probe") as asking:
            return list(asking.map(self._probed, probes, islice(cycle(there), len(probes))))

    def _probed(self, asked: Probe, seat: _Seat) -> Taken | None:
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
            seat = min((s for s in self._seats.values() if s.takes(pool)), key=_Seat.rank)
            key = f"t-{task.number}-{task.attempt or secrets.token_hex(4)}-{secrets.token_hex(3)}"
            now = time.monotonic()
            doing = _Doing(UnderWay(task, seat.number, now, now + _STARTING), seat)
            self._doing[key] = doing
            seat.key = key
        sent = task if seat.shares else task_to_send(task, self._order)
        try:
            doing.future = self._engine.submit(
                slot.carry_out, self._run, pickle.dumps(sent), key, self._topic, key=key, worker=seat.address
            )
            doing.future.add_done_callback(partial(self._came, key))
        except Exception:  # the line is cut in this moment
            self._lost(key)
        return seat.number

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
            threading.Thread(target=self._rest, args=(seat,), daemon=True).start()

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
        self._ended.set()
        with self._lock:
            keys = list(self._doing)
            there = [seat.address for seat in self._seats.values() if seat.state == "ready"]
        for key in keys:
            self._cancel(key)
        if there and self._engine.is_there:
            with suppress(Exception):  # those that do not answer see that they are not waited for
                self._engine.ask(slot.leave, self._run, workers=there, seconds=_ENDING)
        self._pool.shutdown(wait=False, cancel_futures=True)
        self._engine.close(_ENDING)
        self._carrier.close()

    # --- who is there --------------------------------------------------------------------------------

    def _mind(self) -> None:
        """Welcome slots that come, and tell of those that go."""
        while not self._ended.wait(_LOOK_EVERY):
            if not self._engine.is_there:
                with suppress(LatticeError):  # it is asked again
                    self._engine.connect_again()
            try:
                there = set(self._engine.addresses()) if self._engine.is_there else set[str]()
            except Exception:  # it does not answer now: it is asked again
                continue
            with self._lock:
                gone = [seat for seat in self._seats.values() if seat.address not in there]
                new = sorted(there - self._seats.keys())
                for seat in gone:
                    seat.state = "gone"
                    del self._seats[seat.address]
                    if seat.facts is not None and not any(
                        other.facts and other.facts.host == seat.facts.host for other in self._seats.values()
                    ):
                        self._carrier.forget_host(seat.facts.host)
                for address in new:
                    self._seats[address] = _Seat(self._count, address)
                    self._count += 1
            for seat in gone:
                if seat.key:
                    self._lost(seat.key)
            for address in new:
                self._pool.submit(self._welcome, self._seats[address])

    def _rest(self, seat: _Seat) -> None:
        """Have a slot take tasks again when it answers, and what was given up in it has ended."""
        while seat.state == "resting" and not self._ended.is_set():
            try:
                self._engine.ask_one(slot.give_up, self._run, worker=seat.address)
            except Exception:  # it hangs still, or is gone, which `_mind` finds out
                self._ended.wait(_RESTING)
                continue
            with self._lock:
                if seat.state == "resting":
                    seat.state = "ready"

    def _welcome(self, seat: _Seat) -> None:
        """Shake hands with a slot, and have it ready: what it has to know and the scene go there first."""
        address, engine = seat.address, self._engine
        try:
            seat.facts = facts = engine.ask_one(slot.slot_facts, worker=address)
            seat.pools = frozenset(map(pool_key, facts.pools))
            seat.reason = facts.differs_from(self._own)
            if seat.reason:
                seat.state = "refused"
                return
            seat.shares = self._may_share and self._sees_our_folders(address)
            folder = None if seat.shares else self._carrier.scene_on(facts, address)
            order = self._order if seat.shares else order_to_send(self._order)
            told = pickle.dumps(order), folder, self._gentle
            engine.ask_one(slot.seat_at, self._run, *told, worker=address, seconds=_STARTING)
            with self._lock:
                if seat.state == "coming":
                    seat.state, seat.reason = "ready", ""
        except LatticeError as problem:
            seat.reason, seat.state = problem.what, "refused"
        except OSError as problem:
            if problem.errno == errno.ENOSPC:
                self._ask_later(seat, "its disk is full")
            else:
                self._welcome_again(seat, problem)
        except Exception as problem:
            self._welcome_again(seat, problem)

    def _welcome_again(self, seat: _Seat, problem: Exception) -> None:
        """Try a slot again that could not begin: its line may have been cut for a moment."""
        seat.tries += 1
        seat.reason = f"it cannot begin: {str(problem)[:300] or type(problem).__name__}"
        if seat.tries >= _TRIES:
            seat.state = "refused"
        elif not self._ended.wait(_RESTING) and seat.state == "coming":
            with suppress(RuntimeError):  # the run has ended meanwhile
                self._pool.submit(self._welcome, seat)

    def _full_there(self, seat: _Seat, problem: DiskFull) -> WorkerError:
        """A machine has no room: another one does its task, and it is asked again later."""
        name = seat.facts.name if seat.facts else seat.address
        self._ask_later(seat, "its disk is full")
        return WorkerError(f"The disk of {name} is full: {problem.what}", cure="make room there")

    def _ask_later(self, seat: _Seat, reason: str) -> None:
        """Give a slot no task, and ask it again when what stands in the way may be gone."""
        with self._lock:
            if seat.state not in ("ready", "coming"):
                return
            seat.state, seat.reason = "refused", reason
        later = threading.Timer(_FULL, self._await_again, (seat, "refused"))
        later.daemon = True  # a run that ends does not wait for it
        later.start()

    def _await_again(self, seat: _Seat, state: str = "ready") -> None:
        """Have a slot shake hands once more that is in a state."""
        with self._lock:
            if seat.state != state or self._ended.is_set():
                return
            seat.state = "coming"
        with suppress(RuntimeError):  # the run has ended meanwhile
            self._pool.submit(self._welcome, seat)

    def _sees_our_folders(self, address: str) -> bool:
        """Whether a slot sees the output folder, and every file of scene and plan, under the same paths."""
        output = self._order.output
        output.mkdir(parents=True, exist_ok=True)
        probe = output / f".lattice-probe-{secrets.token_hex(8)}"
        try:
            probe.write_text(self._run)
            files = [(str(path), path.stat().st_size) for path in self._order.sources if path.is_file()]
            return bool(self._engine.ask_one(_is_there, str(probe), self._run, files, worker=address))
        except OSError:
            return False
        finally:
            probe.unlink(missing_ok=True)

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
            self._pool.submit(self._take, key, future)

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
            self._await_again(doing.seat)
        elif kind == "returned":
            self._lost(key)
        elif doing.seat.shares:
            self._end(key, Finished(task, worker, answer))
        else:
            self._fetch(key, answer)

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
            self._carrier.fetch(result, doing.seat.address, heard)
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


def _is_there(probe: str, token: str, files: list[tuple[str, int]]) -> bool:
    """Whether a machine sees files of another one under the same paths."""
    try:
        same = Path(probe).read_text() == token
        return same and all(Path(path).stat().st_size == size for path, size in files)
    except OSError:
        return False
