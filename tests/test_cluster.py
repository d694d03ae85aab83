"""Tasks on a cluster: the promises of one machine, whatever is lost."""

from __future__ import annotations

import hashlib
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import psutil
import pytest

import grandlattice as lattice
from conftest import PLAN
from grandlattice.errors import OutputError, PlanError
from grandlattice.remote import host_cache
from grandlattice.runs.ledger import Ledger
from scattered import scattered_plan
from studio import Studio, apart, pictures, remembered_apart, studio_folder, whole

pytest.importorskip("distributed")


apart_from_the_user = pytest.fixture(autouse=True)(remembered_apart)


@pytest.fixture
def studio(tmp_path: Path) -> Iterator[Studio]:
    made = Studio(studio_folder(tmp_path))
    yield made
    made.end()


@pytest.mark.long
def test_a_scene_goes_to_other_machines_and_its_pictures_come_back(
    studio: Studio, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = scattered_plan(tmp_path)
    file.write_text(file.read_text().replace("samples: 2,", "samples: 2, own-trace: true,"))
    plan = lattice.open_plan(file)
    here = plan.run(workers=0, into=tmp_path / "here")
    apart(monkeypatch)
    studio.add(2)
    order: list[str] = []

    def hear(event: lattice.Event) -> None:
        if isinstance(event, lattice.Started):
            order.append(event.task.first.address)

    there = plan.run(on=f"file:{studio.file}", into=tmp_path / "there", on_event=hear)
    assert there.ok, there.failures
    assert order == [task.first.address for task in plan.tasks()]
    assert pictures(plan, here) == pictures(plan, there)
    whole(tmp_path / "there")
    cache = studio.folder / "cache/cluster"
    kept = [path for path in (cache / "blobs").rglob("*") if path.is_file()]
    assert {hashlib.sha256(path.read_bytes()).hexdigest() for path in kept} == {path.name for path in kept}
    assert all(not path.stat().st_mode & 0o222 for path in kept)
    assert list((cache / "work").iterdir()) == []
    # It stays there for the next run; the last address is remembered, and the ledger agrees with all.
    stamps = {path: path.stat().st_mtime_ns for path in kept}
    again = plan.run(on="cluster", into=tmp_path / "again", at="light=plain")
    assert again.ok
    assert {
        path: path.stat().st_mtime_ns for path in (cache / "blobs").rglob("*") if path.is_file()
    } == stamps
    assert not plan.outlook(into=tmp_path / "there").todo


@pytest.mark.long
def test_in_place_in_processes_and_on_a_cluster_a_run_is_the_same(plan_file: Path, tmp_path: Path) -> None:
    plan_file.write_text(PLAN + "rules:\n  - at: {light: night}\n    priority: 2\n")
    plan, found = lattice.open_plan(plan_file), list[object]()
    ways: list[dict[str, object]] = [{"workers": 0}, {"workers": 2}, {"on": "local:2"}]
    for number, how in enumerate(ways):
        into, order, refused = tmp_path / str(number), list[str](), list[str]()

        def hear(
            event: lattice.Event, into: Path = into, order: list = order, refused: list = refused
        ) -> None:
            if isinstance(event, lattice.Started):
                order.append(event.task.first.address)
                if len(order) == 1:
                    with pytest.raises(lattice.RunError) as problem:
                        lattice.open_plan(plan_file).run(workers=0, into=into)
                    refused.append(problem.value.what)

        run = plan.run(into=into, on_event=hear, **how)  # type: ignore[arg-type]
        assert run.ok, run.failures
        whole(into)
        assert Ledger(into / "room.ledger.sqlite").counts() == {"done": 4}
        assert refused
        found.append((order, pictures(plan, run)))
    assert found[0] == found[1] == found[2]
    assert found[0][0] == ["night/Front", "night/Side", "day/Front", "day/Side"]  # type: ignore[index]


KEPT = (
    PLAN.replace("own-trace: true", "keep-light-shares: true")
    .replace("samples: 4", "samples: 16")
    .replace("passes: [beauty, depth]", "passes: [beauty]")
)


def rays(run: lattice.Run) -> int:
    return sum(event.result.rays for event in run.finished)


@pytest.mark.long
def test_what_spares_a_trace_here_spares_it_on_machines_without_the_folder(
    plan_file: Path, studio: Studio, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    apart(monkeypatch)
    studio.add(2)
    on = f"file:{studio.file}"
    plan_file.write_text(KEPT)
    plan, edits = lattice.open_plan(plan_file), [{"multiply": {"on": "/World/Lights/Key", "intensity": 3}}]
    for into, how in ((tmp_path / "here", "local"), (tmp_path / "there", on)):
        assert plan.run(into=into, on=how, workers=2).ok
        assert len(list((into / "room-shares").iterdir())) == 2  # the light of both cameras came back
        # Another display and another strength of a lamp are made from what was traced.
        shown = plan.override(exposure=1.0).run(into=into, on=how, workers=2)
        assert (shown.ok, rays(shown), sum(event.result.finished for event in shown.finished)) == (True, 0, 4)
        relit = plan.override(edits=edits).run(into=into, on=how, workers=2)
        assert (relit.ok, rays(relit), sum(event.result.relit for event in relit.finished)) == (True, 0, 4)
        whole(into)
    for name in ("day/Front", "night/Side"):
        ours, theirs = (tmp_path / into / "out" / f"{name}.0001.exr" for into in ("here", "there"))
        assert lattice.compare_files(ours, theirs).share == 0.0
    # Pictures that their time ended go on where they were, wherever that is.
    cut = PLAN.replace("samples: 4", "samples: 12000\n  seconds: 0.2").replace(
        "passes: [beauty, depth]", "passes: [beauty]"
    )
    plan_file.write_text(cut)
    plan, into = lattice.open_plan(plan_file), tmp_path / "cut"
    first = plan.run(into=into, on=on, at="day/Front")
    assert [member.unfinished for event in first.finished for member in event.result.members] == [True]
    (kept,) = (into / "room-unfinished").iterdir()
    (member,) = first.finished[0].result.members
    assert 0 < member.samples < 12000
    again = plan.run(into=into, on=on, at="day/Front", further=True, limit="10 min")
    (ended,) = again.finished[0].result.members
    assert (ended.samples, ended.unfinished, kept.exists()) == (12000, False, False)
    assert again.finished[0].result.trace_seconds > first.finished[0].result.trace_seconds  # of both together


@pytest.mark.long
@pytest.mark.parametrize("shares", [True, False])
def test_whatever_is_lost_the_pictures_are_those_of_an_undisturbed_run(
    plan_file: Path, studio: Studio, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, shares: bool
) -> None:
    if not shares:
        apart(monkeypatch)
    plan_file.write_text(PLAN.replace("samples: 4", "samples: 6000"))
    plan = lattice.open_plan(plan_file)
    here = plan.run(workers=0, into=tmp_path / "here")
    studio.add(2)
    happened: list[str] = []

    seen: list[lattice.Slot] = []

    def hear(event: lattice.Event) -> None:
        happened.append(type(event).__name__)
        seen.extend(lattice.status(plan_file, into=tmp_path / "there").slots)
        if happened.count("Progress") == 1 and "killed" not in happened:
            happened.append("killed")
            studio.renderers()[0].kill()  # the process that renders
        elif happened.count("Finished") == 1 and "lost" not in happened:
            happened.append("lost")
            for child in psutil.Process(studio.workers[0].pid).children(recursive=True):
                child.kill()  # a slot, with all it does; its nanny begins another
            studio.workers[1].send_signal(signal.SIGKILL)
            studio.add()

    there = plan.run(on=studio.address, into=tmp_path / "there", on_event=hear)
    assert there.ok, there.failures
    assert happened.count("Retried") >= 1
    assert any(slot.cell.startswith("day/") and slot.state == "ready" and slot.memory > 1e7 for slot in seen)
    assert happened.count("Finished") == 4
    assert pictures(plan, here) == pictures(plan, there)
    whole(tmp_path / "there")
    assert Ledger(tmp_path / "there/room.ledger.sqlite").counts() == {"done": 4}


@pytest.mark.long
def test_a_coordinator_that_is_killed_leaves_nothing_half_and_goes_on(
    plan_file: Path, studio: Studio, tmp_path: Path
) -> None:
    plan_file.write_text(PLAN.replace("samples: 4", "samples: 6000"))
    studio.add(2)
    command = [sys.executable, "-m", "grandlattice", "run", plan_file.name, "--on", studio.address]
    run = subprocess.Popen(command, cwd=plan_file.parent, stdout=subprocess.DEVNULL)
    end = time.monotonic() + 60.0
    ledger = Ledger(plan_file.parent / "room.ledger.sqlite")
    while not ledger.file.exists() or not ledger.counts().get("running"):
        assert time.monotonic() < end
        assert run.poll() is None
        time.sleep(0.1)
    time.sleep(1.0)
    assert studio.renderers()
    run.send_signal(signal.SIGKILL)
    run.wait()
    while studio.renderers():  # nobody waits for what they do
        assert time.monotonic() < end
        time.sleep(0.1)
    done = lattice.open_plan(plan_file).run(on=studio.address)
    assert done.ok, done.failures
    whole(plan_file.parent)
    assert Ledger(plan_file.parent / "room.ledger.sqlite").counts() == {"done": 4}


@pytest.mark.long
def test_a_slot_that_hangs_is_given_up_and_used_again(plan_file: Path, studio: Studio) -> None:
    plan_file.write_text(PLAN.replace("samples: 4", "samples: 6000") + "run: {stalled: 5 s, retries: 1}\n")
    studio.add()
    happened: list[str] = []

    def hear(event: lattice.Event) -> None:
        happened.append(type(event).__name__)
        if happened.count("Progress") == 1 and "stopped" not in happened:
            happened.append("stopped")
            studio.renderers()[0].suspend()

    run = lattice.open_plan(plan_file).run(on=studio.address, at="light=day", on_event=hear)
    assert run.ok, run.failures
    assert (happened.count("Retried"), happened.count("Finished")) == (1, 2)
    whole(plan_file.parent)


@pytest.mark.long
def test_a_run_waits_for_workers_says_so_and_refuses_those_that_would_make_others(
    plan_file: Path, studio: Studio, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan, held = lattice.open_plan(plan_file), list[str]()

    def hear(event: lattice.Event) -> None:
        if isinstance(event, lattice.Held):
            held.append(event.reason)
            if event.reason == "no worker has come yet":
                studio.add()

    assert plan.run(on=studio.address, on_event=hear).ok
    assert held[0] == "no worker has come yet"
    assert held[-1] == ""
    own = lattice.remote.slot.slot_facts()
    for name, other in (("processor", "another class"), ("version", "0.0"), ("denoiser", not own.denoiser)):
        facts = own._replace(**{name: other})
        monkeypatch.setattr("grandlattice.remote.seats.own_facts", lambda facts=facts: facts)
        said, stop = list[str](), list[Callable[[], None]]()

        def refused(event: lattice.Event, said: list = said, stop: list = stop) -> None:
            if isinstance(event, lattice.Held) and "cannot be used" in event.reason:
                said.append(event.reason)
                stop[0]()

        done = plan.run(on=studio.address, fresh=True, on_event=refused, on_begin=stop.append)
        assert not done.ok
        assert name in said[0]


@pytest.mark.long
def test_cells_go_to_machines_of_their_pool_and_wait_for_no_other(plan_file: Path, studio: Studio) -> None:
    plan_file.write_text(PLAN + "rules:\n  - at: {light: day}\n    pool: big\n")
    studio.add()
    held, ended = list[str](), list[tuple[str, int]]()

    def hear(event: lattice.Event) -> None:
        if isinstance(event, lattice.Held):
            held.append(event.reason)
            if "big" in event.reason:
                studio.add(GRANDLATTICE_POOLS="other, big")
        elif isinstance(event, lattice.Finished):
            ended.append((event.task.first.address, event.worker))

    assert lattice.open_plan(plan_file).run(on=studio.address, on_event=hear).ok
    assert "no worker of the pool big is ready" in held
    assert ended == [("night/Front", 0), ("night/Side", 0), ("day/Front", 1), ("day/Side", 1)]


def test_a_task_is_for_the_pool_that_one_of_its_cells_names(plan_file: Path) -> None:
    shared = PLAN.replace("own-trace: true ", "own-trace: false ")
    plan_file.write_text(shared + "rules:\n  - at: {light: night, camera: Side}\n    pool: big\n")
    plan = lattice.open_plan(plan_file)
    assert [(len(task.members), task.pool) for task in plan.tasks()] == [(2, ""), (2, "big")]
    # As the ledger has them, too; and this machine does them all.
    assert plan.run(workers=0, at="day/Front").ok
    assert [task.pool for task in plan.outlook().todo] == ["", "big"]
    # One of them takes it back.
    rules = "rules:\n  - at: {light: night}\n    pool: any\n"
    plan_file.write_text(shared.replace("defaults:\n", "defaults:\n  pool: big\n") + rules)
    assert [cell.settings.pool for cell in lattice.open_plan(plan_file).cells] == ["big", "big", "", ""]
    plan_file.write_text(shared + "rules:\n  - at: {light: night}\n    pool: big, small\n")
    with pytest.raises(PlanError, match="one word"):
        lattice.open_plan(plan_file)


@pytest.mark.long
def test_open_lines_lead_to_this_machine_alone(
    plan_file: Path, tmp_path: Path, glat, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("grandlattice.remote.connecting.credentials_folder", lambda: tmp_path)
    (tmp_path / "scheduler.json").write_text('{"address": "tcp://192.0.2.1:8786"}')
    for address in (
        "tcp://192.0.2.1:8786",
        "tcp://render.example:8786",
        f"file:{tmp_path / 'scheduler.json'}",
    ):
        plan_file.write_text(PLAN + f"run: {{on: '{address}'}}\n")
        with pytest.raises(PlanError, match="the line is open"):
            lattice.open_plan(plan_file).run()
    for address in ("tls://192.0.2.1:8786", "file:none.json", "local:0", "local:x", "tcp:"):
        code, said = glat.here(plan_file.parent, ("run", "--on", address))
        assert (code, "foresee" in said) == (2, False), (address, said)
    monkeypatch.setattr("grandlattice.remote.connecting._WITHIN", 1.0)
    for address, trusts in (("tcp://127.0.0.1:9", False), ("tcp://192.0.2.1:9", True)):
        with pytest.raises(lattice.RunError, match="No scheduler answers"):
            lattice.open_plan(plan_file).run(on=address, trust_network=trusts)


@pytest.mark.long
def test_machines_know_each_other_by_certificates(
    plan_file: Path, tmp_path: Path, glat, monkeypatch: pytest.MonkeyPatch
) -> None:
    pytest.importorskip("cryptography")
    code, said = glat(tmp_path, "cluster", "certificates", "keys")
    assert (code, "dask scheduler" in said) == (0, True), said
    assert (tmp_path / "keys/key.pem").stat().st_mode & 0o077 == 0
    assert glat(tmp_path, "cluster", "certificates", "keys")[0] == 1
    keys = [str(tmp_path / "keys" / name) for name in ("authority.pem", "certificate.pem", "key.pem")]
    words = ["--tls-ca-file", keys[0], "--tls-cert", keys[1], "--tls-key", keys[2]]
    studio = Studio(studio_folder(tmp_path), *words, protocol="tls")
    try:
        assert studio.address.startswith("tls://")
        studio.add()
        monkeypatch.setattr("grandlattice.remote.connecting.credentials_folder", lambda: tmp_path / "keys")
        assert lattice.open_plan(plan_file).run(on=studio.address, at="day/Front").ok
        lattice.make_certificates(tmp_path / "foreign")
        monkeypatch.setattr("grandlattice.remote.connecting._WITHIN", 2.0)
        monkeypatch.setattr("grandlattice.remote.connecting.credentials_folder", lambda: tmp_path / "foreign")
        with pytest.raises(lattice.RunError, match="No scheduler answers"):
            lattice.open_plan(plan_file).run(on=studio.address, at="day/Side")
    finally:
        studio.end()


def test_what_a_machine_keeps_is_what_it_says_and_nothing_leads_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("GRANDLATTICE_CACHE", str(tmp_path / "cache"))
    data = bytes(range(256)) * 100
    digest = hashlib.sha256(data).hexdigest()
    assert host_cache.lacking([(digest, len(data))]) == {digest: 0}
    host_cache.take_part(digest, 0, data[:1000])
    assert host_cache.lacking([(digest, len(data))]) == {digest: 1000}  # a cut: it goes on from there
    host_cache.take_part(digest, 1000, b"damaged")
    with pytest.raises(OutputError, match="damaged"):
        host_cache.complete(digest)
    assert host_cache.lacking([(digest, len(data))]) == {digest: 0}
    host_cache.take_part(digest, 0, data)
    host_cache.complete(digest)
    assert host_cache.lacking([(digest, len(data))]) == {}
    run = host_cache.work_folder("run-1")
    run.mkdir(parents=True)
    (run / "own.exr").write_bytes(b"picture")
    (tmp_path / "other.txt").write_text("other")
    os.symlink(tmp_path / "other.txt", run / "link.exr")
    assert host_cache.read_part("run-1", "own.exr", 1, 3) == b"ict"
    for wrong in ("../../../other.txt", "link.exr", str(tmp_path / "other.txt"), "../run-2/x"):
        with pytest.raises((OutputError, OSError)):
            host_cache.read_part("run-1", wrong, 0, 10)
        host_cache.forget("run-1", [wrong])
    assert (tmp_path / "other.txt").exists()
    for wrong in ("..", "a/b", "", "x" * 65):
        with pytest.raises(OutputError):
            host_cache.end_run(wrong)
    for wrong in ("../x", "g" * 64, ""):
        with pytest.raises(OutputError):
            host_cache.take_part(wrong, 0, b"x")
    assert host_cache.clean() > len(data)
    assert not host_cache.host_folder().exists()
