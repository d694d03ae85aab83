"""A plan as an object: its contents and files, and what can be done with them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from grandlattice.api.call_options import At, Existing, RunKeys, RunOptions, Unpack
from grandlattice.api.plan_contents import given_in, said_wrongly
from grandlattice.api.plan_files import Into
from grandlattice.api.plan_pictures import PlanPictures
from grandlattice.errors import NoSuchCell, OutputError, PlanError
from grandlattice.plan import Cell, planned_files
from grandlattice.stage import Explainer, Explanation, explain_settings, export_cell, lights_only

if TYPE_CHECKING:
    from grandlattice.api.packs import PackFiles
    from grandlattice.api.plan_run import PlanRun
    from grandlattice.api.sharing import SharedTrace, Sharing
    from grandlattice.checks import Finding
    from grandlattice.page import PageFiles
    from grandlattice.plan.run_block import RunBlock
    from grandlattice.runs import Outlook, Steering, Task
    from grandlattice.runs.fingerprints import Composing
    from grandlattice.runs.memory_room import WorkerRoom
    from grandlattice.runs.tasks import Frames


class Plan(PlanPictures):
    """A plan: opened with `open_plan`, or built here.

    In all methods `at` and `sets` choose cells, see `Cells.at` (all by default), and `into` names another
    output folder than the plan's own.

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

    # --- one cell ------------------------------------------------------------------------------

    def explain(
        self, cell: str | Cell, against: str | Cell | None = None, *, scene: bool = True
    ) -> Explanation:
        """Every value a cell changes, and which line of the plan or layer of the scene set it.

        Parameters
        ----------
        against : another cell; only what differs between the two is listed then.
        scene : whether the scene is looked at for what the edits change; otherwise settings are told alone.
        """
        chosen = self._cell(cell)
        if chosen.settings.metered is not None:
            chosen = self.planned().make(chosen.index)
        whole = self._explainer.explain(chosen) if scene else Explanation(chosen.address, ())
        whole = replace(whole, settings=explain_settings(self._make, chosen))
        return whole if against is None else whole.against(self.explain(against, scene=scene))

    def page(
        self, *, at: At = (), sets: Sequence[str] = (), into: Into = None, most_bytes: float = 2e9
    ) -> PageFiles:
        """Write the page of what is rendered: a folder whose index.html opens in any browser, from the disk.

        Parameters
        ----------
        most_bytes : that pixels to look into may take; cells beyond have their small pictures alone.

        Raises
        ------
        RunError
            When there is no picture yet.
        OutputError
            When files of others are in the way.

        Examples
        --------
        >>> plan.page().index                                           # doctest: +SKIP
        """
        from grandlattice.api import page_making

        chosen = self._chosen(at, sets)
        folder = None if into is None else Path(into)
        return page_making.write(self, self.explained, chosen, folder, most_bytes)

    def explained(self, cell: Cell, scene: bool) -> Explanation:
        """`explain`, remembered: a page that is served is written many times."""
        key = cell.address, scene
        if key not in self._explanations:
            self._explanations[key] = self.explain(cell, scene=scene)
        return self._explanations[key]

    @cached_property
    def _explanations(self) -> dict[tuple[str, bool], Explanation]:
        return {}

    def serve(
        self, on_ready: Callable[[str], None], *, at: At = (), sets: Sequence[str] = (), into: Into = None,
        address: str = "127.0.0.1", port: int = 0, certificate: str | Path | None = None,
        key: str | Path | None = None,
    ) -> None:  # fmt: skip
        """Serve the page until Ctrl-C: it follows a run, keeps choices, and hands orders to the run.

        Parameters
        ----------
        on_ready : is told the address to open; it has the token that lets a browser in.
        address, port : where to listen, this machine alone by default; port 0 is any that is free.
        certificate, key : files of TLS; another address than this machine's own needs them.

        Raises
        ------
        PlanError
            When the address needs TLS, or what serves pages is not installed.
        RunError
            When there is no picture yet.
        """
        from grandlattice.api.run_control import refuse_without_server

        refuse_without_server()
        if address in ("0.0.0.0", "::", ""):
            raise PlanError(
                f"{address or 'An empty text'} is no address that a browser could ask for.",
                cure="name the address by which other machines reach this one",
            )
        if address not in ("127.0.0.1", "::1", "localhost") and not (certificate and key):
            raise PlanError(
                f"{address} can be reached by other machines, so that it needs TLS.",
                cure="name a certificate and its key, or leave the address out",
            )
        from grandlattice.api import page_making
        from grandlattice.api.page_orders import change
        from grandlattice.api.page_service import PageService
        from grandlattice.page import serve

        folder = None if into is None else Path(into)

        self._chosen(at, sets)  # refuses what is not there

        def write_page(plan: Plan) -> PageFiles:
            try:
                chosen = plan._chosen(at, sets)
            except NoSuchCell:  # they went with a change of the plan
                chosen = plan.cells.indices()
            return page_making.write(plan, plan.explained, chosen, folder, None, may_be_empty=True)

        def changed(verb: str, details: Mapping[str, Any]) -> tuple[Plan, str]:
            if self.file is None:
                raise PlanError("This plan has no file.")
            plan = Plan.read(self.file)
            return plan, change(plan, verb, details)

        service = PageService(self, write_page, changed, folder)
        files = [None if file is None else Path(file) for file in (certificate, key)]
        where = "127.0.0.1" if address == "localhost" else address
        serve(service, where, port, on_ready, certificate=files[0], key=files[1])

    def pack(self, target: str | Path, *, incomplete: bool = False) -> PackFiles:
        """Write a folder, or a ``.zip``, with everything the plan's cells need and nothing else: it opens on
        any machine.

        Paths in layers and plans lead to files of the pack; nothing outside of it is changed.

        Parameters
        ----------
        incomplete : write it although files are missing.

        Raises
        ------
        OutputError
            When a file is missing, or something stands there already.

        Examples
        --------
        >>> plan.pack("orrery.zip").manifest.size                       # doctest: +SKIP
        """
        from grandlattice.api import packs

        missing = sorted({finding.file for finding in self.check(allow_missing=True) if finding.file})
        if missing and not incomplete:
            more = f" and {len(missing) - 1} more" if len(missing) > 1 else ""
            raise OutputError(
                f"{missing[0]}{more} is missing, so that the pack would not be whole.",
                cure="put it back, or pack what is there with --incomplete",
            )
        return packs.pack(self, Path(target), missing)

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

    # --- checking ------------------------------------------------------------------------------

    def check(
        self, *, at: At = (), sets: Sequence[str] = (), into: Into = None, allow_missing: bool = False,
        look: bool = False, existing: Existing | None = None, thoroughly: bool = False,
    ) -> list[Finding]:  # fmt: skip
        """Everything that can be known to be wrong beforehand, errors first.

        Parameters
        ----------
        allow_missing : missing textures are no errors.
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

        return checking.check(
            self.planned(into), self._chosen(at, sets), self.conducted(existing=existing).existing,
            allow_missing=allow_missing, look=look, thoroughly=thoroughly,
        )  # fmt: skip

    def shows_something(self, cell: int) -> bool:
        """Whether a small look at a cell is neither black nor burnt out, at the exposure it has unmetered."""
        from grandlattice.api import checking

        return checking.can_be_seen(self.planned(), cell)

    # --- running -------------------------------------------------------------------------------

    def tasks(
        self, *, at: At = (), sets: Sequence[str] = (), frames: Frames = None, into: Into = None,
        on_composing: Composing | None = None,
    ) -> Sequence[Task]:  # fmt: skip
        """What a run carries out, in order; each is made when it is asked for.

        Parameters
        ----------
        on_composing : called while scenes of cells are composed that never were, with how many are, and how
            many there are to be.

        Raises
        ------
        OutputError
            When two pictures would have one file, or a name is impossible.
        """
        from grandlattice.api import looking_ahead

        return looking_ahead.tasks(self.planned(into), self._chosen(at, sets), frames, on_composing)

    def outlook(
        self, *, at: At = (), sets: Sequence[str] = (), frames: Frames = None, into: Into = None,
        fresh: bool = False, on_composing: Composing | None = None,
    ) -> Outlook:  # fmt: skip
        """What a run would do: which tasks are still to be done, and which files stand in the way.

        Parameters
        ----------
        on_composing : see `tasks`.
        """
        from grandlattice.api import looking_ahead

        existing = "replace" if fresh else "skip"
        planned, chosen = self.planned(into), self._chosen(at, sets)
        return looking_ahead.outlook(planned, chosen, frames, existing, on_composing).outlook

    def sharing(
        self, *, at: At = (), sets: Sequence[str] = (), into: Into = None,
        on_composing: Composing | None = None,
    ) -> Sharing:  # fmt: skip
        """How many traces the cells take, and how many frames are done; for `on_composing` see `tasks`.

        Examples
        --------
        >>> plan.sharing(at="camera=Wide")                              # doctest: +SKIP
        Sharing(frames=9, traces=5, done=0, most=3, problem='')
        """
        from grandlattice.api import looking_ahead, sharing

        planned, chosen = self.planned(into), self._chosen(at, sets)
        seen = looking_ahead.outlook(planned, chosen, None, composing=on_composing).outlook
        return sharing.sharing(seen, looking_ahead.not_composed(planned, chosen))

    def traces(
        self, *, at: At = (), sets: Sequence[str] = (), frames: Frames = None, into: Into = None,
        on_composing: Composing | None = None,
    ) -> Iterator[SharedTrace]:  # fmt: skip
        """What the cells of each trace have in common, and why the next is another one.

        Parameters
        ----------
        on_composing : see `tasks`.
        """
        from grandlattice.api import sharing

        tasks = self.tasks(at=at, sets=sets, frames=frames, into=into, on_composing=on_composing)
        return sharing.shared_traces(tasks, self.explain, partial(lights_only, self.scene.stage))

    def is_done(
        self, *, at: At = (), sets: Sequence[str] = (), frames: Frames = None, into: Into = None
    ) -> bool:
        """Whether the plan was carried out as it stands and all its files are there still.

        Quick for what was planned last; anything else counts as not done.
        """
        from grandlattice.api import looking_ahead

        return looking_ahead.is_done(self.planned(into), self._chosen(at, sets), frames)

    def forecast(
        self, *, at: At = (), sets: Sequence[str] = (), frames: Frames = None, into: Into = None,
        workers: int | None = None, fresh: bool = False,
    ) -> float | None:  # fmt: skip
        """Seconds that what is not done yet will take, from what was rendered of this plan before; None
        where nothing was."""
        from grandlattice.api import looking_ahead, orchestration

        existing = "replace" if fresh else "skip"
        begun = looking_ahead.outlook(self.planned(into), self._chosen(at, sets), frames, existing)
        return orchestration.forecast(begun, self.default_workers() if workers is None else workers)

    def run(
        self, /, *, at: At = (), sets: Sequence[str] = (), into: Into = None, **options: Unpack[RunOptions]
    ) -> PlanRun:
        """Render what is not done yet; blocks until it is done.

        Parameters
        ----------
        **options : see `RunOptions`; other keys of the plan's ``run:`` among them, such as
            ``existing="keep-both"`` or ``budget={"until": "07:00"}``.

        Raises
        ------
        RunUnderWay
            When another run writes to the same folder.
        LatticeError
            When the run cannot start.  Tasks that fail do not raise: see `Run.failures`.
        """
        return self._run(at, sets, into, options, finishing=False)

    def _run(
        self, at: At, sets: Sequence[str], into: Into, options: RunOptions, *, finishing: bool
    ) -> PlanRun:  # fmt: skip
        from grandlattice.api import orchestration
        from grandlattice.api.plan_run import PlanRun, boards_kept

        call, keys = orchestration.divided(options)
        chosen, block = self._chosen(at, sets), self.conducted(**keys)
        planned = self.planned(into).run_as(block)
        folder = None if into is None else Path(into)
        with boards_kept(self, folder, call.on_event) as (hear, notes):
            done = orchestration.run(
                planned, chosen, block, replace(call, on_event=hear), finishing=finishing
            )  # fmt: skip
        done.notes += notes
        return PlanRun.of(self, done)

    def finish(
        self, /, *, at: At = (), sets: Sequence[str] = (), into: Into = None, **options: Unpack[RunOptions]
    ) -> PlanRun:
        """Write again what a display shows, from OpenEXR files that stand as the plan wants them; nothing is
        traced.  Frames without such a file are left as they are.

        Raises
        ------
        RunError
            When something is to be done, and no frame has such a file.
        """
        return self._run(at, sets, into, options, finishing=True)

    def conducted(self, /, **keys: Unpack[RunKeys]) -> RunBlock:
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
        budget = {**given_in(said.budget), **budget}
        given = {k: v for k, v in keys.items() if v is not None}
        try:
            return type(said).model_validate({**given_in(said), "budget": budget, **given})
        except ValidationError as problem:
            raise said_wrongly(problem, "this call (--run and its like, or run)") from None

    def steering(self, into: Into = None) -> Steering:
        """Orders for a run of this plan that is under way in another process or thread."""
        from grandlattice.api.run_control import steering_of

        return steering_of(self.name, Path(into) if into is not None else self.folder)

    def default_workers(self, /, **keys: Unpack[RunKeys]) -> int:
        """All processors but those the plan spares, one if it does not say; at least one."""
        from grandlattice.api import orchestration

        return orchestration.default_workers(self.conducted(**keys))

    def worker_room(self, *, at: At = (), sets: Sequence[str] = (), into: Into = None) -> WorkerRoom:
        """What a worker holds at most, and how many fit into the memory that is free; from frames that were
        rendered before, where there are any."""
        from grandlattice.api import orchestration

        return orchestration.worker_room(self.planned(into), self._chosen(at, sets))

    # --- looking -------------------------------------------------------------------------------

    def proof(
        self, /, *, at: At = (), sets: Sequence[str] = (), into: Into = None, **options: Unpack[RunOptions]
    ) -> list[Path]:
        """The first frame of every cell, small and quick, on a labelled sheet; returns the sheets.

        With ``frames="first,middle,last"`` three of each, side by side, with blur and focus as they will be.

        Parameters
        ----------
        into : the folder of proofs; ``NAME-proof`` beside the plan by default.
        **options : of `run`; `workers` is all processors by default.
        """
        quick, folder = self.proofing(), into or self.proof_folder
        told: RunOptions = {**self.hurried, "frames": "first", **options}
        quick.run(at=at, sets=sets, into=folder, **told)
        frames = None if told["frames"] == "first" else told["frames"]
        return quick.review(at=at, sets=sets, into=folder, frames=frames)
