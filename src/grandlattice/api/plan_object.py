"""A plan as an object: its contents, its cells, and what can be done with them."""

from __future__ import annotations

import copy
import io
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import BaseModel, ValidationError

from grandlattice._support.filesystem import links_among
from grandlattice.api import cell_tables
from grandlattice.api.axis_builder import AxisBuilder, as_texts
from grandlattice.api.cell_view import Cells
from grandlattice.errors import LatticeError, OutputError, Place, PlanError
from grandlattice.plan import (
    Cell,
    CellMaker,
    Document,
    FileNames,
    Filing,
    Lattice,
    PlanModel,
    SceneFacts,
    Settings,
    Stamp,
    Totals,
    build_lattice,
    parse,
    planned_files,
    validate,
    with_included,
    yaml_writer,
)
from grandlattice.plan.validation import explained
from grandlattice.stage import Explainer, Explanation, Scene, explain_settings, export_cell, open_scene

if TYPE_CHECKING:
    import pandas

    from grandlattice.api.planned import Planned
    from grandlattice.checks import Finding
    from grandlattice.plan.run_block import RunBlock
    from grandlattice.runs import Estimate, Event, Outlook, Run, Steering, Task
    from grandlattice.runs.memory_room import WorkerRoom
    from grandlattice.runs.tasks import Frames


