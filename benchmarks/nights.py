"""What a night costs besides rendering, and what it bears.

Run it with:  python benchmarks/nights.py [overhead] [empty] [million] [simulation] [worker]

Without words it does all, which takes about ten minutes.  `overhead` is 200 tasks of two seconds
and more on two workers; `empty` tasks that do nothing, through real workers and the ledger;
`million` a plan of a million tasks; `simulation` a thousand workers in a clock of its own; `worker`
the memory of one over a thousand tasks.
"""

from __future__ import annotations

import random
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import psutil
from pxr import Usd, UsdGeom, UsdLux
from rich.console import Console
from rich.table import Table

import grandlattice as lattice
from grandlattice import Finished
from grandlattice._support.processes import without_main_script
from grandlattice.api import orchestration
from grandlattice.demo import write_demo
from grandlattice.plan.run_block import Budget
from grandlattice.runs import Coordinator, FileRecord, Patience, Processes, Schedule, Spending, TaskResult
from grandlattice.runs.work_order import MemberResult

WORKERS = 2


# --- tasks of two seconds --------------------------------------------------------------------------


def measure_overhead(folder: Path, table: Table) -> None:
    """Wall time of a run over the tasks' own seconds of tracing, shared by the workers."""
    plan = lattice.open_plan(write_demo(folder))
    plan.change("axes", {"camera": {"each": "cameras"}}).change("rules", []).change("order", ["camera"])
    chosen, frames = ["Wide", "Portrait"], "1-100"
    plan = plan.override(
        size="320x180", scale="100%", samples=10, frames=frames, denoise=False, format=["exr"],
        passes=["beauty"], output="night/{camera}.{frame:04d}.{ext}",
    )  # fmt: skip
    lattice.prepare_tracer()
    started = time.perf_counter()
    run = plan.run(at=chosen, workers=WORKERS, threads=1)
    wall = time.perf_counter() - started
    traced = [event.result.trace_seconds for event in run.finished]
    ratio = wall / (sum(traced) / WORKERS)
    table.add_row(
        f"{len(traced)} tasks, the shortest {min(traced):.1f} s, {WORKERS} workers: wall time {wall:.0f} s "
        f"over traced seconds / workers {sum(traced) / WORKERS:.0f} s", f"{ratio:.3f}", "≤ 1.03",
    )  # fmt: skip
    inside = run.seconds / (sum(traced) / WORKERS)
    table.add_row("  the same without deciding and estimating before the first task", f"{inside:.3f}", "")
    if run.estimate is not None:
        table.add_row(
            f"  estimated {run.estimate.seconds:.0f} s ({run.estimate.low:.0f} to {run.estimate.high:.0f})",
            f"took {run.seconds:.0f} s", "",
        )  # fmt: skip


# --- tasks that do nothing -------------------------------------------------------------------------


class Idle:
    """A shop whose tasks render nothing and write no files."""

    def __init__(self, order: object) -> None:
        pass

    def probe(self, cell, frame) -> tuple[float, float, float]:  # type: ignore[no-untyped-def]
        return 0.0, 0.0, 0.0

    def perform(self, task, progress=None, stop=None) -> TaskResult:  # type: ignore[no-untyped-def]
        members = (MemberResult(m.number, 1, None, False, 0, 0.0) for m in task.members)
        return TaskResult(tuple(members), (), 0.0, 0.0, 0)


def measure_empty(folder: Path, table: Table) -> None:
    plan = lattice.open_plan(million(folder, axes=4))
    planned, indices = plan.planned(), plan.cells.indices()
    run = orchestration.outlook(planned, indices, None)
    orchestration.note_tasks(planned, run, planned.key(indices, None))
    order = orchestration._order(planned, 1, False, "skip", planned.ledger.id)
    # The script's classes must be found by the workers, as the library's own are.
    sys.path.insert(0, str(Path(__file__).parent))
    import nights

    backend = Processes(order, WORKERS, shop=nights.Idle)
    first: list[float] = []

    def told(event: lattice.Event) -> None:
        if isinstance(event, Finished) and not first:
            first.append(time.perf_counter())

    Coordinator(run, backend, Patience(), Spending(Budget()), lambda: None, told).carry_out(WORKERS)
    rate = (len(run.finished) - 1) / (time.perf_counter() - first[0])
    table.add_row(
        f"{len(run.finished):,} tasks that do nothing, {WORKERS} workers, every one in the ledger",
        f"{rate:.0f} / s", "≥ 500 / s",
    )  # fmt: skip


