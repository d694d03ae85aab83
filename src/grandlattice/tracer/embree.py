"""Ray queries: the Embree library of the `embreex` wheel, called from kernels.

All that is known about Embree's C interface stands in this file: finding the library, building
a scene, the layout of a ray, and the two questions kernels ask, `closest_hits` and `blocked`.
No shading, no film.

Rays from the camera are put as packets of one pixel's samples; all others one by one, because
Embree may round a packet's hits by what else travels in it, and what travels together later on
is chance.

A ray and its hit are 96 bytes, 16-byte aligned (`RTCRayHit` of Embree 4): floats 0–2 origin,
3 tnear, 4–6 direction, 7 time, 8 tfar; words 9 mask, 10 id, 11 flags; floats 12–14 geometric
normal, 15–16 barycentric u v; words 17 primitive, 18 geometry, 19 the instance it is of.  A packet
has sixteen of each in the same order, 64-byte aligned.
"""

from __future__ import annotations

import ctypes
import importlib.util
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.once import once
from grandlattice.errors import TracerError
from grandlattice.tracer.compiling.native import add_symbol
from grandlattice.tracer.deferred_symbols import of_outside
from grandlattice.tracer.kernel_memory import (
    float32s,
    int32s,
    int64s,
    load,
    load_rows,
    store,
    store_columns,
    uint32s,
)
from grandlattice.tracer.lanes import (
    LANES,
    all_lanes,
    bits_of,
    inner,
    lane_numbers,
    lowest_bit,
    mask_of,
    where,
)

# mypy: disable-error-code="no-untyped-def"

# Who may hit a geometry: the bits of Embree's ray mask.
CAMERA, OTHER = 1, 2

_TRIANGLE, _QUAD, _INSTANCED, _INDEX, _VERTEX, _HIGH_QUALITY = 0, 1, 121, 0, 1, 2
_NO_MEMORY = 4  # the library's code for it
_COMPACT = 2  # half the memory, and slower to build and to ask
_ROBUST = 4  # no ray slips through between two triangles that share an edge
_MANY = 1_000_000  # triangles that are no quads, from which memory counts more than speed
_FLOAT3, _UINT3, _UINT4, _ROWS_3X4 = 0x9003, 0x5003, 0x5004, 0x9134


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


@once
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
        "rtcSetSceneFlags": ([pointer, ctypes.c_int], None),
        "rtcNewGeometry": ([pointer, ctypes.c_int], pointer),
        "rtcSetGeometryMask": ([pointer, word], None),
        "rtcCommitGeometry": ([pointer], None),
        "rtcAttachGeometryByID": ([pointer, pointer, word], None),
        "rtcReleaseGeometry": ([pointer], None),
        "rtcSetGeometryInstancedScene": ([pointer, pointer], None),
        "rtcSetGeometryTimeStepCount": ([pointer, word], None),
        "rtcSetGeometryTransform": ([pointer, word, ctypes.c_int, pointer], None),
        "rtcSetSharedGeometryBuffer": (
            [pointer, ctypes.c_int, word, ctypes.c_int, pointer]
            + [ctypes.c_size_t, ctypes.c_size_t, ctypes.c_size_t],
            None,
        ),
    }
    for name, (arguments, result) in signatures.items():
        function = getattr(lib, name)
        function.argtypes, function.restype = arguments, result
    for name in ("rtcIntersect1", "rtcOccluded1", "rtcIntersect16"):
        address = ctypes.cast(getattr(lib, name), ctypes.c_void_p).value
        add_symbol(name, address or 0)
    return lib


@once
def _device() -> int:
    """The ray library's handle of this process, made when it is asked for first."""
    lib = library()
    # Left to itself it keeps to narrower vectors, for the sake of programs that have no use for wide ones.
    device = lib.rtcNewDevice(b"threads=1,set_affinity=0,frequency_level=simd512")
    if not device:
        code = lib.rtcGetDeviceError(None)
        raise TracerError("There is no memory left for the ray library." if code == _NO_MEMORY else
                          f"The ray library did not start (code {code}).")  # fmt: skip
    return int(device)


