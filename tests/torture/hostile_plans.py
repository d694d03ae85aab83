"""Plans that no artist would write, and what comes of each: an answer within seconds, never an accident.

    python tests/torture/hostile_plans.py [--seconds 600] [--seed 1]

First a list of plans made by hand, each an example of a class, given to the commands; then plans grown at
random from the pieces of good ones, for as long as is asked for.  These are read in this process, some
tens a second, where none may take more than two seconds or 200 MB; one in a hundred is given to the
commands.  Ends with 1 where one hung, crashed, or met something that was not foreseen.
"""

from __future__ import annotations

import os
import random
import resource
import sys
import tempfile
import time
import traceback
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from campaign import Campaign, answer

from conftest import PLAN
from grandlattice.demo.demo_plan import PLAN as DEMO
from grandlattice.demo.more_plans import DAY, LAYERS
from grandlattice.errors import LatticeError
from grandlattice.plan import (
    CellMaker,
    FileNames,
    Filing,
    PrimFact,
    SceneFacts,
    build_lattice,
    parse,
    validate,
    with_included,
)
from harbour import PLAN as HARBOUR
from shapes import room_scene

_CAMERAS = [f"/Room/Cameras/{name}" for name in ("Wide", "Dial", "Portrait", "Above")]
FACTS = SceneFacts(
    tuple(PrimFact(path) for path in _CAMERAS), (1, 96), "orrery", matching=lambda text, place: _CAMERAS
)
LONG, SKY, EDIT = "x" * 5000, "/World/Lights/Sky", "hide: /World/Lights/Sky"


def chain(name: str, count: int, link: str, end: str) -> str:
    """Entries of a plan that each name the next one, ``{}`` in `link`; the last one does not."""
    links = [f"  {name}{i}: {link.replace('{}', f'{name}{i + 1}')}\n" for i in range(count)]
    return f"{''.join(links)}  {name}{count}: {end}\n"


def said(setting: str) -> str:
    """The plan with another setting, in the place of its own of that name or of its samples."""
    name = {"print": "size"}.get(setting.partition(":")[0], setting.partition(":")[0])
    lines = PLAN.splitlines()
    own = [k for k, line in enumerate(lines) if line.startswith(f"  {name}: ")] or [
        k for k, line in enumerate(lines) if line.startswith("  samples: ")
    ]
    lines[own[0]] = f"  {setting}"
    return "\n".join(lines) + "\n"


