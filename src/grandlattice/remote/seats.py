"""Who is there in a cluster: slots come, are made ready, rest, are refused and go."""

from __future__ import annotations

import errno
import pickle
import secrets
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from grandlattice._support.readable import many
from grandlattice.errors import LatticeError
from grandlattice.remote import slot
from grandlattice.remote.carrying import Carrier
from grandlattice.remote.engine import Engine
from grandlattice.remote.mirror import order_to_send
from grandlattice.remote.slot import SlotFacts, slot_facts as own_facts
from grandlattice.runs.tasks import pool_key
from grandlattice.runs.work_order import WorkOrder

_LOOK_EVERY = 1.0  # seconds between looks who is there
_TRIES = 5  # times a slot is welcomed that cannot begin
_STARTING = 120.0  # seconds a slot may take to begin its process
_FULL = 60.0  # seconds until a machine whose disk is full is asked again
_RESTING = 2.0  # seconds until a slot that does not answer is asked again
_GREETERS = 16  # slots that are made ready at once


@dataclass
class Seat:
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


class Seats:
    """The slots of a cluster, for one run.

    Parameters
    ----------
    order : what the tasks have in common.
    run : names the run at the slots.
    may_share : whether a folder that a slot sees is used; otherwise files always travel.
    lost : told the key of a task whose slot has gone.

    Attributes
    ----------
    all : by their addresses.
    lock : held while they change.
    """

    def __init__(
        self, order: WorkOrder, engine: Engine, carrier: Carrier, run: str, *, gentle: bool, may_share: bool,
        lost: Callable[[str], None],
    ) -> None:  # fmt: skip
        self._order, self._engine, self._carrier, self._run = order, engine, carrier, run
        self._gentle, self._may_share, self._lost = gentle, may_share, lost
        self.all: dict[str, Seat] = {}
        self.lock = threading.RLock()
        self._own = own_facts()
        self._count = 0
        self._ended = threading.Event()
        self._greeting = ThreadPoolExecutor(_GREETERS, thread_name_prefix="greet")

    def begin(self) -> None:
        """Look who is there, from now on."""
        threading.Thread(target=self._mind, daemon=True).start()

    def end(self) -> None:
        """Look no more."""
        self._ended.set()
        self._greeting.shutdown(wait=False, cancel_futures=True)

    @property
    def waits_for(self) -> str:
        """Why no task can begin; empty where one can, or all slots are at work."""
        with self.lock:
            states = [seat.state for seat in self.all.values()]
            refused = [seat for seat in self.all.values() if seat.state == "refused"]
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
            with self.lock:
                gone = [seat for seat in self.all.values() if seat.address not in there]
                new = sorted(there - self.all.keys())
                for seat in gone:
                    seat.state = "gone"
                    del self.all[seat.address]
                    if seat.facts is not None and not any(
                        other.facts and other.facts.host == seat.facts.host for other in self.all.values()
                    ):
                        self._carrier.forget_host(seat.facts.host)
                for address in new:
                    self.all[address] = Seat(self._count, address)
                    self._count += 1
            for seat in gone:
                if seat.key:
                    self._lost(seat.key)
            with suppress(RuntimeError):  # the run has ended meanwhile
                for address in new:
                    self._greeting.submit(self._welcome, self.all[address])

    def rest(self, seat: Seat) -> None:
        """Have a slot take tasks again when it answers, and what was given up in it has ended."""
        threading.Thread(target=self._rest, args=(seat,), daemon=True).start()

    def _rest(self, seat: Seat) -> None:
        while seat.state == "resting" and not self._ended.is_set():
            try:
                self._engine.ask_one(slot.give_up, self._run, worker=seat.address)
            except Exception:  # it hangs still, or is gone, which `_mind` finds out
                self._ended.wait(_RESTING)
                continue
            with self.lock:
                if seat.state == "resting":
                    seat.state = "ready"

    def _welcome(self, seat: Seat) -> None:
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
            with self.lock:
                if seat.state == "coming":
                    seat.state, seat.reason = "ready", ""
        except LatticeError as problem:
            seat.reason, seat.state = problem.what, "refused"
        except OSError as problem:
            if problem.errno == errno.ENOSPC:
                self.ask_later(seat, "its disk is full")
            else:
                self._welcome_again(seat, problem)
        except Exception as problem:
            self._welcome_again(seat, problem)

    def _welcome_again(self, seat: Seat, problem: Exception) -> None:
        """Try a slot again that could not begin: its line may have been cut for a moment."""
        seat.tries += 1
        seat.reason = f"it cannot begin: {str(problem)[:300] or type(problem).__name__}"
        if seat.tries >= _TRIES:
            seat.state = "refused"
        elif not self._ended.wait(_RESTING) and seat.state == "coming":
            with suppress(RuntimeError):  # the run has ended meanwhile
                self._greeting.submit(self._welcome, seat)

    def ask_later(self, seat: Seat, reason: str) -> None:
        """Give a slot no task, and ask it again when what stands in the way may be gone."""
        with self.lock:
            if seat.state not in ("ready", "coming"):
                return
            seat.state, seat.reason = "refused", reason
        later = threading.Timer(_FULL, self.await_again, (seat, "refused"))
        later.daemon = True  # a run that ends does not wait for it
        later.start()

    def await_again(self, seat: Seat, state: str = "ready") -> None:
        """Have a slot shake hands once more that is in a state."""
        with self.lock:
            if seat.state != state or self._ended.is_set():
                return
            seat.state = "coming"
        with suppress(RuntimeError):  # the run has ended meanwhile
            self._greeting.submit(self._welcome, seat)

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


def _is_there(probe: str, token: str, files: list[tuple[str, int]]) -> bool:
    """Whether a machine sees files of another one under the same paths."""
    try:
        same = Path(probe).read_text() == token
        return same and all(Path(path).stat().st_size == size for path, size in files)
    except OSError:
        return False
