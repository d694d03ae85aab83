"""Doing it: tasks, the ledger, workers, files landing where the plan says.

Read in this order: `tasks` (what is to be done), `work` (how one is done), `backends` (by whom),
`run` (what is left to do and the record of it).
"""

from grandlattice.runs.backends import (
    Backend,
    Event,
    Failed,
    Finished,
    Patience,
    Progress,
    Retried,
    Started,
)
from grandlattice.runs.ledger import FileRecord, Ledger
from grandlattice.runs.pace import Pace
from grandlattice.runs.run import Outlook, Run, carry_out, look_ahead, refuse_foreign
from grandlattice.runs.store import FolderStore, Store
from grandlattice.runs.tasks import Fingerprints, Task, make_tasks
from grandlattice.runs.versions import Versions
from grandlattice.runs.work import TaskResult, WorkOrder, Workshop

__all__ = [
    "Backend", "Event", "Failed", "FileRecord", "Fingerprints", "Finished", "FolderStore",
    "Ledger", "Outlook", "Pace", "Patience", "Progress", "Retried", "Run", "Started", "Store", "Task",
    "TaskResult", "Versions", "WorkOrder", "Workshop", "carry_out", "look_ahead", "make_tasks",
    "refuse_foreign",
]  # fmt: skip
