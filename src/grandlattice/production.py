"""A plan meeting a machine: checking it, planning its tasks, carrying them out, showing them.

`api.Plan` hands over what it knows as a `Planned` and calls these functions; they alone bring in
tracer, image libraries and workers, which take a second to load.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from grandlattice.checks import Checked, Facilities, Finding, run_checks
from grandlattice.errors import ImageError, OutputError, RunError
from grandlattice.images import find_display, read_mark
from grandlattice.plan import (
    Cell,
    CellMaker,
    FileNames,
    Filing,
    Lattice,
    PlanModel,
    SceneFacts,
    planned_files,
)
from grandlattice.review import contact_sheets
from grandlattice.runs import (
    Event,
    Fingerprints,
    FolderStore,
    Ledger,
    Outlook,
    Patience,
    Run,
    Task,
    Versions,
    WorkOrder,
    Workshop,
    carry_out,
    look_ahead,
    make_tasks,
    refuse_foreign,
)
from grandlattice.runs.tasks import Frames
from grandlattice.stage import Scene, scene_digest
from grandlattice.tracer import HOW_TO_INSTALL, Looker, can_denoise, warm_up

_CHECKED_AT_ONCE = 2000  # cells; more are checked by representatives

Indices = NDArray[np.int64]


@dataclass(frozen=True)
class Planned:
    """What a plan is by the time a machine comes in.

    `output` is the folder its pictures land in.
    """

    name: str
    folder: Path
    output: Path
    scene: Scene
    model: PlanModel
    lattice: Lattice
    make: CellMaker
    facts: SceneFacts

    @cached_property
    def fingerprints(self) -> Fingerprints:
        return Fingerprints(self.model, scene_digest(self.scene), self.folder, can_denoise())

    @cached_property
    def ledger(self) -> Ledger:
        return Ledger(self.output / f"{self.name}.ledger.sqlite")

    @cached_property
    def versions(self) -> Versions:
        return Versions(self.ledger, self.fingerprints)

    @cached_property
    def names(self) -> FileNames:
        """What templates may say besides the cell; versions are asked for only where they say so."""
        scene = self.scene.file.stem
        return FileNames(self.name, scene, self.model.words, lambda cell: self.versions.stamp(cell))

    def filing(self, indices: Indices | None = None) -> Filing:
        """The files of cells at once; of all by default."""
        return Filing(self.lattice, self.make, self.facts, self.names, indices)


def prepare_tracer() -> None:
    """Compile the tracer for this machine, or load what was compiled before."""
    warm_up()


def check(planned: Planned, indices: Indices, *, allow_missing: bool, look: bool) -> list[Finding]:
    """Everything that can be known to be wrong beforehand, errors first."""
    store = FolderStore(planned.output)
    cells = [planned.make(int(index)) for index in _representatives(planned.lattice, indices)]
    wrong, unwritable = {}, ""
    for display in {cell.settings.display or "" for cell in cells}:
        try:
            find_display(display)
        except ImageError as problem:
            wrong[display] = problem.what
    try:
        store.refuse_unwritable()
    except OutputError as problem:
        unwritable = problem.what
    order = WorkOrder(
        planned.model, planned.folder, planned.scene.file.resolve(), planned.output, planned.name,
        allow_missing=True,
    )  # fmt: skip
    facilities = Facilities(
        can_denoise(), HOW_TO_INSTALL, wrong, store.free_bytes(), unwritable, Looker(),
        Workshop(order).glance if look else None,
    )  # fmt: skip
    checked = Checked(
        planned.model, planned.lattice, cells, planned.scene, planned.folder, facilities,
        planned.filing(indices), len(indices), allow_missing, _in_the_way(planned, cells),
    )  # fmt: skip
    return run_checks(checked)


def _in_the_way(planned: Planned, cells: Sequence[Cell]) -> tuple[str, ...]:
    """Files where pictures will be that no run of this plan made; none where names are impossible."""
    known, store, names = planned.ledger.files(), FolderStore(planned.output), planned.names
    found = []
    try:
        for cell in cells:
            for file in planned_files(cell, names):
                there = file.path not in known and store.size(file.path) is not None
                if there and read_mark(store.path(file.path), "fingerprint") is None:
                    found.append(file.path)
    except OutputError:
        return ()
    return tuple(found)


def _representatives(lattice: Lattice, indices: Indices) -> Indices:
    """Cells that stand for all: all of few; of many the first ones, and for every entry and rule one."""
    if len(indices) <= _CHECKED_AT_ONCE:
        return indices
    product = indices[indices < len(lattice.positions)]
    entries = lattice.entries_of(product)
    chosen = [indices[: _CHECKED_AT_ONCE // 2], indices[indices >= len(lattice.positions)]]
    chosen += [product[np.unique(values, return_index=True)[1]] for values in entries]
    for rule in lattice.amendments:
        inside = np.ones(len(product), bool)
        for mask, values in zip(rule.masks, entries, strict=True):
            inside &= True if mask is None else mask[values]
        chosen.append(product[np.flatnonzero(inside)[:1]])
    return np.unique(np.concatenate(chosen))


def tasks(planned: Planned, indices: Indices, frames: Frames, names: FileNames | None = None) -> list[Task]:
    """What a run carries out, in order.

    Raises
    ------
    OutputError
        When two pictures would have one file, or a name is impossible.
    RunError
        When there is nothing to carry out.
    """
    planned.filing(indices).refuse_collisions()
    cells = (planned.make(index) for index in indices.tolist())
    made = make_tasks(planned.lattice, cells, planned.fingerprints, planned.names, frames)
    if not made:
        raise RunError("None of these cells has one of these frames.")
    return made


def outlook(planned: Planned, indices: Indices, frames: Frames, *, fresh: bool) -> Run:
    """A run that has not begun: what it would do, and the files there are."""
    made = tasks(planned, indices, frames)
    ahead = look_ahead(made, planned.ledger, FolderStore(planned.output), fresh)
    return Run(planned.output, planned.ledger, ahead, tuple(made))


def run(
    planned: Planned, indices: Indices, *, workers: int | None, threads: int | None,
    frames: Frames, fresh: bool, allow_missing: bool,
    on_event: Callable[[Event], None] | None, on_outlook: Callable[[Outlook], None] | None,
) -> Run:  # fmt: skip
    """Render what is not done yet; see `api.Plan.run`."""
    begun = outlook(planned, indices, frames, fresh=fresh)
    refuse_foreign(begun.outlook, fresh)
    FolderStore(begun.output).refuse_unwritable()
    if on_outlook is not None:
        on_outlook(begun.outlook)
    if begun.outlook.todo:
        prepare_tracer()  # once, before several workers would each compile it
        planned.versions.remember()  # of the cells whose names speak of them
        count = default_workers(planned.model) if workers is None else workers
        each = max(1, count // len(begun.outlook.todo)) if threads is None else threads
        order = WorkOrder(
            planned.model, planned.folder, planned.scene.file.resolve(), begun.output, planned.name, each,
            allow_missing,
        )  # fmt: skip
        block = planned.model.run
        patience = Patience(block.retries, stalled=block.stalled, limit=block.limit)
        carry_out(begun, order, count, on_event, patience)
    return begun


def default_workers(model: PlanModel) -> int:
    """All processors but those the plan spares, one if it does not say; at least one."""
    spare = 1 if model.run.spare is None else model.run.spare
    return max(1, (os.cpu_count() or 1) - spare)


def review(planned: Planned, indices: Indices, size: tuple[int, int]) -> list[Path]:
    """Write the contact sheets of what is rendered; returns their files."""
    title = planned.name.replace("-", " ").replace("_", " ")
    return contact_sheets(title, tasks(planned, indices, None), planned.output, f"{planned.name}-sheet", size)
