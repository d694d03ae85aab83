"""A plan without a plan file: built, checked, rendered and looked at from Python.

    python examples/built_in_python.py

Writes the demo scene and a few small pictures below ./built-in-python.
"""

from pathlib import Path

import grandlattice as lattice
from grandlattice.demo import write_demo


def main() -> None:
    folder = Path("built-in-python")
    write_demo(folder)
    plan = lattice.Plan(
        scene="orrery.usda",
        folder=folder,
        defaults={
            "size": "240x135",
            "samples": 8,
            "format": ["exr", "png"],
            "passes": ["beauty", "depth"],
        },
    )
    light = plan.axis("light")
    light.entry("day")
    night = [
        {"hide": "/Room/Lights/Sky"},
        {"hide": "/Room/Lights/Sun"},
        {"set": {"on": "/Room/Lights/Lamp", "intensity": 600}},
    ]
    light.entry("lamp", edits=night, exposure=2)
    plan.axis("camera").each(
        "cameras", Dial={"size": "160x160"}, Above={"skip": True}, Portrait={"skip": True}
    )
    for finding in plan.check():
        print(finding.gravity, finding.what)
    run = plan.run(workers=2)
    print(run.table()[["seconds", "path"]].to_string())
    for cell in plan.cells:
        depth = run.picture(cell.address, pass_name="depth")
        light = run.picture(cell.address)[..., :3].mean()
        print(f"{cell.address:12} nearest {depth.min():.0f} cm, mean light {light:.3f}")


if __name__ == "__main__":
    main()
