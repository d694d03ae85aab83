"""Passes: parts that add up, ids that decode, data of what is in front."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import mmh3
import numpy as np
import OpenImageIO as oiio
import pytest

import grandlattice as lattice
from conftest import PLAN
from grandlattice.images import colours_of, read_channels, read_mark, scale_of, with_legend
from grandlattice.scene_records import Geometry, Item, Light, Material, Snapshot
from grandlattice.tables.passes import PASSES
from grandlattice.tracer import OwnPass, Sensor, Tracer, TraceSettings, denoised
from harbour import PLAN as HARBOUR, harbour_scene
from shapes import MATT, camera, dome, geometry, moved, plane, sphere, trace

BALL = sphere(48)


@pytest.fixture(scope="module")
def room():
    """Matt, shiny, glass and glowing things under a sky and two lamps."""
    looks = (
        Material("/Looks/Floor", {**MATT, "diffuseColor": (0.6, 0.5, 0.4)}),
        Material("/Looks/Gold", {"diffuseColor": (0.9, 0.6, 0.2), "metallic": (1.0,), "roughness": (0.25,)}),
        Material("/Looks/Plastic", {"diffuseColor": (0.2, 0.3, 0.7), "roughness": (0.4,)}),
        Material("/Looks/Pane", {"opacity": (0.1,), "ior": (1.5,), "roughness": (0.0,)}),
        Material("/Looks/Coal", {**MATT, "emissiveColor": (3.0, 1.0, 0.2)}),
    )
    pane = geometry([(0.2, -1, 2.5), (2, -1, 2.5), (2, 2, 2.5), (0.2, 2, 2.5)], [(0, 1, 2), (0, 2, 3)])
    items = [
        Item(_named(plane(), "/Floor"), moved(y=-1), (0,)),
        Item(_named(BALL, "/Gold"), moved(x=-1.2), (1,)),
        Item(_named(BALL, "/Plastic"), moved(x=1.1), (2,)),
        Item(_named(pane, "/Pane"), np.eye(4), (3,)),
        Item(_named(sphere(24), "/Coal"), np.diag((0.3, 0.3, 0.3, 1.0)) @ moved(y=-0.7, z=1.5), (4,)),
    ]
    lights = [
        Light("/L", "dome", np.eye(4), (0.3, 0.35, 0.4)),
        Light("/Lights/Key", "sphere", moved(-3, 4, 3), (60.0,) * 3, (0.5, 0.5)),
        Light("/Lights/Rim", "rect", moved(3, 3, -2), (20.0,) * 3, (1.0, 1.0)),
    ]
    names = (
        "beauty", "direct", "indirect", "diffuse", "specular", "transmission", "emission", "shadow",
        "light.L", "light.Key", "light.Rim", "light.surfaces", "object-id", "material-id", "coverage",
        "position", "uv", "normal", "normal-camera", "depth", "depth-soft",
    )  # fmt: skip
    view = camera((0, 0.6, 6), (0, 0, 0), focal_length=1.5)
    how = {"size": (64, 48), "samples": 48, "material": looks}
    return (
        trace(items, lights, view, passes=names, **how),
        trace(items, lights, view, **how),
        items,
        looks,
        view,
    )


def _named(shape: Geometry, path: str) -> Geometry:
    return replace(shape, path=path)


def test_parts_of_the_beauty_add_up_to_it(room) -> None:
    film, alone, *_ = room
    beauty = film.passes["beauty"][..., :3]
    assert np.array_equal(beauty, alone.passes["beauty"][..., :3])  # asking for parts changes nothing
    assert film.rays == alone.rays
    for parts in (
        ("direct", "indirect"),
        ("diffuse", "specular", "transmission", "emission"),
        ("light.L", "light.Key", "light.Rim", "light.surfaces"),
    ):
        total = np.sum([film.passes[name] for name in parts], axis=0)
        np.testing.assert_allclose(total, beauty, rtol=2e-5, atol=2e-6)
        assert all(film.passes[name].mean() > 1e-4 for name in parts), parts


def test_paths_that_part_tell_the_same_light_with_less_noise(room, monkeypatch: pytest.MonkeyPatch) -> None:
    _, _, items, looks, view = room
    lights = [Light("/Lights/Key", "sphere", moved(-3, 4, 3), (60.0,) * 3, (0.5, 0.5))]
    snapshot, names = (
        Snapshot(tuple(items), looks, tuple(lights), view),
        ("indirect", "illuminance", "direct", "beauty", "albedo", "specular", "transmission"),
    )
    noise, light, samples = {}, {}, 16
    for halvings in (0, 1, 2):
        monkeypatch.setattr("grandlattice.tracer.path_tracer._HALVINGS", halvings)
        tracer, sensor = Tracer(2), Sensor(view, 40, 30)
        films = [
            tracer.trace(
                snapshot, {}, sensor, TraceSettings(samples=samples, seed=seed, clamp=2.0), names
            ).passes
            for seed in range(12)
        ]
        made = {name: np.stack([film[name] for film in films]) for name in names}
        noise[halvings] = {name: np.median(each.var(0)) for name, each in made.items()}
        light[halvings] = {name: each.mean() for name, each in made.items()}
        light[halvings]["alpha"] = made["beauty"][..., 3].mean()
        pane = made["transmission"].mean((0, -1)) > 0.0
        noise[halvings]["pane"] = made["direct"].var(0)[pane].mean()
    for name in light[0]:
        assert light[1][name] == pytest.approx(light[0][name], rel=0.02), name
        assert light[2][name] == pytest.approx(light[0][name], rel=0.02), name
    # Half the variance with twice the branches, but for what is decided before paths part.
    for before, after in ((0, 1), (1, 2)):
        assert noise[after]["indirect"] < 0.7 * noise[before]["indirect"]
    # Where the camera sees something clear both ways are followed: no chance decides between them.
    assert noise[1]["pane"] < 0.6 * noise[0]["pane"]


def test_parts_are_where_they_belong(room) -> None:
    film, _, items, *_ = room
    ids = _decoded(film)
    front = np.argmax(np.stack([ids[item.path] for item in items]), axis=0)
    covered = np.stack([ids[item.path] for item in items]).max(0) == 1.0
    gold, floor, coal = (covered & (front == k) for k in (1, 0, 4))
    passes = film.passes
    clear = passes["transmission"].sum(-1) == 0.0
    assert passes["diffuse"][gold & clear].max() < 1e-6  # a metal has no diffuse part
    assert passes["specular"][floor & clear].max() < 1e-6  # and a matt floor no specular one
    assert passes["emission"][coal & clear].mean(0) == pytest.approx((3.0, 1.0, 0.2), rel=0.05)
    assert passes["transmission"][:, 40:].max() > 0.1
    shadow = passes["shadow"][floor & clear]
    assert shadow.min() >= 0.0
    assert shadow.max() <= 1.0 + 1e-5
    assert shadow.max() > 0.3
    assert passes["light.surfaces"][floor & clear].max() > 0.05  # the coal lights the floor about it


def _decoded(film) -> dict[str, np.ndarray]:
    """Coverage of each object, as a compositor reads it: by the hash of its name alone."""
    layer = film.passes["object-id"]
    found = {}
    for name in film.names["object-id"]:
        number = mmh3.hash(name, signed=False)
        if number >> 23 & 255 in (0, 255):
            number ^= 1 << 23
        wanted = np.array([number], np.uint32).view(np.float32)[0]
        found[name] = sum(np.where(layer[..., k] == wanted, layer[..., k + 1], 0.0) for k in range(0, 12, 2))
    return found


@pytest.mark.parametrize("colour", [(0.5, 0.5, 0.5), (0.6, 0.3, 0.05)])
def test_illuminance_is_what_arrives_whatever_the_surface(colour) -> None:
    # Inside a ball that glows with 1 and reflects c of it again and again, light is 1/(1 − c): E = π of that.
    look = Material("/W", {**MATT, "diffuseColor": colour, "emissiveColor": (1.0,) * 3})
    film = trace([BALL], [], camera((0, 0, 0.3), (0, 0, 0)), (16, 16), 1024, look,
                 passes=("illuminance", "beauty"), bounces=64)  # fmt: skip
    light = np.array([0.2126, 0.7152, 0.0722]) @ (1.0 / (1.0 - np.array(colour)))
    assert film.passes["illuminance"].mean() == pytest.approx(np.pi * light, rel=0.02)
    # One lux of a distant light falls on a black floor as on any other; under 60° it is half a lux.
    sun = Light(
        "/Sun",
        "distant",
        moved(turn_x=-30),
        (1.0 / (np.pi * np.sin(np.radians(0.265)) ** 2),) * 3,
        (0.53, 0.0),
    )
    black = Material("/B", {**MATT, "diffuseColor": (0.0,) * 3})
    film = trace([plane()], [sun], camera((0, 2, 3)), (16, 16), 32, black, passes=("illuminance",))
    np.testing.assert_allclose(film.passes["illuminance"], 0.5, rtol=0.01)


def test_passes_of_a_plans_own(room) -> None:
    _, _, items, looks, view = room
    lamps = [
        Light(f"/Lamps/{n}", "sphere", moved(x, 4, 3), (40.0,) * 3, (0.5, 0.5))
        for n, x in zip("ABC", (-3, 0, 3), strict=True)
    ]
    own = {
        "pair": OwnPass("light", frozenset(["/Lamps/A", "/Lamps/C"])),
        "near": OwnPass("occlusion", radius=0.3),
        "far": OwnPass("occlusion", radius=30.0),
    }
    own |= {name: OwnPass("light", frozenset([f"/{name}"])) for name in ("Coal", "Ember")}
    passes = ("light.A", "light.B", "light.C", "light.surfaces", "beauty", "occlusion", *own)
    ember = Item(
        _named(sphere(24), "/Ember"), np.diag((0.2, 0.2, 0.2, 1.0)) @ moved(x=0.4, y=-0.8, z=2), (4,)
    )
    snapshot = Snapshot((*items, ember), looks, tuple(lamps), view)
    film = Tracer(2).trace(snapshot, {}, Sensor(view, 48, 36), TraceSettings(samples=16), passes, own=own)
    np.testing.assert_allclose(
        film.passes["pair"], film.passes["light.A"] + film.passes["light.C"], rtol=1e-5, atol=1e-6
    )
    coal, ember = film.passes["Coal"], film.passes["Ember"]
    np.testing.assert_allclose(coal + ember, film.passes["light.surfaces"], rtol=1e-5, atol=1e-6)
    assert min(coal.mean(), ember.mean()) > 0.001
    total = sum(film.passes[f"light.{name}"] for name in ("A", "B", "C", "surfaces"))
    np.testing.assert_allclose(total, film.passes["beauty"][..., :3], rtol=2e-5, atol=2e-6)
    near, some, far = (film.passes[name] for name in ("near", "occlusion", "far"))
    assert (near >= some).all()
    assert (some >= far).all()
    assert 0.1 < far.mean() < some.mean() < near.mean() < 1.0


def test_parts_that_are_denoised_still_add_up(room) -> None:
    pytest.importorskip("pyoidn")
    _, _, items, looks, view = room
    lamps = [
        Light(f"/Lamps/{n}", "sphere", moved(x, 4, 3), (40.0,) * 3, (0.5, 0.5))
        for n, x in (("A", -3), ("B", 3))
    ]
    names = ("beauty", "light.A", "light.B", "light.surfaces")
    film = trace(items, lamps, view, size=(64, 48), samples=8, material=looks, passes=names, guides=True)
    film = denoised(film, names[1:], 1.0)
    total = np.sum([film.passes[name] for name in names[1:]], axis=0)
    np.testing.assert_allclose(total, film.passes["beauty"][..., :3], rtol=1e-4, atol=1e-5)


def test_ids_cover_each_pixel_once(room) -> None:
    film, *_ = room
    ids = _decoded(film)
    assert set(ids) == {"/Floor", "/Gold", "/Plastic", "/Pane", "/Coal"}
    total = sum(ids.values())
    # What lets most light through leaves its place to what is behind it.
    assert ids["/Pane"].max() == 0.0
    assert total.max() <= 1.0 + 1e-6
    met = film.passes["depth"][..., 0] < np.inf
    assert total[met].min() > 0.0
    assert (total[~met] == 0.0).all()
    ranks = film.passes["object-id"][..., 1::2]
    assert (np.diff(ranks, axis=-1) <= 0.0).all()
    # Coverage is that of the nearest object; no pixel's is more than all it covers.
    coverage = film.passes["coverage"][..., 0]
    assert (coverage <= total + 1e-6).all()
    assert coverage[met].min() > 0.0


def test_data_of_what_is_in_front_agree_with_each_other(room) -> None:
    film, _, _, _, view = room
    depth = film.passes["depth"][..., 0]
    met = np.isfinite(depth)
    position = film.passes["position"]
    # The depth of a place is how far it is along the view; depth is taken at the pixel's centre.
    matrix = np.asarray(view.to_world)
    along = (position - matrix[3, :3]) @ -matrix[2, :3]
    steep = met & (film.passes["normal-camera"][..., 2] > 0.6) & (film.passes["coverage"][..., 0] > 0.99)
    assert np.median(np.abs(along - depth)[steep]) < 0.05
    assert np.abs(along - depth)[steep].max() < 0.3  # half a pixel on a slope
    soft = film.passes["depth-soft"][..., 0]
    assert (np.isfinite(soft) == met).all()
    assert (soft[met] >= depth[met] - 0.2).all()
    edge = np.abs(soft - depth)[met] > 0.3
    assert 0.01 < edge.mean() < 0.3  # apart at edges only
    turned = film.passes["normal"] @ matrix[:3, :3].T
    np.testing.assert_allclose(film.passes["normal-camera"], turned, atol=1e-6)
    assert film.passes["normal-camera"][met][:, 2].min() > -0.2
    uv = film.passes["uv"][met]
    assert uv.min() >= -0.2  # at the pixel's centre, on the plane of a triangle that may end before it
    assert uv.max() <= 1.2


def test_passes_reach_the_file_with_their_names(plan_file: Path) -> None:
    wanted = "passes: [beauty, light.*, object-id, uv, diffuse, specular]"
    plan_file.write_text(PLAN.replace("passes: [beauty, depth]", wanted))
    run = lattice.open_plan(plan_file).run(at=["day/Front"], workers=0)
    assert run.ok
    spec = oiio.ImageInput.open(str(run.files("day/Front")[0])).spec()
    lights = [name for name in spec.channelnames if name.startswith("light.")]
    assert "light.surfaces.R" in lights
    assert len(lights) > 3
    assert {"object-id00.R", "object-id02.A", "uv.U", "diffuse.B"} <= set(spec.channelnames)
    marks = {a.name: a.value for a in spec.extra_attribs if a.name.startswith("cryptomatte/")}
    key = next(iter(marks)).split("/")[1]
    assert marks[f"cryptomatte/{key}/name"] == "object-id"
    assert marks[f"cryptomatte/{key}/hash"] == "MurmurHash3_32"
    manifest = json.loads(marks[f"cryptomatte/{key}/manifest"])
    assert any(name.startswith("/World/") for name in manifest)
    assert key == f"{mmh3.hash('object-id', signed=False):08x}"[:7]
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=0).outlook.done


@pytest.mark.long
def test_a_plan_asks_for_passes_of_its_own_a_part_and_a_shutter(plan_file: Path, glat) -> None:
    text = PLAN.replace("passes: [beauty, depth]", "passes: [beauty, depth, warm, near, illuminance, motion]")
    text = text.replace("samples: 4", "samples: 4\n  region: 10 4 50 30\n  shutter: 0.5")
    own = "own-passes:\n  warm: {of: light, on: /World/Lights, except: //Sky}\n  near: {of: occlusion, radius: 20 cm}\n"
    plan_file.write_text(own + text)
    run = lattice.open_plan(plan_file).run(at=["day/Front"], workers=0)
    assert run.ok, run.failures
    source = oiio.ImageInput.open(str(run.files("day/Front")[0]))
    spec = source.spec()
    assert {"warm.R", "near.Y", "illuminance.Y", "motion.U", "Z"} <= set(spec.channelnames)
    assert (spec.x, spec.y, spec.width, spec.height) == (10, 4, 38, 26)
    whole = lattice.open_plan(plan_file).model.defaults.size
    assert (spec.full_width, spec.full_height) == (whole.width, whole.height)
    warm, beauty = run.picture("day/Front", pass_name="warm"), run.picture("day/Front")[..., :3]
    assert 0.02 < warm.mean() < 0.9 * beauty.mean()
    assert np.abs(run.picture("day/Front", pass_name="motion")).max() > 0.1  # one ball turns
    plan_file.write_text(
        (own + text).replace("//Sky", "//Sky*").replace("on: /World/Lights,", "on: /World/Lamps,")
    )
    code, said = glat(plan_file.parent, "run", "--at", "day/Front", "--workers", "0")
    assert code == 1
    assert "no prim /World/Lamps" in said
    assert "own-passes: warm" in said


def test_each_eye_of_a_stereo_panorama_has_a_file_where_the_template_says_so(plan_file: Path, glat) -> None:
    wide = PLAN.replace("size: 48x32", "size: 48x48\n  projection: stereo-panorama")
    plan_file.write_text(wide)
    whole = lattice.open_plan(plan_file).run(at=["day/Front"], workers=0)
    template = "{frame:04d}.{ext}"
    plan_file.write_text(wide.replace(template, "{eye}.{frame:04d}.{ext}"))
    split = lattice.open_plan(plan_file).run(at=["day/Front"], workers=0)
    names = sorted(path.name for path in split.files("day/Front"))
    assert names == [f"Front.{eye}.0001.{ext}" for eye in ("left", "right") for ext in ("exr", "png")]
    both = [
        read_channels(path, ["R", "G", "B", "Z"])
        for path in split.files("day/Front")
        if path.suffix == ".exr"
    ]
    (one,) = (path for path in whole.files("day/Front") if path.suffix == ".exr")
    np.testing.assert_array_equal(np.concatenate(both), read_channels(one, ["R", "G", "B", "Z"]))
    assert lattice.open_plan(plan_file).run(at=["day/Front"], workers=0).outlook.done
    for said, wrong in (
        ("is for stereo panoramas", PLAN),
        ("wants the whole picture", wide.replace("samples: 4", "samples: 4\n  region: 0 0 20 20")),
    ):
        plan_file.write_text(wrong.replace(template, "{eye}.{frame:04d}.{ext}"))
        code, told = glat(plan_file.parent, "check")
        assert (code, said in told) == (1, True), told


@pytest.mark.long
def test_illuminance_is_shown_in_false_colours_with_a_legend(plan_file: Path, glat) -> None:
    plan_file.write_text(PLAN.replace("passes: [beauty, depth]", "passes: [beauty, depth, illuminance]"))
    folder = plan_file.parent
    code, said = glat(folder, "review", "--pass", "iluminance")
    assert (code, "Did you mean illuminance?" in said) == (2, True), said
    code, said = glat(folder, "review", "--pass", "illuminance")
    assert (code, "passes must name illuminance" in said) == (1, True), said
    assert glat(folder, "run", "--at", "/Front", "--workers", "0")[0] == 0
    code, said = glat(folder, "review", "--pass", "illuminance")
    assert code == 0, said
    assert "room-sheet-illuminance.png" in said
    lux = np.array([[0.0, 1.0, 10.0, 100.0, np.inf]], np.float32)
    low, high = scale_of([np.geomspace(0.9, 130.0, 1000, dtype=np.float32)])
    assert (low, high) == (0.5, 200.0)
    colours = colours_of(lux, low, high)
    assert (np.diff(colours @ (0.2126, 0.7152, 0.0722)) >= 0.0).all()  # lighter with every factor
    picture = with_legend(np.tile(lux, (40, 60)), low, high, "lx")
    assert picture.shape[0] > 40
    np.testing.assert_allclose(picture[:40, :5, :3], np.tile(colours, (40, 1, 1)))
    assert len(np.unique(picture[42:50, :, 0])) > 100  # the colours stand below, from first to last


# --- passes in files that a display shows --------------------------------------------------------


def shown_plan(plan_file: Path, defaults: str) -> lattice.Plan:
    text = PLAN.replace("  passes: [beauty, depth]\n  format: [exr, png]\n", defaults)
    plan_file.write_text(text)
    return lattice.open_plan(plan_file)


SHOWN = [
    "occlusion", "depth", "normal", "normal-camera", "position", "object-id", "shadow", "albedo", "uv", "coverage",
    "diffuse", "illuminance", "motion", "samples", "material-id", "depth-soft", "light.Key",
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "ending"),
    [
        *((name, "png") for name in SHOWN),
        *(("occlusion", e) for e in ("tga", "tiff", "jpg", "hdr")),
        ("depth", "tiff"),
    ],
)
def test_the_only_pass_of_a_format_is_what_its_file_shows(plan_file: Path, ending: str, name: str) -> None:
    plan = shown_plan(plan_file, f"  passes: [{name}]\n  format: [{ending}]\n")
    assert plan.run(at=["day/Front"], workers=0).ok
    (file,) = (plan_file.parent / "out/day").glob("*")
    exact = plan.override(format=["exr"], output="exact/{cell}.{ext}").run(at=["day/Front"], workers=0)
    values = exact.picture("day/Front", pass_name=name)
    found = oiio.ImageInput.open(str(file)).read_image(0, 0, 0, 3, oiio.FLOAT)
    assert found.std() > 0.004 or name in ("motion", "samples")
    if name in ("occlusion", "shadow", "coverage"):
        np.testing.assert_allclose(
            found[..., 0], np.clip(values if values.ndim == 2 else values[..., 0], 0, 1), atol=0.06
        )
    elif name.startswith("normal") and ending == "png":
        np.testing.assert_allclose(found, values * 0.5 + 0.5, atol=0.01)
    elif name == "depth" and ending == "png":
        mark = read_mark(file, "shown")
        assert mark.startswith("depth as distance ")
        near, far = (float(word) for word in mark.split()[3:])
        finite = np.isfinite(values)
        assert near <= values[finite].min() + 0.1
        expected = np.clip(1 - (values[finite] - near) / (far - near), 0, 1)
        np.testing.assert_allclose(found[finite][:, 0], expected, atol=0.01)
        assert (found[~finite] == 0).all()


def test_every_pass_has_a_file_of_its_own_where_the_name_says_pass(plan_file: Path, glat) -> None:
    plan = shown_plan(
        plan_file, "  passes: [beauty, depth, occlusion]\n  format: png\n  frames: 1,12,24\n"
        "  files: {png: {output: 'o/{light}-{camera}-{pass}.{frame}.png', range: 100 2000}}\n",
    )  # fmt: skip
    assert plan.run(at=["day/Front"], workers=0).ok
    names = sorted(path.name for path in (plan_file.parent / "o").iterdir())
    assert names == sorted(
        f"day-Front-{p}.{f}.png" for p in ("beauty", "depth", "occlusion") for f in (1, 12, 24)
    )
    marks = {read_mark(path, "shown") for path in (plan_file.parent / "o").glob("*depth*")}
    assert marks == {"depth as distance 100 2000"}


@pytest.mark.long
def test_ranges_do_not_flicker(plan_file: Path) -> None:
    plan = shown_plan(plan_file, "  passes: [position]\n  format: png\n  frames: 1-24 by 6\n")
    assert plan.run(at=["day/Side"], workers=2).ok
    assert len({read_mark(path, "shown") for path in (plan_file.parent / "out/day").iterdir()}) == 1


@pytest.mark.long
def test_a_pass_that_would_be_in_no_file_is_an_error(plan_file: Path, glat) -> None:
    for formats, passes in (
        ("png", "beauty, occlusion"),
        ("[jpg, tga]", "depth, normal"),
        ("hdr", "beauty, uv"),
    ):
        shown_plan(plan_file, f"  passes: [{passes}]\n  format: {formats}\n")
        code, said = glat(plan_file.parent, "check")
        assert (code, "would be in no file" in said) == (1, True), said
        assert glat(plan_file.parent, "run")[0] == 1
    shown_plan(plan_file, "  passes: [beauty, occlusion]\n  format: [exr, png]\n")
    code, said = glat(plan_file.parent, "cells")
    assert (code, "png shows the beauty" in said) == (0, True), said


def test_every_pass_is_listed_once_and_everywhere_the_same(tmp_path: Path, glat) -> None:
    told = {name: " ".join(each.channels) for name, each in PASSES.items()}
    table = (Path(__file__).parent.parent / "docs" / "tracer.md").read_text().partition("| pass |")[2]
    rows = [line.split(" | ") for line in table.partition("\n\n")[0].splitlines()[2:]]
    assert [row[0].strip("| `") for row in rows] == [*told, "light.NAME"]
    for row, each in zip(rows, PASSES.values(), strict=False):
        first, last = each.channels[0], each.channels[-1]
        assert row[1] == (
            f"`{' '.join(each.channels)}`" if len(each.channels) <= 4 else f"`{first}` … `{last}`"
        )
        assert row[2:] == [each.meaning, f"{each.cost} |"] or (row[2] == each.meaning and not each.cost)
    film = trace([BALL], [dome()], camera(), (4, 4), 1, passes=tuple(n for n in told if n != "motion"))
    assert set(film.passes) == set(told) - {"motion"}
    for name, pixels in film.passes.items():
        assert pixels.shape == (4, 4, len(PASSES[name].channels))
    harbour_scene(tmp_path)
    (tmp_path / "h.lattice.yaml").write_text(
        HARBOUR + "own-passes:\n  fern: {of: light, on: //Leuchtfeuer}\n  nah: {of: occlusion, radius: 1 m}\n"
    )
    code, said = glat(tmp_path, "passes", "--json")
    assert code == 0
    listed = {each["name"]: each for each in json.loads(said)}
    assert set(told) < set(listed)
    assert {"light.Lampe_für_Süd", "light.Leuchtfeuer", "light.surfaces", "fern", "nah"} < set(listed)
    assert listed["fern"]["channels"] == ["fern.R", "fern.G", "fern.B"]
    assert "light.Lampe_für_Süd" in glat(tmp_path, "passes")[1]
    (tmp_path / "empty").mkdir()
    code, said = glat(tmp_path / "empty", "passes")  # where there is no plan
    assert code == 0
    assert "light.NAME" in said
