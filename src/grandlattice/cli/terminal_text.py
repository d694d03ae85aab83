"""How problems and next steps are said in the terminal; for numbers and times see `readable`."""

from __future__ import annotations

import json
import os
from dataclasses import asdict, is_dataclass
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.markup import escape
from rich.text import Text

import grandlattice as lattice
from grandlattice import LatticeError
from grandlattice._support.readable import cleaned, duration, many, size


class _Console(Console):
    """Shows every text, wherever it comes from, without what would steer the terminal."""

    def render_str(self, text: str, **options: Any) -> Text:
        return super().render_str(cleaned(text), **options)


# A place such as plan.yaml:100:14 is no emoji.
console = _Console(highlight=False, soft_wrap=True, emoji=False)
if not console.is_terminal and "COLUMNS" not in os.environ:
    console.width = 160  # a file, or another program, has no edge
errors = _Console(stderr=True, highlight=False, soft_wrap=True, emoji=False)
__all__ = [
    "console", "debug", "duration", "errors", "many", "next_step", "print_json", "quoted", "short",
    "show_problem", "size",
]  # fmt: skip

debug = False  # whether a traceback was asked for


def say_compiling() -> None:
    """Say that the tracer is compiled first, where it is not yet."""
    if not lattice.tracer_is_prepared():
        console.print("compiling the tracer for this machine, once; this takes ten to twenty seconds …")


def next_step(command: str) -> None:
    """The likeliest next command, ready to paste."""
    console.print(f"\n[dim]next:[/dim]  {escape(command)}")


def quoted(path: Path | str) -> str:
    """A path for a command line, in quotes where it needs them."""
    text = str(path)
    return f'"{text}"' if " " in text else text


def short(path: Path) -> str:
    """A path relative to the current folder where it lies below it; that folder itself by its whole name."""
    here = Path.cwd()
    for full in (path.absolute(), path.resolve()):
        if full != here and full.is_relative_to(here):
            return str(full.relative_to(here))
    return str(path.absolute())


def show_problem(problem: LatticeError) -> None:
    """What is wrong, where, and what to do, as one block."""
    errors.print(f"[bold red]✗[/bold red] {escape(problem.what)}")
    if problem.place is not None:
        errors.print(f"  [dim]where[/dim]  {escape(str(problem.place))}")
    if problem.cure:
        errors.print(f"  [dim]do[/dim]     {escape(problem.cure)}")


def print_json(value: Any) -> None:
    """Print a value for programs to read."""
    print(cleaned(json.dumps(value, default=_plain, ensure_ascii=False, indent=1)))


def _plain(value: Any) -> Any:
    if is_dataclass(value) and not isinstance(value, type):
        return asdict(value)
    if isinstance(value, Path):
        return str(value)
    return str(value)
