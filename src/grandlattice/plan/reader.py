"""Reading a plan file: YAML in, text scalars with their places out.  What they mean is `schema`.

Every plain scalar stays the text that was typed (`040`, `no`, `2026-06-21`), so that nothing is
guessed before the schema says what it should be.  Anchors, aliases, tags and directives are
refused: an unquoted ``&A`` or ``#ff0000`` would otherwise vanish silently.
"""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap
from ruamel.yaml.constructor import DuplicateKeyError
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.events import (
    AliasEvent,
    CollectionEndEvent,
    CollectionStartEvent,
    DocumentStartEvent,
    MappingStartEvent,
    NodeEvent,
)
from ruamel.yaml.resolver import VersionedResolver

from grandlattice.errors import Place, PlanError

_LARGEST = 4_000_000  # characters; a plan is written by hand
_DEEPEST = 40
_QUOTE = "put the value in quotes"


class _TextResolver(VersionedResolver):
    """Resolves no plain scalar to anything but text."""

    @property
    def versioned_resolver(self) -> dict[str, Any]:
        return {}


@dataclass(frozen=True, eq=False)
class Document:
    """A plan as it stands in its file.

    `data` keeps comments and order; `text` is the file as read; `included` are the files it takes
    from, the one that wins first; `grades` are rules that stand beside its pictures, behind its own.
    """

    data: CommentedMap
    text: str
    file: Path | None = None
    included: tuple[Document, ...] = ()
    grades: Document | None = None

    @property
    def other_files(self) -> list[Path]:
        """Files that are read with it."""
        others = [*self.included, *([self.grades] if self.grades is not None else [])]
        return [other.file for other in others if other.file is not None]

    def place(self, path: Sequence[str | int], key: str | None = None) -> Place:
        """Where a value stands; parts of `path` the file does not have are passed over.

        With `key`, where that key of the mapping at `path` stands.
        """
        if self.grades is not None and len(path) > 1 and path[0] == "rules" and isinstance(path[1], int):
            own = len(self.data.get("rules") or ())
            if path[1] >= own:
                return self.grades.place(["rules", path[1] - own, *path[2:]], key)
        if len(path) > 1 and not _holds(self.data, path[:2]):
            for other in self.included:
                if _holds(other.data, path[:2]):
                    return other.place(path, key)
        node: Any = self.data
        spot: tuple[int, int] | None = None
        for part in path:
            if isinstance(node, CommentedMap) and part in node:
                spot, node = node.lc.key(part), node[part]
            elif isinstance(node, list) and isinstance(part, int) and part < len(node):
                lines = getattr(node, "lc", None)
                if lines is not None and lines.data:
                    spot = lines.item(part)
                node = node[part]
        if key is not None and isinstance(node, CommentedMap) and key in node and node.lc.data:
            spot = node.lc.key(key)
        if spot is None:
            return Place(self.file)
        return Place(self.file, spot[0] + 1, spot[1] + 1)


def _holds(data: Any, path: Sequence[str | int]) -> bool:
    for part in path:
        if not isinstance(data, CommentedMap) or part not in data:
            return False
        data = data[part]
    return True


def yaml_writer(like: str = "") -> YAML:
    """The one way plans are read and written: round-trip, text scalars, block style.

    Lists are indented as in the text `like`.
    """
    yaml = YAML(typ="rt")
    yaml.Resolver = _TextResolver
    yaml.preserve_quotes = True
    yaml.width = 4096
    item = re.search(r"^( *)\S[^\n]*:[^\n]*\n(?: *(?:#[^\n]*)?\n)*( *)- ", like, re.MULTILINE)
    offset = max(0, len(item[2]) - len(item[1])) if item else 2
    yaml.indent(mapping=2, sequence=offset + 2, offset=offset)
    return yaml


def read_document(file: Path) -> Document:
    """Read a plan file.

    Raises
    ------
    PlanError
        When it is missing, not text, not YAML, or uses YAML that plans refuse.
    """
    try:
        text = file.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise PlanError(f"There is no plan at {file}.", cure="glat begin SCENE writes one") from None
    except IsADirectoryError:
        raise PlanError(f"{file} is a folder, not a plan.") from None
    except UnicodeDecodeError:
        raise PlanError(
            f"{file.name} is not a text file, so it is no plan.",
            cure="name a file that ends in .lattice.yaml",
        ) from None
    except OSError as problem:
        raise PlanError(f"{file} cannot be read: {problem.strerror}.") from problem
    return parse(text, file)


