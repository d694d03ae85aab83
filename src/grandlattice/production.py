"""A plan meeting a machine: checking it, planning its tasks, carrying them out, showing them.

`api.Plan` hands over what it knows as a `Planned` and calls these functions; they alone bring in
tracer, image libraries and workers, which take a second to load.
"""

from __future__ import annotations

import hashlib
import json
import multiprocessing
import os
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np
import psutil
from numpy.typing import NDArray

from grandlattice import images
from grandlattice import review as reviewing
from grandlattice.checks import Checked, Facilities, Finding, run_checks
from grandlattice.compiled import cache_folder, is_compiled
from grandlattice.errors import ImageError, LatticeError, OutputError, PlanError, RunError, nearest
from grandlattice.filesystem import is_file
from grandlattice.notices import Teller
from grandlattice.plan import (
    Cell,
    CellMaker,
    CellSettings,
    FileNames,
    Filing,
    Lattice,
    PlanModel,
    SceneFacts,
    planned_files,
)
from grandlattice.plan.naming import folded
from grandlattice.plan.running import RunBlock
from grandlattice.plan.schema import texts_of
from grandlattice.runs import (
    Backend,
    Coordinator,
    Estimate,
    Event,
    Fingerprints,
    FolderStore,
    Ingredients,
    InPlace,
    Ledger,
    Outlook,
    Patience,
    Processes,
    Run,
    Spending,
    TaskList,
    Versions,
    WorkOrder,
    Workshop,
    estimate,
    list_tasks,
    look_again,
    look_ahead,
    sole_writer,
)
from grandlattice.runs.outlook import (
    names_in_reach,
    read_back,
    refuse_what_stands_there,
    strangers_among,
    write_down,
)
from grandlattice.runs.status import note_run
from grandlattice.runs.tasks import Frames
from grandlattice.runs.versions import versions_in
from grandlattice.runs.worker import end_with_children
from grandlattice.spawning import signals_held, without_main_script
from grandlattice.stage import Scene, files_read, scene_digest, scene_files
from grandlattice.tracer import HOW_TO_INSTALL, PASSES, Looker, can_denoise, is_pass, warm_up

_WORTH_A_PROBE = 3e6  # pixels × samples; some seconds of one processor
_CHECKED_AT_ONCE = 2000  # cells; more are checked by representatives

_MOST_IMAGES_KNOWN = 100_000
_FOR_THE_LEDGER = 120.0  # seconds a run waits to begin for somebody who holds its ledger

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
        name = f"{self.name}.ledger.sqlite"
        return Ledger(self.output / name, self.folder / name)

    @cached_property
    def fixed(self) -> tuple[str, ...]:
        """Folders below the output with which its templates begin; they may be links."""
        return tuple(top for top, _ in self.filing().reach() if top)

    @cached_property
    def store(self) -> FolderStore:
        """Where its files land."""
        return FolderStore(self.output, self.fixed)

    @cached_property
    def sources(self) -> frozenset[Path]:
        """Every file that the scene or the plan reads, as named and as links lead."""
        named = [self.folder / text for text in self.model.texts()]
        for said in self.lattice.everything_said():
            named += [self.folder / text for placed in said.edits for text in texts_of(placed.edit)]
        return frozenset(files_read(self.scene, [path for path in named if is_file(path)]))

    @cached_property
    def versions(self) -> Versions:
        def recall() -> dict[str, tuple[int, str, str]]:
            store = self.store
            return versions_in(store, names_in_reach(store, self.filing()), self.name)

        return Versions(self.ledger, self.fingerprints, recall)

    @cached_property
    def names(self) -> FileNames:
        """What templates may say besides the cell; versions are asked for only where they say so."""
        scene = self.scene.file.stem
        return FileNames(self.name, scene, self.model.words, lambda cell: self.versions.stamp(cell))

    @cached_property
    def ingredients(self) -> Ingredients:
        return Ingredients(self.model, self.lattice, self.make, self.fingerprints, self.names)

    def key(self, indices: Indices, frames: Frames) -> str:
        """Digest of everything that decides which tasks there are and what they make."""
        told: list[object] = [
            self.name,
            self.scene.file.stem,
            self.fingerprints.of_plan(self.make.caller.settings),
        ]
        told += [frames if frames is None or isinstance(frames, str) else sorted(frames)]
        whole = hashlib.blake2b(json.dumps(told, default=str).encode(), digest_size=16)
        whole.update(np.ascontiguousarray(indices, np.int64).tobytes())
        return whole.hexdigest()

    def filing(self, indices: Indices | None = None) -> Filing:
        """The files of cells at once; of all by default."""
        return Filing(self.lattice, self.make, self.facts, self.names, indices)


