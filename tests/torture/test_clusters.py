"""Clusters whose lines are cut, whose disks fill and whose scheduler goes: takes minutes.

pytest -n0 tests/torture/test_clusters.py
"""

from __future__ import annotations

import os
import pickle
import signal
import subprocess
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path

import psutil
import pytest

import grandlattice as lattice
from conftest import PLAN
from grandlattice.runs.ledger import Ledger
from grandlattice.runs.work_order import MemberResult, TaskResult
from studio import Studio, apart, cache_of_a_machine, pictures, studio_folder, whole

pytest.importorskip("distributed")


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
        self._ip("link", "add", "glbr", "address", "02:00:00:00:77:01", "type", "bridge")
        self._ip("addr", "add", "10.77.0.1/24", "dev", "glbr")
        self._ip("link", "set", "glbr", "up")
        for number, name in enumerate(names, 2):
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
    made = None
    try:
        made = Lines(["gl-one", "gl-two"])
        yield made
    except subprocess.CalledProcessError:
        pytest.skip("there are no network namespaces here")
    finally:
        if made is not None:
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


def test_a_thousand_simulated_workers_keep_order_priorities_and_barriers(
    plan_file: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import dask.config
    from distributed import LocalCluster

    from grandlattice.remote import connecting, slot
    from grandlattice.remote.cluster import Cluster

    count, facts, turn = 1000, slot.slot_facts(), [0]

    def told() -> slot.SlotFacts:
        turn[0] += 1
        return facts._replace(pools=("big",) if turn[0] % 4 == 1 else ())

    def carried(run: str, task: bytes, key: str, topic: str):
        given = pickle.loads(task)
        time.sleep(0.5 + given.number % 7 / 7)
        members = tuple(MemberResult(m.number, 1, None, False, len(m.files), 0.5) for m in given.members)
        return "done", TaskResult(members, (), trace_seconds=0.5, seconds=0.5, rays=0, cores=1), ""

    monkeypatch.setattr(slot, "slot_facts", told)
    monkeypatch.setattr(slot, "seat_at", lambda *words: "")
    monkeypatch.setattr(slot, "carry_out", carried)
    monkeypatch.setattr(slot, "leave", lambda run: None)
    monkeypatch.setattr("grandlattice.remote.cluster._is_there", lambda *words: True)

    def here(request, count: int) -> Cluster:
        alone = {f"distributed.admin.{name}.interval": "1h" for name in ("tick", "system-monitor")}
        with dask.config.set({**connecting._FEW_LOOKS, **alone}):  # a thousand of them in one process
            cluster = LocalCluster(
                n_workers=count, threads_per_worker=1, processes=False, dashboard_address=None, memory_limit=0
            )
        return Cluster(request.order, lambda: connecting._client(cluster), None)

    monkeypatch.setattr(connecting, "_cluster_here", here)
    monkeypatch.setattr(connecting, "_WITHIN", 300.0)  # all of them begin in this process
    sweep = "  turned: {sweep: {from: 1, to: 1000, step: 1}, edits: [{multiply: {on: /World/Lights/Key, intensity: '{turned}'}}]}\n"
    plan_file.write_text(
        PLAN.replace("frame:04d}", "turned}.{frame:04d}").replace("axes:\n", f"axes:\n{sweep}")
        + "rules:\n  - at: {camera: Side}\n    pool: big\n  - at: {turned: '05*'}\n    priority: 3\n"
        "run: {wait: light}\n"
    )
    plan, began, ended = lattice.open_plan(plan_file), dict[int, int](), dict[int, int]()

    def hear(event: lattice.Event) -> None:
        if isinstance(event, lattice.Started):
            began[event.task.number] = len(began) + len(ended)
        elif isinstance(event, lattice.Finished):
            ended[event.task.number] = len(began) + len(ended)

    started = time.monotonic()
    run = plan.run(on=f"local:{count}", on_event=hear)
    print(f"{len(began)} tasks on {count} simulated workers: {time.monotonic() - started:.0f} s")
    assert run.ok
    tasks = plan.tasks()
    assert len(ended) == len(tasks) == 4000
    for pool in ("", "big"):
        own = [task.number for task in tasks if task.pool == pool]
        assert sorted(own, key=began.__getitem__) == own
    last_of_first = max(ended[task.number] for task in tasks if task.step == 0)
    assert all(began[task.number] > last_of_first for task in tasks if task.step == 1)
