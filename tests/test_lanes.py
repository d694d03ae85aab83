"""Lanes: sixteen numbers at a time give what NumPy gives for each; nothing leaks between them."""

from __future__ import annotations

import math
import os
import sys
import threading
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from numba import njit

from grandlattice.errors import TracerError
from grandlattice.scene_records import Geometry, Item, Light, Material, Snapshot, Texture
from grandlattice.tracer import Sensor, Tracer, TraceSettings, embree, scene_arrays
from grandlattice.tracer.batches import stride_of
from grandlattice.tracer.compiling.backend import is_compiled
from grandlattice.tracer.compiling.kernel_cache import keep_kernels, kept_kernels
from grandlattice.tracer.kernel_memory import (
    aligned_words,
    float32s,
    int32s,
    load,
    load_rows,
    records,
    scatter_to,
    store,
    store_packed,
    store_rows,
    table,
)
from grandlattice.tracer.lanes import (
    LANES,
    all_lanes,
    any_of,
    bits_of,
    count_of,
    inner,
    lowest_bit,
    mask_of,
    number_in,
    to_floats,
    to_ints,
    where,
)
from grandlattice.tracer.light_images import tables_of
from grandlattice.tracer.path_state import BATCH
from grandlattice.tracer.triangles import Triangles
from shapes import MATT, camera, dome, geometry, moved, plane, sphere


@njit
def arithmetic(a, b, i, j, out, whole):
    a, b = load(float32s(a), 0), load(float32s(b), 0)
    i, j = load(int32s(i), 0), load(int32s(j), 0)
    results = (
        a + b, a - b, a * b, a / b, -a, min(a, b), max(a, b), abs(a), math.floor(a), math.sqrt(abs(a)),
        2.0 * a, 1.0 - a, where(a < b, a, b), where(a >= 0.5, 1.0, 0.0), to_floats(to_ints(a)),
    )  # fmt: skip
    for k in range(15):
        store(float32s(out), k * LANES, results[k])
    numbers = (
        i + j, i - j, i * j, i & j, i | j, i ^ j, i << 3, i >> 5, min(i, j), max(i, 7),
        where(i == j, 1, 0), where(~(i > j) & (j != 3), i, -1),
    )  # fmt: skip
    for k in range(12):
        store(int32s(whole), k * LANES, numbers[k])


FLOATS = st.lists(
    st.floats(-1e6, 1e6, width=32).filter(lambda x: abs(x) > 1e-3), min_size=LANES, max_size=LANES
)
INTS = st.lists(st.integers(-(2**31), 2**31 - 1), min_size=LANES, max_size=LANES)


@settings(max_examples=60, deadline=None)
@given(FLOATS, FLOATS, INTS, INTS)
def test_arithmetic_is_that_of_single_numbers(a, b, i, j) -> None:
    a, b = np.array(a, np.float32), np.array(b, np.float32)
    i, j = np.array(i, np.int32), np.array(j, np.int32)
    out, whole = np.zeros((15, LANES), np.float32), np.zeros((12, LANES), np.int32)
    arithmetic(*(x.ctypes.data for x in (a, b, i, j, out, whole)))
    expected = [
        a + b, a - b, a * b, a / b, -a, np.minimum(a, b), np.maximum(a, b), abs(a), np.floor(a),
        np.sqrt(abs(a)), 2 * a, 1 - a, np.where(a < b, a, b), np.where(a >= 0.5, 1, 0), np.trunc(a),
    ]  # fmt: skip
    np.testing.assert_array_equal(out, np.array(expected, np.float32))
    with np.errstate(over="ignore"):
        shifted = (i.view(np.uint32) >> np.uint32(5)).view(np.int32)  # zeros come in
        numbers = [
            i + j, i - j, i * j, i & j, i | j, i ^ j, i << 3, shifted, np.minimum(i, j),
            np.maximum(i, 7), i == j, np.where(~(i > j) & (j != 3), i, -1),
        ]  # fmt: skip
    np.testing.assert_array_equal(whole, np.array(numbers, np.int32))


