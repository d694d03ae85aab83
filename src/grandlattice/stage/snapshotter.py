"""Snapshots: the composed stage at a frame, as arrays, kept by kind.

USD tells which properties a switch of cells changed.  Each kind of thing is read again only when
something of its kind changed: a change of lights leaves triangles, transforms and materials as
they are, and the renderer sees the very same objects.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Tf, Usd, UsdGeom, UsdShade

from grandlattice.errors import Place, SceneError, nearest
from grandlattice.scene_records import Geometry, Item, Later, Light, Material, Snapshot
from grandlattice.stage.attributes import is_light
from grandlattice.stage.cell_stage import CellStage
from grandlattice.stage.drawn_shapes import DrawnShape, find_shapes, is_shown, is_visible
from grandlattice.stage.edits.visibility import STATE
from grandlattice.stage.instancing import chain_varies, copies_of
from grandlattice.stage.light_reading import (
    light_prims,
    matrix_array,
    mesh_light,
    read_camera,
    read_light,
    read_shutter,
    stands,
)
from grandlattice.stage.opened_scene import quiet_usd
from grandlattice.stage.selection import HELPERS
from grandlattice.stage.shapes import SHAPE_PROPERTIES, ShapeSource, read_shape
from grandlattice.stage.surface_reading import is_painted, plain_material, read_material, unpainted, uv_sets
from grandlattice.stage.variation import looks_vary, stands_alone, transform_varies, visibility_varies

_ITEMS, _LOOKS = "items", "looks"
_STEPS = 5  # moments at which what moves is looked at while the shutter is open
_PLACING = (
    "xformOp", "visibility", "purpose", "material:", "collection:", STATE, "positions", "orientations",
    "scales", "protoIndices", "prototypes", "ids", "invisibleIds", "velocities", "angularVelocities",
    "doubleSided",
)  # fmt: skip


class Snapshotter:
    """Takes snapshots of a cell stage, reading again only what changed."""

    def __init__(self, cell_stage: CellStage) -> None:
        self._cell_stage = cell_stage
        self._stage = cell_stage.stage
        self._shapes: list[DrawnShape] | None = None
        self._lights: list[Usd.Prim] | None = None
        self._geometry: dict[Sdf.Path, tuple[ShapeSource, Geometry]] = {}
        self._doubtful: set[Sdf.Path] = set()  # of those, what has to be compared again
        self._uv_sets: dict[Sdf.Path, tuple[str, ...]] = {}
        self._read_by: list[tuple[str, ...]] = []  # the primvars of each material of the last snapshot
        self._mapped: dict[tuple[Sdf.Path, str], bool] = {}
        self._known: dict[Sdf.Path, Material] = {}  # the same at all times, and fed by nothing else
        self._items: tuple[Item, ...] = ()
        self._standing: list[str] = []  # prim paths of the items
        self._materials: tuple[Material, ...] = ()
        self._sources: list[UsdShade.Material | Usd.Prim] = []
        self._taken: float | None = None
        self._levels = 1
        self._animated: bool | None = None
        self._only_moves = False  # between frames: transforms of the movers differ, nothing else
        self._movers: list[int] = []
        self._shown: list[DrawnShape] = []  # the shapes of the items
        self._times: tuple[float, ...] = ()  # while the shutter is open
        self._stale = {_ITEMS, _LOOKS}
        self._key = Tf.Notice.Register(Usd.Notice.ObjectsChanged, self._changed, self._stage)

    @quiet_usd()
    def take(
        self, camera: str, frame: float, levels: int = 1, shutter: tuple[float, float] | None = None,
        later: bool = False, told: Callable[[Sequence[Material]], None] | None = None,
    ) -> Snapshot:  # fmt: skip
        """The stage at a frame, seen by a camera.

        Parameters
        ----------
        levels : how often surfaces that ask for it are subdivided.
        shutter : when it opens and closes, in frames from `frame`; None is as the camera has it.
        later : also say where everything is at the next frame.
        told : the materials as soon as they are known, where they are read anew: shapes take longer.

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
        if levels != self._levels:
            self._levels = levels
            self._doubtful |= set(self._geometry)
            self._stale.add(_ITEMS)
        open_for = shutter or read_shutter(prim, time)
        times = tuple(frame + np.linspace(*open_for, _STEPS)) if open_for[1] > open_for[0] else ()
        retimed, self._times = self._times != times, times
        if self._stale or ((moves or retimed) and self._moves_over_time()):
            if self._stale or not self._only_moves:
                self._read_items(time, transforms, told)
            else:
                self._move_items(transforms)
        lights = self._read_lights(time, transforms)
        self._taken = frame
        self._stale = set()
        seen_from = read_camera(prim, time)
        track = np.array([read_camera(prim, Usd.TimeCode(t)).to_world for t in times])
        if len(track) and not np.array_equal(track.min(axis=0), track.max(axis=0)):
            seen_from = replace(seen_from, track=track)
        return Snapshot(
            self._items, self._materials, lights, seen_from, frame, self._cell_stage.scene.metres_per_unit,
            self._at_the_next_frame(prim, frame + 1.0) if later else None,
        )  # fmt: skip

    @quiet_usd()
    def anything_moves(self, camera: str) -> bool:
        """Whether anything of the stage, its lights or a camera differs between frames; after `take`."""
        others = [*(self._lights or ()), self._stage.GetPrimAtPath(camera)]
        return self._moves_over_time() or any(
            transform_varies(prim)
            or visibility_varies(prim)
            or any(attribute.ValueMightBeTimeVarying() for attribute in prim.GetAuthoredAttributes())
            for prim in others
            if prim
        )

    def _at_the_next_frame(self, camera: Usd.Prim, frame: float) -> Later:
        transforms = UsdGeom.XformCache(Usd.TimeCode(frame))
        prims = (shape.placed_by for shape in self._shown)
        places = tuple(matrix_array(transforms.GetLocalToWorldTransform(prim)) for prim in prims)
        return Later(places, read_camera(camera, Usd.TimeCode(frame)))

    # --- what changed ------------------------------------------------------------------------

    def _changed(self, notice: Usd.Notice.ObjectsChanged, _: object) -> None:
        for path in notice.GetResyncedPaths():
            if path.IsPropertyPath():
                self._note(path)
            elif not path.HasPrefix(HELPERS):
                self._shapes = self._lights = None
                self._stale |= {_ITEMS, _LOOKS}
                # Prototypes may change places when what has them is composed anew.
                self._doubtful |= {
                    known
                    for known in self._geometry
                    if known.HasPrefix(path) or Usd.Prim.IsPathInPrototype(known)
                }
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
        if name.startswith(SHAPE_PROPERTIES):
            self._doubtful |= {path.GetPrimPath(), path.GetPrimPath().GetParentPath()}
            self._stale.add(_ITEMS)
        elif name.startswith(_PLACING):
            self._stale.add(_ITEMS)
        elif prim and (prim.IsA(UsdShade.Shader) or prim.IsA(UsdShade.Material)):
            self._stale.add(_LOOKS)
            self._known.clear()

    def _moves_over_time(self) -> bool:
        """Whether anything but lights and cameras differs between frames; looked up once."""
        if self._animated is None:
            shapes = self._shapes or []
            self._movers = [k for k, shape in enumerate(self._shown) if transform_varies(shape.placed_by)]
            others = (
                any(s.varies or visibility_varies(s.prim) or chain_varies(s.chain) for s in shapes)
                or any(transform_varies(shape.prim) for shape in self._shown if shape.chain)
                or any(looks_vary(source) for source in self._sources)
            )  # fmt: skip
            self._animated, self._only_moves = others or bool(self._movers), not others
        return self._animated

    def _move_items(self, transforms: UsdGeom.XformCache) -> None:
        """Put what moves where it is now; nothing else differs between frames."""
        moments = [UsdGeom.XformCache(Usd.TimeCode(t)) for t in self._times]
        items = list(self._items)
        for k in self._movers:
            shape = self._shown[k]
            matrix = matrix_array(transforms.GetLocalToWorldTransform(shape.placed_by))
            if not np.isfinite(matrix).all():
                matrix = items[k].to_world
            items[k] = replace(items[k], to_world=matrix, track=self._track(shape, moments, items[k].copies))
        self._items = tuple(items)

    # --- reading -----------------------------------------------------------------------------

    def _read_items(
        self, time: Usd.TimeCode, transforms: UsdGeom.XformCache,
        told: Callable[[Sequence[Material]], None] | None,
    ) -> None:  # fmt: skip
        if self._shapes is None:
            self._shapes = find_shapes(self._stage)
        shown = [s for s in self._shapes if is_shown(s, time)]
        parts = [p for s in shown for p in (s.prim, *(part.GetPrim() for part in s.subsets))]
        bound = (
            UsdShade.MaterialBindingAPI.ComputeBoundMaterials(parts, UsdShade.Tokens.full)[0] if parts else []
        )
        numbers: dict[object, int] = {}
        materials: list[Material] = []
        sources: list[UsdShade.Material | Usd.Prim] = []
        known: dict[Sdf.Path, Material] = {}
        uvs: list[tuple[str, ...]] = []  # the primvars each material is read by

        def number(part: Usd.Prim, material: UsdShade.Material | None) -> int:
            """The place of a part's material in `materials`, where it is put if it is not there yet."""
            if not material:
                read = plain_material(part, time)
            elif (path := material.GetPath()) in known:
                read = known[path]
            else:
                read = known[path] = self._material(material, time)
            if "unpainted" in read.inputs and not is_painted(part.GetParent() if _is_subset(part) else part):
                read = unpainted(read, part, time)
            key: object = read.path
            if key not in numbers:
                numbers[key] = len(materials)
                materials.append(read)
                uvs.append(uv_sets(material) if material else ())
                sources.append(material or part)
            return numbers[key]

        uses_of: list[tuple[int, ...]] = []
        at = 0
        for shape in shown:
            whole = bound[at]
            of_subsets = bound[at + 1 : at + 1 + len(shape.subsets)]
            at += 1 + len(shape.subsets)
            uses = [number(shape.prim, whole)]
            uses += [number(s.GetPrim(), m or whole) for s, m in zip(shape.subsets, of_subsets, strict=True)]
            glow = mesh_light(shape.prim, time)
            if glow is not None:
                # What such a mesh sends out is a glow of its own; its surface stays what it is.
                first = len(materials)
                for k in dict.fromkeys(uses):
                    path = f"{shape.prim.GetPath()} {materials[k].path}"
                    materials.append(Material(path, {**materials[k].inputs, "emissiveColor": glow}))
                    sources.append(shape.prim)
                    uvs.append(uvs[k])
                uses = [first + list(dict.fromkeys(uses)).index(k) for k in uses]
            uses_of.append(tuple(uses))
        if told is not None:
            told(materials)

        items: list[Item] = []
        standing: list[str] = []
        standing_shapes: list[DrawnShape] = []
        moments = [UsdGeom.XformCache(Usd.TimeCode(t)) for t in self._times]
        for shape, used in zip(shown, uses_of, strict=True):
            state = _state(shape.prim)
            if shape.chain:
                matrix, copies = copies_of(shape.prim, shape.chain, time, transforms)
            else:
                matrix, copies = matrix_array(transforms.GetLocalToWorldTransform(shape.prim)), None
            if not np.isfinite(matrix).all() or (copies is not None and not len(copies)):
                continue
            standing.append(str(shape.prim.GetPath()))
            standing_shapes.append(shape)
            read_by = next((uvs[k] for k in used if uvs[k]), ("st",))
            items.append(
                Item(
                    self._geometry_of(shape, time, read_by), matrix, used,
                    matte=state == "matte", catches=state == "catch", seen=state != "unseen", copies=copies,
                    track=self._track(shape, moments, copies),
                    sheet=bool(UsdGeom.Gprim(shape.prim).GetDoubleSidedAttr().Get(time)),
                )
            )  # fmt: skip
        self._items, self._sources, self._animated = tuple(items), sources, None
        self._standing, self._shown, self._read_by = standing, standing_shapes, uvs
        # Equal materials keep their identity, so that a renderer may keep what it made of them.
        if tuple(materials) != self._materials:
            self._materials = tuple(materials)

    def unmapped(self) -> Iterator[tuple[str, str]]:
        """Meshes of the last snapshot, and texture coordinates that their materials read and they lack."""
        for item, shape in zip(self._items, self._shown, strict=True):
            names = dict.fromkeys(name for k in item.materials for name in self._read_by[k])
            if not names or not shape.prim.IsA(UsdGeom.Mesh):
                continue
            held = UsdGeom.PrimvarsAPI(shape.prim)
            for name in names:
                if (shape.prim.GetPath(), name) not in self._mapped:
                    primvar = held.FindPrimvarWithInheritance(name)
                    self._mapped[shape.prim.GetPath(), name] = bool(primvar and primvar.HasValue())
                if not self._mapped[shape.prim.GetPath(), name]:
                    yield str(shape.prim.GetPath()), name

    def _track(
        self, shape: DrawnShape, moments: list[UsdGeom.XformCache], copies: NDArray | None
    ) -> NDArray[np.float64] | None:
        """Where a shape is while the shutter is open, see `Item`; None where it stands still."""
        if moments and copies is not None and chain_varies(shape.chain):
            each = [copies_of(shape.prim, shape.chain, at.GetTime(), at) for at in moments]
            if any(len(here) != len(copies) for _, here in each):
                return None  # some come or go meanwhile, and they have no names to match them by
            return _if_it_moves(np.array([here @ to_world for to_world, here in each]))
        if moments and transform_varies(shape.placed_by):
            return _places_of(shape.placed_by, moments)
        return None

    def _geometry_of(self, shape: DrawnShape, time: Usd.TimeCode, uv: tuple[str, ...]) -> Geometry:
        """The triangles of a shape: the very same object for as long as it is the same.

        Parameters
        ----------
        uv : the primvars its textures are read by.
        """
        path = shape.shared.GetPath()
        if self._uv_sets.setdefault(path, uv) != uv:
            self._uv_sets[path] = uv
            self._doubtful.add(path)
        known = self._geometry.get(path)
        again = shape.varies and self._taken != time.GetValue()
        if known is None or again or path in self._doubtful:
            source = read_shape(shape.shared, shape.subsets, time, self._levels, uv)
            if known is None or known[0] != source:
                known = self._geometry[path] = source, source.geometry(str(shape.prim.GetPath()))
            self._doubtful.discard(path)
        return known[1]

    def _material(self, material: UsdShade.Material, time: Usd.TimeCode) -> Material:
        path = material.GetPath()
        if path not in self._known:
            read = read_material(material, time)
            if looks_vary(material) or not stands_alone(material):
                return read
            self._known[path] = read
        return self._known[path]

    def _read_lights(self, time: Usd.TimeCode, transforms: UsdGeom.XformCache) -> tuple[Light, ...]:
        if self._lights is None:
            self._lights = light_prims(self._stage)
        moments = [UsdGeom.XformCache(Usd.TimeCode(t)) for t in self._times]
        lights = []
        for prim in self._lights:
            to_world = matrix_array(transforms.GetLocalToWorldTransform(prim))
            light = read_light(prim, to_world, time, self._standing) if is_visible(prim, time) else None
            if light is not None:
                state = _state(prim)
                seen = light.seen and state not in ("unseen", "catch")
                light = replace(light, seen=seen, matte=state == "matte")
                if moments and transform_varies(prim):
                    light = replace(light, track=_places_of(prim, moments, stands))
                lights.append(light)
        return tuple(lights)


def _is_subset(prim: Usd.Prim) -> bool:
    return bool(prim.IsA(UsdGeom.Subset))


def _places_of(
    prim: Usd.Prim, moments: list[UsdGeom.XformCache],
    stands: Callable[[Usd.Prim, NDArray[np.float64]], NDArray[np.float64]] = lambda _, placed: placed,
) -> NDArray[np.float64] | None:  # fmt: skip
    """Where what belongs to a prim is at some moments, (S, 4, 4); None where it stands still.

    Parameters
    ----------
    stands : how it stands where the prim is placed.
    """
    placed = [matrix_array(at.GetLocalToWorldTransform(prim)) for at in moments]
    return _if_it_moves(np.array([stands(prim, each) for each in placed]))


def _if_it_moves(track: NDArray[np.float64]) -> NDArray[np.float64] | None:
    return track if np.isfinite(track).all() and np.ptp(track, axis=0).any() else None


def _state(prim: Usd.Prim) -> str:
    while prim and not prim.IsPseudoRoot():
        attribute = prim.GetAttribute(STATE)
        if attribute and attribute.HasAuthoredValue():
            return str(attribute.Get())
        prim = prim.GetParent()
    return ""
