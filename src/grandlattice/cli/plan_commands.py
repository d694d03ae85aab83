"""Commands about plans: what there is, what it makes, why, and what is wrong with it."""

from __future__ import annotations

import time
from contextlib import suppress
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.markup import escape

import grandlattice as lattice
from grandlattice.cli import result_tables
from grandlattice.cli.composing_bar import ComposingBar
from grandlattice.cli.shared_options import (
    AllowMissing,
    AsJson,
    At,
    EditOption,
    Into,
    PlanFile,
    SceneFile,
    SetOf,
    SetOption,
    Why,
    arguments,
    asked_of,
    open_plan,
    open_queue,
)
from grandlattice.cli.terminal_text import (
    console,
    many,
    next_step,
    print_json,
    quoted,
    say_compiling,
    short,
    size,
)

_PAGE = 200
_SHARED_AT_MOST = 20_000  # cells whose traces are counted for a look at a list


def survey(scene: SceneFile, json: AsJson = False) -> None:
    """What is in a scene: cameras, lights, materials, variants, objects, files.

    Example:  glat survey orrery.usda
    """
    found = lattice.survey(scene, bounds=json)
    if json:
        print_json(found)
        return
    result_tables.show_survey(found)
    next_step(f"glat begin {quoted(scene)}")


def begin(
    scene: SceneFile,
    plan: Annotated[
        Path | None, typer.Option("--plan", help="Where to write the plan.", show_default=False)
    ] = None,
) -> None:
    """Write a first plan for a scene, ready to run and commented; never overwrites.

    Example:  glat begin orrery.usda
    """
    say_compiling()
    file = lattice.begin(scene, plan)
    cells = len(lattice.open_plan(file).cells)
    console.print(f"wrote  [bold]{escape(short(file))}[/bold], {many(cells, 'cell')}")
    next_step(f"glat cells {quoted(short(file))}")


def cells(
    plan: PlanFile = None,
    at: At = None,
    sets: SetOf = None,
    settings: SetOption = None,
    edits: EditOption = None,
    count: Annotated[bool, typer.Option("--count", help="Only how many there are.")] = False,
    page: Annotated[int, typer.Option("--page", min=1, help="Which page of 200 cells.")] = 1,
    table: Annotated[
        Path | None,
        typer.Option(
            "--table", help="Write all of them to a .csv, .parquet or .json file.", show_default=False
        ),
    ] = None,
    matrix: Annotated[
        bool, typer.Option("--matrix", help="Which entries meet, for every two axes, in place of the list.")
    ] = False,
    why: Why = False,
    json: AsJson = False,
) -> None:
    """The cells in the order they run, with size, frames, passes and files.

    Example:  glat cells --at light=noon
    """
    asked = asked_of([plan], at, sets, settings, edits)
    known = lattice.cell_count(asked) if count and asked is not None else None
    if known is not None:
        console.print(str(known))
        return
    queue = open_queue([plan] if plan else None, settings, at, sets, edits)
    if count:
        number = sum(len(step.plan.cells.indices(*step.at, sets=step.sets)) for step in queue)
        console.print(str(number))
        if asked is not None:
            lattice.remember_count(asked, queue, number)
        return
    if json:
        print_json([row for step in queue for row in _rows(step, page, named=len(queue) > 1)])
        return
    for step in queue:
        if len(queue) > 1:
            console.rule(escape(step.plan.name), align="left", style="dim")
        if table is not None:
            _write_table(step, table if len(queue) == 1 else _beside(table, step.plan.name))
        elif matrix:
            result_tables.show_matrix(step.plan)
        elif why:
            with ComposingBar(quiet=not console.is_terminal) as composing:
                traces = step.plan.traces(at=step.at, sets=step.sets, on_composing=composing)
            result_tables.show_traces(traces)
            _say_sharing(step)
        else:
            _show_page(step, page)
    if len(queue) > 1:
        whole = queue.totals()
        console.print(
            f"\n[bold]in all[/bold]  {many(len(queue), 'plan')}, {many(whole.cells, 'cell')}, "
            f"{many(whole.frames, 'frame')}, {many(whole.files, 'file')}, about {size(whole.bytes)}"
        )
    next_step(f"glat check{arguments([plan], at, sets, settings, edits=edits)}")


def _page(step: lattice.Step, page: int) -> tuple[list[lattice.Cell], int]:
    """The cells of a page, and how many there are on all pages."""
    indices = step.plan.cells.running(*step.at, sets=step.sets)
    wanted = indices[(page - 1) * _PAGE : page * _PAGE].tolist()
    if not wanted:
        raise lattice.PlanError(f"There is no page {page}; the last is {-(-len(indices) // _PAGE)}.")
    return [step.plan.cells[index] for index in wanted], len(indices)


