"""Frames of cells that share a task: each is done, dropped, retried, counted and paid for by itself."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import grandlattice as lattice
from conftest import PLAN, meanwhile
from grandlattice.runs import Patience
from grandlattice.runs.ledger import Ledger
from grandlattice.runs.membership import Membership
from grandlattice.runs.tasks import Columns, Member, Task
from grandlattice.tables.ledger_columns import LEDGER

SHARED = PLAN.replace(
    "  camera:\n", "  stops:\n    a:\n    b: {exposure: 1}\n    c: {exposure: 2}\n  camera:\n"
)


@pytest.fixture
def shared(plan_file: Path) -> Path:
    """Two lights and two cameras, each view in three exposures of one trace."""
    plan_file.write_text(SHARED.replace("{camera}.", "{camera}-{stops}."))
    return plan_file


def states(plan_file: Path) -> dict[str, str]:
    every = ["waiting", "running", "done", "failed", "dropped"]
    return {frame.cell: frame.state for frame in lattice.status(plan_file, states=every).frames}


def rows(plan_file: Path, query: str) -> list[tuple]:
    with sqlite3.connect(plan_file.with_name("room.ledger.sqlite")) as connection:
        return connection.execute(query).fetchall()


def test_what_one_member_lacks_is_written_for_it_alone(shared: Path) -> None:
    assert lattice.open_plan(shared).run(workers=0).ok
    out = shared.parent / "out"
    before = {path: (path.stat().st_mtime_ns, path.read_bytes()) for path in out.rglob("*.png")}
    (out / "day" / "Front-b.0001.png").unlink()
    again = lattice.open_plan(shared).run(workers=0)
    assert [[m.cell.address for m in task.members] for task in again.outlook.todo] == [["day/b/Front"]]
    assert again.finished_frames == 1
    after = {path: (path.stat().st_mtime_ns, path.read_bytes()) for path in out.rglob("*.png")}
    assert {p.name for p in before if before[p] != after[p]} == {"Front-b.0001.png"}
    # What the task took is the sum of what its members took, also where they came one by one.
    for of_task, of_members in rows(
        shared,
        "SELECT t.seconds, SUM(m.seconds) FROM tasks t JOIN members m ON task = t.number GROUP BY task",
    ):
        assert of_task == pytest.approx(of_members)
    assert rows(shared, "SELECT DISTINCT state, samples, files FROM members") == [("done", 4, 2)]


@pytest.mark.long
def test_a_cell_is_dropped_retried_and_hurried_by_itself(shared: Path) -> None:
    steering, seen = lattice.steering(shared), []

    def order(event: lattice.Event) -> None:
        if isinstance(event, lattice.Started) and not seen:
            seen.append(steering.drop("day/b/Side"))
            seen.append(steering.drop("stops=c"))  # one of them, day/c/Front, is under way
            seen.append(steering.retry("day/c/Side"))
            seen.append(steering.prioritise(5, "night/a/Side"))

    # Orders are given from another thread than the run's, as from another terminal.
    run = meanwhile(lattice.open_plan(shared).override(samples=400), order)
    assert seen == ["1 frame left out", "3 frames left out", "1 frame will be done again",
                    "1 frame now with priority 5"]  # fmt: skip
    assert run.ok
    dropped = {cell for cell, state in states(shared).items() if state == "dropped"}
    assert dropped == {"day/b/Side", "night/c/Front", "night/c/Side"}
    there = {p.name for p in (shared.parent / "out").rglob("*.png")}
    assert len(there) == 6  # by light: Front-a, -b, -c and Side-a, -b, -c
    assert not (shared.parent / "out/night/Side-c.0001.png").exists()
    began = [event.task.first.address for event in run.finished]
    assert began.index("night/a/Side") < began.index("night/a/Front")
    (found,) = lattice.status(shared, at=["night/b/Side"], states=["done"]).frames
    assert found.priority == 0  # the priority is that of the cell it was given
    assert rows(shared, "SELECT cell FROM members WHERE priority = 5") == [("night/a/Side",)]


def test_a_task_that_fails_fails_for_each_of_its_members(shared: Path) -> None:
    text = shared.read_text()
    shared.write_text(text + "renderers:\n  broken:\n    command: [false]\nrun: {retries: 0}\n")
    plan = lattice.open_plan(shared).override(renderer="broken")
    run = plan.run(at=["day//Front"], workers=1)
    assert (run.failed_frames, len(run.failures)) == (3, 1)
    assert [row[0] for row in rows(shared, "SELECT cell FROM failures")] == [
        "day/a/Front", "day/b/Front", "day/c/Front",
    ]  # fmt: skip
    status = lattice.status(shared, at=["day/c/Front"], logs=True)
    assert status.counts == {"failed": 3}
    assert status.frames[0].problem


def test_cells_that_share_a_trace_share_what_it_costs(shared: Path) -> None:
    # Three frames of a view cost what one costs alone, so a limit for each cell bears three times as many.
    shared.write_text(shared.read_text().replace("samples: 4", "samples: 64\n  frames: 1-4"))
    plan = lattice.open_plan(shared)
    whole = plan.run(at=["day//Front"], workers=0)
    each = sum(event.result.seconds for event in whole.finished) / 12
    said = [event.result.members[0].seconds for event in whole.finished]
    assert sum(said) == pytest.approx(4 * each)
    shared.write_text(shared.read_text() + f"run: {{budget: {{cell: {each * 400:.9f} s}}}}\n")
    assert lattice.open_plan(shared).run(at=["day//Front"], workers=0, fresh=True).ok
    shared.write_text(shared.read_text().replace(f"{each * 400:.9f}", f"{each * 0.01:.9f}"))
    cut = lattice.open_plan(shared).run(at=["day//Front"], workers=0, fresh=True)
    assert (cut.left, cut.finished_frames, cut.ended_by) == (9, 3, "budget")


V4 = """
DROP TRIGGER keep_tally; DROP TABLE tasks; DROP TABLE members; DROP TABLE past; DROP TABLE tally;
CREATE TABLE tasks (
    number INTEGER PRIMARY KEY, trace BLOB NOT NULL, cell TEXT NOT NULL, frame INTEGER NOT NULL,
    frames INTEGER NOT NULL, step INTEGER NOT NULL, priority INTEGER NOT NULL, work REAL NOT NULL,
    state TEXT NOT NULL, tries INTEGER NOT NULL DEFAULT 0, worker INTEGER, run INTEGER, started REAL,
    ended REAL, share REAL, seconds REAL, trace_seconds REAL, cpu_seconds REAL, peak_bytes INTEGER,
    samples INTEGER, noise REAL, rays INTEGER, kind TEXT, problem TEXT NOT NULL DEFAULT '');
