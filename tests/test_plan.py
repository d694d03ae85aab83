"""Reading plans, multiplying them and naming files: properties, and messages for mistakes."""

from __future__ import annotations

import itertools
import os
import subprocess
import sys
from pathlib import Path
from random import Random

import pytest
from hypothesis import given, settings, strategies as st

from conftest import PLAN
from grandlattice.errors import LatticeError, NoSuchCell, OutputError, PlanError
from grandlattice.plan import (
    CellMaker,
    FileNames,
    Filing,
    PrimFact,
    SceneFacts,
    build_lattice,
    cells_at,
    parse,
    planned_files,
    validate,
)
from grandlattice.plan.spelled_values import read_frames, read_percent, read_size

FACTS = SceneFacts((PrimFact("/World/Cameras/Front"), PrimFact("/World/Cameras/Side")), (1, 24), "room")


def cells_of(text: str, facts: SceneFacts = FACTS) -> list:
    document = parse(text)
    model = validate(document)
    lattice = build_lattice(model, document, facts)
    make = CellMaker(lattice, facts)
    return [make(i) for i in range(len(lattice))]


def collided(text: str) -> None:
    document = parse(text)
    lattice = build_lattice(validate(document), document, FACTS)
    Filing(lattice, CellMaker(lattice, FACTS), FACTS, FileNames()).refuse_collisions()


# --- mistakes: each is said with its place and what was meant --------------------------------

MISTAKES = [
    ("size: 48x32", "sise: 48x32", "sise is not known here. Did you mean size?", "5:3"),
    ("size: 48x32", "size: 48 by 32", "a size is written 1280x720", "5:3"),
    ("samples: 4", "samples: many", "samples should be a whole number, not 'many'", "6:3"),
    ("samples: 4", "samples: 0", "samples should be at least 1", "6:3"),
    ("[beauty, depth]", "[beauty, depht]", "There is no pass depht. Did you mean depth?", "8:"),
    ("[beauty, depth]", "[+depth, beauty]", "either replaces (depth) or amends", "8:"),
    ("[exr, png]", "[exr, bmp]", "there is no format 'bmp'", "9:"),
    ("samples: 4", "shutter: wide", "a shutter is open for a number of frames", "7:3"),
    ("samples: 4", "region: 1 2 3", "a region is written left top right bottom", "6:3"),
    ("samples: 4", "region: 900 900 901 901", "lies outside the picture", "6:3"),
    ("samples: 4", "projection: fisheye", "'fisheye' is not one of them", "6:3"),
    ("axes:", "own-passes: {key: {of: lamp}}\naxes:", "A pass of your own is {of: light, on: LIGHTS}", ""),
    ("axes:", "own-passes: {depth: {of: light, on: /L}}\naxes:", "there is a pass depth already", ""),
    ("hide:", "hdie:", "hdie is no edit. Did you mean hide?", "16:11"),
    ("on: /World/Lights/Key\n            intensity: 2", "on: /World/Lights/Key", "this names no attribute", ""),
    ("- hide: /World/Lights/Sky", "- {hide: /World/A, show: /World/B}", "each edit is an item of its own", "16:"),
    ("lattice: 1", "lattice: 2", "lattice should be 1", "1:1"),
    ("scene: room.usda\n", "", "scene is missing", ""),
    ("scene: room.usda", "scene: &room room.usda", "YAML anchor", "2:8"),
    ("scene: room.usda", "scene: *room", "YAML alias", "2:8"),
    ("scene: room.usda", "scene: !path room.usda", "YAML tag", "2:8"),
    ('output: "out/{light}', "output: {light}/out/{light}", "{light}", "10:"),
    ("    day:\n", "    day:\n    day:\n", "day stands here twice", "14:"),
    ("    each: cameras\n", "", "his axis has no entries", "20:3"),
    ("each: cameras", "each: camera", "'camera' is not one of them. Did you mean cameras?", "21:"),
    ("each: cameras\n", "each: cameras\n    with: {Frnt: {}}\n", "camera has no entry Frnt. Did you mean Front?", "22:12"),
    ("axes:", "order: [ligth]\naxes:", "no axis ligth to order by. Did you mean light?", "11:"),
    ("axes:", "rules:\n  - drop: {light: nihgt}\naxes:", "light has no entry nihgt. Did you mean night?", "12:5"),
    ("axes:", "rules:\n  - drop: {light: [day, night]}\naxes:", "no cell is left", "12:5"),
    ("axes:", "rules:\n  - {}\naxes:", "rule is one of drop, keep, at or add", "12:5"),
    ("axes:", "rules:\n  - add: {light: day}\n    name: x\naxes:", "camera is missing", "12:5"),
    ("    day:\n", "    day: {use: [nite]}\n", "no take nite", ""),
    ("    day:\n", "    day: {quality: finall}\n", "no quality finall", ""),
    ("{camera}", "{camra}", "no field {camra}. Did you mean camera?", "10:"),
    ("{frame:04d}", "{frame!r}", "only a width may follow", "10:"),
    ("out/{light}/", "../{light}/", "leaves the output folder", "10:"),
    ('"out/', '"/out/', "leaves the output folder", "10:"),
    ("out/{light}/{camera}", "out/con.{light}/{camera}", "not every file system can hold", "10:"),
    ("{light}/", "", "put {light} into the output template", "10:"),
    (".{frame:04d}", "", "put {frame:04d} into the output template", "11:"),
    ("  light:\n", "  frame:\n", "An axis cannot be called frame", "13:3"),
]  # fmt: skip


