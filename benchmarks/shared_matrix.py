"""What sharing does for whole matrices, from the shell: against a loop over cells, run again, and in memory.

    python benchmarks/shared_matrix.py [demo|skies|again|lamp|many|memory|same …]
    pip install --no-deps --target OLD/src CHECKOUT    # of a version before traces were shared
    python benchmarks/shared_matrix.py unshared OLD [TURNS]

`demo` and `skies` start ``glat run --at CELL`` for each cell in turn, as an artist's script would, and
compare the wall time with one ``glat run``; of the 864 pictures of `skies` a sample of cells stands for all.
The tracer is compiled beforehand, and each side writes into a folder of its own.
"""

from __future__ import annotations

import compileall
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from same_pictures import channels

import grandlattice as lattice
from grandlattice.demo import write_demo
from grandlattice.runs.memory_room import film_bytes

GLAT = [sys.executable, "-c", "from grandlattice.cli.main import main; main()"]
ALL = ("--run", "spare=0")  # processors
_SAMPLE = 8  # cells that stand for all


def glat(folder: Path, *words: str) -> tuple[float, str]:
    """Seconds a command takes, and what it says."""
    started = time.perf_counter()
    done = subprocess.run(
        [*GLAT, *words], cwd=folder, check=True, capture_output=True, text=True,
        env={**os.environ, "COLUMNS": "200", "NO_COLOR": "1"},
    )  # fmt: skip
    return time.perf_counter() - started, done.stdout


def say(what: str, figure: str, bar: str) -> None:
    print(f"{what:78} {figure:>16}  {bar}", flush=True)


