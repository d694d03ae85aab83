"""Textures and materials as kernels read them, against a plain reading of the specification."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from numba import njit

from grandlattice.scene_records import Item, Light, Material, Snapshot, Texture, TextureInput
from grandlattice.tracer import Sensor, Tracer, TraceSettings
from grandlattice.tracer.kernel_memory import Pinned, aligned_words, float32s, int32s, load, store
from grandlattice.tracer.lanes import LANES, all_lanes
from grandlattice.tracer.material_table import (
    MATERIAL_ROOM,
    is_clear,
    pack_materials,
    see_through,
    sharp,
    surface_at,
)
from grandlattice.tracer.mipmaps import srgb_to_linear
from grandlattice.tracer.scattering import albedo_tables
from grandlattice.tracer.texture_lookup import decode_table, pack_textures, read_texture, texture_at
from grandlattice.tracer.vertices import SCENE
from shapes import MATT, camera, moved, plane, trace


@njit
def read_into(textures, decode, row, u, v, out, length):
    for k in range(0, length, LANES):
        texture = texture_at(textures, load(int32s(row), k))
        at = sharp(load(float32s(u), k), load(float32s(v), k))
        rgba = read_texture(texture, decode, at.u, at.v, at.area, at.chance)
        for c in range(4):
            store(float32s(out), c * length + k, rgba[c])


def read(textures, images, u, v, row=0) -> np.ndarray:
    """RGBA of textures at points, (N, 4); `row` says which texture each point reads."""
    u, v, row = np.broadcast_arrays(u, v, row)
    short = -len(u) % LANES
    u, v = (np.pad(np.asarray(x, np.float32), (0, short)) for x in (u, v))
    row = np.pad(np.asarray(row, np.int32), (0, short))
    rows, held = pack_textures(textures, images)
    decode, out = decode_table(), np.zeros((4, len(u)), np.float32)
    read_into(*(x.ctypes.data for x in (rows, decode, row, u, v, out)), len(u))
    assert held
    return out.T[: len(u) - short]


def wrapped(i: int, size: int, mode: str) -> int | None:
    """The texel an index means by UsdUVTexture's words."""
    if mode == "clamp":
        return min(max(i, 0), size - 1)
    if mode == "mirror":
        i %= 2 * size
        return i if i < size else 2 * size - 1 - i
    if mode == "black":
        return i if 0 <= i < size else None
    return i % size


def plain_reading(image: np.ndarray, u: float, v: float, modes: tuple[str, str]) -> np.ndarray:
    """Bilinear between texel centres, v from the bottom."""
    height, width = image.shape[:2]
    s, t = u * width - 0.5, (1 - v) * height - 0.5
    x, y = math.floor(s), math.floor(t)
    total = np.zeros(4)
    for dx, wx in ((0, 1 - (s - x)), (1, s - x)):
        for dy, wy in ((0, 1 - (t - y)), (1, t - y)):
            i, j = wrapped(x + dx, width, modes[0]), wrapped(y + dy, height, modes[1])
            if i is not None and j is not None:
                total += wx * wy * image[j, i]
    return total


WRAPS = ["repeat", "clamp", "mirror", "black", "useMetadata"]


@settings(max_examples=120, deadline=None)
@given(
    st.sampled_from(WRAPS), st.sampled_from(WRAPS), st.integers(1, 5), st.integers(1, 5),
    st.lists(st.tuples(st.floats(-3, 3, width=32), st.floats(-3, 3, width=32)), min_size=1, max_size=20),
)  # fmt: skip
def test_any_wrap_and_size_is_read_as_the_specification_says(wrap_s, wrap_t, width, height, points) -> None:
    image = np.random.default_rng(width * 7 + height).random((height, width, 4)).astype(np.float32)
    u, v = np.array(points, np.float32).T
    got = read([Texture("a", wrap_s=wrap_s, wrap_t=wrap_t)], {"a": image}, u, v)
    expected = [plain_reading(image, a, b, (wrap_s, wrap_t)) for a, b in zip(u, v, strict=True)]
    np.testing.assert_allclose(got, expected, atol=3e-5)


