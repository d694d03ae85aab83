"""Samplers against their densities, and the samples themselves."""

from __future__ import annotations

import numpy as np
import pytest
from numba import njit

from grandlattice.snapshot import Light, Material, Texture
from grandlattice.tracer import embree
from grandlattice.tracer.lights import FAR, light_at, meet_light, pack_lights, sample_light
from grandlattice.tracer.materials import pack_materials, surface_at
from grandlattice.tracer.memory import Pinned, float64s
from grandlattice.tracer.sampling import (
    FILTER_STEPS,
    cone_direction,
    cosine_direction,
    filter_offset,
    filter_table,
    on_disk,
    pair,
    pixel_seed,
)
from grandlattice.tracer.scattering import albedo_tables, prepare_lobes, sample_direction, scatter
from grandlattice.tracer.textures import decode_table, pack_textures
from grandlattice.tracer.vertices import SCENE
from shapes import MATT, dome, moved


@njit
def many_pairs(seed, count, dimension):
    out = np.empty((count, 2))
    for i in range(count):
        out[i, 0], out[i, 1] = pair(seed, i, dimension)
    return out


def test_samples_are_a_net_in_every_pixel_and_dimension() -> None:
    # The first 2^m points of a (0, m, 2)-net in base 2: one in every box of 2^-a × 2^-(m-a).
    for seed, dimension in ((1, 0), (77, 5), (4_000_000_000, 130)):
        points = many_pairs(np.uint32(seed), 64, dimension)
        assert ((points >= 0) & (points < 1)).all()
        for a in range(7):
            columns, rows = 2**a, 2 ** (6 - a)
            box = (points[:, 0] * columns).astype(int) * rows + (points[:, 1] * rows).astype(int)
            assert len(np.unique(box)) == 64


def test_pixels_and_dimensions_have_samples_of_their_own() -> None:
    @njit
    def seeds(width, height):
        return [pixel_seed(7, x, y) for y in range(height) for x in range(width)]

    found = seeds(64, 64)
    assert len(set(found)) == 64 * 64
    first = np.array([many_pairs(np.uint32(seed), 1, 3)[0] for seed in found[:2000]])
    assert first.mean(0) == pytest.approx((0.5, 0.5), abs=0.03)
    assert abs(np.corrcoef(first.T)[0, 1]) < 0.08
    a, b = (many_pairs(np.uint32(5), 256, d) for d in (8, 9))
    assert abs(np.corrcoef(a[:, 0], b[:, 0])[0, 1]) < 0.2


def test_the_pixel_filter_is_drawn_from_as_it_should() -> None:
    # Blackman–Harris over ±1.5 pixels is even; its second moment by plain quadrature of its terms.
    x = np.linspace(-1, 1, 20001)
    w = sum(a * np.cos(k * np.pi * (x + 1)) for k, a in enumerate((0.35875, -0.48829, 0.14128, -0.01168)))
    expected = 1.5**2 * (w * x**2).sum() / w.sum()
    table = filter_table()
    assert len(table) == FILTER_STEPS + 1

    @njit
    def drawn(address, u):
        return np.array([filter_offset(float64s(address), t) for t in u])

    offsets = drawn(table.ctypes.data, (np.arange(65536) + 0.5) / 65536)
    assert offsets.mean() == pytest.approx(0.0, abs=1e-9)
    assert (offsets**2).mean() == pytest.approx(expected, rel=2e-3)
    assert np.abs(offsets).max() <= 1.5


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


def uniform(count: int, seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).random((count, 3))


def test_cosine_and_cone_directions() -> None:
    @njit
    def draw(u, narrow):
        a, b = np.empty((len(u), 3)), np.empty((len(u), 3))
        for i in range(len(u)):
            d = cosine_direction(u[i, 0], u[i, 1])
            c = cone_direction((0.6, 0.0, 0.8), narrow, u[i, 0], u[i, 1])
            for k in range(3):
                a[i, k], b[i, k] = d[k], c[k]
        return a, b

    narrow = 0.3
    cosine, cone = draw(uniform(60_000), narrow)
    fits(cosine, lambda d: np.maximum(d[:, 2], 0) / np.pi)
    inside = 1 - narrow
    fits(cone, lambda d: (d @ (0.6, 0.0, 0.8) > inside) / (2 * np.pi * narrow), (24, 48))


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


ROOM = embree.ray_buffer()


def scene_of(material: Material) -> Pinned:
    textures, _ = pack_textures([], {})
    return Pinned(
        SCENE,
        materials=pack_materials([material], []),
        textures=textures,
        tables=albedo_tables(),
        decode=decode_table(),
    )


@njit
def drawn_directions(scene, wo, u, room):
    surface = surface_at(scene, 0, 0.5, 0.5, float64s(room), room + 320)
    prepare_lobes(surface, scene.tables, wo[2])
    out = np.empty((len(u), 3))
    for i in range(len(u)):
        d = sample_direction(surface, wo, u[i, 2], u[i, 0], u[i, 1])
        out[i, 0], out[i, 1], out[i, 2] = d[0], d[1], d[2]
    return out


