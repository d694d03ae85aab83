"""How fast cells are planned, and how fast a stage is switched from one to the next.

Run it with:  python benchmarks/cells.py

Prints one table for the planner (a million cells of six axes with twenty rules, and the command
line on it), one for switching and snapshotting the demo, one for a scene of 20,000 prims against
opening the stage anew for each cell, and on what each cell takes there until it is known which of
them share a trace.
"""

from __future__ import annotations

import os
import platform
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdUtils
from rich.console import Console
from rich.table import Table

import grandlattice as lattice
from grandlattice.demo import write_demo
from grandlattice.plan import Cell, CellMaker, Filing, cells_at
from grandlattice.runs import CellSnapshots
from grandlattice.runs.compositions import Compositions
from grandlattice.stage import CellStage, Snapshotter, open_scene

_COUNT = "import sys; from grandlattice.cli.main import main; sys.argv[0] = 'glat'; main()"


def timed(work: Callable[[], object], repeats: int = 1) -> float:
    """Least seconds of some repeats."""
    best = float("inf")
    for _ in range(repeats):
        started = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - started)
    return best


def million(folder: Path) -> Path:
    """A plan of a million cells over a small scene: six axes of ten entries, twenty rules."""
    stage = Usd.Stage.CreateNew(str(folder / "small.usda"))
    UsdGeom.Camera.Define(stage, "/Camera")
    UsdLux.SphereLight.Define(stage, "/Lamp")
    stage.GetRootLayer().Save()
    lines = ["lattice: 1", "scene: small.usda", "defaults:", "  size: 640x360"]
    lines += ['  output: "{light}/{sky}-{tint}/{finish}-{product}.{season}.{frame:04d}.{ext}"', "axes:"]
    axes = {
        "light": "exposure: {i}", "sky": "seed: {i}", "finish": "samples: 1{i}", "season": "",
        "tint": "edits: [{{set: {{on: /Lamp, intensity: {i}}}}}]", "product": "edits: [{{hide: /Lamp}}]",
    }  # fmt: skip
    for axis, body in axes.items():
        lines.append(f"  {axis}:")
        lines += [f"    {axis}{i}: {{{body.format(i=i)}}}" for i in range(10)]
    lines.append("rules:")
    for i in range(8):
        lines.append(f"  - drop: {{light: light{i}, sky: sky{i}, tint: [tint{i}, tint9]}}")
        lines += [f"  - at: {{season: season{i}, product: product{i}}}", f"    exposure: {i}"]
    for i in range(4):
        lines += [f"  - at: {{finish: finish{i}}}", "    passes: [+depth]"]
    file = folder / "million.lattice.yaml"
    file.write_text("\n".join(lines) + "\n")
    return file


def measure_planner(folder: Path, table: Table) -> None:
    file = million(folder)
    for arguments, bar in ((["--count"], 2.0), (["--page", "4000"], 1.0)):
        command = [sys.executable, "-c", _COUNT, "cells", str(file), *arguments]
        seconds = timed(lambda command=command: subprocess.run(command, check=True, capture_output=True), 3)
        table.add_row(f"glat cells {' '.join(arguments)}", f"{seconds:.2f} s", f"< {bar:g} s")
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    table.add_row("  its peak memory", f"{peak:.0f} MB", "< 300 MB")
    plan = lattice.open_plan(file)
    build = timed(lambda: plan.lattice)
    table.add_row("multiply axes, apply rules", f"{build * 1e3:.0f} ms", "")
    whole, facts = plan.lattice, plan.facts
    make = CellMaker(whole, facts)
    random = np.random.default_rng(3)
    some = [int(i) for i in random.integers(0, len(whole), 3000)]
    index = timed(lambda: [make(i) for i in some]) / len(some)
    table.add_row("index → cell", f"{index * 1e6:.0f} µs", "< 50 µs")
    addresses = [make(i).address for i in some]
    cells_at(whole, [addresses[0]])
    address = timed(lambda: [make(int(cells_at(whole, [a])[0])) for a in addresses]) / len(some)
    table.add_row("address → cell", f"{address * 1e6:.0f} µs", "< 50 µs")
    page = timed(lambda: [plan.cells[i] for i in range(800_000, 800_200)])
    table.add_row("a page of 200 cells", f"{page * 1e3:.0f} ms", "< 1 s")
    filing = Filing(whole, make, facts, plan.names)
    collisions = timed(filing.refuse_collisions)
    table.add_row(f"names of {len(whole):,} files compared", f"{collisions:.2f} s", "< 10 s")


