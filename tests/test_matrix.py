"""The whole matrix: axes that write themselves, what goes together, order, names, many cells at once."""

from __future__ import annotations

import itertools
import json
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from ruamel.yaml import YAML

import grandlattice as lattice
from conftest import PLAN
from grandlattice.demo.demo_plan import PLAN as DEMO
from grandlattice.errors import OutputError, PlanError
from grandlattice.plan import (
    CellMaker,
    FileNames,
    Filing,
    PrimFact,
    SceneFacts,
    Stamp,
    build_lattice,
    cells_at,
    parse,
    planned_files,
    settled,
    validate,
)
from grandlattice.plan.file_names import folded
from grandlattice.plan.sweeps import Sweep
from grandlattice.runs import Fingerprints, Ingredients, list_tasks

CAMERAS = (PrimFact("/A/Front"), PrimFact("/A/Side"), PrimFact("/B/Front", visible=False))
FACTS = SceneFacts(
    CAMERAS, (1, 24), "room", (PrimFact("/L/Key"), PrimFact("/L/Rim", visible=False)),
    {"/Toys": {"size": ["small", "large"]}}, lambda text, place: ["/A/Side", "/L/Key"],
)  # fmt: skip


def planned(text: str, facts: SceneFacts = FACTS):
    document = parse("lattice: 1\nscene: x.usda\n" + text)
    whole = build_lattice(validate(document), document, facts)
    return whole, CellMaker(whole, facts)


def addresses(text: str, facts: SceneFacts = FACTS) -> list[str]:
    whole, make = planned(text, facts)
    return [make(i).address for i in range(len(whole))]


# --- axes that write themselves -----------------------------------------------------------------

SWEEPS = [
    ({"from": "0", "to": "350", "step": "10"}, 36, ("000", "0"), ("350", "350")),
    ({"from": "0", "to": "1", "step": "0.1"}, 11, ("0.0", "0"), ("1.0", "1")),
    ({"from": "-1", "to": "1", "count": "5"}, 5, ("-1.0", "-1"), ("1.0", "1")),
    ({"from": "5", "to": "1", "step": "-2"}, 3, ("5", "5"), ("1", "1")),
    ({"from": "08:00", "to": "18:30", "step": "1h30min"}, 8, ("0800", "08:00"), ("1830", "18:30")),
    ({"from": "2026-02-27", "to": "2026-03-02", "step": "1d"}, 4, ("2026-02-27",) * 2, ("2026-03-02",) * 2),
    ({"from": "1", "to": "2", "count": "1"}, 1, ("1", "1"), ("1", "1")),
]  # fmt: skip


@pytest.mark.parametrize(("sweep", "count", "first", "last"), SWEEPS)
def test_sweeps_are_named_by_value_and_padded(sweep, count, first, last) -> None:
    entries = [(e.name, e.value) for e in Sweep.model_validate(sweep).entries()]
    assert (len(entries), entries[0], entries[-1]) == (count, first, last)
    assert len({name for name, _ in entries}) == count


@pytest.mark.parametrize(
    ("sweep", "says"),
    [
        ("{from: 0, to: 5, step: -1}", "never reaches 5"),
        ("{from: 0, to: 5}", "either a step or a count"),
        ("{from: a, to: 5, step: 1}", "'a' is no number"),
        ("{from: 0, to: 1000000, step: 1}", "is more than 10,000"),
        ('{from: "08:00", to: "25:00", step: 1h}', ""),
    ],
)
def test_a_sweep_that_cannot_be_says_why(sweep: str, says: str) -> None:
    with pytest.raises(PlanError, match=says) as caught:
        planned(f"axes:\n  a:\n    sweep: {sweep}\n")
    assert str(caught.value.place) == "the plan:5:5"


