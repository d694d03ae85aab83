"""Ray queries: the Embree library of the `embreex` wheel, called one ray at a time from numba.

All that is known about Embree's C interface stands in this file: finding the library, building
a scene, the layout of a ray, and the two questions kernels ask, `closest_hit` and `is_blocked`.
No shading, no film.

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
from typing import Any

import llvmlite.binding
import numpy as np
from numba import njit, types
from numpy.typing import NDArray

from grandlattice.errors import TracerError
from grandlattice.tracer.memory import float32s, uint32s

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


def ray_buffer() -> NDArray[np.uint8]:
    """The 96 aligned bytes of a ray, then room for whoever shades; one for each thread.

    Kernels take its address; `vertices` says how the room is used.
    """
    raw = np.zeros(1024 + 64, np.uint8)
    start = -raw.ctypes.data % 64
    return raw[start : start + 1024]


_query = types.void(types.intp, types.intp, types.intp)
_intersect = types.ExternalFunction("rtcIntersect1", _query)
_occluded = types.ExternalFunction("rtcOccluded1", _query)


@njit(error_model="numpy")
def _load(ray, origin, direction, t_near, t_far, mask):  # type: ignore[no-untyped-def]
    floats, words = float32s(ray), uint32s(ray)
    floats[0], floats[1], floats[2] = origin[0], origin[1], origin[2]
    floats[3] = t_near
    floats[4], floats[5], floats[6] = direction[0], direction[1], direction[2]
    floats[7] = 0.0
    floats[8] = t_far
    words[9] = mask
    words[10] = 0
    words[11] = 0
    words[18] = _NO_GEOMETRY
    words[19] = _NO_GEOMETRY


@njit(error_model="numpy")
def closest_hit(opaque, clear, ray, origin, direction, t_near, t_far, mask):  # type: ignore[no-untyped-def]
    """Shoot a ray; on True the hit stands in the buffer, see `hit_distance` and `hit_place`.

    Either scene may be 0.  The second query starts with the first one's hit as its farthest.
    """
    _load(ray, origin, direction, t_near, t_far, mask)
    if opaque != 0:
        _intersect(opaque, ray, 0)
    if clear != 0:
        _intersect(clear, ray, 0)
    return uint32s(ray)[18] != _NO_GEOMETRY


@njit(error_model="numpy")
def hit_distance(ray):  # type: ignore[no-untyped-def]
    """Distance of the last hit, in units of the direction's length."""
    return float(float32s(ray)[8])


@njit(error_model="numpy")
def hit_place(ray):  # type: ignore[no-untyped-def]
    """(geometry, triangle within it, barycentric u, v) of the last hit."""
    floats, words = float32s(ray), uint32s(ray)
    return np.int64(words[18]), np.int64(words[17]), float(floats[15]), float(floats[16])


@njit(error_model="numpy")
def hit_normal(ray):  # type: ignore[no-untyped-def]
    """Geometric normal of the last hit: not of unit length, not turned to the viewer."""
    floats = float32s(ray)
    return (float(floats[12]), float(floats[13]), float(floats[14]))


@njit(error_model="numpy")
def is_blocked(opaque, ray, origin, direction, t_near, t_far, mask):  # type: ignore[no-untyped-def]
    """Whether anything stands between `t_near` and `t_far`; overwrites the buffer."""
    _load(ray, origin, direction, t_near, t_far, mask)
    _occluded(opaque, ray, 0)
    return float32s(ray)[8] < 0.0
