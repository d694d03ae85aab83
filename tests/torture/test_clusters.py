"""Clusters whose lines are cut, whose disks fill and whose scheduler goes: takes minutes.

pytest -n0 tests/torture/test_clusters.py
"""

from __future__ import annotations

import itertools
import os
import pickle
import signal
import subprocess
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import psutil
import pytest
from filelock import FileLock

import grandlattice as lattice
from conftest import PLAN
from grandlattice.remote import slot
from grandlattice.runs.ledger import Ledger
from grandlattice.runs.tasks import Task
from grandlattice.runs.work_order import MemberResult, TaskResult
from studio import (
    Studio,
    apart,
    cache_of_a_machine,
    pictures,
    remembered_apart,
    studio_folder,
    whole,
)

pytest.importorskip("distributed")

apart_from_the_user = pytest.fixture(autouse=True)(remembered_apart)


@pytest.fixture
def night(plan_file: Path) -> lattice.Plan:
    """A plan of 40 frames of about two seconds each."""
    plan_file.write_text(PLAN.replace("samples: 4", "samples: 2400\n  frames: 1-10"))
    return lattice.open_plan(plan_file)


@pytest.fixture
def here(night: lattice.Plan, tmp_path: Path) -> dict[tuple[str, int], str]:
    """Its pictures as this machine makes them."""
    return pictures(night, night.run(workers=2, into=tmp_path / "here"))


def carried_out(plan: lattice.Plan, studio: Studio, into: Path, after: Callable[[], None], at: int = 4):
    """Run a plan on a cluster, and do something after some frames; the run, and how many events of each kind
    there were."""
    happened, held = Counter[str](), list[str]()

    def hear(event: lattice.Event) -> None:
        happened[type(event).__name__] += 1
        if isinstance(event, lattice.Held):
            held.append(event.reason)
        if isinstance(event, lattice.Finished) and happened["Finished"] == at:
            after()

    run = plan.run(on=f"file:{studio.file}", trust_network=True, into=into, on_event=hear)
    assert run.ok, [failure.problem for failure in run.failures]
    whole(into)
    assert Ledger(into / f"{plan.name}.ledger.sqlite").counts() == {"done": 40}
    assert happened["Finished"] == 40
    return happened, held


@pytest.fixture
def studio(tmp_path: Path) -> Iterator[Studio]:
    made = Studio(studio_folder(tmp_path))
    yield made
    made.end()


class Lines:
    """Machines in network namespaces of their own, on one bridge; their lines can be cut."""

    def __init__(self, names: Sequence[str]) -> None:
        self.names = names

    def begin(self) -> None:
        self._ip("link", "add", "glbr", "address", "02:00:00:00:77:01", "type", "bridge")
        self._ip("addr", "add", "10.77.0.1/24", "dev", "glbr")
        self._ip("link", "set", "glbr", "up")
        for number, name in enumerate(self.names, 2):
            self._ip("netns", "add", name)
            self._ip("link", "add", f"{name}-a", "type", "veth", "peer", "name", "eth0", "netns", name)
            self._ip("link", "set", f"{name}-a", "master", "glbr", "up")
            self._ip("-n", name, "addr", "add", f"10.77.0.{number}/24", "dev", "eth0")
            self._ip("-n", name, "link", "set", "eth0", "up")
            self._ip("-n", name, "link", "set", "lo", "up")

    @staticmethod
    def _ip(*words: str) -> None:
        subprocess.run(["ip", *words], check=True, capture_output=True)

    def cut(self, name: str, seconds: float, *, one_way: bool) -> None:
        """Cut a line for some seconds; one way: what the machine sends arrives, what it is sent does not."""
        number = self.names.index(name) + 2
        if one_way:
            there = (f"10.77.0.{number}", "dev", "glbr")
            self._ip(
                "neigh", "replace", there[0], "lladdr", "02:00:00:00:77:99", *there[1:], "nud", "permanent"
            )
            heal = ("neigh", "del", *there)
        else:
            self._ip("link", "set", f"{name}-a", "nomaster")
            heal = ("link", "set", f"{name}-a", "master", "glbr")
        threading.Timer(seconds, self._ip, heal).start()

    def end(self) -> None:
        for words in (*(("netns", "del", name) for name in self.names), ("link", "del", "glbr")):
            subprocess.run(["ip", *words], check=False, capture_output=True)