# In the place of a setting, an edit, an axis, and at the end.
SETTINGS = [
    f"seconds: {'9' * 400} s", f'seconds: "{"1 " * 40}x"', "frames: 1-999999999",
    "frames: '" + ",".join(f"{i * 2000000}-{i * 2000000 + 999999}" for i in range(60)) + "'", f"samples: {'9' * 5000}",
    "region: 10 10 5000 5000", f"scale: {'9' * 400}%", "exposure: nan", "noise: 0.0000000000000000000001%",
    f'display: "{LONG}"', "size: 999999x999999", f"print: {{width: {'9' * 400} mm, height: 1 mm}}",
    "passes: []", "format: []",
]  # fmt: skip
EDITS = [
    "overlay: room.usda", "overlay: no.usd", "overlay: fifo.usda", "overlay: room.lattice.yaml",
    f"set: {{on: {SKY}, texture: fifo.png}}", f"set: {{on: {SKY}, texture: {LONG}}}", f"hide: /World/{LONG}",
    f"hide: {'/a' * 3000}", 'hide: "/World/\\0"', f"swap: {{on: /World/Toys, with: {LONG}}}",
    "swap: {on: /World/Toys, with: fifo.usda}", "swap: {on: /World/Toys, with: no.usd}", "place: {file: no.usd}",
    "place: {file: room.usda}", "hide: //Möwe*", 'hide: "//Ball* - //Möwe"', 'hide: [/World/Toys, "//ü"]',
    "spin: {on: /World/Toys, frames: 1-1000000}", "move: {on: /World/Toys, x: 1e400}",
    f"link: {{light: {SKY}, to: []}}",
    f'sun: {{on: {SKY}, latitude: 5, longitude: 1e9, zone: "../../etc/passwd", date: 2026-01-01, time: "1:00"}}',
]  # fmt: skip
AXES = [
    "sweep: {from: 0, to: 1e12, step: 1e-9}", f"sweep: {{from: 0, to: {'9' * 5000}, step: 1}}",
    "sweep: {from: 2026-06-21, to: 9999-12-31, step: 1s}", f"sweep: {{from: 1, to: 2, count: {'9' * 50}}}",
    'each: {files: "../../*"}', 'each: {files: "**/**/**/*"}', 'each: {files: ""}', 'each: {files: "/etc/*"}',
]  # fmt: skip
ENDS = [
    f"run: {{limit: {'1' * 5000}}}", f'run: {{limit: "{"1" * 40}!"}}', "include: fifo.usda", "include: /dev/zero",
    f"include: {LONG}", 'renderers: {r: {command: [x], environment: {"A=B": c}}}',
    'renderers: {r: {command: ["x\\0"], environment: {"A": "c\\0d"}}}',
    'renderers: {r: {command: [x], percent: "(a+)+$"}}', "materials: {m: {file: no.usd, prim: /A}}",
    "materials: {m: {file: room.usda, prim: /World/Nope}}", 'materials: {m: {file: room.usda, prim: "not a path"}}',
    "materials: {m: {file: fifo.usda, prim: /A}}", f"materials: {{m: {{file: {LONG}, prim: /A}}}}",
    'words: {a: "{b}", b: "{a}"}', 'run: {after: 5, notices: [{to: "x"}]}', "rules: [{drop: {light: [[[[1]]]]}}]",
    "scene: x", 'own-passes: {k: {of: light, on: "//ü*"}}',
]  # fmt: skip
TAKEN, CHOSEN = PLAN.replace("    day:\n", "    day: {use: [t0]}\n"), PLAN.replace(EDIT, "hide: s0")
QUALITY = PLAN.replace("samples: 4", "quality: q0")
OTHERS = [
    TAKEN + "takes:\n" + chain("t", 60, "{use: [{}, {}]}", "{samples: 3}"),
    TAKEN + "takes:\n" + chain("t", 3000, "{use: [{}]}", "{samples: 3}"),
    QUALITY + "qualities:\n  q0: {quality: q1}\n  q1: {quality: q0}\n",
    QUALITY + "qualities:\n" + chain("q", 3000, "{quality: {}}", "{samples: 3}"),
    PLAN.replace("  toys: //Toys", "  toys: others\n  others: toys").replace(SKY, "toys"),
    PLAN.replace("  toys: //Toys", "  toys: toys").replace(SKY, "toys"),
    CHOSEN.replace("  toys: //Toys\n", chain("s", 3000, "{}", "//Toys")),
    CHOSEN.replace("  toys: //Toys\n", chain("s", 60, "[{}, {}]", "//Toys")),
    *[PLAN.replace("room.usda", scene) for scene in ("fifo.usda", "/dev/zero", ".", f"{LONG}.usda")],
    PLAN.replace("out/", f"{LONG}/"),
    PLAN.replace("samples: 4", "camera: /World/Cameras/Frnt").replace("  camera:\n    each: cameras\n", ""),
    "lattice: 1\nscene: room.usda\naxes:\n" + "".join(f"  a{i}: {{x: {{}}, y: {{}}}}\n" for i in range(70)),
    "lattice: 1\nscene: room.usda\naxes:\n" + "".join(f"  a{i}: {{x: {{}}}}\n" for i in range(80)),
    "a: " + "[" * 5000, "lattice: 1\nscene: room.usda\naxes: " + "{a: " * 300 + "1" + "}" * 300,
    "lattice:\t1\n\tscene: x", "\0\0\0", "- a\n- b\n",
    'lattice: 1\nscene: x\ndefaults:\n  passes: [""]\n  format: ""\n  frames: ""\n  files: {exr: {passes: {"": half}}}\n'
    'rules:\n  - add: {}\n    name: ""\nsets: {"": []}\ntogether: [[]]\n',
    "lattice: 1\nscene: x\n? [a, b]\n: c\naxes: {{light}: x}\n",
    'lattice: 1\nscene: x\nwords: {a: "", plan: b}\naxes:\n  hour:\n    sweep: {from: "23:00", to: "24:00", step: 30min}\n'
    '  gone:\n    each: {files: "**"}\n    among: visible\norder: [frame, hour, gone]\nrun: {wait: hour, spare: 0}\n'
    "together: [[hour, gone]]\n",
]  # fmt: skip
CASES = [
    *[said(text) for text in SETTINGS],
    *[PLAN.replace(EDIT, text) for text in EDITS],
    *[PLAN.replace("each: cameras", text) for text in AXES],
    *[PLAN + text + "\n" for text in ENDS],
    *OTHERS,
]
SMALL = [text for text in CASES if len(text) < 6000]
SCRAPS = [
    "9" * 400, "-1", "0", "nan", "1e400", "0x10", "99999999999999999999", "'", '"', "{", "}", "[", "]", ":", "- ",
    "{}", "[]", "{a: {b: c}}", "[[[]]]", "null", "~", "1 2 3 4", "//*", "//Möwe*", "~/", "(((", "%/x", "%", "|", ">",
    "#", "\t", "\x00", "\ufeff", "\u202e", LONG, "é", "🎥", "/dev/zero", "fifo.usda", "no.usd", "room.usda", ".", "..",
    "../../etc", "1-999999999", "1-3,5-7 by 2", "50%", "999999%", "12 cm", "1e9 km", "A3", "{light}", "{0.__class__}",
    "{frame:04d}", "{frame:999999999d}", "&a", "*a", "<<: *a", "? x", "!!python/object:os.system", "--- ", "...",
    "%YAML 1.1", "2026-06-21", "25:99", "true", "off", "on", "exr", "beauty", "+depth", "-beauty", "sRGB / Raw",
    "sweep: {from: 0, to: 1e9, step: 1e-9}", "each: takes", "use: [night]", "together: [[light, camera]]",
    "order: [frame, frame]",
]  # fmt: skip


