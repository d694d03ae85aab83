"""Samplers against their densities, and the samples themselves."""

from __future__ import annotations

import numpy as np
import pytest
from numba import njit

from grandlattice.scene_records import Light, Material, Shaping, Texture
from grandlattice.tracer.kernel_memory import Pinned, aligned_words, float32s, int32s, load, store
from grandlattice.tracer.lanes import LANES, all_lanes, lane_numbers, mask_of
from grandlattice.tracer.light_sampling import FAR, aims, meet_light
from grandlattice.tracer.light_table import light_at, pack_lights
from grandlattice.tracer.material_table import MATERIAL_ROOM, pack_materials, sharp, surface_at
from grandlattice.tracer.sampling import (
    FILTER_STEPS,
    angle_of,
    cone_direction,
    cosine_direction,
    filter_offset,
    filter_table,
    on_disk,
    pair,
    pixel_seed,
    sine_and_cosine,
)
from grandlattice.tracer.scattering import albedo_tables, lobes_of, sample_direction, scatter
from grandlattice.tracer.texture_lookup import decode_table, pack_textures
from grandlattice.tracer.vertices import SCENE
from shapes import MATT, dome, moved

# Kernels work on lanes; what goes in and comes out here are columns: (columns, N) float32, N a
# multiple of LANES, handed over by address and column length.


def columns(*values: object) -> np.ndarray:
    return np.ascontiguousarray(np.stack(np.broadcast_arrays(*values)), np.float32)


def empty(count: int, length: int) -> np.ndarray:
    return np.zeros((count, length), np.float32)


@njit
def read(address, length, column, k):
    return load(float32s(address), column * length + k)


@njit
def read_triple(address, length, column, k):
    return (
        read(address, length, column, k), read(address, length, column + 1, k),
        read(address, length, column + 2, k),
    )  # fmt: skip


@njit
def write(address, length, column, k, value):
    store(float32s(address), column * length + k, all_lanes(value))


@njit
def write_triple(address, length, column, k, value):
    for i in range(3):
        write(address, length, column + i, k, value[i])


@njit
def pairs_into(seed, dimension, out, length):
    for k in range(0, length, LANES):
        u, v = pair(all_lanes(seed), lane_numbers() + k, all_lanes(dimension))
        write(out, length, 0, k, u)
        write(out, length, 1, k, v)


def many_pairs(seed: int, count: int, dimension: int) -> np.ndarray:
    out = empty(2, count)
    pairs_into(seed, dimension, out.ctypes.data, count)
    return out.T.astype(float)


def test_samples_are_a_net_in_every_pixel_and_dimension() -> None:
    # The first 2^m points of a (0, m, 2)-net in base 2: one in every box of 2^-a × 2^-(m-a).
    for seed, dimension in ((1, 0), (77, 5), (4_000_000_000, 130)):
        points = many_pairs(seed, 64, dimension)
        assert ((points >= 0) & (points < 1)).all()
        for a in range(7):
            across, down = 2**a, 2 ** (6 - a)
            box = (points[:, 0] * across).astype(int) * down + (points[:, 1] * down).astype(int)
            assert len(np.unique(box)) == 64


def test_pixels_and_dimensions_have_samples_of_their_own() -> None:
    @njit
    def seeds_into(width, height, out):
        for y in range(height):
            for x in range(0, width, LANES):
                seed = pixel_seed(7, lane_numbers() + x, all_lanes(y))
                store(int32s(out), y * width + x, seed)

    found = np.zeros(64 * 64, np.int32)
    seeds_into(64, 64, found.ctypes.data)
    assert len(set(found.tolist())) == 64 * 64
    first = np.array([many_pairs(int(seed), LANES, 3)[0] for seed in found[:2000]])
    assert first.mean(0) == pytest.approx((0.5, 0.5), abs=0.03)
    assert abs(np.corrcoef(first.T)[0, 1]) < 0.08
    a, b = (many_pairs(5, 256, d) for d in (8, 9))
    assert abs(np.corrcoef(a[:, 0], b[:, 0])[0, 1]) < 0.2