def _rows(step: lattice.Step, page: int, named: bool) -> list[dict[str, Any]]:
    """A page for programs; with the plan's name where there are several."""
    return [
        {**({"plan": step.plan.name} if named else {}), "address": c.address,
         "coordinates": dict(c.coordinates), "size": str(c.settings.size),
         "region": list(c.settings.region) if c.settings.region else None,
         "frames": list(c.settings.frames), "passes": list(c.settings.passes),
         "files": [str(f) for f in step.plan.files(c)]}
        for c in _page(step, page)[0]
    ]  # fmt: skip


def _show_page(step: lattice.Step, page: int) -> None:
    plan, at, sets = step.plan, step.at, step.sets
    shown, number = _page(step, page)
    result_tables.show_cells(plan, shown)
    whole = plan.totals(at=at, sets=sets)
    skipped = f", {plan.lattice.skipped:,} skipped" if plan.lattice.skipped and not at and not sets else ""
    folders = [short(folder) for folder, _ in plan.folders()]
    places = ", ".join(folders[:3]) + (f" and {len(folders) - 3} more" if len(folders) > 3 else "")
    console.print(
        f"{many(whole.cells, 'cell')}{skipped}, {many(whole.frames, 'frame')}, {many(whole.files, 'file')}, "
        f"about {size(whole.bytes)}, to {escape(places)}"
    )
    if number <= _SHARED_AT_MOST and not plan.meters:  # metering is not for a look at a list
        _say_sharing(step)
    if number > page * _PAGE:
        console.print(
            f"[dim]cells {(page - 1) * _PAGE + 1:,}–{page * _PAGE:,}; --page {page + 1} shows the next[/dim]"
        )


def _say_sharing(step: lattice.Step) -> None:
    """How many traces the cells take; nothing where the scene is in no state to say so."""
    with suppress(lattice.LatticeError):
        with ComposingBar(quiet=not console.is_terminal) as composing:
            found = step.plan.sharing(at=step.at, sets=step.sets, on_composing=composing)
        done = f", {found.done:,} done" if found.done else ""
        most = f"; the largest trace makes {found.most:,} of them" if found.most > 1 else ""
        console.print(f"{many(found.frames, 'frame')} in {many(found.traces, 'trace')}{done}{most}")
        if found.problem:
            told = f"not all can be rendered, and what cannot counts as a trace each: {escape(found.problem)}"
            console.print(f"[yellow]{told}[/yellow]")


def _write_table(step: lattice.Step, file: Path) -> None:
    writers = {".csv": "to_csv", ".parquet": "to_parquet", ".json": "to_json"}
    if file.suffix.lower() not in writers:
        raise lattice.PlanError(
            f"{file.name} is no table.", cure="name a file that ends in .csv, .parquet or .json"
        )
    rows = step.plan.table(at=step.at, sets=step.sets).reset_index()
    options = {"orient": "records", "indent": 1} if file.suffix.lower() == ".json" else {"index": False}
    try:
        getattr(rows, writers[file.suffix.lower()])(file, **options)
    except ImportError as problem:
        raise lattice.OutputError(
            f"{file.name} needs a library that is not installed.",
            cure='python -m pip install "pyarrow>=15,<27"',
        ) from problem
    except OSError as problem:
        raise lattice.OutputError(f"{file} cannot be written: {problem.strerror or problem}.") from problem
    console.print(f"wrote  [bold]{escape(short(file))}[/bold], {many(len(rows), 'cell')}")


def say_meters() -> None:
    """That exposures are metered, which takes its time."""
    console.print("[dim]metering exposures, from a small picture of each cell; once …[/dim]")
    say_compiling()


def saved(plan: lattice.Plan) -> str:
    """When the scene of a plan was last saved."""
    at = time.localtime(plan.scene.file.stat().st_mtime)
    return f"{plan.scene.file.name} was saved last on {time.strftime('%Y-%m-%d at %H:%M', at)}"


def _beside(file: Path, name: str) -> Path:
    return file.with_name(f"{file.stem}-{name}{file.suffix}")


def passes(plan: PlanFile = None, settings: SetOption = None, json: AsJson = False) -> None:
    """Every pass there is: its channels, meaning and cost; of a plan also each light by name.

    Example:  glat passes
    """
    opened = None
    if plan is not None or len(list(Path.cwd().glob("*.lattice.yaml"))) == 1:  # else of none in particular
        opened = open_queue([plan] if plan else None, settings).steps[0].plan
    found = lattice.passes(opened)
    if json:
        print_json(found)
        return
    result_tables.show_passes(found)


PlanThenCell = Annotated[
    list[str],
    typer.Argument(metavar="[PLAN] CELL", help="A cell, such as noon/brass/all/Wide, after its plan."),
]


