"""Snapshots: the composed stage at a frame, as arrays, kept by kind.

USD tells which properties a switch of cells changed.  Each kind of thing is read again only when
something of its kind changed: a change of lights leaves triangles, transforms and materials as
they are, and the renderer sees the very same objects.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import numpy as np
from pxr import Sdf, Tf, Usd, UsdGeom, UsdShade

from grandlattice.errors import Place, SceneError, nearest
from grandlattice.scene_records import Later, Light, Material, Snapshot
from grandlattice.stage.attributes import is_light
from grandlattice.stage.cell_stage import CellStage
from grandlattice.stage.drawn_shapes import is_visible
from grandlattice.stage.edits.visibility import STATE
from grandlattice.stage.light_reading import (
    light_prims,
    matrix_array,
    read_camera,
    read_light,
    read_shutter,
    stands,
)
from grandlattice.stage.opened_scene import quiet_usd
from grandlattice.stage.selection import HELPERS
from grandlattice.stage.shape_readings import Moment, ShapeReadings
from grandlattice.stage.shape_tree import state_of
from grandlattice.stage.shapes import SHAPE_PROPERTIES, is_shape
from grandlattice.stage.shutter_tracks import places_of
from grandlattice.stage.variation import transform_varies, visibility_varies

_STEPS = 5  # moments at which what moves is looked at while the shutter is open
_FINDING = "purpose", "prototypes"  # they decide which shapes there are
_PLACING = (
    "xformOp", "visibility", STATE, "positions", "orientations", "scales", "protoIndices", "ids",
    "invisibleIds", "velocities", "angularVelocities", "doubleSided",
)  # fmt: skip


class Snapshotter:
    """Takes snapshots of a cell stage, reading again only what changed."""

    def __init__(self, cell_stage: CellStage) -> None:
        self._cell_stage = cell_stage
        self._stage = cell_stage.stage
        self._shapes = ShapeReadings(self._stage)
        self._lights: list[Usd.Prim] | None = None
        self._known_lights: list[Sdf.Path] = []
        self._kept: dict[Sdf.Path, Light | None] = {}  # lights as they were read, that depend on no others
        self._kept_at: object = None  # when that was
        self._touched: set[Sdf.Path] = set()  # prims of which anything was changed since
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
        open_for = shutter or read_shutter(prim, time)
        times = tuple(frame + np.linspace(*open_for, _STEPS)) if open_for[1] > open_for[0] else ()
        at = Moment(frame, transforms, times, levels)
        self._shapes.read(at, told)
        lights = self._read_lights(at)
        seen_from = read_camera(prim, time)
        track = np.array([read_camera(prim, Usd.TimeCode(t)).to_world for t in times])
        if len(track) and not np.array_equal(track.min(axis=0), track.max(axis=0)):
            seen_from = replace(seen_from, track=track)
        return Snapshot(
            self._shapes.items, self._shapes.materials, lights, seen_from, frame,
            self._cell_stage.scene.metres_per_unit,
            self._at_the_next_frame(prim, frame + 1.0) if later else None,
        )  # fmt: skip

    @quiet_usd()
    def anything_moves(self, camera: str) -> bool:
        """Whether anything of the stage, its lights or a camera differs between frames; after `take`."""
        others = [*(self._lights or ()), self._stage.GetPrimAtPath(camera)]
        return self._shapes.moves_over_time() or any(
            transform_varies(prim)
            or visibility_varies(prim)
            or any(attribute.ValueMightBeTimeVarying() for attribute in prim.GetAuthoredAttributes())
            for prim in others
            if prim
        )

    def _at_the_next_frame(self, camera: Usd.Prim, frame: float) -> Later:
        transforms = UsdGeom.XformCache(Usd.TimeCode(frame))
        return Later(self._shapes.places_at(transforms), read_camera(camera, Usd.TimeCode(frame)))

    def unmapped(self) -> Iterator[tuple[str, str]]:
        """Meshes of the last snapshot, and texture coordinates that their materials read and they lack."""
        return self._shapes.unmapped()

    # --- what changed ------------------------------------------------------------------------

    def _changed(self, notice: Usd.Notice.ObjectsChanged, _: object) -> None:
        for path in notice.GetResyncedPaths():
            self._touched.add(path.GetPrimPath())
            if path.IsPropertyPath():
                self._note(path)
            elif not path.HasPrefix(HELPERS):
                if list(notice.GetChangedFields(path)) == ["apiSchemas"]:
                    self._note_schemas(path)
                else:
                    self._note_composed(path)
        for path in notice.GetChangedInfoOnlyPaths():
            self._touched.add(path.GetPrimPath())
            if path.IsPropertyPath():
                self._note(path)
            elif "propertyOrder" in notice.GetChangedFields(path):
                self._note_binding(path)  # it decides which of several wins

    def _note_composed(self, path: Sdf.Path) -> None:
        self._shapes.changes.composed.add(path)
        self._look_for_lights(path)

    def _note_binding(self, path: Sdf.Path) -> None:
        self._shapes.changes.placed.add(path)
        self._shapes.changes.rebound = True

    def _note_schemas(self, path: Sdf.Path) -> None:
        """Schemas were applied, as where a material is assigned: by itself that moves nothing.

        USD names nothing else that was changed at the same time below it; edits apply them by themselves.
        """
        prim = self._stage.GetPrimAtPath(path)
        if Usd.Prim.IsPathInPrototype(path) or (prim and prim.IsInstance()):
            self._note_composed(path)  # it may have another prototype now
            return
        self._note_binding(path)
        self._look_for_lights(path, below=False)

    def _look_for_lights(self, path: Sdf.Path, *, below: bool = True) -> None:
        """Forget which lights there are if one may have come or gone at a prim, or below it."""
        prim, known = self._stage.GetPrimAtPath(path), self._known_lights
        prims = () if not prim else Usd.PrimRange(prim, Usd.TraverseInstanceProxies()) if below else (prim,)
        went = any(light.HasPrefix(path) if below else light == path for light in known)
        if went or any(map(is_light, prims)):
            self._lights = None

    def _note(self, path: Sdf.Path) -> None:
        """Tell what a property belongs to."""
        name, at, changes = path.name, path.GetPrimPath(), self._shapes.changes
        prim = self._stage.GetPrimAtPath(at)
        if prim and is_light(prim) and is_shape(prim):
            changes.reshaped.add(at)  # what it sends out is a material of its own
        elif prim and (is_light(prim) or prim.IsA(UsdGeom.Camera)) and not prim.GetChildren():
            return  # cameras are read anew for every snapshot, and lights of which anything was changed
        if name.startswith(_FINDING):
            changes.composed.add(at)
        elif name.startswith("collection:"):
            changes.rebound = True
        elif name.startswith("material:"):
            self._note_binding(at)
        elif prim and prim.IsA(UsdGeom.Subset):
            changes.composed.add(at)  # the mesh may have other parts
        elif name.startswith(SHAPE_PROPERTIES):
            changes.reshaped.add(at)
        elif name.startswith(_PLACING):
            changes.placed.add(at)
        elif prim and (prim.IsA(UsdShade.Shader) or prim.IsA(UsdShade.NodeGraph)):
            changes.painted.add(at)

    # --- reading -----------------------------------------------------------------------------

    def _read_lights(self, at: Moment) -> tuple[Light, ...]:
        if self._lights is None:
            self._lights = light_prims(self._stage)
            self._known_lights = [prim.GetPath() for prim in self._lights]
        self._forget_lights(at)
        lights = []
        for prim, path in zip(self._lights, self._known_lights, strict=True):
            if path in self._kept:
                light = self._kept[path]
            else:
                light = self._read_light(prim, at)
                if light is None or _is_told_by_itself(light):
                    self._kept[path] = light
            if light is not None:
                lights.append(light)
        return tuple(lights)

    def _forget_lights(self, at: Moment) -> None:
        """Forget lights that may be others: of which, or above which, anything was changed."""
        moment, touched = (at.frame, at.shutter), self._touched
        anywhere = Sdf.Path.absoluteRootPath in touched or any(map(Usd.Prim.IsPathInPrototype, touched))
        if anywhere or moment != self._kept_at:
            self._kept = {}
        elif touched:
            self._kept = {p: light for p, light in self._kept.items() if touched.isdisjoint(p.GetPrefixes())}
        self._kept_at, self._touched = moment, set()

    def _read_light(self, prim: Usd.Prim, at: Moment) -> Light | None:
        """A light; None where it does not shine."""
        if not is_visible(prim, at.time):
            return None
        to_world = matrix_array(at.transforms.GetLocalToWorldTransform(prim))
        light = read_light(prim, to_world, at.time, self._shapes.members)
        if light is None:
            return None
        state, moments = state_of(prim), at.while_open()
        light = replace(light, seen=light.seen and state not in ("unseen", "catch"), matte=state == "matte")
        if moments and transform_varies(prim):
            light = replace(light, track=places_of(prim, moments, stands))
        return light


def _is_told_by_itself(light: Light) -> bool:
    """Whether nothing but a light's own prim, and what is above it, says what it is.

    Links depend on the shapes there are, and the image of a sky may come without USD's knowing.
    """
    return light.reaches is None and light.shadowed_by is None and light.texture is None