def switch(stage: CellStage, snapshots: Snapshotter, cells: Sequence[Cell], camera: str) -> float:
    """Seconds a cell."""
    for cell in cells[:2]:
        stage.switch(cell.edits)
        snapshots.take(camera, 1)
    started = time.perf_counter()
    for cell in cells:
        stage.switch(cell.edits)
        snapshots.take(camera, 1)
    return (time.perf_counter() - started) / len(cells)


def lights_plan(scene: str, folder: Path, light: str, sky: str, extra: Sequence[dict] = ()) -> lattice.Plan:
    plan = lattice.Plan(scene=scene, folder=folder)
    plan.axis("lamp").sweep(1, 20, step=1, edits=[{"set": {"on": light, "intensity": "{lamp}"}}])
    plan.axis("sky").sweep(0, 9, step=1, edits=[{"turn-to": {"on": sky, "y": "{sky}"}}])
    for name, edits in extra:
        plan.axis("other").entry(name, edits=edits)
    return plan


def measure_demo(folder: Path, table: Table) -> None:
    write_demo(folder)
    camera, light, sky = "/Room/Cameras/Wide", "/Room/Lights/Lamp", "/Room/Lights/Sky"
    variants = [
        ("brass", [{"choose": {"on": "/Room/Orrery", "finish": "brass"}}]),
        ("verdigris", [{"choose": {"on": "/Room/Orrery", "finish": "verdigris"}}]),
    ]
    scene = open_scene(folder / "orrery.usda")
    plan = lights_plan("orrery.usda", folder, light, sky)
    stage = CellStage(scene, plan.model, folder)
    seconds = switch(stage, Snapshotter(stage), list(plan.cells)[:200], camera)
    table.add_row("200 cells of the demo, lights differ", f"{seconds * 1e3:.1f} ms a cell", "< 20 ms")
    changing = lights_plan("orrery.usda", folder, light, sky, variants)
    stage = CellStage(scene, changing.model, folder)
    seconds = switch(stage, Snapshotter(stage), list(changing.cells)[:60], camera)
    table.add_row("60 cells, each with another variant", f"{seconds * 1e3:.1f} ms a cell", "")
    alone = Usd.Stage.Open(str(folder / "orrery.usda"))
    chosen = alone.GetPrimAtPath("/Room/Orrery").GetVariantSet("finish")
    alone.SetEditTarget(alone.GetSessionLayer())
    both = [lambda: chosen.SetVariantSelection("verdigris"), lambda: chosen.SetVariantSelection("brass")]
    recompose = np.mean([timed(one) for one in both * 5])
    table.add_row("  recomposing that prim alone", f"{recompose * 1e3:.1f} ms", "")
    mask = Usd.StagePopulationMask(["/Room/Orrery", "/Room/Cameras", "/Room/Looks"])

    def alone_anew() -> None:
        """Compose that prim and what it needs, and read it, with nothing kept."""
        layer = Sdf.Layer.FindOrOpen(str(folder / "orrery.usda"))
        root = Sdf.Layer.CreateAnonymous()
        UsdUtils.CopyLayerMetadata(layer, root, True)
        root.subLayerPaths = [layer.identifier]
        part = CellStage(scene, plan.model, folder)
        part.stage = Usd.Stage.OpenMasked(root, mask)
        Snapshotter(part).take(camera, 1)

    setup = timed(lambda: CellStage(scene, plan.model, folder), 3)
    both_ways = timed(alone_anew, 3) - setup
    table.add_row("  composing and reading that prim anew", f"{both_ways * 1e3:.0f} ms", "")
    fresh = timed(lambda: (lambda s: (s.switch(()), Snapshotter(s).take(camera, 1)))(
        CellStage(open_scene(folder / "orrery.usda"), plan.model, folder)))  # fmt: skip
    table.add_row("  a first snapshot, for comparison", f"{fresh * 1e3:.0f} ms", "")