PROOF = {"scale": "25%", "samples": 6, "bounces": 4, "clamp": 1.0, "denoise": True}
"""What a proof is where a plan has no quality of that name."""


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
        self._file: Path | None = None
        self._text: str | None = None
        self._read = ""
        self._folder = Path(folder) if folder is not None else Path.cwd()
        self.overrides = Settings()
        if _document is not None:
            self._data, self._text = _document.data, _document.text
            self._read = _document.text
            self.document = _document
            self._file = _document.file
            if _document.file is not None:
                self._folder = _document.file.resolve().parent
        else:
            given = {"lattice": "1", "scene": scene, **keys}
            self._data = as_texts({k: v for k, v in given.items() if v not in ({}, None)})

    def __repr__(self) -> str:
        axes = ", ".join(str(name) for name in self._data.get("axes") or ())
        over = "".join(f", {key}={value}" for key, value in self._given().items())
        return f"<Plan {self.file.name if self.file else 'of ' + str(self._data.get('scene'))}: {axes}{over}>"

    # --- building and writing ------------------------------------------------------------------

    def axis(self, name: str) -> AxisBuilder:
        """An axis to add entries to; it is made when the plan has none of that name."""
        return AxisBuilder(name, self._data.get("axes"), lambda axes: self.change("axes", lambda _: axes))

    def rule(self, **rule: Any) -> Plan:
        """Add a rule, such as ``drop={"light": "moon"}``."""
        return self.change("rules", lambda rules: [*(rules or []), rule])

    def change(self, key: str, to: Any) -> Plan:
        """Change a key of the plan, in this object; `write` puts it into a file.

        Parameters
        ----------
        to : the new value, or a function of the value that stands; comments beside what is left
            alone stay.
        """
        value = to(self._data.get(key)) if callable(to) else to
        self._data[key] = as_texts(value)
        self._text = None
        for name in (
            "document",
            "model",
            "facts",
            "lattice",
            "_make",
            "cells",
            "names",
            "_stamp",
            "_explainer",
            "scene",
        ):
            self.__dict__.pop(name, None)
        return self

    @property
    def text(self) -> str:
        """The plan as it stands in its file, or would: comments and order as they were."""
        if self._text is None:
            stream = io.StringIO()
            yaml_writer(self._read).dump(self._data, stream)
            self._text = stream.getvalue()
        return self._text

    def write(self, file: str | Path, *, over: bool = False) -> Path:
        """Write the plan to a file; one that exists is left alone unless `over` is given."""
        path = Path(file)
        if not over:
            with path.open("x", encoding="utf-8") as stream:
                stream.write(self.text)
            return path
        part = path.with_name(f".{path.name}.part")
        part.write_text(self.text, encoding="utf-8")
        os.replace(part, path)
        return path

    # --- contents -------------------------------------------------------------------------------

    @cached_property
    def document(self) -> Document:
        return with_included(parse(self.text, self._file))

    @cached_property
    def model(self) -> PlanModel:
        """The checked contents of the plan."""
        return validate(self.document)

    @property
    def file(self) -> Path | None:
        """The plan's file, None for one built in Python."""
        return self._file

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
        return build_lattice(self.model, self.document, self.facts)

    @cached_property
    def facts(self) -> SceneFacts:
        """What the scene says that planning needs to know."""
        return self.scene.facts(self.model.select, self.folder)

    @cached_property
    def _make(self) -> CellMaker:
        return CellMaker(self.lattice, self.facts, self.overrides)

    @property
    def meters(self) -> bool:
        """Whether exposures are metered anywhere: small pictures are traced for them, once."""
        return self._make.meters

    @cached_property
    def cells(self) -> Cells:
        """The cells in the order they run."""
        return Cells(self.name, self.lattice, self._make)

    def override(self, **settings: Any) -> Plan:
        """The same plan with settings that beat everything it says; this one stays as it is.

        Raises
        ------
        PlanError
            For an unknown setting or a value it cannot have.
        """
        other = copy.copy(self)
        other._data = copy.deepcopy(self._data)  # either may be changed further
        try:
            other.overrides = Settings.model_validate({**self._given(), **settings})
        except ValidationError as problem:
            raise _said_wrongly(problem, "this call (--set, or override)") from None
        for name in ("_make", "cells", "_stamp", "names"):
            other.__dict__.pop(name, None)
        return other

    def _given(self) -> dict[str, Any]:
        """The settings laid over the plan so far."""
        return _given(self.overrides)

    def _planned(self, into: str | Path | None = None) -> Planned:
        """What the rooms that meet the machine need to know of this plan."""
        from grandlattice.api.planned import Planned

        output = Path(into).absolute() if into is not None else self.folder
        planned = Planned(
            self.name, self.folder, output, self.scene, self.model, self.lattice, self._make, self.facts
        )
        if not self.meters:
            return planned
        from grandlattice.api.metering import Meter

        return replace(planned, make=self._make.with_meter(Meter(planned)))

    @cached_property
    def names(self) -> FileNames:
        """What templates may say besides the cell, for the plan's own output folder."""
        return FileNames(self.name, self.scene.file.stem, self.model.words, lambda cell: self._stamp(cell))

    @cached_property
    def _stamp(self) -> Callable[[Cell], Stamp]:
        return self._planned().stamp

    def folders(self, into: str | Path | None = None) -> list[tuple[Path, Path | None]]:
        """Folders the pictures go to, and where each leads if a link stands on the way; else None.

        Parameters
        ----------
        into : another output folder than the plan's own.
        """
        output = Path(into).absolute() if into is not None else self.folder
        tops = sorted({top for top, _ in self.filing().reach()})
        links = links_among(output, tops)
        return [
            (folder, folder.resolve() if any(folder.is_relative_to(link) for link in links) else None)
            for folder in (output / top for top in tops)
        ]

    def shows_beauty_only(self, cell: Cell) -> list[str]:
        """Formats of a cell whose files show the beauty while another format holds its other passes."""
        kinds: dict[str, set[tuple[str, ...]]] = {}
        for file in planned_files(cell, self.names, cell.settings.frames[:1]):
            kinds.setdefault(file.format, set()).add(file.passes)
        return [ext for ext, held in kinds.items() if held == {("beauty",)} and len(cell.settings.passes) > 1]

    def files(self, cell: Cell) -> list[Path]:
        """Where the pictures of a cell will be, frame by frame, below the plan's folder."""
        return [self.folder / f.path for f in planned_files(cell, self.names)]

    def totals(self, at: Sequence[str] = (), sets: Sequence[str] = ()) -> Totals:
        """Cells, frames, files and about how many bytes they need."""
        return self.filing(at, sets).totals()

    def filing(self, at: Sequence[str] = (), sets: Sequence[str] = ()) -> Filing:
        """The files of cells at once: how many, and whether two have one name."""
        indices = self.cells.indices(*at, sets=sets) if at or sets else None
        return Filing(self.lattice, self._make, self.facts, self.names, indices)

    def shared(self, at: Sequence[str] = (), sets: Sequence[str] = ()) -> int:
        """How many cells differ from another in exposure, display, format or name alone, so that
        one trace serves both."""
        return cell_tables.shared(self.cells.at(*at, sets=sets))

    def table(self, at: Sequence[str] = (), sets: Sequence[str] = ()) -> pandas.DataFrame:
        """A row for each cell in running order: its entries, size, frames, passes, first file."""
        return cell_tables.table(self.cells.at(*at, sets=sets), self.names)

    def combinations(self, down: str, across: str) -> pandas.DataFrame:
        """How many cells of the run each entry of one axis has with each of another.

        Returns
        -------
        Counts: a row for each entry of `down`, a column for each of `across`.

        Raises
        ------
        PlanError
            When there is no such axis.
        """
        return cell_tables.combinations(self.lattice, down, across)

    # --- one cell ------------------------------------------------------------------------------

    def explain(self, cell: str | Cell, against: str | Cell | None = None) -> Explanation:
        """Every value a cell changes, and which line of the plan or layer of the scene set it.

        Parameters
        ----------
        against : another cell; only what differs between the two is told then.
        """
        chosen = self._cell(cell)
        if chosen.settings.metered is not None:
            chosen = self._planned().make(chosen.index)
        whole = replace(self._explainer.explain(chosen), settings=explain_settings(self._make, chosen))
        return whole if against is None else whole.against(self.explain(against))

    @cached_property
    def _explainer(self) -> Explainer:
        return Explainer(self.scene, self.model, self.folder)

    def export(self, cell: str | Cell, file: str | Path, *, over: bool = False) -> Path:
        """Write a cell as one USD layer over the scene: its edits, and UsdRender settings.

        Raises
        ------
        OutputError
            When the file exists, and `over` is not given, or cannot be written.
        """
        path = Path(file)
        if path.exists() and not over:
            raise OutputError(
                f"{path.name} exists already and is left as it is.", cure="name another file with --file"
            )
        chosen = self._cell(cell)
        products = [(f.path, f.frame, f.format, f.passes) for f in planned_files(chosen, self.names)]
        return export_cell(self.scene, self.model, self.folder, chosen, products, path)

    def _cell(self, cell: str | Cell) -> Cell:
        return cell if isinstance(cell, Cell) else self.cells[cell]

    # --- checking and running --------------------------------------------------------------------

    def check(
        self, at: Sequence[str] = (), *, sets: Sequence[str] = (), into: str | Path | None = None,
        allow_missing: bool = False, look: bool = False, existing: str | None = None,
        thoroughly: bool = False,
    ) -> list[Finding]:  # fmt: skip
        """Everything that can be known to be wrong beforehand, errors first.

        Parameters
        ----------
        at, sets : cells, see `Cells.at`; all by default.
        into : another output folder than the plan's own.
        look : trace a picture of some 64 pixels' width of each different cell too, to find those
            that are black or burnt out.
        existing : what becomes of files that are there, over what the plan says; see `run`.
        thoroughly : read all of every image, not its header and its end alone.

        Raises
        ------
        LatticeError
            When the plan cannot be read far enough to check it.
        """
        from grandlattice.api import checking

        indices = self.cells.indices(*at, sets=sets)
        return checking.check(
            self._planned(into), indices, self.conducted(existing=existing).existing,
            allow_missing=allow_missing, look=look, thoroughly=thoroughly,
        )  # fmt: skip

    def shows_something(self, cell: int) -> bool:
        """Whether a small look at a cell is neither black nor burnt out, at the exposure it has unmetered."""
        from grandlattice.api import checking

        return checking.can_be_seen(self._planned(), cell)

    def tasks(
        self, at: Sequence[str] = (), frames: Frames = None, *, sets: Sequence[str] = (),
        into: str | Path | None = None,
    ) -> Sequence[Task]:  # fmt: skip
        """What a run carries out, in order; each is made when it is asked for.

        Raises
        ------
        OutputError
            When two pictures would have one file, or a name is impossible.
        """
        from grandlattice.api import orchestration

        return orchestration.tasks(self._planned(into), self.cells.indices(*at, sets=sets), frames)

    def outlook(
        self, at: Sequence[str] = (), *, sets: Sequence[str] = (), frames: Frames = None,
        into: str | Path | None = None, fresh: bool = False,
    ) -> Run:  # fmt: skip
        """A run that has not begun: what it would do, and the files there are."""
        from grandlattice.api import orchestration

        indices = self.cells.indices(*at, sets=sets)
        return orchestration.outlook(self._planned(into), indices, frames, "replace" if fresh else "skip")

    def is_done(
        self, at: Sequence[str] = (), *, sets: Sequence[str] = (), frames: Frames = None,
        into: str | Path | None = None,
    ) -> bool:  # fmt: skip
        """Whether the plan was carried out as it stands and all its files are there still.

        Quick for what was planned last; anything else counts as not done.
        """
        from grandlattice.api import orchestration

        return orchestration.is_done(self._planned(into), self.cells.indices(*at, sets=sets), frames)

    def forecast(
        self, at: Sequence[str] = (), *, sets: Sequence[str] = (), workers: int | None = None,
        frames: Frames = None, into: str | Path | None = None, fresh: bool = False,
    ) -> float | None:  # fmt: skip
        """Seconds that what is not done yet will take, from what was rendered of this plan before; None
        where nothing was."""
        from grandlattice.api import orchestration

        begun = self.outlook(at, sets=sets, frames=frames, into=into, fresh=fresh)
        return orchestration.forecast(begun, self.default_workers() if workers is None else workers)

    def run(
        self, at: Sequence[str] = (), *, sets: Sequence[str] = (), workers: int | None = None,
        threads: int | None = None, frames: Frames = None, into: str | Path | None = None,
        fresh: bool = False, allow_missing: bool = False,
        on_event: Callable[[Event], None] | None = None,
        on_outlook: Callable[[Outlook], None] | None = None,
        on_estimate: Callable[[Estimate], None] | None = None, further: bool = False, **conduct: Any,
    ) -> Run:  # fmt: skip
        """Render what is not done yet; blocks until it is done.

        Parameters
        ----------
        at, sets : cells, see `Cells.at`; all by default.
        workers : processes; all processors but those the plan spares by default, 0 for this process.
        threads : that trace, in each worker; by default one, and more where there are fewer tasks
            than workers.  They change no byte.
        frames : only these of each cell's frames, or ``"first"``.
        into : another output folder than the plan's own.
        fresh : do again what is done; the same as ``existing="replace"``.
        allow_missing : render fallback colours where textures are missing.
        on_event : told what happens, see `grandlattice.runs.events`.
        on_outlook : told what will be done before it begins.
        on_estimate : told what that will cost, from measurement.
        further : take those frames to their full quality, and no others, that the setting `seconds`
            ended; they get the bytes they would have had without it.
        **conduct : other keys of the plan's ``run:``, such as ``existing="keep-both"`` or
            ``budget={"until": "07:00"}``.

        Raises
        ------
        RunUnderWay
            When another run writes to the same folder.
        LatticeError
            When the run cannot start.  Tasks that fail do not raise: see `Run.failures`.
        """
        from grandlattice.api import orchestration

        if fresh:
            conduct["existing"] = "replace"
        return orchestration.run(
            self._planned(into), self.cells.indices(*at, sets=sets), self.conducted(**conduct),
            workers=workers, threads=threads, frames=frames, allow_missing=allow_missing,
            listeners=orchestration.Listeners(on_event, on_outlook, on_estimate), further=further,
        )  # fmt: skip

    def conducted(self, /, **keys: Any) -> RunBlock:
        """How this plan is run, with other keys of ``run:`` laid over its own.

        Raises
        ------
        PlanError
            For an unknown key or a value it cannot have.
        """
        said = self.model.run
        budget = keys.pop("budget", None) or {}
        if not isinstance(budget, Mapping):
            raise PlanError(
                f"A budget has keys of its own, not {str(budget)!r}.", cure="such as budget.time=8h"
            )
        budget = {**_given(said.budget), **budget}
        given = {k: v for k, v in keys.items() if v is not None}
        try:
            return type(said).model_validate({**_given(said), "budget": budget, **given})
        except ValidationError as problem:
            raise _said_wrongly(problem, "this call (--run and its like, or run)") from None

    def steering(self, into: str | Path | None = None) -> Steering:
        """Orders for a run of this plan that is under way in another process or thread."""
        from grandlattice.api.run_control import steering_of

        return steering_of(self.name, Path(into) if into is not None else self.folder)

    @property
    def hurried(self) -> dict[str, int]:
        """Keys of ``run:`` for a run that a person waits for: all processors, unless the plan spares some."""
        return {"spare": 0} if self.model.run.spare is None else {}

    def proofing(self) -> Plan:
        """This plan, made small and quick: a cheap look at every cell before the expensive one.

        The plan's quality `proof` is laid over everything it says, or a quarter of the size at
        six samples where it has none; the seed stays, so that the noise is where it will be.
        """
        quick = Plan(folder=self.folder, _document=self.document)
        quality = {"quality": "proof"} if "proof" in self.model.qualities else dict(PROOF)
        if find_spec("pyoidn") is None:  # an extra that is not installed here
            quality.pop("denoise", None)
        return quick.override(
            **{**self._given(), **quality},
            format=["png"],
            passes=["beauty"],
            files={},
            output="{cell}.{frame:04d}.{ext}",
        )

    def proof(
        self, at: Sequence[str] = (), *, sets: Sequence[str] = (), into: str | Path | None = None,
        **options: Any,
    ) -> list[Path]:  # fmt: skip
        """The first frame of every cell, small and quick, on a labelled sheet.

        Parameters
        ----------
        into : the folder of proofs; ``NAME-proof`` beside the plan by default.
        **options : of `run`; `workers` is all processors by default.

        Returns
        -------
        The sheets.
        """
        quick, folder = self.proofing(), into or self.proof_folder
        quick.run(at, sets=sets, frames="first", into=folder, **{**self.hurried, **options})
        return quick.review(at, sets=sets, into=folder)

    @property
    def proof_folder(self) -> Path:
        """Where proofs land by default."""
        return self.folder / f"{self.name}-proof"

    def worker_room(
        self, at: Sequence[str] = (), *, sets: Sequence[str] = (), into: str | Path | None = None
    ) -> WorkerRoom:
        """What a worker holds at most, and how many fit into the memory that is free; from frames that were
        rendered before, where there are any."""
        from grandlattice.api import orchestration

        return orchestration.worker_room(self._planned(into), self.cells.indices(*at, sets=sets))

    def default_workers(self, **conduct: Any) -> int:
        """All processors but those the plan spares, one if it does not say; at least one.

        Parameters
        ----------
        **conduct : keys of ``run:``, see `run`.
        """
        from grandlattice.api import orchestration

        return orchestration.default_workers(self.conducted(**conduct))

    def review(
        self, at: Sequence[str] = (), *, sets: Sequence[str] = (), into: str | Path | None = None,
        size: tuple[int, int] = (1280, 800), pass_name: str | None = None,
    ) -> list[Path]:  # fmt: skip
        """Write the contact sheets of what is rendered; returns their files.

        Parameters
        ----------
        pass_name : the pass to show; None shows the beauty.  Illuminance is shown in false colours.

        Raises
        ------
        PlanError
            When there is no such pass.
        RunError
            When there is no picture of it yet.
        """
        from grandlattice.api import orchestration

        return orchestration.review(self._planned(into), self.cells.indices(*at, sets=sets), size, pass_name)


def _said_wrongly(problem: ValidationError, where: str) -> PlanError:
    """What a caller said and cannot be."""
    error = explained(problem.errors(include_url=False)[0], Document({}, ""))  # type: ignore[arg-type]
    error.place = Place(words=where)
    return error


def _given(model: BaseModel) -> dict[str, Any]:
    """What was said in a model, by name."""
    return {name: getattr(model, name) for name in model.model_fields_set}