def parse(text: str, file: Path | None = None) -> Document:
    """Read a plan from text; `file` is for messages."""
    if len(text) > _LARGEST:
        raise PlanError(f"The plan is larger than {_LARGEST:,} characters.", place=Place(file))
    try:
        _refuse(text, file)
        data = yaml_writer().load(text)
    except DuplicateKeyError as problem:
        mark = problem.problem_mark
        key = re.search(r'found duplicate key "(.*?)"', str(problem.problem or ""))
        raise PlanError(
            f"{key[1] if key else 'A key'} stands here twice; only one would count.",
            place=Place(file, mark.line + 1, mark.column + 1) if mark else Place(file),
            cure="remove or rename one of them",
        ) from None
    except MarkedYAMLError as problem:
        raise _explained(problem, text, file) from None
    except (YAMLError, ValueError, RecursionError) as problem:
        raise PlanError(f"The plan is not YAML: {problem}", place=Place(file)) from None
    if not isinstance(data, CommentedMap):
        raise PlanError(
            "The plan should be keys with values, such as `scene: orrery.usda`.",
            place=Place(file, 1, 1),
            cure="glat begin SCENE writes a plan to start from",
        )
    return Document(data, text, file)


def read_edit(text: str) -> dict[str, Any]:
    """An edit from text, as a plan writes it.

    Raises
    ------
    PlanError
        When it is no YAML, or no mapping.

    Examples
    --------
    >>> read_edit("multiply: {on: /Room/Lights/Lamp, intensity: 2}")
    {'multiply': {'on': '/Room/Lights/Lamp', 'intensity': '2'}}
    """
    try:
        return {str(key): _plain(value) for key, value in parse(text).data.items()}
    except PlanError:
        raise PlanError(
            f"The edit {text} cannot be read.",
            cure="write it as a plan does, such as 'multiply: {on: /Room/Lights/Lamp, intensity: 2}'",
        ) from None


def _plain(value: Any) -> Any:
    """A value without comments and places."""
    if isinstance(value, CommentedMap):
        return {str(key): _plain(each) for key, each in value.items()}
    return [_plain(each) for each in value] if isinstance(value, list) else value


def _refuse(text: str, file: Path | None) -> None:
    """Walk the YAML once for what plans do not allow, before anything is built from it."""
    documents = 0
    inside: list[bool | None] = []  # for each open collection: in a mapping, whether a key comes next
    for event in YAML(typ="rt", pure=True).parse(io.StringIO(text)):
        mark = event.start_mark
        place = Place(file, mark.line + 1, mark.column + 1) if mark else Place(file)
        if isinstance(event, DocumentStartEvent):
            documents += 1
            if documents > 1:
                raise PlanError("A plan is one document; here a second one begins.", place=place)
            if event.version or event.tags:
                raise PlanError("A plan has no % directives.", place=place, cure=_QUOTE)
        elif isinstance(event, AliasEvent):
            raise PlanError(f"*{event.anchor} would be read as a YAML alias.", place=place, cure=_QUOTE)
        elif isinstance(event, NodeEvent) and event.anchor:
            raise PlanError(f"&{event.anchor} would be read as a YAML anchor.", place=place, cure=_QUOTE)
        if getattr(event, "tag", None) is not None and str(event.tag).startswith(("!", "tag:")):
            raise PlanError(f"{event.tag} would be read as a YAML tag.", place=place, cure=_QUOTE)
        if isinstance(event, CollectionEndEvent):
            inside.pop()
        elif isinstance(event, NodeEvent) and inside and inside[-1] is not None:
            if inside[-1] and isinstance(event, CollectionStartEvent):
                raise PlanError("A list or {…} stands here where a key is wanted.", place=place, cure=_QUOTE)
            inside[-1] = not inside[-1]
        if isinstance(event, CollectionStartEvent):
            inside.append(True if isinstance(event, MappingStartEvent) else None)
        if len(inside) > _DEEPEST:
            raise PlanError(f"The plan is nested deeper than {_DEEPEST} levels.", place=place)


def _explained(problem: MarkedYAMLError, text: str, file: Path | None) -> PlanError:
    mark = problem.problem_mark or problem.context_mark
    if mark is None:
        return PlanError(f"The plan is not YAML: {problem.problem}.", place=Place(file))
    lines = text.splitlines()
    line = lines[mark.line] if mark.line < len(lines) else ""
    cure = "check the indentation and the colons around this line"
    for number in (mark.line, mark.line - 1):
        if 0 <= number < len(lines) and re.search(r"(?::|-)\s+[{%*@`&!|>]", lines[number]):
            line, cure = lines[number], _QUOTE
            mark_line = number
            break
    else:
        mark_line = mark.line
    if "\t" in line:
        cure = "use spaces, not tabs, to indent"
    return PlanError(
        f"The plan is not YAML here: {line.strip()!r}" if line.strip() else "The plan is not YAML.",
        place=Place(file, mark_line + 1, mark.column + 1 if mark_line == mark.line else 1),
        cure=cure,
    )