@pytest.mark.parametrize(
    ("wrong", "says", "where"),
    [
        ("y: '{a}'", "y: '{b}'", "10:11"),
        ("exposure: 1", "exposure: x", "6:5"),
        ("samples: 2", "samples: few", "11:18"),
        ("seed: 3", "sed: 3", "15:14"),
    ],
)
def test_a_mistake_in_an_axis_that_writes_itself_is_shown_where_it_stands(wrong, says, where) -> None:
    text = (
        "axes:\n  a:\n    sweep: {from: 0, to: 3, step: 1}\n    exposure: 1\n    edits:\n      - turn:\n"
        "          on: /Sky\n          y: '{a}'\n    with: {'2': {samples: 2}}\n"
        "  c:\n    each: cameras\n    with:\n      Side: {seed: 3}\n"
    )
    assert wrong in text
    with pytest.raises(PlanError) as caught:
        planned(text.replace(wrong, says))
    assert str(caught.value.place) == f"the plan:{where}"


def test_a_sweeps_value_stands_in_its_edits_and_settings_and_is_found_unpadded() -> None:
    text = (
        "defaults:\n  output: '{sky}/{camera}.{ext}'\naxes:\n  sky:\n    sweep: {from: 0, to: 350, step: 10}\n"
        "    exposure: '{value}'\n    edits:\n      - turn-to: {on: /Sky, y: '{sky}'}\n"
        "    with: {'40': {seed: 7}}\n  camera:\n    each: cameras\n"
    ).replace("0, to: 350", "-40, to: 40")
    whole, make = planned(text)
    assert len(whole) == 9 * 3
    cell = make(int(cells_at(whole, ["sky=40"])[0]))
    assert cell.address == "40/A-Front"
    assert cell.edits[0].edit.body.y == 40.0
    assert (cell.settings.exposure, cell.settings.seed) == (40.0, 7)
    assert next(planned_files(cell, FileNames())).path == "40/A-Front.exr"
    with pytest.raises(PlanError, match="an exposure is between -50 and 50 stops, not '60'"):
        planned(text.replace("to: 40", "to: 90"))


def test_axes_of_the_scene(tmp_path: Path) -> None:
    (tmp_path / "skies").mkdir()
    for name in ("dusk.hdr", "dawn.hdr", "notes.txt"):
        (tmp_path / "skies" / name).write_text("")
    facts = SceneFacts(**{**FACTS.__dict__, "folder": tmp_path})
    assert addresses("axes: {c: {each: cameras}}") == ["A-Front", "Side", "B-Front"]
    assert addresses("axes: {c: {each: cameras, among: visible}}") == ["Front", "Side"]
    assert addresses("axes: {c: {each: cameras, among: //Side*, with: {Side: {seed: 1}}}}") == ["Side"]
    assert addresses("axes: {l: {each: lights}}") == ["Key", "Rim"]
    assert addresses("takes: {a: {seed: 1}, b: {use: [a]}}\naxes: {t: {each: takes}}") == ["a", "b"]
    solo = "axes:\n  l:\n    each: lights\n    edits: [{hide: {on: /L, except: '{l}'}}]\n"
    _, make = planned(solo)
    assert [make(i).edits[0].edit.body.except_ for i in range(2)] == [["/L/Key"], ["/L/Rim"]]
    _whole, make = planned("axes:\n  s: {each: {variants: size, of: /Toys}}\n")
    assert [make(i).edits[0].edit.body.values() for i in range(2)] == [{"size": "small"}, {"size": "large"}]
    sky = "axes:\n  sky:\n    each: {files: skies/*.hdr}\n    edits: [{set: {on: /Sky, texture: '{sky}'}}]\n"
    _whole, make = planned(sky, facts)
    assert [make(i).address for i in range(2)] == ["dawn", "dusk"]
    assert make(1).edits[0].edit.body.values() == {"texture": "skies/dusk.hdr"}
    for wrong, says in (
        ("{c: {each: {variants: sise, of: /Toys}}}", "Did you mean size?"),
        ("{c: {each: {variants: size, of: /Toy}}}", "Did you mean /Toys?"),
        ("{c: {each: {files: ../*.hdr}}}", "is not below the plan's folder"),
        ("{c: {each: {files: nothing/*}}}", "finds none"),
        ("{c: {each: [x]}}", "ach is cameras, lights, takes"),
        ("{c: {each: takes}}", "each: takes finds none"),
    ):
        with pytest.raises(PlanError, match=says.replace("?", r"\?")):
            planned(f"axes: {wrong}", facts)


# --- the matrix against a plain reading ---------------------------------------------------------

