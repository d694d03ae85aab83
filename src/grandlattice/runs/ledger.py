"""The record of what was planned and made: one SQLite file beside the pictures of a plan.

A row of `files` says: this file holds this cell's frame, made from the inputs of this
fingerprint.  It is written after the file has its name, never before.  A row of `tasks` is one
frame of one trace: what became of it and what it took.  `docs/ledger.md` describes every column.

The coordinator of a run writes; whoever looks on reads, and leaves `orders` for it.
"""

from __future__ import annotations

import json
import re
import sqlite3
import time
import uuid
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, fields, replace
from operator import attrgetter
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import DiskFull, LatticeError, LedgerBusy, LedgerError, LedgerLost
from grandlattice.filesystem import is_on_network
from grandlattice.runs.schema import MIGRATIONS, SCHEMA_VERSION, TABLES

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


class Ledger:
    """The record of one plan's pictures.

    Readers never hold up the run that writes: the file is kept with a write-ahead log, where its
    file system can have one.

    Parameters
    ----------
    file : where it is kept; made on the first write.
    heir_of : another ledger of the same plan.  A new ledger takes its `id` from there, so that
        pictures belong to the plan wherever they are written.

    Attributes
    ----------
    patience : seconds to wait for somebody else who writes.
    """

    def __init__(self, file: Path, heir_of: Path | None = None) -> None:
        self.file = file
        self.patience = 30.0
        self._heir_of = heir_of
        self._connection: sqlite3.Connection | None = None
        self._stands_for: tuple[int, int] | None = None

    # --- the file itself -----------------------------------------------------------------------

    @contextmanager
    def open(self) -> Iterator[sqlite3.Connection]:
        """A connection, for one transaction.

        Raises
        ------
        DiskFull
            When there is no room to write.
        LedgerBusy
            When somebody else holds it for longer than `patience`.
        LedgerLost
            When it is damaged, or no ledger.
        LedgerError
            When it cannot be used for another reason, such as its version.
        """
        try:
            if self._connection is None:
                self._refuse_link()
                self.file.parent.mkdir(parents=True, exist_ok=True)
                self._connection = sqlite3.connect(self.file, timeout=self.patience)
                self._prepare(self._connection)
                self._stands_for = _identity(self.file)
            with self._connection:
                yield self._connection
        except (sqlite3.Error, sqlite3.Warning, OSError, OverflowError) as problem:
            raise self._explained(problem) from problem

    def _explained(self, problem: Exception) -> LatticeError:
        said = str(problem)
        code = getattr(problem, "sqlite_errorcode", 0) & 0xFF
        if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
            return LedgerBusy(
                f"The ledger {self.file.name} is held by another program.",
                cure="close the program that has it open",
            )
        self.close()
        if code == sqlite3.SQLITE_FULL or "full" in said or "No space" in said:
            return DiskFull(
                f"The disk of {self.file.parent} is full.",
                cure="make room, then give the same glat run again; what is done is kept",
            )
        lost = code in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CANTOPEN,
                        sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY)  # fmt: skip
        kind = LedgerLost if lost or "no such table" in said or "no such column" in said else LedgerError
        return kind(
            f"The ledger {self.file.name} cannot be used: {said}.",
            cure=f"move {self.file} aside; the next run reads what is done from the pictures",
        )

    def _refuse_link(self) -> None:
        if self.file.is_symlink():
            raise LedgerError(
                f"The ledger {self.file} is a link, and links are not written through.",
                cure="put the file itself there, or move the link away",
            )

    def _prepare(self, connection: sqlite3.Connection) -> None:
        known = connection.execute("SELECT 1 FROM sqlite_master WHERE name = 'about'").fetchone()
        version = str(SCHEMA_VERSION)
        if known:
            found = connection.execute("SELECT value FROM about WHERE key = 'schema'").fetchone()
            version = found[0] if found else version
        if version != str(SCHEMA_VERSION):
            self._migrate(connection, version)
        if not known or version != str(SCHEMA_VERSION):
            note = f"INSERT OR REPLACE INTO about VALUES ('schema', '{SCHEMA_VERSION}');"
            note += f"INSERT OR IGNORE INTO about VALUES ('id', '{self._inherited() or uuid.uuid4().hex}');"
            connection.executescript(f"BEGIN IMMEDIATE; {TABLES} {note} COMMIT;")
        self._let_readers_be(connection)

    def _let_readers_be(self, connection: sqlite3.Connection) -> None:
        """Keep a write-ahead log, unless the file is on a network: other machines would not see it."""
        (mode,) = connection.execute("PRAGMA journal_mode").fetchone()
        if mode != "wal" and not is_on_network(self.file.parent):
            connection.execute("PRAGMA busy_timeout = 100")
            with suppress(sqlite3.OperationalError):  # somebody reads: whoever opens it next does it
                connection.execute("PRAGMA journal_mode = WAL")
            connection.execute(f"PRAGMA busy_timeout = {round(self.patience * 1000)}")
        connection.execute("PRAGMA synchronous = NORMAL")

    def _inherited(self) -> str | None:
        """The id of the ledger this one is an heir of."""
        if self._heir_of is None or self._heir_of == self.file or not self._heir_of.is_file():
            return None
        try:
            with closing(sqlite3.connect(self._heir_of, timeout=2.0)) as connection:
                found = connection.execute("SELECT value FROM about WHERE key = 'id'").fetchone()
        except sqlite3.Error:
            return None
        return found[0] if found and re.fullmatch("[0-9a-f]{32}", str(found[0])) else None

    def _migrate(self, connection: sqlite3.Connection, version: str) -> None:
        if version not in MIGRATIONS:
            self.close()
            raise LedgerError(
                f"The ledger {self.file.name} was written by another version of Grand Lattice.",
                cure=f"use that version, or move {self.file} aside; the next run reads what is done "
                "from the pictures",
            )
        for step in sorted(MIGRATIONS):
            for table, column, declared in MIGRATIONS[step] if step >= version else ():
                there = {row[1] for row in connection.execute(f"PRAGMA table_info({table})")}
                if there and column not in there:
                    connection.execute(f"ALTER TABLE {table} ADD COLUMN {column} {declared}")
        connection.commit()

    def wait_less(self, seconds: float) -> None:
        """Wait this long at most for somebody else who writes, from now on."""
        self.patience = seconds
        if self._connection is not None:
            self._connection.execute(f"PRAGMA busy_timeout = {round(seconds * 1000)}")

    def close(self) -> None:
        if self._connection is not None:
            with suppress(sqlite3.Error):
                self._connection.close()
            self._connection = None

    @property
    def id(self) -> str:
        """Names the plan this is the ledger of; every picture carries it."""
        with self.open() as connection:
            row = connection.execute("SELECT value FROM about WHERE key = 'id'").fetchone()
            if row is None:
                row = (uuid.uuid4().hex,)
                connection.execute("INSERT INTO about VALUES ('id', ?)", row)
        return str(row[0])

    def take_id(self, identity: str) -> None:
        """Have the pictures that carry this id belong to this ledger from now on."""
        with self.open() as connection:
            connection.execute("INSERT OR REPLACE INTO about VALUES ('id', ?)", (identity,))

    def heal(self, *, thoroughly: bool = False) -> Path | None:
        """Set a ledger aside that cannot be read; where it went, None where all is well.

        Parameters
        ----------
        thoroughly : read all of it; otherwise only where the last run ended without a word.
        """
        if not self.file.exists():
            return None
        self._refuse_link()
        if not self.file.is_file():
            return self.set_aside()
        try:
            with closing(sqlite3.connect(self.file, timeout=self.patience)) as connection:
                last = connection.execute("SELECT state FROM runs ORDER BY run DESC LIMIT 1").fetchone()
            broken_off = last is not None and last[0] == "running"
            sound = not (thoroughly or broken_off) or self.is_sound()
        except sqlite3.OperationalError as problem:
            sound = not thoroughly or "locked" in str(problem)  # else of another version: said when opened
        except sqlite3.DatabaseError:
            sound = False
        return None if sound else self.set_aside()

    def is_sound(self) -> bool:
        """Whether the file is a whole ledger, or none yet; reads all of it."""
        if not self.file.exists():
            return True
        try:
            with closing(sqlite3.connect(self.file, timeout=self.patience)) as connection:
                answer = connection.execute("PRAGMA quick_check(1)").fetchone()
                return bool(answer and answer[0] == "ok")
        except sqlite3.OperationalError:  # locked, or a disk that fails: no verdict on the file
            return True
        except sqlite3.DatabaseError:
            return False

    @property
    def is_lost(self) -> bool:
        """Whether the file that was opened is no longer the one that stands there."""
        return self._connection is not None and _identity(self.file) != self._stands_for

    def set_aside(self) -> Path:
        """Give a ledger that cannot be read another name, so that a new one can begin."""
        self.close()
        k = 1
        while (aside := self.file.with_name(f"{self.file.stem}.broken-{k}{self.file.suffix}")).exists():
            k += 1
        self.file.rename(aside)
        for ending in ("-journal", "-wal", "-shm"):  # what belongs to it goes with it
            with suppress(OSError):
                self.file.with_name(self.file.name + ending).rename(aside.with_name(aside.name + ending))
        return aside

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
        self.note_run(run, ended=time.time(), state=state, held="", **values)

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
        self, key: str, rows: Iterable[tuple], columns: Mapping[str, NDArray],
        about: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        """Put tasks down in place of those that stood there; what equal ones took is kept.

        Parameters
        ----------
        key : see `planned_key`.
        rows : number, trace, cell, frame, how many cells and frames, step, priority, work and state
            of each.
        columns : arrays that belong to them, see `tasks.Columns`.
        about : facts of the plan.
        """
        with self.open() as connection:
            connection.execute("DELETE FROM about WHERE key = 'planned'")
            connection.execute(
                f"INSERT OR REPLACE INTO past SELECT {_PAST} FROM tasks WHERE seconds IS NOT NULL"
            )
            connection.execute("DELETE FROM tasks")
            connection.execute("DROP INDEX IF EXISTS tasks_by_state")
            connection.executemany(
                "INSERT INTO tasks (number, trace, cell, frame, frames, step, priority, work, state) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", rows,
            )  # fmt: skip
            (any_past,) = connection.execute("SELECT EXISTS (SELECT 1 FROM past)").fetchone()
            if any_past:
                kept = ", ".join(f"{name} = past.{name}" for name in _PAST.split(", ")[2:])
                connection.execute(f"UPDATE tasks SET {kept} FROM past WHERE past.trace = tasks.trace")
            connection.execute("CREATE INDEX tasks_by_state ON tasks (state)")
            connection.execute("DELETE FROM tally")
            connection.execute(
                "INSERT INTO tally SELECT state, COUNT(*), SUM(work) FROM tasks GROUP BY state"
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

    def numbers(self, state: str) -> NDArray[np.int64]:
        """Numbers of the tasks in a state, in order."""
        with self.open() as connection:
            rows = connection.execute("SELECT number FROM tasks WHERE state = ? ORDER BY number", (state,))
            return np.fromiter((row[0] for row in rows), np.int64)

    def begin_again(self, done: NDArray[np.int64]) -> None:
        """Have every task wait but those that are done, by their numbers."""
        with self.open() as connection:
            connection.execute(
                "UPDATE tasks SET state = 'waiting', tries = 0, share = NULL, problem = '' "
                "WHERE state IN ('running', 'failed', 'dropped')"
            )
        before = self.numbers(DONE)
        self.set_states(np.setdiff1d(done, before), DONE)
        self.set_states(np.setdiff1d(before, done), WAITING)

    def set_states(self, numbers: NDArray[np.int64], state: str) -> None:
        """Give tasks a state, by their numbers."""
        if len(numbers):
            with self.open() as connection:
                connection.executemany(
                    "UPDATE tasks SET state = ? WHERE number = ?",
                    ((state, number) for number in numbers.tolist()),
                )

    def write(
        self, tasks: Sequence[tuple[int, Mapping[str, Any]]] = (), files: Sequence[FileRecord] = (),
        logs: Sequence[tuple[str, str]] = (), failures: Sequence[tuple] = (),
        over: Sequence[str] = (), states: Sequence[tuple[NDArray[np.int64], str]] = (),
    ) -> None:  # fmt: skip
        """Note what happened, all of it or nothing.

        Parameters
        ----------
        tasks : number and the columns to set, of tasks.
        logs : trace and text.
        failures : run, cell, frame, what, when.
        over : tries of which nothing temporary is left.
        states : numbers of tasks and the state they have now.
        """
        with self.open() as connection:
            for numbers, state in states:
                connection.executemany(
                    "UPDATE tasks SET state = ? WHERE number = ?",
                    ((state, number) for number in numbers.tolist()),
                )
            for number, values in tasks:
                told = ", ".join(f"{name} = ?" for name in values)
                connection.execute(f"UPDATE tasks SET {told} WHERE number = ?", (*values.values(), number))
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

    def unfinished(self) -> set[str]:
        """Traces of files that a time limit ended before they had all their samples."""
        if not self.file.exists():
            return set()
        with self.open() as connection:
            return {row[0] for row in connection.execute("SELECT DISTINCT trace FROM files WHERE unfinished")}

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
        """Leave an order for whoever carries the run out; returns its number."""
        with self.open() as connection:
            cursor = connection.execute(
                "INSERT INTO orders (at, verb, details) VALUES (?, ?, ?)",
                (time.time(), verb, json.dumps(details)),
            )
            return int(cursor.lastrowid or 0)

    def orders(self) -> list[tuple[int, Any, Any]]:
        """Orders that have no answer yet: number, verb and details, as somebody wrote them."""
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
        """What came of an order, and whether it was refused; None as long as nobody has taken it."""
        with self.open() as connection:
            row = connection.execute("SELECT answer, refused FROM orders WHERE id = ?", (order,)).fetchone()
        return None if row is None or row[0] is None else (str(row[0]), bool(row[1]))

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


_PAST = (
    "trace, work, worker, run, started, ended, seconds, trace_seconds, cpu_seconds, peak_bytes, samples, "
    "noise, rays, kind"
)
_INSERT_FILE = (
    f"INSERT OR REPLACE INTO files ({', '.join(_COLUMNS)}) VALUES ({', '.join('?' * len(_COLUMNS))})"
)


_values = attrgetter(*_COLUMNS)


def _record(row: Sequence[Any]) -> FileRecord:
    record = FileRecord(*row)
    return replace(record, denoised=bool(record.denoised), unfinished=bool(record.unfinished))


def coordinates_text(coordinates: object) -> str:
    """Coordinates as they are kept: JSON, axes in the order written."""
    return json.dumps(coordinates, ensure_ascii=False)


def _identity(file: Path) -> tuple[int, int] | None:
    """Which file stands there: its disk and its number on it."""
    try:
        found = file.lstat()
    except OSError:
        return None
    return found.st_dev, found.st_ino
