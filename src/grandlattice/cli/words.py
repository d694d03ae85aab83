"""How numbers, times and problems are said in the terminal."""

from __future__ import annotations

import json
from dataclasses import asdict, is_dataclass
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.markup import escape

from grandlattice import LatticeError

# A place such as plan.yaml:100:14 is no emoji.
console = Console(highlight=False, soft_wrap=True, emoji=False)
errors = Console(stderr=True, highlight=False, soft_wrap=True, emoji=False)
debug = False  # whether a traceback was asked for


def duration(seconds: float) -> str:
    """A readable time: ``0.4 s``, ``48 s``, ``3 min 20 s``, ``1 h 12 min``."""
    if seconds < 10:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


def size(count: float) -> str:
    """A readable amount of bytes: ``3.2 MB``."""
    for unit in ("B", "kB", "MB", "GB"):
        if count < 1000:
            return f"{count:.0f} {unit}" if unit == "B" else f"{count:.1f} {unit}"
        count /= 1000
    return f"{count:.1f} TB"


def many(count: int, one: str, more: str | None = None) -> str:
    """``1 cell``, ``27 cells``."""
    plural = more or one + ("es" if one.endswith(("s", "x", "ch", "sh")) else "s")
    return f"{count:,} {one if count == 1 else plural}"


def next_step(command: str) -> None:
    """The likeliest next command, ready to paste."""
    console.print(f"\n[dim]next:[/dim]  {escape(command)}")


def quoted(path: Path | str) -> str:
    """A path for a command line, in quotes where it needs them."""
    text = str(path)
    return f'"{text}"' if " " in text else text


def short(path: Path) -> str:
    """A path relative to the current folder where that is shorter."""
    try:
        return str(path.resolve().relative_to(Path.cwd()))
    except ValueError:
        return str(path)


def show_problem(problem: LatticeError) -> None:
    """What is wrong, where, and what to do, as one block."""
    errors.print(f"[bold red]✗[/bold red] {escape(problem.what)}")
    if problem.place is not None:
        errors.print(f"  [dim]where[/dim]  {escape(str(problem.place))}")
    if problem.cure:
        errors.print(f"  [dim]do[/dim]     {escape(problem.cure)}")


def print_json(value: Any) -> None:
    """Print a value for programs to read."""
    print(json.dumps(value, default=_plain, ensure_ascii=False, indent=1))


def _plain(value: Any) -> Any:
    if is_dataclass(value) and not isinstance(value, type):
        return asdict(value)
    if isinstance(value, Path):
        return str(value)
    return str(value)
