"""How a run stands, read from its ledger by anyone, at any time, without the plan or its scene."""

from __future__ import annotations

import fnmatch
import hashlib
import json
import time
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from grandlattice._support.user_cache import cache_folder
from grandlattice.errors import NoSuchCell, RunError, nearest
from grandlattice.runs.ledger import DONE, DROPPED, FAILED, RUNNING, WAITING, Ledger, frames_indexed
from grandlattice.runs.slots import Slot
from grandlattice.runs.writer_lock import is_under_way

if TYPE_CHECKING:
    import pandas

_STATES = (WAITING, RUNNING, DONE, FAILED, DROPPED)
_JOINED = "members JOIN tasks ON tasks.number = members.task"
_UNKNOWN: dict[str, Any] = dict.fromkeys(
    ("seconds", "trace_seconds", "cpu_seconds", "peak_bytes", "samples", "noise", "rays")
)


@dataclass(frozen=True)
class FrameStatus:
    """How one frame of one cell stands.

    Attributes
    ----------
    cell, frame : address of the cell, and the frame.
    task : number of the task that renders it; frames that share a trace have it in common.
    state : ``waiting``, ``running``, ``done``, ``failed`` or ``dropped``.
    tries : how often its task was tried again.
    worker, started, ended : who does or did it, and when, Unix time.
    share : 0..1, of a running one.
    seconds : its part of what its task took; None until it is done, whatever it took in an earlier run.
    samples, noise : of each pixel, and the relative error left where it was measured; None until it is done.
    trace_seconds, cpu_seconds, peak_bytes, rays : of its whole task; None until it is done.
    problem : what went wrong last.
    log : the end of what was said meanwhile; only where it was asked for.
    """

    cell: str
    frame: int
    task: int
    state: str
    tries: int
    worker: int | None
    started: float | None
    ended: float | None
    share: float | None
    seconds: float | None
    samples: int | None
    noise: float | None
    trace_seconds: float | None
    cpu_seconds: float | None
    peak_bytes: int | None
    rays: int | None
    priority: int
    problem: str
    log: str = ""


_OF_TASKS = {"tries", "share", "trace_seconds", "cpu_seconds", "peak_bytes", "rays"}
_SHOWN = ", ".join(
    f"{'tasks' if field.name in _OF_TASKS else 'members'}.{field.name}"
    for field in fields(FrameStatus)
    if field.name != "log"
)


@dataclass(frozen=True)
class RunStatus:
    """How the run of a plan stands.

    Attributes
    ----------
    name, ledger : of the plan.
    under_way : whether a process works on it now.
    state : of the last run: ``running``, ``done``, ``failures``, ``stopped``, ``budget``, ``full``;
        ``broken off`` where it ended without a word.
    held : why no frame begins for now, empty where they do.
    counts : state → how many frames of cells.
    share : of the work that is done, 0..1, running tasks by their progress.
    started, seconds : when the last run began, and how long it took or has taken.
    seconds_left : None where nothing was measured, or nothing runs.
    frames : those asked for.
    slots : of a run on a cluster that is under way, what each slot does.
    """

    name: str
    ledger: Path
    under_way: bool
    state: str
    held: str
    counts: dict[str, int]
    share: float
    started: float | None
    seconds: float
    seconds_left: float | None
    workers: int
    host: str
    pid: int
    frames: tuple[FrameStatus, ...] = ()
    slots: tuple[Slot, ...] = ()


def read_status(
    ledger: Ledger, at: Sequence[str] = (), states: Sequence[str] = (RUNNING, FAILED), most: int = 200,
    logs: bool = False,
) -> RunStatus:  # fmt: skip
    """How a run stands.

    Parameters
    ----------
    at : only frames of these cells, see `Cells.at`.
    states : only frames in one of these states.
    most : how many frames at most.
    logs : with the end of the log of each.

    Raises
    ------
    RunError
        When nothing was ever run there.
    NoSuchCell
        When there is no such axis, or no such cell in the run.
    """
    name = ledger.file.name.removesuffix(".ledger.sqlite")
    if not ledger.file.exists():
        raise RunError(f"{name} has not been run yet.", cure="glat run begins")
    with ledger.open() as connection:
        about = dict(connection.execute("SELECT key, value FROM about"))
        rows = connection.execute("SELECT state, members, work FROM tally").fetchall()
        begun = connection.execute(
            f"SELECT SUM(members.work * COALESCE(share, 0)) FROM {_JOINED} WHERE state = 'running'"
        ).fetchone()[0]
        run = connection.execute(
            "SELECT run, started, ended, workers, state, host, pid, held, seconds, worked_seconds, worked, "
            "heard, slots FROM runs ORDER BY run DESC LIMIT 1"
        ).fetchone() or (0, None, None, 0, "", "", 0, "", None, None, None, None, "")
        axes = json.loads(about.get("axes", "[]"))
        frames = _frames(connection, axes, at, states, most, logs)
        if at and not frames and not _frames(connection, axes, at, _STATES, 1, False):
            raise _no_such_cell(connection, axes, at)
    under_way = is_under_way(ledger)
    counts = {state: count for state, count, _ in rows}
    work = {state: amount or 0.0 for state, _, amount in rows}
    if not under_way:  # what a run that was killed left running waits for the next
        counts[WAITING] = counts.get(WAITING, 0) + counts.pop(RUNNING, 0)
    total = sum(amount for state, amount in work.items() if state != "dropped") or 1.0
    done = work.get(DONE, 0.0) + (begun or 0.0 if under_way else 0.0)
    left = work.get(WAITING, 0.0) + work.get(RUNNING, 0.0) - (begun or 0.0)
    ahead = min(run[3] or 1, max(counts.get(WAITING, 0) + counts.get(RUNNING, 0), 1))
    rate = run[9] / run[10] if run[10] else None
    ended = time.time() if under_way else run[2] or run[11]  # or when it was heard of last
    return RunStatus(
        name=name, ledger=ledger.file, under_way=under_way,
        state="broken off" if run[4] == "running" and not under_way else run[4],
        held=run[7] if under_way else "",
        counts={state: count for state, count in counts.items() if count}, share=min(1.0, done / total),
        started=run[1],
        seconds=run[8] if run[8] is not None else max(0.0, (ended or 0.0) - (run[1] or ended or 0.0)),
        seconds_left=left * rate / max(1, ahead) if rate is not None and under_way else None,
        workers=run[3], host=run[5], pid=run[6], frames=tuple(frames),
        slots=tuple(Slot(**each) for each in json.loads(run[12] or "[]")) if under_way else (),
    )  # fmt: skip


