"""What was chosen of the cells of a plan: keep, maybe or out, and a note; kept beside its pictures.

One file that merges: of each cell the latest choice counts, of all who looked at it.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from grandlattice.errors import OutputError
from grandlattice.runs import FolderStore

if TYPE_CHECKING:
    from grandlattice.api.planned import Planned

_MOST_BYTES = 50_000_000


class Choice(BaseModel):
    """What was chosen of a cell.

    Attributes
    ----------
    by : keep, maybe or out; empty where there is a note alone.
    note : of who looked at it.
    at : when, seconds since 1970.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    by: Literal["keep", "maybe", "out", ""] = ""
    note: str = Field("", max_length=20_000)
    at: float = Field(0.0, allow_inf_nan=False)


class _File(BaseModel):
    model_config = ConfigDict(extra="ignore")

    plan: str = ""
    choices: dict[str, Choice] = Field(default_factory=dict)


def choices_file(plan: str) -> str:
    """Where the choices of a plan stand below its output folder."""
    return f"{plan}-choices.json"


def choices_of(planned: Planned) -> dict[str, Choice]:
    """What was chosen so far, by address.

    Raises
    ------
    OutputError
        When the file cannot be read.
    """
    path = planned.store.path(choices_file(planned.name))
    return _read(path).choices if path.is_file() else {}


def take_in(planned: Planned, file: Path) -> dict[str, Choice]:
    """Merge a file of choices into those beside the pictures; of each cell the latest counts.

    Raises
    ------
    OutputError
        When the file is none of choices, is of another plan, or the own one cannot be written.
    """
    given = _read(file)
    if given.plan not in ("", planned.name):
        raise OutputError(
            f"{file.name} has choices of the plan {given.plan}, not of {planned.name}.",
            cure="name the file of this plan, or the plan of this file",
        )
    made = merged(choices_of(planned), given.choices)
    write(planned.store, planned.name, made)
    return made


def merged(*several: Mapping[str, Choice]) -> dict[str, Choice]:
    """Choices of several people or machines: of each cell the latest."""
    made: dict[str, Choice] = {}
    for each in several:
        for cell, choice in each.items():
            if cell not in made or choice.at > made[cell].at:
                made[cell] = choice
    return made


def write(store: FolderStore, plan: str, choices: Mapping[str, Choice]) -> None:
    """Write the choices of a plan, whole or not at all."""
    told = {"plan": plan, "choices": {cell: choice.model_dump() for cell, choice in choices.items()}}
    text = json.dumps(told, ensure_ascii=False, indent=1)

    def put(path: Path) -> None:
        path.write_text(text, "utf-8", "replace")

    store.put(choices_file(plan), put)


def _read(path: Path) -> _File:
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise OutputError(f"{path.name} is too large for a file of choices.")
        told: Any = json.loads(path.read_text("utf-8"))
        return _File.model_validate(told)
    except OSError as problem:
        raise OutputError(f"{path.name} cannot be read: {problem.strerror}.") from None
    except (ValidationError, ValueError, RecursionError):
        raise OutputError(
            f"{path.name} is no file of choices.", cure="save one from the page, with Save as a file"
        ) from None