def test_the_pixel_filter_is_drawn_from_as_it_should() -> None:
    # Blackman–Harris over ±1.5 pixels is even; its second moment by plain quadrature of its terms.
    x = np.linspace(-1, 1, 20001)
    w = sum(a * np.cos(k * np.pi * (x + 1)) for k, a in enumerate((0.35875, -0.48829, 0.14128, -0.01168)))
    expected = 1.5**2 * (w * x**2).sum() / w.sum()
    table = filter_table()
    assert len(table) == FILTER_STEPS

    @njit
    def drawn(address, u, out, length):
        for k in range(0, length, LANES):
            write(out, length, 0, k, filter_offset(float32s(address), read(u, length, 0, k)))

    u, offsets = columns((np.arange(65536) + 0.5) / 65536), empty(1, 65536)
    drawn(table.ctypes.data, u.ctypes.data, offsets.ctypes.data, 65536)
    offsets = offsets[0].astype(float)
    assert offsets.mean() == pytest.approx(0.0, abs=1e-6)
    assert (offsets**2).mean() == pytest.approx(expected, rel=2e-3)
    assert np.abs(offsets).max() <= 1.5


def test_sines_and_angles_are_what_they_say() -> None:
    @njit
    def into(t, out, length):
        for k in range(0, length, LANES):
            sine, cosine = sine_and_cosine(read(t, length, 0, k))
            write(out, length, 0, k, sine)
            write(out, length, 1, k, cosine)
            write(out, length, 2, k, angle_of(sine, cosine))

    turns = np.concatenate([np.linspace(-1.5, 1.5, 8192), [-1, -0.5, 0, 0.25, 0.5, 1, 7.125, 0.125]])
    turns = np.pad(turns, (0, -len(turns) % LANES))
    t, out = columns(turns), empty(3, len(turns))
    into(t.ctypes.data, out.ctypes.data, len(turns))
    exact = 2 * np.pi * t[0].astype(float)
    assert np.abs(out[0] - np.sin(exact)).max() < 2.5e-7
    assert np.abs(out[1] - np.cos(exact)).max() < 2.5e-7
    off = (out[2] - exact + np.pi) % (2 * np.pi) - np.pi
    assert np.abs(off).max() < 6e-7


def fits(directions: np.ndarray, density, bins: tuple[int, int] = (12, 24), fine: int = 24) -> None:
    """Chi-square of directions against a density over solid angle, in boxes of equal area."""
    rows, columns = bins
    z, phi = directions[:, 2], np.arctan2(directions[:, 1], directions[:, 0]) % (2 * np.pi)
    row = np.clip(((z + 1) / 2 * rows).astype(int), 0, rows - 1)
    column = np.clip((phi / (2 * np.pi) * columns).astype(int), 0, columns - 1)
    found = np.bincount(row * columns + column, minlength=rows * columns).astype(float)
    zs = -1 + 2 * (np.arange(rows * fine) + 0.5) / (rows * fine)
    phis = 2 * np.pi * (np.arange(columns * fine) + 0.5) / (columns * fine)
    zz, pp = np.meshgrid(zs, phis, indexing="ij")
    r = np.sqrt(1 - zz**2)
    grid = np.stack([r * np.cos(pp), r * np.sin(pp), zz], -1).reshape(-1, 3)
    value = density(grid).reshape(rows, fine, columns, fine).mean((1, 3)).ravel()
    expected = value * 4 * np.pi / (rows * columns) * len(directions)
    assert value.mean() * 4 * np.pi == pytest.approx(len(directions) / len(directions), abs=0.02)
    enough = expected > 8
    assert found[~enough].sum() <= expected[~enough].sum() * 1.5 + 12
    chi2 = ((found - expected)[enough] ** 2 / expected[enough]).sum()
    # Stratified samples stray less than random ones; random ones reach n + 4 √(2n) in one of 10^4.
    assert chi2 < enough.sum() + 4 * np.sqrt(2 * enough.sum())


COUNT = 60_000


def uniform(seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).random((3, COUNT), np.float32)


def test_cosine_and_cone_directions() -> None:
    @njit
    def draw(u, narrow, out, length):
        axis = (all_lanes(0.6), all_lanes(0.0), all_lanes(0.8))
        for k in range(0, length, LANES):
            a, b = read(u, length, 0, k), read(u, length, 1, k)
            write_triple(out, length, 0, k, cosine_direction(a, b))
            write_triple(out, length, 3, k, cone_direction(axis, narrow, a, b))

    narrow, u, out = 0.3, uniform(), empty(6, COUNT)
    draw(u.ctypes.data, narrow, out.ctypes.data, COUNT)
    fits(out[:3].T, lambda d: np.maximum(d[:, 2], 0) / np.pi)
    inside = 1 - narrow
    fits(out[3:].T, lambda d: (d @ (0.6, 0.0, 0.8) > inside) / (2 * np.pi * narrow), (24, 48))