NAMES = st.sampled_from(["a", "b", "ab", "B", "c-d", "1"])


@st.composite
def matrices(draw):
    """A random plan with axes that go together, frames, rules and an order, as plain data."""
    count = draw(st.integers(1, 4))
    axes = {f"x{k}": draw(st.lists(NAMES, min_size=1, max_size=3, unique=True)) for k in range(count)}
    together = []
    if count > 1 and draw(st.booleans()):
        pair = draw(st.permutations(list(axes)))[:2]
        axes[pair[1]] = [f"t{i}" for i in range(len(axes[pair[0]]))]
        together = [sorted(pair)]
    said = {
        (axis, entry): draw(st.sampled_from(["", "1-3", "2", "1-4 by 2"]))
        for axis, es in axes.items()
        for entry in es
    }
    order = draw(st.permutations([*axes, "frame"]))[: draw(st.integers(0, count + 1))]
    wait = [axis for axis in axes if draw(st.integers(0, 3)) == 0]
    rules = []
    for _ in range(draw(st.integers(0, 3))):
        match = {
            a: draw(st.lists(st.sampled_from(es), min_size=1, unique=True))
            for a, es in axes.items()
            if draw(st.booleans())
        }
        rules.append((draw(st.sampled_from(["drop", "at"])), match, draw(st.sampled_from(["1-2", "5"]))))
    fields = draw(
        st.lists(
            st.sampled_from(
                [*(f"{{{a}}}" for a in axes), "{frame}", "{frame:03d}", "{cell}", "{index}", "-", "/v", "t"]
            ),
            min_size=1,
            max_size=6,
        )
    )
    return axes, together, said, order, wait, rules, "o" + "".join(fields)


def as_plan(axes, together, said, order, wait, rules, output) -> str:
    plan = {
        "defaults": {"output": output, "frames": "1"},
        "axes": {a: {e: {"frames": said[a, e]} if said[a, e] else {} for e in es} for a, es in axes.items()},
        "together": together, "order": order, "run": {"wait": wait},
        "rules": [{"drop": m} if kind == "drop" else {"at": m, "frames": f} for kind, m, f in rules],
    }  # fmt: skip
    return json.dumps({"lattice": "1", "scene": "x.usda", **plan})


FRAMES = {"1-3": (1, 2, 3), "2": (2,), "1-4 by 2": (1, 3), "1-2": (1, 2), "5": (5,), "": None}


def plainly(axes, together, said, order, wait, rules, output):
    """Cells and frames in their order, in ten lines: list everything, filter, sort."""
    speed = [a for a in order if a != "frame"]
    group = {a: next((g for g in together if a in g), [a]) for a in axes}
    speed = list(dict.fromkeys(tuple(group[a]) for a in [*speed, *axes]))
    at = (
        len(list(dict.fromkeys(tuple(group[a]) for a in order[: order.index("frame")])))
        if "frame" in order
        else len(speed)
    )
    found = []
    for steps in itertools.product(*(range(len(axes[g[0]])) for g in speed)):
        cell = {a: axes[a][i] for g, i in zip(speed, steps, strict=True) for a in g}
        frames = next((FRAMES[said[a, cell[a]]] for a in reversed(list(axes)) if said[a, cell[a]]), (1,))
        hits = [(k, f) for k, m, f in rules if all(cell[a] in m[a] for a in m)]
        if not any(kind == "drop" for kind, _ in hits):
            frames = next((FRAMES[f] for kind, f in reversed(hits) if kind == "at"), frames)
            found += [
                ((*steps[:at], k, *steps[at:]), [cell[a] for a in axes], f) for k, f in enumerate(frames)
            ]
    found.sort(key=lambda item: item[0])
    return [("/".join(names), frame) for _, names, frame in found]


class Made:
    """Cells made by the test, where a run makes them from the plan."""

    def __init__(self, cells) -> None:
        self._cells = cells

    def __call__(self, index: int):
        return self._cells[index]

    def told(self, indices):
        return ((cell.settings, cell.edits) for cell in (self._cells[i] for i in indices))


