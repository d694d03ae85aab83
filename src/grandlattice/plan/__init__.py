"""From a plan file to cells: reading, checking, multiplying, naming.  No USD, no pixels.

Read in this order: `reader` (YAML with places), `schema` (what may stand in a plan, with
`settings` and `edits`),
`lattice` (axes, rules, order), `cells` (who wins), `naming` (files).
"""

from grandlattice.plan.addresses import cells_at
from grandlattice.plan.cells import Cell, CellMaker, CellSettings, PlacedEdit
from grandlattice.plan.lattice import (
    RESERVED,
    CameraFact,
    Lattice,
    SceneFacts,
    build_lattice,
    distinct_names,
)
from grandlattice.plan.naming import PlannedFile, planned_files, refuse_collisions
from grandlattice.plan.reader import Document, parse, read_document, yaml_writer
from grandlattice.plan.schema import PlanModel
from grandlattice.plan.settings import Settings
from grandlattice.plan.validation import validate
from grandlattice.plan.values import Frames, Size

__all__ = [
    "RESERVED",
    "CameraFact",
    "Cell",
    "CellMaker",
    "CellSettings",
    "Document",
    "Frames",
    "Lattice",
    "PlacedEdit",
    "PlanModel",
    "PlannedFile",
    "SceneFacts",
    "Settings",
    "Size",
    "build_lattice",
    "cells_at",
    "distinct_names",
    "parse",
    "planned_files",
    "read_document",
    "refuse_collisions",
    "validate",
    "yaml_writer",
]  # fmt: skip
