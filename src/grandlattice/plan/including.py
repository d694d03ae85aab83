"""What a plan takes from other files: `include`, and grades that stand beside its pictures.

Words, selections, materials, qualities, passes, takes and renderers of the files named stand beside the
plan's own; where both have one of the same name, the plan's own wins, and a later file wins over an earlier.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from grandlattice._support.filesystem import is_file
from grandlattice.errors import Place, PlanError, nearest
from grandlattice.plan.reader import Document, read_document
from grandlattice.plan.spelled_values import shortened

SHARED = ("words", "select", "materials", "qualities", "own-passes", "takes", "renderers", "require")
GRADES_ENDING = ".grades.yaml"
_MOST_FILES = 100
_FILE_KEYS = ("file", "with", "texture", "overlay")


def with_included(document: Document) -> Document:
    """The document together with everything it includes.

    Raises
    ------
    PlanError
        When a file is missing, includes itself, or has keys that cannot be shared.
    """
    if "include" not in document.data:
        return document
    found: list[Document] = []
    _gather(document, found, ())
    return replace(document, included=tuple(reversed(found)))


def _gather(document: Document, found: list[Document], above: tuple[Path, ...]) -> None:
    named = document.data.get("include")
    texts = named if isinstance(named, list) else [named]
    folder = document.file.resolve().parent if document.file is not None else Path.cwd()
    for k, text in enumerate(texts):
        place = document.place(["include", k])
        if not isinstance(text, str) or not text.strip():
            raise PlanError("include names plan files, such as house.lattice.yaml.", place=place)
        file = folder / text
        if not is_file(file):
            raise PlanError(
                f"There is no file {shortened(text)} to include.", place=place, cure="check the path"
            )
        file = file.resolve()
        if file in above or len(above) + len(found) > _MOST_FILES:
            raise PlanError(f"{text} includes itself.", place=place)
        other = read_document(file)
        for key in other.data:
            if key not in (*SHARED, "include", "lattice"):
                raise PlanError(
                    f"{key} cannot be included. {nearest(str(key), SHARED)}",
                    place=other.place([], str(key)),
                    cure=f"an included file has {', '.join(SHARED)} and nothing else",
                )
        if "include" in other.data:
            _gather(other, found, (*above, file))
        found.append(other)


def grades_in(file: Path) -> Document | None:
    """Grades that stand beside pictures, in a file of their own: rules for a plan that is not to be touched.
    One that was emptied says nothing.

    Raises
    ------
    PlanError
        When the file says anything else.
    """
    return read_grades(read_document(file)) if is_file(file) and file.stat().st_size else None


def read_grades(document: Document) -> Document:
    """A document of grades, looked through.

    Raises
    ------
    PlanError
        When it says anything else.
    """
    rules = document.data.get("rules")
    for key in document.data:
        if key != "rules":
            raise _no_grades(document.place([], str(key)), str(key))
    if not isinstance(rules, list):
        raise _no_grades(document.place(["rules"]), "")
    for number, rule in enumerate(rules):
        others = [k for k in rule if k not in ("at", "grade")] if isinstance(rule, Mapping) else [""]
        if others:
            raise _no_grades(document.place(["rules", number]), str(others[0]))
    return document


def _no_grades(place: Place, what: str) -> PlanError:
    return PlanError(
        f"A file of grades has rules, each with at and grade alone{', not ' + what if what else ''}.",
        place=place, cure="say everything else in the plan",
    )  # fmt: skip


def merged(document: Document) -> dict[str, Any]:
    """The data of a document with what it includes, its own before theirs."""
    data = dict(document.data)
    folder = document.file.resolve().parent if document.file is not None else Path.cwd()
    for key in SHARED:
        parts = [data[key]] if key in data else []
        for other in document.included:
            if key in other.data and other.file is not None:
                parts.append(_moved(other.data[key], other.file.resolve().parent, folder))
        if key == "require" and parts:
            data[key] = [text for part in parts for text in (part if isinstance(part, list) else [part])]
        elif len(parts) > 1 or (parts and key not in data):
            if not all(isinstance(part, Mapping) for part in parts):
                continue  # the schema says what is wrong with it
            data[key] = {name: value for part in reversed(parts) for name, value in part.items()}
    own = data.get("rules")
    if document.grades is not None and (own is None or isinstance(own, list)):
        data["rules"] = [*(own or ()), *document.grades.data["rules"]]
    return data


def _moved(value: Any, its: Path, ours: Path) -> Any:
    """`value` with the files it names, relative to its own file, made relative to the plan."""
    if its == ours:
        return value
    if isinstance(value, Mapping):
        return {
            key: _file(part, its, ours)
            if key in _FILE_KEYS and isinstance(part, str)
            else _moved(part, its, ours)
            for key, part in value.items()
        }
    return [_moved(part, its, ours) for part in value] if isinstance(value, list) else value


def _file(text: str, its: Path, ours: Path) -> str:
    path = its / text
    return Path(os.path.relpath(path, ours)).as_posix() if is_file(path) else text
