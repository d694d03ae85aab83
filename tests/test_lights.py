"""Lamps of every kind against numbers worked out by hand, and what they reach."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from pxr import Usd, UsdGeom, UsdLux

from bench import snapshot_of
from grandlattice.scene_records import Item, Light, Material, Shaping, Texture, TextureInput
from shapes import MATT, camera, dome, geometry, moved, plane, sphere, trace


def matt(albedo: float = 0.5) -> Material:
    return Material("/Matt", {**MATT, "diffuseColor": (albedo,) * 3})


def lit(lights, at=(0.0, 0.0, 0.0), samples=2048, items=None, material=None, images=None, **how) -> float:
    """Radiance of the plane y = 0 at a point, seen from the side; a half of E/π where it is matt."""
    eye = (at[0] + 3.0, 2.0, at[2] + 3.0)
    view = camera(eye, at, (0.02, 0.02), 1.0)
    film = trace(
        items or [plane()], lights, view, (8, 8), samples, material or matt(), show_background=False,
        images=images, **how,
    )  # fmt: skip
    return float(film.passes["beauty"][..., 0].mean())


def square(half: float, y: float) -> object:
    """A horizontal square facing down."""
    corners = [(-half, y, -half), (half, y, -half), (half, y, half), (-half, y, half)]
    return geometry(corners, [(0, 1, 2), (0, 2, 3)])


def test_a_long_tube_over_a_plane() -> None:
    # An endless tube of radius r at height h fills, in each plane across it, an arc of half angle a
    # with sin a = r/h about the normal: E = L ∫∫ cos θ dω = 2 L ∫ cos²φ dφ over that arc of the
    # cylinder's cross cut, which for a strip of directions is E = π L r/h.
    r, h, radiance = 0.1, 1.0, 4.0
    tube = Light("/T", "cylinder", moved(y=h), (radiance,) * 3, (r, 400.0))
    assert lit([tube]) == pytest.approx(0.5 * radiance * r / h, rel=0.01)


def test_a_short_tube_sends_what_a_ball_of_its_size_sends_far_away() -> None:
    # From far across, a tube of length l and radius r is a rectangle 2 r × l: E = L 2 r l / d².
    r, length, d = 0.2, 0.5, 40.0
    tube = Light("/T", "cylinder", moved(y=d), (1000.0,) * 3, (r, length))
    assert lit([tube]) == pytest.approx(0.5 / np.pi * 1000 * 2 * r * length / d**2, rel=0.01)


def test_a_surface_that_glows_lights_as_a_lamp_of_its_shape() -> None:
    # The rect of the closed form, as a mesh: aimed at and met, weighted, it must send the same.
    glow = Material("/Glow", {**MATT, "diffuseColor": (0.0,) * 3, "emissiveColor": (5.0,) * 3})
    lamp = Light("/R", "rect", moved(y=1.5, turn_x=-90), (5.0,) * 3, (1.0, 1.0))
    expected = lit([lamp])
    items = [Item(plane(), np.eye(4), (0,)), Item(square(0.5, 1.5), np.eye(4), (1,), seen=False)]
    assert lit([], items=items, material=(matt(), glow)) == pytest.approx(expected, rel=0.01)
    # With two hundred times fewer samples than chance would need: 1 sample finds it by aiming.
    noisy = lit([], items=items, material=(matt(), glow), samples=16)
    assert noisy == pytest.approx(expected, rel=0.05)
    # Glossy surfaces find it by following: both ways together are still the same lamp.
    glossy = Material("/G", {"diffuseColor": (0.0,) * 3, "metallic": (1.0,), "roughness": (0.3,)})
    polished = lit([lamp], material=glossy, samples=4096)
    by_mesh = lit([], items=items, material=(glossy, glow), samples=4096)
    assert by_mesh == pytest.approx(polished, rel=0.03)


def test_a_picture_that_glows_is_aimed_at_where_it_is() -> None:
    # Half of the mesh is black, the other glows twice as bright: from far, the mean counts.
    image = np.zeros((8, 8, 3), np.float32)
    image[:, :4] = 10.0
    glow = Material("/Glow", {**MATT, "emissiveColor": _texture("glow")})
    uvs = np.array([[(0, 0), (1, 0), (1, 1)], [(0, 0), (1, 1), (0, 1)]], float)
    corners = [(-0.1, 8, -0.1), (0.1, 8, -0.1), (0.1, 8, 0.1), (-0.1, 8, 0.1)]
    shape = geometry(corners, [(0, 1, 2), (0, 2, 3)], uvs=uvs)
    items = [Item(plane(), np.eye(4), (0,)), Item(shape, np.eye(4), (1,), seen=False)]
    found = lit([], items=items, material=(matt(), glow), images={"glow": image})
    # E = L A / d², with L = 5 on average.
    assert found == pytest.approx(0.5 / np.pi * 5.0 * 0.04 / 64.0, rel=0.02)


def _texture(file: str) -> TextureInput:
    return TextureInput(Texture(file, wrap_s="clamp", wrap_t="clamp"))


def test_a_cone_has_its_edge_and_focus_its_power() -> None:
    # A small ball at height h with a cone of 30°: its edge is at r = h tan 30° on the floor.
    h, edge = 2.0, np.tan(np.radians(30.0)) * 2.0
    ball = (0.02, 0.02)
    cone = Light("/S", "sphere", moved(y=h, turn_x=-90), (1e4,) * 3, ball, shaping=Shaping(0.0, 30.0, 30.0))
    bare = Light("/S", "sphere", moved(y=h, turn_x=-90), (1e4,) * 3, ball)
    for x, share in ((0.0, 1.0), (edge - 0.2, 1.0), (edge + 0.2, 0.0)):
        at = (x, 0.0, 0.0)
        assert lit([cone], at, 256) == pytest.approx(share * lit([bare], at, 256), rel=0.02, abs=1e-6)
    # Softness: half-way between where it begins and the cone a smooth step is a half.
    soft = Light("/S", "sphere", moved(y=h, turn_x=-90), (1e4,) * 3, ball, shaping=Shaping(0.0, 40.0, 20.0))
    at = (h * np.tan(np.radians(30.0)), 0.0, 0.0)
    assert lit([soft], at, 256) == pytest.approx(0.5 * lit([bare], at, 256), rel=0.03)
    # Focus 4 at 45°: cos⁴ 45° = 1/4.
    focused = Light("/S", "sphere", moved(y=h, turn_x=-90), (1e4,) * 3, ball, shaping=Shaping(4.0))
    at = (h, 0.0, 0.0)
    assert lit([focused], at, 256) == pytest.approx(0.25 * lit([bare], at, 256), rel=0.02)


def test_the_picture_of_a_rect_is_seen_the_right_way_round() -> None:
    # A mirror on the floor shows the lamp above it: left half red, right half green, top bright,
    # as one sees it who stands where it shines and looks up with its own up ahead.
    image = np.zeros((16, 16, 3), np.float32)
    image[:8, :8], image[:8, 8:], image[8:, :8], image[8:, 8:] = (8, 0, 0), (0, 8, 0), (1, 0, 0), (0, 1, 0)
    lamp = Light("/R", "rect", moved(z=4.0), (1.0,) * 3, (2.0, 2.0), Texture("lamp"))
    mirror = Material("/Mirror", {"diffuseColor": (1.0,) * 3, "metallic": (1.0,), "roughness": (0.0,)})
    wall = geometry([(-9, -9, 0), (9, -9, 0), (9, 9, 0), (-9, 9, 0)], [(0, 1, 2), (0, 2, 3)])
    film = trace([wall], [lamp], camera((0, 0, 3.9)), (32, 32), 16, mirror, images={"lamp": image})
    picture = film.passes["beauty"]
    # It shines along −Z at the mirror; in the mirror left and right are exchanged.
    quarter = {name: picture[y, x, :3] for name, y, x in (("tl", 13, 13), ("tr", 13, 19), ("br", 19, 19))}
    assert quarter["tl"][1] > 4.0 > 0.5 > quarter["tl"][0]
    assert quarter["tr"][0] > 4.0 > 0.5 > quarter["tr"][1]
    assert 2.0 > quarter["br"][0] > 0.5


def test_diffuse_and_specular_of_a_light_are_two_dials() -> None:
    plastic = Material("/P", {"diffuseColor": (0.3,) * 3, "roughness": (0.3,)})

    def shining(**dials: float) -> float:
        lamp = Light("/S", "sphere", moved(x=-3.0, y=2.0, z=-3.0), (50.0,) * 3, (0.4, 0.4), **dials)
        return lit([lamp], material=plastic, samples=4096)

    both, matt_only, shine = shining(), shining(specular=0.0), shining(diffuse=0.0)
    assert matt_only > 0.0
    assert shine > 0.0
    assert matt_only + shine == pytest.approx(both, rel=0.01)
    assert shining(diffuse=2.0, specular=0.5) == pytest.approx(2 * matt_only + 0.5 * shine, rel=0.01)


def test_a_light_falls_and_casts_shadows_only_on_what_it_is_linked_to() -> None:
    lamp = {"radiance": (60.0,) * 3, "size": (0.3, 0.3)}
    floor, blocker = Item(plane(), np.eye(4), (0,)), Item(square(0.7, 1.0), np.eye(4), (0,), seen=False)
    items = [floor, blocker]

    def seen(**links) -> float:
        return lit([Light("/S", "sphere", moved(y=2.0), **lamp, **links)], items=items, samples=1024)

    none, both = np.array([False, False]), np.array([True, True])
    free = lit([Light("/S", "sphere", moved(y=2.0), **lamp)], samples=1024)
    only_floor, only_blocker = np.array([True, False]), np.array([False, True])
    assert seen() < 0.02 * free
    assert seen(reaches=both, shadowed_by=both) == pytest.approx(seen(), abs=1e-4)
    assert seen(shadowed_by=none) > free  # what the blocker's under side gets from the floor comes back
    assert seen(shadowed_by=only_floor) == pytest.approx(seen(shadowed_by=none), rel=0.02)
    assert seen(shadowed_by=only_blocker) < 0.05 * free
    assert seen(reaches=only_blocker, shadowed_by=none) < 0.2 * free
    # A mirror shows a light only where the light reaches it.
    glossy = Material("/G", {"diffuseColor": (1.0,) * 3, "metallic": (1.0,), "roughness": (0.2,)})
    big = {"radiance": (5.0,) * 3, "size": (1.5, 1.5)}
    for reaches, dark in ((None, False), (np.array([False]), True)):
        light = Light("/S", "sphere", moved(x=-3.0, y=2.0, z=-3.0), **big, reaches=reaches)
        assert (lit([light], material=glossy, items=[floor]) < 1e-6) == dark


def test_links_shaping_and_sizes_come_from_usd() -> None:
    stage = Usd.Stage.CreateInMemory()
    for name in ("Floor", "Ball", "Box"):
        UsdGeom.Cube.Define(stage, f"/Room/{name}")
    key = UsdLux.SphereLight.Define(stage, "/Key")
    link = UsdLux.LightAPI(key).GetLightLinkCollectionAPI()
    link.CreateExcludesRel().SetTargets(["/Room/Ball"])
    shadow = UsdLux.LightAPI(key).GetShadowLinkCollectionAPI()
    shadow.CreateIncludeRootAttr(False)
    shadow.CreateIncludesRel().SetTargets(["/Room/Box"])
    shaping = UsdLux.ShapingAPI.Apply(key.GetPrim())
    shaping.CreateShapingConeAngleAttr(40.0)
    shaping.CreateShapingConeSoftnessAttr(0.25)
    shaping.CreateShapingFocusAttr(2.0)
    tube = UsdLux.CylinderLight.Define(stage, "/Tube")
    tube.CreateLengthAttr(3.0)
    tube.CreateRadiusAttr(0.1)
    tube.CreateNormalizeAttr(True)
    UsdLux.LightAPI(tube).CreateDiffuseAttr(0.5)
    found = snapshot_of(stage)
    lights = {light.path: light for light in found.lights}
    names = [item.path[6:] for item in found.items]
    assert dict(zip(names, lights["/Key"].reaches, strict=True)) == {
        "Floor": True,
        "Ball": False,
        "Box": True,
    }
    assert dict(zip(names, lights["/Key"].shadowed_by, strict=True)) == {
        "Floor": False, "Ball": False, "Box": True,
    }  # fmt: skip
    assert lights["/Key"].shaping == Shaping(2.0, 40.0, 30.0)
    assert lights["/Tube"].reaches is None
    assert lights["/Tube"].size == pytest.approx((0.1, 3.0))
    assert lights["/Tube"].diffuse == 0.5
    # Normalised: 1 over its area 2π r l.
    assert lights["/Tube"].radiance[0] == pytest.approx(1.0 / (2 * np.pi * 0.1 * 3.0), rel=1e-5)


def test_many_lights_are_drawn_by_what_they_send_and_add_up() -> None:
    # A field of small lamps: drawn, a few at a time, they send what they send together.
    rng = np.random.default_rng(8)
    places = rng.uniform(-6, 6, (60, 2))
    lamps = [Light("/L", "sphere", moved(x, 0.8, z), (30.0,) * 3, (0.05, 0.05)) for x, z in places]
    h, r = 0.8, 0.05
    squared = (places**2).sum(1) + h * h
    # A small ball at distance d, cos θ = h/d: E = π L (r/d)² h/d.
    expected = 0.5 / np.pi * (np.pi * 30.0 * r * r / squared * h / np.sqrt(squared)).sum()
    assert lit(lamps, samples=4096) == pytest.approx(expected, rel=0.02)
    film = trace([plane()], lamps, camera((0, 5, 5)), (16, 16), 64, matt(), show_background=False)
    assert film.rays < 16 * 16 * 64 * 8  # not a ray for every lamp
    assert np.isfinite(film.passes["beauty"]).all()


def test_a_bright_sky_is_not_lost_among_many_faint_lamps() -> None:
    # How bright a sky is stands in its picture: L (1/π) ∫ cos θ sin θ over the four texels of its sun.
    places = np.random.default_rng(4).uniform(-4, 4, (40, 2))
    lamps = [Light("/L", "sphere", moved(x, 1.5, z), (5.0,) * 3, (0.3, 0.3), seen=False) for x, z in places]
    sky = Light("/Sky", "dome", np.eye(4), (1.0,) * 3, texture=Texture("sky"))
    pixels = np.zeros((64, 128, 3), np.float32)
    pixels[14:16, 40:42] = 4e5
    theta = (np.arange(14, 16) + 0.5) / 64 * np.pi
    expected = 0.5 / np.pi * (4e5 * np.cos(theta) * np.sin(theta)).sum() * 2 * (np.pi / 64) ** 2
    film = trace(
        [plane()], [*lamps, sky], camera((0, 5, 5)), (24, 24), 16, matt(), images={"sky": pixels},
        show_background=False,
    )  # fmt: skip
    seen = film.passes["beauty"][..., 0]
    assert seen.mean() == pytest.approx(expected, rel=0.02)
    assert seen.std() < 0.15 * seen.mean()


def test_a_glowing_ball_in_a_furnace_of_its_own_light() -> None:
    # Inside a closed box whose walls glow with L and reflect ρ, radiance is L / (1 − ρ) everywhere.
    wall = Material("/W", {**MATT, "diffuseColor": (0.5,) * 3, "emissiveColor": (1.0,) * 3})
    ball = sphere(32)
    film = trace([Item(ball, np.diag((9.0, 9.0, 9.0, 1.0)), (0,))], [], camera((0, 0, 3)), (8, 8), 256, wall,
                 bounces=40)  # fmt: skip
    assert film.passes["beauty"][..., 0].mean() == pytest.approx(2.0, rel=0.005)
    assert trace([ball], [dome()], camera(), (4, 4), 4).passes["beauty"].max() > 0.0


_WALL = geometry([(-9, -9, 0), (9, -9, 0), (9, 9, 0), (-9, 9, 0)], [(0, 1, 2), (0, 2, 3)])
_SHAPES = {"rect": (0.4, 0.4), "disk": (0.2, 0.2), "sphere": (0.2, 0.2), "cylinder": (0.2, 0.6)}
_EVERYTHING = ("beauty", "emission", "light.L", "depth", "normal", "position", "coverage", "object-id")
_MIRROR = Material("/Mirror", {"diffuseColor": (1.0,) * 3, "metallic": (1.0,), "roughness": (0.0,)})
_GLOWING = Material(
    "/Glowing", {**MATT, "diffuseColor": (0.0,) * 3, "emissiveColor": (3.0, 0.0, 0.0), "roughness": (1.0,)}
)
_FRONT = camera((0, 0, 5), aperture=(0.8, 0.8), focal_length=5.0)


def _lamp(kind: str, z: float = 1.0, turn: float = 180.0, **other: object) -> Light:
    return Light("/L", kind, moved(z=z, turn_x=turn), (7.0, 5.0, 0.0), _SHAPES[kind], **other)


@pytest.mark.parametrize("kind", _SHAPES)
def test_a_light_is_seen_by_the_camera_and_only_light_tells_of_it(kind: str) -> None:
    def shot(**other: object) -> dict[str, np.ndarray]:
        wall = Item(_WALL, np.eye(4), (0,))
        return trace([wall], [_lamp(kind, **other)], _FRONT, (33, 33), 16, _GLOWING, _EVERYTHING).passes

    shown, hidden, held_out, turned = shot(), shot(seen=False), shot(matte=True), shot(turn=0.0)
    for name in ("beauty", "emission", "light.L"):  # its radiance, nothing of the glowing wall behind
        assert shown[name][16, 16, :3] == pytest.approx((7.0, 5.0, 0.0), rel=1e-3)
    assert hidden["beauty"][16, 16] == pytest.approx((3.0, 0.0, 0.0, 1.0), rel=1e-3)
    assert held_out["beauty"][16, 16] == pytest.approx(np.zeros(4))
    assert np.array_equal(shown["beauty"][0, 0], hidden["beauty"][0, 0])
    assert shown["beauty"][..., 3] == pytest.approx(1.0)
    for name in ("depth", "normal", "position", "coverage", "object-id"):
        assert np.array_equal(shown[name], hidden[name])
    if kind in ("rect", "disk"):  # what shines to one side is not there from behind
        assert np.array_equal(turned["beauty"], hidden["beauty"])


def test_a_light_before_nothing_has_alpha_and_hides_the_sky() -> None:
    def shot(*lights: Light, **settings: object) -> np.ndarray:
        away = Item(_WALL, moved(z=90.0), (0,))
        return trace([away], lights, _FRONT, (33, 33), 16, **settings).passes["beauty"]

    alone, before = shot(_lamp("disk")), shot(_lamp("disk"), dome())
    assert alone[16, 16] == pytest.approx((7.0, 5.0, 0.0, 1.0), rel=1e-3)
    assert alone[0, 0] == pytest.approx(np.zeros(4))
    assert before[16, 16] == pytest.approx((7.0, 5.0, 0.0, 1.0), rel=1e-3)
    assert before[0, 0] == pytest.approx(np.ones(4))
    radius = 0.2 * 33 * 5.0 / 0.8 / 4.0  # pixels: it is 4 away
    assert alone[..., 3].sum() == pytest.approx(np.pi * radius**2, rel=0.02)
    sun = Light("/Sun", "distant", moved(turn_x=180.0), (50.0,) * 3, (2.0, 0.0))
    assert shot(sun)[16, 16] == pytest.approx((50.0, 50.0, 50.0, 1.0))
    assert shot(sun, show_background=False)[16, 16] == pytest.approx(np.zeros(4))
    point = replace(sun, size=(0.0, 0.0))
    assert shot(point).max() == 0.0


def test_a_light_hides_in_mirrors_and_glass_as_it_does_before_the_camera() -> None:
    # The camera looks into a mirror; behind the camera a wall glows red, and before it hangs the lamp.
    def seen_in(first: Item, *materials: Material, z: float, turn: float, back: float) -> np.ndarray:
        wall = Item(_WALL, moved(z=back, turn_x=180.0 if back > 0.0 else 0.0), (1,))
        lamp = _lamp("disk", z, turn)
        return trace([first, wall], [lamp], _FRONT, (33, 33), 256, (*materials, _GLOWING)).passes["beauty"]

    mirror = Item(_WALL, np.eye(4), (0,))
    picture = seen_in(mirror, _MIRROR, z=8.0, turn=0.0, back=9.0)
    assert picture[16, 16, :3] == pytest.approx((7.0, 5.0, 0.0), rel=0.02)
    assert picture[0, 0, :3] == pytest.approx((3.0, 0.0, 0.0), rel=0.02, abs=1e-4)
    clear = Material("/Glass", {"opacity": (0.0,), "roughness": (0.0,), "ior": (1.0001,)})
    sheet = Item(_WALL, np.eye(4), (0,), sheet=True)
    for pane in (sheet, Item(sphere(), np.eye(4), (0,))):
        picture = seen_in(pane, clear, z=-3.0, turn=180.0, back=-5.0)
        assert picture[16, 16] == pytest.approx((7.0, 5.0, 0.0, 1.0), rel=0.02)
        assert picture[16, 1] == pytest.approx((3.0, 0.0, 0.0, 1.0), rel=0.02)


def test_light_between_surfaces_passes_through_a_lamp() -> None:
    # A large disk close over a plane, and a far sun above it: what the plane gets of each adds up.
    sun = Light("/Sun", "sphere", moved(y=50.0), (1e4,) * 3, (0.5, 0.5))
    lamp = Light("/L", "disk", moved(y=2.0, turn_x=-90.0), (1.0,) * 3, (1.0, 1.0), seen=False)
    both = lit([sun, lamp], samples=4096)
    assert both == pytest.approx(lit([sun], samples=4096) + lit([lamp], samples=4096), rel=0.01)
    assert lit([sun, replace(lamp, seen=True)], samples=4096) == pytest.approx(both, rel=1e-6)
