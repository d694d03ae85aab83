"""The tables of the ledger: one record for each column, from which the schema, the migration of older
ledgers and the tables of `docs/ledger.md` follow.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

SCHEMA_VERSION = 6
WITH_MEMBERS = 5  # the version from which tables are not replaced any more


class Column(NamedTuple):
    """A column: its name, its declaration in SQL, its meaning, and the version it came with."""

    name: str
    declared: str
    meaning: str
    since: int = 1


class LedgerTable(NamedTuple):
    """A table: its name, what one row of it is, its columns, and whether SQLite numbers its rows."""

    name: str
    row: str
    columns: tuple[Column, ...]
    rowid: bool = True

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns, in their order."""
        return tuple(column.name for column in self.columns)

    @property
    def sql(self) -> str:
        """The statement that makes the table where it is missing."""
        parts = [f"{column.name} {column.declared}" for column in self.columns]
        ending = "" if self.rowid else " WITHOUT ROWID"
        return f"CREATE TABLE IF NOT EXISTS {self.name} ({', '.join(parts)}){ending};"


_COST = (
    Column("run", "INTEGER", "the run of its last try"),
    Column("ended", "REAL", "when its last try ended"),
    Column("seconds", "REAL", "all it took; those of its members add up to it"),
    Column("trace_seconds", "REAL", "of tracing alone"),
    Column("cpu_seconds", "REAL", "processor time"),
    Column("peak_bytes", "INTEGER", "the most memory its worker was seen to hold"),
    Column("rays", "INTEGER", "rays shot"),
    Column("host", "TEXT", "the machine that did it", 5),
    Column("kind", "TEXT", "what tasks have in common that take as long for a sample; for estimates"),
)

FILES = LedgerTable(
    "files",
    "a finished file; written after the file has its name, never before",
    (
        Column("path", "TEXT PRIMARY KEY", "below the output folder, with `/`"),
        Column("cell", "TEXT NOT NULL", "address of its cell"),
        Column("coordinates", "TEXT NOT NULL", "the cell's entries, as JSON"),
        Column("frame", "INTEGER NOT NULL", "frame"),
        Column("format", "TEXT NOT NULL", "such as `exr`"),
        Column("passes", "TEXT NOT NULL", "names with blanks between"),
        Column(
            "fingerprint",
            "TEXT NOT NULL",
            "of everything the file depends on; the same stands in its metadata",
        ),
        Column("bytes", "INTEGER NOT NULL", "size"),
        Column("width", "INTEGER NOT NULL", "pixels"),
        Column("height", "INTEGER NOT NULL", "pixels"),
        Column("samples", "INTEGER NOT NULL", "samples of each pixel"),
        Column("rays", "INTEGER NOT NULL", "rays shot"),
        Column("seconds", "REAL NOT NULL", "of tracing its frame"),
        Column("denoised", "INTEGER NOT NULL", "0 or 1"),
        Column("finished", "REAL NOT NULL", "when"),
        Column("run", "INTEGER NOT NULL", "in which run"),
        Column("trace", "TEXT NOT NULL DEFAULT ''", "by which task, its `trace` in hexadecimal digits", 3),
        Column(
            "noise",
            "REAL",
            "relative error of the beauty (mean error over mean light) where there were two rounds of 16",
            3,
        ),
        Column(
            "unfinished",
            "INTEGER NOT NULL DEFAULT 0",
            "0 or 1: ended by `seconds:` before it had all samples",
            3,
        ),
    ),
)

MEMBERS = LedgerTable(
    "members",
    "one frame of one cell, within the task that renders it; of the plan as it was run last",
    (
        Column("number", "INTEGER PRIMARY KEY", "its place; the members of a task follow each other", 5),
        Column("task", "INTEGER NOT NULL", "number of its task", 5),
        Column("cell", "TEXT NOT NULL", "address of its cell", 5),
        Column("frame", "INTEGER NOT NULL", "frame", 5),
        Column("film", "INTEGER NOT NULL", "which of the task's films its files are written from", 5),
        Column("priority", "INTEGER NOT NULL", "the task goes by the highest of its members", 5),
        Column("work", "REAL NOT NULL", "its part of the task's work", 5),
        Column("state", "TEXT NOT NULL", "`waiting running done failed dropped`", 5),
        Column("run", "INTEGER", "the run of its last try", 5),
        Column("worker", "INTEGER", "who does or did it", 5),
        Column("started", "REAL", "when its last try began", 5),
        Column("ended", "REAL", "when that ended", 5),
        Column("samples", "INTEGER", "samples of each pixel", 5),
        Column("noise", "REAL", "as in `files`", 5),
        Column("unfinished", "INTEGER NOT NULL DEFAULT 0", "as in `files`", 5),
        Column("files", "INTEGER NOT NULL DEFAULT 0", "how many were written", 5),
        Column("seconds", "REAL", "its part of the seconds of its task", 5),
        Column("problem", "TEXT NOT NULL DEFAULT ''", "what went wrong last", 5),
    ),
)

