"""Rays per second of the whole path tracer against what the ray library alone reaches.

Two kinds of scene: plain ones of 200,000 triangles (a rough ground, and a rough ball on a floor, matt,
under a sky, 4 bounces), where the rays are the work, and the demo, where textures, clear coats, four
lights at the first vertex and glass are.

A picture is traced by a child process in which the two ray queries are replaced by
recorders that write each ray down and pass it on.  Then, in this process and on one thread, the
same picture is traced by the unchanged kernel, and the very same rays are put to `embreex` in
batches, closest hits and shadow rays, with nothing else done.  What is opaque and what is clear
stand in two scenes on both sides, watertight ones; each question to one of them counts as a ray.

The column `passes` is what every pass together costs, as a multiple of the beauty alone; a light pass
for each light is among them.  `two` is how many times as fast two threads trace as one.

    python benchmarks/rays.py
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

import grandlattice as lattice
from grandlattice.demo import write_demo
from grandlattice.runs import WorkOrder, Workshop
from grandlattice.scene_records import Camera, Geometry, Item, Light, Material, Snapshot
from grandlattice.tables.passes import PASSES
from grandlattice.tracer import Sensor, Tracer, TraceSettings
from grandlattice.tracer.material_table import is_clear

SETTINGS = {"scale": "25%", "samples": 16, "denoise": False}
ROOM = 20_000_000  # rays the recorder has room for


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_demo(folder)
        lattice.prepare_tracer()
        heads = f"{'one thread':26} {'rays':>11} {'path tracer':>13} {'embreex alone':>14}"
        print(f"{heads} {'ratio':>6} {'passes':>7} {'two':>5}")
        for address in CELLS:
            rays = folder / "rays.npz"
            subprocess.run([sys.executable, __file__, "record", str(folder), address, str(rays)], check=True)
            os.sync()  # half a gigabyte of rays is on its way to the disk, and takes a processor
            # Threads that `embreex` leaves behind take one, too: each picture has a process of its own.
            subprocess.run([sys.executable, __file__, "measure", str(folder), address, str(rays)], check=True)


def arranged(folder: Path, address: str):
    """What it takes to trace one picture: snapshot, images, sensor, settings."""
    if address in PLAIN:
        shape, eye, turned = PLAIN[address]
        return matt_scene(*shape(), eye, turned)
    plan = lattice.open_plan(folder / "orrery.lattice.yaml").override(**SETTINGS)
    workshop = Workshop(WorkOrder(plan.model, plan.folder, plan.scene.file.resolve(), folder, "rays"))
    (task,) = plan.tasks(at=[address])
    cell = task.first
    snapshot = workshop.snapshot(cell, task.frame)
    sensor = Sensor(snapshot.camera, cell.settings.size.width, cell.settings.size.height)
    return snapshot, workshop.images_for(snapshot, cell), sensor, TraceSettings(samples=cell.settings.samples)


def ball():
    """A rough ball on a floor, under a sky that more than half of the camera's rays meet."""
    columns, rows = 632, 158
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, columns + 1), np.linspace(0, np.pi, rows + 1))
    rough = 1 + 0.05 * np.sin(9 * u) * np.sin(11 * v) + 0.02 * np.sin(41 * u) * np.sin(37 * v)
    round_one = np.stack([np.sin(v) * np.sin(u), np.cos(v), np.sin(v) * np.cos(u)], -1) * rough[..., None]
    floor = np.array([(-9, -1.07, 9), (9, -1.07, 9), (9, -1.07, -9), (-9, -1.07, -9)])
    points = np.concatenate([round_one.reshape(-1, 3), floor])
    n = len(points) - 4
    return points, np.concatenate([grid(columns, rows), [(n, n + 1, n + 2), (n, n + 2, n + 3)]])


def ground():
    """Hills and furrows that fill the picture."""
    count = 316
    x, z = np.meshgrid(np.linspace(-3, 3, count + 1), np.linspace(-4.5, 1.5, count + 1))
    high = 0.5 * np.sin(2.1 * x + 0.4) * np.sin(1.7 * z) + 0.2 * np.sin(7 * x) * np.sin(6.1 * z + 1)
    high += 0.05 * np.sin(31 * x + 2 * z) * np.sin(29 * z)
    return np.stack([x, high - 1.6, z], -1).reshape(-1, 3), grid(count, count)


