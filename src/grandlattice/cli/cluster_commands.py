"""Commands for machines that render together."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

import grandlattice as lattice
from grandlattice._support.readable import size
from grandlattice.cli.terminal_text import console, short


class Doing(StrEnum):
    certificates = "certificates"
    clean = "clean"


def cluster(
    doing: Annotated[
        Doing,
        typer.Argument(
            metavar="certificates|clean", help="Make certificates, or empty this machine's cache."
        ),
    ],
    folder: Annotated[
        Path | None,
        typer.Argument(metavar="FOLDER", help="Where certificates go; this machine's own by default."),
    ] = None,
) -> None:
    """Make the certificates by which machines know each other, or remove scenes kept for other machines.

    Example:  glat cluster certificates
    """
    if doing is Doing.clean:
        removed = lattice.clean_cluster_cache()
        console.print(f"{size(removed)} removed" if removed else "nothing is kept here for other machines")
        return
    files = lattice.make_certificates(folder)
    for path in files:
        console.print(f"wrote  [bold]{escape(short(path))}[/bold]")
    authority, certificate, key = (short(path) for path in files)
    tls = f"--tls-ca-file {authority} --tls-cert {certificate} --tls-key {key}"
    console.print(
        "\nCopy all three to every machine: each that has them is let in. Then, on one machine and on all:"
    )
    console.print(f"  dask scheduler --protocol tls --no-dashboard {escape(tls)}", soft_wrap=True)
    console.print(
        f"  dask worker tls://THAT-MACHINE:8786 --nthreads 1 --no-dashboard {escape(tls)}", soft_wrap=True
    )
    console.print("  glat run --on tls://THAT-MACHINE:8786", soft_wrap=True)