@njit
def scattered(scene, wo, wi, room):
    surface = surface_at(scene, 0, 0.5, 0.5, float64s(room), room + 320)
    prepare_lobes(surface, scene.tables, wo[2])
    value, density = np.empty((len(wi), 3)), np.empty(len(wi))
    for i in range(len(wi)):
        v, density[i] = scatter(surface, scene.tables, wo, (wi[i, 0], wi[i, 1], wi[i, 2]))
        value[i, 0], value[i, 1], value[i, 2] = v[0], v[1], v[2]
    return value, density


@pytest.mark.parametrize("name", LOOKS)
@pytest.mark.parametrize("cosine", [0.95, 0.4])
def test_directions_are_drawn_with_the_density_that_is_told(name: str, cosine: float) -> None:
    scene, room = scene_of(Material("/M", LOOKS[name])), ROOM.ctypes.data + 128
    wo = (np.sqrt(1 - cosine**2), 0.0, cosine)
    directions = drawn_directions(scene.record, wo, uniform(60_000), room)
    # A visible normal may reflect below the horizon; the path ends there and counts as absorbed.
    above = directions[directions[:, 2] > 0]
    lost = 1 - len(above) / len(directions)

    def density(grid):
        return scattered(scene.record, wo, grid, room)[1] / (1 - lost)

    fits(above, density, (24, 48))


def test_what_does_not_depend_on_order_is_the_same_both_ways() -> None:
    # Helmholtz: f(wo, wi) = f(wi, wo) for base and interface; f is scatter / cos_i.
    room = ROOM.ctypes.data + 128
    for name in ("matt", "plastic"):
        scene = scene_of(Material("/M", {**LOOKS[name], "roughness": (0.5,)}))
        a, b = (0.6, 0.0, 0.8), (0.0, 0.8, 0.6)
        there, _ = scattered(scene.record, a, np.array([b]), room)
        back, _ = scattered(scene.record, b, np.array([a]), room)
        assert there[0] / 0.6 == pytest.approx(back[0] / 0.8, rel=0.02)


LIGHTS = {
    "sphere": Light("/L", "sphere", moved(0.3, 0.2, 1.5), (2.0,) * 3, (0.5, 0.5)),
    "disk": Light("/L", "disk", moved(0.2, 0.1, 1.0), (2.0,) * 3, (0.8, 0.8)),
    "rect": Light("/L", "rect", moved(0.2, 0.1, 1.2), (2.0,) * 3, (1.6, 0.9)),
    "distant": Light("/L", "distant", moved(), (2.0,) * 3, (40.0, 0.0)),
    "dome": Light("/L", "dome", moved(turn_x=30), (1.0,) * 3, texture=Texture("sky")),
    "even dome": dome(),
}


@njit
def aimed(lights, u, far):
    light = light_at(lights, 0)
    out, value = np.empty((len(u), 3)), np.empty((len(u), 4))
    for i in range(len(u)):
        d, _, radiance, density = sample_light(light, (0.0, 0.0, 0.0), u[i, 0], u[i, 1])
        met, again = meet_light(light, (0.0, 0.0, 0.0), d, 0.0, far)
        out[i, 0], out[i, 1], out[i, 2] = d[0], d[1], d[2]
        value[i] = density, again, radiance[0], met[0]
    return out, value


@njit
def densities(lights, directions, far):
    light = light_at(lights, 0)
    out = np.empty(len(directions))
    for i in range(len(directions)):
        d = (directions[i, 0], directions[i, 1], directions[i, 2])
        _, out[i] = meet_light(light, (0.0, 0.0, 0.0), d, 0.0, far)
    return out


@pytest.mark.parametrize("kind", LIGHTS)
def test_aiming_at_a_light_and_meeting_it_agree(kind: str) -> None:
    rng = np.random.default_rng(3)
    sky = (rng.random((16, 32, 3)) ** 6 * 40).astype(np.float32)
    rows, held = pack_lights([LIGHTS[kind]], {"sky": sky})
    directions, value = aimed(rows.ctypes.data, uniform(60_000), FAR)
    assert held is not None
    # The densities agree but where rounding moves a direction over the light's own edge.
    same = np.isclose(value[:, 0], value[:, 1], rtol=1e-4)
    assert same.mean() > 0.995
    assert np.isclose(value[same, 2], value[same, 3], rtol=1e-3).mean() > 0.999
    fits(directions, lambda grid: densities(rows.ctypes.data, grid, FAR), (24, 48), 60)


def test_a_dome_is_aimed_at_by_its_brightness() -> None:
    sky = np.full((64, 128, 3), 0.01, np.float32)
    sky[20, 40] = 500.0
    rows, held = pack_lights(
        [Light("/L", "dome", np.eye(4), (1.0,) * 3, texture=Texture("sky"))], {"sky": sky}
    )
    _, value = aimed(rows.ctypes.data, uniform(4000), FAR)
    assert held
    estimate = value[:, 2] / value[:, 0]
    # Nearly all of this sky's light is in one texel; an even choice would have a spread of 60.
    assert estimate.std() / estimate.mean() < 1.0


def test_disk_points_fill_the_disk() -> None:
    points = np.array([on_disk.py_func(u, v) for u, v in uniform(4000)[:, :2]])
    radius = np.hypot(*points.T)
    assert radius.max() <= 1
    assert (radius**2).mean() == pytest.approx(0.5, abs=0.02)