def grid(columns: int, rows: int):
    """The triangles of a net of so many cells, two for each, as polygons of four corners are cut."""
    i, j = (a.ravel() for a in np.meshgrid(np.arange(columns), np.arange(rows)))
    a = j * (columns + 1) + i
    b = a + columns + 1
    return np.stack([np.stack([a, b, b + 1], 1), np.stack([a, b + 1, a + 1], 1)], 1).reshape(-1, 3)


def matt_scene(points, faces, eye, turned: float):
    """A matt shape under an even sky, seen from `eye` by a camera turned down by so many degrees."""
    p = points[faces]
    normals = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
    shape = Geometry(
        "/Shape", points.astype(np.float32), faces.astype(np.int32),
        np.repeat(normals[:, None], 3, 1).astype(np.float32),
        np.zeros((len(faces), 3, 2), np.float32), np.zeros(len(faces), np.int32),
    )  # fmt: skip
    matt = Material("/Matt", {"useSpecularWorkflow": (1.0,), "diffuseColor": (0.6,) * 3})
    sky = Light("/Sky", "dome", np.eye(4), (1.0,) * 3)
    sine, cosine = np.sin(np.radians(turned)), np.cos(np.radians(turned))
    place = np.eye(4)
    place[1, 1:3], place[2, 1:3] = (cosine, -sine), (sine, cosine)
    place[3, :3] = eye
    camera = Camera("/Camera", place, (1.6, 0.9), focal_length=1.4)
    snapshot = Snapshot((Item(shape, np.eye(4), (0,)),), (matt,), (sky,), camera)
    return snapshot, {}, Sensor(camera, 640, 360), TraceSettings(samples=16, bounces=4)


# Names → the shape, where the camera stands, and how far down it is turned.
PLAIN = {
    "a rough ground, matt": (ground, (0, 1.2, 1.5), 45.0),
    "a ball on a floor, matt": (ball, (0, 0.4, 4.5), 0.0),
}
CELLS = (*PLAIN, "noon/brass/all/Wide", "noon/brass/all/Portrait", "noon/brass/all/Dial")


def measure(folder: Path, address: str, rays: Path) -> None:
    snapshot, images, sensor, settings = arranged(folder, address)
    tracer = Tracer(1)
    tracer.trace(snapshot, images, sensor, TraceSettings(samples=1))
    seconds = min(tracer.trace(snapshot, images, sensor, settings).seconds for _ in range(3))
    pair = Tracer(2)
    pair.trace(snapshot, images, sensor, TraceSettings(samples=1))
    together = min(pair.trace(snapshot, images, sensor, settings).seconds for _ in range(3))
    every = [name for name in PASSES if name != "samples"]
    every += [f"light.{light.path.rpartition('/')[2]}" for light in snapshot.lights]
    passes = min(tracer.trace(snapshot, images, sensor, settings, every).seconds for _ in range(3))
    kept, alone, count = np.load(rays), 0.0, 0
    clear = [is_clear(material) for material in snapshot.materials]
    for half, through in (("opaque", False), ("clear", True)):
        items = [item for item in snapshot.items if any(clear[m] for m in item.materials) == through]
        if items:
            closest, shadow = kept[f"{half} closest"], kept[f"{half} shadow"]
            alone += min(batch(items, closest, shadow) for _ in range(3))
            count += len(closest) + len(shadow)
    print(
        f"{address:26} {count:>11,} {count / seconds / 1e6:>10.2f} M/s {count / alone / 1e6:>11.2f} M/s "
        f"{alone / seconds:>6.2f} {passes / seconds:>7.2f} {seconds / together:>5.2f}",
        flush=True,
    )


