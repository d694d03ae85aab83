"""Names of files: output templates, and what a file system can hold.

A template is made of text and fields in braces with a width at most (``{frame:04d}``).  Values
never bring in a folder or a way out: what a plan writes is all below the output folder.
"""

from __future__ import annotations

import re
import string
import unicodedata
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import lru_cache

from grandlattice.errors import OutputError, Place, nearest
from grandlattice.plan.cell_settings import Cell, CellSettings
from grandlattice.tables.formats import FORMATS

_FIELDS = ("plan", "scene", "cell", "index", "pass", "frame", "take", "version", "date", "ext", "eye")
SETTING_FIELDS = ("camera", "quality", "renderer", "projection", "size")
"""Settings that a template may name without an axis of that name; such an axis goes before them."""
_RESERVED = re.compile(r"(con|prn|aux|nul|com\d|lpt\d)(\..*)?", re.IGNORECASE)
_FORBIDDEN = re.compile(r'[<>:"|?*\\\x00-\x1f\x7f-\x9f\u200e\u200f\u2028-\u202e\u2066-\u2069]')
EYES = "left", "right"
LONGEST = 240  # bytes of one name; 255 less room for a temporary ending


@dataclass(frozen=True)
class Stamp:
    """The version of a cell's content, counted from 1, and the day that content was first planned.

    `content` is the fingerprint of what it is the version of.
    """

    version: int = 1
    date: str = "0000-00-00"
    content: str = ""


@dataclass(frozen=True)
class FileNames:
    """What templates may say besides the cell: names of plan and scene, words, and stamps."""

    plan: str = "plan"
    scene: str = "scene"
    words: Mapping[str, str] = field(default_factory=dict)
    stamp: Callable[[Cell], Stamp] = field(default=lambda cell: Stamp())


@dataclass(frozen=True)
class PlannedFile:
    """A file a cell will have: where (below the output folder, with /), and what goes into it.

    `stamp` is the version its name speaks of, if it does; `eye` which half of a stereo picture it
    is, ``left`` or ``right``, empty for all of it.
    """

    path: str
    frame: int
    format: str
    passes: tuple[str, ...]
    stamp: Stamp | None = None
    eye: str = ""


Piece = tuple[str, "str | None", str]
"""Text before a field, the field, its width."""


@lru_cache(maxsize=1024)
def parsed(
    template: str, axes: tuple[str, ...], words: tuple[str, ...], place: Place | None
) -> tuple[Piece, ...]:
    """The pieces of a template.

    Raises
    ------
    OutputError
        For unknown fields, more than a width, or a way out of the output folder.
    """
    known = [*axes, *_FIELDS, *SETTING_FIELDS, *words]
    pieces = []
    try:
        found = list(string.Formatter().parse(template))
    except ValueError as problem:
        raise OutputError(
            f"The output template {template!r} is not closed: {problem}.", place=place
        ) from None
    for text, name, width, conversion in found:
        if name is not None:
            if name not in known:
                raise OutputError(
                    f"The output template has no field {{{name}}}. {nearest(name, known)}",
                    place=place,
                )
            if conversion or not re.fullmatch(r"(0?\d{0,2}d?)?", width or ""):
                raise OutputError(
                    f"{{{name}…}} asks for more than a width; only a width may follow, as in {{frame:04d}}.",
                    place=place,
                )
        pieces.append((text, name, width or ""))
    if template.startswith(("/", "\\", "~")) or re.match(r"[A-Za-z]:", template):
        raise OutputError(
            f"The output {template!r} leaves the output folder.",
            place=place,
            cure="write it relative to the plan, and name another folder with --into",
        )
    return tuple(pieces)


def number_text(number: int, width: str) -> str:
    """A number as a field with this width has it: 0042."""
    return format(number, f"{width.rstrip('d')}d")


def value_text(value: str) -> str:
    """A value as part of a name: never a folder of its own."""
    return re.sub(r"[/\\\s]+", "_", value)


def template_of(settings: CellSettings, ext: str) -> str:
    """The template for files of a format: its own, or the plan's."""
    return getattr(settings.files, ext).output or settings.output


def with_ending(template: str, fields: Iterable[str | None], ext: str) -> str:
    """What a template without ``{ext}`` still needs at its end."""
    return "" if "ext" in fields or template.lower().endswith(f".{ext}") else f".{ext}"


def _filled(pieces: Iterable[Piece], values: Mapping[str, object]) -> str:
    out = []
    for text, name, width in pieces:
        out.append(text)
        if name is not None:
            value = values[name]
            out.append(number_text(value, width) if isinstance(value, int) else value_text(str(value)))
    return "".join(out)


