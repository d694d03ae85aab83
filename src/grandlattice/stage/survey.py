"""What is in a scene: everything an artist wants to know before writing a plan."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pxr import Ar, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from grandlattice.filesystem import is_file
from grandlattice.stage.attributes import is_light
from grandlattice.stage.lighting import KINDS, camera_aspect, camera_stops, light_radiance
from grandlattice.stage.looks import unknown_surface
from grandlattice.stage.omissions import omitted_of
from grandlattice.stage.scene import Scene, quiet_usd

Corner = tuple[float, float, float]


@dataclass(frozen=True)
class CameraSurvey:
    """A camera: path, aspect (width over height), projection, f-stop (0 is a pinhole), its own exposure in
    stops."""

    path: str
    aspect: float
    projection: str
    f_stop: float
    stops: float = 0.0


@dataclass(frozen=True)
class LightSurvey:
    """A light: path, kind, brightness in nits before normalisation, and whether it is lit."""

    path: str
    kind: str
    nits: float
    lit: bool
    known: bool


@dataclass(frozen=True)
class AssetSurvey:
    """A file the scene asks for, the prim that asks, and whether it is there."""

    file: str
    prim: str
    found: bool


@dataclass(frozen=True)
class Survey:
    """A scene at a glance.

    Attributes
    ----------
    variants : prim path → variant set → variants, the chosen one first.
    objects : prim type → count, of what can be drawn.
    triangles : of all meshes.
    omitted : what the embedded tracer leaves out or draws otherwise → prims, see `omissions`.
    unknown_materials : material path → why it is drawn neutral grey.
    problems : what USD says is wrong with the composition.
    bounds : least and greatest corner of everything that can be drawn, None where there is nothing.
    """

    file: Path
    up_axis: str
    metres_per_unit: float
    frames: tuple[int, int] | None
    frames_per_second: float
    cameras: tuple[CameraSurvey, ...]
    lights: tuple[LightSurvey, ...]
    materials: tuple[str, ...]
    unknown_materials: dict[str, str]
    variants: dict[str, dict[str, list[str]]]
    objects: dict[str, int]
    omitted: dict[str, list[str]]
    triangles: int
    assets: tuple[AssetSurvey, ...]
    problems: tuple[str, ...]
    bounds: tuple[Corner, Corner] | None = None
    time_codes_per_second: float = 24.0


def survey_scene(scene: Scene) -> Survey:
    """Look through a scene once."""
    stage = scene.stage
    start = Usd.TimeCode(scene.frames[0]) if scene.frames else Usd.TimeCode.EarliestTime()
    cameras, lights, materials = [], [], []
    unknown: dict[str, str] = {}
    variants: dict[str, dict[str, list[str]]] = {}
    objects: Counter[str] = Counter()
    omitted: dict[str, list[str]] = {}
    triangles = 0
    with quiet_usd():
        for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
            path = str(prim.GetPath())
            for what in omitted_of(prim, start):
                omitted.setdefault(what, []).append(path)
            if prim.HasVariantSets() and not prim.IsInstanceProxy():
                variants[path] = _variants(prim)
            if prim.IsA(UsdGeom.Camera):
                camera = UsdGeom.Camera(prim)
                cameras.append(
                    CameraSurvey(
                        path, camera_aspect(prim), camera.GetProjectionAttr().Get(),
                        camera.GetFStopAttr().Get() or 0.0, camera_stops(prim, start),
                    )
                )  # fmt: skip
            elif is_light(prim):
                lights.append(_light(prim, start))
            elif prim.IsA(UsdShade.Material):
                materials.append(path)
                if reason := unknown_surface(UsdShade.Material(prim)):
                    unknown[path] = reason
            elif prim.IsA(UsdGeom.Mesh):
                objects["Mesh"] += 1
                counts = UsdGeom.Mesh(prim).GetFaceVertexCountsAttr().Get(start)
                own = int((np.array(counts) - 2).sum()) if counts else 0
                triangles += own * copies_at(prim, start)
            elif prim.IsA(UsdGeom.Gprim) or prim.IsA(UsdGeom.PointInstancer):
                objects[prim.GetTypeName()] += 1
        problems = tuple(str(error) for error in stage.GetCompositionErrors())
    said = UsdGeom.GetStageMetersPerUnit(stage)
    if said != scene.metres_per_unit:
        problems += (
            f"metersPerUnit is {said:g}, which no length can be; {scene.metres_per_unit:g} is taken",
        )
    return Survey(
        scene.file, scene.up_axis, scene.metres_per_unit, scene.frames, scene.frames_per_second,
        tuple(cameras), tuple(lights), tuple(materials), unknown, variants, dict(objects),
        omitted, triangles, survey_assets(scene), problems, _bounds(stage, start),
        stage.GetTimeCodesPerSecond(),
    )  # fmt: skip


def copies_at(prim: Usd.Prim, time: Usd.TimeCode) -> int:
    """How often a prim is drawn: once, or as often as the point instancers above it have it."""
    count, below = 1, prim
    parent = prim.GetParent()
    while parent and not parent.IsPseudoRoot():
        if parent.IsA(UsdGeom.PointInstancer):
            instancer = UsdGeom.PointInstancer(parent)
            targets = instancer.GetPrototypesRel().GetForwardedTargets()
            which = [k for k, target in enumerate(targets) if below.GetPath().HasPrefix(target)]
            mask = instancer.ComputeMaskAtTime(time)
            indices = np.array(instancer.GetProtoIndicesAttr().Get(time) or [])
            indices = indices[np.array(mask, bool)] if len(mask) == len(indices) else indices
            count *= int(np.isin(indices, which).sum())
            below = parent
        parent = parent.GetParent()
    return count


def _bounds(stage: Usd.Stage, time: Usd.TimeCode) -> tuple[Corner, Corner] | None:
    cache = UsdGeom.BBoxCache(time, [UsdGeom.Tokens.default_, UsdGeom.Tokens.render])
    found = cache.ComputeWorldBound(stage.GetPseudoRoot()).ComputeAlignedRange()
    if found.IsEmpty():
        return None
    low, high = found.GetMin(), found.GetMax()
    return (low[0], low[1], low[2]), (high[0], high[1], high[2])


def _variants(prim: Usd.Prim) -> dict[str, list[str]]:
    sets = prim.GetVariantSets()
    found = {}
    for name in sets.GetNames():
        chosen = sets.GetVariantSet(name).GetVariantSelection()
        names = sets.GetVariantSet(name).GetVariantNames()
        found[name] = sorted(names, key=lambda n: (n != chosen, names.index(n)))
    return found


def _light(prim: Usd.Prim, time: Usd.TimeCode) -> LightSurvey:
    kind = KINDS.get(prim.GetTypeName(), "")
    nits = float(light_radiance(prim, time) @ (0.2126, 0.7152, 0.0722))
    lit = UsdGeom.Imageable(prim).ComputeVisibility(time) != UsdGeom.Tokens.invisible and nits > 0
    name = kind or str(prim.GetTypeName()) or UsdLux.LightAPI(prim).GetShaderIdAttr().Get()
    return LightSurvey(str(prim.GetPath()), name, nits, bool(lit), bool(kind))


def survey_assets(scene: Scene) -> tuple[AssetSurvey, ...]:
    """Every file the scene asks for: images and layers, each with a prim that asks for it."""
    found: dict[str, AssetSurvey] = {}
    with quiet_usd():
        for prim in scene.stage.Traverse(Usd.TraverseInstanceProxies()):
            for attribute in prim.GetAuthoredAttributes():
                if attribute.GetTypeName() not in (
                    Sdf.ValueTypeNames.Asset, Sdf.ValueTypeNames.AssetArray,
                ):  # fmt: skip
                    continue
                value = attribute.Get()
                for asset in [value] if isinstance(value, Sdf.AssetPath) else value or ():
                    if asset.path:
                        _note(found, asset.path, str(prim.GetPath()), _is_there(asset, attribute))
        _, unresolved = scene.named
        told = {Path(asset.file).name for asset in found.values() if not asset.found}
        for name in unresolved:
            if Path(name).name not in told:
                _note(found, str(name), _referrer(scene, str(name)), False)
    return tuple(sorted(found.values(), key=lambda asset: (asset.found, asset.file)))


def _note(found: dict[str, AssetSurvey], file: str, prim: str, there: bool) -> None:
    found.setdefault(file, AssetSurvey(file, prim, there))


def _is_there(asset: Sdf.AssetPath, attribute: Usd.Attribute) -> bool:
    if "<UDIM>" in asset.path:
        layers = [spec.layer for spec in attribute.GetPropertyStack()]
        return any(UsdShade.UdimUtils.ResolveUdimTilePaths(asset.path, layer) for layer in layers)
    if not asset.resolvedPath:
        return False
    outer = Ar.SplitPackageRelativePathOuter(asset.resolvedPath)[0] or asset.resolvedPath
    opened = is_file(outer) and Ar.GetResolver().OpenAsset(Ar.ResolvedPath(asset.resolvedPath))
    return bool(opened)


def _referrer(scene: Scene, name: str) -> str:
    """The prim whose reference, payload or sublayer asks for a file."""
    places: list[str] = []
    for layer in scene.stage.GetUsedLayers():

        def look(path: Sdf.Path, layer: Sdf.Layer = layer) -> None:
            spec = layer.GetPrimAtPath(path) if path.IsPrimPath() else None
            if spec is None:
                return
            arcs = [
                *spec.referenceList.GetAddedOrExplicitItems(),
                *spec.payloadList.GetAddedOrExplicitItems(),
            ]
            if any(Path(str(arc.assetPath)).name == Path(name).name for arc in arcs):
                places.append(str(path))

        layer.Traverse(Sdf.Path.absoluteRootPath, look)
    return places[0] if places else "/"
