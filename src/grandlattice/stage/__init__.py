"""From a USD scene and edits to snapshots.  No pixels; nothing is ever written to the scene.

Read in this order: `opened_scene` (opening), `edit_authoring` (edits authored on a stage of their own,
each by a function of `edits`), `cell_stage` (one traced stage, cell after cell), `snapshotter` (arrays for
a renderer); then `explaining` (who set what) and `exporting`.
"""

from grandlattice.stage.cell_stage import CellStage
from grandlattice.stage.explaining import (
    Change,
    Explainer,
    Explanation,
    Opinion,
    explain_settings,
    rivals,
)
from grandlattice.stage.exporting import export_cell
from grandlattice.stage.first_plan import draft_plan, framing_file
from grandlattice.stage.omissions import named, omission_cure
from grandlattice.stage.opened_scene import (
    Scene,
    files_read,
    open_scene,
    read_asset,
    scene_digest,
    scene_files,
)
from grandlattice.stage.snapshotter import Snapshotter
from grandlattice.stage.survey import Survey, asks_for, survey_scene
from grandlattice.stage.swapped_assets import Swapped, swapped

__all__ = [
    "CellStage", "Change", "Explainer", "Explanation", "Opinion", "Scene", "Snapshotter", "Survey",
    "Swapped", "asks_for",
    "draft_plan", "explain_settings", "export_cell", "files_read", "framing_file",
    "named", "omission_cure", "open_scene",
    "read_asset", "rivals", "scene_digest", "scene_files", "survey_scene", "swapped",
]  # fmt: skip