# --- a million tasks -------------------------------------------------------------------------------


def million(folder: Path, axes: int = 6) -> Path:
    """A plan of ten to the power of `axes` cells that are all traced by themselves."""
    stage = Usd.Stage.CreateNew(str(folder / "small.usda"))
    UsdGeom.Camera.Define(stage, "/Camera")
    UsdLux.SphereLight.Define(stage, "/Lamp")
    stage.GetRootLayer().Save()
    lines = ["lattice: 1", "scene: small.usda", "defaults: {size: 8x8, samples: 1}", "axes:"]
    kinds = ["intensity", "exposure", "diffuse", "specular", "colorTemperature", "radius"]
    for kind in kinds[:axes]:
        lines.append(f"  {kind}:")
        lines += [f"    {kind}{i}: {{edits: [{{set: {{on: /Lamp, {kind}: {i + 1}}}}}]}}" for i in range(10)]
    order = ", ".join(kinds[:axes])
    names = "/".join(f"{{{kind}}}" for kind in kinds[: axes - 2]) or "all"
    rest = "-".join(f"{{{kind}}}" for kind in kinds[max(0, axes - 2) : axes])
    lines += [f"order: [{order}]"]
    output = f"made/{names}/{rest}.{{ext}}"
    lines[2] = f'defaults: {{size: 8x8, samples: 1, own-trace: true, output: "{output}"}}'
    file = folder / "million.lattice.yaml"
    file.write_text("\n".join(lines) + "\n")
    return file


