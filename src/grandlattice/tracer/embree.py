"""Ray queries: the Embree library of the `embreex` wheel, called from numba.

All that is known about Embree's C interface stands in this file: finding the library, building
a scene, the layout of a ray, and the two questions kernels ask, `closest_hits` and `blocked`.
No shading, no film.

The lanes' rays are put one by one: Embree's own packets may round a hit by what else travels in
the packet, and a pixel would then depend on its neighbours.

A ray and its hit are 96 bytes, 16-byte aligned (`RTCRayHit` of Embree 4): floats 0–2 origin,
3 tnear, 4–6 direction, 7 time, 8 tfar; words 9 mask, 10 id, 11 flags; floats 12–14 geometric
normal, 15–16 barycentric u v; words 17 primitive, 18 geometry, 19 instance.
"""

from __future__ import annotations

import ctypes
import importlib.util
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

import llvmlite.binding
import numpy as np
from numba import njit, types
from numpy.typing import NDArray

from grandlattice.errors import TracerError
from grandlattice.tracer.lanes import LANES, all_lanes, bits_of, load, lowest_bit, mask_of, store
from grandlattice.tracer.memory import float32s, int32s, uint32s

# mypy: disable-error-code="no-untyped-def"

# Who may hit a geometry: the bits of Embree's ray mask.
CAMERA, OTHER = 1, 2

_TRIANGLE, _INDEX, _VERTEX, _HIGH_QUALITY = 0, 0, 1, 2
_FLOAT3, _UINT3 = 0x9003, 0x5003
_NO_GEOMETRY = np.uint32(0xFFFFFFFF)


def _find_library() -> Path:
    spec = importlib.util.find_spec("embreex")
    if spec is None or spec.origin is None:
        raise TracerError("The ray library is missing.", cure="python -m pip install embreex")
    package = Path(spec.origin).parent
    for folder in (package.parent / "embreex.libs", package / ".dylibs", package):
        for name in sorted(folder.glob("*embree4*")):
            if name.suffix != ".py":
                return name
    raise TracerError(
        f"The ray library is missing from the embreex package in {package}.",
        cure="python -m pip install --force-reinstall --only-binary :all: embreex",
    )


@lru_cache(maxsize=1)
def library() -> ctypes.CDLL:
    """Load Embree once and make its two ray queries known to the compiler."""
    import embreex.rtcore_scene  # noqa: F401  (loads the libraries Embree depends on)

    lib = ctypes.CDLL(str(_find_library()))
    pointer, word = ctypes.c_void_p, ctypes.c_uint
    signatures: dict[str, tuple[list[Any], Any]] = {
        "rtcNewDevice": ([ctypes.c_char_p], pointer),
        "rtcReleaseDevice": ([pointer], None),
        "rtcGetDeviceError": ([pointer], ctypes.c_int),
        "rtcNewScene": ([pointer], pointer),
        "rtcReleaseScene": ([pointer], None),
        "rtcCommitScene": ([pointer], None),
        "rtcSetSceneBuildQuality": ([pointer, ctypes.c_int], None),
        "rtcNewGeometry": ([pointer, ctypes.c_int], pointer),
        "rtcSetGeometryMask": ([pointer, word], None),
        "rtcCommitGeometry": ([pointer], None),
        "rtcAttachGeometryByID": ([pointer, pointer, word], None),
        "rtcReleaseGeometry": ([pointer], None),
        "rtcSetSharedGeometryBuffer": (
            [pointer, ctypes.c_int, word, ctypes.c_int, pointer]
            + [ctypes.c_size_t, ctypes.c_size_t, ctypes.c_size_t],
            None,
        ),
    }
    for name, (arguments, result) in signatures.items():
        function = getattr(lib, name)
        function.argtypes, function.restype = arguments, result
    for name in ("rtcIntersect1", "rtcOccluded1"):
        address = ctypes.cast(getattr(lib, name), ctypes.c_void_p).value
        llvmlite.binding.add_symbol(name, address)
    return lib