@pytest.fixture
def lines() -> Iterator[Lines]:
    if os.geteuid():
        pytest.skip("only root may cut lines")
    for verb in ("add", "del"):
        if subprocess.run(["ip", "netns", verb, "gl-probe"], capture_output=True, check=False).returncode:
            pytest.skip("there are no network namespaces here")
    with FileLock(Path(tempfile.gettempdir()) / "grandlattice-lines.lock"):  # one test at a time has them
        made = Lines(["gl-one", "gl-two"])
        try:
            made.begin()
            yield made
        finally:
            made.end()


@pytest.mark.parametrize(("seconds", "one_way"), [(8, False), (60, False), (8, True), (60, True)])
def test_a_line_that_is_cut_loses_nothing(
    night: lattice.Plan,
    here: dict[tuple[str, int], str],
    lines: Lines,
    tmp_path: Path,
    monkeypatch,
    seconds,
    one_way,
) -> None:
    apart(monkeypatch)
    studio = Studio(studio_folder(tmp_path), host="10.77.0.1")
    try:
        for name in lines.names:
            cache = cache_of_a_machine(tmp_path / name)
            studio.add(within=("ip", "netns", "exec", name), GRANDLATTICE_CACHE=str(cache))
        began = time.monotonic()
        happened, held = carried_out(
            night, studio, tmp_path / "there", lambda: lines.cut("gl-two", seconds, one_way=one_way)
        )
        print(f"{seconds} s, one way {one_way}: {time.monotonic() - began:.0f} s, {happened}, {held}")
        assert pictures(night, night.run(into=tmp_path / "there")) == here
    finally:
        studio.end()


@pytest.mark.parametrize("which", ["nanny", "slot"])
def test_a_process_that_stands_still_loses_nothing(
    night: lattice.Plan, here: dict[tuple[str, int], str], studio: Studio, tmp_path: Path, which: str
) -> None:
    studio.add(2)

    def stand_still() -> None:
        nanny = psutil.Process(studio.workers[0].pid)
        slots = [child for child in nanny.children() if "spawn" in " ".join(child.cmdline())]
        process = nanny if which == "nanny" else slots[-1]
        process.suspend()
        threading.Timer(25.0, process.resume).start()

    happened, held = carried_out(night, studio, tmp_path / "there", stand_still)
    print(which, happened, held)
    assert pictures(night, night.run(into=tmp_path / "there")) == here


@pytest.mark.parametrize("away", [3.0, 25.0])
def test_a_scheduler_that_goes_is_waited_for(
    night: lattice.Plan, here: dict[tuple[str, int], str], studio: Studio, tmp_path: Path, away: float
) -> None:
    studio.add(2)

    def begin_again() -> None:
        studio.begin()
        studio.add(2)

    def lose() -> None:
        studio.scheduler.send_signal(signal.SIGKILL)
        studio.scheduler.wait()
        threading.Timer(away, begin_again).start()

    happened, held = carried_out(night, studio, tmp_path / "there", lose)
    print(away, happened, held)
    assert "the scheduler does not answer" in held
    assert pictures(night, night.run(into=tmp_path / "there")) == here


def test_a_machine_whose_disk_is_full_leaves_its_frames_to_others(
    night: lattice.Plan, here: dict[tuple[str, int], str], studio: Studio, tmp_path: Path, monkeypatch
) -> None:
    apart(monkeypatch)
    small = cache_of_a_machine(tmp_path / "small")
    disk = small / "cluster"
    disk.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(disk)]
    if subprocess.run(mount, capture_output=True, check=False).returncode:
        pytest.skip("a small disk cannot be mounted here")
    try:
        studio.add()
        studio.add(GRANDLATTICE_CACHE=str(small))

        def fill() -> None:
            with suppress(OSError), (disk / "full").open("wb", buffering=0) as stream:
                for _ in range(1 << 9):
                    stream.write(bytes(1 << 12))

        happened, held = carried_out(night, studio, tmp_path / "there", fill)
        print(happened, held)
        assert happened["Retried"] >= 1
        assert pictures(night, night.run(into=tmp_path / "there")) == here
    finally:
        subprocess.run(["umount", "-l", str(disk)], check=True)