def test_each_lane_may_read_a_texture_of_its_own() -> None:
    rng = np.random.default_rng(2)
    images = {
        "float": rng.random((4, 8, 3)).astype(np.float32),
        "bytes": (rng.random((16, 2, 4)) * 255).astype(np.uint8),
        "grey": (rng.random((3, 3, 1)) * 255).astype(np.uint8),
    }
    textures = [Texture(name) for name in images]
    u, v = rng.random((2, 200))
    row = rng.integers(0, 3, 200)
    together = read(textures, images, u, v, row)
    for i, texture in enumerate(textures):
        alone = read([texture], images, u, v)
        np.testing.assert_array_equal(together[row == i], alone[row == i])


@pytest.mark.parametrize(
    ("space", "channels", "curved"),
    [
        ("auto", 1, False),
        ("auto", 2, False),
        ("auto", 3, True),
        ("auto", 4, True),
        ("raw", 3, False),
        ("sRGB", 1, True),
    ],
)
def test_eight_bits_are_decoded_by_their_colour_space(space: str, channels: int, curved: bool) -> None:
    values = np.array([0, 1, 10, 11, 50, 128, 200, 255], np.uint8)
    image = np.repeat(values.reshape(1, -1, 1), channels, 2)
    got = read([Texture("a", colour_space=space)], {"a": image}, (np.arange(8) + 0.5) / 8, 0.5)
    plain = values / 255
    expected = srgb_to_linear(plain) if curved else plain
    np.testing.assert_allclose(got[:, :3], np.repeat(expected[:, None], 3, 1), atol=1e-6)
    # Alpha is never curved, and is one where the image has none.
    np.testing.assert_allclose(got[:, 3], plain if channels in (2, 4) else 1.0, atol=1e-6)
    assert srgb_to_linear(np.array([0.5]))[0] == pytest.approx(0.21404114)  # IEC 61966-2-1


def test_scale_bias_fallback_and_transform() -> None:
    image = np.full((1, 1, 3), 0.5, np.float32)
    textures = [
        Texture("a", scale=(2, 1, 0.5, 1), bias=(0.1, 0, -0.05, 0), wrap_s="clamp", wrap_t="clamp"),
        Texture("gone", scale=(9,) * 4, bias=(9,) * 4, fallback=(0.2, 0.3, 0.4, 0.6)),
        Texture("gone", fallback=(0.7, 0.7, 0.7, 1.0)),
    ]
    got = read(textures, {"a": image, "gone": None}, 0.3, 0.8, [0, 1, 2])
    np.testing.assert_allclose(got[0], (1.1, 0.5, 0.2, 1.0), rtol=1e-6)
    np.testing.assert_allclose(got[1], (0.2, 0.3, 0.4, 0.6), rtol=1e-6)  # as it is given
    np.testing.assert_allclose(got[2], (0.7, 0.7, 0.7, 1.0), rtol=1e-6)
    ramp = np.linspace(0, 1, 64, dtype=np.float32).reshape(1, -1, 1)
    turned = Texture(
        "ramp", wrap_s="clamp", wrap_t="clamp", transform=(0.0, 0.5, 0.25, 1.0, 0.0, 0.0)
    )  # s' = v/2 + ¼
    v = np.array([0.1, 0.5, 0.9])
    got = read([turned], {"ramp": ramp}, 0.33, v)
    np.testing.assert_allclose(got[:, 0], ((v / 2 + 0.25) * 64 - 0.5) / 63, rtol=1e-5)


