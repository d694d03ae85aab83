"""From UsdLux lights and UsdGeom cameras to records, in the units UsdLux defines."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux

from grandlattice.scene_records import Camera, Light, Shaping, Texture
from grandlattice.stage.attributes import is_light
from grandlattice.stage.surface_reading import asset_file
from grandlattice.tables.light_kinds import KIND_OF_PRIM, LightKind


def matrix_array(matrix: Gf.Matrix4d) -> NDArray[np.float64]:
    """(4, 4) float64, for row vectors."""
    return np.array(matrix, np.float64)


def light_prims(stage: Usd.Stage) -> list[Usd.Prim]:
    """Lights of the stage, in its order, instances included."""
    return [p for p in stage.Traverse(Usd.TraverseInstanceProxies()) if is_light(p)]


def lights_only(stage: Usd.Stage, path: str) -> bool:
    """Whether there are lights and no shapes at a path and below it."""
    prim = stage.GetPrimAtPath(path) if Sdf.Path.IsValidPathString(path) else None
    below = list(Usd.PrimRange(prim, Usd.TraverseInstanceProxies())) if prim else []
    lights = [is_light(each) for each in below if is_light(each) or each.IsA(UsdGeom.Gprim)]
    return bool(lights) and all(lights)


def read_light(
    prim: Usd.Prim,
    to_world: NDArray[np.float64],
    time: Usd.TimeCode,
    members: Callable[[Usd.CollectionAPI], NDArray[np.bool_]],
) -> Light | None:
    """A light as it shines; None for a kind the tracer does not know, or one that is out.

    Parameters
    ----------
    members : tells for each item whether a collection includes it.
    """
    known = KIND_OF_PRIM.get(prim.GetTypeName())
    if known is None or not np.isfinite(to_world).all():
        return None
    if abs(np.linalg.det(to_world[:3, :3])) < 1e-30:
        return None
    size = _size(prim, known, time)
    radiance = light_radiance(prim, time)
    radiance = radiance / _normalizer(prim, known.name, size, to_world, time)
    if not np.isfinite(radiance).all() or radiance.max() <= 0.0:
        return None
    texture = None
    if known.has_image:
        file = prim.GetAttribute("inputs:texture:file").Get(time)
        if file is not None and file.path:
            texture = Texture(asset_file(file), str(prim.GetPath()), wrap_s="repeat", wrap_t="clamp")
    r, g, b = (float(c) for c in np.maximum(radiance, 0.0))
    light = UsdLux.LightAPI(prim)
    reaches, shadowed_by = (
        None if _includes_everything(collection) else members(collection)
        for collection in (light.GetLightLinkCollectionAPI(), light.GetShadowLinkCollectionAPI())
    )
    return Light(
        str(prim.GetPath()), known.name, stands(prim, to_world), (r, g, b), size, texture,
        _shaping(prim, known, time), max(0.0, float(light.GetDiffuseAttr().Get(time))),
        max(0.0, float(light.GetSpecularAttr().Get(time))), reaches, shadowed_by,
        seen=not is_point(prim, time),
    )  # fmt: skip


def stands(prim: Usd.Prim, to_world: NDArray[np.float64]) -> NDArray[np.float64]:
    """How a light stands whose prim has been placed, (4, 4): a dome may have its image's pole along +Z."""
    if not _pole_is_z(prim):
        return to_world
    return np.array([[1, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1]], float) @ to_world


def is_point(prim: Usd.Prim, time: Usd.TimeCode) -> bool:
    """Whether a light's shape is not meant, only the place it shines from."""
    attribute = prim.GetAttribute("treatAsPoint") or prim.GetAttribute("treatAsLine")
    return bool(attribute and attribute.Get(time))


def _shaping(prim: Usd.Prim, kind: LightKind, time: Usd.TimeCode) -> Shaping | None:
    """How a light is narrowed; None where it is not, or shines from far away."""
    if not prim.HasAPI(UsdLux.ShapingAPI) or not kind.is_shaped:
        return None
    api = UsdLux.ShapingAPI(prim)
    focus = max(0.0, float(api.GetShapingFocusAttr().Get(time)))
    cone = float(np.clip(api.GetShapingConeAngleAttr().Get(time), 0.0, 180.0))
    softness = float(np.clip(api.GetShapingConeSoftnessAttr().Get(time), 0.0, 1.0))
    return Shaping(focus, cone, cone * (1.0 - softness))


