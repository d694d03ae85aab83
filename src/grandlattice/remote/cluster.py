"""Tasks on the workers of a `distributed` cluster.

The engine runs what it is handed and decides nothing: one task at a time in each slot, pinned to it, and no
more than there are slots, so that tasks begin in the coordinator's order.  Every try has a name of its own;
only what comes of the try that is waited for counts.  Slots make files under temporary names in a folder of
their machine; they are fetched, verified, and land by the coordinator, as those of local workers do.
"""

from __future__ import annotations

import hashlib
import os
import pickle
import queue
import secrets
import threading
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from grandlattice._support.readable import many, size
from grandlattice.errors import DiskFull, LatticeError, OutputError, WorkerError
from grandlattice.remote import host_cache, slot
from grandlattice.remote.mirror import Mirror, mirrored, order_to_send, task_to_send
from grandlattice.remote.slot import SlotFacts, slot_facts
from grandlattice.runs.backends import Abilities
from grandlattice.runs.events import Event, Failed, Finished, Progress, Returned, UnderWay
from grandlattice.runs.slots import Slot
from grandlattice.runs.store import Prepared
from grandlattice.runs.tasks import Task
from grandlattice.runs.work_order import Probe, Taken, TaskResult, WorkOrder

_LOOK_EVERY = 0.3  # seconds between looks who is there
_PART = 8_000_000  # bytes sent at once
_STARTING = 120.0  # seconds a slot may take to begin a task before it counts as stalled
_ANSWER = 30.0  # seconds a slot may take to answer a question
_RESTING = 2.0  # seconds until a slot that does not answer is asked again
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
    """

    number: int
    address: str
    state: str = "coming"
    facts: SlotFacts | None = None
    reason: str = ""
    shares: bool = False
    key: str = ""
    words: str = ""


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
    client : of the engine, connected.
    most : slots at most; None is all.
    may_share : whether a folder that a slot sees is used; otherwise files always travel.
    """

    abilities = Abilities(cancel=True, several_hosts=True, shared_folder=False)
    idle_bytes = 0

    def __init__(
        self, order: WorkOrder, client: Any, most: int | None = None, *, gentle: bool = False,
        may_share: bool = True,
    ) -> None:  # fmt: skip
        self._order, self._client, self._most = order, client, most
        self._gentle, self._may_share = gentle, may_share
        self._run = secrets.token_hex(12)
        self._own = slot_facts()
        self._seats: dict[str, _Seat] = {}
        self._count = 0
        self._doing: dict[str, _Doing] = {}
        self._events: queue.Queue[Event] = queue.Queue()
        self._lock = threading.RLock()
        self._hosts: dict[str, threading.Lock] = {}
        self._scenes: dict[str, str] = {}  # host → folder of the scene there
        self._mirror: Mirror | None = None
        self._making = threading.Lock()
        self._on_the_way = ""
        self._ended = threading.Event()
        self._pool = ThreadPoolExecutor(_SENDERS, thread_name_prefix="cluster")
        self._topic = f"grandlattice-{self._run}"
        client.subscribe_topic(self._topic, self._heard)
        self._minder = threading.Thread(target=self._mind, daemon=True)
        self._minder.start()

    # --- what the coordinator asks ---------------------------------------------------------------

    @property
    def free(self) -> int:
        with self._lock:
            idle = sum(seat.state == "ready" and not seat.key for seat in self._seats.values())
            left = len(self._seats) if self._most is None else self._most - len(self._doing)
            return max(0, min(idle, left))

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
        if self._client.status != "running":
            return "the scheduler does not answer"
        if self._on_the_way:
            return self._on_the_way
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

    def probe(self, probes: Sequence[Probe]) -> list[Taken | None]:
        return [None for _ in probes]  # machines differ: what one of them takes says little

    def begin(self, task: Task) -> int:
        with self._lock:
            seat = min(
                (s for s in self._seats.values() if s.state == "ready" and not s.key), key=lambda s: s.number
            )
            key = f"t-{task.number}-{task.attempt or secrets.token_hex(4)}-{secrets.token_hex(3)}"
            now = time.monotonic()
            doing = _Doing(UnderWay(task, seat.number, now, now + _STARTING), seat)
            self._doing[key] = doing
            seat.key = key
        sent = task if seat.shares else task_to_send(task, self._order)
        try:
            doing.future = self._client.submit(
                slot.carry_out, self._run, pickle.dumps(sent), key, self._topic,
                key=key, workers=[seat.address], allow_other_workers=False, pure=False, retries=0,
            )  # fmt: skip
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
        if there and self._client.status == "running":
            with suppress(
                Exception
            ):  # those that do not answer see for themselves that they are not waited for
                self._ask(slot.leave, self._run, workers=there, seconds=_ENDING)
        self._pool.shutdown(wait=False, cancel_futures=True)
        with suppress(Exception):
            self._client.close(timeout=_ENDING)
        cluster = getattr(self._client, "cluster", None)
        if cluster is not None:  # one that was begun for this run
            with suppress(Exception):
                cluster.close(timeout=_ENDING)
        if self._mirror is not None:
            self._mirror.close()

    # --- who is there --------------------------------------------------------------------------------

    def _mind(self) -> None:
        """Welcome slots that come, and tell of those that go."""
        while not self._ended.wait(_LOOK_EVERY):
            try:
                there = set(self._addresses())
            except Exception:  # it does not answer: no slot is there, as far as can be known
                there = set()
            with self._lock:
                gone = [seat for seat in self._seats.values() if seat.address not in there]
                new = sorted(there - self._seats.keys())
                for seat in gone:
                    seat.state = "gone"
                    del self._seats[seat.address]
                    if seat.facts is not None and not any(
                        other.facts and other.facts.host == seat.facts.host for other in self._seats.values()
                    ):
                        self._scenes.pop(seat.facts.host, None)  # it may come back with another disk
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
                self._ask(slot.give_up, self._run, workers=[seat.address])
            except Exception:  # it hangs still, or is gone, which `_mind` finds out
                self._ended.wait(_RESTING)
                continue
            with self._lock:
                if seat.state == "resting":
                    seat.state = "ready"

    def _addresses(self) -> list[str]:
        if self._client.status != "running":
            return []
        return list(self._client.scheduler_info(n_workers=-1)["workers"])

    def _ask(
        self, question: Any, *words: Any, workers: list[str], seconds: float = _ANSWER
    ) -> dict[str, Any]:
        """Have slots answer something, at once, besides what they do."""
        # What `Client.run` does, and no longer than that.
        return dict(
            self._client.sync(
                self._client._run, question, *words, workers=workers, callback_timeout=seconds
            )
        )  # fmt: skip

    def _welcome(self, seat: _Seat) -> None:
        """Shake hands with a slot, and have it ready: what it has to know and the scene go there first."""
        address = seat.address
        try:
            seat.facts = self._ask(slot.slot_facts, workers=[address])[address]
            assert seat.facts is not None
            seat.reason = seat.facts.differs_from(self._own)
            if seat.reason:
                seat.state = "refused"
                return
            seat.shares = self._may_share and self._sees_our_folders(address)
            folder, order = None, self._order
            if not seat.shares:
                with self._lock:
                    lock = self._hosts.setdefault(seat.facts.host, threading.Lock())
                with lock:
                    folder, order = self._scene_on(seat), order_to_send(self._order)
            self._ask(slot.seat_at, self._run, pickle.dumps(order), folder, self._gentle, workers=[address])
            with self._lock:
                if seat.state == "coming":
                    seat.state = "ready"
        except LatticeError as problem:
            seat.reason, seat.state = problem.what, "refused"
        except Exception as problem:
            if seat.state != "gone" and not self._ended.is_set():
                seat.reason, seat.state = f"it cannot begin: {str(problem)[:300]}", "refused"

    def _sees_our_folders(self, address: str) -> bool:
        """Whether a slot sees the output folder and the scene under the same paths."""
        output = self._order.output
        output.mkdir(parents=True, exist_ok=True)
        probe = output / f".lattice-probe-{secrets.token_hex(8)}"
        try:
            probe.write_text(self._run)
            asked = [str(probe), self._run, [(str(p), p.stat().st_size) for p in (self._order.scene,)]]
            return bool(self._ask(_is_there, *asked, workers=[address])[address])
        except OSError:
            return False
        finally:
            probe.unlink(missing_ok=True)

    # --- files there and back ------------------------------------------------------------------------

    def _scene_on(self, seat: _Seat) -> str:
        """Bring the scene to a machine, what of it is not there; once for all its slots."""
        assert seat.facts is not None
        known = self._scenes.get(seat.facts.host)
        if known is not None:
            return known
        with self._making:
            if self._mirror is None:
                self._mirror = mirrored(self._order)
        mirror, address = self._mirror, seat.address
        listed = mirror.manifest.files
        wanted = {file.sha256: file.size for file in listed}
        for _ in range(3):  # a file that came over damaged is sent again
            lacking = self._ask(host_cache.lacking, list(wanted.items()), workers=[address])[address]
            if not lacking:
                break
            whole, gone = sum(wanted[name] - there for name, there in lacking.items()), 0
            started = time.monotonic()
            for name, there in lacking.items():
                with mirror.sources[name].open("rb") as stream:
                    stream.seek(there)
                    at = there
                    while data := stream.read(_PART):
                        self._ask(host_cache.take_part, name, at, data, workers=[address])
                        at, gone = at + len(data), gone + len(data)
                        rate = gone / max(time.monotonic() - started, 1e-3)
                        self._on_the_way = (
                            f"the scene goes to {seat.facts.name}: {size(gone)} of {size(whole)}, "
                            f"{size(rate)} a second"
                        )
                with suppress(OutputError):
                    self._ask(host_cache.complete, name, workers=[address])
        self._on_the_way = ""
        told = (mirror.manifest.digest, list(listed))
        folder = str(self._ask(host_cache.assembled, *told, workers=[address], seconds=300.0)[address])
        self._scenes[seat.facts.host] = folder
        return folder

    def _fetch(self, key: str, result: TaskResult) -> None:
        """Bring the files of a task here, verify them, and tell that it is done."""
        with self._lock:
            doing = self._doing.get(key)
        if doing is None:
            return
        task, worker, address = doing.under_way.task, doing.under_way.worker, doing.seat.address
        parts = [prepared.part for prepared, _ in result.files]
        try:
            for prepared, _ in result.files:
                self._fetch_file(prepared, address, doing)
            event: Event = Finished(task, worker, result)
        except LatticeError as problem:
            event = Failed(task, worker, problem)
        except OSError as problem:
            full = problem.errno == 28
            kind = DiskFull if full else OutputError
            event = Failed(task, worker, kind(f"What was rendered could not be written: {problem.strerror}."))
        except Exception:
            event = Failed(task, worker, _lost_words(task))
        if isinstance(event, Failed):
            self._order.store.remove_parts(parts)
        self._end(key, event)
        with suppress(Exception):
            self._ask(host_cache.forget, self._run, parts, workers=[address])

    def _fetch_file(self, prepared: Prepared, address: str, doing: _Doing) -> None:
        full = self._order.store.path(prepared.part)
        full.parent.mkdir(parents=True, exist_ok=True)
        whole, at = hashlib.blake2b(digest_size=16), 0
        with full.open("wb") as stream:
            while at < prepared.size:
                asked = (self._run, prepared.part, at, min(_PART, prepared.size - at))
                data = self._ask(host_cache.read_part, *asked, workers=[address])[address]
                if not data:
                    break
                stream.write(data)
                whole.update(data)
                at += len(data)
                doing.under_way.heard = time.monotonic()
            stream.flush()
            os.fsync(stream.fileno())
        if (at, whole.hexdigest()) != (prepared.size, prepared.digest):
            raise OutputError(f"{prepared.path} came over damaged.", cure="it is rendered again")

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
            self._end(key, Failed(task, worker, problem, details, log))
        elif kind == "returned":
            self._lost(key)
        elif doing.seat.shares:
            self._end(key, Finished(task, worker, answer))
        else:
            self._fetch(key, answer)

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
            with suppress(Exception):
                self._client.cancel([doing.future], asynchronous=False)

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
