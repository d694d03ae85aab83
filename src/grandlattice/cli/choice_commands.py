"""Commands that make something of pictures that are there: grades, editions, boards, choices."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

import grandlattice as lattice
from grandlattice.cli.shared_options import (
    ENDING,
    At,
    Into,
    Yes,
    arguments,
    open_plan,
    plan_and,
    plan_word,
)
from grandlattice.cli.terminal_text import console, duration, many, next_step, short

_FOLDERS = 5  # that are named


def grade(
    values: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[PLAN] VALUES", show_default=False,
            help="exposure=0.3 contrast=1.1 saturation=… temperature=… tint=… shadows=… mid-tones=… "
            "highlights=…, or off.",
        ),
    ] = None,
    at: At = None,
    into: Into = None,
    dry: Annotated[bool, typer.Option("--dry", help="Only show what would change.")] = False,
    beside: Annotated[
        bool, typer.Option("--beside", help="Leave the plan as it is; keep the grade beside the pictures.")
    ] = False,
    cdl: Annotated[
        Path | None,
        typer.Option("--cdl", help="Write the grades of the cells to an ASC CDL (.ccc).", show_default=False),
    ] = None,
) -> None:  # fmt: skip
    """Grade displayed pictures, and write them again from their OpenEXR files; nothing is traced.

    The plan keeps it under `grade:`, or a file beside the pictures with --beside; `off` goes back to the
    picture as it was traced.

    Example:  glat grade exposure=0.3 temperature=0.2 --at light=noon
    """
    named = [word for word in values or () if word.endswith(ENDING)]
    said = [word for word in values or () if word not in named]
    plan = open_plan(Path(named[0]) if named else None).beside(into)
    given: dict[str, float] = {}
    for word in said:
        name, equals, number = word.partition("=")
        if word == "off":
            continue
        if not equals:
            raise lattice.PlanError(f"{word} gives no value.", cure="write it as exposure=0.3, or off")
        given[name.replace("-", "_")] = number  # type: ignore[assignment]
    if said or cdl is None:
        plan.grade(at=at or (), off="off" in said, beside=beside, **given)
        _show_difference(plan)
        if dry:
            return
        plan.refuse_stale()
        done = plan.finish(at=at or (), into=into, **plan.hurried)
        _save(plan)  # what could not be done was refused before
        over = plan.grades_file()
        places = (cell.origins.get("grade") for cell in plan.cells.at(*(at or ())))
        if not beside and over is not None and any(p is not None and p.file == over for p in places):
            console.print(f"[yellow]what {escape(short(over))} says of some of them stands over it[/yellow]")
        _say_finished(plan, done, at, into)
    if cdl is not None:
        _write_cdl(plan, at, cdl)


def _say_finished(
    plan: lattice.Plan, done: lattice.Run, at: list[str] | None, into: Path | None
) -> None:  # fmt: skip
    """What pictures a grade changed, and which it could not."""
    files = sum(len(event.result.records) for event in done.finished)
    console.print(
        f"[green]✓[/green] {many(files, 'picture')} written from OpenEXR files in {duration(done.seconds)}, "
        "nothing traced"
    )
    if done.untraced:
        console.print(f"{many(done.untraced, 'frame')} left that cannot be written without a trace")
        next_step(f"glat run{arguments(plan_word(plan), at, into=into)}")


def _write_cdl(plan: lattice.Plan, at: list[str] | None, file: Path) -> None:
    cells = plan.cells.at(*(at or ()))
    grades = {cell.address: cell.settings.graded for cell in cells if cell.settings.graded}
    if file.exists():
        raise lattice.OutputError(f"{file} exists already and is left as it is.", cure="name another file")
    try:
        file.write_text(lattice.cdl_text(grades), encoding="utf-8")
    except OSError as problem:
        raise lattice.OutputError(f"{file} cannot be written: {problem.strerror or problem}.") from problem
    console.print(f"wrote  [bold]{escape(short(file))}[/bold], {many(len(grades), 'grade')}")
    beyond = {name for grade in grades.values() for name in lattice.beyond_cdl(grade)}
    if beyond:
        console.print(f"[yellow]without {', '.join(sorted(beyond))}[/yellow]: an ASC CDL cannot say that")


def edition(
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PLAN] NAMES", help="Editions; all of the plan where none is named."),
    ] = None,
    at: At = None,
    into: Into = None,
) -> None:
    """Write editions of the plan: sizes, formats, densities and labels for a purpose; nothing is traced.

    Example:  glat edition web
    """
    plan, names = plan_and(words or [], None)
    started = time.perf_counter()
    found = plan.edition(*(names or plan.model.editions), at=at or (), into=into)
    same = f", {found.unchanged:,} as they should be already" if found.unchanged else ""
    console.print(
        f"[green]✓[/green] {many(len(found.written), 'picture')} written in "
        f"{duration(time.perf_counter() - started)}{same}"
    )
    for folder in sorted({path.parent for path in found.written})[:_FOLDERS]:
        console.print(f"  {escape(short(folder))}")
    if found.stale:
        console.print(
            f"[yellow]{many(len(found.stale), 'cell')} out of date, shown as traced before; the first "
            f"{escape(found.stale[0])}[/yellow]"
        )
        next_step(f"glat run{arguments(plan_word(plan), at, into=into)}")
    if found.waiting:
        address, frame = found.waiting[0]
        console.print(
            f"[yellow]{many(len(found.waiting), 'frame')} without an OpenEXR file to write from, the first "
            f"{escape(address)}, frame {frame}[/yellow]"
        )
        next_step(f"glat run{arguments(plan_word(plan), at, into=into)}")


def board(
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PLAN] NAMES", help="Boards; all of the plan where none is named."),
    ] = None,
    into: Into = None,
) -> None:
    """Write boards of the plan: sheets with pictures of many cells, as PDF or PNG.

    A board is written anew only where one of its pictures or words changed.

    Example:  glat board wall
    """
    plan, names = plan_and(words or [], None)
    started = time.perf_counter()
    found = plan.board(*(names or plan.model.boards), into=into)
    for path in found.written:
        console.print(f"wrote  [bold]{escape(short(path))}[/bold]")
    if found.unchanged:
        console.print(f"{many(len(found.unchanged), 'file')} as they should be already")
    console.print(f"[dim]{duration(time.perf_counter() - started)}[/dim]")


def adopt(
    words: Annotated[
        list[str],
        typer.Argument(metavar="[PLAN] AXIS=ENTRY", help="Axes, each with the entry it stays with."),
    ],
    layer: Annotated[
        Path | None,
        typer.Option(
            "--layer", help="Leave the plan alone, and write what the entries change as a USD layer.",
            show_default=False,
        ),
    ] = None,
    yes: Yes = False,
) -> None:  # fmt: skip
    """Let an axis stay with one entry; addresses, names and what is done stay.

    The change is shown before it is written.

    Example:  glat adopt sky=040
    """
    plan, said = plan_and(words, None)
    chosen = {}
    for word in said:
        axis, equals, entry = word.partition("=")
        if not equals or not entry:
            raise lattice.PlanError(f"{word} names no entry.", cure="write it as axis=entry, such as sky=040")
        chosen[axis] = entry
    if layer is not None:
        console.print(f"wrote  [bold]{escape(short(plan.export_entries(layer, chosen)))}[/bold]")
        return
    before = len(plan.cells)
    plan.adopt(**chosen)
    _write(plan, yes, f"{many(len(plan.cells), 'cell')} of {before:,} stay")
    next_step(f"glat clean{arguments(plan_word(plan))}")


def again(
    words: Annotated[
        list[str],
        typer.Argument(metavar="[PLAN] CELL SETTINGS", help="The cell, and settings such as samples=512."),
    ],
    name: Annotated[
        str | None, typer.Option("--name", help="What the new cell is called.", show_default=False)
    ] = None,
    yes: Yes = False,
) -> None:
    """Ask for a cell again with other settings: larger, with more samples, as a panorama.

    It becomes a cell of its own, by a rule in the plan.

    Example:  glat again noon/brass/all/Wide projection=panorama size=4096x2048
    """
    plan, said = plan_and(words, None)
    cells = [word for word in said if "=" not in word]
    if len(cells) != 1:
        raise lattice.PlanError("Name one cell, and settings for it.", cure="glat cells lists them")
    settings = dict(word.split("=", 1) for word in said if "=" in word)
    if not settings:
        raise lattice.PlanError("No setting is other than before.", cure="name one, such as samples=512")
    count = len(plan.cells)
    plan.again(cells[0], name=name, **{key.replace("-", "_"): value for key, value in settings.items()})  # type: ignore[arg-type]
    added = plan.cells[count]
    _write(plan, yes, f"one more cell: {added.address}")
    next_step(f"glat run{arguments(plan_word(plan), [added.address])}")


def finer(
    words: Annotated[
        list[str],
        typer.Argument(metavar="[PLAN] AXIS=FROM,TO", help="A swept axis, and two of its entries."),
    ],
    count: Annotated[int, typer.Option("--count", help="How many steps to add between them.")] = 1,
    yes: Yes = False,
) -> None:
    """Add steps between two entries of a sweep, as cells of their own; all others stay.

    Example:  glat finer sky=040,050
    """
    plan, said = plan_and(words, None)
    axis, _, entries = (said or [""])[0].partition("=")
    ends = entries.split(",")
    if len(said) != 1 or len(ends) != 2 or not all(ends):
        raise lattice.PlanError(
            "Name one axis and two of its entries.", cure="write it as axis=from,to, such as sky=040,050"
        )
    before = len(plan.cells)
    plan.finer(axis, ends[0], ends[1], count)
    _write(plan, yes, f"{many(len(plan.cells) - before, 'more cell')}")
    next_step(f"glat run{arguments(plan_word(plan))}")


def _show_difference(plan: lattice.Plan) -> None:
    for line in plan.difference().splitlines():
        style = {"+": "green", "-": "red", "@": "dim"}.get(line[:1], "")
        console.print(escape(line), style=style or None)


def _write(plan: lattice.Plan, yes: bool, what: str) -> None:
    """Show what changes in a plan, and write it on a yes."""
    _show_difference(plan)
    console.print(what)
    if not yes and not typer.confirm("write it?", default=False):
        console.print("nothing was written")
        raise typer.Exit()
    _save(plan)


def _save(plan: lattice.Plan) -> None:
    changed = plan.changed_files()
    plan.save()
    for file in changed:
        console.print(f"wrote  [bold]{escape(short(file))}[/bold]")
