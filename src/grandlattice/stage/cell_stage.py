"""One composed stage, switched from cell to cell.

The scene is composed once, under layers of ours that stay where they are: the plan's own materials,
and what the current cell's edits wrote.  Switching replaces the contents of those two and nothing
else, so that USD recomposes only what the edits touch; overlays are exchanged when they differ.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from pxr import Sdf, Usd

from grandlattice.errors import Place
from grandlattice.plan import PlacedEdit, PlanModel
from grandlattice.plan.schema import OwnLight
from grandlattice.scene_records import Snapshot
from grandlattice.stage.edit_authoring import Drafting, blank_layer, root_layer
from grandlattice.stage.edit_stage import Note
from grandlattice.stage.opened_scene import Scene, quiet_usd
from grandlattice.stage.selection import Selector, stands_below


class CellStage:
    """The scene with one cell's edits laid over it.

    Parameters
    ----------
    scene : opened read-only.
    model : the plan, for its selections and materials.
    folder : the plan's folder, which file names in edits are relative to.

    Attributes
    ----------
    stage : the composed stage; read it, do not edit it.
    """

    def __init__(self, scene: Scene, model: PlanModel, folder: Path) -> None:
        self.scene, self._model = scene, model
        self._drafting = Drafting(scene, model, folder, keeps_schemas=True)
        self._looks = blank_layer(scene, "looks of the cell")
        self._structure = blank_layer(scene, "structure of the cell")
        self._stands: object = ()
        self._stacked: list[Sdf.Layer] = []
        self._root = root_layer(scene, "traced")
        with quiet_usd():  # its warnings were collected when the scene was opened
            self._stack()
            self.stage = Usd.Stage.Open(self._root, Usd.Stage.LoadAll)

    @property
    def notes(self) -> list[Note]:
        """What an artist should know of the current cell's edits: (prim, what, place)."""
        return self._drafting.notes

    def switch(self, edits: Sequence[PlacedEdit]) -> None:
        """Lay these edits over the scene in place of the last ones.

        Raises
        ------
        EditError
            When one of them cannot be laid over this scene; the last cell then stays.
        """
        self._drafting.lay(edits)
        with quiet_usd():
            if self._drafting.stacked != self._stacked:
                self._stacked = list(self._drafting.stacked)
                self._stack()
            if self._stands != self._drafting.stands:
                self._stands = self._drafting.stands
                self._structure.TransferContent(self._drafting.structure)
            self._looks.TransferContent(self._drafting.looks)

    def lights_of(self, name: str, own: OwnLight, snapshot: Snapshot) -> frozenset[str]:
        """Paths of the lights, and of shapes that glow, that a pass of the plan's own is of, in the current
        cell.

        Raises
        ------
        EditError
            When its selection means nothing.
        """
        selector, place = Selector(self.stage, self._model.select), Place(words=f"own-passes: {name}")
        tops = selector.prims(own.on, place=place)
        without = selector.prims(own.except_ or (), place=place, maybe=True)
        shine = [*(light.path for light in snapshot.lights), *filter(None, snapshot.glowing)]
        return frozenset(
            path for path in shine if stands_below(path, tops) and not stands_below(path, without)
        )

    def _stack(self) -> None:
        between = [layer.identifier for layer in self._stacked]
        beneath = [self._drafting.helpers, self._drafting.schemas, self.scene.layer]
        self._root.subLayerPaths = [
            self._looks.identifier, self._structure.identifier, *between,
            *(layer.identifier for layer in beneath if layer is not None),
        ]  # fmt: skip
