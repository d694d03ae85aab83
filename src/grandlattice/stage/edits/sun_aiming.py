"""Aiming a distant light where the sun stands."""

from __future__ import annotations

from math import cos, radians, sin
from typing import Any

from pxr import Gf, UsdGeom, UsdLux

from grandlattice.errors import EditError, Place
from grandlattice.stage.edit_stage import Draft
from grandlattice.stage.edits.sun_position import sun_position
from grandlattice.stage.edits.transforms import face
from grandlattice.stage.selection import topmost


def sun(draft: Draft, body: Any, place: Place) -> None:
    """Turn distant lights so that they shine from the sun's place in the sky."""
    altitude, azimuth = sun_position(body.moment, body.latitude, body.longitude)
    towards = direction(altitude, azimuth, body.north, z_up=draft.up == Gf.Vec3d.ZAxis())
    for path in topmost(draft.selected(body, place)):
        prim = draft.writable(path)
        if not prim.IsA(UsdLux.DistantLight):
            raise EditError(f"{path} is no distant light, so it cannot be the sun.", place=place)
        # A distant light shines along its -Z, so its +Z points to where it comes from.
        face(UsdGeom.Xformable(prim), Gf.Rotation(Gf.Vec3d.ZAxis(), towards))
        if altitude < 0.0:
            draft.note(prim, f"the sun is {-altitude:.1f}° below the horizon at {body.date} {body.time}")


def direction(altitude: float, azimuth: float, north: float, *, z_up: bool) -> Gf.Vec3d:
    """Unit vector of the scene towards the sun; degrees.

    North is -Z with Y up and +Y with Z up, turned `north` degrees clockwise seen from above.
    """
    from_north = radians(azimuth + north)
    across, along, up = (
        cos(radians(altitude)) * sin(from_north),
        cos(radians(altitude)) * cos(from_north),
        sin(radians(altitude)),
    )
    return Gf.Vec3d(across, along, up) if z_up else Gf.Vec3d(across, up, -along)
