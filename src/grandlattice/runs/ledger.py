"""The record of what was planned and made: one SQLite file beside the pictures of a plan.

A row of `files` says: this file holds this cell's frame, made from the inputs of this
fingerprint.  It is written after the file has its name, never before.  A row of `tasks` is one
trace: what it took.  A row of `members` is one frame of one cell within a task: what became of it.
`tables.ledger_columns` lists every column.

The coordinator of a run writes.  Other processes read, and leave `orders` for it.
"""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, fields, replace
from operator import attrgetter
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import LedgerError
from grandlattice.runs.ledger_file import LedgerFile
from grandlattice.tables.ledger_columns import FROM_FILES, PAST

if TYPE_CHECKING:
    import pandas

WAITING, RUNNING, DONE, FAILED, DROPPED = "waiting", "running", "done", "failed", "dropped"


@dataclass(frozen=True)
class FileRecord:
    """A finished file.  `seconds` is the time its frame took to trace; `finished` is Unix time.

    `trace` is the fingerprint of the task that made it.  `unfinished`: it was ended by a time limit
    before it had all its samples.
    """

    path: str
    cell: str
    coordinates: str
    frame: int
    format: str
    passes: str
    fingerprint: str
    bytes: int
    width: int
    height: int
    samples: int
    rays: int
    seconds: float
    denoised: bool
    finished: float
    run: int = 0
    trace: str = ""
    noise: float | None = None
    unfinished: bool = False


_COLUMNS = tuple(f.name for f in fields(FileRecord))


