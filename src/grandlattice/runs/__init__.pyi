"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .backends import (
    Backend as Backend,
)
from .budgets import (
    Spending as Spending,
)
from .cell_snapshots import (
    CellSnapshots as CellSnapshots,
)
from .compositions import (
    Compositions as Compositions,
)
from .coordinator import (
    Coordinator as Coordinator,
)
from .estimates import (
    Estimate as Estimate,
    estimate as estimate,
)
from .eta import (
    Pace as Pace,
)
from .events import (
    Event as Event,
    Failed as Failed,
    Finished as Finished,
    Held as Held,
    Progress as Progress,
    Retried as Retried,
    Returned as Returned,
    Started as Started,
)
from .fingerprints import (
    Fingerprints as Fingerprints,
)
from .ledger import (
    FileRecord as FileRecord,
    Ledger as Ledger,
)
from .local_backends import (
    InPlace as InPlace,
    Processes as Processes,
)
from .remaining import (
    Outlook as Outlook,
    look_again as look_again,
    look_ahead as look_ahead,
)
from .run import (
    Run as Run,
)
from .schedule import (
    Patience as Patience,
    Schedule as Schedule,
)
from .status import (
    FrameStatus as FrameStatus,
    RunStatus as RunStatus,
    known_runs as known_runs,
    read_status as read_status,
)
from .steering import (
    Steering as Steering,
)
from .store import (
    FolderStore as FolderStore,
    Store as Store,
)
from .task_listing import (
    list_tasks as list_tasks,
)
from .tasks import (
    Ingredients as Ingredients,
    Task as Task,
    TaskList as TaskList,
)
from .versions import (
    Versions as Versions,
)
from .work_order import (
    TaskResult as TaskResult,
    WorkOrder as WorkOrder,
)
from .workshop import (
    Workshop as Workshop,
)
from .writer_lock import (
    is_under_way as is_under_way,
    sole_writer as sole_writer,
)