@pytest.mark.long
@settings(max_examples=250, deadline=None)
@given(matrices())
def test_cells_and_frames_stand_in_the_order_of_a_plain_reading(plan) -> None:
    expected = plainly(*plan)
    axes, wait = plan[0], plan[4]
    document = parse(as_plan(*plan))
    try:
        model = validate(document)
        whole = build_lattice(model, document, FACTS)
    except PlanError as problem:
        said = problem.what
    else:
        said = ""
    if said:  # a rule that changes nothing, or leaves nothing, is an error by design
        assert any(what in said for what in ("drops no cell", "no cell is left", "amends no cell"))
        return
    make = CellMaker(whole, FACTS)
    cells = [make(i) for i in range(len(whole))]
    prints = Fingerprints(model, "scene", Path(), False)
    # Every cell and frame its own trace, so that none are put together.
    for k, cell in enumerate(cells):
        object.__setattr__(cell.settings, "seed", cell.settings.seed)
        cells[k] = type(cell)(cell.index, cell.address, cell.coordinates, type(cell.settings)(
            **{**cell.settings.__dict__, "seed": k, "output": "x/{index}-{frame}"}), cell.edits)  # fmt: skip
    tasks = list_tasks(Ingredients(model, whole, Made(cells), prints, FileNames()), range(len(cells)))
    assert [(task.first.address, task.frame) for task in tasks] == expected
    names = list(axes)
    for before, after in itertools.pairwise(tasks):
        parts = [
            (b, a)
            for b, a, n in zip(
                before.first.coordinates.values(), after.first.coordinates.values(), names, strict=True
            )
            if n in wait
        ]
        assert after.step - before.step == int(any(b != a for b, a in parts))


@pytest.mark.long
@settings(max_examples=300, deadline=None)
@given(matrices())
def test_names_of_all_files_at_once_agree_with_names_one_by_one(plan) -> None:
    document = parse(as_plan(*plan))
    try:
        whole = build_lattice(validate(document), document, FACTS)
    except PlanError:
        return
    make = CellMaker(whole, FACTS)
    cells = [make(i) for i in range(len(whole))]
    listed = [folded(file.path) for cell in cells for file in planned_files(cell, FileNames())]
    filing = Filing(whole, make, FACTS, FileNames())
    totals = filing.totals()
    assert (totals.cells, totals.files) == (len(cells), len(listed))
    assert totals.frames == sum(len(cell.settings.frames) for cell in cells)
    collide = False
    try:
        filing.refuse_collisions()
    except OutputError as problem:
        collide = "would both be written" in problem.what
        assert collide
    assert collide == (len(set(listed)) < len(listed))
    # A column over all cells says what each cell says.
    column = settled(("frames",), whole.kept.shape, whole.dims, whole.sayings, whole.amendments)
    ids = np.transpose(column.ids, whole.order).ravel()[whole.positions]
    assert [column.states[i][0].numbers for i in ids] == [cell.settings.frames for cell in cells]


def test_names_no_file_system_holds_are_found_among_many() -> None:
    entries = "{" + ", ".join(f"n{i}: {{}}" for i in range(200)) + ", %s: {}}"
    text = "defaults: {output: '{a}{b}/{a}.{ext}'}\naxes:\n  a: " + entries + "\n  b: {x: {}, ul: {}}\n"
    alone = text.replace("{a}{b}/{a}", "{a}/{b}")
    for entry, says, template in (
        ("n", "'nul'", text), ("'a:b'", "a:b", text), ("'" + "y" * 250 + "'", "longer than", text),
        ("'..'", "leaves the output folder", alone), ("'z.'", "'z.'", alone), ("COM1", "'COM1'", alone),
    ):  # fmt: skip
        whole, make = planned(template % entry)
        with pytest.raises(OutputError, match=says):
            Filing(whole, make, FACTS, FileNames()).refuse_collisions()
    whole, make = planned(text % "m")
    Filing(whole, make, FACTS, FileNames()).refuse_collisions()


# --- together, sets, rules ----------------------------------------------------------------------