ROW = np.dtype([("a", "f4"), ("n", "i4"), ("three", "f4", (3,)), ("place", "i8"), ("last", "f4")], align=True)
row_at = records(ROW)


@njit
def memory_in_lanes(data, index, rows, out, whole, square):
    floats, at = float32s(data), load(int32s(index), 0)
    store(float32s(out), 0, floats[at])
    store_rows(float32s(square), 0, load_rows(floats, at))
    each, one = row_at(rows, at & 3), row_at(rows, 2)
    store(float32s(out), LANES, each.a + each.three[0] * each.three[1] - each.three[2] + each.last)
    store(float32s(out), 2 * LANES, one.a + one.three[0] * one.three[1] - one.three[2] + one.last)
    store(int32s(whole), 0, each.n)
    store(float32s(out), 3 * LANES, float32s(each.place)[at])
    store(float32s(out), 4 * LANES, float32s(one.place)[at])
    return number_in(at, 0)


@settings(max_examples=30, deadline=None)
@given(st.lists(st.integers(0, 83), min_size=LANES, max_size=LANES))
def test_memory_is_read_where_each_lane_says(places) -> None:
    rng = np.random.default_rng(5)
    data, index = rng.random(100).astype(np.float32), np.array(places, np.int32)
    others = [rng.random(100).astype(np.float32) for _ in range(4)]
    rows = table(ROW, 4)
    for k, (row, other) in enumerate(zip(rows, others, strict=True)):
        row["a"], row["n"], row["three"], row["last"] = k + 0.5, -k, (k, 2, 0.25), 10 * k
        row["place"] = other.ctypes.data
    out, whole = np.zeros((5, LANES), np.float32), np.zeros(LANES, np.int32)
    square = np.zeros((LANES, LANES), np.float32)
    first = memory_in_lanes(*(x.ctypes.data for x in (data, index, rows, out, whole, square)))
    assert first == places[0]
    np.testing.assert_array_equal(out[0], data[index])
    np.testing.assert_array_equal(square, np.array([data[i : i + LANES] for i in index]).T)
    row = index & 3
    np.testing.assert_allclose(out[1], row + 0.5 + row * 2 - 0.25 + 10 * row)
    np.testing.assert_allclose(out[2], np.full(LANES, 2 + 0.5 + 4 - 0.25 + 20))
    np.testing.assert_array_equal(whole, -row)
    np.testing.assert_array_equal(out[3], [others[r][i] for r, i in zip(row, index, strict=True)])
    np.testing.assert_array_equal(out[4], others[2][index])


@njit
def masks_in_lanes(test, data, out, packed, scattered, order):
    test, value = mask_of(test), load(float32s(data), 0)
    store(float32s(out), 0, where(test, value, all_lanes(-1.0)))
    store_packed(float32s(packed), 3, value, test)
    scatter_to(float32s(scattered), load(int32s(order), 0), value, test)
    return bits_of(test), count_of(test), any_of(test), lowest_bit(bits_of(test) | (1 << LANES))


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 2**LANES - 1), st.permutations(range(LANES)))
def test_masks_choose_pack_and_scatter(bits: int, order) -> None:
    on = np.array([bits >> k & 1 for k in range(LANES)], bool)
    data = np.arange(1, LANES + 1, dtype=np.float32)
    out, packed = np.zeros(LANES, np.float32), np.zeros(LANES + 8, np.float32)
    scattered, places = np.zeros(LANES, np.float32), np.array(order, np.int32)
    told = masks_in_lanes(bits, *(x.ctypes.data for x in (data, out, packed, scattered, places)))
    assert told == (bits, on.sum(), on.any(), int(np.argmax(on)) if on.any() else LANES)
    np.testing.assert_array_equal(out, np.where(on, data, -1))
    np.testing.assert_array_equal(packed, [0, 0, 0, *data[on], *[0] * (LANES + 5 - on.sum())])
    expected = np.zeros(LANES)
    expected[places[on]] = data[on]
    np.testing.assert_array_equal(scattered, expected)


