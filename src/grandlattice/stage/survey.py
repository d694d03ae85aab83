"""What is in a scene: everything an artist wants to know before writing a plan."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pxr import Ar, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from grandlattice._support.filesystem import is_file
from grandlattice.stage.light_reading import camera_aspect, camera_stops, light_radiance
from grandlattice.stage.omissions import NO_FACES, faces_of, omitted_of
from grandlattice.stage.opened_scene import Scene, quiet_usd
from grandlattice.stage.prim_types import type_of
from grandlattice.stage.surface_reading import unknown_surface
from grandlattice.tables.light_kinds import KIND_OF_PRIM

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


@quiet_usd()
def survey_scene(scene: Scene, *, bounds: bool = True) -> Survey:
    """Look through a scene once.

    Parameters
    ----------
    bounds : also work out the corners of everything, which of a large scene takes longer than all the rest.
    """
    stage = scene.stage
    start = Usd.TimeCode(scene.frames[0]) if scene.frames else Usd.TimeCode.EarliestTime()
    cameras, lights, materials = [], [], []
    unknown: dict[str, str] = {}
    variants: dict[str, dict[str, list[str]]] = {}
    objects: Counter[str] = Counter()
    omitted: dict[str, list[str]] = {}
    triangles, copies = 0, _Copies(start)
    assets: dict[str, AssetSurvey] = {}
    for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
        kind = type_of(prim)
        has_variants = prim.HasVariantSets()
        faces = faces_of(prim, start) if kind.mesh else NO_FACES
        for what in omitted_of(prim, kind, start, has_variants, faces):
            omitted.setdefault(what, []).append(str(prim.GetPath()))
        if has_variants and not prim.IsInstanceProxy():
            variants[str(prim.GetPath())] = _variants(prim)
        if not kind.plain:
            _note_files(assets, prim)
        if kind.mesh:
            objects["Mesh"] += 1
            triangles += (faces.corners - 2 * faces.faces) * copies.of(prim)
        elif kind.camera:
            cameras.append(_camera(UsdGeom.Camera(prim), start))
        elif kind.light:
            lights.append(_light(prim, start))
        elif kind.material:
            path = str(prim.GetPath())
            materials.append(path)
            if reason := unknown_surface(UsdShade.Material(prim)):
                unknown[path] = reason
        elif kind.gprim or kind.instancer:
            objects[prim.GetTypeName()] += 1
        if kind.instancer:
            copies.enter(prim)
    problems = tuple(str(error) for error in stage.GetCompositionErrors())
    whole = _with_missing_layers(scene, assets)
    said = UsdGeom.GetStageMetersPerUnit(stage)
    if said != scene.metres_per_unit:
        problems += (
            f"metersPerUnit is {said:g}, which no length can be; {scene.metres_per_unit:g} is taken",
        )
    return Survey(
        scene.file, scene.up_axis, scene.metres_per_unit, scene.frames, scene.frames_per_second,
        tuple(cameras), tuple(lights), tuple(materials), unknown, variants, dict(objects),
        omitted, triangles, whole, problems, _bounds(stage, start) if bounds else None,
        stage.GetTimeCodesPerSecond(),
    )  # fmt: skip


class _Copies:
    """How often prims are drawn, asked for in the order of the stage: once, or as often as the point
    instancers above them have them."""

    def __init__(self, time: Usd.TimeCode) -> None:
        self._time = time
        self._above: list[tuple[Usd.Prim, dict[Sdf.Path, int]]] = []  # with how often each prototype stands

    def enter(self, instancer: Usd.Prim) -> None:
        """The prims that follow may be below an instancer."""
        self._leave(instancer.GetPath())
        self._above.append((instancer, _counts_of(UsdGeom.PointInstancer(instancer), self._time)))

    def of(self, prim: Usd.Prim) -> int:
        """How often a prim is drawn."""
        if not self._above:
            return 1
        path = prim.GetPath()
        self._leave(path)
        count = 1
        for instancer, counts in reversed(self._above):
            count *= sum(n for prototype, n in counts.items() if path.HasPrefix(prototype))
            path = instancer.GetPath()
        return count

    def _leave(self, path: Sdf.Path) -> None:
        while self._above and not path.HasPrefix(self._above[-1][0].GetPath()):
            self._above.pop()


def _counts_of(instancer: UsdGeom.PointInstancer, time: Usd.TimeCode) -> dict[Sdf.Path, int]:
    """Prototypes, and how often each of them is drawn."""
    targets = instancer.GetPrototypesRel().GetForwardedTargets()
    mask = instancer.ComputeMaskAtTime(time)
    indices = np.array(instancer.GetProtoIndicesAttr().Get(time) or [], np.int64)
    indices = indices[np.array(mask, bool)] if len(mask) == len(indices) else indices
    return {target: int(np.count_nonzero(indices == k)) for k, target in enumerate(targets)}


def _camera(camera: UsdGeom.Camera, time: Usd.TimeCode) -> CameraSurvey:
    prim = camera.GetPrim()
    return CameraSurvey(
        str(prim.GetPath()), camera_aspect(prim), camera.GetProjectionAttr().Get(),
        camera.GetFStopAttr().Get() or 0.0, camera_stops(prim, time),
    )  # fmt: skip


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
    known = KIND_OF_PRIM.get(prim.GetTypeName())
    kind = known.name if known is not None else ""
    nits = float(light_radiance(prim, time) @ (0.2126, 0.7152, 0.0722))
    lit = UsdGeom.Imageable(prim).ComputeVisibility(time) != UsdGeom.Tokens.invisible and nits > 0
    name = kind or str(prim.GetTypeName()) or UsdLux.LightAPI(prim).GetShaderIdAttr().Get()
    return LightSurvey(str(prim.GetPath()), name, nits, bool(lit), bool(kind))


def _with_missing_layers(scene: Scene, found: dict[str, AssetSurvey]) -> tuple[AssetSurvey, ...]:
    """Every file the scene as it stands asks for, each with a prim that asks for it: those that prims name,
    and layers that are not there.

    Images are named by shaders, lights and the like; shapes and groups are not asked for any.
    """
    told = {Path(asset.file).name for asset in found.values() if not asset.found}
    for name in scene.missing:
        if Path(name).name not in told:
            _note(found, name, _referrer(scene, name), False)
    return tuple(sorted(found.values(), key=lambda asset: (asset.found, asset.file)))


def asks_for(scene: Scene, path: str, file: str) -> bool:
    """Whether a prim of the scene, as it stands, asks for a file."""
    found: dict[str, AssetSurvey] = {}
    prim = scene.stage.GetPrimAtPath(path)
    if prim:
        _note_files(found, prim)
    return file in found


def _note_files(found: dict[str, AssetSurvey], prim: Usd.Prim) -> None:
    for attribute in prim.GetAuthoredAttributes():
        if attribute.GetTypeName() in (Sdf.ValueTypeNames.Asset, Sdf.ValueTypeNames.AssetArray):
            value = attribute.Get()
            for asset in [value] if isinstance(value, Sdf.AssetPath) else value or ():
                if asset.path:
                    _note(found, asset.path, str(prim.GetPath()), _is_there(asset, attribute))


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
