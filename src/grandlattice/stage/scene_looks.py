"""Materials of the scene as shapes show them, each read once for all shapes that have it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from pxr import Sdf, Usd, UsdGeom, UsdShade

from grandlattice.scene_records import Material
from grandlattice.stage.surface_reading import is_painted, plain_material, read_material, unpainted, uv_sets
from grandlattice.stage.variation import looks_vary, stands_alone


@dataclass(eq=False, slots=True)
class Look:
    """A material as shapes show it.

    `source` is the material of the scene, or the prim whose own colour or glow it is; `uv_sets` the primvars
    its textures are read by.  One that is *loose* is read again each time: it changes over time, or is fed by
    nodes elsewhere, whose changes it would not hear of.
    """

    material: Material
    source: UsdShade.Material | Usd.Prim
    uv_sets: tuple[str, ...] = ()
    loose: bool = False
    varies: bool | None = None  # between frames; None is not looked up yet

    @property
    def asks_for_paint(self) -> bool:
        """Whether it is another on shapes without colours of their own."""
        return "unpainted" in self.material.inputs


class SceneLooks:
    """Reads the materials that shapes have, and reads one again only where it may be another."""

    def __init__(self) -> None:
        self._known: dict[Sdf.Path, Look] = {}

    def forget(self, path: Sdf.Path) -> set[Look]:
        """Forget materials at or below a prim; what they were."""
        return {self._known.pop(known) for known in list(self._known) if known.HasPrefix(path)}

    def on(
        self, part: Usd.Prim, material: UsdShade.Material | None, time: Usd.TimeCode
    ) -> tuple[Look, bool]:  # fmt: skip
        """A material as a part of a shape shows it, and whether no other shape may show it so."""
        if not material:
            return Look(plain_material(part, time), part), False
        path = material.GetPath()
        look = self._known.get(path)
        if look is None:
            look = self._known[path] = _look_of(material, time)
        if not look.asks_for_paint or is_painted(part.GetParent() if part.IsA(UsdGeom.Subset) else part):
            return look, False
        return replace(look, material=unpainted(look.material, part, time)), True

    def repaint(self, painted: Iterable[Sdf.Path], time: Usd.TimeCode) -> tuple[bool, set[Look]]:
        """Read those again that may be others.

        Parameters
        ----------
        painted : materials and nodes that changed.

        Returns
        -------
        Whether any is another, and those whose shapes have to be read again, too.
        """
        changed, others = False, set()
        for path, look in self._known.items():
            if not look.loose and not any(node.HasPrefix(path) for node in painted):
                continue
            new = _look_of(look.source, time)
            look.loose, look.varies = new.loose, None
            if new.material == look.material and new.uv_sets == look.uv_sets:
                continue
            changed = True
            if new.uv_sets != look.uv_sets or new.asks_for_paint or look.asks_for_paint:
                others.add(look)
            look.material, look.uv_sets = new.material, new.uv_sets
        return changed, others


def _look_of(material: UsdShade.Material, time: Usd.TimeCode) -> Look:
    varies = looks_vary(material)
    loose = varies or not stands_alone(material)
    return Look(read_material(material, time), material, uv_sets(material), loose, varies)
