"""The record of what was made: one SQLite file beside the pictures of a plan.

A row of `files` says: this file holds this cell's frame, made from the inputs of this
fingerprint.  It is written after the file has its name, never before.
"""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import asdict, dataclass, fields
from pathlib import Path

from grandlattice.errors import OutputError, RunError

SCHEMA_VERSION = 2

_SCHEMA = """
CREATE TABLE IF NOT EXISTS about (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS runs (
    run INTEGER PRIMARY KEY, started REAL NOT NULL, ended REAL, workers INTEGER NOT NULL,
    tasks INTEGER NOT NULL, state TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS files (
    path TEXT PRIMARY KEY, cell TEXT NOT NULL, coordinates TEXT NOT NULL, frame INTEGER NOT NULL,
    format TEXT NOT NULL, passes TEXT NOT NULL, fingerprint TEXT NOT NULL, bytes INTEGER NOT NULL,
    width INTEGER NOT NULL, height INTEGER NOT NULL, samples INTEGER NOT NULL,
    rays INTEGER NOT NULL, seconds REAL NOT NULL, denoised INTEGER NOT NULL,
    finished REAL NOT NULL, run INTEGER NOT NULL);
CREATE INDEX IF NOT EXISTS files_of_cell ON files (cell, frame);
CREATE TABLE IF NOT EXISTS versions (
    cell TEXT PRIMARY KEY, version INTEGER NOT NULL, content TEXT NOT NULL, date TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS failures (
    run INTEGER NOT NULL, cell TEXT NOT NULL, frame INTEGER NOT NULL, what TEXT NOT NULL,
    at REAL NOT NULL);
"""


@dataclass(frozen=True)
class FileRecord:
    """A finished file.  `seconds` is the time its frame took to trace; `finished` is Unix time."""

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


_COLUMNS = tuple(f.name for f in fields(FileRecord))


class Ledger:
    """The record of one plan's pictures.

    Parameters
    ----------
    file : where it is kept; made on the first write.
    """

    def __init__(self, file: Path) -> None:
        self.file = file
        self._connection: sqlite3.Connection | None = None

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        try:
            if self._connection is None:
                self.file.parent.mkdir(parents=True, exist_ok=True)
                self._connection = sqlite3.connect(self.file, timeout=30.0)
                self._connection.executescript(_SCHEMA)
                self._connection.execute(
                    "INSERT OR IGNORE INTO about VALUES ('schema', ?)", (str(SCHEMA_VERSION),)
                )
                self._connection.commit()
                self._refuse_other_version(self._connection)
            with self._connection:
                yield self._connection
        except (sqlite3.Error, OSError) as problem:
            if "full" in str(problem) or "No space" in str(problem):
                raise OutputError(
                    f"The disk of {self.file.parent} is full.",
                    cure="make room, then give the same glat run again; what is done is kept",
                ) from problem
            raise RunError(
                f"The ledger {self.file.name} cannot be used: {problem}.",
                cure=f"move {self.file} aside; the next run reads what is done from the pictures",
            ) from problem

    def _refuse_other_version(self, connection: sqlite3.Connection) -> None:
        (version,) = connection.execute("SELECT value FROM about WHERE key = 'schema'").fetchone()
        if version == "1":  # it lacked the table of versions, which is made by now
            connection.execute("UPDATE about SET value = ? WHERE key = 'schema'", (str(SCHEMA_VERSION),))
            connection.commit()
            return
        if version != str(SCHEMA_VERSION):
            self.close()
            raise RunError(
                f"The ledger {self.file.name} was written by another version of Grand Lattice.",
                cure=f"use that version, or move {self.file} aside; the next run reads what is done "
                "from the pictures",
            )

    def close(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    def begin_run(self, workers: int, tasks: int) -> int:
        """Note the start of a run; returns its number."""
        with self._open() as connection:
            cursor = connection.execute(
                "INSERT INTO runs (started, workers, tasks, state) VALUES (?, ?, ?, 'running')",
                (time.time(), workers, tasks),
            )
            return int(cursor.lastrowid or 0)

    def end_run(self, run: int, state: str) -> None:
        """Note how a run ended: ``done``, ``failures`` or ``stopped``."""
        with self._open() as connection:
            connection.execute(
                "UPDATE runs SET ended = ?, state = ? WHERE run = ?", (time.time(), state, run)
            )

    def record(self, records: Iterable[FileRecord]) -> None:
        """Note finished files, all or none of them."""
        marks = ", ".join("?" * len(_COLUMNS))
        with self._open() as connection:
            connection.executemany(
                f"INSERT OR REPLACE INTO files ({', '.join(_COLUMNS)}) VALUES ({marks})",
                [tuple(asdict(record).values()) for record in records],
            )

    def record_failure(self, run: int, cell: str, frame: int, what: str) -> None:
        """Note a task that failed."""
        with self._open() as connection:
            connection.execute(
                "INSERT INTO failures VALUES (?, ?, ?, ?, ?)", (run, cell, frame, what, time.time())
            )

    def files(self) -> dict[str, FileRecord]:
        """Every finished file by its path below the output folder."""
        if not self.file.exists():
            return {}
        with self._open() as connection:
            rows = connection.execute(f"SELECT {', '.join(_COLUMNS)} FROM files ORDER BY rowid")
            return {row[0]: FileRecord(*row) for row in rows}

    def versions(self) -> dict[str, tuple[int, str, str]]:
        """Of every cell: its version, its content's fingerprint, the day that was first planned."""
        if not self.file.exists():
            return {}
        with self._open() as connection:
            rows = connection.execute("SELECT cell, version, content, date FROM versions")
            return {cell: (version, content, date) for cell, version, content, date in rows}

    def record_versions(self, versions: Mapping[str, tuple[int, str, str]]) -> None:
        """Note the versions of cells."""
        with self._open() as connection:
            connection.executemany(
                "INSERT OR REPLACE INTO versions VALUES (?, ?, ?, ?)",
                [(cell, *version) for cell, version in versions.items()],
            )


def coordinates_text(coordinates: object) -> str:
    """Coordinates as they are kept: JSON, axes in the order written."""
    return json.dumps(coordinates, ensure_ascii=False)
