"""What was found out of a plan last time, answered again without opening it while nothing has changed.

An answer is kept with the state of every file it depends on: the plan and what it includes, the scene with
all it is made of, the folders those lie in, the pictures.  Where any of them has another size or
time, or is gone, or has come, there is no answer, and the question is worked out as ever.

This module loads nothing that takes its time: it answers in the moment a command starts.
"""

from __future__ import annotations

import hashlib
import json
import os
from contextlib import suppress
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from grandlattice._support.user_cache import cache_folder
from grandlattice.version import __version__

if TYPE_CHECKING:
    from grandlattice.api.queue import Queue, Step

_MOST_KEPT = 300
_STANDING = ("{date}", "{version", "{time")  # fields that are other words another day
State = list[int] | None
States = dict[str, State]
"""Files and folders with their size and time."""


class Done(NamedTuple):
    """A plan that was carried out as it stands.

    Attributes
    ----------
    cells, frames, files, bytes : of what was asked for.
    folders : where its pictures are, as they are shown.
    """

    cells: int
    frames: int
    files: int
    bytes: int
    folders: str


class Asked(NamedTuple):
    """A question about a plan: what a call says besides its name."""

    plan: Path
    at: tuple[str, ...] = ()
    sets: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    edits: tuple[str, ...] = ()
    into: str = ""


def is_done(asked: Asked) -> Done | None:
    """What a plan made, where it is done as it stands; None where the plan has to be opened to know."""
    answer = _recalled("done", asked)
    with suppress(TypeError, ValueError):
        ledger, *told = answer
        return Done(*told) if os.path.exists(ledger) else None
    return None


def cell_count(asked: Asked) -> int | None:
    """How many cells there are; None where the plan has to be opened to know."""
    answer = _recalled("count", asked)
    return answer if isinstance(answer, int) else None


def remember_count(asked: Asked, queue: Queue, count: int) -> None:
    """Keep how many cells there are."""
    if len(queue) == 1 and _can_be_kept(queue.steps[0]):
        _keep("count", asked, states_before(queue, None), count)


def states_before(queue: Queue, into: Path | None) -> States:
    """What the cells of a plan depend on, before it is carried out; empty where that cannot be kept."""
    if len(queue) != 1 or not _can_be_kept(queue.steps[0]):
        return {}
    return {str(path): _state(str(path)) for path in _sources(queue.steps[0], into)}


def remember_done(asked: Asked, queue: Queue, into: Path | None, folders: str, before: States) -> None:
    """Keep that a plan is done, with the files that were made.

    Parameters
    ----------
    before : what `states_before` said when the run began: what is saved meanwhile is in no picture.
    """
    step = queue.steps[0]
    run = step.plan.model.run
    if not before or run.existing != "skip" or run.notices:  # each run tells of its end
        return
    plan = step.plan
    output = plan.folder if into is None else Path(into).absolute()
    indices = plan.cells.indices(*step.at, sets=step.sets)
    cells = [plan.cells[index] for index in indices.tolist()]
    made = [output / file.relative_to(plan.folder) for cell in cells for file in plan.files(cell)]
    ledger = output / f"{plan.name}.ledger.sqlite"
    if not all(map(os.path.lexists, (ledger, *made))):  # a cell was left out, from another terminal
        return
    whole = plan.totals(at=step.at, sets=step.sets)
    states = {**before, **{str(path): _state(str(path)) for path in made}}
    # The ledger itself changes when its last reader goes; what counts is that it is there.
    _keep("done", asked, states, [str(ledger), whole.cells, whole.frames, whole.files, whole.bytes, folders])


def _can_be_kept(step: Step) -> bool:
    """Whether an answer can be told by files alone: no names of the day, no files that a pattern finds."""
    plan = step.plan
    patterns = any(getattr(getattr(axis, "each", None), "files", None) for axis in plan.model.axes.values())
    document = plan.document
    texts = [document.text, *(other.text for other in document.included)]
    return not patterns and plan.file is not None and not any(w in text for w in _STANDING for text in texts)


def _sources(step: Step, into: Path | None) -> list[Path]:
    """What the cells of a plan depend on: files, and folders in which others may appear."""
    plan = step.plan
    assert plan.file is not None
    beside = plan.grades_file(into)
    named = [plan.file, *plan.document.other_files, *([beside] if beside is not None else [])]
    named += sorted(plan.planned().sources)
    folders = {path.parent for path in named} - {plan.folder, plan.folder.resolve()}
    return [*dict.fromkeys(named), *sorted(folders)]


def _keep(kind: str, asked: Asked, states: States, answer: Any) -> None:
    file = _file(kind, asked)
    with suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        part = file.with_name(f".{file.name}.{os.getpid()}.part")
        part.write_text(json.dumps({"states": list(states.items()), "answer": answer}), encoding="utf-8")
        os.replace(part, file)
        kept = sorted(file.parent.glob("*.json"), key=lambda each: each.stat().st_mtime)
        for old in kept[:-_MOST_KEPT]:
            old.unlink(missing_ok=True)


def _recalled(kind: str, asked: Asked) -> Any:
    try:
        kept = json.loads(_file(kind, asked).read_text(encoding="utf-8"))
        same = all(_state(path) == state for path, state in kept["states"])
        return kept["answer"] if same else None
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _state(path: str) -> State:
    """Size and time of a file, the time of a folder; None where nothing is."""
    try:
        found = os.stat(path)
    except OSError:
        return None
    return [found.st_size, found.st_mtime_ns]


def _file(kind: str, asked: Asked) -> Path:
    told = [kind, __version__, _code_state(), os.path.realpath(asked.plan), os.getcwd(), *map(str, asked[1:])]
    name = hashlib.blake2b(json.dumps(told).encode(), digest_size=16).hexdigest()
    return cache_folder() / "answers" / f"{name}.json"


def _code_state() -> list[Any]:
    """Of what decides fingerprints: the code of them, and whether there is a denoiser."""
    package = os.path.dirname(os.path.dirname(__file__))
    return [_state(os.path.join(package, "runs", "fingerprints.py")), find_spec("pyoidn") is not None]
