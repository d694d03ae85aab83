"""What a cluster costs: tasks of about two seconds on local workers, and on a cluster on this machine.

    python benchmarks/cluster.py [TURNS]      # interleaved; the median of the ratios of seconds
    python benchmarks/cluster.py bring GB     # a scene of so many GB to a host: seconds, memory on both sides

Starting workers and bringing the scene are left out: seconds count from the first frame that began to the
last that ended.
"""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import threading
import time
from pathlib import Path

import psutil

import grandlattice as lattice
from grandlattice.demo import write_demo

WORKERS = 2
PLAN = """
lattice: 1
scene: orrery.usda
defaults: {size: 320x180, samples: SAMPLES, bounces: 4, format: exr, passes: [beauty], frames: 36,
           camera: /Room/Cameras/Wide, own-trace: true, output: "out/{lamp}.{ext}"}
axes:
  lamp: {sweep: {from: 1, to: 24, step: 1}, edits: [{multiply: {on: /Room/Lights/Lamp, intensity: "{lamp}"}}]}
"""


def seconds_of(plan: lattice.Plan, into: Path, **how: object) -> tuple[float, float]:
    """Seconds from the first start to the last end, and the median of a task."""
    starts: list[float] = []
    ends: list[float] = []

    def hear(event: lattice.Event) -> None:
        if isinstance(event, lattice.Started):
            starts.append(time.perf_counter())
        elif isinstance(event, lattice.Finished):
            ends.append(time.perf_counter())

    run = plan.run(into=into, on_event=hear, **how)  # type: ignore[arg-type]
    assert run.ok, run.failures
    each = statistics.median(event.result.seconds for event in run.finished)
    return max(ends) - min(starts), each


def compare(turns: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_demo(folder)
        file = folder / "many.lattice.yaml"
        file.write_text(PLAN.replace("SAMPLES", os.environ.get("SAMPLES", "7")))
        plan, ratios = lattice.open_plan(file), []
        for turn in range(turns):
            here, each = seconds_of(plan, folder / f"here{turn}", workers=WORKERS)
            there, _ = seconds_of(plan, folder / f"there{turn}", on=f"local:{WORKERS}")
            ratios.append(here / there)
            print(
                f"turn {turn + 1}: tasks of {each:.1f} s; {here:.1f} s here, {there:.1f} s on a cluster",
                flush=True,
            )
        print(f"speed of the cluster, median: {statistics.median(ratios):.3f} of local workers (bar 0.95)")


def bring(gigabytes: float) -> None:
    """Bring a scene with a large file to a host that sees nothing of this machine."""
    from grandlattice.remote.seats import Seats

    Seats._sees_our_folders = lambda self, address: False  # type: ignore[method-assign]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_demo(folder)
        big = folder / "textures/large.bin"
        with big.open("wb") as stream:
            for _ in range(int(gigabytes * 1000)):
                stream.write(os.urandom(1_000_000))
        scene = folder / "orrery.usda"
        scene.write_text(scene.read_text() + '\ndef "Held"\n{\n    asset file = @./textures/large.bin@\n}\n')
        file = folder / "many.lattice.yaml"
        file.write_text(PLAN.replace("SAMPLES", "1").replace("to: 24", "to: 1"))
        most: dict[int, int] = {}
        ended = threading.Event()

        def watch() -> None:
            while not ended.wait(0.05):
                for process in [psutil.Process(), *psutil.Process().children(recursive=True)]:
                    try:
                        if "remote.slot" not in " ".join(process.cmdline()):
                            most[process.pid] = max(most.get(process.pid, 0), process.memory_info().rss)
                    except psutil.Error:
                        continue

        plan = lattice.open_plan(file)
        begun: list[float] = []

        def hear(event: lattice.Event) -> None:
            if isinstance(event, lattice.Held) and "the scene goes" in event.reason and not begun:
                begun.append(time.perf_counter())
            if isinstance(event, lattice.Started):
                print(f"brought in {time.perf_counter() - begun[0]:.1f} s", flush=True)

        before = psutil.Process().memory_info().rss
        threading.Thread(target=watch, daemon=True).start()
        assert plan.run(on="local:1", into=folder / "out", on_event=hear).ok
        ended.set()
        own, there = most.pop(os.getpid()) - before, max(most.values()) / 1e6
        print(f"memory: {own / 1e6:.0f} MB more here, {there:.0f} MB in all there (bar 300 more)")


if __name__ == "__main__":
    if sys.argv[1:2] == ["bring"]:
        bring(float(sys.argv[2]))
    else:
        compare(int(sys.argv[1]) if len(sys.argv) > 1 else 5)