CREATE TABLE tally (state TEXT PRIMARY KEY, tasks INTEGER NOT NULL, work REAL NOT NULL);
CREATE TRIGGER keep_tally AFTER UPDATE OF state ON tasks WHEN old.state != new.state
BEGIN UPDATE tally SET tasks = tasks - 1 WHERE state = old.state; END;
CREATE TABLE past (
    trace BLOB PRIMARY KEY, work REAL NOT NULL, worker INTEGER, run INTEGER, started REAL, ended REAL,
    seconds REAL, trace_seconds REAL, cpu_seconds REAL, peak_bytes INTEGER, samples INTEGER,
    noise REAL, rays INTEGER, kind TEXT) WITHOUT ROWID;
CREATE INDEX tasks_by_state ON tasks (state);
INSERT INTO tasks (number, trace, cell, frame, frames, step, priority, work, state, seconds, kind, run)
    SELECT number, trace, cell, frame, 1, 0, 0, w, 'done', s, 'k', 1 FROM kept;
INSERT INTO tally SELECT state, COUNT(*), SUM(work) FROM tasks GROUP BY state;
DROP TABLE kept; UPDATE about SET value = '4' WHERE key = 'schema';
"""


def test_a_ledger_that_knew_one_cell_of_a_task_learns_the_others(shared: Path) -> None:
    assert lattice.open_plan(shared).run(workers=0).ok
    before = rows(shared, "SELECT cell, frame, samples, files FROM members ORDER BY cell")
    with sqlite3.connect(shared.with_name("room.ledger.sqlite")) as connection:
        connection.execute(
            "CREATE TABLE kept AS SELECT t.number, trace, cell, frame, t.work AS w, t.seconds AS s "
            "FROM tasks t JOIN members m ON m.task = t.number GROUP BY t.number"
        )
        connection.executescript(V4)
    assert lattice.status(shared).counts == {"done": 12}
    assert rows(shared, "SELECT cell, frame, samples, files FROM members ORDER BY cell") == before
    assert not lattice.open_plan(shared).run(workers=0).outlook.todo
    assert rows(shared, "SELECT value FROM about WHERE key = 'schema'") == [("6",)]
    # From version 5 on members stay as they are: a column comes.
    file = shared.with_name("room.ledger.sqlite")
    with closing(sqlite3.connect(file)) as connection, connection:
        connection.execute("ALTER TABLE runs DROP COLUMN slots")
        connection.execute("UPDATE about SET value = '5' WHERE key = 'schema'")
    kept = rows(shared, "SELECT * FROM members ORDER BY cell")
    Ledger(file).counts()
    assert rows(shared, "SELECT * FROM members ORDER BY cell") == kept
    assert rows(shared, "SELECT slots FROM runs")
    assert rows(shared, "SELECT value FROM about WHERE key = 'schema'") == [("6",)]


def test_the_page_of_the_ledger_lists_every_column() -> None:
    page = (Path(__file__).parent.parent / "docs" / "ledger.md").read_text()
    listed = {
        part.splitlines()[0].strip("` "): [
            line.split("`")[1] for line in part.splitlines() if line.startswith("| `")
        ]
        for part in page.split("\n## ")[1:]
    }
    assert listed == {table.name: list(table.names) for table in LEDGER}
    assert all(f"A row is {table.row}." in page for table in LEDGER)
    assert all(column.meaning in page for table in LEDGER for column in table.columns)


# --- whatever is asked of them ------------------------------------------------------------------


class Cells:
    """A list of tasks without cells: `starts` say how many members each has."""

    def __init__(self, sizes: list[int], steps: list[int]) -> None:
        starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        n, m = len(sizes), int(starts[-1])
        self.columns = Columns(
            np.zeros((n, 16), np.uint8), starts, np.array(steps, np.int32), np.ones(n), np.arange(m, dtype=np.int32),
            np.ones(m, np.int64), np.zeros(m, np.int32), np.zeros(m, np.int32), np.ones(n, np.int32),
            np.arange(n + 1), np.zeros(n, np.int32), np.ones(n, np.int64), np.zeros((n, 16), np.uint8), np.zeros(n, np.int64),
        )  # fmt: skip
        self.numbers, self.members = np.arange(n), np.arange(m)

    def task(self, number: int) -> Task:
        part = self.columns.members_of(number)
        members = (Member(k, None, 1, ()) for k in range(part.start, part.stop))  # type: ignore[arg-type]
        return Task(number, tuple(members), ())


def test_a_try_of_a_later_step_waits_for_one_of_an_earlier_step_that_was_revived() -> None:
    clock = [0.0]
    members = Membership(Cells([1, 1], [0, 1]), Patience(retries=2, delay=1.0), lambda: clock[0])  # type: ignore[arg-type]
    before = members.next(lambda pool: True)
    assert before is not None
    members.failed(before)
    later = members.next(lambda pool: True)
    assert later is not None
    members.revive(np.array([0]))
    members.again(later)
    clock[0] = 5.0  # its wait is over; the earlier step goes first, and is finished first
    revived = members.next(lambda pool: True)
    assert revived is not None
    assert revived.number == before.number
    assert members.next(lambda pool: True) is None
    members.done(revived)
    after = members.next(lambda pool: True)
    assert after is not None
    assert after.number == later.number
    members.done(after)
    assert members.is_done


VERBS = ["next", "next", "next", "done", "done", "again", "failed", "put back", "drop", "revive", "hurry"]


@pytest.mark.long
@settings(max_examples=150, deadline=None)
@given(st.data())
def test_members_are_done_once_and_none_is_lost_whatever_is_asked(data) -> None:
    sizes = data.draw(st.lists(st.integers(1, 4), min_size=1, max_size=6))
    steps = sorted(data.draw(st.lists(st.integers(0, 2), min_size=len(sizes), max_size=len(sizes))))
    tasks, clock = Cells(sizes, steps), [0.0]
    members = Membership(tasks, Patience(retries=2, delay=1.0), lambda: clock[0])  # type: ignore[arg-type]
    todo, done, failed, away = set(range(sum(sizes))), list[int](), set[int](), set[int]()
    open_: list[Task] = []

    def one(verb: str, some: list[int]) -> None:
        clock[0] += 2.0
        if verb == "next":
            task = members.next(lambda pool: True)
            if task is not None:
                assert set(task.numbers) <= todo
                assert all(
                    steps[other.number] >= steps[task.number] for other in open_
                )  # none of an earlier step
                open_.append(task)
        elif verb in ("done", "again", "failed", "put back") and open_:
            task = open_.pop(0)
            mine = set(task.numbers)
            if verb == "put back":
                members.put_back(task)
            elif verb == "done":
                members.done(task)
                done.extend(mine)
                todo.difference_update(mine)
            elif verb == "failed" or members.again(task) is None:
                members.failed(task)
                failed.update(mine)
                todo.difference_update(mine)
        busy = {k for task in open_ for k in task.numbers}
        meant = np.array([k for k in some if k < sum(sizes)], np.int64)
        if verb == "drop":
            dropped = set(members.drop(np.unique(meant)).tolist())
            assert dropped == set(meant.tolist()) & todo - busy
            away.update(dropped)
            todo.difference_update(dropped)
        elif verb == "revive":
            revived = set(members.revive(np.unique(meant)).tolist())
            assert revived >= set(meant.tolist()) & (away | failed)
            assert not revived & (set(done) | busy)
            away.difference_update(revived)
            failed.difference_update(revived)
            todo.update(revived)
        elif verb == "hurry":
            members.prioritise(np.unique(meant), len(some))
        assert members.left == len(todo)

    for verb in data.draw(st.lists(st.sampled_from(VERBS), max_size=40)):
        one(
            verb,
            data.draw(st.lists(st.integers(0, 12), max_size=5))
            if verb in ("drop", "revive", "hurry")
            else [],
        )
    while not members.is_done:
        one("next", [])
        one("done", [])
    assert not todo
    assert len(done) == len(set(done))
    assert set(done) | failed | away == set(range(sum(sizes)))
