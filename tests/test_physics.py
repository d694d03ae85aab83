"""The tracer against numbers worked out by hand; each test derives the number it expects."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from grandlattice.scene_records import Item, Light, Material, Snapshot, Texture, TextureInput
from grandlattice.tracer import Sensor, TraceControl, Tracer, TraceSettings
from grandlattice.tracer.lens import make_lens
from shapes import MATT, camera, dome, geometry, looking, moved, plane, sphere, trace

BALL = sphere()


def matt(albedo: float) -> Material:
    return Material("/Matt", {**MATT, "diffuseColor": (albedo,) * 3})


@pytest.mark.parametrize("albedo", [1.0, 0.5])
def test_a_matt_ball_in_a_white_furnace_shows_its_albedo_everywhere(albedo: float) -> None:
    # Radiance L from all sides on a diffuse surface of albedo ρ: ρ/π ∫ L cos θ dω = ρ L.
    film = trace([BALL], [dome()], camera(focal_length=1.8), (48, 48), 1024, matt(albedo))
    beauty = film.passes["beauty"]
    y, x = np.mgrid[:48, :48] - 23.5
    # The ball's rim is seen at sin a = 1/5, tan a = 0.2041, that is 0.2041 · 1.8 · 48 pixels.
    inside = np.hypot(x, y) < 0.2041 * 1.8 * 48 - 2.5
    blocks = beauty[:48, :48, 0].reshape(12, 4, 12, 4).mean((1, 3))
    whole = inside.reshape(12, 4, 12, 4).all((1, 3))
    assert whole.sum() > 20
    assert np.abs(blocks[whole] - albedo).max() < 0.005


@pytest.mark.parametrize("roughness", [0.05, 0.35, 1.0])
@pytest.mark.parametrize(
    "look",
    [
        {},
        {"metallic": (1.0,)},
        {"clearcoat": (1.0,), "clearcoatRoughness": (0.3,)},
        {"opacity": (0.2,)},
        {"opacity": (0.0,)},
    ],
    ids=["plastic", "metal", "coated", "milk glass", "glass"],
)
def test_no_lobe_gains_or_loses_light(look: dict, roughness: float) -> None:
    # A white surface in a white furnace is white: what one lobe reflects, those below do not get.
    white = Material("/W", {"diffuseColor": (1.0,) * 3, "roughness": (roughness,), **look})
    film = trace([BALL], [dome()], camera(), (32, 32), 256, white, bounces=64)
    assert film.passes["beauty"][..., 0].mean() == pytest.approx(1.0, abs=0.005)


def _below(light: Light, at=(0.0, 0.0, 0.0), albedo: float = 0.5) -> float:
    """Radiance of a diffuse plane y = 0 at a point, seen from the side past the light."""
    eye = (at[0] + 3.0, 2.0, at[2] + 3.0)
    view = camera(eye, at, (0.02, 0.02), 1.0)
    film = trace([plane()], [light], view, (8, 8), 2048, matt(albedo), show_background=False)
    return float(film.passes["beauty"][..., 0].mean())


def test_disk_light_over_a_plane() -> None:
    # Irradiance under the centre of a disk of radiance L, radius r, at height h: π L r²/(r² + h²).
    r, h, radiance = 0.8, 1.5, 3.0
    light = Light("/D", "disk", moved(y=h, turn_x=-90), (radiance,) * 3, (r, r))
    assert _below(light) == pytest.approx(0.5 * radiance * r**2 / (r**2 + h**2), rel=0.01)


def test_sphere_light_over_a_plane() -> None:
    # A sphere fills a cone of sin a = r/h about the normal: E = π L sin² a.
    r, h, radiance = 0.4, 2.0, 5.0
    light = Light("/S", "sphere", moved(y=h), (radiance,) * 3, (r, r))
    assert _below(light) == pytest.approx(0.5 * radiance * (r / h) ** 2, rel=0.01)


def test_inverse_square() -> None:
    # From the last test: four times the distance to the centre, a sixteenth of the light.
    near = _below(Light("/S", "sphere", moved(y=2.0), (5.0,) * 3, (0.1, 0.1)))
    far = _below(Light("/S", "sphere", moved(y=8.0), (5.0,) * 3, (0.1, 0.1)))
    assert near / far == pytest.approx(16.0, rel=0.01)


def test_distant_light_of_one_lux() -> None:
    # Radiance 1/(π sin²(angle/2)) over its disc is one lux on a surface facing it; at 60° half.
    angle = 2.0
    radiance = 1.0 / (np.pi * np.sin(np.radians(angle / 2)) ** 2)
    facing = Light("/Sun", "distant", moved(turn_x=-90), (radiance,) * 3, (angle, 0))
    slanted = Light("/Sun", "distant", moved(turn_x=-30), (radiance,) * 3, (angle, 0))
    assert _below(facing) == pytest.approx(0.5 / np.pi, rel=0.01)
    assert _below(slanted) == pytest.approx(0.5 * 0.5 / np.pi, rel=0.01)


def test_rect_light_over_a_plane() -> None:
    # Parallel rectangle with one corner above the point, sides a, b at height h (Siegel, Howell):
    # F = (A/√(1+A²) atan(B/√(1+A²)) + B/√(1+B²) atan(A/√(1+B²))) / 2π with A = a/h, B = b/h.
    width, height, h, radiance = 1.6, 1.0, 1.2, 2.0
    a, b = width / 2 / h, height / 2 / h
    quarter = (
        a / np.sqrt(1 + a * a) * np.arctan(b / np.sqrt(1 + a * a))
        + b / np.sqrt(1 + b * b) * np.arctan(a / np.sqrt(1 + b * b))
    ) / (2 * np.pi)
    light = Light("/R", "rect", moved(y=h, turn_x=-90), (radiance,) * 3, (width, height))
    assert _below(light) == pytest.approx(0.5 * radiance * 4 * quarter, rel=0.01)


def test_a_rough_metal_sees_a_light_equally_by_aiming_and_by_following() -> None:
    # The weights of the two ways add up to one, so a big and near light must not be counted twice:
    # inside a closed furnace of two half domes made of a rect light and the sky, nothing changes.
    sky_half = np.ones((64, 128, 3), np.float32)
    sky_half[:, :64] = 0.0
    left = Light("/L", "dome", np.eye(4), (1.0,) * 3, texture=Texture("half"))
    other = np.ones_like(sky_half) - sky_half
    right = Light("/R", "dome", np.eye(4), (1.0,) * 3, texture=Texture("other"))
    metal = Material("/M", {"diffuseColor": (1.0,) * 3, "metallic": (1.0,), "roughness": (0.4,)})
    images = {"half": sky_half, "other": other}
    film = trace([BALL], [left, right], camera(), (24, 24), 512, metal, images=images, bounces=64)
    assert film.passes["beauty"][8:16, 8:16, 0].mean() == pytest.approx(1.0, abs=0.01)


def test_dome_image_lies_the_right_way() -> None:
    # Latitude 0 longitude 0 is +Z and longitude +90° is +X; the left edge is longitude +180°.
    image = np.zeros((16, 32, 3), np.float32)
    image[:, 8:16] = (1, 0, 0)  # u 0.25–0.5 is longitude +90°–0: between +X and +Z
    image[:4] = (0, 1, 0)  # the top quarter is up
    light = Light("/Sky", "dome", np.eye(4), (1.0,) * 3, texture=Texture("sky"))
    for towards, colour in (((1, 0, 1), (1, 0, 0)), ((-1, 0, 1), (0, 0, 0)), ((0.01, 1, 0), (0, 1, 0))):
        view = camera((0, 0, 0), towards, (0.1, 0.1), 1.0)
        film = trace([], [light], view, (4, 4), 4, images={"sky": image})
        assert film.passes["beauty"][2, 2, :3] == pytest.approx(colour, abs=1e-3)


def test_a_sky_whose_upper_half_is_white_lights_walls_half_as_much_as_floors() -> None:
    # Irradiance π on a floor that sees all of the half, π/2 on a wall, which sees half of it.
    sky = np.zeros((32, 64, 3), np.float32)
    sky[:16] = 1.0
    light = Light("/Sky", "dome", np.eye(4), (1.0,) * 3, texture=Texture("sky"))
    how = {"images": {"sky": sky}, "bounces": 1, "show_background": False}
    floor = trace([plane()], [light], camera((0, 5, 0), (0, 0, 0), (0.1, 0.1)), (8, 8), 256, **how)
    wall = Item(plane(1.0), moved(turn_x=90), (0,))
    seen = trace([wall], [light], camera((0, 0, 5), (0, 0, 0), (0.05, 0.05)), (8, 8), 1024, **how)
    assert floor.passes["beauty"][..., 0].mean() == pytest.approx(0.5, rel=0.01)
    assert seen.passes["beauty"][..., 0].mean() == pytest.approx(0.25, rel=0.02)


def test_a_plate_lit_by_its_equal_opposite_has_their_form_factor() -> None:
    # Two parallel unit squares a unit apart exchange F = 0.19982 (Howell, C-11): the lower, of albedo ½,
    # lit by the upper that glows with 1, has the mean radiance ½ F; and its illuminance is π F.
    glowing = Material("/Glow", {**MATT, "diffuseColor": (0.0,) * 3, "emissiveColor": (1.0,) * 3})
    upper = Item(plane(0.5), moved(y=1.0), (1,), seen=False)
    view = camera((0, 5, 0), (0, 0, 0), aperture=(1.0, 1.0), orthographic=True)
    passes = ("beauty", "illuminance")
    film = trace([Item(plane(0.5), np.eye(4), (0,)), upper], [], view, (32, 32), 256, (matt(0.5), glowing),
                 passes=passes, bounces=1)  # fmt: skip
    assert film.passes["beauty"][1:-1, 1:-1, 0].mean() == pytest.approx(0.5 * 0.19982, rel=0.03)
    assert film.passes["illuminance"][1:-1, 1:-1].mean() == pytest.approx(np.pi * 0.19982, rel=0.03)


def test_depth_of_a_tilted_plane_to_its_very_edge() -> None:
    # A plane through the origin with normal n, seen by a pinhole at height 6 over its middle: the
    # ray through film point (x, y, −f) meets it at t = −n·o / n·d, and its depth is f·t.
    tilt, size = np.radians(50), 64
    c, s = np.cos(tilt), np.sin(tilt)
    shape = plane(1.0)
    turned = shape.points @ np.array([[1, 0, 0], [0, c, s], [0, -s, c]])
    view = camera((0, 0, 6), (0, 0, 0), (1.0, 1.0), 2.0)
    film = trace(
        [geometry(turned, shape.triangles)], [dome()], view, (size, size), 16, passes=("depth", "beauty")
    )
    depth, alpha = film.passes["depth"][..., 0], film.passes["beauty"][..., 3]
    normal = np.array([0.0, c, s])
    centre = (np.arange(size) + 0.5) / size - 0.5
    x, y = np.meshgrid(centre, -centre)
    direction = np.stack([x, y, np.full_like(x, -2.0)], -1)
    expected = -(normal @ np.array([0, 0, 6.0])) / (direction @ normal) * 2.0
    seen = np.isfinite(depth)
    edge = seen & ~np.roll(seen, 1, 1)
    assert edge.sum() > 10
    assert np.abs(depth - expected)[seen].max() < 1e-4
    assert np.isinf(depth[~seen]).all()
    assert (alpha > 0).all()  # the sky is there, and has no depth


def test_normal_and_albedo_and_openness() -> None:
    # A ball of albedo 0.5 on a plane far below: the normal at the middle looks at the camera, and
    # an open ball in the air is half covered by a plane it touches only where it faces it.
    film = trace([BALL], [dome()], camera(), (33, 33), 64, passes=("normal", "albedo", "occlusion"))
    assert film.passes["normal"][16, 16] == pytest.approx((0, 0, 1), abs=0.07)
    assert film.passes["albedo"][16, 16] == pytest.approx((0.5,) * 3, abs=1e-3)
    # The foot of a wall, infinitely tall and wide for the radius asked: half the cosine is open.
    wall = geometry([(-50, 0, 0), (50, 0, 0), (50, 50, 0), (-50, 50, 0)], [(0, 1, 2), (0, 2, 3)])
    view = camera((0, 1.0, 2.0), (0, 0, 0.001), (0.0005, 0.0005), 1.0)
    film = trace([plane(), wall], [dome()], view, (8, 8), 512, passes=("occlusion",), occlusion_radius=40.0)
    assert film.passes["occlusion"].mean() == pytest.approx(0.5, abs=0.01)


def test_field_of_view_and_lens_shift() -> None:
    # A ball of radius 1 at distance d = 10 fills sin a = 1/10; film x = f tan a. Shifting the film
    # by o moves what is seen by −o.
    for offset in (0.0, 0.1):
        view = camera((0, 0, 10), aperture=(0.6, 0.6), focal_length=2.0, offset=(offset, 0.0))
        alpha = trace([BALL], [dome()], view, (128, 128), 16, show_background=False).passes["beauty"][..., 3]
        columns = np.flatnonzero(alpha.max(0) > 0.5)
        left, right = columns[0], columns[-1] + 1
        radius = 2.0 * np.tan(np.arcsin(0.1)) / 0.6 * 128
        assert (right - left) / 2 == pytest.approx(radius, abs=0.8)
        assert (left + right) / 2 == pytest.approx(64 - offset / 0.6 * 128, abs=0.8)


def test_blur_circle_of_a_thin_lens() -> None:
    # A point at distance s through a lens of radius R focused at d blurs to a disc of radius
    # R |s − d| / s at the image plane of distance 1 (similar triangles: f R |s − d| / (s d)).
    lens_radius, focus, distance = 0.3, 4.0, 8.0
    shape = sphere(24)
    dot_shape = Item(geometry(shape.points * 0.02, shape.triangles), np.eye(4), (0,))
    glow = Material("/G", {**MATT, "diffuseColor": (0.0,) * 3, "emissiveColor": (1.0,) * 3})
    view = camera(
        (0, 0, distance), aperture=(0.2, 0.2), focal_length=1.0, lens_radius=lens_radius, focus_distance=focus
    )
    lit = trace([dot_shape], [], view, (64, 64), 2048, glow, show_background=False).passes["beauty"][..., 0]
    y, x = (np.mgrid[:64, :64] - 31.5) / 64 * 0.2
    # The mean square distance from the middle of an even disc is half its radius squared.
    radius = np.sqrt(2 * ((x**2 + y**2) * lit).sum() / lit.sum())
    assert radius == pytest.approx(lens_radius * abs(distance - focus) / (distance * focus), rel=0.03)


def test_orthographic_camera_keeps_sizes() -> None:
    view = camera((0, 0, 50), aperture=(4.0, 4.0), orthographic=True)
    alpha = trace([BALL], [dome()], view, (64, 64), 16, show_background=False).passes["beauty"][..., 3]
    # The ball of radius 1 covers π of the 16 square units; the 96-gon is 0.07 % smaller.
    assert alpha.mean() * 16 == pytest.approx(np.pi, rel=0.01)


def test_textures_wrap_filter_and_reach_the_surface() -> None:
    # One texel wide black and white columns, wrapped twice: half is white; bytes of RGB are sRGB.
    image = np.zeros((4, 4, 3), np.uint8)
    image[:, ::2] = 188  # sRGB 188 is 0.5029 linear: ((188/255 + 0.055) / 1.055) ** 2.4
    texture = Texture("columns", wrap_s="repeat", wrap_t="repeat", transform=(2.0, 0, 0, 0, 2.0, 0))
    look = Material("/T", {**MATT, "diffuseColor": TextureInput(texture)})
    view = camera((0, 10, 0), (0, 0, 0), (2.0, 2.0), orthographic=True)
    film = trace(
        [plane(2.0)], [dome()], view, (32, 32), 64, look, images={"columns": image}, passes=("albedo",)
    )
    assert film.passes["albedo"].mean() == pytest.approx(0.5029 / 2, abs=0.003)
    lost = trace([plane(2.0)], [dome()], view, (8, 8), 4, look, images={"columns": None}, passes=("albedo",))
    assert lost.passes["albedo"].max() == 0.0  # the fallback of the schema is black


def test_glass_lets_light_through_by_its_opacity_and_fresnel() -> None:
    # A sheet across the view, ior 1.5: at normal incidence 4 % is reflected (and a dark room behind
    # the camera shows nothing of it), so 96 % of the white behind arrives.
    behind = np.zeros((32, 64, 3), np.float32)
    behind[:, 48:] = behind[:, :16] = 1.0  # longitude beyond ±90°: what −Z sees
    sky = Light("/Sky", "dome", np.eye(4), (1.0,) * 3, texture=Texture("behind"))
    sheet = geometry([(-9, -9, 0), (9, -9, 0), (9, 9, 0), (-9, 9, 0)], [(0, 1, 2), (0, 2, 3)])
    glass = Material("/Glass", {"opacity": (0.0,), "roughness": (0.05,), "ior": (1.5,)})
    view = camera((0, 0, 5), aperture=(0.1, 0.1), focal_length=1.0)
    film = trace([sheet], [sky], view, (8, 8), 1024, glass, images={"behind": behind})
    assert film.passes["beauty"][..., 0].mean() == pytest.approx(0.96, abs=0.01)
    # Its shadow is as light: a distant light through the sheet onto a plane behind it.
    floor = Item(plane(), np.eye(4), (1,))
    pane = Item(plane(5.0), moved(y=1.0), (0,))
    light = Light(
        "/Sun", "distant", moved(turn_x=-90), (1.0 / (np.pi * np.sin(np.radians(0.5)) ** 2),) * 3, (1.0, 0)
    )
    seen = camera((0.0, 0.5, 2.0), (0, 0, 0), (0.02, 0.02), 1.0)
    lit = trace([pane, floor], [light], seen, (8, 8), 256, (glass, matt(0.5)), bounces=1)
    assert lit.passes["beauty"][..., 0].mean() == pytest.approx(0.96 * 0.5 / np.pi, rel=0.02)


def test_matte_items_hold_out_and_unseen_ones_only_hide_from_the_camera() -> None:
    floor = plane(20.0)
    high = moved(y=1.0)
    view = camera((0, 8, 8), (0, 0.5, 0), (1.0, 1.0), 1.5)
    sun = Light("/Sun", "distant", moved(turn_x=-90), (1000.0,) * 3, (1.0, 0))

    def shot(ball: Item, ground: Item):
        passes = ("beauty", "depth")
        film = trace([ball, ground], [sun], view, (32, 32), 32, passes=passes, show_background=False)
        return film.passes["beauty"], film.passes["depth"][..., 0]

    plain, _ = shot(Item(BALL, high, (0,)), Item(floor, np.eye(4), (0,)))
    held, depth = shot(Item(BALL, high, (0,)), Item(floor, np.eye(4), (0,), matte=True))
    gone, _ = shot(Item(BALL, high, (0,), seen=False), Item(floor, np.eye(4), (0,)))
    ball = held[..., 3] > 0.99
    assert ball.any()
    assert np.array_equal(np.isfinite(depth), held[..., 3] > 0)  # the matte floor has no depth
    assert held[ball, 0] == pytest.approx(plain[ball, 0], rel=0.02)  # yet it lights the ball the same
    assert held[~ball & (held[..., 3] == 0)].max() == 0.0
    assert gone[..., 3].min() > 0.99  # the floor fills the picture where the ball was
    assert gone[..., 0].min() < 0.2 * np.median(gone[..., 0])  # and its shadow is still there


def test_same_bytes_with_any_number_of_threads_and_other_noise_with_another_seed() -> None:
    def shot(threads: int, seed: int = 3) -> bytes:
        film = trace([BALL, plane()], [dome()], camera((0, 1, 5)), (70, 45), 8, threads=threads, seed=seed)
        return film.passes["beauty"].tobytes()

    assert shot(1) == shot(2) == shot(5)
    assert shot(1) != shot(1, seed=4)


def test_a_clamp_takes_from_scattered_light_only() -> None:
    # Under a matt plane's own light nothing is scattered twice: clamped or not, the same bytes.
    light = Light("/S", "sphere", moved(y=2.0), (50.0,) * 3, (0.4, 0.4))
    view = camera((0, 3, 3), (0, 0, 0))
    shots = [trace([plane()], [light], view, samples=8, clamp=c).passes["beauty"] for c in (None, 1e-3)]
    assert np.array_equal(*shots)
    inside = [trace([BALL], [light], camera((0, 0, 0), (0, 0, -1)), samples=8, clamp=c) for c in (None, 1e-3)]
    assert inside[0].passes["beauty"][..., :3].max() == 0.0  # no light gets into a closed ball
    room = [trace([BALL], [Light("/S", "sphere", moved(), (50.0,) * 3, (0.1, 0.1), seen=False)], camera((0, 0, 0.5), (0, 0, 0)),
                  samples=16, clamp=c, show_background=False).passes["beauty"].mean() for c in (None, 1e-3)]  # fmt: skip
    assert room[1] < 0.95 * room[0]


def test_a_broken_shape_never_reaches_the_film() -> None:
    points = BALL.points.copy()
    flat = geometry(points, BALL.triangles)
    zero = Item(flat, np.diag([1.0, 0.0, 1.0, 1.0]), (0,))  # flattened to a disc
    film = trace([zero, plane()], [dome(), dome(0.0)], camera((0, 3, 5)), (16, 16), 16)
    assert np.isfinite(film.passes["beauty"]).all()
    empty = trace([], [], camera(), (4, 4), 1)
    assert empty.passes["beauty"][..., :3].max() == 0.0


def test_the_camera_looks_down_its_own_axis() -> None:
    assert looking((0, 0, 5), (0, 0, 0))[2, :3] == pytest.approx((0, 0, 1))


def test_a_surface_that_catches_shadow_puts_it_into_alpha_alone() -> None:
    """At the foot of a tall wall half of the sky is hidden from the floor: alpha is 1/2.

    The floor sees the sky weighted by the cosine; a wall of height h at distance d hides
    (1 - d / sqrt(d² + h²)) / 2 of it, which goes to 1/2 for h much larger than d.
    """
    wall = geometry([(0, 0, -4e4), (0, 0, 4e4), (0, 400, 4e4), (0, 400, -4e4)], [(0, 1, 2), (0, 2, 3)])
    floor = Item(plane(400), np.eye(4), (0,), catches=True)
    for distance in (0.5, 300.0):
        eye = (distance, 3.0, 0.0)
        view = camera(eye, (distance, 0.0, 0.0), aperture=(0.1, 0.1), focal_length=1.8)
        film = trace(
            [wall, floor], [dome()], view, (8, 8), 256, passes=("beauty", "depth"), show_background=False
        )
        hidden = (1.0 - distance / np.hypot(distance, 400.0)) / 2.0
        assert film.passes["beauty"][..., 3].mean() == pytest.approx(hidden, abs=0.01)
        assert film.passes["beauty"][..., :3].max() == 0.0
        assert np.isinf(film.passes["depth"]).all()
    # A block of a lamp's light is all of the shadow there is below it, and there is none far away.
    roof = geometry([(-1, 1, 1), (1, 1, 1), (1, 1, -1), (-1, 1, -1)], [(0, 1, 2), (0, 2, 3)])
    lamp = Light("/Lamp", "sphere", moved(y=40.0), (1e4,) * 3, (0.1, 0.1))
    for at, shadow in ((0.0, 1.0), (5.0, 0.0)):
        view = camera((at, 0.5, 0.0), (at, 0.0, 0.0), aperture=(0.1, 0.1), focal_length=1.8)
        film = trace([roof, floor], [lamp], view, (4, 4), 16, show_background=False)
        assert film.passes["beauty"][..., 3] == pytest.approx(shadow, abs=1e-6)


def test_a_picture_of_another_aspect_shows_more_or_less_than_the_camera() -> None:
    """A film of 0.9 by 0.6 at distance 1, on 32 by 32 pixels: all of its width, or all of its height."""
    view = camera(aperture=(3.6, 2.4), focal_length=4.0)
    for crop, side in ((False, 0.9), (True, 0.6)):
        lens = make_lens(Sensor(view, 32, 32, crop)).record
        assert lens["pixel"] * 32 == pytest.approx(side)
        assert (lens["left"], lens["top"]) == pytest.approx((-side / 2, side / 2))


@pytest.mark.long
def test_a_picture_is_traced_where_it_is_noisy_until_it_is_not() -> None:
    # A small lamp over a matt floor: soft shadow in one half, an empty sky in the other.
    lamp = Light("/Lamp", "sphere", moved(x=0.5, y=3.0), (40.0,) * 3, (0.6, 0.6), seen=False)
    view = camera((0, 1.5, 7), (0, 1.5, 0), focal_length=1.2)
    how = {"size": (96, 96), "passes": ("beauty", "samples"), "show_background": False}
    film = trace([BALL, plane()], [lamp], view, samples=4096, noise=0.01, **how)
    counts = film.passes["samples"][..., 0]
    assert counts[:32].max() < 32  # nothing there is noisy
    assert counts[64:].max() > 100
    assert counts.mean() == pytest.approx(film.samples, abs=1.0)
    assert not film.unfinished
    assert film.noise is not None
    assert film.noise < 0.01
    # The error that is claimed is the error there is, against a picture with other noise.
    other = trace([BALL, plane()], [lamp], view, samples=4096, seed=9, **how)
    light = other.passes["beauty"][..., :3]
    off = np.abs(film.passes["beauty"][..., :3] - light).mean() / light.mean()
    assert off == pytest.approx(film.noise, rel=0.5)


def test_time_ends_a_picture_evenly_and_more_time_makes_it_whole() -> None:
    lamp = Light("/Lamp", "sphere", moved(x=0.5, y=3.0), (40.0,) * 3, (0.6, 0.6))
    view, kept = camera((0, 1.5, 7), (0, 1.5, 0), focal_length=1.2), []
    snapshot = Snapshot(
        (Item(BALL, np.eye(4), (0,)), Item(plane(), np.eye(4), (0,))), (matt(0.5),), (lamp,), view
    )
    tracer, sensor = Tracer(2), Sensor(view, 80, 72)
    how = TraceSettings(samples=800, seconds=0.15)
    cut = tracer.trace(
        snapshot, {}, sensor, how, ("beauty", "samples"), control=TraceControl(keep=kept.append)
    )
    counts = cut.passes["samples"]
    assert cut.unfinished
    assert counts.min() >= 1
    assert counts.max() - counts.min() <= 16  # tiles are at most a round apart
    whole = replace(how, seconds=None)
    further = tracer.trace(snapshot, {}, sensor, whole, control=TraceControl(begun=kept[0]))
    straight = tracer.trace(snapshot, {}, sensor, whole)
    assert np.array_equal(further.passes["beauty"], straight.passes["beauty"])
    assert (further.samples, further.rays) == (straight.samples, straight.rays)
    assert further.noise == straight.noise
