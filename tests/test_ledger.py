"""The ledger and the store: what was made is known, whole, and found again."""

from __future__ import annotations

import os
import sqlite3
import threading
from dataclasses import replace
from pathlib import Path

import pytest

import grandlattice as lattice
from grandlattice.errors import ImageError, OutputError, RunError
from grandlattice.runs.ledger import FileRecord, Ledger
from grandlattice.runs.store import FolderStore
from grandlattice.runs.temporary_files import exchange_folder, new_attempt, part_of
from grandlattice.tables.ledger_columns import SCHEMA_VERSION

RECORD = FileRecord(
    path="day/Front.0001.exr", cell="day/Front", coordinates='{"light": "day"}', frame=1, format="exr",
    passes="beauty,depth", fingerprint="a1b2", bytes=1234, width=48, height=32, samples=4, rays=9000,
    seconds=0.25, denoised=False, finished=1.0e9, run=1,
)  # fmt: skip


def test_what_is_recorded_is_found_by_whoever_opens_it_next(tmp_path: Path) -> None:
    file = tmp_path / "deep" / "night.ledger"
    ledger = Ledger(file)
    assert ledger.files() == {}
    assert not file.exists()  # looking makes nothing
    run = ledger.begin_run(workers=2, tasks=3)
    ledger.record([RECORD, replace(RECORD, path="day/Front.0001.png", format="png")])
    ledger.record([replace(RECORD, seconds=0.5)])  # made again
    ledger.write(failures=[(run, "night/Side", 7, "the lamp fell over", 2.0)])
    ledger.end_run(run, "failures")
    ledger.close()
    found = Ledger(file).files()
    assert sorted(found) == ["day/Front.0001.exr", "day/Front.0001.png"]
    assert found["day/Front.0001.exr"].seconds == 0.5
    assert replace(found["day/Front.0001.png"], path=RECORD.path, format="exr") == RECORD
    with sqlite3.connect(file) as connection:
        assert connection.execute("SELECT state, workers, tasks FROM runs").fetchall() == [("failures", 2, 3)]
        assert connection.execute("SELECT cell, frame, what FROM failures").fetchall() == [
            ("night/Side", 7, "the lamp fell over")
        ]
    assert Ledger(file).begin_run(1, 1) == run + 1


def test_files_of_a_frame_are_recorded_together_or_not_at_all(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "a.ledger")
    broken = replace(RECORD, path="other.exr", fingerprint=None)  # type: ignore[arg-type]
    with pytest.raises(RunError, match="cannot be used"):
        ledger.record([RECORD, broken])
    assert ledger.files() == {}
    ledger.record([RECORD])
    assert list(ledger.files()) == [RECORD.path]


@pytest.mark.parametrize(
    "what", [b"this is no database, it is a shopping list" * 40, b"SQLite format 3\0" + b"x" * 4000]
)
def test_a_ledger_that_cannot_be_read_is_put_aside_and_made_anew_from_the_pictures(
    plan_file: Path, what: bytes
) -> None:
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=0).ok
    (ledger,) = plan_file.parent.glob("*.ledger.sqlite")
    before = Ledger(ledger).files()
    ledger.write_bytes(what)
    again = lattice.open_plan(plan_file).run(at=["day/"], workers=0)
    assert again.ok
    assert [task.first.address for task in again.outlook.todo] == ["day/Side"]
    assert again.ledger_aside is not None
    assert again.ledger_aside.read_bytes() == what
    after = Ledger(ledger).files()
    for path, record in before.items():
        assert (after[path].fingerprint, after[path].bytes) == (record.fingerprint, record.bytes)
        assert (after[path].samples, after[path].trace) == (record.samples, record.trace)


def test_what_a_killed_run_made_and_did_not_write_down_is_done_once_and_for_all(plan_file: Path) -> None:
    plan = lattice.open_plan(plan_file)
    assert plan.run(workers=0).ok
    with sqlite3.connect(plan_file.with_name("room.ledger.sqlite")) as connection:
        # As if it had been killed between giving the last files their names and writing so.
        connection.execute("DELETE FROM files WHERE path LIKE 'out/night/Side%'")
        connection.execute("UPDATE members SET state = 'running' WHERE number = 3")
    for _ in range(2):
        again = lattice.open_plan(plan_file).run(workers=0)
        assert not again.outlook.todo
    with sqlite3.connect(plan_file.with_name("room.ledger.sqlite")) as connection:
        assert connection.execute("SELECT state, COUNT(*) FROM members GROUP BY state").fetchall() == [
            ("done", 4)
        ]
        assert connection.execute("SELECT COUNT(*) FROM files").fetchone() == (8,)


