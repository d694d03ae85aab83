"""The orrery room: a scene and a plan made by code, to try everything on.

Uses the public interface only.
"""

from __future__ import annotations

from pathlib import Path

from grandlattice.demo.demo_plan import PLAN
from grandlattice.demo.demo_scene import write_scene
from grandlattice.demo.more_plans import write_more

PLAN_NAME = "orrery.lattice.yaml"


def write_demo(folder: str | Path) -> Path:
    """Write the demo's scene and plan below a folder and return the plan's file.

    A plan that is there already is left as it is; the scene is written anew.
    """
    folder = Path(folder)
    write_scene(folder)
    write_more(folder)
    plan = folder / PLAN_NAME
    if not plan.exists():
        plan.write_text(PLAN, encoding="utf-8")
    return plan


__all__ = ["PLAN_NAME", "write_demo"]