# --- Embree, and the stream of paths ----------------------------------------------------------


@inner
def _triple(address, k):
    p = float32s(address)
    return (load(p, k), load(p, k + LANES), load(p, k + 2 * LANES))


@njit
def ask(scene, room, active, origin, direction, near, far, masks, together, out, geometry):
    rays = embree.Rays(
        _triple(origin, 0), _triple(direction, 0), all_lanes(near), all_lanes(far), all_lanes(masks),
        all_lanes(0.0),
    )  # fmt: skip
    hit = embree.closest_hits(scene, 0, room, mask_of(active), rays, together)
    store(float32s(out), 0, where(hit.found, hit.distance, -1.0))
    store(float32s(out), LANES, where(hit.found, hit.u, -1.0))
    store(int32s(geometry), 0, where(hit.found, hit.placement * 100000 + hit.primitive, -1))
    dark = embree.blocked(
        scene, room, mask_of(active), _triple(origin, 0), _triple(direction, 0),
        all_lanes(far), all_lanes(masks), all_lanes(0.0),
    )  # fmt: skip
    return bits_of(dark)


ROOM = aligned_words(embree.RAY_ROOM)


def two_balls(quads: bool = True) -> embree.RayScene:
    """A unit ball at the origin for everybody, and one around it that the camera does not see: the
    same ball again, three times as large.  Triangles are quads two by two, or not."""
    ball = sphere(24)
    points = np.concatenate([ball.points, ball.points, np.zeros((1, 3), np.float32)])
    corners = ball.triangles.copy()
    corners[1::2] = np.roll(corners[1::2], 0 if quads else 1, axis=1)
    triangles = np.concatenate([corners, corners + len(ball.points)])
    matrices = np.stack([np.eye(3, 4), np.diag([3.0, 3.0, 3.0, 1.0])[:3]]).astype(np.float32)
    return embree.RayScene(
        embree.Placements(
            points, triangles.astype(np.int32), np.array([0, 1, 2]) * len(ball.triangles), np.array([0, 1]),
            matrices, np.array([False, True]), np.array([embree.CAMERA | embree.OTHER, embree.OTHER]),
            np.array([False, False]), np.zeros((2, 0, 3, 4), np.float32),
        )
    )  # fmt: skip


def shoot(scene, origin, direction, active=0xFFFF, near=0.0, far=1e30, masks=embree.CAMERA, together=False):
    origin, direction = (np.ascontiguousarray(a.T, np.float32) for a in (origin, direction))
    out, geometry = np.zeros((2, LANES), np.float32), np.zeros(LANES, np.int32)
    dark = ask(
        scene.opaque, ROOM.ctypes.data, active, origin.ctypes.data, direction.ctypes.data,
        near, far, masks, together, out.ctypes.data, geometry.ctypes.data,
    )  # fmt: skip
    return out, geometry, np.array([dark >> k & 1 for k in range(LANES)], bool)


def fan() -> tuple[np.ndarray, np.ndarray]:
    """Rays from z = 5 down −z in a row across the small ball and past it."""
    x = np.linspace(-1.5, 1.5, LANES)
    return np.stack([x, 0.013 + 0 * x, 5 + 0 * x], 1), np.tile([0.0, 0.0, -1.0], (LANES, 1))


