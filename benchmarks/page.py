"""The page with many cells, and what serving it costs a run.

    python benchmarks/page.py many       # 5,000 cells: seconds and size of the folder, opening, scrolling
    python benchmarks/page.py served     # CPU of a run of two workers, with a page looked at and without
    python benchmarks/page.py live       # proofs of the demo that follow a plan: from nothing, after a save

Needs Chromium and Playwright.  Frames of scrolling are told by requestAnimationFrame over a scripted scroll.
"""

from __future__ import annotations

import os
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import psutil
from playwright.sync_api import sync_playwright
from pxr import Sdf

import grandlattice as lattice
from grandlattice.api.live_proofs import LiveProofs
from grandlattice.demo import write_demo

GLAT = [sys.executable, "-c", "from grandlattice.cli.main import main; main()"]
CHROMIUM = "/usr/bin/chromium"
ARGUMENTS = ["--no-sandbox", "--disable-background-networking", "--use-gl=angle", "--use-angle=swiftshader",
             "--enable-unsafe-swiftshader"]  # fmt: skip
MANY = """
lattice: 1
scene: orrery.usda
defaults: {size: 160x90, samples: 1, bounces: 1, format: [exr, png], camera: /Room/Cameras/Wide, frames: 36,
           output: "many/{lamp}/{stops}.{ext}"}
axes:
  lamp: {sweep: {from: 1, to: 50, step: 1}, edits: [{multiply: {on: /Room/Lights/Lamp, intensity: "{lamp}"}}]}
  stops: {sweep: {from: -50, to: 49, step: 1}, exposure: "{stops}"}
"""
SCROLL = """async () => {
  const box = page.matrix.element, far = box.scrollHeight - box.clientHeight, times = [];
  let last = performance.now();
  for (let k = 0; k <= 180; k++) {
    box.scrollTop = far * k / 180;
    await new Promise(requestAnimationFrame);
    const now = performance.now();
    times.push(now - last); last = now;
  }
  return times;
}"""


def many() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_demo(folder)
        plan = folder / "many.lattice.yaml"
        plan.write_text(MANY)
        opened = lattice.open_plan(plan)
        started = time.perf_counter()
        assert opened.run().ok
        print(f"{len(opened.cells):,} cells rendered in {time.perf_counter() - started:.0f} s", flush=True)
        started = time.perf_counter()
        files = opened.page()
        seconds = time.perf_counter() - started
        size = sum(file.stat().st_size for file in files.index.parent.rglob("*") if file.is_file())
        print(f"folder {seconds:.1f} s (bar 60), {size / 1e6:.0f} MB, {files.written:,} files", flush=True)
        with sync_playwright() as driver:
            # Without the graphics processor that pictures in panes are painted by: made in software, it shows
            # nothing at all at more than 35 frames a second.
            browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS[:2])
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            started = time.perf_counter()
            page.goto(files.index.as_uri())
            page.evaluate("new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")
            page.keyboard.press("ArrowDown")
            assert page.evaluate("page.state.at") > 0
            print(f"interactive after {time.perf_counter() - started:.2f} s (bar 2)", flush=True)
            times = sorted(page.evaluate(SCROLL))
            middle, late = statistics.median(times), times[int(0.95 * len(times))]
            print(
                f"scrolling: median {middle:.0f} ms (bar 17), p95 {late:.0f} ms (bar 50) a frame", flush=True
            )
            browser.close()


def cpu_of(folder: Path, *, served: bool) -> float:
    """CPU seconds of a run of two workers and, if there is one, of the server of its page."""
    for file in [*folder.glob("*.sqlite"), *(folder / "renders").rglob("*.*")]:
        file.unlink()
    server, before = None, 0.0
    with sync_playwright() as driver:
        if served:
            server = subprocess.Popen(
                [*GLAT, "review", "--serve"],
                cwd=folder,
                stdout=subprocess.PIPE,
                text=True,
                env={**os.environ, "PYTHONUNBUFFERED": "1", "COLUMNS": "200"},
            )
            assert server.stdout is not None
            found = re.search(r"http://\S+", server.stdout.readline())
            assert found
            browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
            page = browser.new_page()
            page.goto(found[0])
            time.sleep(2)
            before = sum(psutil.Process(server.pid).cpu_times()[:2])
        children = os.times()
        subprocess.run([*GLAT, "run", "--workers", "2"], cwd=folder, check=True, capture_output=True)
        after = os.times()
        spent = (after.children_user - children.children_user) + (
            after.children_system - children.children_system
        )
        if server is not None:
            extra = sum(psutil.Process(server.pid).cpu_times()[:2]) - before
            server.terminate()
            server.wait()
            return spent + extra
        return spent


def served() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        plan = write_demo(folder)
        plan.write_text(plan.read_text().replace("samples: 8", "samples: 32"))
        ratios = []
        for turn in range(int(sys.argv[2]) if len(sys.argv) > 2 else 9):
            plain, with_page = cpu_of(folder, served=False), cpu_of(folder, served=True)
            ratios.append(with_page / plain)
            print(f"turn {turn + 1}: {plain:.1f} s of CPU, with a page {with_page:.1f} s", flush=True)
        print(f"median of the ratios {statistics.median(ratios):.3f} (bar 1.03)")


def live() -> None:
    """Seconds until proofs are on the page of `glat live`: all of the demo from nothing, and those that a
    lamp changes that was saved in the scene, to the first and to the last."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_demo(folder)
        proofs, shown = LiveProofs(folder / "orrery.lattice.yaml"), list[float]()

        def tell(told: Mapping[str, Any]) -> None:
            if told["kind"] == "cells":
                shown.append(time.perf_counter())

        started = time.perf_counter()
        proofs.look(tell)
        print(f"{len(proofs.tries[0].cells)} proofs from nothing: first {shown[0] - started:.1f} s, "
              f"last {shown[-1] - started:.1f} s (bar 12 s)", flush=True)  # fmt: skip
        scene = Sdf.Layer.OpenAsAnonymous(str(folder / "orrery.usda"))
        for factor in (1.5, 0.7, 1.2):
            shown.clear()
            strength = scene.GetAttributeAtPath("/Room/Lights/Lamp.inputs:intensity")
            strength.default = strength.default * factor
            scene.Export(str(folder / "orrery.usda"))
            saved, before = time.perf_counter(), len(proofs.tries)
            while len(proofs.tries) == before:
                time.sleep(0.25)  # as often as the server looks
                proofs.look(tell)
            print(f"a lamp saved: {len(proofs.tries[-1].cells)} cells, first {shown[0] - saved:.1f} s "
                  f"(bar 3 s), last {shown[-1] - saved:.1f} s", flush=True)  # fmt: skip


if __name__ == "__main__":
    {"many": many, "served": served, "live": live}[sys.argv[1]]()