def test_axes_go_together_and_mistakes_in_it_are_said() -> None:
    text = "axes: {product: {cup: {}, jug: {}}, page: {p1: {}, p2: {}}, light: {day: {}, night: {}}}\n"
    assert addresses(text + "together: [[product, page]]") == [
        "cup/p1/day",
        "cup/p1/night",
        "jug/p2/day",
        "jug/p2/night",
    ]
    for wrong, says in (
        ("together: [[product, pgae]]", "Did you mean page"),
        ("together: [[product, light], [light, page]]", "light advances together with others already"),
        (
            "together: [[product, page]]\nrules: [{add: {product: cup, page: p3, light: day}, name: x}]",
            "page has no entry p3",
        ),
        ("run: {wait: [lihgt]}", "no axis lihgt to wait for. Did you mean light"),
        ("sets: {tonight: [{light: dya}]}", "light has no entry dya. Did you mean day"),
        (
            "rules: [{drop: {light: day}}, {keep: [{light: day}, {page: p1}]}]",
            "No cell is left to keep at light: day",
        ),
        ("rules: [{add: {product: cup, page: p1, light: day}, name: a/b}]", "is no name for a cell"),
        ("words: {light: x}", "one of the plan's words"),
    ):
        with pytest.raises(PlanError, match=says):
            planned(text + wrong)
    three = text.replace("p2: {}", "p2: {}, p3: {}")
    with pytest.raises(PlanError, match="product has 2, page has 3"):
        planned(three + "together: [[product, page]]")


def test_named_sets_words_takes_prints_and_versions_in_names(plan_file: Path) -> None:
    text = PLAN.replace("scene: room.usda", "scene: room.usda\nwords: {client: harbour museum}").replace(
        "out/{light}/{camera}.{frame:04d}", "{client}/{take}-{camera}.v{version:03d}.{date}"
    ) + "takes: {dim: {print: {paper: A3, ppi: 300}, scale: 1%}}\nsets: {tonight: [{light: night}, {camera: Side}]}\n"  # fmt: skip
    text = text.replace("    night:\n", "    night:\n      use: [dim]\n")
    plan_file.write_text(text)
    plan = lattice.open_plan(plan_file)
    assert [c.address for c in plan.cells.at(sets=["tonight"])] == ["day/Side", "night/Front", "night/Side"]
    assert [c.address for c in plan.cells.at("camera=Front", sets=["tonight"])] == ["night/Front"]
    with pytest.raises(lattice.NoSuchCell, match="Did you mean tonight"):
        plan.cells.at(sets=["tonite"])
    night = plan.cells["night/Front"]
    assert (str(night.settings.size), night.settings.size.ppi) == ("50x35", 3.0)
    plan = plan.override(scale="100%")
    assert str(plan.cells["night/Front"].settings.size) == "4961x3508"
    names = FileNames("p", "s", {"client": "harbour museum"}, lambda cell: Stamp(7, "2026-06-21"))
    assert next(planned_files(night, names)).path == "harbour_museum/dim-Front.v007.2026-06-21.exr"


def test_a_version_counts_up_only_where_the_content_changed(plan_file: Path) -> None:
    text = PLAN.replace("{camera}.{frame:04d}", "{camera}.v{version}.{frame}").replace(
        "samples: 4", "samples: 1\n  frames: 1-2"
    )
    plan_file.write_text(text)
    folder = plan_file.parent
    run = lattice.open_plan(plan_file).run(at=["light=day", "camera=Front"], frames=[1], workers=0)
    assert run.ok
    run = lattice.open_plan(plan_file).run(workers=0)  # the other frame and cells: still the first version
    assert {p.name for p in (folder / "out/day").glob("*.exr")} == {
        "Front.v1.1.exr", "Front.v1.2.exr", "Side.v1.1.exr", "Side.v1.2.exr",
    }  # fmt: skip
    assert len(run.outlook.todo) == 7
    plan_file.write_text(text.replace("intensity: 2", "intensity: 3"))
    plan = lattice.open_plan(plan_file)
    assert next(p.name for p in plan.files(plan.cells["day/Front"])) == "Front.v1.1.exr"
    assert next(p.name for p in plan.files(plan.cells["night/Front"])) == "Front.v2.1.exr"
    assert len(plan.run(workers=0).outlook.todo) == 4
    assert (folder / "out/night/Front.v1.1.exr").is_file()  # the older version is still there
    assert not lattice.open_plan(plan_file).outlook().todo
    (folder / "room.ledger.sqlite").unlink()  # the pictures tell the versions to a ledger that begins anew
    plan = lattice.open_plan(plan_file)
    assert next(p.name for p in plan.files(plan.cells["night/Front"])) == "Front.v2.1.exr"
    assert plan.run(workers=0).ok
    assert not list(folder.glob("out/*/*v3*"))
    plan_file.write_text(text.replace("intensity: 2", "intensity: 4"))
    plan = lattice.open_plan(plan_file)
    assert next(p.name for p in plan.files(plan.cells["night/Front"])) == "Front.v3.1.exr"