def test_rays_meet_what_they_should() -> None:
    scene, (origin, direction) = two_balls(), fan()
    meets = np.abs(origin[:, 0]) < 0.97
    misses = np.abs(origin[:, 0]) > 1.0
    out, geometry, dark = shoot(scene, origin, direction)
    depth = 5 - np.sqrt(np.maximum(1 - origin[:, 0] ** 2 - 0.013**2, 0))
    np.testing.assert_allclose(out[0][meets], depth[meets], atol=0.03)  # a ball of flat triangles
    assert (geometry[misses] == -1).all()
    np.testing.assert_array_equal(dark, geometry != -1)
    around, geometry, dark = shoot(scene, origin, direction, masks=embree.OTHER)
    assert (geometry // 100000 == 1).all()  # the other kind of ray meets the ball around it first
    assert (around[0] < out[0].max()).all()
    assert dark.all()
    # From inside the front of the small ball, with a nearest distance, its back is met.
    back, _, _ = shoot(scene, origin, direction, near=5.0)
    np.testing.assert_allclose(back[0][meets], 10 - depth[meets], atol=0.03)
    none, geometry, dark = shoot(scene, origin, direction, far=3.5)
    assert (geometry == -1).all()
    assert not dark.any()
    assert (none == -1).all()


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 2**LANES - 1), st.booleans(), st.randoms(use_true_random=False))
def test_a_ray_is_the_same_alone_in_a_packet_and_in_any_company(active: int, quads: bool, rng) -> None:
    scene, (origin, direction) = two_balls(quads), fan()
    assert (scene.first < 0).all() == quads
    direction = direction + np.array([[rng.uniform(-0.1, 0.1) for _ in range(3)] for _ in range(LANES)])
    direction /= np.linalg.norm(direction, axis=1, keepdims=True)
    on = np.array([active >> k & 1 for k in range(LANES)], bool)
    full, whole, _ = shoot(scene, origin, direction, together=True)
    part, some, _ = shoot(scene, origin, direction, active, together=True)
    np.testing.assert_array_equal(part[:, on], full[:, on])
    np.testing.assert_array_equal(some[on], whole[on])
    assert (some[~on] == -1).all()
    single, alone, _ = shoot(scene, origin, direction)
    np.testing.assert_allclose(single, full, rtol=1e-4, atol=1e-5)
    assert (alone == whole).mean() > 0.8  # a ray through an edge may be given either triangle


@pytest.mark.parametrize("count", [1, 2, 3, 5, 10, 16, 17, 40, 64])
def test_every_sample_has_a_place_and_sixteen_neighbours_are_whole_pixels(count: int) -> None:
    stride = stride_of(count)
    assert count <= stride < count + LANES
    assert stride <= BATCH
    assert LANES % stride == 0 or stride % LANES == 0


def picture(width: int, height: int, samples: int, threads: int = 1, lights=None, **settings):
    balls = []
    for x, y, size, look in ((-0.6, 0, 0.7, 0), (0.7, 0.3, 0.5, 0), (0.2, -0.8, 0.4, 1)):
        place = np.diag([size, size, size, 1.0])
        place[3, :2] = x, y
        balls.append(Item(sphere(16), place, (look,)))
    pane = geometry([(-2, 0, 1), (0.5, 0, 1), (0.5, 2, 1), (-2, 2, 1)], [(0, 1, 2), (0, 2, 3)])
    looks = (
        Material("/M", {"diffuseColor": (0.6, 0.4, 0.3), "roughness": (0.3,), "clearcoat": (0.5,)}),
        Material("/Glass", {"opacity": (0.1,), "roughness": (0.1,)}),
    )
    view = camera()
    snapshot = Snapshot((*balls, Item(pane, np.eye(4), (1,))), looks, lights or (dome(),), view)
    passes = ("beauty", "depth", "normal", "occlusion", "albedo")
    return Tracer(threads).trace(
        snapshot, {}, Sensor(view, width, height), TraceSettings(samples=samples, **settings), passes
    )


def test_threads_and_chunks_change_no_byte() -> None:
    whole = picture(45, 37, 80)  # more samples than a chunk, sides that no tile fits
    again = picture(45, 37, 80, threads=3)
    for name, pixels in whole.passes.items():
        assert pixels.tobytes() == again.passes[name].tobytes(), name
    assert whole.rays == again.rays
    assert picture(45, 37, 80, seed=1).passes["beauty"].tobytes() != whole.passes["beauty"].tobytes()


