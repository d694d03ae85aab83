"""The notebook of the examples, carried out as a reader would."""

from __future__ import annotations

from pathlib import Path

import nbformat
import pytest
from nbclient import NotebookClient

NOTEBOOK = Path(__file__).parent.parent / "examples" / "a_night_in_a_notebook.ipynb"


@pytest.mark.long
def test_the_notebook_runs_and_shows_what_it_talks_of(tmp_path: Path) -> None:
    notebook = nbformat.read(NOTEBOOK, as_version=4)
    kept = [set(output.get("data", {})) for cell in notebook.cells for output in cell.get("outputs", ())]
    NotebookClient(notebook, timeout=300, resources={"metadata": {"path": str(tmp_path)}}).execute()
    shown = [set(output.get("data", {})) for cell in notebook.cells for output in cell.get("outputs", ())]
    assert shown == kept  # what is committed is what comes of it
    assert sum("image/png" in kinds for kinds in shown) == 3  # a picture, and two figures
    assert sum("text/html" in kinds for kinds in shown) >= 5  # plan, cells, explanation, run, tables
