"""A plan on this machine: planning its tasks, carrying them out, showing them.

`Plan` hands over what it knows as a `Planned` and calls these functions and those of `checking`;
they alone bring in tracer, image libraries and workers, which take a second to load.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import platform
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import cast

import numpy as np
import psutil

from grandlattice import review as reviewing
from grandlattice._support.processes import helper_is_quiet, signals_held, without_main_script
from grandlattice.api.call_options import RunKeys, RunOptions
from grandlattice.api.looking_ahead import only_finished, only_unfinished, outlook, tasks
from grandlattice.api.planned import Indices, Planned
from grandlattice.checks import landing
from grandlattice.errors import LedgerLost, PlanError, nearest
from grandlattice.plan import (
    PlanModel,
)
from grandlattice.plan.run_block import RunBlock
from grandlattice.runs import (
    Coordinator,
    Estimate,
    Event,
    Ledger,
    Outlook,
    Patience,
    Run,
    Spending,
    TaskList,
    WorkOrder,
    estimate,
    sole_writer,
)
from grandlattice.runs.backends import BackendRequest, backend_maker
from grandlattice.runs.fingerprints import Composing
from grandlattice.runs.foreseen import foresee
from grandlattice.runs.kept_pictures import new_folder
from grandlattice.runs.kept_shares import KeptShares
from grandlattice.runs.memory_room import Room, WorkerRoom
from grandlattice.runs.notifications import Teller
from grandlattice.runs.remaining import (
    refuse_what_stands_there,
    write_down,
)
from grandlattice.runs.status import note_run
from grandlattice.runs.tasks import Frames
from grandlattice.runs.worker import end_with_children
from grandlattice.stage import scene_files
from grandlattice.tables.passes import PASSES, is_pass
from grandlattice.tracer import chosen_compiler, compiler_failure, is_compiled, warm_up

_TRIES_TO_NOTE = 5  # where a ledger is lost in the moment a run begins
_LOOKED_AT = 60  # frames that stand for all
_WORTH_A_PROBE = 5e6  # pixels × samples; some seconds of one processor
_FOR_SLOTS = 15.0  # seconds a run waits for slots of a cluster, to be measured before it begins
_FOR_THE_LEDGER = 120.0  # seconds a run waits to begin while another program holds its ledger


class Preparation:
    """The tracer being compiled for this machine, unless that was done before; in a process of its own,
    so that a process that only coordinates holds no kernel."""

    def __init__(self) -> None:
        self._process = None
        if not is_compiled():
            self._process = multiprocessing.get_context("spawn").Process(target=warm_up, daemon=True)
            with without_main_script(), signals_held(), helper_is_quiet():
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


@dataclass(frozen=True)
class RunCall:
    """How a run was asked for, besides its cells and the keys of ``run:``; see `RunOptions`."""

    workers: int | None = None
    threads: int | None = None
    frames: Frames = None
    fresh: bool = False
    allow_missing: bool = False
    further: bool = False
    trust_network: bool = False
    on_event: Callable[[Event], None] | None = None
    on_composing: Composing | None = None
    on_outlook: Callable[[Outlook], None] | None = None
    on_estimate: Callable[[Estimate], None] | None = None
    on_begin: Callable[[Callable[[], None]], None] | None = None


def divided(options: RunOptions) -> tuple[RunCall, RunKeys]:
    """Options of a run as its call, and keys of ``run:``."""
    own = {each.name for each in fields(RunCall)}
    call = RunCall(**{key: value for key, value in options.items() if key in own})  # type: ignore[arg-type]
    keys = {key: value for key, value in options.items() if key not in own}
    if call.fresh:
        keys["existing"] = "replace"
    return call, cast(RunKeys, keys)


def run(
    planned: Planned, indices: Indices, block: RunBlock, call: RunCall, *, finishing: bool = False
) -> Run:  # fmt: skip
    """Render what is not done yet; see `Plan.run`, and `Plan.finish`."""
    make_backend = backend_maker(block.on, call.trust_network)  # refused before anything is done
    planned.store.refuse_unwritable()
    where = planned.landing(indices)
    landing.refuse_sources(where)
    landing.refuse_links(where)
    with sole_writer(planned.ledger):
        planned.ledger.wait_at_most(_FOR_THE_LEDGER)
        aside, begun = _looked_ahead(planned, indices, call.frames, block.existing, call.on_composing)
        if call.further:
            begun.outlook = only_unfinished(begun)
        begun.ledger_aside = aside
        refuse_what_stands_there(begun.outlook, block.existing)
        kept = KeptShares(planned.store, planned.name)
        seen = foresee(
            begun.outlook.todo, begun.outlook.begun, planned.ingredients.fingerprints, kept,
            reuse=not call.fresh,
        )  # fmt: skip
        begun.outlook = replace(begun.outlook, foreseen=seen)
        if finishing:
            whole = begun.outlook.todo.frame_count
            begun.outlook = only_finished(begun.outlook, seen.finished)
            begun.untraced = whole - begun.outlook.todo.frame_count
        if call.on_outlook is not None:
            call.on_outlook(begun.outlook)
        todo = begun.outlook.todo
        if not todo:
            if planned.ledger.planned_key() == planned.key(indices, call.frames):
                # What a killed run had made and not written down is done, whatever the ledger said.
                planned.ledger.begin_again(begun.outlook.done.members)
            planned.ledger.close()
            return begun
        if any_traced(planned.model, todo):
            failed_before = compiler_failure()
            prepare_tracer()  # once, before several workers would each compile it
            begun.compiler = chosen_compiler()
            failed = compiler_failure()
            if failed and not failed_before:  # said once on a machine
                begun.notes.append(
                    f"The tracer was compiled in the plain way, which takes minutes once: {failed}"
                )
        planned.versions.remember()  # of the cells whose names speak of them
        _note_whatever_happens(planned, begun, planned.key(indices, call.frames))
        count = default_workers(block) if call.workers is None else call.workers
        each = call.threads or block.threads or max(1, count // len(todo))
        order = _order(planned, each, call.allow_missing, block, begun.owner)
        order = replace(
            order, further=call.further, reuse=not call.fresh, compiler=begun.compiler
        )  # fmt: skip
        # Workers measure the cost, and have the scene at hand then.
        asked = block.workers if call.workers is None else call.workers
        request = BackendRequest(
            order, min(count, len(todo)), block.gentle, block.on, asked, call.trust_network
        )  # fmt: skip
        note_run(planned.ledger)
        patience = Patience(
            block.retries, stalled=block.stalled, limit=block.limit, memory=block.memory, room=block.room
        )
        told = Teller(block.notices, begun, planned.name, call.on_event)
        try:
            with closing(make_backend(request)) as backend:
                if backend.abilities.several_hosts:
                    count = backend.await_seats(_FOR_SLOTS)
                # A run of some seconds is not worth a probe.
                worth_it = todo.work > _WORTH_A_PROBE and not order.model.renderers
                probing = backend.probe if worth_it else None
                begun.estimate = estimate(
                    begun.outlook.traced, count, order.threads, planned.ledger, probing, further=call.further
                )
                if begun.estimate is not None and call.on_estimate is not None:
                    call.on_estimate(begun.estimate)
                coordinator = Coordinator(
                    begun, backend, patience, Spending(block.budget),
                    lambda: note_tasks(planned, begun, planned.key(indices, call.frames)), told, order.keep,
                    order.keep_most,
                )  # fmt: skip
                if call.on_begin is not None:
                    call.on_begin(lambda: coordinator.stop_now("stopped"))
                coordinator.carry_out(count)
        finally:
            told.end()
        begun.notes += told.problems
        planned.ledger.close()  # all of it is in its file then
    return begun


def forecast(begun: Run, workers: int) -> float | None:
    """Seconds that what is left of a run will take; None where nothing is known of it."""
    if not begun.outlook.todo:
        return 0.0
    found = estimate(begun.outlook.todo, workers, 1, begun.ledger, None)
    return None if found is None else found.seconds


def worker_room(planned: Planned, indices: Indices) -> WorkerRoom:
    """How many workers fit into the memory that is free, for some of the cells spread over all."""
    listed = tasks(planned, indices, "first")
    chosen = np.unique(np.linspace(0, len(listed) - 1, min(_LOOKED_AT, len(listed))).astype(int))
    room = Room(planned.ledger.peaks(platform.node()))
    return room.for_workers([listed[int(k)] for k in chosen])


def _looked_ahead(
    planned: Planned, indices: Indices, frames: Frames, existing: str, composing: Composing | None
) -> tuple[Path | None, Run]:
    """Where a ledger went that could not be read, also one that was lost meanwhile; and the run to be."""
    aside = planned.ledger.heal()
    for k in range(_TRIES_TO_NOTE):
        try:
            return aside, outlook(planned, indices, frames, existing, composing)
        except LedgerLost:
            aside = _put_right(planned.ledger, again=k > 0) or aside
    return aside, outlook(planned, indices, frames, existing, composing)


def _put_right(ledger: Ledger, *, again: bool) -> Path | None:
    """Set a ledger aside that cannot be read, or `again` could not be used although it can; where it went."""
    aside = ledger.heal(thoroughly=True)
    if aside is None and again and ledger.file.exists():
        aside = ledger.set_aside()
    return aside


def _note_whatever_happens(planned: Planned, begun: Run, key: str) -> None:
    """Have the ledger know whose pictures come and which tasks; one that is lost meanwhile is begun anew.

    Raises
    ------
    LatticeError
        When it cannot be written.
    """
    ledger = planned.ledger
    for k in range(_TRIES_TO_NOTE):
        try:
            begun.owner = begun.owner or ledger.id
            note_tasks(planned, begun, key)
            return
        except LedgerLost:
            begun.ledger_aside = _put_right(ledger, again=k > 0) or begun.ledger_aside
            if begun.owner:
                with suppress(LedgerLost):
                    ledger.take_id(begun.owner)
    note_tasks(planned, begun, key)


def _order(
    planned: Planned, threads: int, allow_missing: bool, block: RunBlock, owner: str
) -> WorkOrder:  # fmt: skip
    keep = new_folder(planned.store, planned.name) if block.keeps_replaced else None
    most = block.keep_earlier if block.existing != "keep-both" and keep is not None else None
    files = tuple(
        (path, found.st_size, found.st_mtime_ns)
        for path in scene_files(planned.scene)
        for found in (path.stat(),)
    )
    return WorkOrder(
        planned.model, planned.folder, planned.scene.file.resolve(), planned.output, planned.name, threads,
        allow_missing, planned.fixed, owner, keep=keep, keep_most=most, scene_files=files,
        sources=planned.sources,
    )  # fmt: skip


def note_tasks(planned: Planned, run: Run, key: str) -> None:
    """Have the ledger know the tasks of a run, and which of them wait."""
    if planned.ledger.planned_key() == key:
        planned.ledger.begin_again(run.outlook.done.members)
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
    planned: Planned, indices: Indices, size: tuple[int, int], pass_name: str | None = None,
    frames: Frames = None, above: float | None = None,
) -> list[Path]:  # fmt: skip
    """Write the contact sheets of what is rendered, or of one of its passes; returns their files.

    Parameters
    ----------
    frames : these of each cell, side by side; its first by default.
    above : see `contact_sheets`.
    """
    own = planned.model.own_kinds
    if pass_name is not None and not is_pass(pass_name) and pass_name not in own:
        raise PlanError(f"There is no pass {pass_name}. {nearest(pass_name, [*own, *PASSES])}")
    title = planned.name.replace("-", " ").replace("_", " ")
    name = f"{planned.name}-sheet" + (f"-{pass_name}" if pass_name else "")
    chosen = tasks(planned, indices, frames)
    shown = reviewing.SheetContents(size, pass_name, frames is not None, above)
    return reviewing.contact_sheets(title, chosen, planned.output, name, shown, own)
