"""Commands that show pictures: sheets, the page, proofs that follow what is saved."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

import grandlattice as lattice
from grandlattice.cli import result_tables
from grandlattice.cli.shared_options import At, Into, PlanFile, SetOf, open_queue
from grandlattice.cli.terminal_text import console, many, short


def review(
    plan: PlanFile = None,
    at: At = None,
    sets: SetOf = None,
    into: Into = None,
    pass_name: Annotated[
        str | None, typer.Option("--pass", help="The pass to show; illuminance comes in false colours.")
    ] = None,
    above: Annotated[
        float | None,
        typer.Option("--above", help="Of illuminance: say how much of each picture has more lx than this."),
    ] = None,
    page: Annotated[
        bool, typer.Option("--page/--no-page", help="With the page to look into them; not with --pass.")
    ] = True,
    choices: Annotated[
        Path | None,
        typer.Option("--choices", help="Take in a file of choices that the page saved.", dir_okay=False),
    ] = None,
    serve: Annotated[
        bool, typer.Option("--serve", help="Serve the page on this machine; it follows the run until Ctrl-C.")
    ] = False,
    port: Annotated[int, typer.Option("--port", min=0, max=65535, help="Of --serve; 0 is any.")] = 0,
    listen: Annotated[
        str, typer.Option("--listen", help="Serve to other machines, by this address; needs TLS.")
    ] = "127.0.0.1",
    certificate: Annotated[
        Path | None, typer.Option("--certificate", help="Of TLS, PEM.", dir_okay=False, exists=True)
    ] = None,
    key: Annotated[
        Path | None, typer.Option("--key", help="Of the certificate, PEM.", dir_okay=False, exists=True)
    ] = None,
) -> None:
    """Write the contact sheet of what is rendered, and the page to look into it.

    The page is a folder; its index.html opens in a browser, from the disk.

    Example:  glat review --serve
    """
    queue = open_queue([plan] if plan else None, None, at, sets)
    steps = list(queue)
    for step in steps if choices is not None else ():
        made = step.plan.choices(take_in=choices, into=into)
        by = Counter(choice.by for choice in made.values())
        console.print(f"choices  {by['keep']} keep, {by['maybe']} maybe, {by['out']} out")
    if serve or listen != "127.0.0.1":
        step = _only(steps)
        step.plan.serve(
            _say_served, at=step.at, sets=step.sets, into=into, address=listen, port=port,
            certificate=certificate, key=key,
        )  # fmt: skip
        return
    for step in steps:
        sheets = step.plan.review(at=step.at, sets=step.sets, into=into, pass_name=pass_name, above=above)
        result_tables.show_files(sheets, "wrote")
        if page and pass_name is None and len(steps) == 1:
            _page(step.plan.page(at=step.at, sets=step.sets, into=into))
    if page and pass_name is None and len(steps) > 1:
        _page(queue.page(into=into))


def _only(steps: Sequence[lattice.Step]) -> lattice.Step:
    """The one plan that a page is served of.

    Raises
    ------
    PlanError
        When there are several.
    """
    if len(steps) != 1:
        raise lattice.PlanError(
            f"A page is served of one plan, and here are {len(steps)}.", cure="name one of them"
        )
    return steps[0]


def _say_served(address: str) -> None:
    console.print(f"the page is at  [bold]{escape(address)}[/bold]  until Ctrl-C", soft_wrap=True)


def _page(files: lattice.PageFiles) -> None:
    """Say where the page is, and what it lacks."""
    result_tables.show_files([files.index], "wrote")
    console.print("[dim]open it in a browser; glat review --serve follows a run[/dim]")
    for file, why in files.unreadable:
        console.print(f"[yellow]![/yellow] {escape(short(file))} is not on the page: {escape(why)}")
    if files.left_out:
        console.print(
            f"[dim]{many(files.left_out, 'picture')} can be seen small only, so that the page stays small "
            "enough; --at writes it of some cells[/dim]"
        )


def live(
    plan: PlanFile = None,
    at: At = None,
    sets: SetOf = None,
    width: Annotated[int, typer.Option("--width", min=16, max=4096, help="Of the proofs, pixels.")] = 320,
    port: Annotated[int, typer.Option("--port", min=0, max=65535, help="Of the page; 0 is any.")] = 0,
) -> None:
    """Proof again whatever a save of plan or scene changed, on a page; until Ctrl-C.

    Example:  glat live --at light=noon
    """
    step = _only(list(open_queue([plan] if plan else None, None, at, sets)))
    file = step.plan.document.file
    assert file is not None
    console.print(
        f"each save of [bold]{escape(short(file))}[/bold] or its scene proofs again what it changed"
    )
    lattice.live(file, _say_served, at=step.at, sets=step.sets, width=width, port=port)
