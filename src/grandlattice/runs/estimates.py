"""What a run will cost, from measurement: frames this machine has rendered for the plan, or small
probes of each kind of cell.

A task takes some seconds for each pixel, some more for each sample of it, and some to compose and
read the scene; sampling ends where its time is limited.  A probe finds the three by rendering a small
picture at two numbers of samples; what was rendered before gives seconds for a sample of a pixel.  The
range says how much these differ among themselves, and how far off estimates of the plan have been.
"""

from __future__ import annotations

import platform
import statistics
import time
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass

import numpy as np

from grandlattice._support.readable import many
from grandlattice.errors import LedgerError
from grandlattice.runs.ledger import Ledger
from grandlattice.runs.tasks import Task, TaskList, kind_of, work_of
from grandlattice.runs.work_order import Probe, Taken

_LOOKED_AT = 60  # tasks that stand for all
_PROBING = 0.5, 6.0  # seconds of probing, at least and at most, …
_WORTH = 0.003  # … and the share of what the run is expected to take

Probing = Callable[[Sequence[Probe]], list[Taken | None]]
"""Measures some cells at a time, see `backends.Backend.probe`."""
Left = Callable[[Task], float]
"""The part of its samples, 0..1, that a task has still to get."""


@dataclass(frozen=True)
class Estimate:
    """What a run will cost.

    Attributes
    ----------
    seconds, low, high : of the whole run, likeliest and between which.
    core_seconds : of all processors together.
    source : what it was measured on.
    last : how many times as long as estimated the last run took, None where none was.
    """

    seconds: float
    low: float
    high: float
    core_seconds: float
    source: str
    last: float | None = None


@dataclass(frozen=True)
class _Rate:
    """Seconds of a kind of cell: fixed, a pixel, a sample of a pixel; how many times off."""

    fixed: float
    pixel: float
    sample: float
    spread: float
    probed: bool


def estimate(
    todo: TaskList,
    workers: int,
    threads: int,
    ledger: Ledger,
    probing: Probing | None,
    *,
    further: bool = False,
) -> Estimate | None:
    """What it takes to do some tasks; None where there is nothing to go by.

    Parameters
    ----------
    further : frames are taken to their full quality, whatever their `seconds` say.
    probing : renders small pictures of cells, by all workers; None where probing is not allowed.
    """
    if not len(todo):
        return None
    left = None
    if further:
        left = _left_of({})
        with suppress(LedgerError):  # lost meanwhile: then all of it is left
            left = _left_of(ledger.unfinished())
    chosen = np.unique(np.linspace(0, len(todo) - 1, min(_LOOKED_AT, len(todo))).astype(int))
    tasks = [todo[int(k)] for k in chosen]
    known = _history(ledger)
    rates: dict[str, _Rate] = {}
    rates |= {kind: known[kind] for kind in map(kind_of, (task.first for task in tasks)) if kind in known}
    if probing is not None:
        _probe_kinds(tasks, len(todo), rates, workers, threads, probing, left)
    if not rates:
        return None
    return _summed(tasks, len(todo), rates, workers, threads, last_error(ledger), left)


def _left_of(taken: Mapping[tuple[str, str, int], int]) -> Left:
    """Which part of its samples each task has still to get, by the samples its frames have."""

    def left(task: Task) -> float:
        have = (taken.get((task.trace, member.cell.address, member.frame), 0) for member in task.members)
        return max(0.0, 1.0 - min(have) / max(task.first.settings.samples, 1))

    return left