@dataclass(frozen=True, eq=False)
class Placements:
    """What stands in a scene: geometries once, in world space, or repeated.

    A geometry that stands once is baked: its points are where they are in the world.  One that is
    repeated has its points in its own space, and stands there once for each of its placements.

    Attributes
    ----------
    points : (V + 1, 3) float32.  The last row is padding: Embree reads 16 bytes at each vertex.
    triangles : (T, 3) int32 indices into `points`.
    first : (G + 1,) triangles of geometry g are ``triangles[first[g]:first[g + 1]]``.
    geometry : (P,) which geometry each placement shows.
    matrices : (P, 3, 4) float32 row by row, for column vectors; of baked ones of no meaning.
    repeated : (P,) whether a placement is one of a repeated geometry.
    masks : (P,) which rays may hit it.
    clear : (P,) whether light may pass through it.
    tracks : (P, S, 3, 4) float32, matrices at S times while the shutter is open, or S = 0 where nothing
        moves; what moves is repeated.
    """

    points: NDArray[np.float32]
    triangles: NDArray[np.int32]
    first: NDArray[np.int64]
    geometry: NDArray[np.int64]
    matrices: NDArray[np.float32]
    repeated: NDArray[np.bool_]
    masks: NDArray[np.int64]
    clear: NDArray[np.bool_]
    tracks: NDArray[np.float32]


def quads_of(triangles: NDArray[np.int32]) -> NDArray[np.int32] | None:
    """Quads that triangles (T, 3) make up two by two, (T / 2, 4); None where they do not.

    Two are a quad where they are (a, b, c) and (a, c, d), which is how polygons of four corners are cut.
    """
    one, two = triangles[0::2], triangles[1::2]
    if not len(two) or len(one) != len(two):
        return None
    if not ((one[:, 0] == two[:, 0]) & (one[:, 2] == two[:, 1])).all():
        return None
    # Embree's own are cut from the second corner to the last.
    return np.stack([one[:, 1], one[:, 2], two[:, 2], one[:, 0]], axis=1)


class RayScene:
    """Placements made ready for ray queries, in two scenes: what is opaque, and what is clear.

    A shadow ray asks the opaque scene whether it is blocked, and only then the clear one what it
    passes through; kept apart, neither question is slowed by the other's triangles.  Hits tell the
    number of the placement.

    Where most triangles are quads two by two, all stand there as quads: half as many, in half the
    memory, and met sooner.  Of both kinds in one scene Embree would look through each by itself.

    Attributes
    ----------
    opaque, clear : handles of the scenes; 0 where nothing is clear.
    first : (P,) int32 what `triangle_met` has to know of each placement.

    The arrays are shared with Embree, not copied, and are kept alive by this object.
    """

    def __init__(self, placements: Placements) -> None:
        self.opaque = self.clear = 0
        self._placements = placements
        self._prototypes: dict[int, int] = {}
        self._corners: dict[int, NDArray[np.int32]] = {}  # of geometries, as Embree has them
        first = placements.first[:-1].astype(np.int32)
        numbers = np.arange(len(placements.geometry))
        self.opaque = self._scene(numbers[~placements.clear], first)
        if placements.clear.any():
            self.clear = self._scene(numbers[placements.clear], first)
        self.first = first[placements.geometry]

    def _scene(self, numbers: NDArray[np.int64], first: NDArray[np.int32]) -> int:
        held = self._placements
        scene = self._begun(held.geometry[numbers[~held.repeated[numbers]]].tolist(), first)
        for p in numbers.tolist():
            g = int(held.geometry[p])
            if held.repeated[p]:
                if g not in self._prototypes:
                    prototype = self._begun([g], first)
                    self._attach(prototype, self._shape(g), 0, -1)
                    self._prototypes[g] = self._committed(prototype)
                shape = library().rtcNewGeometry(_device(), _INSTANCED)
                library().rtcSetGeometryInstancedScene(shape, self._prototypes[g])
                if held.tracks.shape[1]:
                    library().rtcSetGeometryTimeStepCount(shape, held.tracks.shape[1])
                    for k, matrix in enumerate(held.tracks[p]):
                        library().rtcSetGeometryTransform(shape, k, _ROWS_3X4, matrix.ctypes.data)
                else:
                    at = held.matrices.ctypes.data + 48 * p
                    library().rtcSetGeometryTransform(shape, 0, _ROWS_3X4, at)
            else:
                shape = self._shape(g)
            self._attach(scene, shape, p, int(held.masks[p]))
        return self._committed(scene)

    def _shape(self, g: int) -> int:
        """The ray library's own form of geometry `g`: triangles or quads over our arrays; its handle."""
        lib, points, corners = library(), self._placements.points, self._corners[g]
        kind, words = (_QUAD, _UINT4) if corners.shape[1] == 4 else (_TRIANGLE, _UINT3)
        geometry = lib.rtcNewGeometry(_device(), kind)
        for what, form, array, count in (
            (_VERTEX, _FLOAT3, points, len(points) - 1), (_INDEX, words, corners, len(corners))
        ):  # fmt: skip
            lib.rtcSetSharedGeometryBuffer(
                geometry, what, 0, form, array.ctypes.data, 0, array.strides[0], count
            )
        return int(geometry)

    def _begun(self, shapes: list[int], first: NDArray[np.int32]) -> int:
        """A scene for some geometries, whose corners are ready then; `first` is told which are quads."""
        held = self._placements
        given = {g: held.triangles[held.first[g] : held.first[g + 1]] for g in shapes}
        quads = {g: found for g in shapes if (found := quads_of(given[g])) is not None}
        count, paired = sum(map(len, given.values())), 2 * sum(map(len, quads.values()))
        if 2 * paired > count:
            # A triangle is a quad whose last two corners are one.
            alone = {g: np.concatenate([t, t[:, 2:]], axis=1) for g, t in given.items() if g not in quads}
            given = quads | alone
            first[list(quads)] = ~first[list(quads)]
        self._corners |= {g: np.ascontiguousarray(each) for g, each in given.items()}
        small = 2 * paired > count or len(held.triangles) <= _MANY
        lib = library()
        scene = lib.rtcNewScene(_device())
        lib.rtcSetSceneBuildQuality(scene, _HIGH_QUALITY)
        lib.rtcSetSceneFlags(scene, _ROBUST | (0 if small else _COMPACT))
        return int(scene)

    @staticmethod
    def _attach(scene: int, shape: int, number: int, mask: int) -> None:
        lib = library()
        lib.rtcSetGeometryMask(shape, mask & 0xFFFFFFFF)
        lib.rtcCommitGeometry(shape)
        lib.rtcAttachGeometryByID(scene, shape, number)
        lib.rtcReleaseGeometry(shape)

    @staticmethod
    def _committed(scene: int) -> int:
        lib = library()
        lib.rtcCommitScene(scene)
        code = lib.rtcGetDeviceError(_device())
        if code:
            lib.rtcReleaseScene(scene)
            raise TracerError(f"The ray library refused the geometry (code {code}).")
        return scene

    def __del__(self) -> None:
        for handle in (self.opaque, self.clear, *self._prototypes.values()):
            if handle and library is not None:
                library().rtcReleaseScene(handle)