def _includes_everything(collection: Usd.CollectionAPI) -> bool:
    said = collection.GetExcludesRel().GetTargets() or (
        collection.GetMembershipExpressionAttr().HasAuthoredValue()
    )
    return not said and bool(collection.GetIncludeRootAttr().Get())


def light_radiance(prim: Usd.Prim, time: Usd.TimeCode) -> NDArray[np.float64]:
    """Intensity, exposure, colour and temperature: nits before normalisation, (3,) float64."""
    light = UsdLux.LightAPI(prim)
    colour = np.array(light.GetColorAttr().Get(time), float)
    temperature = light.GetColorTemperatureAttr().Get(time)
    if light.GetEnableColorTemperatureAttr().Get(time) and not np.isfinite(temperature):
        return np.full(3, np.nan)
    if light.GetEnableColorTemperatureAttr().Get(time):
        # The ramp is not quite white at 6500 K, where the schema says it is.
        white = np.array(UsdLux.BlackbodyTemperatureAsRgb(6500.0))
        kelvin = float(np.clip(temperature, 1000.0, 10000.0))
        colour = colour * np.array(UsdLux.BlackbodyTemperatureAsRgb(kelvin)) / white
    intensity = light.GetIntensityAttr().Get(time)
    with np.errstate(over="ignore", invalid="ignore"):
        exposure = np.exp2(float(light.GetExposureAttr().Get(time) or 0.0))
        return np.asarray(colour * (0.0 if intensity is None else intensity) * exposure)


def _size(prim: Usd.Prim, kind: LightKind, time: Usd.TimeCode) -> tuple[float, float]:
    numbers = [float(prim.GetAttribute(f"inputs:{name}").Get(time)) for name in kind.size]
    first, second = (*numbers, 0.0, 0.0)[:2]
    return first, second


def _normalizer(
    prim: Usd.Prim, kind: str, size: tuple[float, float], to_world: NDArray, time: Usd.TimeCode
) -> float:
    """What UsdLux divides by where `normalize` is on: the area in world space."""
    # UsdLux gives a distant light of no angle the size factor 1: its intensity is what arrives, in lux.
    is_point = kind == "distant" and size[0] <= 0.0
    if not is_point and not UsdLux.LightAPI(prim).GetNormalizeAttr().Get(time):
        return 1.0
    return float(AREAS[kind](size, to_world[:3, :3]))


def _ball(size: tuple[float, float], axes: NDArray) -> float:
    return 4.0 * np.pi * (size[0] * abs(np.linalg.det(axes)) ** (1 / 3)) ** 2


def _tube(size: tuple[float, float], axes: NDArray) -> float:
    radius = size[0] * 0.5 * (np.linalg.norm(axes[1]) + np.linalg.norm(axes[2]))
    return float(2.0 * np.pi * radius * size[1] * np.linalg.norm(axes[0]))


def _cap(size: tuple[float, float], axes: NDArray) -> float:
    return float(np.pi * np.sin(np.radians(max(size[0], 0.01)) / 2.0) ** 2)


def _sheet(size: tuple[float, float], axes: NDArray) -> float:
    return float(size[0] * size[1] * np.linalg.norm(np.cross(axes[0], axes[1])))


def _disc(size: tuple[float, float], axes: NDArray) -> float:
    return float(np.pi * size[0] ** 2 * np.linalg.norm(np.cross(axes[0], axes[1])))


AREAS: Mapping[str, Callable[[tuple[float, float], NDArray], float]] = {
    "dome": lambda size, axes: 1.0, "distant": _cap, "rect": _sheet, "disk": _disc,
    "sphere": _ball, "cylinder": _tube,
}  # fmt: skip
"""Kind of light → its area, from its size and its axes in the world, (3, 3); of a distant light the solid
angle seen on the plane that faces it."""


def _pole_is_z(prim: Usd.Prim) -> bool:
    if prim.GetTypeName() != "DomeLight_1":
        return False
    axis = UsdLux.DomeLight_1(prim).GetPoleAxisAttr().Get()
    if axis == UsdLux.Tokens.scene:
        return bool(UsdGeom.GetStageUpAxis(prim.GetStage()) == UsdGeom.Tokens.z)
    return bool(axis == UsdLux.Tokens.Z)


