"""Several plans in one run: steps, in the order of their priority and then as queued.

A queue is a file, `NAME.queue.yaml`::

    plans:
      - hall.lattice.yaml
      - plan: garden.lattice.yaml
        at: light=noon
        priority: 2

or a list of plans given at once.  Every command takes a queue where it takes a plan.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import numpy as np
from pydantic import BeforeValidator, Field, ValidationError

from grandlattice.api.opening import ENDING, QUEUE_ENDING, open_plan
from grandlattice.api.plan_object import Plan
from grandlattice.errors import NoSuchCell, OutputError, PlanError
from grandlattice.plan import Totals, read_document
from grandlattice.plan.file_names import folded
from grandlattice.plan.run_block import Notice
from grandlattice.plan.validation import explained
from grandlattice.plan.value_types import Strict, Text, Texts

if TYPE_CHECKING:
    from grandlattice.page import PageFiles
    from grandlattice.runs import Run


class QueuedPlan(Strict):
    """A plan of a queue."""

    plan: Text = Field(description="a plan file, relative to the queue")
    at: Texts = Field(default_factory=list, description="only these cells")
    sets: Texts = Field(default_factory=list, description="only cells of these sets")
    priority: int = Field(0, ge=-1000, le=1000, description="higher ones run first")


def _as_plan(value: Any) -> Any:
    return value if isinstance(value, dict | QueuedPlan) else {"plan": value}


class QueueModel(Strict):
    """A whole queue."""

    lattice: Text = Field("1", description="version of the format: 1")
    plans: list[Annotated[QueuedPlan, BeforeValidator(_as_plan)]] = Field(
        min_length=1, description="the plans, in order"
    )
    notices: list[Notice] = Field(default_factory=list, description="who is told of the whole queue")
    after: Texts = Field(default_factory=list, description="a command for glat run --and-then, as a list")


@dataclass(frozen=True)
class Step:
    """One plan of a queue, and which of its cells."""

    plan: Plan
    at: tuple[str, ...] = ()
    sets: tuple[str, ...] = ()
    priority: int = 0


class Forecast(NamedTuple):
    """Seconds of those plans of a queue of which something is known, and the names of the others."""

    seconds: float
    unknown: tuple[str, ...]


class Queue:
    """Plans that are carried out one after the other.

    Parameters
    ----------
    steps : in the order queued; those of higher priority go first, equals as queued.
    name : of its file.
    notices : who is told of the failure and the end of the whole; each plan tells of its own run besides.
    after : a command for when all is over; without one that of the last plan that names one.
    """

    def __init__(
        self, steps: Sequence[Step], name: str = "queue", notices: Sequence[Notice] = (),
        after: Sequence[str] = (),
    ) -> None:  # fmt: skip
        self.steps = tuple(sorted(steps, key=lambda step: -step.priority))
        self.name, self.notices, self._after = name, tuple(notices), tuple(after)

    def after(self, **conduct: Any) -> list[str]:
        """The command for when all is over; empty where neither the queue nor the caller names one.

        Parameters
        ----------
        **conduct : keys of ``run:``, see `Plan.run`.
        """
        each = (step.plan.conducted(**conduct).after for step in reversed(self.steps))
        return list(self._after) or next(filter(None, each), [])

    def tell(self, runs: Sequence[Run], *, all_began: bool = True) -> list[str]:
        """Send the queue's own notices once its runs are over; what could not be sent.

        Parameters
        ----------
        all_began : whether every plan could begin.
        """
        from grandlattice.runs.notifications import tell_of_queue

        return tell_of_queue(self.notices, self.name, runs, all_began) if self.notices else []

    def forecast(self, workers: int | None = None, **conduct: Any) -> Forecast:
        """How long all of it will take, from what this machine has rendered of its plans.

        Parameters
        ----------
        workers : as `Plan.run` takes them.
        **conduct : other options of `Plan.outlook`: `frames`, `into`, `fresh`.
        """
        known, unknown = [], []
        for step in self.steps:
            seconds = step.plan.forecast(at=step.at, sets=step.sets, workers=workers, **conduct)
            known += [seconds] if seconds is not None else []
            unknown += [] if seconds is not None else [step.plan.name]
        return Forecast(sum(known), tuple(unknown))

    def page(self, *, into: str | Path | None = None, most_bytes: float = 2e9) -> PageFiles:
        """Write one page of all plans, which are an axis of it; see `Plan.page`.

        Raises
        ------
        RunError
            When there is no picture yet.
        OutputError
            When files of others are in the way.
        """
        from grandlattice.api import page_making

        shown = [
            (step.plan, step.plan.explained, step.plan.cells.indices(*step.at, sets=step.sets))
            for step in self.steps
        ]
        folder = None if into is None else Path(into)
        return page_making.write_several(shown, self.name, folder, most_bytes)

    def __len__(self) -> int:
        return len(self.steps)

    def __iter__(self) -> Iterator[Step]:
        return iter(self.steps)

    def narrowed(self, at: Sequence[str] = (), sets: Sequence[str] = ()) -> Queue:
        """The same steps with only these of their cells, see `Cells.at`.

        Raises
        ------
        NoSuchCell
            When a step has none of them, with the name of its plan.
        """
        if not (at or sets):
            return self
        steps = []
        for step in self.steps:
            try:
                asked = step.plan.cells.indices(*at, sets=sets)
                if step.at or step.sets:  # only what both mean
                    own = step.plan.cells.indices(*step.at, sets=step.sets)
                    both = [step.plan.cells[int(index)].address for index in np.intersect1d(own, asked)]
                    if not both:
                        raise NoSuchCell(f"None of its cells here is meant by {' '.join([*at, *sets])}.")
                    steps.append(replace(step, at=tuple(both), sets=()))
                else:
                    steps.append(replace(step, at=tuple(at), sets=tuple(sets)))
            except NoSuchCell as problem:
                if len(self.steps) > 1:
                    problem.what = f"{step.plan.name}: {problem.what}"
                raise
        return Queue(steps, self.name, self.notices, self._after)

    def override(self, *, edits: Sequence[Mapping[str, Any]] = (), **settings: Any) -> Queue:
        """The same steps with settings and edits that beat all their plans say, see `Plan.override`."""
        steps = [replace(step, plan=step.plan.override(edits=edits, **settings)) for step in self.steps]
        return Queue(steps, self.name, self.notices, self._after)

    def refuse_collisions(self) -> None:
        """Refuse plans that would write one file between them.

        Raises
        ------
        OutputError
            Naming both plans and the file.
        """
        hashed = [
            step.plan.filing(at=step.at, sets=step.sets).hashes(os.path.abspath(step.plan.folder))
            for step in (self.steps if len(self.steps) > 1 else ())
        ]
        for (a, one), (b, other) in itertools.combinations(enumerate(hashed), 2):
            same_plan = self.steps[a].plan.file == self.steps[b].plan.file
            if not same_plan and len(np.intersect1d(one, other)):
                _refuse_common(self.steps[a], self.steps[b])

    def totals(self) -> Totals:
        """Cells, frames, files and bytes of all steps together."""
        each = [step.plan.totals(at=step.at, sets=step.sets) for step in self.steps]
        return Totals(
            sum(t.cells for t in each), sum(t.frames for t in each), sum(t.files for t in each),
            sum(t.bytes for t in each),
        )  # fmt: skip

    def run(self, on_step: Callable[[Step], None] | None = None, **options: Any) -> list[Run]:
        """Run all steps; the rest is left where one is interrupted.

        Parameters
        ----------
        on_step : told before each.
        **options : of `Plan.run`.

        Raises
        ------
        OutputError
            When two plans would write one file; nothing is rendered then.
        """
        self.refuse_collisions()
        done: list[Run] = []
        steps = list(self.steps)
        for step in steps:  # it grows while others add to it
            if on_step is not None:
                on_step(step)
            done.append(step.plan.run(at=step.at, sets=step.sets, **options))
            if done[-1].interrupted:
                break
            steps += added_to(done[-1])
        self.tell(done)
        return done


def added_to(run: Run) -> list[Step]:
    """The plans that were added while a run was under way, to come after it.

    Raises
    ------
    PlanError
        When one of them is missing or cannot be understood.
    """
    return [step for plan in run.wanted_next for step in open_queue(plan)]


def _refuse_common(one: Step, other: Step) -> None:
    """Compare the names of two steps' files letter by letter."""
    taken = {
        folded(os.path.abspath(file))
        for cell in one.plan.cells.at(*one.at, sets=one.sets)
        for file in one.plan.files(cell)
    }
    for cell in other.plan.cells.at(*other.at, sets=other.sets):
        for file in other.plan.files(cell):
            if folded(os.path.abspath(file)) in taken:
                raise OutputError(
                    f"The plans {one.plan.name} and {other.plan.name} would both write {file.name}.",
                    place=cell.origins.get("output"),
                    cure="put {plan} into the output template of both",
                )