class SimulatedEngine:
    """An engine whose workers take their time and do nothing: a thousand real ones are more than one machine
    can begin.  Every fourth is of a pool."""

    is_there = True

    def __init__(self, count: int) -> None:
        self._facts = slot.slot_facts()
        self._there = [f"simulated://{number}" for number in range(count)]
        self._threads = ThreadPoolExecutor(count)

    def addresses(self) -> list[str]:
        return self._there

    def ask_one(self, question: object, *words: object, worker: str, seconds: float = 1.0) -> object:
        if question is slot.probe:
            return None
        pools = ("big",) if self._there.index(worker) % 4 == 0 else ()
        return self._facts._replace(pools=pools) if question is slot.slot_facts else True

    def ask(self, question: object, *words: object, workers: list[str], seconds: float = 1.0) -> dict:
        return {worker: self.ask_one(question, worker=worker) for worker in workers}

    def submit(self, work: object, run: str, task: bytes, *words: object, key: str, worker: str) -> Future:
        future = self._threads.submit(self._carried, pickle.loads(task))
        future.status = "finished"  # type: ignore[attr-defined]
        return future

    @staticmethod
    def _carried(task: Task) -> tuple[str, TaskResult, str]:
        time.sleep(3.0 + task.number % 7 / 7)
        members = tuple(MemberResult(m.number, 1, None, False, len(m.files), 3.0) for m in task.members)
        return "done", TaskResult(members, (), trace_seconds=3.0, seconds=3.0, rays=0), ""

    def cancel(self, future: Future) -> None:
        future.cancel()

    def listen(self, topic: str, hear: object) -> None:
        pass

    def close(self, seconds: float) -> None:
        self._threads.shutdown()


def test_a_thousand_simulated_workers_keep_order_priorities_and_barriers(
    plan_file: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    count = 1000
    monkeypatch.setattr("grandlattice.remote.cluster.Engine", lambda connect: SimulatedEngine(count))
    sweep = "{sweep: {from: 1, to: 1000, step: 1}, edits: [{multiply: {on: /World/Lights/Key, intensity: '{turned}'}}]}"
    plan_file.write_text(
        PLAN.replace("frame:04d}", "turned}.{frame:04d}").replace("axes:\n", f"axes:\n  turned: {sweep}\n")
        + "rules:\n  - at: {camera: Side}\n    pool: big\n  - at: {turned: '05*'}\n    priority: 3\n"
        "run: {wait: light}\norder: [light, turned, camera]\n"
    )
    plan, turns = lattice.open_plan(plan_file), itertools.count()
    began, ended, busy, most = dict[int, int](), dict[int, int](), set[int](), [0]

    def hear(event: lattice.Event) -> None:
        if isinstance(event, lattice.Started):
            began[event.task.number] = next(turns)
            busy.add(event.task.number)
            most[0] = max(most[0], len(busy))
        elif isinstance(event, lattice.Finished):
            ended[event.task.number] = next(turns)
            busy.discard(event.task.number)

    started = time.monotonic()
    run = plan.run(on="tcp://127.0.0.1:1", on_event=hear)
    print(f"{len(began)} tasks on {count} workers, {most[0]} at once: {time.monotonic() - started:.0f} s")
    assert run.ok
    assert most[0] >= count - 100  # no memory of this machine keeps them from it
    tasks = plan.tasks()
    assert len(ended) == len(tasks) == 4000
    for pool in ("", "big"):
        own = [task.number for task in tasks if task.pool == pool]
        assert len(own) == 2000
        assert sorted(own, key=began.__getitem__) == own
    steps = {step: [task.number for task in tasks if task.step == step] for step in (0, 1)}
    assert max(ended[number] for number in steps[0]) < min(began[number] for number in steps[1])
    first = [task.first for task in tasks if task.step == 0][:150]
    assert all(cell.coordinates["turned"].startswith("05") for cell in first)
