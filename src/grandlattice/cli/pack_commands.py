"""Commands that carry a plan to other machines."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

import grandlattice as lattice
from grandlattice._support.readable import size
from grandlattice.cli.shared_options import arguments, plan_and
from grandlattice.cli.terminal_text import console, many, next_step, short


def pack(
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="[PLAN] PACK", help="The plan, and a new folder, or a name that ends in .zip."
        ),
    ],
    incomplete: Annotated[
        bool, typer.Option("--incomplete", help="Pack what is there although files are missing.")
    ] = False,
) -> None:
    """Pack everything a plan's cells need and nothing else, to open it on another machine.

    Example:  glat pack orrery.zip
    """
    plan, said = plan_and(words, None)
    if len(said) != 1:
        raise lattice.PlanError(
            "Name one folder or archive to pack into.", cure="such as glat pack orrery.zip"
        )
    made = plan.pack(said[0], incomplete=incomplete)
    console.print(
        f"[green]✓[/green] {many(len(made.manifest.files), 'file')}, {size(made.manifest.size)}, in "
        f"[bold]{escape(short(made.path))}[/bold]"
    )
    for name in made.manifest.missing:
        console.print(f"[yellow]without {escape(name)}[/yellow], which is missing")
    next_step(f"glat unpack{arguments([made.path])} FOLDER, on the other machine")


def unpack(
    source: Annotated[Path, typer.Argument(metavar="PACK", help="A folder or archive that glat pack wrote.")],
    folder: Annotated[
        Path | None, typer.Argument(metavar="FOLDER", help="A new folder; the pack's own name by default.")
    ] = None,
    verify: Annotated[
        bool, typer.Option("--verify", help="Look whether all is as it was packed, and write nothing.")
    ] = False,
) -> None:
    """Open a pack: every file is verified, and none leads out of the folder.

    Example:  glat unpack orrery.zip
    """
    if folder is None and not verify:
        if source.suffix.lower() != ".zip":
            raise lattice.PlanError(
                "Name a folder to unpack into.", cure=f"such as glat unpack {source} here"
            )
        folder = Path(source.stem)
    made = lattice.unpack(source, None if verify else folder)
    told = f"{many(len(made.manifest.files), 'file')}, {size(made.manifest.size)}"
    console.print(f"[green]✓[/green] {told}, each as it was packed")
    for name in made.manifest.missing:
        console.print(f"[yellow]without {escape(name)}[/yellow], which was missing when it was packed")
    if made.plan is not None:
        console.print(f"wrote  [bold]{escape(short(made.path))}[/bold]")
        next_step(f"glat run{arguments([made.plan])}")
