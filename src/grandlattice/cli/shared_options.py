"""Arguments and options that commands share, and what they mean."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any

import typer

import grandlattice as lattice
from grandlattice.cli.scene_loading import load_scenes
from grandlattice.cli.terminal_text import quoted, short

ENDING = ".lattice.yaml"
PlanFile = Annotated[
    Path | None,
    typer.Argument(
        metavar="[PLAN]",
        help="The plan, or a queue of plans; may be left out where the folder holds just one.",
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
SetOf = Annotated[
    list[str] | None,
    typer.Option("--set-of", help="Only cells of this named set. May be repeated.", show_default=False),
]
SetOption = Annotated[
    list[str] | None,
    typer.Option(
        "--set", help="A setting for this call, such as samples=64. May be repeated.", show_default=False
    ),
]
EditOption = Annotated[
    list[str] | None,
    typer.Option(
        "--edit",
        help="An edit laid over all cells of this call, as a plan writes it: "
        "'multiply: {on: /Room/Lights/Lamp, intensity: 2}'. May be repeated.",
        show_default=False,
    ),
]
PlanAndCell = Annotated[
    list[str], typer.Argument(metavar="[PLAN] CELL", help="The cell, behind the plan where needed.")
]
Yes = Annotated[bool, typer.Option("--yes", "-y", help="Do it without asking.")]
OneFrame = Annotated[int | None, typer.Option("--frame", help="Only this frame.", show_default=False)]
Into = Annotated[
    Path | None, typer.Option("--into", help="Another output folder than the plan's own.", show_default=False)
]
Workers = Annotated[
    int | None,
    typer.Option(
        "--workers", min=0, help="Processes that render; all processors but one.", show_default=False
    ),
]
AllowMissing = Annotated[
    bool, typer.Option("--allow-missing", help="Render fallback colours where textures are missing.")
]
Why = Annotated[
    bool,
    typer.Option(
        "--why", help="For each trace what its cells have in common, and why the next is another one."
    ),
]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON for programs to read.")]
SceneFile = Annotated[Path, typer.Argument(metavar="SCENE", help="A .usd, .usda, .usdc or .usdz file.")]
PlanFiles = Annotated[
    list[Path] | None,
    typer.Argument(
        metavar="[PLAN]",
        help="Plans and queues, carried out one after the other; may be left out where there is just one.",
        show_default=False,
    ),
]


Existing = Annotated[
    str | None,
    typer.Option(
        "--existing", help="Files that are there: skip, replace, keep-both or refuse.", show_default=False
    ),
]
Until = Annotated[
    str | None,
    typer.Option("--until", help="Begin no frame after this time of day: 07:00.", show_default=False),
]
Conduct = Annotated[
    list[str] | None,
    typer.Option(
        "--run",
        help="Another key of the plan's run: block, such as memory=8GB, threads=4 or gentle=true; "
        "budget.core-hours=5. May be repeated.",
        show_default=False,
    ),
]
On = Annotated[
    str | None,
    typer.Option(
        "--on", help="Who renders: local, or another backend by name or address.", show_default=False
    ),
]
TrustNetwork = Annotated[
    bool,
    typer.Option("--trust-network", help="Of --on tcp://: you say that no one else can reach that network."),
]


def conduct_of(
    existing: str | None, until: str | None, conduct: list[str] | None, on: str | None = None
) -> dict[str, Any]:  # fmt: skip
    """What a call says of `run:`."""
    said: dict[str, Any] = {} if existing is None else {"existing": existing}
    said |= {} if on is None else {"on": on}
    budget: dict[str, Any] = {} if until is None else {"until": until}
    for text in conduct or ():
        key, equals, value = text.partition("=")
        if not equals:
            raise lattice.PlanError(f"--run {text} gives no value.", cure="write it --run threads=4")
        if key.startswith("budget."):
            budget[key.removeprefix("budget.")] = value
        else:
            said[key] = value.split(",") if key in ("wait", "after") else value
    return {**said, "budget": budget} if budget else said


def open_plan(
    plan: Path | None, settings: list[str] | None = None, edits: list[str] | None = None
) -> lattice.Plan:
    """The one plan meant; a queue of several is refused."""
    queue = open_queue([plan] if plan is not None else None, settings, edits=edits)
    if len(queue) > 1:
        raise lattice.PlanError(
            "This is about one plan, and the queue has several.", cure="name one of its plans"
        )
    return queue.steps[0].plan


def open_queue(
    plans: list[Path] | None, settings: list[str] | None = None, at: list[str] | None = None,
    sets: list[str] | None = None, edits: list[str] | None = None,
) -> lattice.Queue:  # fmt: skip
    """The plans meant and which of their cells, with settings and edits of this call laid over them."""
    load_scenes()
    queue = lattice.open_queue(*(plans or [lattice.find_queue(Path.cwd())]))
    given, laid = _given(settings), [lattice.read_edit(text) for text in edits or ()]
    if given or laid:
        queue = queue.override(edits=laid, **given)
    return queue.narrowed(at or (), sets or ())


def asked_of(
    plans: Sequence[Path | None] | None, at: list[str] | None, sets: list[str] | None,
    settings: list[str] | None, edits: list[str] | None, into: Path | None = None,
) -> lattice.Asked | None:  # fmt: skip
    """A question about one plan, without opening it; None where it is not one that is named or alone here."""
    named = [plan for plan in plans or () if plan is not None]
    found = named or [*Path().glob("*.lattice.yaml"), *Path().glob("*.queue.yaml")]
    if len(found) != 1 or not found[0].name.endswith(".lattice.yaml"):
        return None
    said = [tuple(words or ()) for words in (at, sets, settings, edits)]
    return lattice.Asked(found[0], said[0], said[1], said[2], said[3], str(into or ""))


def _given(settings: list[str] | None) -> dict[str, Any]:
    given: dict[str, Any] = {}
    for text in settings or ():
        key, equals, value = text.partition("=")
        if not equals:
            raise lattice.PlanError(f"--set {text} gives no value.", cure="write it --set samples=64")
        given[key] = value.split(",") if key in ("passes", "format", "label") else value
    return given


def read_frames(text: str | None) -> list[int] | str | None:
    """The frames of --frames: numbers, or words."""
    if text is None or set(text.split(",")) <= {"first", "middle", "last"}:
        return text
    try:
        return list(lattice.read_frames(text).numbers or ())
    except ValueError as problem:
        cure = "or name some of first, middle, last"
        raise lattice.PlanError(f"--frames: {problem}.", cure=cure) from None


def arguments(
    plans: Sequence[Path | None] = (), at: list[str] | None = None, sets: list[str] | None = None,
    settings: list[str] | None = None, into: Path | None = None, edits: list[str] | None = None,
) -> str:  # fmt: skip
    """Plans, cells, settings, edits and folder as they stood on the command line, for the next command."""
    words = [quoted(plan) for plan in plans if plan is not None]
    words += [f"--at {quoted(text)}" for text in at or ()]
    words += [f"--set-of {quoted(text)}" for text in sets or ()]
    words += [f"--set {quoted(text)}" for text in settings or ()]
    words += [f"--edit {quoted(text)}" for text in edits or ()]
    words += [f"--into {quoted(into)}"] if into is not None else []
    return "".join(f" {word}" for word in words)


def plan_and(words: list[str], count: int | None) -> tuple[lattice.Plan, list[str]]:
    """The plan meant, and the words behind it."""
    named = words[0] if words and words[0].endswith(ENDING) else None
    said = words[1:] if named else words
    if count is not None and len(said) != count:
        raise lattice.PlanError("One cell is wanted." if count == 1 else f"{count} words are wanted.")
    return open_plan(Path(named) if named else None), said


def plan_word(plan: lattice.Plan) -> list[Path]:
    """The plan's file for a next command, where the folder alone does not tell it."""
    if plan.file is None or [path.absolute() for path in Path.cwd().glob(f"*{ENDING}")] == [plan.file]:
        return []
    return [Path(short(plan.file))]