def _probe_kinds(
    tasks: list[Task],
    count: int,
    rates: dict[str, _Rate],
    workers: int,
    threads: int,
    probing: Probing,
    left_of: Left | None,
) -> None:
    """Add the rates of kinds that are not known, for as long as it is worth it.

    Workers that have no kind left probe one with the others: they will need the scene anyway, and a
    rate is wanted as it is when all of them work.
    """
    kinds = {kind_of(task.first): task for task in reversed(tasks) if kind_of(task.first) not in rates}
    left, began, seats = list(reversed(kinds.items())), time.perf_counter(), max(workers, 1)
    while left:
        if rates:
            so_far = _summed(tasks, count, rates, workers, threads, None, left_of)
            if time.perf_counter() - began > np.clip(_WORTH * so_far.seconds, *_PROBING):
                return
        batch, left = left[:seats], left[seats:]
        batch = [batch[k % len(batch)] for k in range(seats)]
        taken = probing([Probe(task.first, task.frame) for _, task in batch])
        for kind in dict.fromkeys(kind for kind, _ in batch):
            found = [t for (k, _), t in zip(batch, taken, strict=True) if k == kind and t is not None]
            if found:
                fixed, pixel, sample = (statistics.fmean(part) for part in zip(*found, strict=True))
                rates[kind] = _Rate(fixed, pixel, sample, spread=0.3, probed=True)


def _summed(
    tasks: list[Task],
    count: int,
    rates: dict[str, _Rate],
    workers: int,
    threads: int,
    last: float | None,
    left_of: Left | None,
) -> Estimate:
    """Of tasks that stand for all; `left_of` where they are taken further than their time limit."""
    usual = max(rates.values(), key=lambda rate: rate.sample)
    each, widths = [], []
    for task in tasks:
        rate = rates.get(kind_of(task.first), usual)
        settings = task.first.settings
        traces = task.work / max(work_of(settings), 1)
        sampling = traces * settings.pixels * rate.sample * settings.samples
        if left_of is not None:
            sampling *= left_of(task)
        elif settings.seconds is not None and settings.renderer == "tracer":
            sampling = min(sampling, settings.seconds * len(task.wanted))  # each film has its seconds
        each.append(rate.fixed + traces * settings.pixels * rate.pixel + sampling)
        widths.append(rate.spread if kind_of(task.first) in rates else rate.spread * 2.0)
    total = statistics.fmean(each) * count
    seats = max(1, min(max(workers, 1), count))
    # Where tasks are few the last worker is waited for.
    rounds = -(-count // seats) * seats / count
    seconds = total / seats * rounds
    probed = sum(rate.probed for rate in rates.values())
    source = many(probed, "probe") if probed else "frames rendered before"
    spread = max(statistics.fmean(widths), abs((last or 1.0) - 1.0))
    return Estimate(
        seconds, seconds / (1.0 + spread), seconds * (1.0 + spread), total * threads, source, last
    )


def _history(ledger: Ledger) -> dict[str, _Rate]:
    """Rates by kind, from tasks that were done on this machine."""
    if not ledger.file.exists():
        return {}
    found, told = defaultdict(list), "kind, work, host, seconds AS took, ended AS at"
    with suppress(LedgerError), ledger.open() as connection:  # lost meanwhile: then it knows nothing
        rows = connection.execute(
            f"SELECT kind, took / work FROM (SELECT {told} FROM tasks UNION ALL SELECT {told} FROM past) "
            "WHERE took IS NOT NULL AND host = ? AND kind != '' AND work > 0 "
            "ORDER BY at DESC LIMIT 3000", (platform.node(),),
        )  # fmt: skip
        for kind, rate in rows:
            found[kind].append(rate)
    rates = {}
    for kind, each in found.items():
        middle = statistics.fmean(each)
        spread = statistics.pstdev(each) / middle / len(each) ** 0.5 if len(each) > 2 else 0.3
        rates[kind] = _Rate(0.0, 0.0, middle, max(0.1, spread), probed=False)
    return rates


def last_error(ledger: Ledger) -> float | None:
    """How many times as long as estimated the last whole run of a plan took."""
    if not ledger.file.exists():
        return None
    row = None
    with suppress(LedgerError), ledger.open() as connection:
        row = connection.execute(
            "SELECT seconds / estimate FROM runs WHERE estimate > 0 AND seconds > 0 AND state = 'done' "
            "ORDER BY run DESC LIMIT 1"
        ).fetchone()
    return float(row[0]) if row else None