_MAKE = """
import resource, sys, time
import grandlattice as lattice
from grandlattice.api import orchestration
started = time.perf_counter()
plan = lattice.open_plan(sys.argv[1])
planned, indices = plan.planned(), plan.cells.indices()
run = orchestration.outlook(planned, indices, None)
orchestration.note_tasks(planned, run, planned.key(indices, None))
print(len(run.tasks), len(run.outlook.done), time.perf_counter() - started,
      resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def measure_million(folder: Path, table: Table) -> None:
    file = million(folder)

    def make() -> list[float]:
        done = subprocess.run(
            [sys.executable, "-c", _MAKE, str(file)], check=True, capture_output=True, text=True
        )
        return [float(word) for word in done.stdout.split()]

    count, _, seconds, megabytes = make()
    table.add_row(f"ledger of {count:,.0f} tasks made", f"{seconds:.1f} s", "< 60 s")
    table.add_row("  its peak memory", f"{megabytes:.0f} MB", "< 500 MB")
    count, done, seconds, megabytes = make()
    table.add_row(f"resume decided, {done:,.0f} done", f"{seconds:.1f} s", "< 10 s")
    pretend_half_is_done(file)
    count, done, seconds, megabytes = make()
    table.add_row(
        f"resume decided, {done:,.0f} done and their files on the disk", f"{seconds:.1f} s", "< 10 s"
    )
    table.add_row("  its peak memory", f"{megabytes:.0f} MB", "< 500 MB")
    command = [sys.executable, "-c", "from grandlattice.cli.main import main; main()", "status", str(file)]
    best = min(_timed(command) for _ in range(3))
    table.add_row("glat status of it, from the shell", f"{best:.2f} s", "< 1 s")


def pretend_half_is_done(file: Path) -> None:
    """Half of the files on the disk and in the ledger, as a run would have left them."""
    plan = lattice.open_plan(file)
    run = orchestration.outlook(plan.planned(), plan.cells.indices(), None)
    records, states = [], []
    for task in run.tasks[: len(run.tasks) // 2]:
        for member in task.members:
            for each in member.files:
                path = plan.folder / each.planned.path
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(b"x")
                records.append(FileRecord(
                    each.planned.path, member.cell.address, "{}", 1, "exr", "beauty", each.fingerprint,
                    1, 8, 8, 1, 1, 0.0, False, 0.0, trace=task.trace,
                ))  # fmt: skip
        states.append((task.numbers, {"state": "done"}))
        if len(records) >= 50_000:
            run.ledger.write(members=states, files=records)
            records, states = [], []
    run.ledger.write(members=states, files=records)


def _timed(command: Sequence[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    return time.perf_counter() - started


# --- a thousand workers ----------------------------------------------------------------------------


@dataclass
class Clock:
    now: float = 0.0

    def __call__(self) -> float:
        return self.now


def measure_simulation(folder: Path, table: Table) -> None:
    """A thousand workers, tasks of random length and failures, in a clock of its own."""
    rng = random.Random(4)
    count, workers = 100_000, 1000
    steps = np.sort(np.array([rng.randrange(3) for _ in range(count)], np.int32))
    priorities = np.array([rng.choice((0, 0, 0, 5)) for _ in range(count)], np.int32)
    clock = Clock()
    schedule = Schedule(np.arange(count), steps, priorities, Patience(2, 2.0), clock)
    busy: list[tuple[float, int, bool]] = []
    began: dict[int, float] = {}
    ended: dict[int, float] = {}
    worked = 0.0
    import heapq

    started = time.perf_counter()
    while not schedule.is_done:
        while len(busy) < workers and (number := schedule.next()) is not None:
            began.setdefault(number, clock.now)
            seconds = rng.lognormvariate(4.0, 0.8)
            worked += seconds
            heapq.heappush(busy, (clock.now + seconds, number, rng.random() < 0.02))
        if not busy:
            clock.now += 0.5
            continue
        clock.now, number, fails = heapq.heappop(busy)
        if fails and schedule.again(number) is not None:
            continue
        schedule.ended(number)
        ended[number] = clock.now
    decided = time.perf_counter() - started
    order = sorted(began, key=lambda n: (began[n], steps[n], -priorities[n], n))
    assert order == sorted(range(count), key=lambda n: (steps[n], -priorities[n], n)), "order"
    for step in (1, 2):
        last = max(ended[n] for n in ended if steps[n] < step)
        assert min(began[n] for n in began if steps[n] == step) >= last, "barrier"
    assert len(ended) == count
    table.add_row(
        f"{count:,} tasks on {workers:,} simulated workers, 2 % fail, 2 barriers: order, priorities and "
        "barriers held; utilisation", f"{worked / (clock.now * workers) * 100:.1f} %", "",
    )  # fmt: skip
    table.add_row("  a decision of the schedule takes", f"{decided / count * 1e6:.0f} µs", "")


# --- the memory of a worker ------------------------------------------------------------------------


def measure_worker(folder: Path, table: Table) -> None:
    """One light and one look: what a worker keeps of other images and skies is no growth."""
    plan = lattice.open_plan(write_demo(folder))
    plan = plan.override(
        size="32x18", scale="100%", samples=1, frames="1-360", denoise=False, format=["exr"],
        passes=["beauty"],
    )  # fmt: skip
    seen: list[int] = []

    def told(event: lattice.Event) -> None:
        if isinstance(event, Finished):
            seen.append(event.result.peak_bytes)

    with without_main_script():
        run = plan.run(at=["noon/brass/all/"], workers=1, threads=1, on_event=told)
    early, late = np.median(seen[100:150]), np.median(seen[-50:])
    table.add_row(
        f"memory of a worker after 100 and after {len(run.finished):,} tasks: "
        f"{early / 1e6:.0f} and {late / 1e6:.0f} MB", f"{(late / early - 1) * 100:+.1f} %", "< 5 %",
    )  # fmt: skip


def main() -> None:
    wanted = sys.argv[1:] or ["simulation", "empty", "million", "worker", "overhead"]
    table = Table(box=None, header_style="dim")
    for name in ("measured", "figure", "bar"):
        table.add_column(name, justify="left" if name == "measured" else "right")
    for name in wanted:
        with tempfile.TemporaryDirectory() as folder:
            globals()[f"measure_{name}"](Path(folder), table)
    Console(width=130).print(table)
    print(f"{psutil.cpu_count()} processors, {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MB")


if __name__ == "__main__":
    main()
