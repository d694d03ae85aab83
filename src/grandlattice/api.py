"""The public interface: plans, their cells, checks and runs.

The command line calls this and nothing else, so that whatever it does can be done from Python.
"""

from __future__ import annotations

import io
import multiprocessing
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from grandlattice.building import AxisBuilder, as_texts
from grandlattice.checks import Checked, Facilities, Finding, estimated_bytes, run_checks
from grandlattice.errors import (
    ImageError,
    LatticeError,
    OutputError,
    Place,
    PlanError,
    RunError,
)
from grandlattice.images import find_display
from grandlattice.plan import (
    Cell,
    CellMaker,
    Document,
    Lattice,
    PlanModel,
    Settings,
    build_lattice,
    cells_at,
    parse,
    planned_files,
    read_document,
    refuse_collisions,
    validate,
    yaml_writer,
)
from grandlattice.plan.validation import explained
from grandlattice.review import contact_sheets
from grandlattice.runs import (
    Event,
    Fingerprints,
    FolderStore,
    Ledger,
    Outlook,
    Run,
    Task,
    WorkOrder,
    carry_out,
    look_ahead,
    make_tasks,
    refuse_foreign,
)
from grandlattice.spawning import without_main_script
from grandlattice.stage import Scene, Survey, draft_plan, open_scene, scene_digest, survey_scene
from grandlattice.tracer import HOW_TO_INSTALL, can_denoise, warm_up
from grandlattice.tracer.kernel import is_compiled

ENDING = ".lattice.yaml"


def open_plan(file: str | Path) -> Plan:
    """Open a plan file.

    Raises
    ------
    PlanError
        When it is missing or cannot be understood, with its line and column.
    """
    document = read_document(Path(file))
    validate(document)
    return Plan(_document=document)


def survey(scene: str | Path) -> Survey:
    """What is in a USD scene.

    Raises
    ------
    SceneError
        When it is missing or no USD.
    """
    return survey_scene(open_scene(Path(scene)))


def begin(scene: str | Path, plan: str | Path | None = None) -> Path:
    """Write a first plan for a scene and return its path.

    Parameters
    ----------
    plan : where; ``SCENE.lattice.yaml`` beside the scene by default.

    Raises
    ------
    SceneError, PlanError
        When the scene cannot be used, or the plan file exists already.
    """
    scene = Path(scene)
    file = Path(plan) if plan is not None else scene.with_name(scene.stem + ENDING)
    text = draft_plan(survey(scene), file)
    try:
        with file.open("x", encoding="utf-8") as stream:
            stream.write(text)
    except FileExistsError:
        raise PlanError(
            f"{file.name} exists already and is left as it is.",
            place=Place(file),
            cure=f"glat cells {file.name} shows what it renders; --plan names another file",
        ) from None
    except OSError as problem:
        raise OutputError(f"{file} cannot be written: {problem.strerror}.") from problem
    return file


def prepare_tracer() -> None:
    """Compile the tracer for this machine, or load what was compiled before."""
    warm_up()


@contextmanager
def tracer_prepared_aside() -> Iterator[None]:
    """Prepare the tracer in another process while the body runs; waits for it on leaving."""
    if is_compiled():
        yield
        return
    process = multiprocessing.get_context("spawn").Process(target=prepare_tracer, daemon=True)
    with without_main_script():
        process.start()
    try:
        yield
    finally:
        process.join()


def tracer_is_prepared() -> bool:
    """Whether the tracer was compiled on this machine before."""
    return is_compiled()


def default_workers() -> int:
    """All processors but one, at least one."""
    return max(1, (os.cpu_count() or 1) - 1)