LOOKS = {
    "matt": {**MATT, "diffuseColor": (0.8,) * 3},
    "rough metal": {"metallic": (1.0,), "roughness": (0.6,)},
    "smooth metal": {"metallic": (1.0,), "roughness": (0.3,)},
    "plastic": {"diffuseColor": (0.5, 0.3, 0.2), "roughness": (0.35,)},
    "coated": {
        "diffuseColor": (0.5,) * 3,
        "roughness": (0.7,),
        "clearcoat": (1.0,),
        "clearcoatRoughness": (0.4,),
    },
}


ROOM = aligned_words(MATERIAL_ROOM)


def scene_of(material: Material, **fields) -> Pinned:
    textures, held = pack_textures([], {})
    scene = Pinned(
        SCENE,
        **fields,
        materials=pack_materials([material], []),
        textures=textures,
        tables=albedo_tables(),
        decode=decode_table(),
    )
    scene.held = held
    return scene


@njit
def surface_in(scene, wo_z, room):
    half = all_lanes(0.5)
    surface = surface_at(scene, all_lanes(0), sharp(half, half), room)
    return surface, lobes_of(surface, scene.tables, all_lanes(wo_z))


@njit
def draw_into(scene, wo, u, out, length, room):
    surface, lobes = surface_in(scene, wo[2], room)
    wo = (all_lanes(wo[0]), all_lanes(wo[1]), all_lanes(wo[2]))
    for k in range(0, length, LANES):
        a, b, choice = read_triple(u, length, 0, k)
        write_triple(out, length, 0, k, sample_direction(surface, lobes, wo, choice, a, b))


@njit
def scatter_into(scene, wo, wi, out, length, room):
    surface, lobes = surface_in(scene, wo[2], room)
    wo = (all_lanes(wo[0]), all_lanes(wo[1]), all_lanes(wo[2]))
    for k in range(0, length, LANES):
        value, _, density = scatter(surface, lobes, scene.tables, wo, read_triple(wi, length, 0, k))
        write_triple(out, length, 0, k, value)
        write(out, length, 3, k, density)


def drawn_directions(scene: Pinned, wo: tuple[float, ...], u: np.ndarray) -> np.ndarray:
    out = empty(3, u.shape[1])
    draw_into(scene.record, wo, u.ctypes.data, out.ctypes.data, u.shape[1], ROOM.ctypes.data)
    return out.T