# A thread's room, in 4-byte words: a packet of rays with its hits, laid out as Embree 4 wants it
# (`RTCRayHit16`), which lanes of it are on, what to ask for; and sixteen rays alone (`RTCRayHit`).
(
    _ORG, _TNEAR, _DIR, _TIME, _TFAR, _MASK, _ID, _FLAGS,
    _NG, _U, _V, _PRIMITIVE, _GEOMETRY, _INSTANCE,
) = (LANES * row for row in (0, 3, 4, 7, 8, 9, 10, 11, 12, 15, 16, 17, 18, 19))  # fmt: skip
_VALID, _ARGUMENTS, _ALONE = LANES * 22, LANES * 23, LANES * 24
_APART = 32  # words from one ray alone to the next
RAY_ROOM = _ALONE + LANES * _APART
"""Words a thread needs to ask for hits, at an address that is a multiple of 64."""

_intersect, _occluded = of_outside("rtcIntersect1", 3), of_outside("rtcOccluded1", 3)
_intersect_packet = of_outside("rtcIntersect16", 4)
_COHERENT, _EVERYTHING = 1 << 16, 0xFFFFFFFF


class Rays(NamedTuple):
    """A ray for each lane; `time` runs from 0, where the shutter opens, to 1."""

    origin: Any
    direction: Any
    t_near: Any
    t_far: Any
    masks: Any
    time: Any


class Hit(NamedTuple):
    """What rays met, a lane each; where `found` is not set the rest means nothing."""

    found: Any
    distance: Any  # in units of the direction's length
    normal: Any  # geometric; neither of unit length nor turned to the viewer
    u: Any
    v: Any
    primitive: Any  # triangle or quad of its geometry, see `triangle_met`
    placement: Any


@inner
def _sane(direction):
    """Below 1e-18 Embree divides as if by a positive number, whatever the sign it goes by elsewhere, and
    packets lose hits."""
    x, y, z = direction
    return (
        where(abs(x) < 1e-17, 0.0, x), where(abs(y) < 1e-17, 0.0, y), where(abs(z) < 1e-17, 0.0, z)
    )  # fmt: skip


@inner
def _write_packet(room, rays):
    floats, words = float32s(room), int32s(room)
    for i in range(3):
        store(floats, _ORG + LANES * i, rays.origin[i])
        store(floats, _DIR + LANES * i, rays.direction[i])
    store(floats, _TNEAR, rays.t_near)
    store(floats, _TFAR, rays.t_far)
    store(floats, _TIME, rays.time)
    store(words, _MASK, rays.masks)
    store(words, _GEOMETRY, all_lanes(-1))
    store(words, _PRIMITIVE, all_lanes(0))
    store(words, _INSTANCE, all_lanes(-1))


