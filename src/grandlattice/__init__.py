"""Grand Lattice: one scene, one plan, every picture of the matrix.

>>> import grandlattice as lattice
>>> plan = lattice.open_plan("orrery.lattice.yaml")             # doctest: +SKIP
>>> plan.cells["noon/brass/all/Wide"].edits                     # doctest: +SKIP
>>> run = plan.run(workers=2)                                   # doctest: +SKIP
>>> run.picture("noon/brass/all/Wide", pass_name="beauty")      # doctest: +SKIP

Every name below is loaded when it is asked for: looking on a run needs no USD, planning no tracer.
"""

from typing import TYPE_CHECKING

from grandlattice.loading import on_demand

if TYPE_CHECKING:
    from grandlattice.api import (
        begin,
        open_plan,
        passes,
        plan_schema,
        prepare_tracer,
        survey,
        tracer_is_prepared,
        tracer_prepared_aside,
    )
    from grandlattice.cells import Cells
    from grandlattice.checks import Finding
    from grandlattice.errors import (
        DiskFull,
        EditError,
        ImageError,
        LatticeError,
        NoSuchCell,
        OutputError,
        Place,
        PlanError,
        RunError,
        RunUnderWay,
        SceneError,
        TracerError,
        WorkerError,
        nearest,
    )
    from grandlattice.plan import Cell, CellSettings, Settings, Totals
    from grandlattice.plan.values import read_frames
    from grandlattice.queues import Forecast, Queue, Step, added_to, find_queue, open_queue
    from grandlattice.runs import (
        Estimate,
        Event,
        Failed,
        Finished,
        FrameStatus,
        Held,
        Outlook,
        Pace,
        Progress,
        Retried,
        Returned,
        Run,
        RunStatus,
        Started,
        Steering,
    )
    from grandlattice.runs.budgets import price
    from grandlattice.stage import Change, Explanation, Opinion, Survey
    from grandlattice.steered import all_runs, ended_with, is_running, run_detached, status, steering
    from grandlattice.tables.passes import Pass
    from grandlattice.version import __version__ as __version__
    from grandlattice.whole import Plan

_WHERE = {
    "api": ("begin", "open_plan", "passes", "plan_schema", "prepare_tracer", "survey", "tracer_is_prepared",
            "tracer_prepared_aside"),
    "cells": ("Cells",),
    "checks": ("Finding",),
    "errors": ("DiskFull", "EditError", "ImageError", "LatticeError", "NoSuchCell", "OutputError", "Place",
               "PlanError", "RunError", "RunUnderWay", "SceneError", "TracerError", "WorkerError", "nearest"),
    "plan": ("Cell", "CellSettings", "Settings", "Totals"),
    "plan.values": ("read_frames",),
    "queues": ("Forecast", "Queue", "Step", "added_to", "find_queue", "open_queue"),
    "runs": ("Estimate", "Event", "Failed", "Finished", "Held", "Outlook", "Pace", "Progress", "Retried",
             "Returned", "Run", "RunStatus", "Started", "Steering", "FrameStatus"),
    "tables.passes": ("Pass",),
    "stage": ("Change", "Explanation", "Opinion", "Survey"),
    "runs.budgets": ("price",),
    "steered": ("all_runs", "ended_with", "is_running", "run_detached", "status", "steering"),
    "whole": ("Plan",),
    "version": ("__version__",),
}  # fmt: skip
__getattr__, __dir__ = on_demand(__name__, _WHERE)

__all__ = [
    "Cell",
    "CellSettings",
    "Cells",
    "Change",
    "DiskFull",
    "EditError",
    "Estimate",
    "Event",
    "Explanation",
    "Failed",
    "Finding",
    "Finished",
    "Forecast",
    "FrameStatus",
    "Held",
    "ImageError",
    "LatticeError",
    "NoSuchCell",
    "Opinion",
    "Outlook",
    "OutputError",
    "Pace",
    "Pass",
    "Place",
    "Plan",
    "PlanError",
    "Progress",
    "Queue",
    "Retried",
    "Returned",
    "Run",
    "RunError",
    "RunStatus",
    "RunUnderWay",
    "SceneError",
    "Settings",
    "Started",
    "Steering",
    "Step",
    "Survey",
    "Totals",
    "TracerError",
    "WorkerError",
    "added_to",
    "all_runs",
    "begin",
    "ended_with",
    "find_queue",
    "is_running",
    "nearest",
    "open_plan",
    "open_queue",
    "passes",
    "plan_schema",
    "prepare_tracer",
    "price",
    "read_frames",
    "run_detached",
    "status",
    "steering",
    "survey",
    "tracer_is_prepared",
    "tracer_prepared_aside",
]  # fmt: skip
