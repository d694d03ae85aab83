"""Snapshots: the composed stage at a frame, as arrays, kept by kind.

USD tells which properties a switch of cells changed.  Each kind of thing is read again only when
something of its kind changed: a change of lights leaves triangles, transforms and materials as
they are, and the renderer sees the very same objects.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from pxr import Sdf, Tf, Usd, UsdGeom, UsdShade

from grandlattice.errors import Place, SceneError, nearest
from grandlattice.snapshot import Geometry, Item, Light, Material, Snapshot
from grandlattice.stage.attributes import is_light
from grandlattice.stage.edits.visibility import STATE
from grandlattice.stage.geometry import (
    GEOMETRY_PROPERTIES,
    MeshSource,
    mesh_geometry,
    mesh_source,
    varies,
)
from grandlattice.stage.lighting import light_prims, matrix_array, read_camera, read_light
from grandlattice.stage.looks import plain_material, read_material
from grandlattice.stage.selecting import HELPERS
from grandlattice.stage.switching import CellStage

_ITEMS, _LOOKS = "items", "looks"


@dataclass(frozen=True, eq=False)
class _Mesh:
    """A mesh that may be seen, and the parts of it that may have materials of their own."""

    prim: Usd.Prim
    subsets: list[UsdGeom.Subset]
    varies: bool


class Snapshotter:
    """Takes snapshots of a cell stage, reading again only what changed."""

    def __init__(self, cell_stage: CellStage) -> None:
        self._cell_stage = cell_stage
        self._stage = cell_stage.stage
        self._meshes: list[_Mesh] | None = None
        self._lights: list[Usd.Prim] | None = None
        self._geometry: dict[Sdf.Path, tuple[MeshSource, Geometry]] = {}
        self._doubtful: set[Sdf.Path] = set()  # of those, what has to be compared again
        self._known: dict[Sdf.Path, Material] = {}  # the same at all times, and fed by nothing else
        self._items: tuple[Item, ...] = ()
        self._materials: tuple[Material, ...] = ()
        self._sources: list[UsdShade.Material | Usd.Prim] = []
        self._taken: float | None = None
        self._animated: bool | None = None
        self._stale = {_ITEMS, _LOOKS}
        self._key = Tf.Notice.Register(Usd.Notice.ObjectsChanged, self._changed, self._stage)

    def take(self, camera: str, frame: float) -> Snapshot:
        """The stage at a frame, seen by a camera.

        Raises
        ------
        SceneError
            When there is no such camera.
        """
        time = Usd.TimeCode(frame)
        prim = self._stage.GetPrimAtPath(camera) if Sdf.Path.IsValidPathString(camera) else None
        if not prim or not prim.IsA(UsdGeom.Camera):
            cameras = [str(p.GetPath()) for p in self._stage.Traverse() if p.IsA(UsdGeom.Camera)]
            raise SceneError(
                f"The scene has no camera {camera}. {nearest(camera, cameras)}",
                place=Place(prim=camera),
            )
        transforms = UsdGeom.XformCache(time)
        moves = self._taken != frame
        if self._stale or (moves and self._moves_over_time()):
            self._read_items(time, transforms)
        lights = self._read_lights(time, transforms)
        self._taken = frame
        self._stale = set()
        return Snapshot(
            self._items, self._materials, lights, read_camera(prim, time), frame,
            self._cell_stage.scene.metres_per_unit,
        )  # fmt: skip

    # --- what changed ------------------------------------------------------------------------

    def _changed(self, notice: Usd.Notice.ObjectsChanged, _: object) -> None:
        for path in notice.GetResyncedPaths():
            if path.IsPropertyPath():
                self._note(path)
            elif not path.HasPrefix(HELPERS):
                self._meshes = self._lights = None
                self._stale |= {_ITEMS, _LOOKS}
                self._doubtful |= {known for known in self._geometry if known.HasPrefix(path)}
                self._known = {p: m for p, m in self._known.items() if not p.HasPrefix(path)}
        for path in notice.GetChangedInfoOnlyPaths():
            if path.IsPropertyPath():
                self._note(path)
            elif "propertyOrder" in notice.GetChangedFields(path):
                self._stale.add(_ITEMS)  # it decides which of several bindings wins

    def _note(self, path: Sdf.Path) -> None:
        """Mark as stale what a property belongs to."""
        name, prim = path.name, self._stage.GetPrimAtPath(path.GetPrimPath())
        if prim and (is_light(prim) or prim.IsA(UsdGeom.Camera)) and not prim.GetChildren():
            return  # lights and cameras are read anew for every snapshot
        if name.startswith(GEOMETRY_PROPERTIES):
            self._doubtful |= {path.GetPrimPath(), path.GetPrimPath().GetParentPath()}
            self._stale.add(_ITEMS)
        elif name.startswith(("xformOp", "visibility", "purpose", "material:", "collection:", STATE)):
            self._stale.add(_ITEMS)
        elif prim and (prim.IsA(UsdShade.Shader) or prim.IsA(UsdShade.Material)):
            self._stale.add(_LOOKS)
            self._known.clear()

    def _moves_over_time(self) -> bool:
        """Whether anything but lights and cameras differs between frames; looked up once."""
        if self._animated is None:
            self._animated = any(
                mesh.varies or self._transform_varies(mesh.prim) for mesh in self._meshes or ()
            ) or any(_looks_vary(source) for source in self._sources)
        return self._animated

    def _transform_varies(self, prim: Usd.Prim) -> bool:
        while prim and not prim.IsPseudoRoot():
            imageable, xformable = UsdGeom.Imageable(prim), UsdGeom.Xformable(prim)
            if xformable and xformable.TransformMightBeTimeVarying():
                return True
            if imageable and imageable.GetVisibilityAttr().ValueMightBeTimeVarying():
                return True
            prim = prim.GetParent()
        return False

    # --- reading -----------------------------------------------------------------------------

    def _read_items(self, time: Usd.TimeCode, transforms: UsdGeom.XformCache) -> None:
        if self._meshes is None:
            self._meshes = _find_meshes(self._stage)
        shown = [m for m in self._meshes if _is_visible(m.prim, time)]
        parts = [p for m in shown for p in (m.prim, *(s.GetPrim() for s in m.subsets))]
        bound = (
            UsdShade.MaterialBindingAPI.ComputeBoundMaterials(parts, UsdShade.Tokens.full)[0] if parts else []
        )
        numbers: dict[object, int] = {}
        materials: list[Material] = []
        sources: list[UsdShade.Material | Usd.Prim] = []

        def number(part: Usd.Prim, material: UsdShade.Material | None) -> int:
            if material:
                key: object = material.GetPath()
            else:
                plain = plain_material(part, time)
                key = plain.path
            if key not in numbers:
                numbers[key] = len(materials)
                materials.append(self._material(material, time) if material else plain)
                sources.append(material or part)
            return numbers[key]

        items: list[Item] = []
        at = 0
        for mesh in shown:
            whole = bound[at]
            of_subsets = bound[at + 1 : at + 1 + len(mesh.subsets)]
            at += 1 + len(mesh.subsets)
            uses = [number(mesh.prim, whole)]
            uses += [number(s.GetPrim(), m or whole) for s, m in zip(mesh.subsets, of_subsets, strict=True)]
            state = _state(mesh.prim)
            matrix = matrix_array(transforms.GetLocalToWorldTransform(mesh.prim))
            if not np.isfinite(matrix).all():
                continue
            items.append(
                Item(
                    self._geometry_of(mesh, time), matrix, tuple(uses),
                    matte=state == "matte", catches=state == "catch", seen=state != "unseen",
                )
            )  # fmt: skip
        self._items, self._sources, self._animated = tuple(items), sources, None
        # Equal materials keep their identity, so that a renderer may keep what it made of them.
        if tuple(materials) != self._materials:
            self._materials = tuple(materials)

    def _geometry_of(self, mesh: _Mesh, time: Usd.TimeCode) -> Geometry:
        """The triangles of a mesh: the very same object for as long as its shape is the same."""
        path = mesh.prim.GetPath()
        known = self._geometry.get(path)
        if known is None or mesh.varies or path in self._doubtful:
            source = mesh_source(UsdGeom.Mesh(mesh.prim), mesh.subsets, time)
            if known is None or known[0] != source:
                known = self._geometry[path] = source, mesh_geometry(str(path), source)
            self._doubtful.discard(path)
        return known[1]

    def _material(self, material: UsdShade.Material, time: Usd.TimeCode) -> Material:
        path = material.GetPath()
        if path not in self._known:
            read = read_material(material, time)
            if _looks_vary(material) or not _stands_alone(material):
                return read
            self._known[path] = read
        return self._known[path]

    def _read_lights(self, time: Usd.TimeCode, transforms: UsdGeom.XformCache) -> tuple[Light, ...]:
        if self._lights is None:
            self._lights = light_prims(self._stage)
        lights = (
            read_light(prim, matrix_array(transforms.GetLocalToWorldTransform(prim)), time)
            for prim in self._lights
            if _is_visible(prim, time)
        )
        return tuple(light for light in lights if light is not None)


def _looks_vary(source: UsdShade.Material | Usd.Prim) -> bool:
    prim = source.GetPrim() if isinstance(source, UsdShade.Material) else source
    return any(
        attribute.ValueMightBeTimeVarying()
        for below in Usd.PrimRange(prim)
        if below.IsA(UsdShade.Shader) or below.IsA(UsdShade.Material)
        for attribute in below.GetAttributes()
    )


def _stands_alone(material: UsdShade.Material) -> bool:
    """Whether nothing outside the material's own prims feeds it, whose change would go unnoticed."""
    path = material.GetPath()
    return all(
        source.HasPrefix(path)
        for below in Usd.PrimRange(material.GetPrim(), Usd.TraverseInstanceProxies())
        for attribute in below.GetAuthoredAttributes()
        if attribute.HasAuthoredConnections()
        for source in attribute.GetConnections()
    )


def _find_meshes(stage: Usd.Stage) -> list[_Mesh]:
    found = []
    for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
        if not prim.IsA(UsdGeom.Mesh):
            continue
        if UsdGeom.Imageable(prim).ComputePurpose() not in (
            UsdGeom.Tokens.default_, UsdGeom.Tokens.render,
        ):  # fmt: skip
            continue
        subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()
        found.append(_Mesh(prim, subsets, varies(UsdGeom.Mesh(prim))))
    return found


def _is_visible(prim: Usd.Prim, time: Usd.TimeCode) -> bool:
    return bool(UsdGeom.Imageable(prim).ComputeVisibility(time) != UsdGeom.Tokens.invisible)


def _state(prim: Usd.Prim) -> str:
    while prim and not prim.IsPseudoRoot():
        attribute = prim.GetAttribute(STATE)
        if attribute and attribute.HasAuthoredValue():
            return str(attribute.Get())
        prim = prim.GetParent()
    return ""
