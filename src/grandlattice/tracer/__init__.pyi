"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .adaptive_sampling import (
    Unfinished as Unfinished,
)
from .camera_probe import (
    CameraLook as CameraLook,
    Looker as Looker,
)
from .company import (
    Company as Company,
    Lighting as Lighting,
    split as split,
)
from .compiling.backend import (
    chosen_compiler as chosen_compiler,
    compiler_failure as compiler_failure,
    is_compiled as is_compiled,
    use_compiler as use_compiler,
)
from .denoise import (
    HOW_TO_INSTALL as HOW_TO_INSTALL,
    can_denoise as can_denoise,
    denoised as denoised,
)
from .film import (
    Film as Film,
)
from .film_making import (
    relit_film as relit_film,
)
from .film_sums import (
    FilmSums as FilmSums,
)
from .id_layout import (
    hashes as hashes,
)
from .lens import (
    Sensor as Sensor,
    pixel_pitch as pixel_pitch,
)
from .light_mixing import (
    Mixing as Mixing,
)
from .light_passes import (
    OwnPass as OwnPass,
)
from .light_shares import (
    LightShares as LightShares,
    shares_of as shares_of,
    with_lamps_off as with_lamps_off,
)
from .path_tracer import (
    Stopped as Stopped,
    StopSignal as StopSignal,
    TraceControl as TraceControl,
    Tracer as Tracer,
    warm_up as warm_up,
)
from .scene_arrays import (
    image_files as image_files,
)
from .share_index import (
    Lamp as Lamp,
    ShareIndex as ShareIndex,
)
from .trace_settings import (
    TraceSettings as TraceSettings,
)
