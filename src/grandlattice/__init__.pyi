"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .api.boards import (
    BoardFiles as BoardFiles,
)
from .api.cell_view import (
    Cells as Cells,
)
from .api.choices import (
    Choice as Choice,
)
from .api.cleaning import (
    Leftover as Leftover,
)
from .api.clusters import (
    clean_cluster_cache as clean_cluster_cache,
    make_certificates as make_certificates,
)
from .api.editions import (
    EditionFiles as EditionFiles,
)
from .api.history import (
    EarlierPicture as EarlierPicture,
)
from .api.live_page import (
    live as live,
)
from .api.looking import (
    FileFacts as FileFacts,
    compare_files as compare_files,
)
from .api.opening import (
    begin as begin,
    open_plan as open_plan,
    passes as passes,
    plan_schema as plan_schema,
    prepare_tracer as prepare_tracer,
    survey as survey,
    tracer_is_prepared as tracer_is_prepared,
    tracer_prepared_aside as tracer_prepared_aside,
)
from .api.packs import (
    PackFiles as PackFiles,
    unpack as unpack,
)
from .api.plan_object import (
    Plan as Plan,
)
from .api.queue import (
    Forecast as Forecast,
    Queue as Queue,
    Step as Step,
    added_to as added_to,
    find_queue as find_queue,
    open_queue as open_queue,
)
from .api.remembered import (
    Asked as Asked,
    Done as Done,
    cell_count as cell_count,
    is_done as is_done,
    remember_count as remember_count,
    remember_done as remember_done,
    states_before as states_before,
)
from .api.run_control import (
    all_runs as all_runs,
    ended_with as ended_with,
    is_running as is_running,
    run_detached as run_detached,
    status as status,
    steering as steering,
)
from .api.sharing import (
    SharedTrace as SharedTrace,
    Sharing as Sharing,
)
from .checks.finding import (
    Finding as Finding,
)
from .errors import (
    DiskFull as DiskFull,
    EditError as EditError,
    ImageError as ImageError,
    LatticeError as LatticeError,
    NoSuchCell as NoSuchCell,
    OutputError as OutputError,
    Place as Place,
    PlanError as PlanError,
    RunError as RunError,
    RunUnderWay as RunUnderWay,
    SceneError as SceneError,
    TracerError as TracerError,
    WorkerError as WorkerError,
)
from .images import (
    Comparison as Comparison,
    beyond_cdl as beyond_cdl,
    cdl_text as cdl_text,
)
from .page.page_writing import (
    PageFiles as PageFiles,
)
from .plan.cell_settings import (
    Cell as Cell,
    CellSettings as CellSettings,
)
from .plan.file_index import (
    Totals as Totals,
)
from .plan.reader import (
    read_edit as read_edit,
)
from .plan.settings import (
    Settings as Settings,
)
from .plan.spelled_values import (
    read_frames as read_frames,
)
from .runs.estimates import (
    Estimate as Estimate,
)
from .runs.eta import (
    Pace as Pace,
)
from .runs.events import (
    Event as Event,
    Failed as Failed,
    Finished as Finished,
    Held as Held,
    Progress as Progress,
    Retried as Retried,
    Returned as Returned,
    Started as Started,
)
from .runs.remaining import (
    Outlook as Outlook,
)
from .runs.run import (
    Run as Run,
)
from .runs.slots import (
    Slot as Slot,
)
from .runs.status import (
    FrameStatus as FrameStatus,
    RunStatus as RunStatus,
)
from .runs.steering import (
    Steering as Steering,
)
from .stage.explaining import (
    Change as Change,
    Explanation as Explanation,
    Opinion as Opinion,
)
from .stage.survey import (
    Survey as Survey,
)
from .tables.passes import (
    Pass as Pass,
)
from .version import __version__ as __version__
