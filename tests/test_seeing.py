"""What the camera sees: through glass, while things move, all around, in part, and from afar."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom, UsdLux

from bench import snapshot_of
from grandlattice.scene_records import Item, Later, Light, Material, Snapshot, Texture, TextureInput
from grandlattice.tracer import Sensor, Tracer, TraceSettings
from shapes import MATT, camera, dome, geometry, moved, plane, sphere, trace, write_geometry

GLOW = Material("/Glow", {**MATT, "diffuseColor": (0.0,) * 3, "emissiveColor": (1.0,) * 3})


def box(x: float, y: float, z: float):
    """A closed box about the origin, its normals outwards."""
    corners = np.array([(i, j, k) for i in (-1, 1) for j in (-1, 1) for k in (-1, 1)]) * (x / 2, y / 2, z / 2)
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return geometry(corners, [t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])


def flat_view(width: float, height: float | None = None):
    """An orthographic camera at z = 9 that looks down −z at so much."""
    return camera((0, 0, 9), aperture=(width, height or width), orthographic=True)


def glass(ior: float, **other) -> Material:
    return Material("/Glass", {"opacity": (0.0,), "roughness": (0.0,), "ior": (ior,), **other})


def turned_y(degrees: float) -> np.ndarray:
    return np.array(Gf.Matrix4d().SetRotate(Gf.Rotation(Gf.Vec3d.YAxis(), degrees)))


# --- Through glass -----------------------------------------------------------------------------


def test_a_slab_shifts_what_is_behind_it_by_snells_law() -> None:
    # A ray under the angle a leaves a slab of thickness t parallel, t·sin(a − b)/cos b aside, sin a = n sin b.
    tilt, ior, thick = math.radians(40), 1.5, 1.0
    ramp = np.stack([np.tile(np.linspace(0, 1, 256), (4, 1)), np.ones((4, 256)), np.ones((4, 256))], -1)
    screen = Material("/Screen", {
        **MATT, "diffuseColor": (0.0,) * 3,
        "emissiveColor": TextureInput(Texture("ramp", wrap_s="clamp", wrap_t="clamp")),
    })  # fmt: skip
    wall = geometry([(-4, -4, -3), (4, -4, -3), (4, 4, -3), (-4, 4, -3)], [(0, 1, 2), (0, 2, 3)],
                    uvs=[[(0, 0), (1, 0), (1, 1)], [(0, 0), (1, 1), (0, 1)]])  # fmt: skip
    slab = Item(box(6, 6, thick), turned_y(math.degrees(tilt)), (1,))
    view, images = flat_view(0.02), {"ramp": ramp.astype(np.float32)}
    how = {"size": (4, 4), "samples": 256, "images": images}
    seen = trace([Item(wall, np.eye(4), (0,)), slab], [], view, material=(screen, glass(ior)), **how)
    r, g = seen.passes["beauty"].mean((0, 1))[:2]
    place = ((r / g) * 255 + 0.5) / 256 * 8 - 4
    inside = math.asin(math.sin(tilt) / ior)
    shift = thick * math.sin(tilt - inside) / math.cos(inside)
    assert abs(place) == pytest.approx(shift, rel=0.02)
    assert 0.8 < g < 0.95  # what both faces reflect is missing


@pytest.mark.parametrize(("ior", "low", "high"), [(1.5, 0.90, 0.95), (1.25, 0.0, 0.1)])
def test_a_prism_reflects_all_light_beyond_the_critical_angle(ior, low, high) -> None:
    # At 45° a face of glass reflects everything if n > √2; what is missing is (1 − F₀)² at the legs.
    prism = geometry(
        [(-1, -1, 1), (1, -1, 1), (1, -1, -1), (-1, 1, 1), (1, 1, 1), (1, 1, -1)],
        [(0, 2, 1), (3, 4, 5), (0, 1, 4), (0, 4, 3), (1, 2, 5), (1, 5, 4), (0, 3, 5), (0, 5, 2)],
    )  # legs towards the camera and to the right
    side = geometry([(4, -3, -3), (4, -3, 3), (4, 3, 3), (4, 3, -3)], [(0, 1, 2), (0, 2, 3)])
    items = [Item(prism, np.eye(4), (0,)), Item(side, np.eye(4), (1,))]
    seen = trace(items, [], flat_view(0.4), (8, 8), 128, (glass(ior), GLOW))
    assert low < seen.passes["beauty"][..., 0].mean() < high


def test_a_closed_shape_is_solid_and_an_open_or_two_sided_one_is_a_sheet() -> None:
    # A solid ball shows the other side of what is behind it, a bubble the side that is there.
    left = geometry([(-9, -9, -5), (0, -9, -5), (0, 9, -5), (-9, 9, -5)], [(0, 1, 2), (0, 2, 3)])
    ball = sphere(96)
    inwards = geometry(ball.points, ball.triangles[:, ::-1], ball.corner_normals[:, ::-1])

    def seen_left(item: Item) -> float:
        film = trace([item, Item(left, np.eye(4), (1,))], [], flat_view(3), (30, 30), 64, (glass(1.5), GLOW))
        return float(film.passes["beauty"][12:18, 7:12, 0].mean())

    assert seen_left(Item(ball, np.eye(4), (0,))) < 0.05
    assert seen_left(Item(inwards, np.eye(4), (0,))) < 0.05
    assert seen_left(Item(ball, np.diag([-1.0, 1, 1, 1]), (0,))) < 0.05
    assert seen_left(Item(ball, np.eye(4), (0,), sheet=True)) > 0.8
    half = geometry(
        ball.points,
        ball.triangles[: len(ball.triangles) // 2],
        ball.corner_normals[: len(ball.triangles) // 2],
    )
    assert seen_left(Item(half, np.eye(4), (0,))) > 0.8


def test_the_shadow_of_coloured_glass_is_coloured() -> None:
    sun = Light(
        "/Sun",
        "distant",
        moved(turn_x=-90),
        (1.0 / (math.pi * math.sin(math.radians(0.265)) ** 2),) * 3,
        (0.53, 0.0),
    )
    pane = geometry([(-3, 2, -3), (-3, 2, 3), (3, 2, 3), (3, 2, -3)], [(0, 1, 2), (0, 2, 3)])
    tint = glass(1.0, diffuseColor=(0.2, 0.4, 0.1))
    matt = Material("/M", {**MATT, "diffuseColor": (0.5,) * 3})
    view = camera((0, 1, 3), aperture=(0.05, 0.05))
    for item in (Item(pane, np.eye(4), (1,)), Item(box(5, 1, 5), moved(y=2), (1,))):
        film = trace([Item(plane(), np.eye(4), (0,)), item], [sun], view, (8, 8), 64, (matt, tint), bounces=1)
        # Only the hue of the colour counts, and a solid has half of it from each face.
        np.testing.assert_allclose(
            film.passes["beauty"][..., :3].mean((0, 1)), np.array([0.5, 1.0, 0.25]) * 0.5 / math.pi, rtol=0.01
        )


# --- While the shutter is open -----------------------------------------------------------------


@pytest.mark.parametrize("who", ["item", "camera"])
def test_what_moves_covers_each_pixel_for_its_share_of_the_time(who: str) -> None:
    # A strip 1 wide that goes 2 to the right: at x it is there from (x − 1)/2 … until x/2 of the time.
    strip = geometry([(-1, -1, 0), (0, -1, 0), (0, 1, 0), (-1, 1, 0)], [(0, 1, 2), (0, 2, 3)])
    track = np.array([moved(x=2 * t) for t in np.linspace(0, 1, 5)])
    item, view = Item(strip, np.eye(4), (0,)), flat_view(4, 1)
    if who == "item":
        item = replace(item, track=track)
    else:
        view = replace(view, track=np.array([view.to_world @ np.linalg.inv(m) for m in track]))
    film = trace([item], [], view, (64, 16), 256, GLOW)
    x = (np.arange(64) + 0.5) / 16 - 2
    there = np.clip(np.minimum((x + 1) / 2, 1), 0, 1) - np.clip(x / 2, 0, 1)
    np.testing.assert_allclose(film.passes["beauty"][4:12, :, 0].mean(0), there, atol=0.03)


def test_a_track_turns_normals_with_the_shape() -> None:
    # A mirror that turns by 90° while the shutter is open shows the bright half of the sky half of the time.
    mirror = Material("/Mirror", {"metallic": (1.0,), "diffuseColor": (1.0,) * 3, "roughness": (0.0,)})
    sheet = geometry([(-1, -1, 0), (1, -1, 0), (1, 1, 0), (-1, 1, 0)], [(0, 1, 2), (0, 2, 3)])
    turns = [
        np.array(Gf.Matrix4d().SetRotate(Gf.Rotation(Gf.Vec3d.XAxis(), a))) for a in np.linspace(-45, 45, 9)
    ]
    sky = np.zeros((64, 4, 3), np.float32)
    sky[32:] = 1.0
    light = Light("/Sky", "dome", np.eye(4), (1.0,) * 3, texture=Texture("sky"))
    film = trace([Item(sheet, np.eye(4), (0,), track=np.array(turns))], [light], flat_view(0.2), (8, 8), 512,
                 mirror, images={"sky": sky}, show_background=False)  # fmt: skip
    assert film.passes["beauty"][..., 0].mean() == pytest.approx(0.5, abs=0.03)


@pytest.mark.parametrize(
    ("kind", "roughness"), [("sphere", 0.4), ("rect", 0.4), ("rect", 0.0), ("distant", 0.4), ("dome", 0.4)]
)
def test_a_light_that_moves_sends_what_it_sends_on_its_way(kind: str, roughness: float) -> None:
    size = {"sphere": (0.3, 0.3), "rect": (0.8, 0.5), "distant": (4.0, 0.0), "dome": (0.0, 0.0)}[kind]
    inputs = {"diffuseColor": (0.5,) * 3, "roughness": (roughness,), "metallic": (float(roughness == 0.0),)}
    glossy = Material("/Floor", inputs)
    sky = np.full((32, 64, 3), 0.02, np.float32)
    sky[4:10, 20:26] = 1.0  # a window in it
    view = camera((0, 4, 5))
    how = {"size": (20, 16), "material": glossy, "images": {"sky": sky}}

    def at(part: float) -> np.ndarray:
        """From left to right over the floor, turned downwards and a little aside."""
        place = moved(x=2.0 * part, y=2.0)
        turn = Gf.Rotation(Gf.Vec3d.XAxis(), -80) * Gf.Rotation(Gf.Vec3d.ZAxis(), 40 * part)
        return np.array(Gf.Matrix4d().SetRotate(turn)) @ place

    # Five places, as a scene has them; between them it goes straight.
    track = np.array([at(part) for part in np.linspace(-1, 1, 5)])
    way = [k + (n + 0.5) / 8 for k in range(4) for n in range(8)]
    places = [track[int(t)] * (1 - t % 1) + track[int(t) + 1] * (t % 1) for t in way]
    light = Light(
        "/Light", kind, at(0), (5.0,) * 3, size, Texture("sky") if kind == "dome" else None, seen=False
    )
    samples, edges = (4096, 0.1) if roughness == 0.0 else (512, 0.03)  # a mirrored light has sharp edges
    moving = trace([plane()], [replace(light, track=track)], view, samples=samples, **how)
    still = [trace([plane()], [replace(light, to_world=m)], view, samples=64, **how) for m in places]
    seen, each = moving.passes["beauty"][..., 0], [film.passes["beauty"][..., 0] for film in still]
    mean = np.mean(each, axis=0)
    np.testing.assert_allclose(seen, mean, rtol=0.1, atol=edges * mean.max())
    assert seen.mean() == pytest.approx(mean.mean(), rel=0.01)
    assert np.abs(each[0] - mean).max() > 0.1 * mean.max()  # it does move


def test_tracks_and_the_next_frame_come_from_the_scene() -> None:
    stage = Usd.Stage.CreateInMemory()
    write_geometry(stage, "/Still", sphere(8))
    ball = write_geometry(stage, "/Parent/Ball", sphere(8))
    UsdLux.SphereLight.Define(stage, "/Parent/Lamp")
    sky = UsdLux.DomeLight_1.Define(stage, "/Sky")
    sky.CreatePoleAxisAttr("Z")
    turn = sky.AddRotateZOp()
    for frame in (1, 2, 3):
        turn.Set(90.0 * frame, frame)
    move = UsdGeom.Xformable(stage.DefinePrim("/Parent", "Xform")).AddTranslateOp()
    for frame, x in ((1, 0.0), (2, 4.0), (3, 4.0)):
        move.Set(Gf.Vec3d(x, 0, 0), frame)
    assert ball
    for shutter, span in (((-0.25, 0.25), (3.0, 4.0)), ((0.0, 0.0), None), (None, None)):
        snapshot = snapshot_of(stage, 2.0, shutter=shutter, later=True)
        items = {item.path: item for item in snapshot.items}
        assert items["/Still"].track is None
        lamp, dome = (next(each for each in snapshot.lights if each.kind == k) for k in ("sphere", "dome"))
        if span is not None:  # its pole is Z, and stays it
            np.testing.assert_allclose(dome.track[[0, 2], 1, :3], [(0, 0, 1)] * 2, atol=1e-9)
            np.testing.assert_allclose(dome.track[2], dome.to_world, atol=1e-9)
            assert np.abs(dome.track[0, 0] - dome.track[2, 0]).max() > 0.3
        for track in (items["/Parent/Ball"].track, lamp.track):
            if span is None:
                assert track is None
            else:
                np.testing.assert_allclose(track[[0, 2, -1], 3, 0], [span[0], 4.0, span[1]])
        assert items["/Parent/Ball"].to_world[3, 0] == 4.0
        assert snapshot.later.places[[*items].index("/Parent/Ball")][3, 0] == 4.0
    camera_prim = stage.DefinePrim("/Camera", "Camera")
    UsdGeom.Camera(camera_prim).CreateShutterOpenAttr(-0.5)
    UsdGeom.Camera(camera_prim).CreateShutterCloseAttr(0.0)
    snapshot = snapshot_of(stage, 2.0)  # as the camera has it
    np.testing.assert_allclose(snapshot.items[1].track[[0, -1], 3, 0], [2.0, 4.0])


@pytest.mark.parametrize("moves", ["nothing", "instancer", "copies"])
def test_copies_blur_whether_they_move_together_or_among_themselves(moves: str) -> None:
    stage = Usd.Stage.CreateInMemory()
    instancer = UsdGeom.PointInstancer.Define(stage, "/Many")
    root = UsdGeom.Xform.Define(stage, "/Many/Ball")
    root.AddTranslateOp().Set(Gf.Vec3d(0, 5, 0))
    write_geometry(stage, "/Many/Ball/Shape", sphere(8))
    instancer.GetPrototypesRel().SetTargets(["/Many/Ball"])
    instancer.GetProtoIndicesAttr().Set([0, 0])
    place, at = instancer.AddTranslateOp(), instancer.GetPositionsAttr()
    place.Set(Gf.Vec3d(1, 0, 0))
    at.Set([(0, 0, 0), (0, 20, 9)])
    if moves == "instancer":
        for frame in (1, 2, 3):
            place.Set(Gf.Vec3d(frame, 0, 0), frame)
    elif moves == "copies":
        for frame in (1, 2, 3):
            at.Set([(frame, 0, 0), (0, 20, 9)], frame)
    snapshot = snapshot_of(stage, 2.0, shutter=(-0.5, 0.5), later=True)
    (item,) = snapshot.items
    assert item.placements.shape == (2, 4, 4)
    if moves == "nothing":
        assert item.track is None
        np.testing.assert_array_equal(snapshot.later.places[0], item.to_world)
    else:
        # x of both copies when the shutter opens, at the frame, and when it closes.
        track = item.track if item.track.ndim == 4 else item.copies[None] @ item.track[:, None]
        first, second = ([1.5, 2, 2.5], [1.5, 2, 2.5]) if moves == "instancer" else ([2.5, 3, 3.5], [1.0] * 3)
        np.testing.assert_allclose(track[[0, 2, -1], :, 3, 0].T, [first, second])
        np.testing.assert_allclose(item.placements, track[2])
    # Traced: a copy that moves by 1 has edges 1 wide.
    view = camera((2, 5, 40), (2, 5, 0), aperture=(6.0, 6.0), focal_length=40.0)
    film = trace(snapshot.items, [], view, (60, 60), 64, GLOW)
    row = film.passes["beauty"][30, :, 0]
    soft = ((row > 0.1) & (row < 0.9)).sum()  # pixels of a tenth
    assert soft < 5 if moves == "nothing" else 14 < soft < 22


def test_motion_is_pixels_to_the_next_frame() -> None:
    ball, view = Item(sphere(32), np.eye(4), (0,)), flat_view(4)
    later = Later((moved(x=0.5, y=0.25),), replace(view, to_world=view.to_world @ moved(x=0.25)))
    snapshot = Snapshot((ball,), (GLOW,), (), view, later=later)
    film = Tracer(1).trace(snapshot, {}, Sensor(view, 64, 64), TraceSettings(samples=4), ("motion", "depth"))
    met = np.isfinite(film.passes["depth"][..., 0])
    # 16 pixels a unit: half a unit right less the camera's quarter; a quarter up.
    np.testing.assert_allclose(film.passes["motion"][met], np.tile([4.0, -4.0], (met.sum(), 1)), atol=1e-3)
    assert (film.passes["motion"][~met] == 0).all()


# --- In part, and all around -------------------------------------------------------------------


@pytest.mark.parametrize("noise", [None, 0.02])
def test_a_part_of_a_picture_is_that_part_of_the_whole(noise: float | None) -> None:
    ball, passes = sphere(48), ("beauty", "depth", "normal", "object-id", "light.Sky", "samples")
    view = camera((0, 1, 5), lens_radius=0.1, focus_distance=4.0)
    snapshot = Snapshot((Item(ball, np.eye(4), (0,)),), (Material("/M", {}),), (dome(),), view)
    sensor = Sensor(view, 90, 70)
    how = TraceSettings(samples=20 if noise is None else 200, noise=noise)
    whole = Tracer(2).trace(snapshot, {}, sensor, how, passes)
    part = Tracer(2).trace(snapshot, {}, replace(sensor, region=(17, 5, 64, 61)), how, passes)
    for name in passes:
        np.testing.assert_array_equal(part.passes[name], whole.passes[name][5:61, 17:64])
    if noise is not None:
        assert len(np.unique(part.passes["samples"])) > 1


@pytest.mark.parametrize("width", [96, 90, 61])
def test_the_pixels_of_a_part_are_those_of_the_whole_to_the_last_bit(width: int) -> None:
    # A ball of 20,000 triangles, so that many a ray goes through an edge between two.
    snapshot = Snapshot(
        (Item(sphere(144), np.eye(4), (0,)),), (Material("/M", {}),), (dome(),), camera((0.3, 1, 3)),
    )  # fmt: skip
    sensor, tracer, rng = Sensor(snapshot.camera, width, 70), Tracer(2), np.random.default_rng(width)
    for samples in (1, 3, 8, 20):
        how = TraceSettings(samples=samples)
        whole = tracer.trace(snapshot, {}, sensor, how, ("beauty", "normal")).passes
        for _ in range(8):
            left, right = np.sort(rng.choice(width + 1, 2, replace=False)).tolist()
            top, bottom = np.sort(rng.choice(71, 2, replace=False)).tolist()
            part = tracer.trace(
                snapshot, {}, replace(sensor, region=(left, top, right, bottom)), how, ("beauty", "normal")
            ).passes
            for name, pixels in whole.items():
                np.testing.assert_array_equal(part[name], pixels[top:bottom, left:right])


@pytest.mark.parametrize("projection", ["panorama", "stereo-panorama"])
def test_everything_around_the_camera_is_where_it_stands(projection: str) -> None:
    # Longitude across with −z in the middle and +x to the right of it, latitude down from +y.
    eyes = 2 if projection == "stereo-panorama" else 1
    ways = {"/Ahead": (0, 0, -1), "/Right": (1, 0, 0), "/Left": (-1, 0, 0), "/High": (0.6, 0.8, 0)}
    small = np.diag([0.2, 0.2, 0.2, 1.0])
    items = [
        Item(replace(sphere(16), path=name), small @ moved(*np.multiply(at, 4.0).tolist()), (0,))
        for name, at in ways.items()
    ]
    view = camera((0, 0, 0), (0, 0, -1))
    snapshot = Snapshot(tuple(items), (GLOW,), (), view)
    sensor = Sensor(view, 360, 180 * eyes, projection=projection, eye_distance=0.4)
    film = Tracer(2).trace(snapshot, {}, sensor, TraceSettings(samples=4), ("position", "depth"))
    met = np.isfinite(film.passes["depth"][..., 0])
    for eye in range(eyes):
        for name, at in ways.items():
            near = np.linalg.norm(film.passes["position"] - np.multiply(at, 4), axis=-1) < 0.3
            near &= met & (np.arange(180 * eyes) // 180 == eye)[:, None]
            line, column = np.argwhere(near).mean(0) + 0.5
            longitude = math.degrees(math.atan2(at[0], -at[2]))
            # An eye half of 0.4 to the left sees what is 4 away asin(0.2/4) further to the right.
            aside = (
                0.0
                if eyes == 1
                else (1 - 2 * eye) * math.degrees(math.asin(0.2 / (4 * math.hypot(at[0], at[2]))))
            )
            assert column == pytest.approx(180 + longitude + aside, abs=1.0), name
            assert line - 180 * eye == pytest.approx(90 - math.degrees(math.asin(at[1])), abs=1.5), name
    assert 3.7 < np.median(film.passes["depth"][met]) < 4.1  # the distance, whatever the direction


# --- From afar ---------------------------------------------------------------------------------


@pytest.mark.parametrize("unit", [1.0, 100.0, 0.02])
def test_a_checkered_floor_is_as_grey_as_it_should_be_far_away(unit: float) -> None:
    # The same floor in coordinates of another unit, which the texture's own transform takes back.
    checks = (
        np.kron(np.indices((64, 64)).sum(0) % 2, np.ones((2, 2)))[..., None].repeat(3, -1).astype(np.float32)
    )
    back = (1.0 / unit, 0.0, 0.0, 0.0, 1.0 / unit, 0.0)
    texture = Texture("checks", wrap_s="repeat", wrap_t="repeat", transform=back)
    floor = Material("/Floor", {**MATT, "diffuseColor": TextureInput(texture)})
    ground = replace(plane(30), corner_uvs=plane(30).corner_uvs * np.float32(unit))
    view = camera((0, 3, 40), (0, 0, 0), aperture=(1.0, 0.3), focal_length=1.0)
    film = trace([ground], [dome()], view, (96, 32), 1, floor, images={"checks": checks}, bounces=1,
                 passes=("beauty", "depth"))  # fmt: skip
    depth, seen = film.passes["depth"][..., 0], film.passes["beauty"][..., 0]
    far, near = np.isfinite(depth) & (depth > 55), depth < 14
    assert seen[far].mean() == pytest.approx(0.5, abs=0.03)
    assert seen[far].std() < 0.2  # one sample a pixel of sharp checks would be black or white: 0.5
    assert seen[near].std() > 0.3  # and nearby they stay sharp
