"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .cell_stage import (
    CellStage as CellStage,
)
from .explaining import (
    Change as Change,
    Explainer as Explainer,
    Explanation as Explanation,
    Opinion as Opinion,
    explain_settings as explain_settings,
    rivals as rivals,
)
from .exporting import (
    export_cell as export_cell,
)
from .first_plan import (
    draft_plan as draft_plan,
    framing_file as framing_file,
)
from .light_reading import (
    lights_only as lights_only,
)
from .omissions import (
    named as named,
    omission_cure as omission_cure,
)
from .opened_scene import (
    ENDINGS as ENDINGS,
    Scene as Scene,
    files_named as files_named,
    files_read as files_read,
    open_scene as open_scene,
    read_asset as read_asset,
    scene_digest as scene_digest,
    scene_files as scene_files,
)
from .scene_digests import (
    SnapshotDigests as SnapshotDigests,
)
from .snapshotter import (
    Snapshotter as Snapshotter,
)
from .survey import (
    Survey as Survey,
    asks_for as asks_for,
    survey_scene as survey_scene,
)
from .swapped_assets import (
    Swapped as Swapped,
    swapped as swapped,
)