@pytest.mark.parametrize(("right", "wrong", "says", "where"), MISTAKES, ids=[m[1][:24] for m in MISTAKES])
def test_a_mistake_is_said_with_its_place_and_its_cure(right: str, wrong: str, says: str, where: str) -> None:
    text = PLAN.replace("samples: 4", "frames: 1-2\n  samples: 4") if "frame" in says else PLAN
    assert right in text
    with pytest.raises(LatticeError) as caught:
        collided(text.replace(right, wrong, 1))
    assert says in str(caught.value).replace("\n", " ")
    assert f":{where}" in str(caught.value.place) or not where


@pytest.mark.parametrize(
    "text", ["", "- a list", "{", "\t- x", "a: [1,", "just words", "a: b: c", "\x00", "%YAML 1.1\n---\na: 1"]
)
def test_what_is_no_plan_is_an_error_with_a_place_and_never_a_traceback(text: str) -> None:
    with pytest.raises(PlanError):
        validate(parse(text))


def test_deep_and_multiplying_yaml_is_refused_at_once() -> None:
    laughs = "a: &a [x, x]\n" + "".join(
        f"{c}: &{c} [*{p}, *{p}]\n" for p, c in itertools.pairwise("abcdefghij")
    )
    for text in (laughs, "[" * 10_000, "a: " + "{b: " * 100):
        with pytest.raises(PlanError):
            parse(text)


@pytest.mark.long
@settings(max_examples=200, deadline=None)
@given(st.text(max_size=300))
def test_any_text_is_a_plan_or_a_plan_error(text: str) -> None:
    try:
        validate(parse(text))
    except PlanError:
        pass


def test_scalars_stay_what_was_typed() -> None:
    text = PLAN.replace("    day:\n", "    040:\n    1.10:\n    no:\n    2026-06-21:\n")
    names = list(dict.fromkeys(cell.coordinates["light"] for cell in cells_of(text)))
    assert names == ["040", "1.10", "no", "2026-06-21", "night"]


@pytest.mark.parametrize(
    ("text", "frames"),
    [("12", (12,)), ("1-4", (1, 2, 3, 4)), ("1-9 by 4", (1, 5, 9)), ("1,5,9-11", (1, 5, 9, 10, 11)), ("-2-1", (-2, -1, 0, 1)), ("3,3", (3,))],
)  # fmt: skip
def test_frames(text: str, frames: tuple[int, ...]) -> None:
    assert read_frames(text).numbers == frames


@pytest.mark.parametrize("text", ["", "a", "5-1", "1-9 by 0", "1-", "1-9999999999", "1..4"])
def test_wrong_frames(text: str) -> None:
    with pytest.raises(ValueError, match="frames"):
        read_frames(text)


def test_sizes_and_percentages() -> None:
    assert str(read_size("1280x720").scaled(read_percent("25%"))) == "320x180"
    assert str(read_size("3x3").scaled(0.01)) == "1x1"


# --- the matrix ------------------------------------------------------------------------------

names = st.sampled_from(["a", "b", "c", "d", "e"])