def test_a_ledger_of_another_version_is_not_touched(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "a.ledger")
    ledger.record([RECORD])
    ledger.close()
    with sqlite3.connect(ledger.file) as connection:
        connection.execute("UPDATE about SET value = ? WHERE key = 'schema'", (str(SCHEMA_VERSION + 1),))
    before = ledger.file.read_bytes()
    with pytest.raises(RunError, match="another version"):
        Ledger(ledger.file).files()
    assert ledger.file.read_bytes() == before


def test_two_threads_may_each_hold_the_ledger_open(tmp_path: Path) -> None:
    problems: list[Exception] = []

    def work(number: int) -> None:
        try:
            ledger = Ledger(tmp_path / "a.ledger")
            for i in range(40):
                ledger.record([replace(RECORD, path=f"{number}/{i}.exr")])
        except Exception as problem:
            problems.append(problem)

    threads = [threading.Thread(target=work, args=(n,)) for n in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert not problems
    assert len(Ledger(tmp_path / "a.ledger").files()) == 120


# --- The store ---------------------------------------------------------------------------------


def test_a_file_is_whole_or_absent(tmp_path: Path) -> None:
    store = FolderStore(tmp_path / "out")

    def half(path: Path) -> None:
        path.write_bytes(b"half")
        raise ImageError("the pen broke")

    with pytest.raises(OutputError, match="the pen broke"):
        store.put("a/b.exr", half)
    assert [p for p in (tmp_path / "out").rglob("*") if p.is_file()] == []
    assert store.put("a/b.exr", lambda p: p.write_bytes(b"whole")) == 5
    with pytest.raises(OutputError):
        store.put("a/b.exr", half)
    assert (tmp_path / "out/a/b.exr").read_bytes() == b"whole"  # what was there stays
    assert store.size("a/b.exr") == 5
    assert store.size("a/none.exr") is None

    def interrupted(path: Path) -> None:
        path.write_bytes(b"half")
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        store.put("a/c.exr", interrupted)
    assert sorted(p.name for p in (tmp_path / "out/a").iterdir()) == ["b.exr"]


def test_a_library_that_does_not_say_why_is_asked_once_more(tmp_path: Path) -> None:
    # A disk that was full, and is not when we look, shows itself as no more than a picture that failed.
    store, tries = FolderStore(tmp_path / "out"), []

    def first_in_vain(path: Path) -> None:
        tries.append(path.exists())
        path.write_bytes(b"whole" if tries[1:] else b"ha")
        if len(tries) == 1:
            raise ImageError("File output failed.")

    assert store.put("a/b.exr", first_in_vain) == 5
    assert tries == [False, False]
    assert (tmp_path / "out/a/b.exr").read_bytes() == b"whole"


def test_nothing_lands_outside_and_what_a_kill_left_is_swept(tmp_path: Path) -> None:
    outside, out = tmp_path / "outside", tmp_path / "out"
    outside.mkdir()
    out.mkdir()
    (out / "link").symlink_to(outside)
    store = FolderStore(out)
    for path in ("../a.exr", "link/a.exr", "x/../../a.exr"):
        with pytest.raises(OutputError, match="outside"):
            store.put(path, lambda p: p.write_bytes(b"x"))
    assert list(outside.iterdir()) == []
    (out / "deep").mkdir()
    attempt = new_attempt(3, 12, 1)
    left = [part_of("Front.0001.exr", attempt), part_of("deep/Side.png", attempt), exchange_folder(attempt)]
    mine = [".hidden.exr", ".notes.part.txt", "deep/.Side.1.part.png", "deep/.keep.part.d/x", "a.part.exr"]
    for name in [*left[:2], f"{left[2]}/cell.usda", *mine]:
        (out / name).parent.mkdir(exist_ok=True)
        (out / name).write_bytes(b"x")
    assert store.remove_parts([*left, *mine, "deep/.keep.part.d", "link/" + left[0], "../" + left[0]]) == 3
    assert not any((out / name).exists() for name in left)
    assert all((out / name).exists() for name in mine)


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write anywhere")
def test_a_folder_without_permission_is_said(tmp_path: Path) -> None:
    (tmp_path / "out").mkdir(mode=0o500)
    with pytest.raises(OutputError, match="cannot be written to"):
        FolderStore(tmp_path / "out").put("a.exr", lambda p: p.write_bytes(b"x"))