def test_coordinates_that_are_no_numbers_read_something_finite() -> None:
    image = np.random.default_rng(1).random((4, 4, 3)).astype(np.float32)
    u = np.array([np.nan, np.inf, -np.inf, 1e30, -1e12])
    assert np.isfinite(read([Texture("a")], {"a": image}, u, u[::-1])).all()


# --- Materials ---------------------------------------------------------------------------------

ROOM = aligned_words(MATERIAL_ROOM)
FIELDS = ("diffuse", "f0", "f90", "alpha", "coat", "coat_alpha", "opacity", "presence", "emission")


@njit
def surface_into(scene, which, room, out):
    half = all_lanes(0.5)
    surface = surface_at(scene, load(int32s(which), 0), sharp(half, half), room)
    floats = float32s(out)
    for i in range(3):
        store(floats, i * LANES, surface.diffuse[i])
        store(floats, (3 + i) * LANES, surface.f0[i])
        store(floats, (12 + i) * LANES, surface.emission[i])
    store(floats, 6 * LANES, surface.f90)
    store(floats, 7 * LANES, surface.alpha)
    store(floats, 8 * LANES, surface.coat)
    store(floats, 9 * LANES, surface.coat_alpha)
    store(floats, 10 * LANES, surface.opacity)
    store(floats, 11 * LANES, surface.presence)
    store(floats, 15 * LANES, see_through(surface, scene.tables, all_lanes(0.8), half < 0.0)[1])


def surfaces(*looks: dict, images=None) -> list[dict]:
    """What materials are at (½, ½), all read together by different lanes."""
    materials = [Material(f"/M{i}", look) for i, look in enumerate(looks)]
    textures = [t.texture for m in materials for t in m.inputs.values() if isinstance(t, TextureInput)]
    textures = list(dict.fromkeys(textures))
    rows, held = pack_textures(textures, images or {})
    scene = Pinned(
        SCENE, materials=pack_materials(materials, textures), textures=rows, tables=albedo_tables(),
        decode=decode_table(),
    )  # fmt: skip
    which, out = np.arange(LANES, dtype=np.int32) % len(looks), np.zeros((16, LANES), np.float32)
    surface_into(scene.record, which.ctypes.data, ROOM.ctypes.data, out.ctypes.data)
    assert held
    return [
        {"diffuse": o[0:3], "f0": o[3:6], "f90": o[6], "alpha": o[7], "coat": o[8], "coat_alpha": o[9],
         "opacity": o[10], "presence": o[11], "emission": o[12:15], "through": o[15]}
        for o in out.T[: len(looks)]
    ]  # fmt: skip


def test_the_two_workflows() -> None:
    plastic, metal, half, specular, fallback = surfaces(
        {"diffuseColor": (0.2, 0.4, 0.6), "ior": (1.5,), "roughness": (0.4,)},
        {"diffuseColor": (0.9, 0.6, 0.2), "metallic": (1.0,)},
        {"diffuseColor": (0.9, 0.6, 0.2), "metallic": (0.5,), "ior": (2.0,)},
        {"useSpecularWorkflow": (1.0,), "diffuseColor": (0.3,) * 3, "specularColor": (0.1, 0.2, 0.3)},
        {},
    )
    np.testing.assert_allclose(plastic["diffuse"], (0.2, 0.4, 0.6), rtol=1e-6)
    np.testing.assert_allclose(plastic["f0"], 0.04, rtol=1e-6)  # ((1.5 − 1) / (1.5 + 1))²
    assert plastic["alpha"] == pytest.approx(0.16)  # roughness squared
    np.testing.assert_allclose(metal["diffuse"], 0)
    np.testing.assert_allclose(metal["f0"], (0.9, 0.6, 0.2), rtol=1e-6)
    np.testing.assert_allclose(half["f0"], np.array((0.9, 0.6, 0.2)) / 2 + (1 / 9) / 2, rtol=1e-6)
    np.testing.assert_allclose(half["diffuse"], np.array((0.9, 0.6, 0.2)) / 2, rtol=1e-6)
    np.testing.assert_allclose(specular["diffuse"], 0.3, rtol=1e-6)
    np.testing.assert_allclose(specular["f0"], (0.1, 0.2, 0.3), rtol=1e-6)
    np.testing.assert_allclose(fallback["diffuse"], 0.18, rtol=1e-6)  # the schema's own
    assert fallback["coat"] == 0
    assert fallback["f90"] == 1