@st.composite
def plans(draw):
    """A random plan and what a plain reading of it says: addresses in running order."""
    axes = {
        axis: draw(st.lists(names, min_size=1, max_size=4, unique=True))
        for axis in draw(st.lists(st.sampled_from(["p", "q", "r", "s"]), min_size=1, max_size=4, unique=True))
    }
    order = draw(st.permutations(list(axes)))[: draw(st.integers(0, len(axes)))]
    rules = []
    for _ in range(draw(st.integers(0, 4))):
        match = {
            axis: draw(st.lists(st.sampled_from(entries), min_size=1, unique=True))
            for axis, entries in axes.items()
            if draw(st.booleans())
        }
        rules.append((draw(st.sampled_from(["drop", "keep"])), match))
    skips = {axis: [e for e in entries if draw(st.integers(0, 5)) == 0] for axis, entries in axes.items()}
    return axes, order, rules, skips


def brute_force(axes, order, rules, skips) -> list[str]:
    """The same in ten lines: every combination, sorted by the order, filtered rule by rule."""
    by_speed = [*order, *(axis for axis in axes if axis not in order)]
    cells = [dict(zip(by_speed, c, strict=True)) for c in itertools.product(*(axes[a] for a in by_speed))]
    for kind, match in rules:
        hit = [all(cell[axis] in match[axis] for axis in match) for cell in cells]
        cells = [cell for cell, h in zip(cells, hit, strict=True) if h == (kind == "keep")]
    cells = [cell for cell in cells if not any(cell[axis] in skips[axis] for axis in axes)]
    return ["/".join(cell[axis] for axis in axes) for cell in cells]


def written(axes, order, rules, skips) -> str:
    lines = ["lattice: 1", "scene: x.usda", "axes:"]
    for axis, entries in axes.items():
        lines.append(f"  {axis}:")
        lines += [f"    {e}: {{skip: true}}" if e in skips[axis] else f"    {e}:" for e in entries]
    if rules:
        lines.append("rules:")
        for kind, match in rules:
            body = "{" + ", ".join(f"{a}: [{', '.join(v)}]" for a, v in match.items()) + "}"
            lines.append(f"  - {kind}: " + (body if kind == "drop" else f"[{body}]"))
    if order:
        lines.append(f"order: [{', '.join(order)}]")
    return "\n".join(lines) + "\n"


@pytest.mark.long
@settings(max_examples=300, deadline=None)
@given(plans())
def test_any_plan_gives_the_cells_of_a_plain_reading_in_its_order(plan) -> None:
    expected = brute_force(*plan)
    said = "no mistake"
    try:
        assert [cell.address for cell in cells_of(written(*plan))] == expected
    except PlanError as problem:
        said = problem.what
    # A rule that changes nothing, or a plan that leaves nothing, is an error by design.
    assert said == "no mistake" or not expected or "drops no cell" in said or "no cell is left" in said


@settings(max_examples=60, deadline=None)
@given(plans())
def test_index_and_address_are_opposites(plan) -> None:
    document = parse(written(*plan))
    model = validate(document)
    try:
        lattice = build_lattice(model, document, FACTS)
    except PlanError:
        return
    make = CellMaker(lattice, FACTS)
    for index in range(len(lattice)):
        assert lattice.index_of(lattice.entries(index)) == index
        assert cells_at(lattice, [make(index).address]).tolist() == [index]


def random_plan(random: Random):
    """The same as `plans`, from a generator that is the same in every process."""
    axes = {
        axis: random.sample("abcde", random.randint(1, 4))
        for axis in random.sample("pqrs", random.randint(1, 4))
    }
    order = random.sample(list(axes), random.randint(0, len(axes)))
    rules = [
        (random.choice(["drop", "keep"]), {a: random.sample(es, random.randint(1, len(es))) for a, es in axes.items() if random.random() < 0.5})
        for _ in range(random.randint(0, 3))
    ]  # fmt: skip
    return axes, order, rules, {axis: [] for axis in axes}


def cells_of_random_plans() -> list[list[str]]:
    """Addresses of fifty random plans, each compared with a plain reading; what is refused has none."""
    random, found = Random(20261123), []
    for _ in range(50):
        plan = random_plan(random)
        try:
            found.append([cell.address for cell in cells_of(written(*plan))])
            assert found[-1] == brute_force(*plan)
        except PlanError:
            found.append([])
    return found


