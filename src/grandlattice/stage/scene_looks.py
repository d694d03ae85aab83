"""Materials of the scene as shapes show them, each read once for all shapes that have it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Usd, UsdGeom, UsdShade

from grandlattice.scene_records import Constant, Material
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

    @property
    def changes_over_time(self) -> bool:
        """Whether it differs between frames; looked up once."""
        if self.varies is None:
            self.varies = looks_vary(self.source)
        return self.varies

    def glowing(self, glow: Constant, prim: Usd.Prim, name: str) -> Look:
        """The same on a shape that is a light."""
        path = f"{name} {self.material.path}"
        return Look(Material(path, {**self.material.inputs, "emissiveColor": glow}), prim, self.uv_sets)


@dataclass(frozen=True, eq=False, slots=True)
class LookSet:
    """What a shape shows: the look of the whole, and of each part of it that may have its own."""

    looks: tuple[Look, ...]

    @property
    def uv_sets(self) -> tuple[str, ...]:
        """The primvars its textures are read by."""
        return next((look.uv_sets for look in self.looks if look.uv_sets), ("st",))


_MOST_IDLE = 4096


class LookSets:
    """Numbers what shapes show, so that shapes that show the same have the same number."""

    def __init__(self) -> None:
        self._sets: list[LookSet] = []
        self._numbers: dict[tuple[Look, ...], int] = {}

    def __len__(self) -> int:
        return len(self._sets)

    def __getitem__(self, number: int) -> LookSet:
        return self._sets[number]

    def number(self, looks: Sequence[Look]) -> int:
        """The number of some looks."""
        key = tuple(looks)
        if key not in self._numbers:
            self._numbers[key] = len(self._sets)
            self._sets.append(LookSet(key))
        return self._numbers[key]

    def shown_by(self, uses: NDArray[np.int64], looks: set[Look]) -> NDArray[np.bool_]:
        """Which numbers stand for any of some looks."""
        wanted = [number for number, held in enumerate(self._sets) if not looks.isdisjoint(held.looks)]
        return np.isin(uses, wanted)

    def tidied(self, uses: NDArray[np.int64]) -> NDArray[np.int64]:
        """Forget what nothing shows once there is much of it; the numbers as they are then."""
        if len(self._sets) <= _MOST_IDLE + len(uses):
            return uses
        kept, places = np.unique(uses[uses >= 0], return_inverse=True)
        self._sets = [self._sets[number] for number in kept.tolist()]
        self._numbers = {held.looks: number for number, held in enumerate(self._sets)}
        new = uses.copy()
        new[uses >= 0] = places
        return new


class SceneLooks:
    """Reads the materials that shapes have, and reads one again only where it may be another."""

    def __init__(self) -> None:
        self._known: dict[Sdf.Path, Look] = {}
        self._plain: dict[str, Look] = {}

    def forget(self, paths: set[Sdf.Path]) -> set[Look]:
        """Forget materials at or below some prims, or that these are part of; what they were."""
        above = {prefix for path in paths for prefix in path.GetPrefixes()}
        found = [
            known for known in self._known if known in above or not paths.isdisjoint(known.GetPrefixes())
        ]
        return {self._known.pop(known) for known in found}

    def of(self, stage: Usd.Stage, path: Sdf.Path | None, time: Usd.TimeCode) -> Look | None:
        """A material of the scene; None where there is none at a path."""
        if path is None:
            return None
        look = self._known.get(path)
        if look is None:
            prim = stage.GetPrimAtPath(path)
            if not prim or not prim.IsA(UsdShade.Material):
                return None
            look = self._known[path] = _look_of(UsdShade.Material(prim), time)
        return look

    def on(self, part: Usd.Prim, look: Look | None, time: Usd.TimeCode) -> tuple[Look, bool]:
        """What a part of a shape shows that has a material, and whether no other shape may show it so."""
        if look is None:
            plain = plain_material(part, time)
            return self._plain.setdefault(plain.path, Look(plain, part, varies=False)), False
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
            prim = look.source.GetPrim() if painted else None
            if prim and prim.IsInstanceProxy():
                path = prim.GetPrimInPrototype().GetPath()  # there USD says what changed
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
