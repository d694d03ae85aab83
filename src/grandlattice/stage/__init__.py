"""From a USD scene and edits to snapshots.  No pixels; nothing is ever written to the scene.

Read in this order: `opened_scene` (opening), `edit_authoring` (edits authored on a stage of their own,
each by a function of `edits`), `cell_stage` (one traced stage, cell after cell), `snapshotter` (arrays for
a renderer); then `explaining` (who set what) and `exporting`.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
