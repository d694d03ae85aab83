"""What a scene has and the tracer leaves out, or draws otherwise: each kind with its prims.

Nothing is left out silently: survey, check and the notes of a run say what stands here.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdSkel

from grandlattice.stage.layered_surfaces import is_layered
from grandlattice.stage.light_reading import is_point, light_radiance
from grandlattice.stage.prim_types import PrimType
from grandlattice.stage.surface_reading import input_value, is_known_surface, surface_of
from grandlattice.tables.light_kinds import KIND_OF_PRIM

_SUBSURFACE = ("subsurface", "subsurface_weight")
_UNREAD_WEIGHTS = {
    "sheen": "sheen", "fuzz_weight": "fuzz", "thin_film_thickness": "thin film",
    "thin_film_weight": "thin film", "specular_anisotropy": "anisotropy",
    "specular_roughness_anisotropy": "anisotropy",
}  # fmt: skip
_CURES = {
    "skeleton": "bake the animation into the points in the program the scene comes from",
    "blend": "bake the animation into the points in the program the scene comes from",
    "displace": "bake the displacement into the mesh",
    "Loop": "subdivide it in the program the scene comes from",
    "node": "bake the nodes into an image",
    "IES": "narrow the light by its cone, or leave it as it is",
}


class FaceCount(NamedTuple):
    """How many faces a mesh has, and how many corners all of them together."""

    faces: int
    corners: int


NO_FACES = FaceCount(0, 0)
_COUNTS = UsdGeom.Tokens.faceVertexCounts


def faces_of(mesh: Usd.Prim, time: Usd.TimeCode) -> FaceCount:
    """Count the faces of a mesh."""
    counts = mesh.GetAttribute(_COUNTS).Get(time)
    return FaceCount(len(counts), int(np.asarray(counts).sum(dtype=np.int64))) if counts else NO_FACES


def omitted_of(
    prim: Usd.Prim, kind: PrimType, time: Usd.TimeCode, has_variants: bool, faces: FaceCount = NO_FACES
) -> Iterator[str]:
    """Yield a sentence for each property of a prim that the tracer leaves out or draws otherwise.

    The sentence is the same for every prim it is true of, so that prims can be counted by it.  A scene may
    have a million prims: rare properties are only looked for where the prim's own names hint at them.

    Parameters
    ----------
    faces : of a mesh, as `faces_of` counts them.
    """
    if has_variants:
        yield from _of_variants(prim)
    said = prim.GetAuthoredPropertyNames() if kind.xformable else ()
    if _ORDER in said:
        yield from _of_transform(prim, time)
    if kind.camera:
        yield from _of_camera(UsdGeom.Camera(prim), time)
    if kind.gprim:
        yield from _of_shape(prim, kind, said, time, faces)
    elif kind.instancer:
        yield from _of_instancer(UsdGeom.PointInstancer(prim), time)
    elif kind.light:
        yield from _of_light(prim, time)
    elif kind.material:
        yield from _of_material(UsdShade.Material(prim), time)
    elif kind.model:
        mode = UsdGeom.ModelAPI(prim).GetModelDrawModeAttr().Get(time)
        if mode in ("cards", "bounds", "origin"):
            yield f"Drawn as their full geometry and not as {mode}"


_ORDER = UsdGeom.Tokens.xformOpOrder


def _of_variants(prim: Usd.Prim) -> Iterator[str]:
    for name in prim.GetVariantSets().GetNames():
        chosen = prim.GetVariantSets().GetVariantSet(name)
        if chosen.GetVariantSelection() and chosen.GetVariantSelection() not in chosen.GetVariantNames():
            yield f"The variant {chosen.GetVariantSelection()} of {name} is chosen, and is not there"


def _of_transform(prim: Usd.Prim, time: Usd.TimeCode) -> Iterator[str]:
    # An infinite or missing number anywhere makes the determinant none, too.
    volume = UsdGeom.Xformable(prim).GetLocalTransformation(time).GetDeterminant()
    if not abs(volume) < math.inf:
        yield "Placed by numbers that are none"
    elif abs(volume) < 1e-30:
        yield "Squashed flat to nothing by their transform"


def _of_camera(camera: UsdGeom.Camera, time: Usd.TimeCode) -> Iterator[str]:
    def number(attribute: Usd.Attribute) -> float:
        value = attribute.Get(time)
        return float("nan") if value is None else float(value)

    sides = number(camera.GetHorizontalApertureAttr()), number(camera.GetVerticalApertureAttr())
    if not all(side > 0.0 for side in sides):
        yield "Cameras whose film has no size"
    if camera.GetProjectionAttr().Get(time) != UsdGeom.Tokens.orthographic:
        if not number(camera.GetFocalLengthAttr()) > 0.0:
            yield "Cameras whose lens has no focal length"
        if number(camera.GetFStopAttr()) > 0.0 and not number(camera.GetFocusDistanceAttr()) > 0.0:
            yield "Cameras that focus on nothing before them"
    near, far = camera.GetClippingRangeAttr().Get(time) or (0.0, 1.0)
    if not far > near:
        yield "Cameras whose clipping planes have nothing between them"


def _of_lights_values(prim: Usd.Prim, time: Usd.TimeCode) -> Iterator[str]:
    if not np.isfinite(light_radiance(prim, time)).all():
        yield "Lights left out, their strength being no number"
    elif light_radiance(prim, time).min() < 0.0:
        yield "Lights with strengths below zero, which count as none"
    for name in ("radius", "width", "height", "length"):
        attribute = prim.GetAttribute(f"inputs:{name}")
        value = attribute.Get(time) if attribute else None
        if value is not None and not value > 0.0 and not is_point(prim, time):
            yield f"Lights left out, their {name} being {value:g}"


def _of_shape(
    prim: Usd.Prim, kind: PrimType, said: Sequence[str], time: Usd.TimeCode, faces: FaceCount
) -> Iterator[str]:
    if not kind.shape:
        yield f"Not drawn, being of type {prim.GetTypeName()}"
        return
    if kind.mesh:
        if _SCHEME in said and prim.GetAttribute(_SCHEME).Get(time) == UsdGeom.Tokens.loop:
            yield "Loop surfaces drawn as their cage"
        for name in _PRIMVARS:
            if name in said:
                yield from _of_primvar(prim, name, said, faces, time)
    if kind.skinned:
        binding = UsdSkel.BindingAPI(prim)
        if binding.GetJointIndicesPrimvar().HasValue():
            yield "Drawn at rest, the skeleton not being followed"
        if binding.GetBlendShapeTargetsRel().HasAuthoredTargets():
            yield "Drawn without their blend shapes"
    if kind.curves and UsdGeom.Curves(prim).GetNormalsAttr().HasAuthoredValue():
        yield "Ribbons drawn as tubes"


def _of_instancer(instancer: UsdGeom.PointInstancer, time: Usd.TimeCode) -> Iterator[str]:
    indices = np.array(instancer.GetProtoIndicesAttr().Get(time) or (), np.int64)
    targets = instancer.GetPrototypesRel().GetForwardedTargets()
    there = np.array([bool(instancer.GetPrim().GetStage().GetPrimAtPath(path)) for path in targets], bool)
    inside = (indices >= 0) & (indices < len(targets))
    if not inside.all() or not there[indices].all():
        yield "Instances left out, their prototype not being there"
    if len(instancer.GetPositionsAttr().Get(time) or ()) < len(indices):
        yield "Instances left out, some of them having no position"


_SCHEME = UsdGeom.Tokens.subdivisionScheme
_PRIMVARS = ("primvars:st", "primvars:displayColor", "primvars:normals")


def _of_primvar(
    prim: Usd.Prim, name: str, said: Sequence[str], faces: FaceCount, time: Usd.TimeCode
) -> Iterator[str]:
    """Texture coordinates, colours and normals that do not fit their mesh, and are not used then."""
    attribute = prim.GetAttribute(name)
    values = attribute.Get(time)
    if values is None or not hasattr(values, "__len__"):
        return
    indices = prim.GetAttribute(f"{name}:indices").Get(time) if f"{name}:indices" in said else None
    spread = attribute.GetMetadata("interpolation") or UsdGeom.Tokens.constant
    if spread == UsdGeom.Tokens.constant:
        expected = 1
    elif spread == UsdGeom.Tokens.uniform:
        expected = faces.faces
    elif spread == UsdGeom.Tokens.faceVarying:
        expected = faces.corners
    else:
        expected = len(prim.GetAttribute(UsdGeom.Tokens.points).Get(time) or ())
    held = len(values)
    if indices is not None:
        held, places = len(indices), np.asarray(indices)
        if held and not 0 <= places.min() <= places.max() < len(values):
            held = -1
    if held != expected:
        yield f"Primvars {name.removeprefix('primvars:')} that do not fit their mesh"


def _of_light(prim: Usd.Prim, time: Usd.TimeCode) -> Iterator[str]:
    yield from _of_lights_values(prim, time)
    if prim.GetTypeName() not in KIND_OF_PRIM and not prim.HasAPI(UsdLux.MeshLightAPI):
        kind = prim.GetTypeName() or UsdLux.LightAPI(prim).GetShaderIdAttr().Get() or "light"
        yield f"Lights of type {kind} left out"
    if prim.HasAPI(UsdLux.ShapingAPI):
        profile = UsdLux.ShapingAPI(prim).GetShapingIesFileAttr().Get(time)
        if profile is not None and profile.path:
            yield "Lights that shine without their IES profile"
    if UsdLux.LightAPI(prim).GetFiltersRel().HasAuthoredTargets():
        yield "Lights that shine without their filters"


def _of_material(material: UsdShade.Material, time: Usd.TimeCode) -> Iterator[str]:
    if _is_connected(material.GetDisplacementOutput()):
        yield "Materials that displace nothing"
    if _is_connected(material.GetVolumeOutput()):
        yield "Materials without their volume"
    shader = surface_of(material)
    if shader is None or not is_known_surface(shader):
        return  # said as a whole, see `survey.unknown_materials`
    if is_layered(shader):
        said = set()
        for given in shader.GetInputs():
            value = input_value(given, time)
            if not (isinstance(value, tuple) and max(value) > 0.0):
                continue
            if given.GetBaseName() in _SUBSURFACE:
                yield "Materials drawn without subsurface"
            what = _UNREAD_WEIGHTS.get(given.GetBaseName())
            if what and what not in said:
                said.add(what)
                yield f"Materials drawn without {what}"
    if _feeds_itself(shader):
        yield "Materials whose nodes feed themselves"
        return
    for given in shader.GetInputs():
        if given.HasConnectedSource() and input_value(given, time) is None and not _is_paint(given):
            yield f"Materials whose {given.GetBaseName()} comes from a node that is not read{_node(given)}"


def _feeds_itself(shader: UsdShade.Shader) -> bool:
    """Whether a network comes back to where it began."""
    seen: list[Sdf.Path] = []
    waiting: list[tuple[Usd.Prim, tuple[Sdf.Path, ...]]] = [(shader.GetPrim(), ())]
    while waiting:
        prim, above = waiting.pop()
        path = prim.GetPath()
        if path in above:
            return True
        if len(above) > 60 or len(seen) > 2000:
            continue
        seen.append(path)
        for attribute in prim.GetAuthoredAttributes():
            for source in attribute.GetConnections() if attribute.HasAuthoredConnections() else ():
                other = prim.GetStage().GetPrimAtPath(source.GetPrimPath())
                if other and not other.IsA(UsdShade.Material) and not other.IsA(UsdShade.NodeGraph):
                    waiting.append((other, (*above, path)))
    return False


def _is_connected(output: UsdShade.Output) -> bool:
    return bool(output) and output.HasConnectedSource()


def _is_paint(given: UsdShade.Input) -> bool:
    return "PrimvarReader" in _node(given) or "geompropvalue" in _node(given)


def _node(given: UsdShade.Input) -> str:
    source = given.GetConnectedSources()[0]
    shader = UsdShade.Shader(source[0].source.GetPrim()) if source else None
    identifier = shader.GetIdAttr().Get() if shader else None
    return f" ({identifier})" if identifier else ""


def named(prims: Sequence[str], most: int = 4) -> str:
    """Some prims by name, and how many more there are."""
    more = f" and {len(prims) - most} more" if len(prims) > most else ""
    return ", ".join(prims[:most]) + more


def omission_cure(what: str) -> str:
    """What can be done about something that is left out."""
    return next((cure for word, cure in _CURES.items() if word in what), "")
