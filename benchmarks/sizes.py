"""How large a scene may be: instances, triangles, and the bytes they take.

Run it with:  python benchmarks/sizes.py [instances] [triangles]

Each is measured in a process of its own, so that its memory is its own.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import time

import numpy as np
import psutil
from rich.console import Console
from rich.table import Table

from grandlattice.scene_records import Camera, Geometry, Item, Light, Material, Snapshot
from grandlattice.tracer import Sensor, Tracer, TraceSettings


def bumpy(rows: int, columns: int) -> Geometry:
    """A bumpy ball of about 2 × rows × columns triangles."""
    t, p = np.meshgrid(
        np.linspace(0.0, np.pi, rows + 1), np.linspace(0.0, 2 * np.pi, columns + 1), indexing="ij"
    )
    r = 1.0 + 0.05 * np.sin(7 * t) * np.cos(9 * p)
    ball = np.stack([np.sin(t) * np.cos(p), np.cos(t), np.sin(t) * np.sin(p)], -1)
    points = (r[..., None] * ball).reshape(-1, 3).astype(np.float32)
    i, j = (np.ravel(a) for a in np.meshgrid(np.arange(rows), np.arange(columns), indexing="ij"))
    a, b = i * (columns + 1) + j, (i + 1) * (columns + 1) + j
    triangles = np.stack([np.stack([a, a + 1, b + 1], 1), np.stack([a, b + 1, b], 1)], 1)
    triangles = triangles.reshape(-1, 3).astype(np.int32)
    normals = ball.reshape(-1, 3).astype(np.float32)[triangles]
    uvs = np.zeros((len(triangles), 3, 2), np.float32)
    return Geometry("/Ball", points, triangles, normals, uvs, np.zeros(len(triangles), np.int32))


def _peak() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def _held() -> float:
    return psutil.Process().memory_info().rss / 2**20


def _traced(item: Item) -> None:
    """Build a scene of an item and trace a small picture of it; prints what that took."""
    camera = Camera("/Camera", np.eye(4), (1.0, 1.0), focal_length=1.0)
    sky = Light("/Sky", "dome", np.eye(4), (1.0, 1.0, 1.0))
    snapshot = Snapshot((item,), (Material("/Plain", {}),), (sky,), camera)
    tracer, sensor = Tracer(1), Sensor(camera, 64, 64)
    before, started = _held(), time.perf_counter()
    tracer._builder.build(snapshot, {})
    built, after = time.perf_counter() - started, _peak()
    film = tracer.trace(snapshot, {}, sensor, TraceSettings(samples=4, bounces=2))
    print(built, before, after, film.rays, film.seconds)


def instances() -> None:
    ball = bumpy(50, 100)
    rng = np.random.default_rng(5)
    places = np.tile(np.eye(4), (10_000, 1, 1))
    places[:, 3, :3] = rng.uniform(-60, 60, (10_000, 3)) - (0, 0, 80)
    _traced(Item(ball, np.eye(4), (0,), copies=places))


def triangles() -> None:
    ball = bumpy(1000, 2000)
    place = np.eye(4)
    place[3, 2] = -4.0
    _traced(Item(ball, place, (0,)))


def main() -> None:
    table = Table(box=None, header_style="dim")
    for name in ("measured", "figure", "bar"):
        table.add_column(name, justify="left" if name == "measured" else "right")
    for name in sys.argv[1:] or ["instances", "triangles"]:
        done = subprocess.run(
            [sys.executable, __file__, f"-{name}"], check=True, capture_output=True, text=True
        )
        built, before, after, rays, seconds = (float(word) for word in done.stdout.split())
        if name == "instances":
            table.add_row("10,000 instances of 10,000 triangles: scene built in", f"{built:.2f} s", "< 5 s")
            table.add_row("  peak memory of the process", f"{after:.0f} MB", "< 2000 MB")
        else:
            each = (after - before) * 2**20 / 4e6
            table.add_row("4,000,000 triangles: scene built in", f"{built:.1f} s", "")
            table.add_row("  memory it adds, at its peak, a triangle", f"{each:.0f} bytes", "≤ 150")
        table.add_row(f"  then traced {rays:,.0f} rays in", f"{seconds:.2f} s", "")
    Console(width=110).print(table)


if __name__ == "__main__":
    if sys.argv[1:] and sys.argv[1].startswith("-"):
        globals()[sys.argv[1][1:]]()
    else:
        main()
