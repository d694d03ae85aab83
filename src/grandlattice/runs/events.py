"""What happens in a run, as records: code that draws, records or steers it reads these and nothing else."""

from __future__ import annotations

import time
from dataclasses import dataclass, field

from grandlattice.errors import LatticeError
from grandlattice.runs.tasks import Task
from grandlattice.runs.work_order import TaskResult


@dataclass(frozen=True)
class Started:
    """A worker took a task."""

    task: Task
    worker: int


@dataclass(frozen=True)
class Progress:
    """A task is under way; `share` is 0..1."""

    task: Task
    worker: int
    share: float


@dataclass(frozen=True)
class Finished:
    """A task is done and its files have their names; `ended` is Unix time."""

    task: Task
    worker: int
    result: TaskResult
    ended: float = field(default_factory=time.time)


@dataclass(frozen=True)
class Failed:
    """A task could not be done.  `details` is for those who ask for a traceback, `log` the end of
    what was said meanwhile."""

    task: Task
    worker: int
    problem: LatticeError
    details: str = ""
    log: str = ""


@dataclass(frozen=True)
class Retried:
    """A task could not be done this time; it is tried again in `delay` seconds."""

    task: Task
    worker: int
    problem: LatticeError
    delay: float


@dataclass(frozen=True)
class Returned:
    """A task was given up because the run stops; nothing is left of it."""

    task: Task
    worker: int


@dataclass(frozen=True)
class Held:
    """No task begins for now, and why; with an empty reason the run goes on."""

    reason: str


Event = Started | Progress | Finished | Failed | Retried | Returned | Held


@dataclass
class UnderWay:
    """What a worker does, since when, when it was last heard of (seconds of a steady clock), and
    the most memory it was seen to hold, bytes."""

    task: Task
    worker: int
    since: float
    heard: float
    peak_bytes: int = 0