def demo(folder: Path) -> None:
    write_demo(folder)
    whole, _ = glat(folder, "run", *ALL, "--into", "whole")
    cells = [cell.address for cell in lattice.open_plan(folder / "orrery.lattice.yaml").cells]
    loop = sum(glat(folder, "run", *ALL, "--into", "loop", "--at", cell)[0] for cell in cells)
    say(f"the demo's {len(cells)} cells: one run {whole:.0f} s, a loop over cells {loop:.0f} s",
        f"{loop / whole:.1f} ×", "≥ 8 ×")  # fmt: skip
    passes = ("beauty", "depth", "normal", "occlusion", "albedo")
    sample = cells[:: len(cells) // 3][:3]
    each = sum(
        glat(folder, "run", *ALL, "--into", f"by-{name}", "--at", cell, "--set", f"passes={name}")[0]
        for cell in sample for name in passes
    )  # fmt: skip
    each *= len(cells) / len(sample)
    say(f"  against a loop over cells and passes, {each:.0f} s by a sample", f"{each / whole:.1f} ×", "")


def skies(folder: Path) -> None:
    write_demo(folder)
    plan = folder / "more" / "skies.lattice.yaml"
    whole, _ = glat(folder, "run", str(plan), *ALL)
    cells = [cell.address for cell in lattice.open_plan(plan).cells]
    sample = cells[:: max(1, len(cells) // _SAMPLE)][:_SAMPLE]
    each = [glat(folder, "run", str(plan), *ALL, "--into", "loop", "--at", cell)[0] for cell in sample]
    loop = sum(each) / len(each) * len(cells)
    say(f"{len(cells)} pictures of more/skies: one run {whole:.0f} s, a loop {loop:.0f} s by {len(sample)}",
        f"{loop / whole:.0f} ×", "≥ 40 ×")  # fmt: skip


def again(folder: Path) -> None:
    write_demo(folder)
    glat(folder, "run", "--set", "samples=1", "--set", "denoise=false")
    seconds = min(glat(folder, "run", "--set", "samples=1", "--set", "denoise=false")[0] for _ in range(3))
    say("the demo run again, nothing changed", f"{seconds:.2f} s", "< 1.5 s")
    glat(folder, "cells", "--count")
    say(
        "glat cells --count of it",
        f"{min(glat(folder, 'cells', '--count')[0] for _ in range(3)):.2f} s",
        "< 0.8 s",
    )


def lamp(folder: Path) -> None:
    from pxr import Usd

    write_demo(folder)
    glat(folder, "run", "--set", "samples=1", "--set", "denoise=false")
    stage = Usd.Stage.Open(str(folder / "orrery.usda"))
    stage.GetPrimAtPath("/Room/Lights/Lamp").GetAttribute("inputs:intensity").Set(1234.0)
    stage.GetRootLayer().Save()
    started = time.perf_counter()
    plan = lattice.open_plan(folder / "orrery.lattice.yaml").override(samples=1, denoise=False)
    left = sorted(
        {member.cell.coordinates["light"] for task in plan.outlook().todo for member in task.members}
    )
    say(f"the lamp changed in the scene: cells of {', '.join(left)} are traced; decided in",
        f"{time.perf_counter() - started:.1f} s", "< 5 s")  # fmt: skip


def many(folder: Path) -> None:
    sys.path.insert(0, str(Path(__file__).parent))
    import nights

    file = nights.million(folder, axes=5)
    nights.pretend_half_is_done(file)
    command = [sys.executable, "-c", nights._MAKE, str(file)]
    subprocess.run(command, check=True, capture_output=True)
    started = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    say(
        "100,000 cells, half of their files there, decided again",
        f"{time.perf_counter() - started:.1f} s",
        "< 30 s",
    )


def memory(folder: Path) -> None:
    write_demo(folder)
    file = folder / "more" / "skies.lattice.yaml"
    plan = lattice.open_plan(file)
    at = [f"{axis.name}={axis.options[-1].name}" for axis in plan.lattice.axes if len(axis.options) < 36]
    passes = ["beauty", "depth", "normal", "albedo", "occlusion"]
    told = plan.override(
        size="1280x720", scale="100%", samples=1, denoise=False, format=["exr"], passes=passes
    ).worker_room(at=at)  # fmt: skip
    words = [
        "size=1280x720",
        "scale=100%",
        "samples=1",
        "denoise=false",
        "format=exr",
        f"passes={','.join(passes)}",
    ]
    given = [word for each in words for word in ("--set", each)] + [
        word for each in at for word in ("--at", each)
    ]
    command = [*GLAT, "run", str(file), *given, "--workers", "1", "--into", "large"]
    with (folder / "said").open("w+") as out:
        process = subprocess.Popen(command, cwd=folder, stdout=out)
        most = os.wait4(process.pid, 0)[2].ru_maxrss * 1024  # of it and of those it waited for
        said = (folder / "said").read_text()
    (frames,) = [line.split(";")[0] for line in said.splitlines() if "to render" in line]
    say(f"films of 1280×720 with five passes: {frames}; told beforehand {told.worker / 1e9:.2f} GB",
        f"{most / 1e9:.2f} GB", "< 2 GB")  # fmt: skip


_NOTHING_SHARED = """\
lattice: 1
scene: orrery.usda
defaults:
  size: 640x360
  samples: 8
  bounces: 5
  frames: 36
  format: [exr, png]
  output: "out/{camera}.{finish}.{ext}"
axes:
  finish:
    brass:
    verdigris: {edits: [{choose: {on: /Room/Orrery, finish: verdigris}}]}
  camera: {each: cameras, among: /Room/Cameras/Wide /Room/Cameras/Portrait}
"""


def unshared(folder: Path, other: str, turns: int) -> None:
    """CPU seconds of a plan in which nothing is shared, here and in another checkout, in turns."""
    write_demo(folder)
    plan = folder / "alone.lattice.yaml"
    plan.write_text(_NOTHING_SHARED)
    sources = {"here": str(Path(lattice.__file__).parents[1]), "before": f"{other}/src"}
    for source in sources.values():  # or a fresh checkout would compile its modules each time
        compileall.compile_dir(source, quiet=2)
    spent: dict[str, list[float]] = {name: [] for name in sources}
    for turn in range(turns + 1):
        for name, source in sources.items():
            before = resource.getrusage(resource.RUSAGE_CHILDREN)
            subprocess.run(
                [*GLAT, "run", str(plan), "--workers", "1", "--fresh", "--into", name],
                cwd=folder, check=True, capture_output=True, env={
                    **os.environ, "PYTHONPATH": source, "GRANDLATTICE_CACHE": str(folder / f"cache-{name}"),
                },
            )  # fmt: skip
            after = resource.getrusage(resource.RUSAGE_CHILDREN)
            if turn:  # the first compiles
                spent[name].append(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)
    middle = {name: statistics.median(seconds) for name, seconds in spent.items()}
    say(f"four cells that share nothing, CPU seconds: {middle['here']:.2f}, before {middle['before']:.2f}",
        f"{middle['here'] / middle['before']:.3f} ×", "≤ 1.03 ×")  # fmt: skip
    least = {name: min(seconds) for name, seconds in spent.items()}  # when nobody else uses the machine
    say(f"  the least of them: {least['here']:.2f}, before {least['before']:.2f}",
        f"{least['here'] / least['before']:.3f} ×", "")  # fmt: skip
    files = sorted((folder / "here").rglob("*.exr"))
    same = sum(channels(f) == channels(folder / "before" / f.relative_to(folder / "here")) for f in files)
    say("  their pictures with the very same pixels", f"{same} of {len(files)}", "all")


def same(folder: Path) -> None:
    """36 films of one view made at once, in parts, within bounds, by two workers, and after a kill."""
    write_demo(folder)
    plan = folder / "more" / "skies.lattice.yaml"
    view = ["--at", "camera=Wide", "--at", "mood=warm", "--at", "brightness=-8.6"]
    told = {"samples": 24, "scale": "10%", "format": ["exr"], "denoise": False}
    film = film_bytes(lattice.open_plan(plan).override(**told).cells[0].settings)
    how = [w for each in ("samples=24", "scale=10%", "format=exr", "denoise=false") for w in ("--set", each)]
    turned = list(dict.fromkeys(cell.coordinates["turned"] for cell in lattice.open_plan(plan).cells))

    def words(
        into: str, *more: str, films: int = 36, workers: int = 1, only: Sequence[str] = ()
    ) -> list[str]:
        at = ["--at", f"turned={','.join(only)}"] if only else []
        room = ["--run", f"films={films * film / 1e6} MB", "--workers", str(workers)]
        return [str(plan), *view, *at, *how, *room, "--into", into, *more]

    def kill(told: list[str]) -> None:
        process = subprocess.Popen([*GLAT, "run", *told], cwd=folder, stdout=subprocess.DEVNULL)
        while not list(folder.glob("killed/**/*.exr")):
            time.sleep(0.02)
        process.kill()
        process.wait()

    glat(folder, "run", *words("whole"))
    glat(folder, "run", *words("12, then 24", only=turned[:12]))
    glat(folder, "run", *words("12, then 24"))
    glat(folder, "run", *words("one of them", only=turned[7:8]))
    for films in (1, 5):
        glat(folder, "run", *words(f"room for {films}", films=films))
    glat(folder, "run", *words("two workers", films=5, workers=2))
    kill(words("killed", films=5))
    glat(folder, "run", *words("killed", films=5))
    glat(folder, "run", *words("ended by their time", "--set", "seconds=0.01"))
    glat(folder, "continue", *words("ended by their time", "--set", "seconds=0.01"))
    whole = {file.relative_to(folder / "whole"): channels(file) for file in folder.glob("whole/**/*.exr")}
    for into in ("12, then 24", "one of them", "room for 1", "room for 5", "two workers", "killed",
                 "ended by their time"):  # fmt: skip
        files = sorted((folder / into).rglob("*.exr"))
        equal = sum(channels(file) == whole[file.relative_to(folder / into)] for file in files)
        say(f"36 films of one view, {into}: equal to those made at once",
            f"{equal} of {len(files)}", f"all {1 if into == 'one of them' else 36}")  # fmt: skip


def main(words: list[str]) -> None:
    if words[:1] == ["unshared"]:
        with tempfile.TemporaryDirectory() as folder:
            unshared(Path(folder), words[1], int(words[2]) if len(words) > 2 else 9)
        return
    for name in words or ["demo", "skies", "again", "lamp", "many", "memory", "same"]:
        with tempfile.TemporaryDirectory() as folder:
            globals()[name](Path(folder))


if __name__ == "__main__":
    main(sys.argv[1:])
