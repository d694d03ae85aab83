"""The house itself: its rooms, its names, and how it speaks."""

from __future__ import annotations

import ast
import re
from collections import Counter
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "grandlattice"
DOCS = SOURCE.parent.parent / "docs"
MODULES = sorted(SOURCE.rglob("*.py"))
RIDDLES = re.compile(r"\b(nobody|whoever|whatever asks|what it says|somebody)\b", re.IGNORECASE)


def texts_of(file: Path) -> list[str]:
    """Docstrings, other strings and comments of a module."""
    source = file.read_text()
    strings = [
        node.value for node in ast.walk(ast.parse(source))
        if isinstance(node, ast.Constant) and isinstance(node.value, str)
    ]  # fmt: skip
    return strings + re.findall(r"(?:^|\s)#\s(.*)$", source, re.MULTILINE)


def test_every_room_stands_in_the_table_of_the_road() -> None:
    rooms = {path.name for path in SOURCE.iterdir() if path.is_dir() and path.name != "__pycache__"}
    rooms |= {path.name for path in SOURCE.glob("*.py")} - {"__init__.py", "__main__.py", "version.py"}
    table = re.findall(r"^\| `([\w.]+)/?` \|", (DOCS / "road.md").read_text(), re.MULTILINE)
    assert sorted(table) == sorted(rooms)


def test_no_two_files_share_a_name() -> None:
    names = Counter(path.stem for path in MODULES if path.stem not in ("__init__", "__main__"))
    packages = {path.parent.name for path in MODULES}
    assert [name for name, count in names.items() if count > 1 or name in packages] == []


def test_the_compiler_is_known_to_its_room_alone() -> None:
    found = [
        path.name for path in MODULES
        if "compiling" not in path.parts
        and re.search(r"^\s*(?:import|from) (?:numba|llvmlite)", path.read_text(), re.MULTILINE)
    ]  # fmt: skip
    assert found == []


@pytest.mark.parametrize("file", MODULES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_sentences_have_subjects(file: Path) -> None:
    assert [text for text in texts_of(file) if RIDDLES.search(text)] == []
