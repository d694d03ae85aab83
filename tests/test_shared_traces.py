"""One trace, many lightings: the same light as alone, the same bytes whoever else is rendered, and only what
changed is traced again."""

from __future__ import annotations

from copy import deepcopy
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux

import grandlattice as lattice
from conftest import PLAN, meanwhile
from grandlattice.runs import CellSnapshots
from grandlattice.scene_records import Item, Light, Material, Snapshot, Texture
from grandlattice.stage import SnapshotDigests
from grandlattice.tracer import (
    Company,
    Lighting,
    Sensor,
    TraceControl,
    Tracer,
    TraceSettings,
    sky_steps,
    split,
    turned_sky,
)
from shapes import MATT, camera, moved, plane, sphere

VIEW = camera(eye=(0, 1.5, 6))
SENSOR = Sensor(VIEW, 24, 16)
TRACER = Tracer(2)


def sky_image(sun: bool) -> np.ndarray:
    """A sky that is brighter on one side, 90×45, and a sun of some texels in it."""
    v, u = np.meshgrid(np.arange(45) / 45, np.arange(90) / 90, indexing="ij")
    image = np.stack([0.4 + 0.3 * np.sin(2 * np.pi * u), 0.6 - 0.3 * v, 0.8 - 0.2 * u], -1)
    if sun:
        image[14:16, 20:22] += 400.0
    return image.astype(np.float32)


IMAGES = {"soft": sky_image(False), "sunny": sky_image(True)}


def turned(degrees: float) -> np.ndarray:
    matrix, angle = np.eye(4), np.radians(degrees)
    matrix[[0, 0, 2, 2], [0, 2, 0, 2]] = np.cos(angle), -np.sin(angle), np.sin(angle), np.cos(angle)
    return matrix


def sky(file: str, degrees: float) -> Light:
    return Light("/Sky", "dome", turned(degrees), (1.0, 1.0, 1.0), texture=Texture(file, wrap_s="repeat"))