def test_opacity_threshold_and_presence() -> None:
    glass, cut, kept, faded, solid, black = surfaces(
        {"opacity": (0.0,), "diffuseColor": (0.0,) * 3},
        {"opacity": (0.3,), "opacityThreshold": (0.5,)},
        {"opacity": (0.7,), "opacityThreshold": (0.5,)},
        {"opacity": (0.25,), "opacityMode": (1.0,)},
        {"diffuseColor": (2.0, -1.0, 0.5)},
        {
            "useSpecularWorkflow": (1.0,),
            "specularColor": (0.0,) * 3,
            "opacity": (0.4,),
            "diffuseColor": (1.0,) * 3,
        },
    )
    assert 0.9 < glass["through"] < 0.97  # what the two interfaces of a thin pane leave
    assert glass["opacity"] == 0
    assert cut["presence"] == 0
    assert cut["through"] == 1
    assert kept["presence"] == kept["opacity"] == 1
    assert kept["through"] == 0
    assert faded["through"] == pytest.approx(0.75)
    np.testing.assert_allclose(solid["diffuse"], (1.0, 0.0, 0.5))  # kept within what a surface can be
    assert solid["through"] == 0
    assert black["through"] == pytest.approx(0.6)  # no interface takes anything
    np.testing.assert_allclose(black["diffuse"], 0.4, rtol=1e-6)
    assert [is_clear(Material("/M", look)) for look in ({}, {"opacity": (0.3,)}, {"opacity": (1.0,)})] == [
        0,
        1,
        0,
    ]


def test_textured_inputs_take_their_channel_and_leave_others_alone() -> None:
    image = np.tile(np.array([0.1, 0.2, 0.3, 0.4], np.float32), (2, 2, 1))
    given = {c: TextureInput(Texture("a"), c) for c in ("rgb", "r", "g", "b", "a")}
    coloured, numbers, plain = surfaces(
        {"diffuseColor": given["rgb"], "emissiveColor": given["rgb"]},
        {"metallic": given["r"], "roughness": given["g"], "clearcoat": given["b"], "opacity": given["a"]},
        {"diffuseColor": (0.5,) * 3, "metallic": (0.25,)},
        images={"a": image},
    )
    np.testing.assert_allclose(coloured["diffuse"], (0.1, 0.2, 0.3), rtol=1e-6)
    np.testing.assert_allclose(coloured["emission"], (0.1, 0.2, 0.3), rtol=1e-6)
    assert coloured["alpha"] == pytest.approx(0.25)
    assert numbers["alpha"] == pytest.approx(0.04)
    assert numbers["coat"] == pytest.approx(0.3)
    assert numbers["opacity"] == pytest.approx(0.4)
    np.testing.assert_allclose(numbers["diffuse"], 0.18 * 0.9 * 0.4, rtol=1e-6)
    np.testing.assert_allclose(plain["diffuse"], 0.5 * 0.75, rtol=1e-6)


