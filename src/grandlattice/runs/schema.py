"""The tables of the ledger, and how those of older versions become them.  `docs/ledger.md` describes
every column."""

from __future__ import annotations

from collections.abc import Sequence

SCHEMA_VERSION = 4

TABLES = """
CREATE TABLE IF NOT EXISTS about (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS runs (
    run INTEGER PRIMARY KEY, started REAL NOT NULL, ended REAL, workers INTEGER NOT NULL,
    tasks INTEGER NOT NULL, state TEXT NOT NULL,
    host TEXT NOT NULL DEFAULT '', pid INTEGER NOT NULL DEFAULT 0, heard REAL,
    held TEXT NOT NULL DEFAULT '',
    estimate_low REAL, estimate REAL, estimate_high REAL, seconds REAL, core_seconds REAL,
    worked REAL, worked_seconds REAL);
CREATE TABLE IF NOT EXISTS tasks (
    number INTEGER PRIMARY KEY, trace BLOB NOT NULL, cell TEXT NOT NULL, frame INTEGER NOT NULL,
    frames INTEGER NOT NULL, step INTEGER NOT NULL, priority INTEGER NOT NULL, work REAL NOT NULL,
    state TEXT NOT NULL, tries INTEGER NOT NULL DEFAULT 0, worker INTEGER, run INTEGER, started REAL,
    ended REAL, share REAL, seconds REAL, trace_seconds REAL, cpu_seconds REAL, peak_bytes INTEGER,
    samples INTEGER, noise REAL, rays INTEGER, kind TEXT, problem TEXT NOT NULL DEFAULT '');
CREATE TABLE IF NOT EXISTS tally (state TEXT PRIMARY KEY, tasks INTEGER NOT NULL, work REAL NOT NULL);
CREATE TRIGGER IF NOT EXISTS keep_tally AFTER UPDATE OF state ON tasks WHEN old.state != new.state
BEGIN
    UPDATE tally SET tasks = tasks - 1, work = work - old.work WHERE state = old.state;
    INSERT INTO tally VALUES (new.state, 1, new.work)
        ON CONFLICT (state) DO UPDATE SET tasks = tasks + 1, work = work + excluded.work;
END;
CREATE TABLE IF NOT EXISTS past (
    trace BLOB PRIMARY KEY, work REAL NOT NULL, worker INTEGER, run INTEGER, started REAL, ended REAL,
    seconds REAL, trace_seconds REAL, cpu_seconds REAL, peak_bytes INTEGER, samples INTEGER,
    noise REAL, rays INTEGER, kind TEXT) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS columns (name TEXT PRIMARY KEY, kind TEXT NOT NULL, data BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS logs (trace BLOB PRIMARY KEY, text TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS files (
    path TEXT PRIMARY KEY, cell TEXT NOT NULL, coordinates TEXT NOT NULL, frame INTEGER NOT NULL,
    format TEXT NOT NULL, passes TEXT NOT NULL, fingerprint TEXT NOT NULL, bytes INTEGER NOT NULL,
    width INTEGER NOT NULL, height INTEGER NOT NULL, samples INTEGER NOT NULL,
    rays INTEGER NOT NULL, seconds REAL NOT NULL, denoised INTEGER NOT NULL,
    finished REAL NOT NULL, run INTEGER NOT NULL,
    trace TEXT NOT NULL DEFAULT '', noise REAL, unfinished INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS files_of_cell ON files (cell, frame);
CREATE TABLE IF NOT EXISTS versions (
    cell TEXT PRIMARY KEY, version INTEGER NOT NULL, content TEXT NOT NULL, date TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS failures (
    run INTEGER NOT NULL, cell TEXT NOT NULL, frame INTEGER NOT NULL, what TEXT NOT NULL,
    at REAL NOT NULL);
CREATE TABLE IF NOT EXISTS orders (
    id INTEGER PRIMARY KEY, at REAL NOT NULL, verb TEXT NOT NULL, details TEXT NOT NULL,
    answer TEXT, refused INTEGER NOT NULL DEFAULT 0);
CREATE TABLE IF NOT EXISTS parts (attempt TEXT PRIMARY KEY, paths TEXT NOT NULL) WITHOUT ROWID;
"""

# What the tables of each older version lack, version by version: table, column and its declaration.
# Tables that are missing altogether make themselves.
MIGRATIONS: dict[str, Sequence[tuple[str, str, str]]] = {
    "1": (),
    "2": (
        ("runs", "host", "TEXT NOT NULL DEFAULT ''"),
        ("runs", "pid", "INTEGER NOT NULL DEFAULT 0"),
        ("runs", "heard", "REAL"),
        ("runs", "held", "TEXT NOT NULL DEFAULT ''"),
        ("runs", "estimate_low", "REAL"),
        ("runs", "estimate", "REAL"),
        ("runs", "estimate_high", "REAL"),
        ("runs", "seconds", "REAL"),
        ("runs", "core_seconds", "REAL"),
        ("runs", "worked", "REAL"),
        ("runs", "worked_seconds", "REAL"),
        ("files", "trace", "TEXT NOT NULL DEFAULT ''"),
        ("files", "noise", "REAL"),
        ("files", "unfinished", "INTEGER NOT NULL DEFAULT 0"),
    ),
    "3": (("orders", "refused", "INTEGER NOT NULL DEFAULT 0"),),
}
