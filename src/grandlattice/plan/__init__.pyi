"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .addresses import (
    cells_at as cells_at,
)
from .axes import (
    RESERVED as RESERVED,
    PrimFact as PrimFact,
    SceneFacts as SceneFacts,
    distinct_names as distinct_names,
)
from .cell_maker import (
    CellMaker as CellMaker,
)
from .cell_settings import (
    Cell as Cell,
    CellSettings as CellSettings,
)
from .file_index import (
    Filing as Filing,
    Totals as Totals,
)
from .file_names import (
    FileNames as FileNames,
    PlannedFile as PlannedFile,
    Stamp as Stamp,
    planned_files as planned_files,
)
from .including import (
    GRADES_ENDING as GRADES_ENDING,
    grades_in as grades_in,
    read_grades as read_grades,
    with_included as with_included,
)
from .lattice import (
    Lattice as Lattice,
    build_lattice as build_lattice,
)
from .reader import (
    Document as Document,
    parse as parse,
    read_document as read_document,
    yaml_writer as yaml_writer,
)
from .running_order import (
    running_order as running_order,
)
from .schema import (
    PlanModel as PlanModel,
)
from .setting_columns import (
    settled as settled,
)
from .setting_layers import (
    PlacedEdit as PlacedEdit,
)
from .settings import (
    Settings as Settings,
)
from .spelled_values import (
    Frames as Frames,
    Length as Length,
    Size as Size,
)
from .validation import (
    validate as validate,
)