class Cells:
    """The cells of a plan in the order they run: by index, by address, or one after another."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan

    def __len__(self) -> int:
        return len(self._plan.lattice)

    def __iter__(self) -> Iterator[Cell]:
        return (self._plan._make(index) for index in range(len(self)))

    def __getitem__(self, key: int | str) -> Cell:
        """A cell by its index in the run, or by an address that means exactly one."""
        if isinstance(key, int):
            return self._plan._make(key if key >= 0 else len(self) + key)
        found = cells_at(self._plan.lattice, [key])
        if len(found) > 1:
            raise PlanError(f"{key} means {len(found)} cells; name one, or use at().")
        return self._plan._make(found[0])

    def at(self, *wanted: str) -> list[Cell]:
        """Cells by addresses (``noon//all/Wide``) and axes (``light=noon,evening``)."""
        return [self._plan._make(index) for index in cells_at(self._plan.lattice, wanted)]


class Plan:
    """A plan: opened with `open_plan`, or built here.

    Parameters
    ----------
    scene : the USD scene, relative to `folder`.
    folder : what file names of a built plan are relative to; the current folder by default.
    **keys : other keys of the plan file, such as ``defaults={"samples": 64}``.

    Examples
    --------
    >>> plan = Plan(scene="orrery.usda", defaults={"size": "640x360"})
    >>> _ = plan.axis("light").entry("noon").entry("dark", edits=[{"hide": "/Room/Lights/Sky"}])
    """

    def __init__(
        self, scene: str | None = None, *, folder: str | Path | None = None,
        _document: Document | None = None, **keys: Any,
    ) -> None:  # fmt: skip
        self._given = _document
        self._folder = Path(folder) if folder is not None else Path.cwd()
        self._data: dict[str, Any] = {"lattice": "1", "scene": scene, **keys}
        self._data.setdefault("axes", {})
        self.overrides = Settings()
        if _document is not None and _document.file is not None:
            self._folder = _document.file.resolve().parent

    # --- building and writing ------------------------------------------------------------------

    def axis(self, name: str) -> AxisBuilder:
        """An axis to add entries to; it is made when the plan has none of that name."""
        if self._given is not None:
            raise PlanError("This plan stands in a file; change it there.", place=Place(self.file))
        return AxisBuilder(self, name)

    def rule(self, **rule: Any) -> Plan:
        """Add a rule, such as ``drop={"light": "moon"}``."""
        self._data.setdefault("rules", []).append(rule)
        self._forget()
        return self

    @property
    def text(self) -> str:
        """The plan as it stands in its file, or would."""
        if self._given is not None:
            return self._given.text
        stream = io.StringIO()
        yaml_writer().dump(as_texts({k: v for k, v in self._data.items() if v not in ({}, None)}), stream)
        return stream.getvalue()

    def write(self, file: str | Path) -> Path:
        """Write the plan to a file that does not exist yet."""
        path = Path(file)
        with path.open("x", encoding="utf-8") as stream:
            stream.write(self.text)
        return path

    def _forget(self) -> None:
        for name in ("document", "model", "lattice", "_make", "cells"):
            self.__dict__.pop(name, None)

    # --- what it says --------------------------------------------------------------------------

    @cached_property
    def document(self) -> Document:
        return self._given if self._given is not None else parse(self.text)

    @cached_property
    def model(self) -> PlanModel:
        """The checked contents of the plan."""
        return validate(self.document)

    @property
    def file(self) -> Path | None:
        """The plan's file, None for one built in Python."""
        return self.document.file

    @property
    def folder(self) -> Path:
        """What file names of the plan are relative to."""
        return self._folder

    @property
    def name(self) -> str:
        """The plan's name, from its file."""
        if self.file is None:
            return Path(self.model.scene).stem
        return self.file.name.removesuffix(".yaml").removesuffix(".lattice")

    @cached_property
    def scene(self) -> Scene:
        """The scene, opened read-only."""
        try:
            return open_scene(self.folder / self.model.scene)
        except LatticeError as problem:
            if problem.place is None:
                problem.place = self.document.place(["scene"])
            raise

    @cached_property
    def lattice(self) -> Lattice:
        """The axes multiplied and the rules applied."""
        return build_lattice(self.model, self.document, self.scene.facts())

    @cached_property
    def _make(self) -> CellMaker:
        return CellMaker(self.model, self.document, self.lattice, self.scene.facts(), self.overrides)

    @cached_property
    def cells(self) -> Cells:
        """The cells in the order they run."""
        return Cells(self)

    def override(self, **settings: Any) -> Plan:
        """Settings that beat everything the plan says, for this object only.

        Raises
        ------
        PlanError
            For an unknown setting or a value it cannot have.
        """
        given = self.overrides.model_dump(exclude_unset=True)
        try:
            self.overrides = Settings.model_validate({**given, **settings})
        except ValidationError as problem:
            raise explained(problem.errors(include_url=False)[0], Document({}, "")) from None  # type: ignore[arg-type]
        for name in ("_make", "cells"):
            self.__dict__.pop(name, None)
        return self

    def files(self, cell: Cell) -> list[Path]:
        """Where the pictures of a cell will be, frame by frame, below the plan's folder."""
        return [self.folder / f.path for f in planned_files(cell, self.name, self.scene.file.stem)]

    # --- checking and running --------------------------------------------------------------------

    def check(
        self, at: Sequence[str] = (), *, into: str | Path | None = None, allow_missing: bool = False
    ) -> list[Finding]:
        """Everything that can be known to be wrong beforehand, errors first.

        Raises
        ------
        LatticeError
            When the plan cannot be read far enough to check it.
        """
        return run_checks(self._checked(at, into, allow_missing))

    def estimated_bytes(self, at: Sequence[str] = ()) -> int:
        """About how much room the files need."""
        return estimated_bytes(self._checked(at, None, False))

    def _checked(self, at: Sequence[str], into: str | Path | None, allow_missing: bool) -> Checked:
        cells = self.cells.at(*at) if at else list(self.cells)
        store = FolderStore(self._output(into))
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
        facilities = Facilities(can_denoise(), HOW_TO_INSTALL, wrong, store.free_bytes(), unwritable)
        return Checked(self.model, self.lattice, cells, self.scene, self.folder, facilities, allow_missing)

    def _output(self, into: str | Path | None) -> Path:
        return Path(into).resolve() if into is not None else self.folder

    def tasks(self, at: Sequence[str] = (), frames: Sequence[int] | None = None) -> list[Task]:
        """What a run carries out, in order.

        Raises
        ------
        OutputError
            When two pictures would have one file, or a name is impossible.
        """
        cells = self.cells.at(*at) if at else list(self.cells)
        scene = self.scene.file.stem
        refuse_collisions(cells, self.name, scene)
        prints = Fingerprints(self.model, scene_digest(self.scene), self.folder, can_denoise())
        tasks = make_tasks(cells, prints, self.name, scene, frames)
        if not tasks:
            raise RunError("None of these cells has one of these frames.")
        return tasks

    def outlook(
        self, at: Sequence[str] = (), *, frames: Sequence[int] | None = None,
        into: str | Path | None = None, fresh: bool = False,
    ) -> Run:  # fmt: skip
        """A run that has not begun: what it would do, and the files there are."""
        output = self._output(into)
        tasks = self.tasks(at, frames)
        ledger = Ledger(output / f"{self.name}.ledger.sqlite")
        outlook = look_ahead(tasks, ledger, FolderStore(output), fresh)
        return Run(output, ledger, outlook, tuple(tasks))

    def run(
        self, at: Sequence[str] = (), *, workers: int | None = None, threads: int | None = None,
        frames: Sequence[int] | None = None, into: str | Path | None = None, fresh: bool = False,
        allow_missing: bool = False, on_event: Callable[[Event], None] | None = None,
        on_outlook: Callable[[Outlook], None] | None = None,
    ) -> Run:  # fmt: skip
        """Render what is not done yet; blocks until it is done.

        Parameters
        ----------
        at : cells, see `Cells.at`; all by default.
        workers : processes; all processors but one by default, 0 for this process.
        threads : that trace, in each worker; by default one, and more where there are fewer tasks
            than workers.  They change no byte.
        frames : only these of each cell's frames.
        into : another output folder than the plan's own.
        fresh : do again what is done.
        allow_missing : render fallback colours where textures are missing.
        on_event : told what happens, see `grandlattice.runs.backends`.
        on_outlook : told what will be done before it begins.

        Raises
        ------
        LatticeError
            When the run cannot start.  Tasks that fail do not raise: see `Run.failures`.
        """
        run = self.outlook(at, frames=frames, into=into, fresh=fresh)
        refuse_foreign(run.outlook, fresh)
        FolderStore(run.output).refuse_unwritable()
        if on_outlook is not None:
            on_outlook(run.outlook)
        if run.outlook.todo:
            prepare_tracer()  # once, before several workers would each compile it
            count = default_workers() if workers is None else workers
            each = max(1, count // len(run.outlook.todo)) if threads is None else threads
            order = WorkOrder(
                self.model, self.folder, self.scene.file.resolve(), run.output, self.name, each,
                allow_missing,
            )  # fmt: skip
            carry_out(run, order, count, on_event)
        return run

    def review(
        self, at: Sequence[str] = (), *, into: str | Path | None = None,
        size: tuple[int, int] = (1280, 800),
    ) -> list[Path]:  # fmt: skip
        """Write the contact sheets of what is rendered; returns their files."""
        title = self.name.replace("-", " ").replace("_", " ")
        return contact_sheets(title, self.tasks(at), self._output(into), f"{self.name}-sheet", size)


def find_plan(folder: Path) -> Path:
    """The only plan in a folder.

    Raises
    ------
    PlanError
        When there is none, or more than one.
    """
    plans = sorted(folder.glob(f"*{ENDING}"))
    if len(plans) == 1:
        return plans[0]
    if not plans:
        raise PlanError("There is no plan here.", cure="name one, or write one with glat begin SCENE.usda")
    raise PlanError(
        f"There are {len(plans)} plans here: {', '.join(p.name for p in plans[:5])}.",
        cure="name the one you mean",
    )