@lru_cache(maxsize=1)
def _device() -> int:
    lib = library()
    device = lib.rtcNewDevice(b"threads=1,set_affinity=0")
    if not device:
        raise TracerError(f"The ray library did not start (code {lib.rtcGetDeviceError(None)}).")
    return int(device)


class RayScene:
    """Triangles made ready for ray queries, in two scenes: what is opaque, and what is clear.

    A shadow ray asks the opaque scene whether it is blocked, and only then the clear one what it
    passes through; kept apart, neither question is slowed by the other's triangles.

    Parameters
    ----------
    points : (V + 1, 3) float32 in world space.  The last row is padding: Embree reads 16 bytes
        at each vertex.
    triangles : (T, 3) int32 indices into `points`.
    first_triangle : (G + 1,) int64; geometry g is ``triangles[first[g]:first[g + 1]]``.
    masks : (G,) which rays may hit each geometry.
    clear : (G,) whether light may pass through it.

    Attributes
    ----------
    opaque, clear : handles of the scenes; 0 where nothing is clear.

    The arrays are shared with Embree, not copied, and are kept alive by this object.
    """

    def __init__(
        self,
        points: NDArray[np.float32],
        triangles: NDArray[np.int32],
        first_triangle: NDArray[np.int64],
        masks: Sequence[int],
        clear: Sequence[bool],
    ) -> None:
        self.opaque = self.clear = 0
        self._points = np.ascontiguousarray(points, np.float32)
        self._triangles = np.ascontiguousarray(triangles, np.int32)
        self._first = first_triangle
        numbers = range(len(masks))
        self.opaque = self._scene([(g, masks[g]) for g in numbers if not clear[g]])
        if any(clear):
            self.clear = self._scene([(g, masks[g]) for g in numbers if clear[g]])

    def _scene(self, geometries: list[tuple[int, int]]) -> int:
        lib = library()
        scene = lib.rtcNewScene(_device())
        lib.rtcSetSceneBuildQuality(scene, _HIGH_QUALITY)
        for g, mask in geometries:
            start, stop = int(self._first[g]), int(self._first[g + 1])
            geometry = lib.rtcNewGeometry(_device(), _TRIANGLE)
            count = len(self._points) - 1
            lib.rtcSetSharedGeometryBuffer(
                geometry, _VERTEX, 0, _FLOAT3, self._points.ctypes.data, 0, 12, count
            )
            lib.rtcSetSharedGeometryBuffer(
                geometry, _INDEX, 0, _UINT3, self._triangles.ctypes.data, start * 12, 12, stop - start
            )
            lib.rtcSetGeometryMask(geometry, mask)
            lib.rtcCommitGeometry(geometry)
            lib.rtcAttachGeometryByID(scene, geometry, g)
            lib.rtcReleaseGeometry(geometry)
        lib.rtcCommitScene(scene)
        code = lib.rtcGetDeviceError(_device())
        if code:
            lib.rtcReleaseScene(scene)
            raise TracerError(f"The ray library refused the geometry (code {code}).")
        return int(scene)

    def __del__(self) -> None:
        for handle in (self.opaque, self.clear):
            if handle and library is not None:
                library().rtcReleaseScene(handle)


# A thread's room, in 4-byte words: one ray with its hit, then rows of lanes going in and out.
_RAY_WORDS = 32
(
    _AT_ORIGIN, _AT_DIRECTION, _AT_NEAR, _AT_FAR, _AT_MASK,
    _AT_DISTANCE, _AT_NORMAL, _AT_U, _AT_V, _AT_TRIANGLE, _AT_GEOMETRY,
) = (_RAY_WORDS + LANES * row for row in (0, 3, 6, 7, 8, 9, 10, 13, 14, 15, 16))  # fmt: skip
RAY_ROOM = _RAY_WORDS + LANES * 17
"""Words a thread needs to ask for hits, at an address that is a multiple of 64."""

