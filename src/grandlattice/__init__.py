"""Grand Lattice: one scene, one plan, every picture of the matrix.

>>> import grandlattice as lattice
>>> plan = lattice.open_plan("orrery.lattice.yaml")             # doctest: +SKIP
>>> plan.cells["noon/brass/all/Wide"].edits                     # doctest: +SKIP
>>> run = plan.run(workers=2)                                   # doctest: +SKIP
>>> run.picture("noon/brass/all/Wide", pass_name="beauty")      # doctest: +SKIP
"""

from importlib.metadata import PackageNotFoundError, version

from grandlattice.api import (
    Cells,
    Plan,
    begin,
    default_workers,
    find_plan,
    open_plan,
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
from grandlattice.plan import Cell, Settings
from grandlattice.plan.values import read_frames
from grandlattice.runs import Event, Failed, Finished, Outlook, Pace, Progress, Run, Started
from grandlattice.stage import Survey

try:
    __version__ = version("grandlattice")
except PackageNotFoundError:  # run from a source tree that is not installed
    __version__ = "0"

__all__ = [
    "Cell", "Cells", "EditError", "Event", "Failed", "Finding", "Finished", "ImageError",
    "LatticeError", "NoSuchCell", "Outlook", "OutputError", "Pace", "Place", "Plan", "PlanError",
    "Progress", "Run", "RunError", "SceneError", "Settings", "Started", "Survey", "TracerError",
    "begin", "default_workers", "find_plan", "nearest", "open_plan", "prepare_tracer", "read_frames",
    "survey", "tracer_is_prepared", "tracer_prepared_aside",
]  # fmt: skip
