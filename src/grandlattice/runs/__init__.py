"""Doing it: tasks, the ledger, workers, files landing where the plan says.

Read in this order: `tasks` (what is to be done) and `fingerprints`, `outlook` (what of it is left),
`schedule` (which begins next), `work` (how one is done: `embedded` or `outside` renders, `writing`
files), `backends` (by whom, each `worker` a process), `events` (what happens), `coordinator` (the
run itself, with `budgets` and `steering`), `run_record` (what it writes down), `ledger` (where:
`ledger_file` opens and mends it), `status` and `estimates` (what the ledger tells).

Names are loaded when they are asked for: whoever only looks into a ledger needs no tracer.
"""

from typing import TYPE_CHECKING

from grandlattice.loading import on_demand

if TYPE_CHECKING:
    from grandlattice.runs.backends import Backend, InPlace, Processes
    from grandlattice.runs.budgets import Spending
    from grandlattice.runs.coordinator import Coordinator
    from grandlattice.runs.estimates import Estimate, estimate
    from grandlattice.runs.events import (
        Event,
        Failed,
        Finished,
        Held,
        Progress,
        Retried,
        Returned,
        Started,
    )
    from grandlattice.runs.fingerprints import Fingerprints
    from grandlattice.runs.ledger import FileRecord, Ledger
    from grandlattice.runs.order import TaskResult, WorkOrder
    from grandlattice.runs.outlook import Outlook, look_again, look_ahead
    from grandlattice.runs.pace import Pace
    from grandlattice.runs.run import Run
    from grandlattice.runs.schedule import Patience, Schedule
    from grandlattice.runs.status import FrameStatus, RunStatus, known_runs, read_status
    from grandlattice.runs.steering import Steering, is_under_way, sole_writer
    from grandlattice.runs.store import FolderStore, Store
    from grandlattice.runs.tasks import Ingredients, Task, TaskList, list_tasks
    from grandlattice.runs.versions import Versions
    from grandlattice.runs.work import Workshop

_WHERE = {
    "backends": ("Backend", "InPlace", "Processes"),
    "events": ("Event", "Failed", "Finished", "Held", "Progress", "Retried", "Returned", "Started"),
    "budgets": ("Spending",),
    "coordinator": ("Coordinator",),
    "estimates": ("Estimate", "estimate"),
    "fingerprints": ("Fingerprints",),
    "ledger": ("FileRecord", "Ledger"),
    "order": ("TaskResult", "WorkOrder"),
    "outlook": ("Outlook", "look_again", "look_ahead"),
    "pace": ("Pace",),
    "run": ("Run",),
    "schedule": ("Patience", "Schedule"),
    "status": ("RunStatus", "FrameStatus", "known_runs", "read_status"),
    "steering": ("Steering", "is_under_way", "sole_writer"),
    "store": ("FolderStore", "Store"),
    "tasks": ("Ingredients", "Task", "TaskList", "list_tasks"),
    "versions": ("Versions",),
    "work": ("Workshop",),
}  # fmt: skip
__getattr__, __dir__ = on_demand(__name__, _WHERE)

__all__ = [
    "Backend",
    "Coordinator",
    "Estimate",
    "Event",
    "Failed",
    "FileRecord",
    "Fingerprints",
    "Finished",
    "FolderStore",
    "FrameStatus",
    "Held",
    "InPlace",
    "Ingredients",
    "Ledger",
    "Outlook",
    "Pace",
    "Patience",
    "Processes",
    "Progress",
    "Retried",
    "Returned",
    "Run",
    "RunStatus",
    "Schedule",
    "Spending",
    "Started",
    "Steering",
    "Store",
    "Task",
    "TaskList",
    "TaskResult",
    "Versions",
    "WorkOrder",
    "Workshop",
    "estimate",
    "is_under_way",
    "known_runs",
    "list_tasks",
    "look_again",
    "look_ahead",
    "read_status",
    "sole_writer",
]  # fmt: skip