def read_camera(prim: Usd.Prim, time: Usd.TimeCode) -> Camera:
    """A camera at a time.  Lengths of film and lens are tenths of scene units, as USD has them."""
    camera = UsdGeom.Camera(prim).GetCamera(time)
    unit = Gf.Camera.APERTURE_UNIT
    orthographic = camera.projection == Gf.Camera.Orthographic
    focal_length = camera.focalLength * Gf.Camera.FOCAL_LENGTH_UNIT
    near, far = camera.clippingRange.min, camera.clippingRange.max
    return Camera(
        str(prim.GetPath()),
        matrix_array(camera.transform),
        (camera.horizontalAperture * unit, camera.verticalAperture * unit),
        (camera.horizontalApertureOffset * unit, camera.verticalApertureOffset * unit),
        focal_length,
        focal_length / (2.0 * camera.fStop) if camera.fStop > 0 else 0.0,
        camera.focusDistance,
        (near, far),
        orthographic,
        stops=camera_stops(prim, time),
    )


def camera_stops(prim: Usd.Prim, time: Usd.TimeCode) -> float:
    """The exposure of a camera itself, stops: UsdGeomCamera's linear exposure scale,
    responsivity × time × iso / 100 × 2^exposure / fStop²; 0 where it is no number."""

    def number(name: str, otherwise: float) -> float:
        attribute = prim.GetAttribute(name)
        value = attribute.Get(time) if attribute else None
        return otherwise if value is None else float(value)

    part = number("exposure:responsivity", 1.0) * number("exposure:time", 1.0)
    part *= number("exposure:iso", 100.0) / 100.0
    stop = number("exposure:fStop", 1.0)
    stops = number("exposure", 0.0)
    if not (part > 0.0 and stop > 0.0 and np.isfinite(part * stop)):
        return 0.0
    whole = float(np.log2(part) - 2.0 * np.log2(stop) + stops)
    return whole if abs(whole) < 100.0 else 0.0


def mesh_light(prim: Usd.Prim, time: Usd.TimeCode) -> tuple[float, float, float] | None:
    """What a mesh that is a light sends out, nits; None where it is none, or is out.

    With `normalize` its power stays the same whatever its size: the area is the triangles' in the world.
    """
    if not prim.HasAPI(UsdLux.MeshLightAPI):
        return None
    radiance = light_radiance(prim, time)
    if UsdLux.LightAPI(prim).GetNormalizeAttr().Get(time):
        radiance = radiance / max(_area(prim, time), 1e-30)
    if not np.isfinite(radiance).all() or radiance.max() <= 0.0:
        return None
    r, g, b = (float(c) for c in np.maximum(radiance, 0.0))
    return r, g, b


def _area(prim: Usd.Prim, time: Usd.TimeCode) -> float:
    """Of a mesh in the world: of each face as a fan of triangles."""
    mesh = UsdGeom.Mesh(prim)
    matrix = matrix_array(UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(time))
    points = np.array(mesh.GetPointsAttr().Get(time) or [], float).reshape(-1, 3) @ matrix[:3, :3]
    counts = np.array(mesh.GetFaceVertexCountsAttr().Get(time) or [], int)
    indices = np.array(mesh.GetFaceVertexIndicesAttr().Get(time) or [], int)
    if not len(points) or counts.sum() != len(indices) or (counts < 3).any():
        return 0.0
    first = np.repeat(np.cumsum(counts) - counts, counts - 2)
    step = np.concatenate([np.arange(1, n - 1) for n in counts.tolist()])
    a, b, c = (points[indices[k]] for k in (first, first + step, first + step + 1))
    return float(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())


def read_shutter(prim: Usd.Prim, time: Usd.TimeCode) -> tuple[float, float]:
    """When a camera's shutter opens and closes, in frames from the time."""
    camera = UsdGeom.Camera(prim)
    return float(camera.GetShutterOpenAttr().Get(time)), float(camera.GetShutterCloseAttr().Get(time))


def camera_aspect(prim: Usd.Prim) -> float:
    """Width over height of what a camera frames; 0 where it has no aperture."""
    camera = UsdGeom.Camera(prim)
    height = camera.GetVerticalApertureAttr().Get() or 0.0
    aspect = float((camera.GetHorizontalApertureAttr().Get() or 0.0) / height) if height else 0.0
    return aspect if np.isfinite(aspect) else 0.0


def image_asset(prim: Usd.Prim) -> Sdf.AssetPath | None:
    """The image of a light, None without one."""
    attribute = prim.GetAttribute("inputs:texture:file")
    value = attribute.Get() if attribute else None
    return value if value is not None and value.path else None
