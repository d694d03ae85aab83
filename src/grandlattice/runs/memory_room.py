"""Room in the machine's memory: how much a frame is expected to hold, and whether another one fits.

What a frame holds is learned from frames of its kind that were rendered on this machine, in this run and
before; of a kind that is not known only the picture itself counts, and what a worker has loaded.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

import psutil

from grandlattice._support.readable import size
from grandlattice.plan import CellSettings
from grandlattice.runs.events import UnderWay
from grandlattice.runs.tasks import Task, kind_of
from grandlattice.tables.passes import is_light_pass

# Measured with `benchmarks/shared_matrix.py memory` and by hand, from 64×36 to 1920×1080.
_LOADED = 520_000_000  # bytes of a worker with a small scene and picture
_OF_A_PIXEL, _OF_A_PASS, _OF_IDS, _OF_DENOISING = 105, 55, 225, 480  # bytes of a pixel while it is traced


class WorkerRoom(NamedTuple):
    """What a worker holds at most, what is free, both in bytes, and how many workers fit into that."""

    worker: int
    free: int
    fit: int


class Room:
    """Whether frames fit into the memory that is free.

    Parameters
    ----------
    known : kind of frame → the most bytes one of them held.
    """

    def __init__(self, known: Mapping[str, int]) -> None:
        self._known = dict(known)

    def learn(self, task: Task, peak_bytes: int) -> None:
        """Take note of what a frame held at most."""
        kind = kind_of(task.first)
        self._known[kind] = max(self._known.get(kind, 0), peak_bytes)

    def expected(self, task: Task) -> int:
        """Bytes a frame will hold at most."""
        usual = max(self._known.values(), default=0)
        least = _LOADED + picture_bytes(task.first.settings, task.passes)
        least += (len(task.wanted) - 1) * film_bytes(task.first.settings)
        return max(self._known.get(kind_of(task.first), usual), least)

    def for_workers(self, tasks: Sequence[Task]) -> WorkerRoom:
        """How many workers could render the largest of some frames at once."""
        each, free = max(map(self.expected, tasks)), free_memory()
        return WorkerRoom(each, free, free // each)

    def lack(self, task: Task, under_way: Sequence[UnderWay], held: int) -> str:
        """Why a frame should not begin beside others; empty where it fits, or none is under way.

        Parameters
        ----------
        held : bytes that the worker which would take it holds already.
        """
        if not under_way:
            return ""
        coming = sum(max(0, self.expected(doing.task) - doing.peak_bytes) for doing in under_way)
        needed, free = max(0, self.expected(task) - held), free_memory() - coming
        if needed <= free:
            return ""
        left = size(max(0, free))
        return f"fewer frames at once: the next takes {size(needed)} of memory, and {left} are free"


def picture_bytes(settings: CellSettings, passes: Sequence[str]) -> int:
    """About what a picture takes while it is traced, and made into a file."""
    ids = sum(name.endswith("-id") for name in passes)
    denoising = _OF_DENOISING if settings.denoise else 0
    return settings.pixels * (_OF_A_PIXEL + _OF_A_PASS * len(passes) + _OF_IDS * ids + denoising)


_OF_A_FILM, _OF_A_LIGHT_PASS = 24, 24  # bytes of a pixel for each lighting that is traced with others


def film_bytes(settings: CellSettings) -> int:
    """About what each film takes that is traced together with others."""
    light = sum(is_light_pass(name) for name in settings.passes)
    return settings.pixels * (_OF_A_FILM + _OF_A_LIGHT_PASS * light)


def free_memory() -> int:
    """Bytes this process and its children may still take: of the machine, or of the group it is held in."""
    free = int(psutil.virtual_memory().available)
    group = Path("/sys/fs/cgroup")
    with suppress(OSError, ValueError):  # without a limit it says "max"
        most = int((group / "memory.max").read_text())
        return min(free, max(0, most - int((group / "memory.current").read_text())))
    return free
