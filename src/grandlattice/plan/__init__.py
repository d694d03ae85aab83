"""From a plan file to cells: reading, checking, multiplying, naming.  No USD, no pixels.

Read in this order: `reader` (YAML with places), `including`, `unfolding` and `sweeps` (axes that
write themselves), `schema` (what may stand in a plan, with `settings` and `edits`), `axes` and
`lattice` (the matrix), `setting_layers` (who says what), `cell_maker` (one cell) and
`setting_columns` (all of them), `file_names` and `file_index` (files).
"""

from grandlattice.plan.addresses import cells_at
from grandlattice.plan.axes import RESERVED, PrimFact, SceneFacts, distinct_names
from grandlattice.plan.cell_maker import Cell, CellMaker, CellSettings
from grandlattice.plan.edit_verbs import STRUCTURAL
from grandlattice.plan.file_index import Filing, Totals
from grandlattice.plan.file_names import FileNames, PlannedFile, Stamp, planned_files
from grandlattice.plan.including import with_included
from grandlattice.plan.lattice import Lattice, build_lattice
from grandlattice.plan.reader import Document, parse, read_document, yaml_writer
from grandlattice.plan.running_order import running_order
from grandlattice.plan.schema import PlanModel
from grandlattice.plan.setting_columns import settled
from grandlattice.plan.setting_layers import PlacedEdit
from grandlattice.plan.settings import Settings
from grandlattice.plan.spelled_values import Frames, Length, Size
from grandlattice.plan.validation import validate

__all__ = [
    "RESERVED", "STRUCTURAL", "Cell", "CellMaker", "CellSettings", "Document", "FileNames",
    "Filing", "Frames", "Lattice", "Length", "PlacedEdit", "PlanModel", "PlannedFile", "PrimFact",
    "SceneFacts", "Settings", "Size", "Stamp", "Totals", "build_lattice", "cells_at",
    "distinct_names", "parse", "planned_files", "read_document", "running_order", "settled", "validate",
    "with_included", "yaml_writer",
]  # fmt: skip