@pytest.mark.parametrize("samples", [1, 3, 6, 20])
def test_a_pixel_does_not_depend_on_what_else_is_in_its_batch(samples: int, monkeypatch) -> None:
    usual = picture(45, 37, samples)
    monkeypatch.setattr("grandlattice.tracer.adaptive_sampling.TILE", 13)
    monkeypatch.setattr("grandlattice.tracer.pilot.BATCH", 96)
    other = picture(45, 37, samples)
    for name, pixels in usual.passes.items():
        assert pixels.tobytes() == other.passes[name].tobytes(), name


def test_paths_do_not_depend_on_light() -> None:
    dim, bright = (picture(24, 24, 8, lights=(dome(r),)) for r in (0.01, 100.0))
    assert dim.rays == bright.rays
    for name in ("depth", "normal", "occlusion", "albedo"):
        assert dim.passes[name].tobytes() == bright.passes[name].tobytes()
    ratio = bright.passes["beauty"][..., :3] / np.maximum(dim.passes["beauty"][..., :3], 1e-9)
    np.testing.assert_allclose(ratio[dim.passes["beauty"][..., 0] > 1e-6], 1e4, rtol=1e-4)


def test_an_empty_scene_and_a_lone_triangle_are_traced() -> None:
    view = camera()
    empty = Tracer().trace(
        Snapshot((), (), (dome(2.0),), view), {}, Sensor(view, 5, 3), TraceSettings(samples=3)
    )
    np.testing.assert_allclose(empty.passes["beauty"][..., :3], 2.0, rtol=1e-5)
    alone = Geometry(
        "/T", np.array([(-9, -9, 0), (9, -9, 0), (0, 18, 0)], np.float32), np.array([[0, 1, 2]], np.int32),
        np.tile(np.array([0, 0, 1], np.float32), (1, 3, 1)), np.zeros((1, 3, 2), np.float32), np.zeros(1, np.int32),
    )  # fmt: skip
    look = Material("/M", {**MATT, "diffuseColor": (0.5,) * 3})
    film = Tracer().trace(
        Snapshot((Item(alone, np.eye(4), (0,)),), (look,), (dome(),), view), {}, Sensor(view, 5, 3),
        TraceSettings(samples=256),
    )  # fmt: skip
    np.testing.assert_allclose(film.passes["beauty"][..., :3], 0.5, rtol=0.02)


def test_a_sky_is_worked_out_once_and_again_when_it_is_another(monkeypatch) -> None:
    made = []
    monkeypatch.setattr(scene_arrays, "tables_of", lambda *image: made.append(image) or tables_of(*image))
    tracer, view = Tracer(), camera()
    skies = [np.full((8, 16, 3), value, np.float32) for value in (1.0, 2.0)]
    light = Light("/Sky", "dome", np.eye(4), (1.0,) * 3, texture=Texture("sky"))
    snapshot = Snapshot((), (), (light,), view)
    seen = []
    for sky in (skies[0], skies[0], skies[1], skies[0], None):
        film = tracer.trace(snapshot, {"sky": sky}, Sensor(view, 2, 2), TraceSettings(samples=1))
        seen.append(float(film.passes["beauty"][0, 0, 0]))
    np.testing.assert_allclose(seen, [1, 1, 2, 1, 1], rtol=1e-6)
    assert len(made) == 2  # a sky without an image needs none


# --- What is kept ------------------------------------------------------------------------------


