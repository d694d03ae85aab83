"""The file of a ledger: opened, kept with a write-ahead log, brought up to date, set aside when damaged.

What stands in it is the business of `ledger`.
"""

from __future__ import annotations

import re
import sqlite3
import uuid
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path

from grandlattice._support.filesystem import is_on_network
from grandlattice.errors import DiskFull, LatticeError, LedgerBusy, LedgerError, LedgerLost
from grandlattice.tables.ledger_columns import (
    FROM_FILES,
    LEDGER,
    REPLACED,
    SCHEMA_VERSION,
    TABLES,
    TAKEN_OVER,
    WITH_MEMBERS,
    missing_columns,
)


class LedgerFile:
    """The SQLite file of one plan's record.

    Readers never hold up the run that writes: the file is kept with a write-ahead log, where its
    file system can have one.

    Parameters
    ----------
    file : where it is kept; made on the first write.
    heir_of : another ledger of the same plan.  A new ledger takes its `id` from there, so that
        pictures belong to the plan wherever they are written.

    Attributes
    ----------
    patience : seconds to wait for another program that writes.
    """

    def __init__(self, file: Path, heir_of: Path | None = None) -> None:
        self.file = file
        self.patience = 30.0
        self._heir_of = heir_of
        self._connection: sqlite3.Connection | None = None
        self._opened: tuple[int, int] | None = None
        self._is_held = False

    # --- the file itself -----------------------------------------------------------------------

    @contextmanager
    def open(self) -> Iterator[sqlite3.Connection]:
        """A connection, for one transaction.

        Raises
        ------
        DiskFull
            When there is no room to write.
        LedgerBusy
            When another program holds it for longer than `patience`.
        LedgerLost
            When it is damaged, or no ledger.
        LedgerError
            When it cannot be used for another reason, such as its version.
        """
        try:
            if self._connection is None:
                if self._is_held and self.is_lost:
                    raise LedgerLost(f"The ledger {self.file.name} was taken away or replaced.")
                self._refuse_link()
                self.file.parent.mkdir(parents=True, exist_ok=True)
                self._connection = sqlite3.connect(self.file, timeout=self.patience)
                self._prepare(self._connection)
                self._opened = _identity(self.file)
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
        if not known or version != str(SCHEMA_VERSION):
            before, after = self._migration(connection, version) if known else ("", "")
            note = f"INSERT OR REPLACE INTO about VALUES ('schema', '{SCHEMA_VERSION}');"
            note += f"INSERT OR IGNORE INTO about VALUES ('id', '{self._inherited() or uuid.uuid4().hex}');"
            connection.executescript(f"BEGIN IMMEDIATE; {before} {TABLES} {after} {note} COMMIT;")
        self._let_readers_be(connection)

    def _let_readers_be(self, connection: sqlite3.Connection) -> None:
        """Keep a write-ahead log, unless the file is on a network: other machines would not see it."""
        (mode,) = connection.execute("PRAGMA journal_mode").fetchone()
        if mode != "wal" and not is_on_network(self.file.parent):
            connection.execute("PRAGMA busy_timeout = 100")
            with suppress(sqlite3.OperationalError):  # being read now; done when it is opened next
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

    def _migration(self, connection: sqlite3.Connection, version: str) -> tuple[str, str]:
        """Statements that make an older ledger one of today, before and after missing tables are made."""
        if version not in map(str, range(1, SCHEMA_VERSION)):
            self.close()
            raise LedgerError(
                f"The ledger {self.file.name} was written by another version of Grand Lattice.",
                cure=f"use that version, or move {self.file} aside; the next run reads what is done "
                "from the pictures",
            )
        there = {
            table.name: [row[1] for row in connection.execute(f"PRAGMA table_info({table.name})")]
            for table in LEDGER
        }
        before = ["DROP TRIGGER IF EXISTS keep_tally;", "DROP INDEX IF EXISTS tasks_by_state;"]
        replaced = [name for name in REPLACED if there[name] and int(version) < WITH_MEMBERS]
        before += [f"ALTER TABLE {name} RENAME TO old_{name};" for name in replaced]
        before += [
            f"ALTER TABLE {table.name} ADD COLUMN {column.name} {column.declared};"
            for table in LEDGER if there[table.name] and table.name not in replaced
            for column in missing_columns(table, there[table.name])
        ]  # fmt: skip
        after = [TAKEN_OVER, FROM_FILES] if replaced and there["tasks"] and there["past"] else []
        after += [f"DROP TABLE old_{name};" for name in replaced]
        return "\n".join(before), "\n".join(after)

    def wait_at_most(self, seconds: float) -> None:
        """Wait this long at most for another program that writes, from now on."""
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

    def hold(self, held: bool = True) -> None:
        """From now on use no other file than this one: where it is taken away or replaced, say that it is
        lost, and do not begin another in passing."""
        self._is_held = held

    @property
    def is_lost(self) -> bool:
        """Whether the file that was opened last is no longer the one that stands there."""
        return self._opened is not None and _identity(self.file) != self._opened

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


def _identity(file: Path) -> tuple[int, int] | None:
    """Which file stands there: its disk and its number on it."""
    try:
        found = file.lstat()
    except OSError:
        return None
    return found.st_dev, found.st_ino