def open_queue(*files: str | Path) -> Queue:
    """Plans and queues as one queue.

    Raises
    ------
    PlanError
        When one of them is missing or cannot be understood, or a plan stands in it twice.
    """
    steps: list[Step] = []
    names: list[str] = []
    notices: list[Notice] = []
    after: list[str] = []
    for file in files:
        path = Path(file)
        if not path.name.endswith(QUEUE_ENDING):
            steps.append(Step(open_plan(path)))
            continue
        model, found = _read(path)
        steps += found
        names.append(path.name.removesuffix(QUEUE_ENDING))
        notices += model.notices
        after = model.after or after
    known: set[object] = set()
    for step in steps:
        key = (step.plan.file and step.plan.file.resolve(), step.at, step.sets)
        if key in known:
            raise PlanError(
                f"{step.plan.name} stands in the queue twice.", place=None, cure="remove one of them"
            )
        known.add(key)
    return Queue(steps, " and ".join(names) or "queue", notices, after)


def _read(file: Path) -> tuple[QueueModel, list[Step]]:
    document = read_document(file)
    try:
        model = QueueModel.model_validate(dict(document.data))
    except ValidationError as problem:
        errors = problem.errors(include_url=False)
        raise explained(errors[0], document, len(errors) - 1) from None
    steps = []
    for k, queued in enumerate(model.plans):
        path = file.parent / queued.plan
        if not path.name.endswith(ENDING) or not path.is_file():
            raise PlanError(f"There is no plan {queued.plan}.", place=document.place(["plans", k]),
                            cure="the path is relative to the queue")  # fmt: skip
        steps.append(Step(open_plan(path), tuple(queued.at), tuple(queued.sets), queued.priority))
    return model, steps


def find_queue(folder: Path) -> Path:
    """The only plan or queue in a folder; a single queue goes before the plans it names.

    Raises
    ------
    PlanError
        When there is none, or more than one.
    """
    queues, plans = sorted(folder.glob(f"*{QUEUE_ENDING}")), sorted(folder.glob(f"*{ENDING}"))
    if len(queues) == 1:
        return queues[0]
    found = [*queues, *plans]
    if len(found) == 1:
        return found[0]
    if not found:
        raise PlanError("There is no plan here.", cure="name one, or write one with glat begin SCENE.usda")
    names = ", ".join(path.name for path in found[:5])
    what = "plans and queues" if queues else "plans"
    raise PlanError(f"There are {len(found)} {what} here: {names}.", cure="name the one you mean")
