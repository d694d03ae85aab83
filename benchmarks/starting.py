"""How long it takes until there is something to see: compiling, once; and from nothing to a first picture.

Run it with:  python benchmarks/starting.py

Each is measured in processes of its own.  The first picture is the demo's Wide at noon, 1280×720, one
sample of every pixel; the clock runs from before the first import of the package, over opening the
stage, reading it, its images, building and tracing.  Bytecode is there, as it is after installing.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from rich.console import Console
from rich.table import Table


def compile_it(folder: Path) -> None:
    started = time.perf_counter()
    from grandlattice.tracer import warm_up

    imported = time.perf_counter()
    warm_up()
    print(imported - started, time.perf_counter() - imported)


def first_picture(folder: Path) -> None:
    started = time.perf_counter()
    import grandlattice as lattice
    from grandlattice.runs import WorkOrder, Workshop
    from grandlattice.tracer import Sensor, Tracer, TraceSettings

    plan = lattice.open_plan(folder / "orrery.lattice.yaml").override(size="1280x720", scale="100%")
    (task,) = plan.tasks(at=["noon/brass/all/Wide"])
    cell = task.first
    marks = [("import, and open plan and stage", time.perf_counter())]
    shop = Workshop(
        WorkOrder(plan.model, plan.folder, plan.scene.file.resolve(), folder, "first"), plan.scene
    )
    snapshot = shop.snapshot(cell, task.frame)
    marks.append(("compose and read the stage", time.perf_counter()))
    images = shop.images_for(snapshot, cell)
    marks.append(("read its images", time.perf_counter()))
    seen: list[float] = []

    def told(share: float) -> None:
        if not seen:
            seen.append(time.perf_counter())

    film = Tracer(2).trace(snapshot, images, Sensor(snapshot.camera, 1280, 720),
                           TraceSettings(samples=1), progress=told)  # fmt: skip
    marks.append(("build, and a first tile", seen[0]))
    marks.append(("all of the picture, one sample", time.perf_counter()))
    assert film.samples == 1
    for name, at in marks:
        print(f"{name}|{at - started}")


def child(what: str, folder: Path, cache: str | None = None) -> str:
    environment = {**os.environ, "PYTHONPYCACHEPREFIX": str(folder / "bytecode")}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    if cache:
        environment["GRANDLATTICE_CACHE"] = cache
    return subprocess.run(
        [sys.executable, __file__, what, str(folder)],
        env=environment,
        check=True,
        capture_output=True,
        text=True,
    ).stdout


def main() -> None:
    table = Table(box=None, header_style="dim")
    for name in ("measured", "seconds", "bar"):
        table.add_column(name, justify="left" if name == "measured" else "right")
    with tempfile.TemporaryDirectory() as name:
        from grandlattice.demo import write_demo

        folder = Path(name)
        write_demo(folder)
        cold = child("compile", folder, str(folder / "cache")).split()[1]
        table.add_row("compiling the kernel, once for each machine and version", f"{float(cold):.1f}", "< 12")
        warm = min(float(child("compile", folder, str(folder / "cache")).split()[1]) for _ in range(3))
        table.add_row("loading the compiled kernel", f"{warm:.2f}", "")
        runs = [child("first", folder, str(folder / "cache")).splitlines() for _ in range(4)]
        best = min(runs, key=lambda lines: float(lines[-2].split("|")[1]))
        for line in best:
            what, seconds = line.split("|")
            table.add_row(
                f"  from the start: {what}", f"{float(seconds):.2f}", "< 1.5" if "tile" in what else ""
            )
    Console(width=110).print(table)


if __name__ == "__main__":
    if sys.argv[1:2] == ["compile"]:
        compile_it(Path(sys.argv[2]))
    elif sys.argv[1:2] == ["first"]:
        first_picture(Path(sys.argv[2]))
    else:
        main()
