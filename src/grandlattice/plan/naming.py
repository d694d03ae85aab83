"""Names of files: output templates, and what a file system can hold.

A template is made of text and fields in braces with a width at most (``{frame:04d}``).  Values
never bring in a folder or a way out: what a plan writes is all below the output folder.
"""

from __future__ import annotations

import re
import string
import unicodedata
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache

from grandlattice.errors import OutputError, Place, nearest
from grandlattice.plan.cells import Cell

LAYERED = frozenset({"exr"})
_FIELDS = ("plan", "scene", "cell", "index", "pass", "frame", "ext")
_RESERVED = re.compile(r"(con|prn|aux|nul|com\d|lpt\d)(\..*)?", re.IGNORECASE)
_FORBIDDEN = re.compile(r'[<>:"|?*\\\x00-\x1f]')
_LONGEST = 240  # bytes of one name; 255 less room for a temporary ending


@dataclass(frozen=True)
class PlannedFile:
    """A file a cell will have: where (below the output folder, with /), and what goes into it."""

    path: str
    frame: int
    format: str
    passes: tuple[str, ...]


@lru_cache(maxsize=256)
def _parsed(
    template: str, axes: tuple[str, ...], place: Place | None
) -> tuple[tuple[str, str | None, str], ...]:
    """(text before, field, width) pieces of a template."""
    known = [*axes, *_FIELDS]
    pieces = []
    try:
        parsed = list(string.Formatter().parse(template))
    except ValueError as problem:
        raise OutputError(
            f"The output template {template!r} is not closed: {problem}.", place=place
        ) from None
    for text, field, width, conversion in parsed:
        if field is not None:
            if field not in known:
                raise OutputError(
                    f"The output template has no field {{{field}}}. {nearest(field, known)}",
                    place=place,
                )
            if conversion or not re.fullmatch(r"(0?\d{0,2}d?)?", width or ""):
                raise OutputError(
                    f"{{{field}…}} asks for more than a width; only a width may follow, as in {{frame:04d}}.",
                    place=place,
                )
        pieces.append((text, field, width or ""))
    if template.startswith(("/", "\\", "~")) or re.match(r"[A-Za-z]:", template):
        raise OutputError(
            f"The output {template!r} leaves the output folder.",
            place=place,
            cure="write it relative to the plan, and name another folder with --into",
        )
    return tuple(pieces)


def _filled(pieces: Iterable[tuple[str, str | None, str]], values: Mapping[str, object]) -> str:
    out = []
    for text, field, width in pieces:
        out.append(text)
        if field is None:
            continue
        value = values[field]
        if isinstance(value, int):
            number = width.rstrip("d")
            out.append(format(value, f"{number}d"))
        else:
            out.append(re.sub(r"[/\\\s]+", "_", str(value)))
    return "".join(out)


def planned_files(
    cell: Cell, plan: str, scene: str, frames: Iterable[int] | None = None
) -> Iterator[PlannedFile]:
    """The files of a cell, frame by frame.

    Parameters
    ----------
    plan, scene : names for the fields of the same name.
    frames : these frames only; all of the cell's by default.

    Raises
    ------
    OutputError
        For an unknown field, a way out of the output folder, or a name no file system holds.
    """
    settings = cell.settings
    place = cell.origins.get("output")
    pieces = _parsed(settings.output, tuple(cell.coordinates), place)
    fields = {field for _, field, _ in pieces}
    values: dict[str, object] = {
        **cell.coordinates, "plan": plan, "scene": scene, "cell": cell.file_name,
        "index": cell.index,
    }  # fmt: skip
    by_name = cell.name is not None and "cell" not in fields
    for frame in settings.frames if frames is None else frames:
        for ext in settings.format:
            contents = settings.passes if ext in LAYERED else ("beauty",)
            groups = [(name,) for name in contents] if "pass" in fields else [contents]
            for passes in groups:
                values.update({"frame": frame, "ext": ext, "pass": passes[0]})
                path = _filled(pieces, values)
                if "ext" not in fields and not path.lower().endswith(f".{ext}"):
                    path += f".{ext}"
                if by_name and cell.name is not None:
                    path = _beside(path, cell.name)
                yield PlannedFile(_checked(path, cell, place), frame, ext, passes)


def _beside(path: str, name: str) -> str:
    """An added cell has the entries of another one; its own name keeps their files apart."""
    folder, _, file = path.rpartition("/")
    file = f"{re.sub(r'[/ ]+', '_', name)}-{file}"
    return f"{folder}/{file}" if folder else file


def _checked(path: str, cell: Cell, place: Place | None) -> str:
    parts = path.split("/")
    for part in parts:
        problem = None
        if part in ("..", "."):
            problem = "leaves the output folder"
        elif not part:
            problem = "has an empty part"
        elif _FORBIDDEN.search(part) or part[-1] in ". " or _RESERVED.fullmatch(part):
            problem = f"has a name not every file system can hold, {part!r}"
        elif len(part.encode()) > _LONGEST:
            problem = f"has a name longer than {_LONGEST} bytes"
        if problem:
            raise OutputError(
                f"The output of {cell.address} {problem}: {path}",
                place=place,
                cure="change the output template, or the entry's name",
            )
    return path


def folded(path: str) -> str:
    """A path as a forgiving file system sees it: without case, one Unicode form."""
    return unicodedata.normalize("NFC", path).casefold()


def refuse_collisions(cells: Iterable[Cell], plan: str, scene: str) -> None:
    """Refuse a plan in which two pictures would have one file.

    Raises
    ------
    OutputError
        Naming both cells, the file, and the field that would keep them apart.
    """
    taken: dict[str, tuple[Cell, PlannedFile]] = {}
    for cell in cells:
        for file in planned_files(cell, plan, scene):
            before = taken.setdefault(folded(file.path), (cell, file))
            if before[1] is file:
                continue
            other, kept = before
            raise OutputError(
                f"{_named(other, kept)} and {_named(cell, file)} would both be written to {file.path}.",
                place=cell.origins.get("output"),
                cure=f"put {_missing(other, kept, cell, file)} into the output template",
            )


def _named(cell: Cell, file: PlannedFile) -> str:
    return f"{cell.address} (frame {file.frame})"


def _missing(a: Cell, file_a: PlannedFile, b: Cell, file_b: PlannedFile) -> str:
    apart = [axis for axis in a.coordinates if a.coordinates[axis] != b.coordinates.get(axis)]
    if apart:
        return " and ".join(f"{{{axis}}}" for axis in apart)
    if file_a.frame != file_b.frame:
        return "{frame:04d}"
    return "{ext}" if file_a.format != file_b.format else "{pass}"
