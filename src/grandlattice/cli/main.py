"""`glat`: words, tables and progress bars over the public interface.

Exits 0 when done, 1 when the work has failures, 2 when what was asked cannot be understood,
130 when interrupted.  What a command needs is loaded when it is given, so that the light ones
answer at once.
"""

from __future__ import annotations

from grandlattice._support.standard_streams import ensure_standard_streams
from grandlattice.cli import signals

signals.end_at_once()  # before anything that takes its time to load
ensure_standard_streams()  # before any file is opened

import os  # noqa: E402
import sys  # noqa: E402
from collections.abc import Callable  # noqa: E402
from importlib import import_module  # noqa: E402
from typing import Annotated, Any  # noqa: E402

import typer  # noqa: E402
from rich.markup import escape  # noqa: E402

import grandlattice as lattice  # noqa: E402
from grandlattice.cli import limits, terminal_text  # noqa: E402
from grandlattice.cli.scene_loading import load_scenes  # noqa: E402
from grandlattice.cli.terminal import forgive  # noqa: E402
from grandlattice.cli.terminal_text import console, errors, show_problem  # noqa: E402

app = typer.Typer(
    help="Grand Lattice: one scene, one plan, every picture of the matrix.",
    no_args_is_help=True,
    context_settings={"help_option_names": ["-h", "--help"]},
    add_completion=True,
    pretty_exceptions_enable=False,
    rich_markup_mode="rich",
)
_ROOMS = {
    "plan_commands": ("survey", "begin", "cells", "explain", "check", "passes", "export", "schema"),
    "picture_commands": ("where", "compare", "history", "clean"),
    "choice_commands": ("grade", "edition", "board", "adopt", "again", "finer"),
    "run_commands": ("demo", "proof", "run", "continue"),
    "page_commands": ("review", "live"),
    "pack_commands": ("pack", "unpack"),
    "cluster_commands": ("cluster",),
    "steer_commands": (
        "status",
        "pause",
        "unpause",
        "stop",
        "retry",
        "priority",
        "drop",
        "add",
        "workers",
        "spare",
    ),
}
"""Where each command is defined; tracer and USD take a second to load for those that need them."""


def _show_version(wanted: bool) -> None:
    if wanted:
        console.print(f"Grand Lattice {lattice.__version__}")
        raise typer.Exit()


@app.callback()
def _options(
    debug: Annotated[
        bool, typer.Option("--debug", help="Show a traceback when something goes wrong.")
    ] = False,
    version: Annotated[
        bool, typer.Option("--version", help="Show the version.", is_eager=True, callback=_show_version)
    ] = False,
) -> None:
    terminal_text.debug = debug


def _add_commands(asked: str | None) -> None:
    """Add the commands of the room that has the one asked for; all of them where none has."""
    rooms = [room for room, names in _ROOMS.items() if asked in names] or list(_ROOMS)
    app.registered_commands.clear()  # of another call in this process
    for room in rooms:
        module = import_module(f"grandlattice.cli.{room}")
        for name in _ROOMS[room]:
            app.command(name)(getattr(module, name if name != "continue" else "continue_"))


_QUICK = {"cells", "run"}  # commands that may answer without opening anything
_PLAINLY = {
    "Input should be a valid integer, unable to parse string as an integer": "a whole number is wanted.",
    "Input should be a valid number, unable to parse string as a number": "a number is wanted.",
    "Input should be greater than or equal to": "it may not be less than",
}
"""What our library for options says → what we say."""


def main() -> None:
    """The command `glat`."""
    forgive()
    try:
        words = os.environ.get("COMP_WORDS", "").split() if "_GLAT_COMPLETE" in os.environ else sys.argv
        asked = next((word for word in words[1:] if not word.startswith("-")), None)
        short_of_memory = _refusal(asked)
        if short_of_memory is not None:
            show_problem(short_of_memory)
            sys.exit(1)
        _add_commands(asked)
        helped = {"--help", "-h"} & set(sys.argv) or "_GLAT_COMPLETE" in os.environ
        opens = {
            name for room, names in _ROOMS.items() for name in names if room != "steer_commands"
        } - _QUICK
        if asked in opens and not helped:
            load_scenes()
        signals.end_in_order()
        code = _answered(lambda: app(standalone_mode=False))
    except KeyboardInterrupt as ended:
        if isinstance(ended, signals.Ended):
            ended.has_arrived = True
        signals.go_on()
        errors.print("stopped")
        code = ended.code if isinstance(ended, signals.Ended) else 130
    signals.go_on()
    sys.exit(code)


def _refusal(asked: str | None) -> lattice.LatticeError | None:
    """What is said where this process may not have the memory for a command."""
    needed = limits.TO_TRACE if asked in (*_ROOMS["run_commands"], "begin") else limits.TO_PLAN
    if asked in (None, "schema", *_ROOMS["steer_commands"]):
        needed = limits.TO_STEER
    try:
        limits.refuse_little_memory(limits.TO_CHECK if asked == "check" else needed)
    except lattice.LatticeError as problem:
        return problem
    return None


def _answered(command: Callable[[], Any]) -> int:
    """Carry a command out; its exit code, once everything is said.

    Raises
    ------
    KeyboardInterrupt
        When the system asked it to end.
    """
    try:
        code = command()
        if signals.asked is not None:  # our library for commands made a code of it
            raise signals.asked
        return code if isinstance(code, int) else 0
    except lattice.LatticeError as problem:
        if terminal_text.debug:
            errors.print_exception()
        show_problem(problem)
        return 2 if isinstance(problem, lattice.PlanError) else 1
    except typer.Abort:
        raise signals.asked or KeyboardInterrupt() from None
    except Exception as problem:
        if signals.asked is not None:  # a library made another error of it
            raise signals.asked from None
        if terminal_text.debug:
            raise
        message = getattr(problem, "format_message", None)
        if message is not None:  # a wrong option or argument
            said = message()
            for theirs, plainly in _PLAINLY.items():
                said = said.replace(theirs, plainly)
            errors.print(f"[bold red]✗[/bold red] {escape(said)}")
            errors.print(
                "  [dim]do[/dim]     glat --help lists the commands, glat COMMAND --help their options"
            )
            return 2
        if limits.is_of_memory(problem):
            show_problem(limits.out_of_memory())
            return 1
        errors.print(
            f"[bold red]✗[/bold red] Something we did not foresee went wrong: {escape(repr(problem))}"
        )
        errors.print("  [dim]do[/dim]     give the command again as glat --debug … to see where")
        return 1