# --- other files --------------------------------------------------------------------------------


def test_included_files_share_what_they_may_and_keep_their_places(scene: Path) -> None:
    folder = scene.parent
    (folder / "house").mkdir()
    (folder / "house" / "looks.usda").write_bytes(scene.read_bytes())
    (folder / "house" / "house.lattice.yaml").write_text(
        "words: {client: house}\nselect:\n  toys: //Toys\n  floor: /World/Flor\n"
        "materials:\n  red: {file: looks.usda, prim: /World/Looks/Red}\n"
        "takes:\n  dim:\n    exposure: 1\n    edits:\n      - hide: floor\n"
    )
    file = folder / "p.lattice.yaml"
    text = (
        "lattice: 1\nscene: room.usda\ninclude: house/house.lattice.yaml\nwords: {client: ours}\n"
        "defaults: {size: 8x8, output: '{client}.{ext}', camera: /World/Cameras/Front}\n"
        "axes: {light: {dim: {use: [dim], edits: [{assign: {on: toys, material: red}}]}}}\n"
    )
    file.write_text(text)
    plan = lattice.open_plan(file)
    assert plan.cells[0].settings.exposure == 1
    assert plan.files(plan.cells[0])[0].name == "ours.exr"
    assert plan.model.materials["red"].file == "house/looks.usda"
    (finding,) = [f for f in plan.check() if f.gravity == "error"]
    assert "Did you mean /World/Floor?" in finding.what
    assert finding.place == "house.lattice.yaml:11:9"
    for wrong, says in (
        ("include: gone.yaml\n", "no file gone.yaml to include"),
        ("include: p.lattice.yaml\n", "scene cannot be included"),
    ):
        file.write_text(text.replace("include: house/house.lattice.yaml\n", wrong))
        with pytest.raises(PlanError, match=says):
            lattice.open_plan(file)
    (folder / "a.yaml").write_text("include: b.yaml\n")
    (folder / "b.yaml").write_text("include: a.yaml\n")
    file.write_text(text.replace("house/house.lattice.yaml", "a.yaml"))
    with pytest.raises(PlanError, match="includes itself"):
        lattice.open_plan(file)


@pytest.mark.long
def test_a_queue_runs_plans_in_order_of_priority(plan_file: Path, glat) -> None:
    folder = plan_file.parent
    (folder / "second.lattice.yaml").write_text(
        PLAN.replace("out/", "other/").replace("samples: 4", "samples: 1")
    )
    (folder / "night.queue.yaml").write_text(
        "plans:\n  - room.lattice.yaml\n  - plan: second.lattice.yaml\n    at: camera=Front\n    priority: 2\n"
    )
    queue = lattice.open_queue(folder / "night.queue.yaml")
    assert [step.plan.name for step in queue] == ["second", "room"]
    assert queue.totals().cells == 6
    begun: list[str] = []
    runs = queue.narrowed(["/Side"][:0]).run(
        on_step=lambda step: begun.append(step.plan.name), workers=0, into=folder / "q"
    )
    assert begun == ["second", "room"]
    assert [len(run.finished) for run in runs] == [2, 4]
    code, said = glat(folder, "cells")  # the queue is found before the plans it names
    assert code == 0, said
    assert "in all  2 plans, 6 cells, 6 frames, 12 files" in said
    code, said = glat(folder, "run", "--workers", "0", "--set", "samples=1", "--at", "light=day")
    assert code == 0, said
    assert said.index("1 of 2  second") < said.index("2 of 2  room")
    assert sorted(str(p.relative_to(folder)) for p in folder.glob("o*/**/*.exr")) == [
        "other/day/Front.0001.exr", "out/day/Front.0001.exr", "out/day/Side.0001.exr",
    ]  # fmt: skip
    for wrong, says in (("plans: [gone.lattice.yaml]", "no plan gone"), ("plan: x", "Did you mean plans?"),
                        ("plans: [room.lattice.yaml, room.lattice.yaml]", "stands in the queue twice")):  # fmt: skip
        (folder / "night.queue.yaml").write_text(wrong)
        with pytest.raises(PlanError, match=says.replace("?", r"\?")):
            lattice.open_queue(folder / "night.queue.yaml")