def write_large(file: Path, count: int = 20_000) -> None:
    """Boxes in groups of a hundred, one material for each group, two lights and a camera."""
    stage = Usd.Stage.CreateNew(str(file))
    corners = [Gf.Vec3f(x, y, z) for x in (0, 1) for y in (0, 1) for z in (0, 1)]
    faces = [0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3]
    layer = stage.GetRootLayer()
    UsdGeom.Xform.Define(stage, "/World")
    with Sdf.ChangeBlock():
        for k in range(count):
            spec = Sdf.CreatePrimInLayer(layer, f"/World/Group{k // 100}/Box{k}")
            spec.specifier, spec.typeName = Sdf.SpecifierDef, "Mesh"
            for name, kind, value in (
                ("points", Sdf.ValueTypeNames.Point3fArray, corners),
                ("faceVertexCounts", Sdf.ValueTypeNames.IntArray, [4] * 6),
                ("faceVertexIndices", Sdf.ValueTypeNames.IntArray, faces),
                ("xformOp:translate", Sdf.ValueTypeNames.Double3, Gf.Vec3d(k % 141 * 2, 0, k // 141 * 2)),
            ):
                Sdf.AttributeSpec(spec, name, kind).default = value
            order = Sdf.AttributeSpec(
                spec, "xformOpOrder", Sdf.ValueTypeNames.TokenArray, Sdf.VariabilityUniform
            )
            order.default = ["xformOp:translate"]
        for k in range(count // 100):
            spec = layer.GetPrimAtPath(f"/World/Group{k}")
            spec.specifier, spec.typeName = Sdf.SpecifierDef, "Xform"
    UsdGeom.Camera.Define(stage, "/Camera")
    UsdLux.SphereLight.Define(stage, "/Lamp")
    UsdLux.DomeLight.Define(stage, "/Sky")
    layer.Save()


def measure_large(folder: Path, table: Table) -> None:
    file = folder / "large.usdc"
    write_large(file)
    plan = lights_plan("large.usdc", folder, "/Lamp", "/Sky")
    cells = list(plan.cells)[:200]
    stage = CellStage(plan.scene, plan.model, folder)
    seconds = switch(stage, Snapshotter(stage), cells, "/Camera")

    def reopened(cell: Cell) -> None:
        layer = Sdf.Layer.OpenAsAnonymous(str(file))  # as a program does that renders one cell
        root = Sdf.Layer.CreateAnonymous()
        UsdUtils.CopyLayerMetadata(layer, root, True)
        root.subLayerPaths = [layer.identifier]
        opened = Usd.Stage.Open(root)
        UsdLux.SphereLight(opened.GetPrimAtPath("/Lamp")).GetIntensityAttr().Set(float(cell.index))

    anew = np.mean([timed(lambda cell=cell: reopened(cell)) for cell in cells[:10]])
    table.add_row("20,000 prims, lights differ", f"{1 / seconds:,.0f} cells a second", "")
    table.add_row("  the stage opened for each cell, no snapshot", f"{1 / anew:,.1f} cells a second", "")
    table.add_row("  ratio", f"{anew / seconds:.0f} ×", "≥ 50 ×")


def furnish(file: Path) -> None:
    """Materials, each bound to some groups, a variant of a group, instances, a point instancer and a
    collection that a material is bound by."""
    stage = Usd.Stage.Open(str(file))
    for k in range(20):
        material = UsdShade.Material.Define(stage, f"/Looks/M{k}")
        surface = UsdShade.Shader.Define(stage, f"/Looks/M{k}/Surface")
        surface.CreateIdAttr("UsdPreviewSurface")
        surface.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set((k / 20, 0.5, 0.5))
        material.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "surface")

    def bind(path: str, number: int) -> None:
        api = UsdShade.MaterialBindingAPI.Apply(stage.GetPrimAtPath(path))
        api.Bind(UsdShade.Material(stage.GetPrimAtPath(f"/Looks/M{number}")))

    for k in range(200):
        bind(f"/World/Group{k}", k % 20)
    variants = stage.GetPrimAtPath("/World/Group3").GetVariantSets().AddVariantSet("finish")
    for number, name in enumerate(("dull", "shiny")):
        variants.AddVariant(name)
        variants.SetVariantSelection(name)
        with variants.GetVariantEditContext():
            bind("/World/Group3", number)
    stage.OverridePrim("/Kinds")
    UsdGeom.Cube.Define(stage, "/Kinds/Chair/Seat")
    for k in range(100):
        chair = UsdGeom.Xform.Define(stage, f"/World/Chairs/Chair{k}")
        chair.GetPrim().GetReferences().AddInternalReference("/Kinds/Chair")
        chair.GetPrim().SetInstanceable(True)
        chair.AddTranslateOp().Set((k * 3.0, 5.0, 0.0))
    scatter = UsdGeom.PointInstancer.Define(stage, "/World/Scatter")
    UsdGeom.Cube.Define(stage, "/World/Scatter/Stone")
    scatter.CreatePrototypesRel().AddTarget("/World/Scatter/Stone")
    scatter.CreateProtoIndicesAttr([0] * 1000)
    scatter.CreatePositionsAttr([(k, 9, 0) for k in range(1000)])
    world = stage.GetPrimAtPath("/World")
    some = Usd.CollectionAPI.Apply(world, "some")
    some.CreateIncludesRel().SetTargets(["/World/Group5", "/World/Group6"])
    api = UsdShade.MaterialBindingAPI.Apply(world)
    api.Bind(some, UsdShade.Material(stage.GetPrimAtPath("/Looks/M9")), "some")
    stage.GetRootLayer().Save()


EDITS: dict[str, dict] = {
    "another lamp": {"set": {"on": "/Lamp", "intensity": "{k}"}},
    "one shape moved": {"move": {"on": "/World/Group0/Box7", "y": "{k}"}},
    "100 shapes moved": {"move": {"on": "/World/Group5", "y": "{k}"}},
    "all shapes moved": {"move": {"on": "/World", "y": "{k}"}},
    "100 shapes hidden, 100 others shown": {"hide": "/World/Group{k}"},
    "2,000 hidden, 2,000 others shown": {"hide": "/World/Group*{k}"},
    "a material assigned to 100 shapes": {"assign": {"on": "/World/Group7", "material": "/Looks/M{k}"}},
    "a material assigned to all shapes": {"assign": {"on": "/World", "material": "/Looks/M{k}"}},
    "a material in another colour": {"set": {"on": "/Looks/M3/Surface", "diffuseColor": ["0.{k}", 0.5, 0.5]}},
    "100 shapes of another variant": {"choose": {"on": "/World/Group3", "finish": "{v}"}},
}


def measure_digests(folder: Path, table: Table) -> None:
    """What a cell takes, beyond the first, to be told from others: digests of all it holds."""
    write_large(folder / "large.usdc")
    furnish(folder / "large.usdc")
    for what, edit in EDITS.items():
        plan = lattice.Plan(scene="large.usdc", folder=folder).override(camera="/Camera")
        if "choose" in edit:  # each cell has another one than the cell before it
            plan.axis("k").sweep(1, 6, step=1, edits=[])
            for name in ("dull", "shiny"):
                plan.axis("v").entry(name, edits=[{"choose": {**edit["choose"], "finish": name}}])
        else:
            plan.axis("k").sweep(1, 12, step=1, edits=[edit])
        compositions = Compositions(lambda plan=plan: CellSnapshots(plan.scene, plan.model, folder))
        took = []
        for cell in plan.cells:
            asked = os.urandom(16), cell.settings, cell.edits, 1  # nothing is known of any cell
            took.append(timed(lambda asked=asked, ask=compositions.of: ask(*asked)))
        each = f"{took[0]:.1f} s, then {np.median(took[2:]) * 1e3:.0f} ms a cell"
        table.add_row(f"20,000 prims, {what}: told from other cells", each, "≤ 20 ms a cell")


def main() -> None:
    console = Console()
    table = Table(title=f"planning and switching, {platform.machine()}, Python {platform.python_version()}")
    for column in ("what", "measured", "bar"):
        table.add_column(column)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        measure_planner(folder, table)
        measure_demo(folder, table)
        measure_large(folder, table)
        measure_digests(folder, table)
    console.print(table)


if __name__ == "__main__":
    main()
