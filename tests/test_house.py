"""The house itself: its rooms, its names, and how it speaks."""

from __future__ import annotations

import ast
import re
from collections import Counter
from dataclasses import fields
from importlib import import_module
from pathlib import Path
from typing import get_args

import pytest
from pxr import Usd
from pydantic import Field

from grandlattice.api.call_options import RunOptions, SettingValues
from grandlattice.api.orchestration import RunCall
from grandlattice.plan import settings
from grandlattice.plan.edit_verbs import EDITS
from grandlattice.plan.run_block import RunBlock
from grandlattice.plan.settings import MARKS, Mark, Settings
from grandlattice.stage.edits import LOOKS, STRUCTURE
from grandlattice.stage.light_reading import AREAS
from grandlattice.tables.edit_kinds import EDIT_KINDS
from grandlattice.tables.light_kinds import LIGHT_KINDS

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


def test_what_a_function_is_given_is_told_by_records() -> None:
    # The commands are excepted: their parameters are the options of the command line.
    many = []
    for file in MODULES:
        if file.stem.endswith("_commands"):
            continue
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                given = [
                    each.arg for each in (*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs)
                ]
                many += [f"{file.stem}.{node.name}"] if len(set(given) - {"self", "cls"}) > 8 else []
    assert many == []


@pytest.mark.parametrize("file", MODULES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_sentences_have_subjects(file: Path) -> None:
    assert [text for text in texts_of(file) if RIDDLES.search(text)] == []


def test_what_calls_take_by_keyword_is_what_plans_have() -> None:
    assert list(SettingValues.__annotations__) == list(Settings.model_fields)
    assert set(RunOptions.__annotations__) >= set(RunBlock.model_fields)
    assert set(RunOptions.__annotations__) - set(RunBlock.model_fields) == {
        each.name for each in fields(RunCall) if each.name not in RunBlock.model_fields
    }


def test_every_setting_says_what_it_affects(monkeypatch: pytest.MonkeyPatch) -> None:
    by_mark = {mark: [name for name in MARKS if MARKS[name] == mark] for mark in get_args(Mark)}
    assert sum(map(len, by_mark.values())) == len(Settings.model_fields)
    assert all(by_mark.values())
    monkeypatch.setitem(Settings.model_fields, "glow", Field(None, description="no mark"))
    with pytest.raises(TypeError, match="glow does not say what it affects"):
        settings._mark("glow")


def test_tables_and_what_is_bound_to_them_are_both_complete() -> None:
    assert set(EDITS) == set(EDIT_KINDS)
    assert {*STRUCTURE, *LOOKS, "overlay"} == set(EDIT_KINDS)  # an overlay brings its own layer
    assert {verb for verb, kind in EDIT_KINDS.items() if kind.is_structural} == {*STRUCTURE, "overlay"}
    assert set(AREAS) == set(LIGHT_KINDS)
    assert [kind.number for kind in LIGHT_KINDS.values()] == list(range(len(LIGHT_KINDS)))
    # Each kind is sampled, and met or behind everything: kernels name it where they tell kinds apart.
    kernels = (SOURCE / "tracer" / "light_sampling.py").read_text()
    assert all(kind.name.upper() in kernels for kind in LIGHT_KINDS.values())
    prims = [prim for kind in LIGHT_KINDS.values() for prim in kind.prims]
    assert len(prims) == len(set(prims))
    for kind in LIGHT_KINDS.values():
        schema = Usd.SchemaRegistry().FindConcretePrimDefinition(kind.prims[0])
        assert all(f"inputs:{name}" in schema.GetPropertyNames() for name in kind.size), kind.name
        assert ("inputs:texture:file" in schema.GetPropertyNames()) == kind.has_image, kind.name


def test_every_name_in_a_stub_can_be_loaded() -> None:
    for stub in sorted(SOURCE.rglob("*.pyi")):
        package = import_module(".".join(("grandlattice", *stub.parent.relative_to(SOURCE).parts)))
        assert all(getattr(package, name) is not None for name in dir(package)), stub
        assert len(dir(package)) == len(set(dir(package)))


KERNELS = {"batches", "clear_surfaces", "embree", "first_hit", "integrator", "mipmaps", "shading"}


def test_functions_take_eight_parameters_at_most() -> None:
    """But commands, whose parameters are their options, and kernels, which take addresses."""
    many = [
        f"{path.stem}.{node.name}"
        for path in MODULES
        if path.parent.name != "cli" and path.stem not in KERNELS
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.FunctionDef)
        and len([a for a in (*node.args.args, *node.args.kwonlyargs) if a.arg not in ("self", "cls")]) > 8
    ]
    assert many == []