class Ledger(LedgerFile):
    """The record of one plan's pictures: what is written into its file, and read from it."""

    # --- runs ----------------------------------------------------------------------------------

    def begin_run(self, workers: int, tasks: int, host: str = "", pid: int = 0, **values: Any) -> int:
        """Note the start of a run, and `values` of it; returns its number."""
        with self.open() as connection:
            connection.execute("UPDATE orders SET answer = 'that run had ended' WHERE answer IS NULL")
            cursor = connection.execute(
                "INSERT INTO runs (started, workers, tasks, state, host, pid, heard) "
                "VALUES (?, ?, ?, 'running', ?, ?, ?)",
                (time.time(), workers, tasks, host, pid, time.time()),
            )
        number = int(cursor.lastrowid or 0)
        if values:
            self.note_run(number, **values)
        return number

    def note_run(self, run: int, **values: Any) -> None:
        """Set columns of a run, such as its state."""
        told = ", ".join(f"{name} = ?" for name in values)
        with self.open() as connection:
            connection.execute(f"UPDATE runs SET {told} WHERE run = ?", (*values.values(), run))

    def end_run(self, run: int, state: str, **values: Any) -> None:
        """Note how a run ended: ``done``, ``failures``, ``stopped`` or ``budget``."""
        self.note_run(run, ended=time.time(), state=state, held="", slots="", **values)

    # --- planned tasks -------------------------------------------------------------------------

    def planned_key(self) -> str:
        """Digest of everything the tasks that stand in the ledger follow from; empty for none."""
        if not self.file.exists():
            return ""
        with self.open() as connection:
            row = connection.execute("SELECT value FROM about WHERE key = 'planned'").fetchone()
        return str(row[0]) if row else ""

    def axes(self) -> list[str]:
        """Names of the plan's axes, as it was planned last."""
        with self.open() as connection:
            row = connection.execute("SELECT value FROM about WHERE key = 'axes'").fetchone()
        return list(json.loads(row[0])) if row else []

    def write_tasks(
        self, key: str, tasks: Iterable[tuple], members: Iterable[tuple], columns: Mapping[str, NDArray],
        about: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        """Put tasks and their members down in place of those that stood there; what equal ones took is kept.

        Parameters
        ----------
        key : see `planned_key`.
        tasks : number, trace, frames, step and work of each.
        members : number, task, cell, frame, film, priority, work and state of each.
        columns : arrays that belong to them, see `tasks.Columns`.
        about : facts of the plan.
        """
        with self.open() as connection:
            connection.execute("DELETE FROM about WHERE key = 'planned'")
            # Workers and times stand with the members; those of one trace have them in common.
            connection.execute(
                f"INSERT OR REPLACE INTO past ({_PAST}, worker, started) SELECT {_PAST}, "
                "MAX(worker), MAX(started) FROM (SELECT tasks.*, worker, started FROM tasks JOIN members "
                "ON task = tasks.number WHERE tasks.seconds IS NOT NULL AND state = 'done') GROUP BY trace"
            )
            connection.execute("DELETE FROM tasks")
            connection.execute("DELETE FROM members")
            connection.execute("DROP INDEX IF EXISTS members_by_state")
            connection.execute("DROP INDEX IF EXISTS members_of_task")
            connection.executemany(
                "INSERT INTO tasks (number, trace, frames, step, work) VALUES (?, ?, ?, ?, ?)", tasks
            )
            connection.executemany(
                "INSERT INTO members (number, task, cell, frame, film, priority, work, state) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?)", members,
            )  # fmt: skip
            (any_past,) = connection.execute("SELECT EXISTS (SELECT 1 FROM past)").fetchone()
            if any_past:
                kept = ", ".join(f"{name} = past.{name}" for name in _PAST.split(", ")[2:])
                connection.execute(f"UPDATE tasks SET {kept} FROM past WHERE past.trace = tasks.trace")
                connection.execute(
                    "UPDATE members SET run = past.run, worker = past.worker, started = past.started, "
                    "ended = past.ended, seconds = past.seconds * members.work / tasks.work "
                    "FROM tasks JOIN past USING (trace) WHERE tasks.number = task AND state = 'done'"
                )
                connection.execute(FROM_FILES)
            connection.execute("CREATE INDEX members_by_state ON members (state)")
            connection.execute("CREATE INDEX members_of_task ON members (task)")
            if any_past:  # of tasks whose members are not all done any more
                connection.execute(
                    "UPDATE tasks SET seconds = (SELECT SUM(seconds) FROM members WHERE task = tasks.number) "
                    "WHERE seconds IS NOT NULL"
                )
            connection.execute("DELETE FROM tally")
            connection.execute(
                "INSERT INTO tally SELECT state, COUNT(*), SUM(work) FROM members GROUP BY state"
            )
            for name, column in columns.items():
                told = (name, column.dtype.str, column.tobytes())
                connection.execute("INSERT OR REPLACE INTO columns VALUES (?, ?, ?)", told)
            connection.executemany(
                "INSERT OR REPLACE INTO about VALUES (?, ?)", [("planned", key), *(about or {}).items()]
            )

    def columns(self) -> dict[str, NDArray]:
        """The arrays that belong to the tasks, one-dimensional."""
        with self.open() as connection:
            rows = connection.execute("SELECT name, kind, data FROM columns")
            return {name: np.frombuffer(data, kind) for name, kind, data in rows}

    def counts(self) -> dict[str, int]:
        """State → how many members are in it."""
        with self.open() as connection:
            return dict(connection.execute("SELECT state, members FROM tally WHERE members"))

    def numbers(self, state: str) -> NDArray[np.int64]:
        """Numbers of the members in a state, in order."""
        with self.open() as connection:
            rows = connection.execute("SELECT number FROM members WHERE state = ? ORDER BY number", (state,))
            return np.fromiter((row[0] for row in rows), np.int64)

    def begin_again(self, done: NDArray[np.int64]) -> None:
        """Have every member wait but those that are done, by their numbers."""
        with self.open() as connection:
            connection.execute("UPDATE tasks SET tries = 0, share = NULL WHERE tries OR share IS NOT NULL")
            connection.execute(
                "UPDATE members SET state = 'waiting', problem = '' "
                "WHERE state IN ('running', 'failed', 'dropped')"
            )
        before = self.numbers(DONE)
        self.set_states(np.setdiff1d(done, before), DONE)
        self.set_states(np.setdiff1d(before, done), WAITING)

    def set_states(self, numbers: NDArray[np.int64], state: str) -> None:
        """Give members a state, by their numbers."""
        if len(numbers):
            with self.open() as connection:
                _set_members(connection, numbers.tolist(), {"state": state})

    def write(
        self, tasks: Mapping[int, Mapping[str, Any]] | None = None,
        members: Sequence[tuple[Sequence[int], Mapping[str, Any]]] = (), files: Sequence[FileRecord] = (),
        logs: Sequence[tuple[str, str]] = (), failures: Sequence[tuple] = (), over: Sequence[str] = (),
    ) -> None:  # fmt: skip
        """Note what happened, all of it or nothing.

        Parameters
        ----------
        tasks : number of a task → the columns to set.
        members : numbers of members and the columns to set, one after the other.
        logs : trace and text.
        failures : run, cell, frame, what, when.
        over : tries of which nothing temporary is left.
        """
        with self.open() as connection:
            for numbers, values in members:
                _set_members(connection, numbers, values)
            for number, values in (tasks or {}).items():
                told = ", ".join(f"{name} = ?" for name in values)
                connection.execute(f"UPDATE tasks SET {told} WHERE number = ?", (*values.values(), number))
                if "seconds" in values:  # of this try; members of earlier ones count, too
                    connection.execute(
                        "UPDATE tasks SET seconds = (SELECT SUM(seconds) FROM members WHERE task = ?) "
                        "WHERE number = ?", (number, number),
                    )  # fmt: skip
            connection.executemany(_INSERT_FILE, [_values(file) for file in files])
            connection.executemany(
                "INSERT OR REPLACE INTO logs VALUES (?, ?)",
                [(bytes.fromhex(trace), text) for trace, text in logs],
            )
            connection.executemany("INSERT INTO failures VALUES (?, ?, ?, ?, ?)", failures)
            connection.executemany("DELETE FROM parts WHERE attempt = ?", ((each,) for each in over))

    # --- files ---------------------------------------------------------------------------------

    def record(self, records: Sequence[FileRecord]) -> None:
        """Note finished files, all or none of them."""
        self.write(files=records)

    def files(self) -> dict[str, FileRecord]:
        """Every finished file by its path below the output folder."""
        if not self.file.exists():
            return {}
        with self.open() as connection:
            rows = connection.execute(f"SELECT {', '.join(_COLUMNS)} FROM files ORDER BY rowid")
            return {row[0]: _record(row) for row in rows}

    def has_files(self) -> bool:
        """Whether it knows of any finished file."""
        with self.open() as connection:
            return bool(connection.execute("SELECT EXISTS (SELECT 1 FROM files)").fetchone()[0])

    def find(self, path: str) -> FileRecord | None:
        """The record of one file."""
        with self.open() as connection:
            row = connection.execute(
                f"SELECT {', '.join(_COLUMNS)} FROM files WHERE path = ?", (path,)
            ).fetchone()
        return _record(row) if row else None

    def forget(self, paths: Iterable[str]) -> None:
        """Take files out that are gone."""
        with self.open() as connection:
            connection.executemany("DELETE FROM files WHERE path = ?", ((path,) for path in paths))

    def run_at(self, moment: float) -> int | None:
        """The number of the run that was under way at a moment, seconds since 1970; None where none was."""
        with self.open() as connection:
            row = connection.execute(
                "SELECT run FROM runs WHERE started <= ? AND (ended IS NULL OR ended >= ?) ORDER BY run DESC",
                (moment, moment),
            ).fetchone()
        return int(row[0]) if row else None

    def failed_cells(self) -> set[str]:
        """Cells with a frame that could not be made."""
        with self.open() as connection:
            return {row[0] for row in connection.execute("SELECT cell FROM members WHERE state = 'failed'")}

    def unfinished(self) -> dict[tuple[str, str, int], int]:
        """Trace, cell and frame of files that a time limit ended, and how many samples they have."""
        if not self.file.exists():
            return {}
        told = (
            "SELECT trace, cell, frame, MIN(samples) FROM files WHERE unfinished GROUP BY trace, cell, frame"
        )
        with self.open() as connection:
            return {(*which, frame): samples for *which, frame, samples in connection.execute(told)}

    def those_of(self, paths: Iterable[str]) -> set[str]:
        """Those of some files that it knows."""
        return {path for path in paths if self.file.exists() and self.find(path) is not None}

    def sizes(self) -> Iterator[tuple[str, int, str]]:
        """Path, bytes and trace of every file, by path."""
        if self.file.exists():
            with self.open() as connection:
                yield from connection.execute("SELECT path, bytes, trace FROM files ORDER BY path")

    # --- versions ------------------------------------------------------------------------------

    def versions(self) -> dict[str, tuple[int, str, str]]:
        """Of every cell: its version, its content's fingerprint, the day that was first planned."""
        if not self.file.exists():
            return {}
        with self.open() as connection:
            rows = connection.execute("SELECT cell, version, content, date FROM versions")
            return {cell: (version, content, date) for cell, version, content, date in rows}

    def record_versions(self, versions: Mapping[str, tuple[int, str, str]]) -> None:
        """Note the versions of cells."""
        with self.open() as connection:
            connection.executemany(
                "INSERT OR REPLACE INTO versions VALUES (?, ?, ?, ?)",
                [(cell, *version) for cell, version in versions.items()],
            )

    # --- orders --------------------------------------------------------------------------------

    def give_order(self, verb: str, details: Mapping[str, Any]) -> int:
        """Leave an order for the coordinator of the run; returns its number."""
        with self.open() as connection:
            cursor = connection.execute(
                "INSERT INTO orders (at, verb, details) VALUES (?, ?, ?)",
                (time.time(), verb, json.dumps(details)),
            )
            return int(cursor.lastrowid or 0)

    def orders(self) -> list[tuple[int, Any, Any]]:
        """Orders that have no answer yet: number, verb and details, as they were written."""
        with self.open() as connection:
            rows = connection.execute("SELECT id, verb, details FROM orders WHERE answer IS NULL ORDER BY id")
            return rows.fetchall()

    def answer(self, order: int, text: str, *, refused: bool = False) -> None:
        """Say what came of an order."""
        with self.open() as connection:
            connection.execute(
                "UPDATE orders SET answer = ?, refused = ? WHERE id = ?", (text, refused, order)
            )

    def answer_to(self, order: int) -> tuple[str, bool] | None:
        """What came of an order, and whether it was refused; None until the run has taken it."""
        with self.open() as connection:
            row = connection.execute("SELECT answer, refused FROM orders WHERE id = ?", (order,)).fetchone()
        return None if row is None or row[0] is None else (str(row[0]), bool(row[1]))

    def peaks(self, host: str) -> dict[str, int]:
        """Kind of frame → the most bytes one of them held on a machine; nothing where it cannot be read."""
        if not self.file.exists():
            return {}
        told = "kind, host, peak_bytes"
        with suppress(LedgerError), self.open() as connection:
            rows = connection.execute(
                f"SELECT kind, MAX(peak_bytes) FROM (SELECT {told} FROM tasks UNION ALL SELECT {told} "
                "FROM past) WHERE host = ? AND kind != '' AND peak_bytes > 0 "
                "GROUP BY kind", (host,),
            )  # fmt: skip
            return {str(kind): int(peak) for kind, peak in rows}
        return {}

    def peak_of(self, trace: str) -> int | None:
        """The most bytes that were held for a trace; None where that is not known."""
        with suppress(LedgerError), self.open() as connection:
            (peak,) = connection.execute(
                "SELECT MAX(peak_bytes) FROM (SELECT trace, peak_bytes FROM tasks UNION ALL SELECT trace, "
                "peak_bytes FROM past) WHERE trace = ?", (bytes.fromhex(trace),),
            ).fetchone()  # fmt: skip
            return int(peak) if peak else None
        return None

    # --- temporary files -----------------------------------------------------------------------

    def note_parts(self, attempt: str, paths: Iterable[str]) -> None:
        """Note the temporary paths of a try of a task, before the first of them is made."""
        told = json.dumps(list(paths))
        with self.open() as connection:
            connection.execute("INSERT OR REPLACE INTO parts VALUES (?, ?)", (attempt, told))

    def parts(self) -> dict[str, list[str]]:
        """Temporary paths that were noted and may still be there, by try."""
        if not self.file.exists():
            return {}
        found = {}
        with self.open() as connection:
            for attempt, paths in connection.execute("SELECT attempt, paths FROM parts"):
                with suppress(ValueError, TypeError):
                    found[attempt] = [path for path in json.loads(paths) if isinstance(path, str)]
        return found


_PAST = ", ".join(name for name in PAST.names if name not in ("worker", "started"))
_INSERT_FILE = (
    f"INSERT OR REPLACE INTO files ({', '.join(_COLUMNS)}) VALUES ({', '.join('?' * len(_COLUMNS))})"
)


_values = attrgetter(*_COLUMNS)


def _set_members(connection: sqlite3.Connection, numbers: Sequence[int], values: Mapping[str, Any]) -> None:
    told = ", ".join(f"{name} = ?" for name in values)
    connection.executemany(
        f"UPDATE members SET {told} WHERE number = ?", ((*values.values(), number) for number in numbers)
    )


def _record(row: Sequence[Any]) -> FileRecord:
    record = FileRecord(*row)
    return replace(record, denoised=bool(record.denoised), unfinished=bool(record.unfinished))


def frames_indexed(table: pandas.DataFrame, *times: str) -> pandas.DataFrame:
    """A table by cell and frame, with Unix seconds as times with a zone."""
    import pandas

    for name in times:
        table[name] = pandas.to_datetime(table[name].astype(float), unit="s", utc=True)
    return table.set_index(["cell", "frame"])


def coordinates_text(coordinates: object) -> str:
    """Coordinates as they are kept: JSON, axes in the order written."""
    return json.dumps(coordinates, ensure_ascii=False)