@inner
def _write_alone(room, rays):
    """Each lane's ray side by side, as it is asked for alone."""
    nought, none, origin, direction = 0.0 * rays.t_far, all_lanes(0), rays.origin, rays.direction
    columns = (
        origin[0], origin[1], origin[2], rays.t_near, direction[0], direction[1], direction[2], rays.time,
        rays.t_far, rays.masks, none, none, nought, nought, nought, nought,
    )  # fmt: skip
    store_columns(float32s(room), _ALONE, _APART, columns)


@inner
def _put_each(opaque, clear, room, active):
    """Put the rays one by one."""
    left = bits_of(active)
    while left != 0:
        lane = lowest_bit(left)
        left &= left - 1
        ray = room + 4 * (_ALONE + _APART * lane)
        int64s(ray)[9] = -1  # neither geometry nor instance
        if opaque != 0:
            _intersect(opaque, ray, 0)
        if clear != 0:
            _intersect(clear, ray, 0)


@inner
def _put_packet(opaque, clear, room, active):
    """Put all rays as one packet that travels together."""
    words, longs = uint32s(room), int64s(room + 4 * _ARGUMENTS)
    store(int32s(room), _VALID, where(active, -1, 0))
    for row in (_ID, _FLAGS):
        store(int32s(room), row, all_lanes(0))
    words[_ARGUMENTS], words[_ARGUMENTS + 1] = _COHERENT, _EVERYTHING
    for i in range(1, 6):
        longs[i] = 0
    if opaque != 0:
        _intersect_packet(room + 4 * _VALID, opaque, room, room + 4 * _ARGUMENTS)
    if clear != 0:
        _intersect_packet(room + 4 * _VALID, clear, room, room + 4 * _ARGUMENTS)


@inner
def closest_hits(opaque, clear, room, active, rays, together):
    """Shoot a ray for each active lane; `together` where they start and go much alike.

    Either scene may be 0.  The second query starts with the first one's hit as its farthest.
    """
    floats, words = float32s(room), int32s(room)
    rays = Rays(rays.origin, _sane(rays.direction), rays.t_near, rays.t_far, rays.masks, rays.time)
    if together:
        _write_packet(room, rays)
        _put_packet(opaque, clear, room, active)
        distance = load(floats, _TFAR)
        normal = load(floats, _NG), load(floats, _NG + LANES), load(floats, _NG + 2 * LANES)
        u, v = load(floats, _U), load(floats, _V)
        primitive, geometry, repeated = (
            load(words, _PRIMITIVE),
            load(words, _GEOMETRY),
            load(words, _INSTANCE),
        )
    else:
        _write_alone(room, rays)
        _put_each(opaque, clear, room, active)
        rows = _ALONE + _APART * lane_numbers()
        near, far = load_rows(floats, rows), load_rows(words, rows + LANES)
        distance, normal, u, v = near[8], (near[12], near[13], near[14]), near[15], floats[rows + LANES]
        primitive, geometry, repeated = far[1], far[2], far[3]
    found = active & (geometry != -1)
    return Hit(
        found=found,
        distance=distance,
        normal=normal,
        u=u,
        v=v,
        primitive=where(found, primitive, 0),
        placement=where(found, where(repeated != -1, repeated, geometry), 0),
    )


@inner
def triangle_met(hit, first):
    """Which of all triangles rays met, and how much of its second and third corner is there.

    `first` is what `RayScene.first` says of the placements: the number of their first triangle; where
    triangles are quads two by two, −1 less that.  A quad's u and v run from its first corner to its second
    and its last, and in the half beyond back from its third.
    """
    quad, u, v = first < 0, hit.u, hit.v
    far = quad & (u + v > 1.0)
    of_quad = -1 - first + 2 * hit.primitive + where(far, 1, 0)
    b = where(far, 1.0 - v, where(quad, 1.0 - u - v, u))
    c = where(far, u + v - 1.0, where(quad, u, v))
    return where(quad, of_quad, first + hit.primitive), b, c


@inner
def blocked(opaque, room, active, origin, direction, t_far, masks, time):
    """In which of the active lanes anything stands between a ray's origin and `t_far`."""
    found = 0
    _write_alone(room, Rays(origin, _sane(direction), 0.0 * t_far, t_far, masks, time))
    left = bits_of(active)
    while left != 0:
        lane = lowest_bit(left)
        left &= left - 1
        ray = room + 4 * (_ALONE + _APART * lane)
        _occluded(opaque, ray, 0)
        if float32s(ray)[8] < 0.0:
            found |= 1 << lane
    return mask_of(found)
