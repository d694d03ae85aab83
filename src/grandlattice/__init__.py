"""Grand Lattice: one scene, one plan, every picture of the matrix.

>>> import grandlattice as lattice
>>> plan = lattice.open_plan("orrery.lattice.yaml")             # doctest: +SKIP
>>> plan.cells["noon/brass/all/Wide"].edits                     # doctest: +SKIP
>>> run = plan.run(workers=2)                                   # doctest: +SKIP
>>> run.picture("noon/brass/all/Wide", pass_name="beauty")      # doctest: +SKIP
"""

from importlib import import_module
from importlib.metadata import PackageNotFoundError, version
from typing import TYPE_CHECKING, Any

from grandlattice.api import (
    begin,
    open_plan,
    plan_schema,
    prepare_tracer,
    survey,
    tracer_is_prepared,
    tracer_prepared_aside,
)
from grandlattice.checks import Finding
from grandlattice.errors import (
    EditError,
    ImageError,
    LatticeError,
    NoSuchCell,
    OutputError,
    Place,
    PlanError,
    RunError,
    SceneError,
    TracerError,
    nearest,
)
from grandlattice.plan import Cell, Settings, Totals
from grandlattice.plan.values import read_frames
from grandlattice.queues import Queue, Step, find_queue, open_queue
from grandlattice.stage import Change, Explanation, Opinion, Survey
from grandlattice.whole import Cells, Plan

if TYPE_CHECKING:
    from grandlattice.runs import (
        Event,
        Failed,
        Finished,
        Outlook,
        Pace,
        Progress,
        Retried,
        Run,
        Started,
    )

_OF_RUNS = (
    "Event", "Failed", "Finished", "Outlook", "Pace", "Progress", "Retried", "Run", "Started",
)  # fmt: skip


def __getattr__(name: str) -> Any:
    """What belongs to runs is loaded when it is asked for: tracer and image libraries take a second."""
    if name in _OF_RUNS:
        return getattr(import_module("grandlattice.runs"), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


try:
    __version__ = version("grandlattice")
except PackageNotFoundError:  # run from a source tree that is not installed
    __version__ = "0"

__all__ = [
    "Cell", "Cells", "Change", "EditError", "Event", "Explanation", "Failed", "Finding", "Finished",
    "ImageError", "LatticeError", "NoSuchCell", "Opinion", "Outlook", "OutputError", "Pace", "Place",
    "Plan", "PlanError", "Progress", "Queue", "Retried", "Run", "RunError", "SceneError", "Settings",
    "Started",    "Step", "Survey", "Totals", "TracerError", "begin", "find_queue", "nearest", "open_plan",
    "open_queue", "plan_schema", "prepare_tracer", "read_frames", "survey", "tracer_is_prepared",
    "tracer_prepared_aside",
]  # fmt: skip