class Preparation:
    """The tracer being compiled for this machine, unless that was done before; in a process of its own,
    so that whoever only coordinates holds no kernel."""

    def __init__(self) -> None:
        self._process = None
        if not is_compiled():
            self._process = multiprocessing.get_context("spawn").Process(target=warm_up, daemon=True)
            with without_main_script(), signals_held():
                self._process.start()

    def wait(self) -> None:
        """Wait until it is compiled."""
        if self._process is not None:
            try:
                self._process.join()
            except BaseException:
                self.cancel()
                raise

    def cancel(self) -> None:
        """End it, as far as it came."""
        if self._process is not None and self._process.pid is not None:
            with suppress(psutil.Error):
                end_with_children(psutil.Process(self._process.pid))


def prepare_tracer() -> None:
    """Compile the tracer for this machine, unless that was done before."""
    Preparation().wait()


def check(
    planned: Planned, indices: Indices, existing: str, *, allow_missing: bool, look: bool,
    thoroughly: bool = False,
) -> list[Finding]:  # fmt: skip
    """Everything that can be known to be wrong beforehand, errors first."""
    store = planned.store
    cells = [planned.make(int(index)) for index in _representatives(planned.lattice, indices)]
    wrong, unwritable = {}, ""
    for display in {cell.settings.display or "" for cell in cells}:
        try:
            images.find_display(display)
        except ImageError as problem:
            wrong[display] = problem.what
    try:
        store.refuse_unwritable()
    except OutputError as problem:
        unwritable = problem.what
    order = WorkOrder(
        planned.model, planned.folder, planned.scene.file.resolve(), planned.output, planned.name,
        allow_missing=True, fixed=planned.fixed,
    )  # fmt: skip
    facilities = Facilities(
        can_denoise(), HOW_TO_INSTALL, wrong, store.free_bytes(), unwritable, Looker(),
        Workshop(order, planned.scene).glance if look else None,
        inspect=lambda files: inspected(files, thoroughly),
    )  # fmt: skip
    checked = Checked(
        planned.model, planned.lattice, cells, planned.scene, planned.folder, facilities,
        planned.filing(indices), len(indices), allow_missing,
        () if existing in ("replace", "keep-both") else _in_the_way(planned, cells),
        _or_nothing(lambda: targets_read(planned, indices)), store.links(),
        _said_by(lambda: refuse_links(planned, indices)),
    )  # fmt: skip
    return run_checks(checked)


