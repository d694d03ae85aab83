"""Earlier pictures of a cell: when they were made, what changed since, and back to one of them."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from grandlattice.errors import NoSuchCell, OutputError, RunError
from grandlattice.images import read_marks
from grandlattice.plan import Cell, planned_files
from grandlattice.runs import sole_writer
from grandlattice.runs.kept_pictures import (
    KeptPicture,
    day_of,
    earlier_of,
    exchange,
    file_of,
    new_folder,
)
from grandlattice.stage.prim_facts import changes_between, unpacked_facts

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.api.planned import Planned

_MARKS = (
    "prims",
    "settings",
    "edits",
    "scene",
    "scene saved",
    "versions",
    "camera",
    "samples",
    "seconds",
    "relit",
)
_COMPARED = ("edits", "scene", "scene saved", "versions", "camera")


class EarlierPicture(NamedTuple):
    """A picture that another took the place of.

    Attributes
    ----------
    number : 1 is the latest.
    frame : of it.
    replaced : when another took its place.
    files : it consists of, where they are kept; and the paths they had.
    changes : what is otherwise in the picture that came next: name, then, now.
    """

    number: int
    frame: int
    replaced: datetime
    files: tuple[tuple[Path, Path], ...]
    changes: tuple[tuple[str, str, str], ...]


def history_of(plan: PlanFiles, cell: Cell, frame: int | None, into: Path | None) -> list[EarlierPicture]:
    """Earlier pictures of a cell's frame; see `Plan.history`."""
    planned = plan.planned(into)
    chosen, kept = _kept(plan, planned, cell, frame)
    stamps = sorted({each.stamp for every in kept.values() for each in every}, reverse=True)
    now = {path: _facts(planned.store.path(path)) for path in kept}
    found = []
    for number, stamp in enumerate(stamps, 1):
        files, changes = list[tuple[Path, Path]](), dict[str, tuple[str, str, str]]()
        for path, every in kept.items():
            own = next((each for each in every if each.stamp == stamp), None)
            if own is None:
                continue
            before = _facts(file_of(planned.store, own))
            changes |= {change[0]: change for change in _changes(before, now[path])}
            now[path] = before
            files.append((file_of(planned.store, own), planned.output / path))
        replaced = datetime.fromtimestamp(day_of(stamp)).astimezone()
        found.append(EarlierPicture(number, chosen, replaced, tuple(files), tuple(changes.values())))
    return found


def _kept(
    plan: PlanFiles, planned: Planned, cell: Cell, frame: int | None
) -> tuple[int, dict[str, list[KeptPicture]]]:
    """Which frame is meant, and the kept pictures of each of its files, by path."""
    frames = cell.settings.frames
    if frame is not None and frame not in frames:
        raise NoSuchCell(f"{cell.address} has no frame {frame}.")
    chosen = frames[0] if frame is None else frame
    paths = [file.path for file in planned_files(cell, plan.names, [chosen])]
    return chosen, {path: earlier_of(planned.store, planned.name, path) for path in paths}


def back(plan: PlanFiles, cell: Cell, number: int, frame: int | None, into: Path | None) -> EarlierPicture:
    """Make an earlier picture the present one; see `Plan.back`."""
    planned = plan.planned(into)
    with sole_writer(planned.ledger):
        every = history_of(plan, cell, frame, into)
        if not 1 <= number <= len(every):
            raise RunError(
                f"{cell.address} has {len(every)} earlier pictures, and none of number {number}.",
                cure="glat history lists them" if every else "write keep-earlier: 3 under run:",
            )
        chosen = every[number - 1]
        _, kept = _kept(plan, planned, cell, frame)
        stamp = {file for file, _ in chosen.files}
        aside = new_folder(planned.store, planned.name)
        for path, pictures in kept.items():
            own = next((each for each in pictures if file_of(planned.store, each) in stamp), None)
            if own is not None:
                try:
                    exchange(planned.store, path, own, aside)
                except OSError as problem:
                    raise OutputError(f"{path} could not be moved: {problem.strerror}.") from problem
        planned.ledger.forget(kept)
        planned.ledger.close()
    return chosen


def _facts(path: Path) -> dict[str, str]:
    return {name: text or "" for name, text in zip(_MARKS, read_marks(path, _MARKS), strict=True)}


def _changes(then: Mapping[str, str], now: Mapping[str, str]) -> list[tuple[str, str, str]]:
    """What is otherwise in a picture than in an earlier one."""
    if not now.get("versions"):
        return []
    before, after = (_settings(facts.get("settings", "")) for facts in (then, now))
    changed = [(name, before.get(name, ""), after.get(name, "")) for name in {**before, **after}]
    changed += [(name, then.get(name, ""), now.get(name, "")) for name in _COMPARED]
    told = [(name, *_apart(name, a, b)) for name, a, b in changed if a != b]
    if then.get("prims") and now.get("prims"):
        told += changes_between(unpacked_facts(then["prims"]), unpacked_facts(now["prims"]))
    return told


def _apart(name: str, then: str, now: str) -> tuple[str, str]:
    """Of lists of edits only those that are not in both."""
    if name != "edits":
        return then, now
    before, after = then.split("; "), now.split("; ")
    return "; ".join(_without(before, after)), "; ".join(_without(after, before))


def _without(some: Sequence[str], others: Sequence[str]) -> list[str]:
    return [each for each in some if each not in others]


def _settings(text: str) -> dict[str, str]:
    try:
        told = json.loads(text) if text else {}
    except ValueError:
        return {}
    return {str(name): str(value) for name, value in told.items()}