def test_a_plan_changed_in_python_keeps_its_comments_and_order(plan_file: Path) -> None:
    plan_file.write_text(DEMO)
    plan = lattice.open_plan(plan_file)
    plan.axis("light").entry("dawn", exposure=1.5, edits=[{"hide": "/Room/Lights/Sun"}])
    plan.axis("hour").sweep("08:00", "10:00", step="1h")
    plan.rule(drop={"light": "dawn", "layer": "instrument"})
    written = plan.write(plan_file, over=True).read_text()
    for comment in (
        "# The orrery room",
        "# the lamp is turned up",
        "# slowest first",
        "# alone, the room held out",
    ):
        assert comment in written
    assert written.index("    moon:") < written.index("    dawn:") < written.index("  finish:")
    again = validate(parse(written))
    assert again.axes["light"]["dawn"].exposure == 1.5
    assert list(again.axes["hour"].made) == ["0800", "0900", "1000"]
    assert again.rules[-1].drop == {"light": ["dawn"], "layer": ["instrument"]}
    untouched = DEMO.splitlines()
    assert sum(line in written.splitlines() for line in untouched) > 0.98 * len(untouched)


def test_the_schema_takes_the_demo_and_describes_every_key() -> None:
    schema = lattice.plan_schema()
    jsonschema.Draft202012Validator.check_schema(schema)
    assert schema["title"] == "Grand Lattice plan"
    validator = jsonschema.Draft202012Validator(schema)
    data = YAML(typ="safe", pure=True).load(DEMO)
    validator.validate(json.loads(json.dumps(data, default=str)))
    for wrong in (
        {"sise": "1x1"},
        {"size": "big"},
        {"passes": ["beau ty"]},
        {"format": "bmp"},
        {"samples": "many"},
    ):
        bad = {**data, "defaults": wrong}
        assert list(validator.iter_errors(bad)), wrong
    undescribed = [
        f"{name}.{key}"
        for name, part in [("plan", schema), *schema["$defs"].items()]
        for key, value in part.get("properties", {}).items()
        if "description" not in value
    ]
    assert undescribed == []


def test_plans_and_cells_have_the_manners_of_python(plan_file: Path) -> None:
    plan = lattice.open_plan(plan_file)
    cells = plan.cells
    assert repr(plan) == "<Plan room.lattice.yaml: light, camera>"
    assert repr(plan.override(samples=2)) == "<Plan room.lattice.yaml: light, camera, samples=2>"
    assert (repr(cells), repr(cells[1])) == ("<4 cells of room>", "<Cell 2: day/Side>")
    assert [c.address for c in cells[1:3]] == ["day/Side", "night/Front"]
    assert cells[np.int64(-1)] == cells["night/Side"] == next(reversed(cells))
    assert {cells[0]: 1}[lattice.open_plan(plan_file).cells[0]] == 1
    assert cells.index(cells[2]) == 2
    assert ("day/Front" in cells, "light=day" in cells, "dusk/Front" in cells, 5 in cells) == (
        True,
        True,
        False,
        False,
    )
    with pytest.raises(IndexError, match="there are 4 cells"):
        _ = cells[4]
    with pytest.raises(LookupError, match="no entry Frnt"):
        _ = cells["day/Frnt"]
    # What is laid over a plan leaves it as it was, and what is changed in one is not in the other.
    other = plan.override(samples=9)
    other.change("words", {"a": "b"})
    assert (plan.cells[0].settings.samples, other.cells[0].settings.samples) == (4, 9)
    assert "words" not in plan.text
    assert {"open_plan", "Run", "Estimate", "passes"} < set(dir(lattice))