def contents_of(
    settings: CellSettings, ext: str, fields: Iterable[str | None], place: Place | None = None
) -> list[tuple[tuple[str, ...], str]]:
    """Passes and eye of each file of a format: all in one, or one in each where the template says so.

    A format without layers shows one pass: the only one there is, or the beauty where a layered format
    holds all of them.

    Raises
    ------
    OutputError
        Where a pass would be in no file, or a template tells eyes apart and there are no two.
    """
    passes = settings.passes
    if not FORMATS[ext].layered and "pass" not in fields and len(passes) > 1:
        if not any(FORMATS[name].layered for name in settings.format):
            lost = next(name for name in passes if name != "beauty")
            raise OutputError(
                f"The pass {lost} would be in no file: {ext} holds one picture, and shows the beauty.",
                place=place,
                cure="add exr to format, or put {pass} into the output template",
            )
        passes = ("beauty",)
    groups = [(name,) for name in passes] if "pass" in fields else [passes]
    if "eye" not in fields:
        return [(group, "") for group in groups]
    if settings.projection != "stereo-panorama":
        raise OutputError(
            "{eye} in the output template is for stereo panoramas.", place=place,
            cure="set projection: stereo-panorama, or leave {eye} out",
        )  # fmt: skip
    if settings.region is not None:
        raise OutputError(
            "{eye} in the output template wants the whole picture.", place=place, cure="leave region out"
        )
    return [(group, eye) for group in groups for eye in EYES]


def planned_files(cell: Cell, names: FileNames, frames: Iterable[int] | None = None) -> Iterator[PlannedFile]:
    """The files of a cell, frame by frame.

    Parameters
    ----------
    names : of the plan and its scene, and the cells' versions.
    frames : these frames only; all of the cell's by default.

    Raises
    ------
    OutputError
        For an unknown field, a way out of the output folder, or a name no file system holds.
    """
    settings = cell.settings
    values: dict[str, object] = {
        **setting_texts(settings), **names.words, **cell.coordinates,
        "plan": names.plan, "scene": names.scene,
        "cell": cell.file_name, "index": cell.index + 1, "take": take_text(settings),
    }  # fmt: skip
    templates, stamp = [], None
    for ext in settings.format:
        template = template_of(settings, ext)
        place = cell.origins.get("files" if template != settings.output else "output")
        pieces = parsed(template, tuple(cell.coordinates), tuple(names.words), place)
        fields = {name for _, name, _ in pieces}
        if "version" in fields or "date" in fields:
            stamp = names.stamp(cell)
            values.update({"version": stamp.version, "date": stamp.date})
        ending = with_ending(template, fields, ext)
        by_name = cell.name if "cell" not in fields else None
        contents = contents_of(settings, ext, fields, place)
        templates.append((ext, pieces, place, ending, by_name, contents))
    for frame in settings.frames if frames is None else frames:
        values["frame"] = frame
        for ext, pieces, place, ending, by_name, contents in templates:
            values["ext"] = ext
            for passes, eye in contents:
                values["pass"], values["eye"] = passes[0], eye
                path = _filled(pieces, values) + ending
                if by_name is not None:
                    path = _beside(path, by_name)
                yield PlannedFile(_checked(path, cell, place), frame, ext, passes, stamp, eye)


def setting_texts(settings: CellSettings) -> dict[str, str]:
    """What templates say of settings by their names, see `SETTING_FIELDS`."""
    return {
        "camera": (settings.camera or "camera").rpartition("/")[2], "quality": settings.quality or "quality",
        "renderer": settings.renderer, "projection": settings.projection, "size": str(settings.size),
    }  # fmt: skip


def take_text(settings: CellSettings) -> str:
    """What ``{take}`` says: the takes a cell's entries use, or base."""
    return "-".join(settings.take) or "base"


def _beside(path: str, name: str) -> str:
    """An added cell has the entries of another one; its own name keeps their files apart."""
    folder, _, file = path.rpartition("/")
    file = f"{re.sub(r'[/ ]+', '_', name)}-{file}"
    return f"{folder}/{file}" if folder else file


def _checked(path: str, cell: Cell, place: Place | None) -> str:
    parts = path.split("/")
    for part in parts:
        problem = wrong_name(part)
        if problem:
            raise OutputError(
                f"The output of {cell.address} {problem}: {path}",
                place=place,
                cure="change the output template, or the entry's name",
            )
    return path


def wrong_name(part: str) -> str | None:
    """What is wrong with one part of a path; None where every file system can hold it."""
    if part in ("..", "."):
        return "leaves the output folder"
    if not part:
        return "has an empty part"
    if _FORBIDDEN.search(part) or part[-1] in ". " or _RESERVED.fullmatch(part):
        return f"has a name not every file system can hold, {part!r}"
    try:
        size = len(part.encode())
    except UnicodeEncodeError:
        return f"has a name not every file system can hold, {part!r}"
    return f"has a name longer than {LONGEST} bytes" if size > LONGEST else None


def folded(text: str) -> str:
    """A path as a forgiving file system sees it: without case, one Unicode form."""
    return unicodedata.normalize("NFD", unicodedata.normalize("NFD", text).casefold())
