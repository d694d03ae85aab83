"""From a USD scene and edits to snapshots.  No pixels; nothing is ever written to the scene.

Read in this order: `scene` (opening), `switching` (one stage, cell after cell), `composing`
(what each edit authors), `snapshots` (arrays for a renderer).
"""

from grandlattice.stage.draft import draft_plan
from grandlattice.stage.scene import Scene, open_scene, read_asset, scene_digest, scene_files
from grandlattice.stage.snapshots import Snapshotter
from grandlattice.stage.survey import Survey, survey_assets, survey_scene
from grandlattice.stage.switching import CellStage

__all__ = [
    "CellStage", "Scene", "Snapshotter", "Survey", "draft_plan", "open_scene", "read_asset",
    "scene_digest", "scene_files", "survey_assets", "survey_scene",
]  # fmt: skip