@pytest.mark.long
def test_the_order_does_not_hang_on_pythons_hash_seed_or_process() -> None:
    script = (
        "import sys; sys.path.insert(0, 'tests')\n"
        "from test_plan import cells_of_random_plans\nprint(cells_of_random_plans())"
    )
    said = {
        subprocess.run(
            [sys.executable, "-c", script],
            env={**os.environ, "PYTHONHASHSEED": seed},
            capture_output=True,
            check=True,
        ).stdout.decode()
        for seed in ("1", "4242")
    }
    assert said == {f"{cells_of_random_plans()}\n"}


def test_addresses_globs_and_axes() -> None:
    document = parse(PLAN + "rules:\n  - add: {light: day, camera: Side}\n    name: cover\n")
    model = validate(document)
    lattice = build_lattice(model, document, FACTS)

    def at(*wanted: str) -> list[int]:
        return cells_at(lattice, wanted).tolist()

    assert at("day/Front") == [0]
    assert at("/Side") == [1, 3, 4]
    assert at("*/F*") == [0, 2]
    assert at("day,night/Front") == [0, 2]
    assert at("light=night", "camera=Side") == [3]
    assert at("cover") == [4]
    for wrong in ("day", "day/Frnt", "lihgt=day", "night/cover"):
        with pytest.raises(NoSuchCell):
            at(wrong)


def test_who_wins() -> None:
    text = PLAN.replace("    day:\n", "    day: {use: [base], exposure: 2}\n") + (
        "takes:\n"
        "  deep: {seed: 5, samples: 8}\n"
        "  base: {use: [deep], samples: 9, exposure: 1, quality: fine, edits: [{hide: /World/Floor}]}\n"
        "qualities:\n"
        "  fine: {samples: 100, denoise: true, seed: 6}\n"
        "rules:\n"
        "  - at: {light: day, camera: Side}\n"
        "    passes: [+normal, -depth]\n"
        "    edits: [{show: /World/Floor}]\n"
    )
    front, side = cells_of(text)[:2]
    assert front.settings.samples == 9  # a key beside the quality wins over it
    assert front.settings.seed == 6  # the quality is named after the take below it
    assert front.settings.exposure == 2  # an entry's own key wins over its takes
    assert front.settings.denoise
    assert front.settings.passes == ("beauty", "depth")
    assert side.settings.passes == ("beauty", "normal")
    assert [placed.edit.verb for placed in side.edits] == ["hide", "show"]
    assert side.edits[1].source == "rule 1"


# --- names of files --------------------------------------------------------------------------


@pytest.mark.long
@settings(max_examples=200, deadline=None)
@given(st.text(min_size=1, max_size=40).filter(lambda t: not set(t) & set('\n\r\t"\\')))
def test_no_entry_can_lead_out_of_the_output_folder(name: str) -> None:
    try:
        cells = cells_of(PLAN.replace("    day:\n", f'    "{name}":\n'))
        files = [f.path for cell in cells for f in planned_files(cell, FileNames())]
    except (PlanError, OutputError):
        return
    for path in files:
        assert path.startswith("out/")
        assert ".." not in path.split("/")
        assert "\\" not in path


def test_names_that_differ_in_case_or_unicode_form_only_collide() -> None:
    for a, b in (("Day", "day"), ("caf\u00e9", "cafe\u0301")):
        with pytest.raises(OutputError, match="would both be written"):
            collided(PLAN.replace("    day:\n", f"    {a}:\n    {b}:\n"))


def test_passes_and_formats_have_their_own_files_where_the_template_says_so() -> None:
    text = PLAN.replace("{camera}.", "{camera}.{pass}.")
    paths = [f.path for f in planned_files(cells_of(text)[0], FileNames())]
    assert paths == [
        "out/day/Front.beauty.0001.exr",
        "out/day/Front.depth.0001.exr",
        "out/day/Front.beauty.0001.png",
        "out/day/Front.depth.0001.png",
    ]


@pytest.mark.long
def test_hostile_plans_are_refused_in_words(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.syspath_prepend(Path(__file__).parent / "torture")
    monkeypatch.chdir(tmp_path)
    from hostile_plans import SMALL, read

    assert [problem for text in SMALL if (problem := read(text, seconds=30.0))] == []