def _frames(  # type: ignore[no-untyped-def]
    connection, axes: list[str], at: Sequence[str], states: Sequence[str], most: int, logs: bool,
) -> list[FrameStatus]:  # fmt: skip
    # What is said of one axis adds up, as addresses do; different axes narrow each other down.
    groups: dict[str, list[list[list[str]] | str]] = {}
    for text in at:
        groups.setdefault(text.partition("=")[0] if "=" in text else "", []).append(_pattern(text, axes))
    marks = ", ".join("?" * len(states))
    log = "(SELECT text FROM logs WHERE logs.trace = tasks.trace)" if logs else "''"
    rows = connection.execute(
        f"SELECT {_SHOWN}, COALESCE({log}, '') FROM {_JOINED} "
        f"WHERE state IN ({marks}) ORDER BY members.number", tuple(states),
    )  # fmt: skip
    found = []
    for row in rows:
        if all(any(_matches(row[0], pattern) for pattern in group) for group in groups.values()):
            frame = FrameStatus(*row)
            found.append(frame if frame.state == "done" else replace(frame, **_UNKNOWN))
            if len(found) >= most:
                break
    return found


def _no_such_cell(connection, axes: list[str], at: Sequence[str]) -> NoSuchCell:  # type: ignore[no-untyped-def]
    """What is said of cells the run does not have."""
    cells = [row[0] for row in connection.execute("SELECT DISTINCT cell FROM members LIMIT 5000")]
    name, equals, entry = at[0].partition("=")
    known = (
        {cell.split("/")[axes.index(name)] for cell in cells if cell.count("/") == len(axes) - 1}
        if equals
        else cells
    )
    return NoSuchCell(f"The run has no cell at {', '.join(at)}. {nearest(entry or at[0], sorted(known))}")


def _pattern(text: str, axes: list[str]) -> list[list[str]] | str:
    """For each axis the globs of an address or of ``axis=entries``; or the name of an added cell."""
    if "=" in text:
        name, _, entries = text.partition("=")
        if name not in axes:
            raise NoSuchCell(f"There is no axis {name}. {nearest(name, axes)}")
        return [entries.split(",") if axis == name else ["*"] for axis in axes]
    parts = text.split("/")
    if len(parts) != len(axes):
        return text
    return [part.split(",") if part else ["*"] for part in parts]


def _matches(address: str, pattern: list[list[str]] | str) -> bool:
    if isinstance(pattern, str):
        return address == pattern
    parts = address.split("/")
    return len(parts) == len(pattern) and all(
        any(fnmatch.fnmatchcase(part, glob) for glob in globs)
        for part, globs in zip(parts, pattern, strict=True)
    )


def table(ledger: Ledger) -> pandas.DataFrame:
    """A row for each frame of each cell of the plan as it was run last; columns as in `FrameStatus`."""
    import pandas

    with ledger.open() as connection:
        query = f"SELECT {_SHOWN} FROM {_JOINED} ORDER BY members.number"
        return frames_indexed(pandas.read_sql_query(query, connection), "started", "ended")


# --- every run on this machine -------------------------------------------------------------------


def note_run(ledger: Ledger) -> None:
    """Remember that a ledger is on this machine, for `known_runs`."""
    folder = cache_folder() / "runs"
    name = hashlib.blake2b(str(ledger.file.resolve()).encode(), digest_size=8).hexdigest()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(str(ledger.file.resolve()), encoding="utf-8")
    except OSError:
        pass  # a list for convenience; the run does not hang on it


def known_runs() -> list[Ledger]:
    """Ledgers of runs on this machine that are still there, the last run first."""
    found = []
    for note in (cache_folder() / "runs").glob("*"):
        try:
            file = Path(note.read_text(encoding="utf-8"))
            found.append((file.stat().st_mtime, file))
        except OSError:
            note.unlink(missing_ok=True)
    return [Ledger(file) for _, file in sorted(found, reverse=True)]