def inspected(files: Sequence[str], thoroughly: bool) -> dict[str, str]:
    """What is wrong with some images, those with which something is; what was found once is remembered
    for as long as a file stays the same."""
    kept = cache_folder() / "images.json"
    try:
        known = json.loads(kept.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        known = {}

    def key(file: str) -> str:
        found = Path(file).stat()
        return f"{file} {found.st_size} {found.st_mtime_ns} {thoroughly}"

    keys = {file: key(file) for file in files}
    new = [file for file in files if keys[file] not in known]
    with quiet_libraries(), ThreadPoolExecutor(8) as pool:
        wrong = list(pool.map(lambda file: images.inspect_image(file, thoroughly=thoroughly), new))
    if new:
        known = known if len(known) < _MOST_IMAGES_KNOWN else {}
        known |= {keys[file]: told for file, told in zip(new, wrong, strict=True)}
        with suppress(OSError):
            kept.parent.mkdir(parents=True, exist_ok=True)
            part = kept.with_name(f".{kept.name}.{os.getpid()}.part")
            part.write_text(json.dumps(known), encoding="utf-8")
            os.replace(part, kept)
    return {file: known[keys[file]] for file in files if known.get(keys[file])}


@contextmanager
def quiet_libraries() -> Iterator[None]:
    """While this holds, nothing that a library writes to standard error of its own accord is shown."""
    try:
        kept, nowhere = os.dup(2), os.open(os.devnull, os.O_WRONLY)
    except OSError:  # there is no standard error
        yield
        return
    os.dup2(nowhere, 2)
    try:
        yield
    finally:
        os.dup2(kept, 2)
        os.close(kept)
        os.close(nowhere)


def _or_nothing(ask: Callable[[], list[tuple[str, str]]]) -> list[tuple[str, str]]:
    """An answer; nothing where names of files are impossible, which another check says."""
    try:
        return ask()
    except LatticeError:
        return []


def _said_by(do: Callable[[], object]) -> LatticeError | None:
    """The error that something raises about where pictures land."""
    try:
        do()
    except OutputError as problem:
        return problem if "link" in problem.what else None
    return None


def _in_the_way(planned: Planned, cells: Sequence[Cell]) -> tuple[tuple[str, str | None], ...]:
    """Files where pictures will be that no run of this plan made, with the plan that did; none where
    names are impossible."""
    store, filing = planned.store, planned.filing(np.array([cell.index for cell in cells]))
    try:
        there = set(names_in_reach(store, filing))
        standing = set(filing.standing(sorted(there)).tolist())
        found = [
            file.path
            for cell in cells
            if cell.index in standing
            for file in planned_files(cell, planned.names)
            if file.path in there
        ]
        return strangers_among(found, planned.ledger, store)
    except OutputError:
        return ()
    except RunError:  # a ledger that cannot be read is put aside by the run; the pictures say who made them
        return strangers_among(found, None, store, planned.name)


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


def tasks(planned: Planned, indices: Indices, frames: Frames) -> TaskList:
    """What a run carries out, in order.

    Raises
    ------
    OutputError
        When two pictures would have one file, or a name is impossible.
    RunError
        When there is nothing to carry out.
    """
    planned.filing(indices).refuse_collisions()
    renderers = planned.model.renderers

    def chunk_of(settings: CellSettings) -> int:
        name = settings.renderer.split(" ")[0]
        return renderers[name].chunk if name in renderers else 1

    made = list_tasks(planned.ingredients, indices, frames, chunk_of)
    if not made:
        raise RunError("None of these cells has one of these frames.")
    return made


def outlook(planned: Planned, indices: Indices, frames: Frames, existing: str = "skip") -> Run:
    """A run that has not begun: what it would do, and the files there are."""
    ledger, store, filing = planned.ledger, planned.store, planned.filing(indices)
    if ledger.planned_key() == planned.key(indices, frames) and existing != "replace":
        listed, done = read_back(ledger, planned.ingredients)
        seen = look_again(listed, done, ledger, store, filing)
    else:
        listed = tasks(planned, indices, frames)
        seen = look_ahead(listed, ledger, store, filing, existing)
    return Run(planned.output, ledger, seen, listed, planned.fixed)


def targets_read(planned: Planned, indices: Indices) -> list[tuple[str, str]]:
    """Files that the scene or the plan reads and a cell would write: each with that cell's address."""
    roots = dict.fromkeys([planned.output, planned.output.resolve()])
    roots |= dict.fromkeys((planned.output / top).resolve() for top in planned.fixed)
    below: dict[str, Path] = {}
    for root in roots:
        top = next((top for top in planned.fixed if (planned.output / top).resolve() == root), "")
        for path in planned.sources:
            full = Path(os.path.normpath(path))
            if full.is_relative_to(root):
                relative = full.relative_to(root).as_posix()
                below[f"{top}/{relative}" if top else relative] = path
    known = {folded(name): name for name in below}
    filing = planned.filing(indices)
    return [
        (file.path, cell.address)
        for index in filing.standing(sorted(below))
        for cell in (planned.make(int(index)),)
        for file in planned_files(cell, planned.names)
        if folded(file.path) in known
    ]


def refuse_sources(planned: Planned, indices: Indices) -> None:
    """Refuse a plan whose pictures would take the place of files that the scene or the plan reads.

    Raises
    ------
    OutputError
        Naming the first of them and its cell.
    """
    for path, address in targets_read(planned, indices):
        raise OutputError(
            f"{address} would be written over {path}, which the scene or the plan reads.",
            place=planned.make(int(indices[0])).origins.get("output"),
            cure="change the output template; nothing the scene is made of is ever replaced",
        )


def refuse_links(planned: Planned, indices: Indices) -> None:
    """Refuse a plan whose pictures would land behind a link below the output folder.

    Raises
    ------
    OutputError
        Naming the link.
    """
    filing, store = planned.filing(indices), planned.store
    behind = [name for top, deep in filing.reach() for name in store.links_below(top, deep)]
    if not behind:
        return
    for index in indices:
        for file in planned_files(planned.make(int(index)), planned.names):
            if any(file.path.startswith(f"{name}/") for name in behind):
                store.path(file.path)  # it says which link, and where it leads


@dataclass(frozen=True)
class Listeners:
    """Who is told what: every event, what will be done before it begins, what that will cost."""

    on_event: Callable[[Event], None] | None = None
    on_outlook: Callable[[Outlook], None] | None = None
    on_estimate: Callable[[Estimate], None] | None = None


def run(
    planned: Planned, indices: Indices, block: RunBlock, *, workers: int | None, threads: int | None,
    frames: Frames, allow_missing: bool, listeners: Listeners, further: bool = False,
) -> Run:  # fmt: skip
    """Render what is not done yet; see `whole.Plan.run`."""
    planned.store.refuse_unwritable()
    refuse_sources(planned, indices)
    refuse_links(planned, indices)
    with sole_writer(planned.ledger):
        planned.ledger.wait_less(_FOR_THE_LEDGER)
        aside = planned.ledger.heal()
        begun = outlook(planned, indices, frames, block.existing)
        if further:
            begun.outlook = only_unfinished(begun)
        begun.ledger_aside = aside
        refuse_what_stands_there(begun.outlook, block.existing)
        if listeners.on_outlook is not None:
            listeners.on_outlook(begun.outlook)
        todo = begun.outlook.todo
        if not todo:
            if planned.ledger.planned_key() == planned.key(indices, frames):
                # What a killed run had made and not written down is done, whatever the ledger said.
                planned.ledger.begin_again(begun.outlook.done.numbers)
            planned.ledger.close()
            return begun
        if any_traced(planned.model, todo):
            prepare_tracer()  # once, before several workers would each compile it
        planned.versions.remember()  # of the cells whose names speak of them
        note_tasks(planned, begun, planned.key(indices, frames))
        count = default_workers(block) if workers is None else workers
        each = threads or block.threads or max(1, count // len(todo))
        order = replace(_order(planned, each, allow_missing, block.existing), further=further)
        # Workers measure the cost, and have the scene at hand then.
        backend: Backend = (
            Processes(order, min(count, len(todo)), gentle=block.gentle) if count > 0 else InPlace(order)
        )
        note_run(planned.ledger)
        patience = Patience(
            block.retries, stalled=block.stalled, limit=block.limit, memory=block.memory, room=block.room
        )
        told = Teller(block.notices, begun, planned.name, listeners.on_event)
        try:
            # A run of some seconds is not worth a probe.
            worth_it = todo.work > _WORTH_A_PROBE and not order.model.renderers
            probing = backend.probe if worth_it else None
            begun.estimate = estimate(todo, count, order.threads, planned.ledger, probing, further=further)
            if begun.estimate is not None and listeners.on_estimate is not None:
                listeners.on_estimate(begun.estimate)
            Coordinator(
                begun, backend, patience, Spending(block.budget),
                lambda: note_tasks(planned, begun, planned.key(indices, frames)), told,
            ).carry_out(count)  # fmt: skip
        finally:
            backend.close()
            told.end()
        begun.notes += told.problems
    return begun


def only_unfinished(run: Run) -> Outlook:
    """Of a run what a time limit ended before it had all its samples."""
    whole, lost = run.outlook, run.ledger.unfinished()
    numbers = np.array([task.number for task in whole.done if task.trace in lost], np.int64)
    return Outlook(whole.done.only(numbers), whole.done.only(np.setdiff1d(whole.done.numbers, numbers)))


def _order(planned: Planned, threads: int, allow_missing: bool, existing: str) -> WorkOrder:
    keep = f"{planned.name}-kept/{time.strftime('%Y-%m-%d-%H%M%S')}" if existing == "keep-both" else None
    files = tuple(
        (path, found.st_size, found.st_mtime_ns)
        for path in scene_files(planned.scene)
        for found in (path.stat(),)
    )
    return WorkOrder(
        planned.model, planned.folder, planned.scene.file.resolve(), planned.output, planned.name, threads,
        allow_missing, planned.fixed, planned.ledger.id, keep=keep, scene_files=files,
    )  # fmt: skip


def note_tasks(planned: Planned, run: Run, key: str) -> None:
    """Have the ledger know the tasks of a run, and which of them wait."""
    if planned.ledger.planned_key() == key:
        planned.ledger.begin_again(run.outlook.done.numbers)
    else:
        about = {"axes": json.dumps([axis.name for axis in planned.lattice.axes])}
        write_down(run.tasks, run.outlook, key, planned.ledger, about)


def any_traced(model: PlanModel, todo: TaskList) -> bool:
    """Whether the embedded tracer may be needed."""
    return not model.renderers or any(task.first.settings.renderer == "tracer" for task in todo[:200])


def default_workers(block: RunBlock) -> int:
    """What the plan says, or all processors but those it spares, one if it does not say."""
    if block.workers is not None:
        return block.workers
    spare = 1 if block.spare is None else block.spare
    return max(1, (os.cpu_count() or 1) - spare)


def review(
    planned: Planned, indices: Indices, size: tuple[int, int], pass_name: str | None = None
) -> list[Path]:
    """Write the contact sheets of what is rendered, or of one of its passes; returns their files."""
    own = planned.model.own_kinds
    if pass_name is not None and not is_pass(pass_name) and pass_name not in own:
        raise PlanError(f"There is no pass {pass_name}. {nearest(pass_name, [*own, *PASSES])}")
    title = planned.name.replace("-", " ").replace("_", " ")
    name = f"{planned.name}-sheet" + (f"-{pass_name}" if pass_name else "")
    chosen = tasks(planned, indices, None)
    return reviewing.contact_sheets(title, chosen, planned.output, name, size, pass_name, own)
