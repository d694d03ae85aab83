"""Plans that no artist would write, and what comes of each: an answer within seconds, never an accident.

    python tests/torture/hostile_plans.py [--seconds 600] [--seed 1]

First a list of plans made by hand, each an example of a class; then plans grown at random from the
pieces of good ones, for as long as is asked for.  Ends with 1 where a command hung, crashed, or met
something that was not foreseen.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from campaign import Campaign, answer

from conftest import PLAN
from harbour import PLAN as HARBOUR
from shapes import room_scene

CASES: dict[str, str] = {}


def hostile(name: str, text: str) -> None:
    CASES[name] = text


hostile("empty passes", PLAN.replace("[beauty, depth]", "[]"))
hostile("empty format", PLAN.replace("[exr, png]", "[]"))
hostile("seconds digits", PLAN.replace("samples: 4", "seconds: " + "9" * 400 + " s"))
hostile("seconds digits2", PLAN + "run: {limit: " + "1" * 5000 + "}\n")
hostile("seconds regex", PLAN.replace("samples: 4", 'seconds: "' + "1 " * 40 + 'x"'))
hostile("seconds regex2", PLAN + 'run: {limit: "' + "1" * 40 + '!"}\n')
hostile(
    "frames many",
    PLAN.replace(
        "samples: 4", 'frames: "' + ",".join(f"{i * 2000000}-{i * 2000000 + 999999}" for i in range(60)) + '"'
    ),
)
hostile("frames huge", PLAN.replace("samples: 4", "frames: 1-999999999"))
t = "".join(f"  t{i}: {{use: [t{i + 1}, t{i + 1}]}}\n" for i in range(60)) + "  t60: {samples: 3}\n"
hostile("takes twice", PLAN.replace("    day:\n", "    day: {use: [t0]}\n") + "takes:\n" + t)
hostile(
    "quality ring",
    PLAN.replace("samples: 4", "quality: a") + "qualities:\n  a: {quality: b}\n  b: {quality: a}\n",
)
q = "".join(f"  q{i}: {{quality: q{i + 1}}}\n" for i in range(3000)) + "  q3000: {samples: 3}\n"
hostile("quality deep", PLAN.replace("samples: 4", "quality: q0") + "qualities:\n" + q)
tk = "".join(f"  t{i}: {{use: [t{i + 1}]}}\n" for i in range(3000)) + "  t3000: {samples: 3}\n"
hostile("take deep", PLAN.replace("    day:\n", "    day: {use: [t0]}\n") + "takes:\n" + tk)
hostile(
    "select ring",
    PLAN.replace("  toys: //Toys", "  toys: others\n  others: toys").replace("/World/Lights/Sky", "toys"),
)
hostile("select self", PLAN.replace("  toys: //Toys", "  toys: toys").replace("/World/Lights/Sky", "toys"))
sd = "".join(f"  s{i}: s{i + 1}\n" for i in range(3000)) + "  s3000: //Toys\n"
hostile("select deep", PLAN.replace("  toys: //Toys\n", sd).replace("hide: /World/Lights/Sky", "hide: s0"))
sx = "".join(f"  s{i}: [s{i + 1}, s{i + 1}]\n" for i in range(60)) + "  s60: //Toys\n"
hostile("select twice", PLAN.replace("  toys: //Toys\n", sx).replace("hide: /World/Lights/Sky", "hide: s0"))
hostile("scene fifo", PLAN.replace("room.usda", "fifo.usda"))
hostile("scene dev", PLAN.replace("room.usda", "/dev/zero"))
hostile("scene folder", PLAN.replace("room.usda", "."))
hostile("overlay scene", PLAN.replace("hide: /World/Lights/Sky", "overlay: room.usda"))
hostile("overlay nousd", PLAN.replace("hide: /World/Lights/Sky", "overlay: no.usd"))
hostile("overlay fifo", PLAN.replace("hide: /World/Lights/Sky", "overlay: fifo.usda"))
hostile("overlay text", PLAN.replace("hide: /World/Lights/Sky", "overlay: room.lattice.yaml"))
hostile(
    "texture fifo", PLAN.replace("hide: /World/Lights/Sky", "set: {on: /World/Lights/Sky, texture: fifo.png}")
)
hostile(
    "texture long",
    PLAN.replace("hide: /World/Lights/Sky", "set: {on: /World/Lights/Sky, texture: " + "x" * 5000 + "}"),
)
hostile("path long", PLAN.replace("/World/Lights/Sky", "/World/" + "x" * 5000))
hostile("path deep", PLAN.replace("/World/Lights/Sky", "/a" * 3000))
hostile("scene long", PLAN.replace("room.usda", "x" * 5000 + ".usda"))
hostile("output long", PLAN.replace("out/", "x" * 5000 + "/"))
hostile("include fifo", PLAN + "include: fifo.usda\n")
hostile("include dev", PLAN + "include: /dev/zero\n")
hostile("include long", PLAN + "include: " + "y" * 5000 + "\n")
hostile("env eq", PLAN + 'renderers: {r: {command: [x], environment: {"A=B": c}}}\n')
hostile("env nul", PLAN + 'renderers: {r: {command: ["x\\0"], environment: {"A": "c\\0d"}}}\n')
hostile(
    "swap long", PLAN.replace("hide: /World/Lights/Sky", "swap: {on: /World/Toys, with: " + "x" * 5000 + "}")
)
hostile("swap fifo", PLAN.replace("hide: /World/Lights/Sky", "swap: {on: /World/Toys, with: fifo.usda}"))
hostile("swap bad", PLAN.replace("hide: /World/Lights/Sky", "swap: {on: /World/Toys, with: no.usd}"))
hostile("place bad", PLAN.replace("hide: /World/Lights/Sky", "place: {file: no.usd}"))
hostile("place self", PLAN.replace("hide: /World/Lights/Sky", "place: {file: room.usda}"))
hostile("mat bad", PLAN + "materials: {m: {file: no.usd, prim: /A}}\n")
hostile("mat badprim", PLAN + "materials: {m: {file: room.usda, prim: /World/Nope}}\n")
hostile("mat badpath", PLAN + 'materials: {m: {file: room.usda, prim: "not a path"}}\n')
hostile("mat fifo", PLAN + "materials: {m: {file: fifo.usda, prim: /A}}\n")
hostile("mat long", PLAN + "materials: {m: {file: " + "x" * 5000 + ", prim: /A}}\n")
hostile("unicode expr", PLAN.replace("hide: /World/Lights/Sky", "hide: //Möwe*"))
hostile("unicode expr2", PLAN.replace("hide: /World/Lights/Sky", 'hide: "//Ball* - //Möwe"'))
hostile("unicode list", PLAN.replace("hide: /World/Lights/Sky", 'hide: [/World/Toys, "//ü"]'))
hostile(
    "camera typo",
    PLAN.replace("samples: 4", "samples: 4\n  camera: /World/Cameras/Frnt").replace(
        "  camera:\n    each: cameras\n", ""
    ),
)
hostile("nul in path", PLAN.replace("/World/Lights/Sky", '"/World/\\0"'))
hostile("sweep dec", PLAN.replace("    each: cameras", "    sweep: {from: 0, to: 1e12, step: 1e-9}"))
hostile(
    "sweep big", PLAN.replace("    each: cameras", "    sweep: {from: 0, to: " + "9" * 5000 + ", step: 1}")
)
hostile(
    "sweep date", PLAN.replace("    each: cameras", "    sweep: {from: 2026-06-21, to: 9999-12-31, step: 1s}")
)
hostile("count", PLAN.replace("    each: cameras", "    sweep: {from: 1, to: 2, count: " + "9" * 50 + "}"))
hostile(
    "axes many",
    "lattice: 1\nscene: room.usda\naxes:\n" + "".join(f"  a{i}: {{x: {{}}, y: {{}}}}\n" for i in range(70)),
)
hostile(
    "axes 40", "lattice: 1\nscene: room.usda\naxes:\n" + "".join(f"  a{i}: {{x: {{}}}}\n" for i in range(80))
)
hostile("glob dots", PLAN.replace("    each: cameras", '    each: {files: "../../*"}'))
hostile("glob many", PLAN.replace("    each: cameras", '    each: {files: "**/**/**/*"}'))
hostile("glob bad", PLAN.replace("    each: cameras", '    each: {files: ""}'))
hostile("glob abs", PLAN.replace("    each: cameras", '    each: {files: "/etc/*"}'))
hostile("spin frames", PLAN.replace("hide: /World/Lights/Sky", "spin: {on: /World/Toys, frames: 1-1000000}"))
hostile("int samples", PLAN.replace("samples: 4", "samples: " + "9" * 5000))
hostile("size", PLAN.replace("48x32", "999999x999999"))
hostile("region", PLAN.replace("samples: 4", "region: 10 10 5000 5000"))
hostile("ppi", PLAN.replace("size: 48x32", "print: {width: " + "9" * 400 + " mm, height: 1 mm}"))
hostile("scale", PLAN.replace("samples: 4", "scale: " + "9" * 400 + "%"))
hostile("move", PLAN.replace("hide: /World/Lights/Sky", "move: {on: /World/Toys, x: 1e400}"))
hostile("exposure", PLAN.replace("samples: 4", "exposure: nan"))
hostile("words", PLAN + 'words: {a: "{b}", b: "{a}"}\n')
hostile("percent redos", PLAN + 'renderers: {r: {command: [x], percent: "(a+)+$"}}\n')
hostile("after", PLAN + 'run: {after: 5, notices: [{to: "x"}]}\n')
hostile("yaml deep", "a: " + "[" * 5000)
hostile("yaml deep2", "lattice: 1\nscene: room.usda\naxes: " + "{a: " * 300 + "1" + "}" * 300)
hostile("rules deep", PLAN + "rules: [{drop: {light: [[[[1]]]]}}]\n")
hostile("tab", "lattice:\t1\n\tscene: x")
hostile("null", "\0\0\0")
hostile("dup key", PLAN + "scene: x\n")
hostile("lattice list", "- a\n- b\n")
hostile("own", PLAN + 'own-passes: {k: {of: light, on: "//ü*"}}\n')
hostile("noise", PLAN.replace("samples: 4", "noise: 0.0000000000000000000001%"))
hostile("link", PLAN.replace("hide: /World/Lights/Sky", "link: {light: /World/Lights/Sky, to: []}"))
hostile(
    "sun",
    PLAN.replace(
        "hide: /World/Lights/Sky",
        'sun: {on: /World/Lights/Sky, latitude: 5, longitude: 1e9, zone: "../../etc/passwd", date: 2026-01-01, time: "1:00"}',
    ),
)
hostile("display", PLAN.replace("samples: 4", 'display: "' + "x" * 5000 + '"'))


PIECES = [
    "9" * 400, "-1", "0", "nan", "1e400", "'", '"', "{}", "[]", "{a: {b: c}}", "[[[]]]", "null", "~", "1 2 3 4", "//*",
    "//Möwe*", "~/", "(((", "%/x", "\u202e", "x" * 5000, "/dev/zero", "fifo.usda", "no.usd", "room.usda", ".", "..",
    "1-999999999", "1-3,5-7 by 2", "50%", "999999%", "12 cm", "1e9 km", "{light}", "{frame:09999d}", "{", "}", "*a", "&b",
    "!!python/object", "2026-06-21", "25:99", "true", "off", "on", "exr", "beauty", "+depth", "-beauty", "sRGB / Raw",
]  # fmt: skip


def grown(rng: random.Random) -> str:
    """A good plan with some of its values and lines changed, doubled, moved or left out."""
    lines = rng.choice(
        [PLAN, HARBOUR.replace("häfen.usda", "room.usda"), rng.choice(list(CASES.values()))[:6000]]
    )
    lines = lines.splitlines()
    for _ in range(rng.randint(1, 6)):
        k = rng.randrange(len(lines))
        what = rng.randrange(6)
        key, colon, _ = lines[k].partition(": ")
        if what <= 2 and colon:
            lines[k] = f"{key}: {rng.choice(PIECES)}"
        elif what == 3:
            lines.insert(k, rng.choice(lines))
        elif what == 4 and len(lines) > 4:
            del lines[k]
        else:
            lines[k] = " " * rng.randrange(8) + lines[k].strip()
    return "\n".join(lines) + "\n"


def problem_of(folder: Path, text: str) -> str:
    """What is wrong with how the commands answer a plan; empty where nothing is."""
    (folder / "room.lattice.yaml").write_text(text, encoding="utf-8", errors="surrogateescape")
    for command in ("cells", "check"):
        code, problem = answer(folder, command, "room.lattice.yaml")
        if problem or code == 2:
            return problem
    return ""


def main() -> None:
    campaign = Campaign("plans", 600.0)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        room_scene(folder / "room.usda")
        (folder / "no.usd").write_text("hello")
        os.mkfifo(folder / "fifo.usda")
        os.mkfifo(folder / "fifo.png")
        for title, text in CASES.items():
            campaign.tried(title, problem_of(folder, text))
        while campaign.goes_on:
            text = grown(campaign.rng)
            problem = problem_of(folder, text)
            shown = f"{problem}\n{text[:1500]}\n" if problem else ""
            campaign.tried(f"seed {campaign.seed}, plan {campaign.count}", shown)
    campaign.end()


if __name__ == "__main__":
    main()
