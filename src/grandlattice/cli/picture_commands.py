"""Commands about pictures that are there: where they are, how far apart, earlier ones, what is left over."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

import grandlattice as lattice
from grandlattice.cli.shared_options import (
    AsJson,
    Into,
    OneFrame,
    PlanAndCell,
    Yes,
    arguments,
    open_plan,
    plan_and,
    plan_word,
)
from grandlattice.cli.terminal_text import (
    console,
    duration,
    errors,
    many,
    next_step,
    print_json,
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
_SHOWN = 3  # passes of a file
_LISTED = 200  # leftovers


def where(
    words: PlanAndCell,
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
    plan, (address,) = plan_and(words, 1)
    facts = plan.where(address, frame=frame, into=into)
    if json:
        print_json(facts)
        return
    for each in facts:
        console.print(f"[bold]{escape(short(each.path))}[/bold]")
        console.print(f"  {', '.join(_told(each))}")
    for name, text in dict(pair for each in facts for pair in each.made_from).items():
        console.print(f"[dim]{name}[/dim]  {escape(text)}")
    there = [each.path for each in facts if each.is_there]
    if opened is not None:
        _open(there, opened, address)
    elif not there:
        next_step(f"glat run{arguments(plan_word(plan), [address])}")


def _told(facts: lattice.FileFacts) -> Iterator[str]:
    """What is known of a file, a word for each."""
    passes = facts.passes[:_SHOWN]
    more = len(facts.passes) - len(passes)
    yield f"frame {facts.frame}"
    yield escape(" ".join(passes)) + (f" and {more} more" if more else "")
    if not facts.is_there:
        yield "[yellow]not there[/yellow]"
        return
    yield f"{facts.width}x{facts.height}"
    yield size(facts.bytes)
    if facts.samples:
        yield f"{facts.samples} samples"
    if facts.noise is not None:
        yield f"noise {facts.noise:.1%}"
    if facts.seconds:
        yield f"traced in {duration(facts.seconds)}"
    if facts.finished is not None:
        by = f" by run {facts.run}" if facts.run else ""
        yield f"made {facts.finished:%Y-%m-%d %H:%M}{by}"
    if facts.denoised:
        yield "denoised" + (f" by {facts.denoised:.0%}" if facts.denoised < 1.0 else "")
    if facts.unfinished:
        yield "unfinished"


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
        f"relative error  {100.0 * found.relative:.3g} %   [dim]mean squared error {found.mse:.4g}, "
        f"PSNR {found.psnr:.1f} dB, SSIM {found.ssim:.4f}, white at {found.peak:.4g}[/dim]\n"
        f"largest         {found.largest:.4g} at pixel {x} {y}\n"
        f"differ          {found.share:.1%} of the pixels"
    )


def _show_changes(plan: lattice.Plan, first: str, second: str) -> None:
    """What differs in the plan between two cells."""
    from grandlattice.cli import result_tables

    console.print()
    result_tables.show_explanation(plan.explain(second, against=first))


def history(
    words: PlanAndCell,
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
    plan, (address,) = plan_and(words, 1)
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
        console.print(
            "no earlier picture is kept; keep-earlier: 3 under run: in the plan keeps three from now on"
        )
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
    rejected: Annotated[
        bool, typer.Option("--rejected", help="Files of cells that were chosen as out, too.")
    ] = False,
    into: Into = None,
    yes: Yes = False,
    json: AsJson = False,
) -> None:
    """List what runs left behind that the plan has no use for, and remove it on a yes.

    Never a file that no run of the plan made.

    Example:  glat clean
    """
    opened = open_plan(plan)
    found = opened.leftovers(rejected=rejected, into=into)
    if json:
        print_json([each._asdict() for each in found])
        return
    if not found:
        console.print("nothing is left over: every file of the plan's runs belongs to one of its cells")
        return
    why = ""
    for each in sorted(found, key=lambda each: (each.why, str(each.path)))[:_LISTED]:
        if each.why != why:
            why = each.why
            console.print(f"[bold]{escape(why)}[/bold]")
        console.print(f"  {escape(short(each.path))}  [dim]{size(each.bytes)}[/dim]")
    if len(found) > _LISTED:
        console.print(f"  [dim]and {len(found) - _LISTED:,} more; --json lists them[/dim]")
    whole = f"{many(len(found), 'file')}, {size(sum(each.bytes for each in found))}"
    if not yes and not typer.confirm(f"remove {whole}?", default=False):
        console.print("nothing was removed")
        return
    gone = opened.clean(found, into=into)
    console.print(f"removed {many(len(gone), 'file')}, {size(sum(each.bytes for each in gone))}")
    if rejected and any(each.why == "it was chosen as out" for each in gone):
        console.print("[dim]glat run renders them again unless a rule of the plan says skip: true[/dim]")