def test_second_coordinates_are_as_good_as_first_ones() -> None:
    """Colour, its size, normal map and glow: the same picture whichever of the two sets they go by."""
    rng = np.random.default_rng(3)
    images = {
        "colour": rng.integers(0, 255, (64, 64, 3), np.uint8),
        "bumps": np.stack([rng.uniform(0.2, 0.8, (32, 32))] * 2 + [np.ones((32, 32))], -1).astype(np.float32),
        "glow": rng.uniform(0.0, 2.0, (4, 4, 3)).astype(np.float32),
    }
    floor = plane(4.0)
    wanted = floor.corner_uvs
    other = wanted[..., ::-1] * 7.0 + 0.3  # mirrored, and as if looked at from closer
    view, lamp = camera((0, 2, 6)), Light("/Lamp", "sphere", moved(1, 3, 0), (30.0,) * 3, (0.4, 0.4))

    def picture(second: bool) -> np.ndarray:
        def read(name: str, **how) -> TextureInput:
            return TextureInput(Texture(name, wrap_s="repeat", wrap_t="repeat", second=second, **how))

        bumps = read("bumps", colour_space="raw", scale=(2.0,) * 4, bias=(-1.0,) * 4)
        look = Material(
            "/M", {"diffuseColor": read("colour"), "normal": bumps, "emissiveColor": read("glow")}
        )
        shape = replace(floor, corner_uvs=other, more_uvs=wanted) if second else floor
        snapshot = Snapshot((Item(shape, np.eye(4), (0,)),), (look,), (lamp,), view)
        film = Tracer(2).trace(snapshot, images, Sensor(view, 48, 32), TraceSettings(samples=16))
        return film.passes["beauty"]

    np.testing.assert_allclose(picture(True), picture(False), rtol=1e-4, atol=1e-5)


@pytest.mark.parametrize("size", [(64, 64), (256, 64)], ids=["square", "long"])
@pytest.mark.parametrize("stretch", [(1.0, 1.0), (3.0, 1.3), (6.0, 0.7), (0.5, 4.0)])
def test_a_texture_that_is_stretched_and_turned_is_not_blurred(size, stretch) -> None:
    # A checkered plane from above, against the bilinear image through the pixel filter by the sum.
    width, height = size
    image = ((np.indices((height, width)) // 8).sum(0) % 2).astype(np.float32)
    c, s = np.cos(np.radians(30.0)), np.sin(np.radians(30.0))
    turn = (c * stretch[0], -s * stretch[1], 0.17, s * stretch[0], c * stretch[1], 0.31)
    texture = Texture("i", colour_space="raw", wrap_s="repeat", wrap_t="repeat", transform=turn)
    look = Material("/M", {**MATT, "diffuseColor": (0.0,) * 3, "emissiveColor": TextureInput(texture)})
    view = camera((0, 5, 0), (0, 0, 0), aperture=(2.0, 2.0), orthographic=True)
    images = {"i": np.repeat(image[..., None], 3, -1)}
    seen = trace([plane(2.0)], [], view, (40, 40), 512, look, images=images).passes["beauty"][4:-4, 4:-4, 0]

    fine = (np.arange(40 * 16) + 0.5) / (40 * 16) - 0.5
    u, v = 0.5 + 0.5 * fine[None, :], 0.5 - 0.5 * fine[:, None]
    x = (turn[0] * u + turn[1] * v + turn[2]) * width - 0.5
    y = (1.0 - (turn[3] * u + turn[4] * v + turn[5])) * height - 0.5
    i, j = np.floor(x).astype(int), np.floor(y).astype(int)
    values = sum(
        image[(j + dj) % height, (i + di) % width] * abs(1 - di - (x - i)) * abs(1 - dj - (y - j))
        for di in (0, 1)
        for dj in (0, 1)
    )
    t = (np.arange(-24, 24) + 0.5) / 24 * np.pi  # Blackman and Harris, one and a half pixels each way
    kernel = 0.35875 + 0.48829 * np.cos(t) + 0.14128 * np.cos(2 * t) + 0.01168 * np.cos(3 * t)
    for axis in (0, 1):
        values = np.apply_along_axis(np.convolve, axis, values, kernel / kernel.sum(), "valid")
    first = 4 * 16 + 8 - 24  # the middle of the fifth pixel
    truth = values[first : first + 512 : 16, first : first + 512 : 16]
    assert np.abs(seen - truth).max() < 0.03