TASKS = LedgerTable(
    "tasks",
    "one trace with all that is made from it, for one or more members",
    (
        Column("number", "INTEGER PRIMARY KEY", "its place in the planned order"),
        Column("trace", "BLOB NOT NULL", "fingerprint of all it traces, 16 bytes"),
        Column("frames", "INTEGER NOT NULL", "how many frames it renders"),
        Column("step", "INTEGER NOT NULL", "barrier: it begins when all of an earlier step have ended"),
        Column("work", "REAL NOT NULL", "pixels × samples × frames"),
        Column("tries", "INTEGER NOT NULL DEFAULT 0", "how often it was tried again"),
        Column("share", "REAL", "how much of it is done while it runs, 0 to 1"),
        *_COST,
    ),
)

PAST = LedgerTable(
    "past",
    "what a trace took, of tasks that a later planning left out or had again",
    (
        Column("trace", "BLOB PRIMARY KEY", "as in `tasks`"),
        Column("work", "REAL NOT NULL", "as in `tasks`"),
        Column("worker", "INTEGER", "who did it"),
        Column("started", "REAL", "when its last try began"),
        *_COST,
    ),
    rowid=False,
)

RUNS = LedgerTable(
    "runs",
    "a run",
    (
        Column("run", "INTEGER PRIMARY KEY", "its number"),
        Column("started", "REAL NOT NULL", "when"),
        Column("ended", "REAL", "when"),
        Column("workers", "INTEGER NOT NULL", "how many it began with; of a cluster, slots that were ready"),
        Column("tasks", "INTEGER NOT NULL", "how many it set out to do"),
        Column("state", "TEXT NOT NULL", "`running done failures stopped budget full`"),
        Column("host", "TEXT NOT NULL DEFAULT ''", "the machine of its coordinator", 3),
        Column("pid", "INTEGER NOT NULL DEFAULT 0", "the process of its coordinator", 3),
        Column("heard", "REAL", "its last sign of life", 3),
        Column("held", "TEXT NOT NULL DEFAULT ''", "why no frame begins", 3),
        Column("slots", "TEXT NOT NULL DEFAULT ''", "of a cluster, what each slot does, as JSON", 6),
        Column("estimate_low", "REAL", "seconds it was expected to take, at least", 3),
        Column("estimate", "REAL", "seconds it was expected to take", 3),
        Column("estimate_high", "REAL", "seconds it was expected to take, at most", 3),
        Column("seconds", "REAL", "it took", 3),
        Column("core_seconds", "REAL", "seconds × processors", 3),
        Column("compiler", "TEXT NOT NULL DEFAULT ''", "which compiler made the kernels: `fast`, `plain`", 5),
        Column("worked", "REAL", "work of the tasks it finished", 3),
        Column("worked_seconds", "REAL", "seconds of the tasks it finished", 3),
    ),
)

OTHERS = (
    LedgerTable(
        "about",
        "a fact of the ledger: its schema's version, its id, its axes, what its tasks follow from",
        (Column("key", "TEXT PRIMARY KEY", "name"), Column("value", "TEXT NOT NULL", "value")),
    ),
    LedgerTable(
        "tally",
        "how many members are in a state; kept by a trigger",
        (
            Column("state", "TEXT PRIMARY KEY", "as in `members`"),
            Column("members", "INTEGER NOT NULL", "how many", 5),
            Column("work", "REAL NOT NULL", "their work"),
        ),
    ),
    LedgerTable(
        "columns",
        "an array of all tasks or members, so that a run goes on without planning anew",
        (
            Column("name", "TEXT PRIMARY KEY", "see `Columns` in `runs/tasks.py`"),
            Column("kind", "TEXT NOT NULL", "its dtype"),
            Column("data", "BLOB NOT NULL", "its bytes"),
        ),
    ),
    LedgerTable(
        "logs",
        "the end of what was said while a task ran",
        (Column("trace", "BLOB PRIMARY KEY", "as in `tasks`"), Column("text", "TEXT NOT NULL", "text")),
        rowid=False,
    ),
    LedgerTable(
        "versions",
        "the version of a cell whose file names speak of it",
        (
            Column("cell", "TEXT PRIMARY KEY", "its address"),
            Column("version", "INTEGER NOT NULL", "version"),
            Column("content", "TEXT NOT NULL", "fingerprint of its content"),
            Column("date", "TEXT NOT NULL", "the day that was first planned"),
        ),
    ),
    LedgerTable(
        "failures",
        "a member set aside",
        (
            Column("run", "INTEGER NOT NULL", "in which run"),
            Column("cell", "TEXT NOT NULL", "address of its cell"),
            Column("frame", "INTEGER NOT NULL", "frame"),
            Column("what", "TEXT NOT NULL", "what was said"),
            Column("at", "REAL NOT NULL", "when"),
        ),
    ),
    LedgerTable(
        "orders",
        "what another terminal asked of a run",
        (
            Column("id", "INTEGER PRIMARY KEY", "its number"),
            Column("at", "REAL NOT NULL", "when"),
            Column("verb", "TEXT NOT NULL", "such as `pause`"),
            Column("details", "TEXT NOT NULL", "as JSON"),
            Column("answer", "TEXT", "what came of it"),
            Column("refused", "INTEGER NOT NULL DEFAULT 0", "0 or 1", 4),
        ),
    ),
    LedgerTable(
        "parts",
        "the temporary files that a try of a task may leave behind; after a kill the next run removes them, "
        "and no others",
        (
            Column("attempt", "TEXT PRIMARY KEY", "name of the try"),
            Column("paths", "TEXT NOT NULL", "as JSON"),
        ),
        rowid=False,
    ),
)