def grown(rng: random.Random, seeds: list[str]) -> str:
    """A plan with some of its lines and letters changed, doubled, moved or left out."""
    lines = rng.choice(seeds).splitlines()
    for _ in range(rng.randint(1, 6)):
        k = rng.randrange(len(lines))
        line, other = lines[k], rng.choice(seeds).splitlines()
        at, start = rng.randrange(len(line) + 1), rng.randrange(len(other))
        match rng.randrange(8):
            case 0 if len(lines) > 4:
                del lines[k]
            case 1:
                lines[k:k] = other[start : start + rng.randint(1, 6)]
            case 2 | 3:
                lines[k] = f"{line[: line.find(':') + 1]} {rng.choice(SCRAPS)}"
            case 4:
                lines[k] = line[:at] + rng.choice(SCRAPS) + line[at:]
            case 5:
                lines[k] = " " * rng.randrange(8) + line.strip()
            case 6:
                lines[k], lines[k - 1] = lines[k - 1], line
            case _:
                lines[k] = line[:at] + chr(rng.randrange(1, 0x250)) + line[at + 1 :]
    return "\n".join(lines) + "\n"


def read(text: str, seconds: float = 2.0) -> str:
    """What is wrong with how a plan is read, multiplied and named; empty where nothing is."""
    began, memory = time.monotonic(), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    try:
        document = with_included(parse(text))
        lattice = build_lattice(validate(document), document, FACTS)
        make = CellMaker(lattice, FACTS)
        make(0), make(len(lattice) - 1)
        Filing(lattice, make, FACTS, FileNames()).refuse_collisions()
    except LatticeError as problem:
        if not str(problem):
            return "an error that says nothing"
    except Exception:
        return traceback.format_exc()
    took = time.monotonic() - began
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - memory) / 1024
    return f"{took:.1f} s, {more:.0f} MB more" if took > seconds or more > 200.0 else ""


def answered(folder: Path, text: str) -> str:
    """What is wrong with how the commands answer a plan; empty where nothing is."""
    (folder / "room.lattice.yaml").write_text(text, encoding="utf-8", errors="surrogateescape")
    for command in ("cells", "check"):
        code, problem = answer(folder, command, "room.lattice.yaml")
        if problem or code == 2:
            return problem
    return ""


def main() -> None:
    campaign = Campaign("plans", 600.0)
    seeds = [PLAN, HARBOUR.replace("häfen.usda", "room.usda"), DEMO, LAYERS, DAY, *SMALL]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        room_scene(folder / "room.usda")
        (folder / "no.usd").write_text("hello")
        os.mkfifo(folder / "fifo.usda")
        os.mkfifo(folder / "fifo.png")
        for text in CASES:
            campaign.tried(text[-100:], answered(folder, text))
        while campaign.goes_on:
            text = grown(campaign.rng, seeds)
            problem = answered(folder, text) if campaign.count % 100 == 0 else read(text)
            shown = f"{problem}\n{text[:1500]}\n" if problem else ""
            campaign.tried(f"seed {campaign.seed}, plan {campaign.count}", shown)
    campaign.end()


if __name__ == "__main__":
    main()