def scattered(scene: Pinned, wo: tuple[float, ...], wi: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    count = len(wi)
    wi = columns(*np.pad(wi, ((0, -count % LANES), (0, 0))).T)
    out = empty(4, wi.shape[1])
    scatter_into(scene.record, wo, wi.ctypes.data, out.ctypes.data, wi.shape[1], ROOM.ctypes.data)
    return out[:3, :count].T, out[3, :count]


@pytest.mark.long
@pytest.mark.parametrize("name", LOOKS)
@pytest.mark.parametrize("cosine", [0.95, 0.4])
def test_directions_are_drawn_with_the_density_that_is_told(name: str, cosine: float) -> None:
    scene = scene_of(Material("/M", LOOKS[name]))
    wo = (float(np.sqrt(1 - cosine**2)), 0.0, cosine)
    directions = drawn_directions(scene, wo, uniform())
    # A visible normal may reflect below the horizon; the path ends there and counts as absorbed.
    above = directions[directions[:, 2] > 0]
    lost = 1 - len(above) / len(directions)
    fits(above, lambda grid: scattered(scene, wo, grid)[1] / (1 - lost), (24, 48))


def test_what_does_not_depend_on_order_is_the_same_both_ways() -> None:
    # Helmholtz: f(wo, wi) = f(wi, wo) for base and interface; f is scatter / cos_i.
    for name in ("matt", "plastic"):
        scene = scene_of(Material("/M", {**LOOKS[name], "roughness": (0.5,)}))
        a, b = (0.6, 0.0, 0.8), (0.0, 0.8, 0.6)
        there, _ = scattered(scene, a, np.array([b]))
        back, _ = scattered(scene, b, np.array([a]))
        assert there[0] / 0.6 == pytest.approx(back[0] / 0.8, rel=0.02)


LIGHTS = {
    "sphere": Light("/L", "sphere", moved(0.3, 0.2, 1.5), (2.0,) * 3, (0.5, 0.5)),
    "disk": Light("/L", "disk", moved(0.2, 0.1, 1.0), (2.0,) * 3, (0.8, 0.8)),
    "rect": Light("/L", "rect", moved(0.2, 0.1, 1.2), (2.0,) * 3, (1.6, 0.9)),
    "pictured": Light("/L", "rect", moved(0.2, 0.1, 1.2), (2.0,) * 3, (1.6, 0.9), Texture("sky")),
    "cylinder": Light("/L", "cylinder", moved(0.2, 0.1, 0.9), (2.0,) * 3, (0.3, 1.5)),
    "shaped": Light(
        "/L", "sphere", moved(0.3, 0.2, 1.5), (2.0,) * 3, (0.5, 0.5), shaping=Shaping(3.0, 40, 10)
    ),
    "distant": Light("/L", "distant", moved(), (2.0,) * 3, (40.0, 0.0)),
    "dome": Light("/L", "dome", moved(turn_x=30), (1.0,) * 3, texture=Texture("sky")),
    "even dome": dome(),
}


@njit
def aim_into(scene, u, out, length, room):
    lights, domes = scene.lights, scene.domes
    light, everyone = light_at(lights, 0), mask_of(0xFFFF)
    nought = all_lanes(0.0)
    start = (nought, nought, nought)
    for k in range(0, length, LANES):
        a, b = read(u, length, 0, k), read(u, length, 1, k)
        aim = aims(scene, room, all_lanes(0), everyone, start, all_lanes(0), a, b)
        met = meet_light(light, domes, everyone, start, aim.direction, nought, nought + FAR)
        write_triple(out, length, 0, k, aim.direction)
        write(out, length, 3, k, aim.density)
        write(out, length, 4, k, met.density)
        write(out, length, 5, k, aim.radiance[0])
        write(out, length, 6, k, met.radiance[0])


@njit
def meet_into(lights, domes, directions, out, length):
    light, everyone = light_at(lights, 0), mask_of(0xFFFF)
    nought = all_lanes(0.0)
    start = (nought, nought, nought)
    for k in range(0, length, LANES):
        direction = read_triple(directions, length, 0, k)
        met = meet_light(light, domes, everyone, start, direction, nought, nought + FAR)
        write(out, length, 0, k, met.density)


def aimed(light: Light, sky: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray, object]:
    """Directions; density told, density met, radiance told and met; density of any directions."""
    rows, domes = pack_lights([light], {"sky": sky})
    u = np.ascontiguousarray(uniform()[:, :count])
    out = empty(7, count)
    scene = scene_of(Material("/M", {}), lights=rows, domes=domes)
    aim_into(scene.record, u.ctypes.data, out.ctypes.data, count, ROOM.ctypes.data)

    def density(grid: np.ndarray) -> np.ndarray:
        grid = columns(*grid.T)
        met = empty(1, grid.shape[1])
        meet_into(rows.ctypes.data, domes.ctypes.data, grid.ctypes.data, met.ctypes.data, grid.shape[1])
        return met[0]

    return out[:3].T, out[3:].T, density


@pytest.mark.long
@pytest.mark.parametrize("kind", LIGHTS)
def test_aiming_at_a_light_and_meeting_it_agree(kind: str) -> None:
    rng = np.random.default_rng(3)
    sky = (rng.random((16, 32, 3)) ** 6 * 40).astype(np.float32)
    directions, value, density = aimed(LIGHTS[kind], sky, COUNT)
    # The densities agree but where rounding moves a direction over the light's own edge, or
    # where a round side is met at a grazing angle.
    same = np.isclose(value[:, 0], value[:, 1], rtol=1e-2 if kind == "cylinder" else 1e-3)
    assert same.mean() > 0.995
    assert np.isclose(value[same, 2], value[same, 3], rtol=3e-3).mean() > 0.999
    fits(directions, density, (24, 48), 100)


def test_a_dome_is_aimed_at_by_its_brightness() -> None:
    sky = np.full((64, 128, 3), 0.01, np.float32)
    sky[20, 40] = 500.0
    light = Light("/L", "dome", np.eye(4), (1.0,) * 3, texture=Texture("sky"))
    _, value, _ = aimed(light, sky, 4000)
    estimate = value[:, 2] / value[:, 0]
    # Nearly all of this sky's light is in one texel; an even choice would have a spread of 60.
    assert estimate.std() / estimate.mean() < 1.5


def test_disk_points_fill_the_disk() -> None:
    @njit
    def into(u, out, length):
        for k in range(0, length, LANES):
            x, y = on_disk(read(u, length, 0, k), read(u, length, 1, k))
            write(out, length, 0, k, x)
            write(out, length, 1, k, y)

    u, out = uniform(), empty(2, COUNT)
    u[:2, 0] = 0.5  # the very centre
    into(u.ctypes.data, out.ctypes.data, COUNT)
    radius = np.hypot(*out)
    assert radius.max() <= 1 + 1e-6
    assert radius[0] == 0
    assert (radius**2).mean() == pytest.approx(0.5, abs=0.01)