_query = types.void(types.intp, types.intp, types.intp)
_intersect = types.ExternalFunction("rtcIntersect1", _query)
_occluded = types.ExternalFunction("rtcOccluded1", _query)


class Hit(NamedTuple):
    """What rays met, a lane each; where `found` is not set the rest means nothing."""

    found: Any
    distance: Any  # in units of the direction's length
    normal: Any  # geometric; neither of unit length nor turned to the viewer
    u: Any
    v: Any
    triangle: Any  # within its geometry
    geometry: Any


@njit(error_model="numpy")
def _write_rays(room, origin, direction, t_near, t_far):
    floats = float32s(room)
    for i in range(3):
        store(floats, _AT_ORIGIN + LANES * i, origin[i])
        store(floats, _AT_DIRECTION + LANES * i, direction[i])
    store(floats, _AT_NEAR, t_near)
    store(floats, _AT_FAR, t_far)


@njit(error_model="numpy")
def _take_ray(room, lane):
    """Make the ray of one lane ready, as Embree wants it."""
    floats, words = float32s(room), uint32s(room)
    for i in range(3):
        floats[i] = floats[_AT_ORIGIN + LANES * i + lane]
        floats[4 + i] = floats[_AT_DIRECTION + LANES * i + lane]
    floats[3] = floats[_AT_NEAR + lane]
    floats[7] = 0.0
    floats[8] = floats[_AT_FAR + lane]
    words[9] = words[_AT_MASK + lane]
    words[10] = 0
    words[11] = 0
    words[18] = _NO_GEOMETRY
    words[19] = _NO_GEOMETRY


@njit(error_model="numpy")
def closest_hits(opaque, clear, room, active, origin, direction, t_near, t_far, masks):
    """Shoot a ray for each active lane.

    Either scene may be 0.  The second query starts with the first one's hit as its farthest.
    """
    floats, words, found = float32s(room), uint32s(room), 0
    _write_rays(room, origin, direction, t_near, t_far)
    store(int32s(room), _AT_MASK, all_lanes(masks))
    store(int32s(room), _AT_TRIANGLE, all_lanes(0))
    store(int32s(room), _AT_GEOMETRY, all_lanes(0))
    left = bits_of(active)
    while left != 0:
        lane = lowest_bit(left)
        left &= left - 1
        _take_ray(room, lane)
        if opaque != 0:
            _intersect(opaque, room, 0)
        if clear != 0:
            _intersect(clear, room, 0)
        if words[18] != _NO_GEOMETRY:
            found |= 1 << lane
            floats[_AT_DISTANCE + lane] = floats[8]
            for i in range(3):
                floats[_AT_NORMAL + LANES * i + lane] = floats[12 + i]
            floats[_AT_U + lane], floats[_AT_V + lane] = floats[15], floats[16]
            words[_AT_TRIANGLE + lane], words[_AT_GEOMETRY + lane] = words[17], words[18]
    return Hit(
        found=mask_of(found),
        distance=load(floats, _AT_DISTANCE),
        normal=(
            load(floats, _AT_NORMAL), load(floats, _AT_NORMAL + LANES), load(floats, _AT_NORMAL + 2 * LANES)
        ),
        u=load(floats, _AT_U),
        v=load(floats, _AT_V),
        triangle=load(int32s(room), _AT_TRIANGLE),
        geometry=load(int32s(room), _AT_GEOMETRY),
    )  # fmt: skip


@njit(error_model="numpy")
def blocked(opaque, room, active, origin, direction, t_far, masks):
    """In which of the active lanes anything stands between a ray's origin and `t_far`."""
    floats, found = float32s(room), 0
    _write_rays(room, origin, direction, all_lanes(0.0), t_far)
    store(int32s(room), _AT_MASK, all_lanes(masks))
    left = bits_of(active)
    while left != 0:
        lane = lowest_bit(left)
        left &= left - 1
        _take_ray(room, lane)
        _occluded(opaque, room, 0)
        if floats[8] < 0.0:
            found |= 1 << lane
    return mask_of(found)
