"""What edits are authored on: a drafting stage over the scene, where each edit reads what stands
(the scene and the edits before it) and writes into a layer of ours alone.

The edits themselves are in `edits`.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade

from grandlattice.errors import Place
from grandlattice.plan.edit_fields import Selected
from grandlattice.stage.attributes import metres_per_unit_of
from grandlattice.stage.selection import HELPERS, Selector, topmost

MATERIALS = HELPERS.AppendChild("Materials")
Note = tuple[str, str, Place]
"""What an artist should know of an edit that worked: (prim, what, place)."""


@dataclass
class Draft:
    """What edits are authored on.

    Attributes
    ----------
    stage : its edit target is the layer the current edit writes into.
    layers : the layers that hold the plan's edits so far, the current one among them.
    folder : the plan's, which file names in edits are relative to.
    schemas : a layer of the stage that schemas are applied in, and stay; None is the current edit's own.
    """

    stage: Usd.Stage
    selector: Selector
    folder: Path
    layers: list[Sdf.Layer] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    bindings: int = 0
    place: Place = field(default_factory=Place)
    schemas: Sdf.Layer | None = None

    def collection(self, prim: Usd.Prim, name: str) -> Usd.CollectionAPI:
        """A collection of a prim's that a material can be bound by."""
        if self.schemas is None or not prim.HasAPI(Usd.CollectionAPI, name):
            with Usd.EditContext(self.stage, self.schemas or self.stage.GetEditTarget()):
                Usd.CollectionAPI.Apply(prim, name)
                UsdShade.MaterialBindingAPI.Apply(prim)
        return Usd.CollectionAPI(prim, name)

    def selected(self, body: Selected, place: Place) -> list[Sdf.Path]:
        """Exactly the prims an edit's body selects."""
        return self.selector.prims(body.on, body.except_ or (), place=place, maybe=body.maybe)

    def tops(self, body: Selected, place: Place) -> tuple[list[Sdf.Path], list[Sdf.Path]]:
        """Topmost selected prims, and the topmost of those left out below them."""
        included = self.selector.prims(body.on, place=place, maybe=body.maybe)
        excluded = self.selector.prims(body.except_ or (), place=place, maybe=True)
        return topmost(included), topmost(excluded)

    def writable(self, path: Sdf.Path) -> Usd.Prim:
        """The prim at a path, ready to be edited: an instance it stands in becomes a copy of its own."""
        prim = self.stage.GetPrimAtPath(path)
        while prim and prim.IsInstanceProxy():
            instance = prim
            while instance.IsInstanceProxy():  # the outermost: what stands in another cannot be edited yet
                instance = instance.GetParent()
            instance.SetInstanceable(False)
            self.note(instance, "it is one of several instances; this one is edited apart from the others")
            prim = self.stage.GetPrimAtPath(path)
        return prim

    def note(self, prim: Usd.Prim, what: str) -> None:
        """Remember something an artist should know of the current edit."""
        self.notes.append((str(prim.GetPath()), what, self.place))

    @property
    def up(self) -> Gf.Vec3d:
        """The scene's up axis."""
        up = UsdGeom.GetStageUpAxis(self.stage)
        return Gf.Vec3d.ZAxis() if up == UsdGeom.Tokens.z else Gf.Vec3d.YAxis()

    @property
    def metres_per_unit(self) -> float:
        return metres_per_unit_of(self.stage)
