"""Commands about pictures that are there: where they are, how far apart, graded, chosen, cleared away."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape
from rich.table import Table

import grandlattice as lattice
from grandlattice.cli.shared_options import AsJson, At, Into, arguments, open_plan
from grandlattice.cli.terminal_text import (
    console,
    duration,
    errors,
    many,
    next_step,
    print_json,
    quoted,
    short,
    size,
)

PlanOption = Annotated[
    Path | None,
    typer.Option(
        "--plan", help="The plan; may be left out where the folder holds just one.", show_default=False
    ),
]
PassName = Annotated[
    str | None, typer.Option("--pass", help="The pass, the beauty by default.", show_default=False)
]
OneFrame = Annotated[int | None, typer.Option("--frame", help="Only this frame.", show_default=False)]
Yes = Annotated[bool, typer.Option("--yes", "-y", help="Do it without asking.")]
_ENDING = ".lattice.yaml"
_SHOWN = 3  # passes of a file
_FOLDERS = 5  # that are named
_NUMBERS = ("frame", "samples")


def where(
    words: Annotated[
        list[str], typer.Argument(metavar="[PLAN] CELL", help="The cell, behind the plan where needed.")
    ],
    frame: OneFrame = None,
    opened: Annotated[
        str | None,
        typer.Option(
            "--open", metavar="picture|folder", help="Hand its first picture, or its folder, to the desktop.",
            show_default=False,
        ),
    ] = None,
    into: Into = None,
    json: AsJson = False,
) -> None:  # fmt: skip
    """The files of a cell: where they are, and what is known of them.

    Example:  glat where noon/brass/all/Wide
    """
    plan, (address,) = _plan_and(words, 1)
    facts = plan.where(address, frame=frame, into=into)
    if json:
        print_json(facts)
        return
    table = Table(box=None, header_style="dim", pad_edge=False)
    for title in ("file", "frame", "holds", "size", "", "samples", "noise", "traced", "made", "run"):
        table.add_column(title, overflow="fold", justify="right" if title in _NUMBERS else "left")
    for each in facts:
        holds = ", ".join(each.passes[:3]) + (
            f" and {len(each.passes) - 3} more" if len(each.passes) > 3 else ""
        )
        row = [escape(short(each.path)), str(each.frame), escape(holds)]
        if not each.is_there:
            table.add_row(*row, "[yellow]not there[/yellow]")
            continue
        remarks = [
            word for word, is_so in (("denoised", each.denoised), ("unfinished", each.unfinished)) if is_so
        ]
        noise = "" if each.noise is None else f"{each.noise:.1%}"
        made = "" if each.finished is None else f"{each.finished:%Y-%m-%d %H:%M}"
        table.add_row(
            *row, f"{each.width}x{each.height}", size(each.bytes), f"{each.samples or ''}", noise,
            duration(each.seconds) if each.seconds else "", " ".join([made, *remarks]), str(each.run or ""),
        )  # fmt: skip
    console.print(table)
    for name, text in dict(pair for each in facts for pair in each.made_from).items():
        console.print(f"[dim]{name}[/dim]  {escape(text)}")
    there = [each.path for each in facts if each.is_there]
    if opened is not None:
        _open(there, opened, address)
    elif not there:
        next_step(f"glat run --at {quoted(address)}")


def _open(there: list[Path], what: str, address: str) -> None:
    if what not in ("picture", "folder"):
        raise lattice.PlanError(f"--open is picture or folder, not {what}.")
    if not there:
        raise lattice.RunError(f"There is no picture of {address} yet.", cure="glat run renders it")
    shown = next((p for p in there if p.suffix != ".exr"), there[0])
    target = shown.parent if what == "folder" else shown
    if typer.launch(str(target)) != 0:
        raise lattice.RunError(
            f"The desktop did not take {target}.", cure="open it by hand; a desktop is needed for --open"
        )


def compare(
    first: Annotated[str, typer.Argument(metavar="FIRST", help="A picture file, or a cell.")],
    second: Annotated[str, typer.Argument(metavar="SECOND", help="Another one.")],
    plan: PlanOption = None,
    pass_name: PassName = None,
    frame: OneFrame = None,
    within: Annotated[
        float | None,
        typer.Option(
            "--within", min=0.0,
            help="Exit 1 where the root of the mean squared error is more than this part of the first "
            "picture's light: 0.01.", show_default=False,
        ),
    ] = None,
    picture: Annotated[
        Path | None,
        typer.Option("--picture", help="Write the difference to a .png, with its scale.", show_default=False),
    ] = None,
    into: Into = None,
    json: AsJson = False,
) -> int:  # fmt: skip
    """How far two pictures are apart, and where; of two cells also what differs in the plan.

    Example:  glat compare noon/brass/all/Wide noon/verdigris/all/Wide
    """
    opened = None
    if Path(first).is_file() and Path(second).is_file():
        found = lattice.compare_files(first, second, pass_name)
    else:
        if Path(first).is_file() or Path(second).is_file():
            other = second if Path(first).is_file() else first
            raise lattice.PlanError(f"There is no file {other}.", cure="name two files, or two cells")
        opened = open_plan(plan)
        found = opened.compare(first, second, pass_name or "beauty", frame=frame, into=into)
    if picture is not None:
        found.save(picture)
    if json:
        told = {name: getattr(found, name) for name in
                ("mse", "psnr", "ssim", "relative", "largest", "at", "share", "peak")}  # fmt: skip
        print_json(told)
    else:
        _show_comparison(found)
        if picture is not None:
            console.print(f"wrote  [bold]{escape(short(picture))}[/bold]")
        if opened is not None:
            _show_changes(opened, first, second)
    if within is not None and found.relative > within:
        errors.print(f"[bold red]✗[/bold red] apart by {found.relative:.2%}, more than {within:.2%}")
        return 1
    return 0


def _show_comparison(found: lattice.Comparison) -> None:
    if found.share == 0.0:
        console.print("the two are equal")
        return
    x, y = found.at
    console.print(
        f"relative error  {found.relative:.3%}   [dim]mean squared error {found.mse:.4g}, "
        f"PSNR {found.psnr:.1f} dB, SSIM {found.ssim:.4f}, white at {found.peak:.4g}[/dim]\n"
        f"largest         {found.largest:.4g} at pixel {x} {y}\n"
        f"differ          {found.share:.1%} of the pixels"
    )


def _show_changes(plan: lattice.Plan, first: str, second: str) -> None:
    """What differs in the plan between two cells."""
    from grandlattice.cli import result_tables

    console.print()
    result_tables.show_explanation(plan.explain(first, against=second))


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
    dry: Annotated[bool, typer.Option("--dry", help="Only show what would change in the plan.")] = False,
    cdl: Annotated[
        Path | None,
        typer.Option("--cdl", help="Write the grades of the cells to an ASC CDL (.ccc).", show_default=False),
    ] = None,
) -> None:  # fmt: skip
    """Grade displayed pictures, and write them again from their OpenEXR files; nothing is traced.

    The plan keeps it under `grade:`; `off` goes back to the picture as it was traced.

    Example:  glat grade exposure=0.3 temperature=0.2 --at light=noon
    """
    named = [word for word in values or () if word.endswith(_ENDING)]
    said = [word for word in values or () if word not in named]
    plan = open_plan(Path(named[0]) if named else None)
    given: dict[str, float] = {}
    for word in said:
        name, equals, number = word.partition("=")
        if word == "off":
            continue
        if not equals:
            raise lattice.PlanError(f"{word} gives no value.", cure="write it as exposure=0.3, or off")
        given[name.replace("-", "_")] = number  # type: ignore[assignment]
    if said or cdl is None:
        plan.grade(at=at or (), off="off" in said, **given)
        _show_difference(plan)
        if dry:
            return
        plan.refuse_stale()
        done = plan.finish(at=at or (), into=into, **plan.hurried)
        plan.save()  # what could not be done was refused before
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
        next_step(f"glat run{arguments(_named(plan), at, into=into)}")


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
    plan, names = _plan_and(words or [], None)
    started = time.perf_counter()
    found = plan.edition(*(names or plan.model.editions), at=at or (), into=into)
    same = f", {found.unchanged:,} as they should be already" if found.unchanged else ""
    console.print(
        f"[green]✓[/green] {many(len(found.written), 'picture')} written in "
        f"{duration(time.perf_counter() - started)}{same}"
    )
    for folder in sorted({path.parent for path in found.written})[:_FOLDERS]:
        console.print(f"  {escape(short(folder))}")
    if found.waiting:
        address, frame = found.waiting[0]
        console.print(
            f"[yellow]{many(len(found.waiting), 'frame')} without an OpenEXR file to write from, the first "
            f"{escape(address)}, frame {frame}[/yellow]"
        )
        next_step(f"glat run{arguments(_named(plan), at, into=into)}")


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
    plan, names = _plan_and(words or [], None)
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
    plan, said = _plan_and(words, None)
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
    next_step(f"glat clean{arguments(_named(plan))}")


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
    plan, said = _plan_and(words, None)
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
    next_step(f"glat run{arguments(_named(plan), [added.address])}")


def history(
    words: Annotated[
        list[str], typer.Argument(metavar="[PLAN] CELL", help="The cell, behind the plan where needed.")
    ],
    frame: OneFrame = None,
    back: Annotated[
        int | None,
        typer.Option("--back", min=1, help="Make this earlier picture the present one.", show_default=False),
    ] = None,
    into: Into = None,
    json: AsJson = False,
) -> None:
    """Earlier pictures of a cell: when another took their place, and what changed.

    They are kept where the plan says `run: {keep-earlier: 3}`, or `existing: keep-both`.

    Example:  glat history noon/brass/all/Wide
    """
    plan, (address,) = _plan_and(words, 1)
    if back is not None:
        chosen = plan.back(address, back, frame=frame, into=into)
        for _, present in chosen.files:
            console.print(f"back  [bold]{escape(short(present))}[/bold]")
        console.print("what was there is kept; glat run makes the picture again that the plan asks for")
        return
    found = plan.history(address, frame=frame, into=into)
    if json:
        print_json([each._asdict() for each in found])
        return
    if not found:
        console.print("no earlier picture is kept")
        next_step("keep-earlier: 3 under run: in the plan keeps three from now on")
        return
    for each in found:
        console.print(f"[bold]{each.number}[/bold]  until {each.replaced:%Y-%m-%d %H:%M}, then changed:")
        for name, then, now in each.changes:
            before, after = (escape(text) or "[dim]nothing[/dim]" for text in (then, now))
            console.print(f"   {escape(name)}  {before} → {after}")
        if not each.changes:
            console.print("   [dim]nothing that the pictures tell of[/dim]")
        for kept, _ in each.files:
            console.print(f"   [dim]{escape(short(kept))}[/dim]")


def clean(
    plan: Annotated[
        Path | None,
        typer.Argument(metavar="[PLAN]", help="The plan; may be left out where there is just one."),
    ] = None,
    into: Into = None,
    yes: Yes = False,
    json: AsJson = False,
) -> None:
    """List what runs left behind that the plan has no use for, and remove it on a yes.

    Never a file that no run of the plan made.

    Example:  glat clean
    """
    opened = open_plan(plan)
    found = opened.leftovers(into=into)
    if json:
        print_json([each._asdict() for each in found])
        return
    if not found:
        console.print("nothing is left over: every file of the plan's runs belongs to one of its cells")
        return
    why = ""
    for each in sorted(found, key=lambda each: (each.why, str(each.path)))[:200]:
        if each.why != why:
            why = each.why
            console.print(f"[bold]{escape(why)}[/bold]")
        console.print(f"  {escape(short(each.path))}  [dim]{size(each.bytes)}[/dim]")
    if len(found) > 200:
        console.print(f"  [dim]and {len(found) - 200:,} more; --json lists them[/dim]")
    whole = f"{many(len(found), 'file')}, {size(sum(each.bytes for each in found))}"
    if not yes and not typer.confirm(f"remove {whole}?", default=False):
        console.print("nothing was removed")
        return
    gone = opened.clean(found, into=into)
    console.print(f"removed {many(len(gone), 'file')}, {size(sum(each.bytes for each in gone))}")


def _plan_and(words: list[str], count: int | None) -> tuple[lattice.Plan, list[str]]:
    """The plan meant, and the words behind it."""
    named = words[0] if words and words[0].endswith(_ENDING) else None
    said = words[1:] if named else words
    if count is not None and len(said) != count:
        raise lattice.PlanError("One cell is wanted." if count == 1 else f"{count} words are wanted.")
    return open_plan(Path(named) if named else None), said


def _named(plan: lattice.Plan) -> list[Path]:
    """The plan's file for a next command, where the folder alone does not tell it."""
    if plan.file is None or [path.absolute() for path in Path.cwd().glob(f"*{_ENDING}")] == [plan.file]:
        return []
    return [Path(short(plan.file))]


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
    plan.save()
    assert plan.file is not None
    console.print(f"wrote  [bold]{escape(short(plan.file))}[/bold]")
