"""Every exception of the package, in one tree.

Each carries what happened, where (a file and line, or a prim) and what to do now; the command
line prints those three and nothing else::

    LatticeError
    ├── PlanError          the plan cannot be understood
    │   └── NoSuchCell     an address names no cell
    ├── SceneError         the scene, or something in it, cannot be used
    │   └── EditError      an edit cannot be laid over this scene
    ├── OutputError        pictures cannot be written where the plan says
    │   └── DiskFull       there is no room for them
    ├── ImageError         a picture or texture cannot be read or written
    ├── TracerError        the embedded tracer cannot do what was asked
    ├── WorkerError        a worker crashed, hung or lacked memory; trying again may help
    └── RunError           the run cannot start, or ended with failures
        ├── RunUnderWay    another run writes to the same output
        └── LedgerError    the record of a run cannot be used
            ├── LedgerBusy     another program holds it; it can be written later
            └── LedgerLost     it was taken away, replaced or damaged
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Place:
    """Where something stands: a file with line and column (from 1), a prim path, or in `words`."""

    file: Path | None = None
    line: int | None = None
    column: int | None = None
    prim: str | None = None
    words: str | None = None

    def __str__(self) -> str:
        if self.prim is not None or self.words is not None:
            return self.prim or str(self.words)
        text = self.file.name if self.file is not None else "the plan"
        if self.line is not None:
            text += f":{self.line}"
            if self.column is not None:
                text += f":{self.column}"
        return text


class LatticeError(Exception):
    """Base of all errors an artist may meet.

    Parameters
    ----------
    what : one sentence, what is wrong.
    place : where it stands.
    cure : what to do now.
    """

    def __init__(self, what: str, *, place: Place | None = None, cure: str = "") -> None:
        super().__init__(what, place, cure)
        self.what, self.place, self.cure = what, place, cure

    def __str__(self) -> str:
        lines = [self.what]
        if self.place is not None:
            lines.append(f"where: {self.place}")
        if self.cure:
            lines.append(f"do: {self.cure}")
        return "\n".join(lines)

    def __reduce__(self) -> tuple[object, ...]:
        return (_revive, (type(self), self.what, self.place, self.cure))


def _revive(kind: type[LatticeError], what: str, place: Place | None, cure: str) -> LatticeError:
    return kind(what, place=place, cure=cure)


class PlanError(LatticeError):
    """The plan cannot be understood."""


class NoSuchCell(PlanError, LookupError):
    """An address names no cell of the plan."""


class SceneError(LatticeError):
    """The scene, or something in it, cannot be used."""


class EditError(SceneError):
    """An edit of the plan cannot be laid over this scene."""


class OutputError(LatticeError):
    """Pictures cannot be written where the plan says."""


class DiskFull(OutputError):
    """There is no room for a picture, or for the record of it."""


class ImageError(LatticeError):
    """A picture or a texture cannot be read or written."""


class TracerError(LatticeError):
    """The embedded tracer cannot do what was asked."""


class WorkerError(LatticeError):
    """A worker crashed, hung or lacked memory; trying again may help."""


class RunError(LatticeError):
    """The run cannot start, or ended with failures."""


class RunUnderWay(RunError):
    """Another run writes to the same output."""


class LedgerError(RunError):
    """The record of a run cannot be used."""


class LedgerBusy(LedgerError):
    """Another program holds the record of a run; it can be written later."""


class LedgerLost(LedgerError):
    """The record of a run was taken away, replaced or damaged."""


def nearest(word: str, known: Iterable[str]) -> str:
    """A hint naming the known word nearest to `word`, or listing all when none is near.

    >>> nearest("nonn", ["noon", "evening"])
    'Did you mean noon?'
    """
    options = list(dict.fromkeys(known))
    folded = {option.lower(): option for option in reversed(options)}
    close = difflib.get_close_matches(word.lower(), folded, n=3, cutoff=0.6)
    # Two letters that changed places are likelier than one that is another.
    close.sort(key=lambda option: sorted(option) != sorted(word.lower()))
    if close:
        return f"Did you mean {folded[close[0]]}?"
    if not options:
        return ""
    shown = ", ".join(options[:12]) + (", …" if len(options) > 12 else "")
    return f"Known here: {shown}."