def batch(items: list[Item], closest: np.ndarray, shadow: np.ndarray) -> float:
    """Seconds `embreex` takes for all rays; scene and arrays are ready before the clock starts."""
    corners = [
        (item.geometry.points @ item.to_world[:3, :3] + item.to_world[3, :3])[item.geometry.triangles]
        for item in items
    ]
    scene = rtcore_scene.EmbreeScene(robust=True)
    TriangleMesh(scene, np.concatenate(corners).astype(np.float32))
    scene.run(np.zeros((1, 3), np.float32), np.ones((1, 3), np.float32))  # commits the scene
    batches = []
    for rays in (closest, shadow):
        near, far = rays[:, 6:7], np.minimum(rays[:, 7], 1e30)
        start = np.ascontiguousarray(rays[:, :3] + rays[:, 3:6] * near, np.float32)
        batches.append((start, np.ascontiguousarray(rays[:, 3:6]), far - near[:, 0]))
    started = time.perf_counter()
    scene.run(*batches[0])
    scene.run(*batches[1], query="OCCLUDED")
    return time.perf_counter() - started


def record(folder: Path, address: str, file: Path) -> None:
    """Trace once and write down every ray: (N, 8) origin, direction, nearest, farthest."""
    import ctypes

    import llvmlite.binding
    from numba import cfunc, njit, types

    from grandlattice.tracer import embree
    from grandlattice.tracer.kernel_memory import float32s, int32s, int64s
    from grandlattice.tracer.lanes import LANES

    library = embree.library()
    kinds = {"rtcIntersect1": "closest", "rtcIntersect16": "closest", "rtcOccluded1": "shadow"}
    logs = {kind: np.zeros((2, ROOM, 8), np.float32) for kind in ("closest", "shadow")}
    counts = {kind: np.zeros(3, np.int64) for kind in logs}  # opaque, clear, and the opaque scene
    alone = types.void(types.intp, types.intp, types.intp)
    packet = types.void(types.intp, types.intp, types.intp, types.intp)

    @njit
    def write(log_at, count_at, scene, ray, step):
        """Note the ray whose numbers stand `step` apart."""
        log, count, floats = float32s(log_at), int64s(count_at), float32s(ray)
        half = 0 if scene == count[2] else 1
        if count[half] < ROOM:
            k = 8 * (half * ROOM + count[half])
            for i in range(3):
                log[k + i] = floats[i * step]
                log[k + 3 + i] = floats[(4 + i) * step]
            log[k + 6] = floats[3 * step]
            log[k + 7] = floats[8 * step]
            count[half] += 1

    def one(real, log_at: int, count_at: int):
        @cfunc(alone)
        def recorder(scene, ray, arguments):
            write(log_at, count_at, scene, ray, 1)
            real(scene, ray, arguments)

        return recorder

    def many(real, log_at: int, count_at: int):
        @cfunc(packet)
        def recorder(valid, scene, rays, arguments):
            for lane in range(LANES):
                if int32s(valid)[lane] != 0:
                    write(log_at, count_at, scene, rays + 4 * lane, LANES)
            real(valid, scene, rays, arguments)

        return recorder

    recorders = []
    for name, kind in kinds.items():
        address_of = ctypes.cast(getattr(library, name), ctypes.c_void_p).value
        llvmlite.binding.add_symbol(f"real_{name}", address_of)
        query, made = (packet, many) if name.endswith("16") else (alone, one)
        real = types.ExternalFunction(f"real_{name}", query)
        recorders.append(made(real, logs[kind].ctypes.data, counts[kind].ctypes.data))
        llvmlite.binding.add_symbol(name, recorders[-1].address)
    snapshot, images, sensor, settings = arranged(folder, address)
    tracer = Tracer(1)
    opaque = tracer._builder.build(snapshot, images).scene.record["opaque"]
    for count in counts.values():
        count[2] = opaque
    tracer.trace(snapshot, images, sensor, settings)
    np.savez(file, **{
        f"{half} {kind}": logs[kind][i, : counts[kind][i]]
        for kind in logs
        for i, half in enumerate(("opaque", "clear"))
    })  # fmt: skip


if __name__ == "__main__":
    if sys.argv[1:]:
        what = {"record": record, "measure": measure}[sys.argv[1]]
        what(Path(sys.argv[2]), sys.argv[3], Path(sys.argv[4]))
    else:
        main()