def _plan_and_cell(
    words: list[str], settings: list[str] | None, edits: list[str] | None
) -> tuple[lattice.Plan, str, Path | None]:
    if len(words) > 2:
        raise lattice.PlanError("Name a plan and one cell.", cure="first the plan, then the cell")
    if len(words) == 2 and Path(words[1]).is_file() and not Path(words[0]).exists():
        raise lattice.PlanError(
            f"{words[1]} is a plan, and no cell.",
            cure=f"first the plan, then the cell: {words[1]} {words[0]}",
        )
    plan = Path(words[0]) if len(words) == 2 else None
    return open_plan(plan, settings, edits), words[-1], plan


def explain(
    words: PlanThenCell,
    against: Annotated[
        str | None,
        typer.Option(
            "--against", metavar="CELL", help="Only what differs from this cell.", show_default=False
        ),
    ] = None,
    settings: SetOption = None,
    edits: EditOption = None,
    json: AsJson = False,
) -> None:
    """Every value a cell changes, and which line of the plan, or layer of the scene, set it.

    Example:  glat explain moon/brass/all/Dial --against noon/brass/all/Dial
    """
    plan, address, file = _plan_and_cell(words, settings, edits)
    if plan.meters and not json:
        say_meters()
    told = plan.explain(address, against)
    if json:
        print_json(told)
        return
    result_tables.show_explanation(told)
    next_step(f"glat run{arguments([file], [told.cell], settings=settings, edits=edits)}")


def export(
    words: PlanThenCell,
    file: Annotated[
        Path | None, typer.Option("--file", help="The .usda or .usdc file to write.", show_default=False)
    ] = None,
    settings: SetOption = None,
    edits: EditOption = None,
) -> None:
    """Write a cell as one USD layer over the scene, with its render settings.

    Example:  glat export noon/brass/all/Wide
    """
    plan, address, _ = _plan_and_cell(words, settings, edits)
    cell = plan.cells[address]
    target = file or plan.folder / f"{plan.name}-{cell.file_name}.usda"
    written = plan.export(cell, target)
    console.print(
        f"wrote  [bold]{escape(short(written))}[/bold], {many(len(cell.edits), 'edit')} over the scene"
    )
    next_step(f"glat survey {quoted(short(written))}")


def schema() -> None:
    """The JSON Schema of the plan format, for editors.

    Example:  glat schema > plan.schema.json
    """
    print_json(lattice.plan_schema())


def check(
    plan: PlanFile = None,
    at: At = None,
    sets: SetOf = None,
    settings: SetOption = None,
    edits: EditOption = None,
    into: Into = None,
    allow_missing: AllowMissing = False,
    strict: Annotated[bool, typer.Option("--strict", help="Warnings count as errors.")] = False,
    look: Annotated[
        bool, typer.Option("--look", help="Also render each cell tiny, to find black and burnt-out ones.")
    ] = False,
    thorough: Annotated[
        bool, typer.Option("--thorough", help="Read all of every image, not its beginning and end alone.")
    ] = False,
    json: AsJson = False,
) -> None:
    """Everything that can go wrong, found before the night.

    Example:  glat check --strict
    """
    queue = open_queue([plan] if plan else None, settings, at, sets, edits)
    findings: list[lattice.Finding] = []
    number = 0
    for step in queue:
        found = step.plan.check(
            at=step.at, sets=step.sets, into=into, allow_missing=allow_missing, look=look, thoroughly=thorough
        )
        number += len(step.plan.cells.indices(*step.at, sets=step.sets))
        findings += found
        if not json:
            if len(queue) > 1:
                console.rule(escape(step.plan.name), align="left", style="dim")
            result_tables.show_findings(found)
    try:
        queue.refuse_collisions()
    except lattice.OutputError as problem:
        findings.append(lattice.Finding("error", problem.what, str(problem.place or ""), problem.cure))
        if not json:
            result_tables.show_findings(findings[-1:])
    bad = [f for f in findings if f.gravity == "error" or (strict and f.gravity == "warning")]
    if json:
        print_json(findings)
    elif bad:
        console.print(f"\n{many(len(bad), 'thing')} to mend before {many(number, 'cell')} can be rendered")
    else:
        console.print(f"[green]✓[/green] {many(number, 'cell')} checked, nothing stands in the way")
        for step in queue:
            room = step.plan.worker_room(at=step.at, sets=step.sets, into=into)
            fit = f"{many(room.fit, 'worker')} of {size(room.worker)} each fit into the memory that is free"
            console.print(f"[dim]{escape(saved(step.plan))}; {fit}, {size(room.free)}[/dim]")
        next_step(f"glat run{arguments([plan], at, sets, settings, into, edits)}")
    if bad:
        raise typer.Exit(1)
