"""`glat`: words, tables and progress bars over the public interface.

Exits 0 when done, 1 when the work has failures, 2 when what was asked cannot be understood,
130 when interrupted.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

import grandlattice as lattice
from grandlattice.cli import tables
from grandlattice.cli.progress import RunBars
from grandlattice.cli.words import (
    console,
    duration,
    errors,
    many,
    next_step,
    print_json,
    quoted,
    short,
    show_problem,
    size,
)
from grandlattice.demo import write_demo

app = typer.Typer(
    help="Grand Lattice: one scene, one plan, every picture of the matrix.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode="rich",
)

PlanFile = Annotated[
    Path | None,
    typer.Argument(
        metavar="[PLAN]",
        help="The plan; may be left out where the folder holds just one.",
        show_default=False,
    ),
]
At = Annotated[
    list[str] | None,
    typer.Option(
        "--at",
        help="Only these cells: light=noon,evening or noon//all/Wide. May be repeated.",
        show_default=False,
    ),
]
SetOption = Annotated[
    list[str] | None,
    typer.Option(
        "--set", help="A setting for this call, such as samples=64. May be repeated.", show_default=False
    ),
]
Into = Annotated[
    Path | None, typer.Option("--into", help="Another output folder than the plan's own.", show_default=False)
]
AllowMissing = Annotated[
    bool, typer.Option("--allow-missing", help="Render fallback colours where textures are missing.")
]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON for programs to read.")]
SceneFile = Annotated[Path, typer.Argument(metavar="SCENE", help="A .usd, .usda, .usdc or .usdz file.")]

_debug = False


@app.callback()
def _options(
    debug: Annotated[
        bool, typer.Option("--debug", help="Show a traceback when something goes wrong.")
    ] = False,
    version: Annotated[bool, typer.Option("--version", help="Show the version.")] = False,
) -> None:
    global _debug
    _debug = debug
    if version:
        console.print(f"Grand Lattice {lattice.__version__}")
        raise typer.Exit()


def _open(plan: Path | None, settings: list[str] | None = None) -> lattice.Plan:
    opened = lattice.open_plan(plan if plan is not None else lattice.find_plan(Path.cwd()))
    if settings:
        given = {}
        for text in settings:
            key, equals, value = text.partition("=")
            if not equals:
                raise lattice.PlanError(f"--set {text} gives no value.", cure="write it --set samples=64")
            given[key] = value.split(",") if key in ("passes", "format") else value
        opened.override(**given)
    return opened


def _frames(text: str | None) -> list[int] | None:
    if text is None:
        return None
    try:
        return list(lattice.read_frames(text).numbers or ())
    except ValueError as problem:
        raise lattice.PlanError(f"--frames: {problem}.") from None


def _arguments(plan: Path | None) -> str:
    return f" {quoted(plan)}" if plan is not None else ""


@app.command()
def survey(scene: SceneFile, json: AsJson = False) -> None:
    """What is in a scene: cameras, lights, materials, variants, objects, files.

    Example:  glat survey orrery.usda
    """
    found = lattice.survey(scene)
    if json:
        print_json(found)
        return
    tables.show_survey(found)
    next_step(f"glat begin {quoted(scene)}")


@app.command()
def begin(
    scene: SceneFile,
    plan: Annotated[
        Path | None, typer.Option("--plan", help="Where to write the plan.", show_default=False)
    ] = None,
) -> None:
    """Write a first plan for a scene, ready to run and commented; never overwrites.

    Example:  glat begin orrery.usda
    """
    file = lattice.begin(scene, plan)
    cells = len(lattice.open_plan(file).cells)
    console.print(f"wrote  [bold]{escape(short(file))}[/bold], {many(cells, 'cell')}")
    next_step(f"glat cells {quoted(short(file))}")


@app.command()
def cells(
    plan: PlanFile = None,
    at: At = None,
    settings: SetOption = None,
    count: Annotated[bool, typer.Option("--count", help="Only how many there are.")] = False,
    page: Annotated[int, typer.Option("--page", min=1, help="Which page of 200 cells.")] = 1,
    json: AsJson = False,
) -> None:
    """The cells in the order they run, with size, frames, passes and files.

    Example:  glat cells --at light=noon
    """
    opened = _open(plan, settings)
    if count:
        console.print(str(len(opened.cells)))
        return
    wanted = opened.cells.at(*at) if at else [opened.cells[i] for i in range(len(opened.cells))]
    shown = wanted[(page - 1) * 200 : page * 200]
    if json:
        rows = [
            {"address": c.address, "coordinates": dict(c.coordinates), "size": str(c.settings.size),
             "frames": list(c.settings.frames), "passes": list(c.settings.passes),
             "files": [str(f) for f in opened.files(c)]}
            for c in shown
        ]  # fmt: skip
        print_json(rows)
        return
    tables.show_cells(opened, shown)
    frames = sum(len(cell.settings.frames) for cell in wanted)
    files = sum(len(opened.files(cell)) for cell in wanted)
    room = size(opened.estimated_bytes(at or ()))
    skipped = f", {opened.lattice.skipped} skipped" if opened.lattice.skipped and not at else ""
    console.print(
        f"{many(len(wanted), 'cell')}{skipped}, {many(frames, 'frame')}, {many(files, 'file')}, about {room}"
    )
    if len(wanted) > page * 200:
        console.print(
            f"[dim]cells {(page - 1) * 200 + 1}–{page * 200}; --page {page + 1} shows the next[/dim]"
        )
    next_step(f"glat check{_arguments(plan)}")


@app.command()
def check(
    plan: PlanFile = None,
    at: At = None,
    settings: SetOption = None,
    into: Into = None,
    allow_missing: AllowMissing = False,
    strict: Annotated[bool, typer.Option("--strict", help="Warnings count as errors.")] = False,
    json: AsJson = False,
) -> None:
    """Everything that can go wrong, found before the night.

    Example:  glat check --strict
    """
    opened = _open(plan, settings)
    findings = opened.check(at or (), into=into, allow_missing=allow_missing)
    bad = [f for f in findings if f.gravity == "error" or (strict and f.gravity == "warning")]
    if json:
        print_json(findings)
    else:
        tables.show_findings(findings)
        number = len(opened.cells.at(*at)) if at else len(opened.cells)
        if bad:
            console.print(
                f"\n{many(len(bad), 'thing')} to mend before {many(number, 'cell')} can be rendered"
            )
        else:
            console.print(f"[green]✓[/green] {many(number, 'cell')} checked, nothing stands in the way")
            next_step(f"glat run{_arguments(plan)}")
    if bad:
        raise typer.Exit(1)


@app.command()
def run(
    plan: PlanFile = None,
    at: At = None,
    settings: SetOption = None,
    frames: Annotated[
        str | None, typer.Option("--frames", help="Only these frames.", show_default=False)
    ] = None,
    workers: Annotated[
        int | None,
        typer.Option(
            "--workers", min=0, help="Processes that render; all processors but one.", show_default=False
        ),
    ] = None,
    into: Into = None,
    fresh: Annotated[bool, typer.Option("--fresh", help="Do again what is done.")] = False,
    allow_missing: AllowMissing = False,
    quiet: Annotated[bool, typer.Option("--quiet", help="Print problems only.")] = False,
) -> None:
    """Render what is not rendered yet; goes on where it stopped.

    Example:  glat run --at camera=Wide --set samples=64
    """
    opened = _open(plan, settings)
    done = _run(
        opened, at or (), _frames(frames), workers, into, fresh, allow_missing, quiet, _arguments(plan)
    )
    if done.interrupted:
        raise typer.Exit(130)
    if not done.ok:
        raise typer.Exit(1)
    if not quiet:
        next_step(f"glat review{_arguments(plan)}")


def _run(
    plan: lattice.Plan, at: list[str] | tuple[str, ...], frames: list[int] | None, workers: int | None,
    into: Path | None, fresh: bool, allow_missing: bool, quiet: bool, arguments: str,
) -> lattice.Run:  # fmt: skip
    """Check, say what will be done, do it with bars, and say how it went."""
    findings = plan.check(at, into=into, allow_missing=allow_missing)
    bad = [finding for finding in findings if finding.gravity == "error"]
    if bad or not quiet:
        tables.show_findings(bad or [finding for finding in findings if finding.gravity == "warning"])
    if bad:
        console.print(f"\nnothing was rendered: {many(len(bad), 'thing')} to mend first")
        raise typer.Exit(1)
    count = lattice.default_workers() if workers is None else workers
    bars: list[RunBars] = []

    def on_outlook(outlook: lattice.Outlook) -> None:
        if not quiet:
            _say_outlook(outlook, count)
        bars.append(RunBars(outlook, max(1, count), quiet))
        bars[0].__enter__()

    try:
        done = plan.run(
            at, workers=workers, frames=frames, into=into, fresh=fresh, allow_missing=allow_missing,
            on_event=lambda event: bars[0].follow(event), on_outlook=on_outlook,
        )  # fmt: skip
    finally:
        for bar in bars:
            bar.__exit__(None, None, None)
    if not quiet or not done.ok:
        _say_end(done, arguments)
    return done


def _say_outlook(outlook: lattice.Outlook, workers: int) -> None:
    if not outlook.todo:
        console.print(f"everything is done already: {many(len(outlook.done), 'frame')}")
        return
    parts = [f"{many(len(outlook.todo), 'frame')} to render"]
    if outlook.done:
        parts.append(f"{len(outlook.done)} done already")
    if outlook.changed:
        parts.append(f"{many(len(outlook.changed), 'file')} out of date, to be replaced")
    if outlook.shared:
        parts.append(f"{many(outlook.shared, 'cell')} shared with another's trace")
    with_ = many(workers, "worker") if workers else "this process"
    console.print(f"{', '.join(parts)}; by {with_}. Ctrl-C finishes the frames under way and stops.")
    if not lattice.tracer_is_prepared():
        console.print("compiling the tracer for this machine, once; this takes about half a minute …")


def _say_end(done: lattice.Run, arguments: str) -> None:
    if done.finished:
        rays = sum(event.result.rays for event in done.finished)
        folder = "this folder" if done.output.resolve() == Path.cwd() else short(done.output)
        console.print(
            f"[green]✓[/green] {many(len(done.finished), 'frame')} in {duration(done.seconds)}"
            f" [dim]({rays / 1e6:,.0f} million rays)[/dim], in {escape(folder)}"
        )
    if done.failures:
        console.print(f"[red]✗[/red] {many(len(done.failures), 'frame')} failed:")
        for failure in done.failures:
            console.print(f"  {escape(failure.task.label)}")
            show_problem(failure.problem)
            if _debug:
                console.print(failure.details, markup=False)
        console.print("the others are done and kept; mend this and give the same command again")
    if done.interrupted:
        left = len(done.outlook.todo) - len(done.finished) - len(done.failures)
        console.print(f"stopped; {many(left, 'frame')} left, no half file was kept")
        next_step(f"glat run{arguments}")


@app.command()
def review(
    plan: PlanFile = None,
    at: At = None,
    into: Into = None,
) -> None:
    """Write the contact sheet of what is rendered, every cell labelled.

    Example:  glat review
    """
    opened = _open(plan)
    tables.show_files(opened.review(at or (), into=into), "wrote")


@app.command()
def demo(
    folder: Annotated[Path, typer.Argument(help="Where to write it.")] = Path("orrery-room"),
) -> None:
    """Write the orrery room with its plan, render it small, and say where to look.

    Example:  glat demo my-demo
    """
    started = time.monotonic()
    console.print(f"[bold]1[/bold]  writing the orrery room, scene and plan, to {escape(str(folder))} …")
    with lattice.tracer_prepared_aside():
        if not lattice.tracer_is_prepared():
            console.print("   meanwhile compiling the tracer for this machine, once …")
        file = write_demo(folder)
    opened = lattice.open_plan(file)
    console.print(f"[bold]2[/bold]  the plan multiplies to {many(len(opened.cells), 'cell')}: "
                  + " × ".join(axis.name for axis in opened.lattice.axes))  # fmt: skip
    console.print("[bold]3[/bold]  checking, then rendering small, on all processors")
    workers = lattice.default_workers() + 1
    done = _run(opened, (), None, workers, None, False, False, False, f" {quoted(file)}")
    if done.interrupted:
        raise typer.Exit(130)
    if not done.ok:
        raise typer.Exit(1)
    sheets = opened.review()
    console.print(f"[bold]4[/bold]  done in {duration(time.monotonic() - started)}. Look at:")
    for sheet in sheets:
        console.print(f"   [bold]{escape(str(folder / sheet.name))}[/bold]  all cells on one sheet")
    console.print(
        f"   {escape(str(folder / 'renders'))}  the pictures, PNG to look at and EXR with all passes"
    )
    console.print(f"   {escape(str(file))}  the plan that made them, to change and run again")
    next_step(f"cd {quoted(folder)} && glat cells")


def main() -> None:
    """The command `glat`."""
    try:
        code = app(standalone_mode=False)
    except lattice.LatticeError as problem:
        if _debug:
            errors.print_exception()
        show_problem(problem)
        sys.exit(2 if isinstance(problem, lattice.PlanError) else 1)
    except (KeyboardInterrupt, typer.Abort):
        errors.print("stopped")
        sys.exit(130)
    except Exception as problem:
        if _debug:
            raise
        message = getattr(problem, "format_message", None)
        if message is not None:  # a wrong option or argument
            errors.print(f"[bold red]✗[/bold red] {escape(message())}")
            errors.print(
                "  [dim]do[/dim]     glat --help lists the commands, glat COMMAND --help their options"
            )
            sys.exit(2)
        errors.print(
            f"[bold red]✗[/bold red] Something we did not foresee went wrong: {escape(repr(problem))}"
        )
        errors.print("  [dim]do[/dim]     give the command again as glat --debug … to see where")
        sys.exit(1)
    sys.exit(code if isinstance(code, int) else 0)