LEDGER = (FILES, MEMBERS, TASKS, PAST, RUNS, *OTHERS)

TABLES = "\n".join(table.sql for table in LEDGER)
TABLES += """
CREATE INDEX IF NOT EXISTS files_of_cell ON files (cell, frame);
CREATE INDEX IF NOT EXISTS members_by_state ON members (state);
CREATE INDEX IF NOT EXISTS members_of_task ON members (task);
CREATE TRIGGER IF NOT EXISTS keep_tally AFTER UPDATE OF state ON members WHEN old.state != new.state
BEGIN
    UPDATE tally SET members = members - 1, work = work - old.work WHERE state = old.state;
    INSERT INTO tally VALUES (new.state, 1, new.work)
        ON CONFLICT (state) DO UPDATE SET members = members + 1, work = work + excluded.work;
END;
"""

REPLACED = ("tasks", "past", "tally", "columns")
"""Tables whose rows of versions before 5 are taken over into new tables, see `TAKEN_OVER`."""

_KNOWN = ", ".join(column.name for column in _COST if column.since < WITH_MEMBERS)

# From versions 2 to 4 a task knew its first cell alone; its other cells are those whose files it made.
TAKEN_OVER = f"""
INSERT INTO tasks (number, trace, frames, step, work, tries, share, {_KNOWN})
    SELECT number, trace, frames, step, work, tries, share, {_KNOWN} FROM old_tasks;
INSERT INTO past (trace, work, worker, started, {_KNOWN})
    SELECT trace, work, worker, started, {_KNOWN} FROM old_past;
UPDATE tasks SET host = (SELECT host FROM runs WHERE runs.run = tasks.run);
UPDATE past SET host = (SELECT host FROM runs WHERE runs.run = past.run);
INSERT INTO members (task, cell, frame, film, priority, work, state, run, worker, started, ended, problem)
    SELECT task, t.cell, t.frame, 0, priority, work, state, run, worker, started, ended, problem FROM (
        SELECT number AS task, cell, frame FROM old_tasks
        UNION SELECT number, files.cell, files.frame FROM old_tasks
            JOIN files ON files.trace = LOWER(HEX(old_tasks.trace))
    ) AS t JOIN old_tasks ON number = task ORDER BY task, t.frame, t.cell;
UPDATE members SET
    work = work / (SELECT COUNT(*) FROM members AS m WHERE m.task = members.task),
    seconds = (SELECT seconds FROM tasks WHERE number = members.task)
        / (SELECT COUNT(*) FROM members AS m WHERE m.task = members.task);
INSERT INTO tally SELECT state, COUNT(*), SUM(work) FROM members GROUP BY state;
DELETE FROM about WHERE key = 'planned';
"""

# What is known of done members from their files.
FROM_FILES = """
UPDATE members SET
    files = made.files, samples = made.samples, noise = made.noise, unfinished = made.unfinished
FROM (
    SELECT cell, frame, trace, COUNT(*) AS files, MIN(samples) AS samples, MAX(noise) AS noise,
        MAX(unfinished) AS unfinished
    FROM files GROUP BY cell, frame, trace
) AS made JOIN tasks ON made.trace = LOWER(HEX(tasks.trace))
WHERE members.state = 'done' AND tasks.number = members.task
    AND made.cell = members.cell AND made.frame = members.frame;
"""


def missing_columns(table: LedgerTable, there: Iterable[str]) -> list[Column]:
    """Columns that a table of an older version lacks."""
    known = set(there)
    return [column for column in table.columns if column.name not in known]