def test_damaged_machine_code_is_as_good_as_none(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("GRANDLATTICE_CACHE", str(tmp_path))
    assert (kept_kernels(), is_compiled()) == (None, False)
    keep_kernels([b"machine", b"code"])
    assert (kept_kernels(), is_compiled()) == ([b"machine", b"code"], True)
    (file,) = (path for path in tmp_path.rglob("*") if path.is_file())
    whole = file.read_bytes()
    for damaged in (b"", whole[:-1], whole[:-1] + b"?", whole[1:]):
        file.write_bytes(damaged)
        assert (kept_kernels(), is_compiled()) == (None, False)
    monkeypatch.setenv("GRANDLATTICE_CACHE", str(file))  # no folder: nothing can be kept there
    keep_kernels([b"machine", b"code"])
    assert kept_kernels() is None


def _small_kernel():
    @inner
    def twice(number):
        return number + number

    @inner
    def thrice(number):
        return twice(number) + number

    def sum_of_both(number):
        return twice(number) + thrice(number)

    return sum_of_both


def test_where_the_fast_compiler_fails_the_plain_one_serves_everybody_from_then_on(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    from grandlattice.tracer.compiling import backend, plain

    monkeypatch.setenv("GRANDLATTICE_CACHE", str(tmp_path))
    monkeypatch.delenv("GRANDLATTICE_COMPILER", raising=False)
    monkeypatch.setattr(backend, "_used", used := [])
    monkeypatch.setattr(plain, "load", lambda entries, cache: cache.mkdir(parents=True) or dict(entries))

    def fail(kernels: object) -> list[bytes]:
        raise AttributeError("numba has no such part any more")

    monkeypatch.setattr(backend, "_compiled_fast", fail)
    assert (backend.chosen_compiler(), backend.is_compiled(), used) == ("fast", False, [])
    assert list(backend.load({"trace_tile": ("integrator", 6)})) == ["trace_tile"]
    assert "no such part" in backend.compiler_failure()
    assert used == ["plain"]
    used.clear()  # another process, which may have asked before the first one failed
    assert (backend.chosen_compiler(), backend.is_compiled()) == ("plain", True)
    # One that was told to be fast, as workers are, fails: it never draws with other kernels than the run's.
    backend.use_compiler("fast")
    with pytest.raises(AttributeError, match="no such part"):
        backend.load({"trace_tile": ("integrator", 6)})
    with pytest.raises(TracerError, match="kernels of the compiler fast"):
        backend.use_compiler("plain")
    used.clear()
    monkeypatch.setenv("GRANDLATTICE_COMPILER", "quick")
    with pytest.raises(TracerError, match="no compiler quick"):
        backend.chosen_compiler()


def test_code_that_other_processes_write_is_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    from grandlattice.tracer.compiling import code_writers, machine_code

    here, write, begin, begun = os.getpid(), machine_code.code_of, code_writers.Apart.begin, []
    monkeypatch.setattr(code_writers, "_AT_ONCE", 1)
    monkeypatch.setattr(threading, "active_count", lambda: 1)  # of other tests some may wait for their end

    def made(helpers: str) -> list[bytes]:
        def split_off(*given):
            begun.append(begin(*given) if helpers != "none" else None)
            return begun[-1]

        def written(functions):
            return write(functions) if helpers != "fail" or os.getpid() == here else 1 / 0

        monkeypatch.setattr(code_writers.Apart, "begin", split_off)
        monkeypatch.setattr(machine_code, "code_of", written)
        begun.clear()
        return machine_code.machine_code({"sum_of_both": (_small_kernel(), 1)})

    alone = made("none")
    assert len(begun) > 3  # the last of them for half of the machine code
    for helpers in ("work", "fail"):
        assert made(helpers) == alone
        assert all(begun) or not sys.platform.startswith("linux")


@pytest.mark.parametrize("seed", range(3))
def test_triangles_kept_from_the_scene_before_are_those_made_anew(seed: int) -> None:
    rng = np.random.default_rng(seed)
    bare = [sphere(6), plane(1.0), sphere(5)]
    painted = replace(bare[0], corner_colours=rng.random((len(bare[0].triangles), 3, 3), np.float32))
    shapes = [*bare, painted, replace(bare[1], more_uvs=bare[1].corner_uvs[..., ::-1])]
    places = [None, moved(x=1.0), np.diag([2.0, -1.0, 0.5, 1.0]) @ moved(y=3.0)]

    def some():
        return [(shapes[rng.integers(5)], places[rng.integers(3)]) for _ in range(rng.integers(1, 9))]

    before = None
    for _ in range(6):
        standing = some()
        kept, anew = Triangles(standing, before), Triangles(standing)
        for name in ("points", "corners", "shading", "paint", "more_uvs", "first", "boxes"):
            np.testing.assert_array_equal(getattr(kept, name), getattr(anew, name), name)
        if rng.random() < 0.7:  # asked for, or not, before the next scene
            np.testing.assert_array_equal(kept.densities, anew.densities)
        before = kept
    np.testing.assert_array_equal(before.densities, anew.densities)


@njit
def meet(scene, room, first, origin, direction, out, triangle):
    """The triangle rays meet, how much of its second and third corner is there, and how far it is."""
    far, both = all_lanes(1e30), all_lanes(embree.CAMERA)
    nought = all_lanes(0.0)
    rays = embree.Rays(_triple(origin, 0), _triple(direction, 0), nought, far, both, nought)
    hit = embree.closest_hits(scene, 0, room, mask_of(0xFFFF), rays, False)
    number, b, c = embree.triangle_met(hit, int32s(first)[hit.placement])
    store(int32s(triangle), 0, where(hit.found, number, -1))
    store(float32s(out), 0, b)
    store(float32s(out), LANES, c)
    store(float32s(out), 2 * LANES, hit.distance)


def test_a_quad_is_met_as_its_two_triangles_are() -> None:
    rng = np.random.default_rng(3)
    x, y = np.meshgrid(np.arange(5.0), np.arange(5.0))
    points = np.stack([x, y, 0.4 * rng.random((5, 5))], -1).reshape(-1, 3)  # bent along each diagonal
    points = np.concatenate([points, points[:1]]).astype(np.float32)
    a = (np.arange(4)[:, None] * 5 + np.arange(4)).reshape(-1)
    pairs = np.stack([np.stack([a, a + 1, a + 6], 1), np.stack([a, a + 6, a + 5], 1)], 1)
    pairs = pairs.reshape(-1, 3).astype(np.int32)
    alone = pairs.copy()
    alone[1::2] = np.roll(pairs[1::2], 1, axis=1)  # the same triangles, but not as a polygon is cut
    assert embree.quads_of(pairs) is not None
    assert embree.quads_of(alone) is None
    mixed = np.concatenate([pairs[:24], alone[24:]])  # mostly quads, beside a shape that is none
    where_to = np.concatenate([rng.uniform(0.1, 3.9, (LANES, 2)), np.full((LANES, 1), 3.0)], 1)
    origin = np.ascontiguousarray(where_to.T, np.float32)
    direction = np.ascontiguousarray(np.tile([[0.05], [0.03], [-1.0]], LANES), np.float32)
    seen = []
    for triangles, parts in ((pairs, [0, 32]), (alone, [0, 32]), (mixed, [0, 24, 32])):
        count = len(parts) - 1
        scene = embree.RayScene(
            embree.Placements(
                points, triangles, np.array(parts), np.arange(count), np.zeros((count, 3, 4), np.float32),
                np.zeros(count, bool), np.full(count, embree.CAMERA), np.zeros(count, bool),
                np.zeros((count, 0, 3, 4), np.float32),
            )
        )  # fmt: skip
        assert (scene.first < 0).tolist() == [triangles is not alone, False][:count]
        first, met = np.ascontiguousarray(scene.first), np.zeros(LANES, np.int32)
        out = np.zeros((3, LANES), np.float32)
        meet(
            scene.opaque, ROOM.ctypes.data, first.ctypes.data, origin.ctypes.data, direction.ctypes.data,
            out.ctypes.data, met.ctypes.data,
        )  # fmt: skip
        b, c, distance = (row[:, None] for row in out)
        corners = points[triangles[met]]
        place = (1 - b - c) * corners[:, 0] + b * corners[:, 1] + c * corners[:, 2]
        np.testing.assert_allclose(place, (origin + distance.T * direction).T, atol=2e-6)
        seen.append(met)
    np.testing.assert_array_equal(seen[0], seen[1])
    assert len(set((seen[0] % 2).tolist())) == 2  # both halves were met
    np.testing.assert_array_equal(seen[0], seen[2])
    assert (seen[0] >= 24).any()
