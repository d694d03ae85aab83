"""The lists that several rooms need: each is kept once, and whoever follows them is complete."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import grandlattice as lattice
from conftest import PLAN
from grandlattice.images import read_mark
from grandlattice.plan.file_options import FileOptions
from grandlattice.tables.formats import FORMATS, SPELLINGS

ROOT = Path(__file__).parent.parent


@pytest.mark.parametrize("name", FORMATS)
def test_every_format_is_written_read_back_and_shown_on_a_sheet(plan_file: Path, name: str) -> None:
    kind = FORMATS[name]
    plan_file.write_text(PLAN.replace("[exr, png]", name).replace("[beauty, depth]", "[beauty]"))
    plan = lattice.open_plan(plan_file)
    run = plan.run(at=["day/Front"], workers=0)
    assert run.ok, run.failures
    (file,) = run.files("day/Front")
    assert file.suffix == f".{name}"
    assert read_mark(file, "fingerprint")  # so that it is known to be done
    assert not plan.run(at=["day/Front"], workers=0).outlook.todo
    (sheet,) = plan.review(at=["day/Front"])
    assert sheet.stat().st_size > 5000
    assert plan.totals(at=["day/Front"]).bytes == int(48 * 32 * kind.bytes * (3 if kind.layered else 1))
    for spelling in kind.spellings:
        assert lattice.open_plan(plan_file).override(format=spelling).cells[0].settings.format == (name,)


def test_options_of_formats_are_those_there_are() -> None:
    assert set(FileOptions.model_fields) == set(FORMATS)
    assert not set(SPELLINGS) & set(FORMATS)
    for field, about in FileOptions.model_fields.items():
        assert about.description == FORMATS[field].title
    page = (ROOT / "docs" / "plan.md").read_text()
    assert f"one or a list of `{' '.join(FORMATS)}`" in page


def test_no_room_lists_formats_or_passes_for_itself() -> None:
    listed = re.compile(r'"(exr|png|jpg|tiff|tga|hdr)",\s*"(exr|png|jpg|tiff|tga|hdr)"')
    for file in (ROOT / "src").rglob("*.py"):
        if file.parent.name not in ("tables", "demo"):
            assert not listed.search(file.read_text()), file