def rect(x: float, radiance=(12.0, 12.0, 12.0), seen: bool = True) -> Light:
    down = np.array([[1, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [x, 2.5, 0.5, 1.0]])
    return Light("/Key", "rect", down, radiance, (1.2, 1.2), seen=seen)


def even(strength: float) -> Light:
    return Light("/Fill", "dome", np.eye(4), (strength, strength, strength))


def sun(x: float) -> Light:
    slanted = np.array([[1, 0, 0, 0], [0, 0.6, -0.8, 0], [0, 0.8, 0.6, 0], [0, 0, 0, 1.0]])
    return Light("/Sun", "distant", slanted @ turned(x), (200.0, 190.0, 170.0), (5.0, 0.0))


GROUPS = {
    "strengths": [(even(a), rect(0, (b, 2 * b, 3.0))) for a, b in ((0.2, 6.0), (0.4, 1.0), (0.1, 12.0))],
    "on and off": [(even(0.2), rect(0)), (even(0.2),), (rect(0),)],
    "places": [(even(0.2), rect(x)) for x in (-1.5, 0.0, 1.2)],
    "directions": [(even(0.2), sun(x)) for x in (0.0, 70.0, 200.0)],
    "soft sky": [(sky("soft", a), rect(0, (3.0,) * 3)) for a in (0.0, 100.0, 250.5)],
    "sunny sky": [(sky("sunny", a),) for a in (0.0, 120.0, 245.0)],
    "images": [(sky("soft", 0.0),), (sky("sunny", 0.0),)],
    "kinds": [(sky("soft", 0.0),), (rect(0),), (sky("sunny", 70.0),), (sun(0.0), even(0.1))],
    "sights": [(sky("soft", 0.0),), (sky("soft", 90.0), rect(0)), (sky("soft", 200.0), rect(1.2))],
}  # fmt: skip


def snapshot(**floor: object) -> Snapshot:
    matt = Material("/Matt", {**MATT, "diffuseColor": (0.6, 0.5, 0.4)})
    shiny = Material("/Shiny", {"diffuseColor": (0.3, 0.3, 0.4), "roughness": (0.25,)})
    pane = Material("/Pane", {"diffuseColor": (0.2, 0.5, 0.3), "opacity": (0.3,), "roughness": (0.4,)})
    items = (
        Item(plane(8), moved(0, -1, 0), (0,)), Item(sphere(24), np.eye(4), (1,), **floor),
        Item(plane(1), moved(1.2, 0.4, 2.0, 90.0), (2,)), Item(sphere(24), moved(-2.2, 0.0, 0.5), (3,)),
    )  # fmt: skip
    mirror = Material("/Mirror", {"metallic": (1.0,), "roughness": (0.0,), "diffuseColor": (0.9, 0.9, 0.9)})
    return Snapshot(items, (matt, shiny, pane, mirror), (), VIEW)


def films(lightings, wanted=None, passes=("beauty",), clamp=None, **settings):  # type: ignore[no-untyped-def]
    how = TraceSettings(**{"samples": 8, "bounces": 4, **settings})
    company = Company([Lighting(lights, clamp) for lights in lightings], wanted)
    return list(TRACER.trace_films(company, snapshot(), IMAGES, SENSOR, how, passes))


def alone(lights, passes=("beauty",), clamp=None, **settings):  # type: ignore[no-untyped-def]
    how = TraceSettings(**{"samples": 8, "bounces": 4, "clamp": clamp, **settings})
    return TRACER.trace(replace(snapshot(), lights=lights), IMAGES, SENSOR, how, passes)


@pytest.mark.long
@pytest.mark.parametrize("kind", GROUPS)
@pytest.mark.parametrize("clamp", [None, 3.0])
def test_light_is_the_same_as_alone(kind: str, clamp: float | None) -> None:
    """Over many seeds the means agree within three standard errors, in as many pixels as chance allows."""
    lightings, seeds = GROUPS[kind], range(1, 33)
    together = np.array([
        [film.passes["beauty"] for film in films(lightings, clamp=clamp, seed=seed, samples=4)]
        for seed in seeds
    ])  # fmt: skip
    for k, lights in enumerate(lightings):
        by_itself = np.array([
            alone(lights, clamp=clamp, seed=seed, samples=4).passes["beauty"] for seed in seeds
        ])  # fmt: skip
        a, b = together[:, k].astype(float), by_itself.astype(float)
        error = np.sqrt((a.var(0, ddof=1) + b.var(0, ddof=1)) / len(seeds)) + 1e-6
        off = np.abs(a.mean(0) - b.mean(0)) / error
        # A difference of two means of 32 exceeds three of its errors in 0.4 % of the cases.
        assert (off[..., :3] > 3.0).mean() < 0.015, (k, off.max())
        whole = a[..., :3].mean() / b[..., :3].mean()
        assert whole == pytest.approx(1.0, abs=0.02)
        np.testing.assert_allclose(a[..., 3].mean(0), b[..., 3].mean(0), atol=1e-6)  # alpha has no noise


@pytest.mark.parametrize("kind", GROUPS)
@pytest.mark.parametrize("clamp", [None, 3.0])
def test_bytes_do_not_depend_on_which_others_are_made(kind: str, clamp: float | None) -> None:
    passes = ("beauty", "direct", "light.Key", "illuminance", "depth")
    for asked in (passes, ("beauty",)):
        whole = films(GROUPS[kind], passes=asked, clamp=clamp)
        for k in range(len(whole)):
            (one,) = films(GROUPS[kind], [k], passes=asked, clamp=clamp)
            for name in asked:
                assert np.array_equal(one.passes[name], whole[k].passes[name]), (name, k)
            assert one.noise == whole[k].noise


LARGER = Sensor(VIEW, 72, 40)
PARTLY_LIT = {
    "strengths": [(even(0.0), rect(0, (b, b, b))) for b in (0.5, 8.0)] + [(even(0.3),)],
    "sunny sky": GROUPS["sunny sky"], "sights": GROUPS["sights"],
}  # fmt: skip


def judged(kind: str, wanted=None, passes=("beauty",), control=None, **settings):  # type: ignore[no-untyped-def]
    how = TraceSettings(**{"samples": 160, "bounces": 3, "noise": 0.06, **settings})
    company = Company([Lighting(lights) for lights in PARTLY_LIT[kind]], wanted)
    return list(TRACER.trace_films(company, snapshot(), IMAGES, LARGER, how, passes, control=control))


@pytest.mark.long
@pytest.mark.parametrize("kind", PARTLY_LIT)
def test_films_that_are_clean_end_and_the_others_go_on(kind: str) -> None:
    passes = ("beauty", "light.Key", "samples", "depth", "object-id")
    for asked in (passes, ("beauty", "samples")):
        whole = judged(kind, passes=asked)
        counts = [film.passes["samples"] for film in whole]
        assert any(not np.array_equal(counts[0], each) for each in counts[1:])
        assert min(map(np.min, counts)) < max(map(np.max, counts)) <= 160
        for k, film in enumerate(whole):
            (one,) = judged(kind, [k], passes=asked)
            assert one.noise == film.noise
            for name in asked:
                assert np.array_equal(one.passes[name], film.passes[name]), (name, k)


@pytest.mark.parametrize("kind", PARTLY_LIT)
def test_a_shared_trace_that_its_seconds_end_is_taken_further_to_the_same_bytes(kind: str) -> None:
    passes, kept = ("beauty", "samples", "depth"), []
    # Some rounds, and then the time is up: what is left is traced another day.
    early = judged(
        kind, passes=passes, seconds=0.03, control=TraceControl(keep=lambda u: kept.append(deepcopy(u)))
    )
    assert all(film.unfinished for film in early)
    assert len(kept) == 1
    late = judged(kind, passes=passes, control=TraceControl(begun=kept[0]))
    straight = judged(kind, passes=passes)
    assert not any(film.unfinished for film in late)
    for ours, theirs in zip(late, straight, strict=True):
        assert all(np.array_equal(ours.passes[name], theirs.passes[name]) for name in passes)


@pytest.mark.parametrize(
    ("step", "file"), [(36.0, "soft"), (36.0, "sunny"), (30.0, "soft"), (360 / 11, "sunny")]
)
def test_a_sky_that_is_turned_by_even_steps_is_read_sorted_to_the_last_bit(
    monkeypatch: pytest.MonkeyPatch, step: float, file: str
) -> None:
    """Its image is 90 columns wide: steps of 36° are whole columns, the others are not."""
    lightings = [(sky(file, step * k), rect(0, (3.0, k, 2.0))) for k in (0, 1, 4, 7)]
    read: list[bool] = []
    usual = turned_sky.places_of

    def noted(*asked):  # type: ignore[no-untyped-def]
        found = usual(*asked)
        read.append(found[1])
        return found

    monkeypatch.setattr(turned_sky, "places_of", noted)
    ours = films(lightings)
    assert any(read)
    monkeypatch.setattr(sky_steps, "_MOST_EMPTY", 0.0)
    read.clear()
    theirs = films(lightings)
    assert not any(read)
    for one, other in zip(ours, theirs, strict=True):
        assert np.array_equal(one.passes["beauty"], other.passes["beauty"])


def test_light_passes_add_up_in_every_film() -> None:
    passes = ("beauty", "direct", "indirect", "light.Key", "light.Sky", "shadow", "illuminance")
    made = films(GROUPS["soft sky"], passes=passes, samples=128)
    for lights, film in zip(GROUPS["soft sky"], made, strict=True):
        beauty = film.passes["beauty"][..., :3]
        for parts in (("direct", "indirect"), ("light.Key", "light.Sky")):
            np.testing.assert_allclose(sum(film.passes[p] for p in parts), beauty, rtol=2e-4, atol=2e-4)
        own = alone(lights, passes, samples=128)
        for name in ("shadow", "illuminance", "light.Key"):
            mean = own.passes[name].mean()
            assert film.passes[name].mean() == pytest.approx(mean, rel=0.08), name


def test_paths_do_not_depend_on_light() -> None:
    """Everything but light that paths bring home is the same to the last bit, over all their vertices."""
    data = ("depth", "normal", "position", "albedo", "object-id", "uv", "occlusion")
    first, *others = (alone(lights, data, samples=16).passes for lights in GROUPS["places"])
    assert all(np.array_equal(first[name], other[name]) for other in others for name in data)
    # Surfaces that glow too dimly ever to be aimed at are found by following alone: what they add is the sum of
    # the throughput at every vertex of every path, a checksum of where paths went.
    sums = []
    for lights in (GROUPS["places"][0], GROUPS["places"][1], GROUPS["directions"][1], GROUPS["strengths"][0]):
        dim = replace(snapshot(), lights=lights, materials=tuple(
            replace(m, inputs={**m.inputs, "emissiveColor": (1e-20,) * 3}) for m in snapshot().materials
        ))  # fmt: skip
        found = TRACER.trace(dim, IMAGES, SENSOR, TraceSettings(samples=8, bounces=8), ("light.surfaces",))
        sums.append(found.passes["light.surfaces"] * 1e20)
    assert sums[0].mean() > 1.1  # more than what the camera sees itself
    assert all(np.array_equal(sums[0], each) for each in sums[1:])


def test_shapes_that_hide_are_told_apart_and_traces_have_room_for_eleven() -> None:
    lightings = [Lighting((even(0.2), rect(x / 4))) for x in range(13)]
    assert [len(group) for group in split(lightings, range(13), 36)] == [11, 2]
    assert [len(group) for group in split(lightings, range(13), 4)] == [4, 4, 4, 1]
    strengths = [Lighting((even(0.2), rect(0, (x, x, x)))) for x in range(1, 30)]
    assert [len(group) for group in split(strengths, range(29), 36)] == [29]


# --- in a plan --------------------------------------------------------------------------------------------

LIT = "".join(line for line in PLAN.splitlines(keepends=True) if "own-trace" not in line).replace(
    "  camera:\n", "  key:\n    weak:\n    strong: {edits: [{multiply: {on: /World/Lights/Key, intensity: 3}}]}\n  camera:\n"
).replace("{camera}.", "{camera}-{key}.")  # fmt: skip


@pytest.fixture
def lit(plan_file: Path) -> Path:
    """Four lightings of two cameras."""
    plan_file.write_text(LIT)
    return plan_file


def pictures(folder: Path) -> dict[str, bytes]:
    made = {}
    for file in sorted(folder.rglob("*.exr")):
        made[str(file.relative_to(folder))] = lattice_pixels(file)
    return made


def strength_of(stage: Usd.Stage, path: str) -> float:
    return float(UsdLux.LightAPI(stage.GetPrimAtPath(path)).GetIntensityAttr().Get())


def edited(file: Path, change) -> None:  # type: ignore[no-untyped-def]
    """Save a change of a scene that a plan has opened, as another program does."""
    layer = Sdf.Layer.OpenAsAnonymous(str(file))
    change(Usd.Stage.Open(layer))
    layer.Export(str(file))


def lattice_pixels(file: Path) -> bytes:
    import OpenImageIO as oiio

    return np.asarray(oiio.ImageInput.open(str(file)).read_image(oiio.FLOAT)).tobytes()


@pytest.mark.long
def test_cells_of_one_view_are_traced_together(lit: Path, glat) -> None:
    plan = lattice.open_plan(lit)
    run = plan.run(workers=0)
    assert run.ok
    assert (run.tasks.trace_count, run.tasks.most_together, run.finished_frames) == (2, 4, 8)
    whole = pictures(lit.parent / "out")
    assert len(whole) == 8
    assert len(set(whole.values())) == 8
    # One of them, some of them, a small memory, two workers, axes in another order: the same bytes.
    for into, options in {
        "one": {"at": "day/strong/Front"}, "some": {"at": ["night//Side", "day/weak/Side"]},
        "small": {"films": 1}, "two": {"workers": 2},
    }.items():  # fmt: skip
        other = lattice.open_plan(lit).run(**{"workers": 0, **options}, into=lit.parent / into)
        assert other.ok
        assert into != "small" or other.tasks.trace_count == 8  # each lighting by itself
        found = {name.removeprefix("out/"): data for name, data in pictures(lit.parent / into).items()}
        assert found, into
        assert all(whole[name] == data for name, data in found.items()), into
    lit.write_text(LIT + "order: [key, camera, light]\n")
    assert lattice.open_plan(lit).run(workers=0, into=lit.parent / "order").ok
    found = {name.removeprefix("out/"): data for name, data in pictures(lit.parent / "order").items()}
    assert found == whole
    (lit.parent / "out/day/Front-weak.0001.exr").unlink()
    again = lattice.open_plan(lit).run(workers=0)
    assert (again.finished_frames, pictures(lit.parent / "out")) in ((1, whole), (8, whole))


def test_what_is_traced_by_itself(lit: Path) -> None:
    plan = lattice.open_plan(lit)
    limited = {"exposure": "metered", "clamp": 4}  # one film's limit of light hangs on all of its light
    for said in ({"own_trace": True}, limited):
        assert plan.override(**said).tasks().trace_count == 8, said
    for said in ({}, {"noise": "1%"}, {"seconds": "1 h"}, {"clamp": 4}):
        assert plan.override(**said).tasks().trace_count == 2, said


@pytest.mark.long
def test_what_a_time_limit_ended_is_taken_further_for_one_cell_or_all(lit: Path, tmp_path: Path) -> None:
    unlimited = LIT.replace("samples: 4", "samples: 6400").replace("48x32", "24x16")
    lit.write_text(unlimited)
    straight = lattice.open_plan(lit).run(workers=0, into=tmp_path / "straight")
    lit.write_text(unlimited.replace("samples: 6400", "samples: 6400\n  seconds: 0.1"))
    early = lattice.open_plan(lit).run(workers=0)
    assert early.ok
    assert (early.table()["unfinished"] == 1).all()
    kept = lit.with_name("room-unfinished")
    assert len(list(kept.iterdir())) == 2
    whole = pictures(straight.output / "out")
    one = lattice.open_plan(lit).run(at="night/strong/Side", workers=0, further=True)
    assert one.finished_frames == 1
    name = "night/Side-strong.0001.exr"
    assert pictures(lit.parent / "out")[name] == whole[name]
    assert lattice.open_plan(lit).run(workers=0, further=True).finished_frames == 7
    assert pictures(lit.parent / "out") == whole
    assert not kept.exists()


@pytest.mark.long
def test_a_cell_of_a_shared_trace_is_dropped_retried_and_hurried_by_itself(lit: Path) -> None:
    steering, said = lattice.steering(lit), []
    lit.write_text(LIT.replace("samples: 4", "samples: 400"))

    def order(event: lattice.Event) -> None:
        if isinstance(event, lattice.Started) and not said:
            said.append(steering.drop("night/weak/Side"))
            said.append(steering.prioritise(5, "day/weak/Side"))

    run = meanwhile(lattice.open_plan(lit), order)
    assert run.ok
    assert said == ["1 frame left out", "1 frame now with priority 5"]
    there = {file.name for file in (lit.parent / "out/night").glob("*.exr")}
    assert there == {"Front-strong.0001.exr", "Front-weak.0001.exr", "Side-strong.0001.exr"}
    (lit.parent / "out/day/Side-weak.0001.exr").unlink()
    whole = pictures(lit.parent / "out")
    again = lattice.open_plan(lit).run(workers=0)  # what was dropped, and what was taken away
    assert [[m.cell.address for m in task.members] for task in again.outlook.todo] == [
        ["day/weak/Side", "night/weak/Side"]
    ]
    assert again.finished_frames == 2
    after = pictures(lit.parent / "out")
    assert len(after) == 8
    assert whole.items() <= after.items()
    straight = lattice.open_plan(lit).run(workers=0, fresh=True)
    assert (straight.finished_frames, pictures(lit.parent / "out")) == (8, after)


def test_only_their_light_decides_in_which_order_lightings_are_traced(lit: Path) -> None:
    plan = lattice.open_plan(lit)

    def order(**said: object) -> list[list[str]]:
        return [[cell.address for cell, _ in task.films] for task in plan.override(**said).tasks()]

    for said in (
        {"seconds": "1 h"},
        {"samples": 9},
        {"noise": "1%"},
        {"size": "24x16"},
        {"passes": ["beauty"]},
    ):
        assert order(**said) == order(), said  # or a time limit would give other noise


def test_cells_that_cannot_be_composed_are_not_only_counted(lit: Path, glat) -> None:
    lit.write_text(LIT.replace("{on: /World/Lights/Key,", "{on: /World/Lights/Kee,"))
    code, said = glat(lit.parent, "cells")
    assert (
        code,
        "not all can be rendered, and what cannot counts as a trace each: The scene has no prim" in said,
    ) == (
        0,
        True,
    ), said
    plan = lattice.open_plan(lit)
    assert "Kee" in plan.sharing(at="night/strong/Side").problem
    assert plan.sharing(at="night/weak/Side").problem == ""


def test_equal_cells_are_traced_once_however_they_are_said(lit: Path) -> None:
    strength = strength_of(Usd.Stage.Open(str(lit.with_name("room.usda"))), "/World/Lights/Key")
    lit.write_text(LIT.replace("{multiply: {on: /World/Lights/Key, intensity: 3}}", (
        f"{{set: {{on: /World/Lights/Key, intensity: {strength}}}}}"
    )))  # fmt: skip
    tasks = lattice.open_plan(lit).tasks()
    # Strong is the same as weak now by day, and at night, where the key is twice as strong, it is not.
    assert [len(task.films) for task in tasks] == [3, 3]
    assert [len({m.film for m in task.members if "day" in m.cell.address}) for task in tasks] == [1, 1]
    assert [len(task.members) for task in tasks] == [4, 4]


def test_scenes_are_composed_however_many_cells_are_made_of_them(lit: Path, monkeypatch) -> None:
    strength = strength_of(Usd.Stage.Open(str(lit.with_name("room.usda"))), "/World/Lights/Key")
    text = LIT.replace(
        "{multiply: {on: /World/Lights/Key, intensity: 3}}",
        f"{{set: {{on: /World/Lights/Key, intensity: {strength}}}}}",
    )
    stops = "  stops:\n    a:\n    b: {exposure: 1}\n    c: {exposure: 2}\n  camera:\n"
    lit.write_text(text.replace("  camera:\n", stops).replace("{camera}-", "{camera}-{stops}-"))
    for most, traces in (8, 2), (7, 8):  # of 24 cells in 8 scenes
        monkeypatch.setattr("grandlattice.runs.fingerprints.MOST_COMPOSED", most)
        tasks = lattice.open_plan(lit).tasks()
        assert sum(len(task.members) for task in tasks) == 24
        assert len(tasks) == traces


def test_composing_tells_how_far_it_is_and_goes_on_where_it_was_ended(
    lit: Path, tmp_path: Path, monkeypatch
) -> None:
    monkeypatch.setenv("GRANDLATTICE_CACHE", str(tmp_path / "cache"))  # nothing is known
    told: list[tuple[int, int]] = []

    def end_at_three(done: int, of: int) -> None:
        told.append((done, of))
        if done == 3:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        lattice.open_plan(lit).tasks(on_composing=end_at_three)
    lattice.open_plan(lit).sharing(on_composing=lambda *far: told.append(far))
    lattice.open_plan(lit).outlook(on_composing=lambda *far: told.append(far))
    assert told == [(1, 8), (2, 8), (3, 8), (1, 5), (2, 5), (3, 5), (4, 5), (5, 5)]


def test_only_what_holds_a_lamp_is_traced_again_when_it_changes(lit: Path) -> None:
    assert lattice.open_plan(lit).run(workers=0).ok
    scene, path = lit.with_name("room.usda"), "/World/Lights/Sky"
    edited(scene, lambda stage: stage.GetPrimAtPath(path).GetAttribute("inputs:intensity").Set(2.0))
    left = lattice.open_plan(lit).outlook().todo
    # By night the sky is hidden.
    assert {m.cell.address for task in left for m in task.members} == {
        "day/weak/Front", "day/weak/Side", "day/strong/Front", "day/strong/Side",
    }  # fmt: skip
    assert lattice.open_plan(lit).run(workers=0).ok
    edited(scene, lambda stage: UsdGeom.Cube.Define(stage, "/World/Unused").MakeInvisible())
    edited(scene, lambda stage: stage.GetPrimAtPath(path).SetDocumentation("from the north"))
    assert not lattice.open_plan(lit).outlook().todo


def test_frames_at_which_nothing_moves_are_traced_once(lit: Path) -> None:
    def still(stage: Usd.Stage) -> None:
        for prim in stage.Traverse():
            for attribute in prim.GetAttributes():
                if attribute.GetNumTimeSamples():
                    attribute.Clear()

    edited(lit.with_name("room.usda"), still)
    tasks = lattice.open_plan(lit).override(frames="1-3").tasks()
    assert (tasks.trace_count, tasks.frame_count) == (2, 24)


def test_digests_follow_the_composed_scene(lit: Path) -> None:
    """Views and lights of many scenes: which changes touch which half."""
    file = lit.with_name("room.usda")
    key = "/World/Lights/Key"

    def halves(change=lambda stage: None) -> tuple[bytes, bytes]:  # type: ignore[no-untyped-def]
        copy = file.with_name("changed.usda")
        copy.write_bytes(file.read_bytes())
        edited(copy, change)
        text = lit.read_text().replace("room.usda", "changed.usda")
        other = lit.with_name("changed.lattice.yaml")
        other.write_text(text)
        plan = lattice.open_plan(other)
        cell = plan.cells["day/weak/Front"]
        taken = CellSnapshots(plan.scene, plan.model, plan.folder).take(cell.settings, cell.edits, 1)
        digests = SnapshotDigests()
        return digests.view(taken), digests.lights(taken)

    def at(path: str, name: str, value: object):  # type: ignore[no-untyped-def]
        return lambda stage: stage.GetPrimAtPath(path).GetAttribute(name).Set(value)

    before = halves()
    light_changes = [
        at(key, "inputs:intensity", 7.0), at(key, "inputs:color", Gf.Vec3f(1, 0.5, 0.2)),
        at(key, "inputs:exposure", 1.0), lambda s: s.GetPrimAtPath(key).SetActive(False),
        lambda s: UsdGeom.Imageable(s.GetPrimAtPath(key)).MakeInvisible(),
        lambda s: UsdLux.SphereLight.Define(s, "/World/Another"),
        lambda s: UsdGeom.Xformable(s.GetPrimAtPath(key)).AddTranslateOp(opSuffix="more").Set((1, 0, 0)),
    ]  # fmt: skip
    for n, change in enumerate(light_changes):
        view, lights = halves(change)
        assert (view == before[0], lights == before[1]) == (True, False), n
    view_changes = [
        lambda s: UsdGeom.Imageable(s.GetPrimAtPath("/World/Toys/BallA")).MakeInvisible(),
        lambda s: UsdGeom.Sphere.Define(s, "/World/Toys/BallC"),
        at("/World/Toys/BallA", "doubleSided", True),
        at("/World/Looks/Red/Surface", "inputs:roughness", 0.9),
    ]
    for n, change in enumerate(view_changes):
        view, lights = halves(change)
        assert (view == before[0], lights == before[1]) == (False, True), n
    nothing = [
        lambda s: UsdGeom.Cube.Define(s, "/World/Hidden").MakeInvisible(),
        lambda s: s.GetPrimAtPath(key).SetMetadata("comment", "bright"),
        lambda s: s.GetPrimAtPath(key).SetDocumentation("bright"),
        lambda s: UsdGeom.Camera.Define(s, "/World/Spare"),
        lambda s: at(key, "inputs:intensity", strength_of(s, key))(s),
    ]
    for n, change in enumerate(nothing):
        assert halves(change) == before, n
