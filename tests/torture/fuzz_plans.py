"""Plans made of scraps: never a traceback, never a hang, never much memory.

Run it with:  python tests/torture/fuzz_plans.py [MINUTES]

Takes the plans of `corpus/` and of the demo apart into lines, values and letters and puts them
together at random; what fails is printed and kept in `corpus/`.  A plan may be refused, with a
`LatticeError`; anything else fails, and so does one that takes more than two seconds or takes the
process beyond 200 MB more than it began with.
"""

from __future__ import annotations

import hashlib
import random
import resource
import sys
import time
import traceback
from pathlib import Path

from grandlattice.demo.more import DAY, LAYERS
from grandlattice.demo.plan import PLAN
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

CORPUS = Path(__file__).parent / "corpus"
_CAMERAS = [f"/Room/Cameras/{name}" for name in ("Wide", "Dial", "Portrait", "Above")]
FACTS = SceneFacts(
    tuple(PrimFact(path) for path in _CAMERAS), (1, 96), "orrery", matching=lambda text, place: _CAMERAS
)
SCRAPS = [
    "{", "}", "[", "]", ":", "- ", "&a", "*a", "!!python/object:os.system", "|", ">", "#", "'", '"', "%",
    "\t", "\x00", "﻿", "‮", "{light}", "{frame:04d}", "{frame:999999999d}", "{0.__class__}", "../../etc",
    "~", "null", "1e400", "-1", "0x10", "99999999999999999999", "1-1000000", "1-999999999", "A3", "12 cm",
    "sweep: {from: 0, to: 1e9, step: 1e-9}", "each: takes", "use: [night]", "together: [[light, camera]]",
    "order: [frame, frame]", "? x", "<<: *a", "--- ", "...", "%YAML 1.1", "é", "🎥", "a" * 5000,
]  # fmt: skip


def attempt(text: str) -> str:
    """What came of a plan: ``plan``, ``refused``, or the traceback of what should not happen."""
    try:
        document = with_included(parse(text))
        model = validate(document)
        lattice = build_lattice(model, document, FACTS)
        make = CellMaker(lattice, FACTS)
        make(0), make(len(lattice) - 1)
        Filing(lattice, make, FACTS, FileNames()).refuse_collisions()
        return "plan"
    except LatticeError as problem:
        return "refused" if str(problem) else "an error that says nothing"
    except Exception:
        return traceback.format_exc()


def mutated(random: random.Random, seeds: list[str]) -> str:
    lines = random.choice(seeds).splitlines()
    for _ in range(random.randint(1, 4)):
        k = random.randrange(len(lines)) if lines else 0
        kind = random.randrange(7)
        line = lines[k] if lines else ""
        if kind == 0 and lines:
            del lines[k]
        elif kind == 1:
            other = random.choice(seeds).splitlines()
            start = random.randrange(len(other))
            lines[k:k] = other[start : start + random.randint(1, 6)]
        elif kind == 2 and lines:
            lines[k] = line[: line.find(":") + 1] + " " + random.choice(SCRAPS)
        elif kind == 3 and lines:
            at = random.randrange(len(line) + 1)
            lines[k] = line[:at] + random.choice(SCRAPS) + line[at:]
        elif kind == 4 and lines:
            lines[k] = " " * random.randrange(8) + line.strip()
        elif kind == 5 and lines:
            lines[k], lines[k - 1] = lines[k - 1], line
        elif lines and line:
            at = random.randrange(len(line))
            lines[k] = line[:at] + chr(random.randrange(1, 0x250)) + line[at + 1 :]
    return "\n".join(lines)


def main(minutes: float = 10.0) -> int:
    seeds = [PLAN, LAYERS, DAY, *(path.read_text() for path in sorted(CORPUS.glob("*.yaml")))]
    for text in seeds:
        attempt(text)
    generator = random.Random(20261123)
    began = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    end, tried, failed = time.monotonic() + minutes * 60, {"plan": 0, "refused": 0}, 0
    slowest = 0.0
    while time.monotonic() < end:
        text = mutated(generator, seeds)
        started = time.monotonic()
        said = attempt(text)
        took = time.monotonic() - started
        slowest = max(slowest, took)
        memory = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - began) / 1024
        if said in tried and took < 2.0 and memory < 200:
            tried[said] += 1
            continue
        failed += 1
        name = hashlib.blake2b(text.encode("utf-8", "replace"), digest_size=6).hexdigest()
        (CORPUS / f"failed-{name}.yaml").write_text(text, encoding="utf-8", errors="replace")
        print(f"{name}: {took:.1f} s, {memory:.0f} MB more\n{said}\n")
        if failed >= 10:
            break
    count = sum(tried.values())
    print(f"{count:,} plans in {minutes:g} min: {tried['plan']:,} whole, {tried['refused']:,} refused; "
          f"slowest {slowest:.2f} s, {memory:.0f} MB more than at the start; {failed} failed")  # fmt: skip
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 10.0))
