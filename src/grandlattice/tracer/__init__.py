"""Arrays in, light out: the embedded path tracer.  No USD, no files, no plan.

Read in this order: `scene_arrays` (what the kernel walks), `integrator` (the path), `shading` (what happens
where it hits), `direct_lighting` (its light), then what a path asks on its way: `embree`, `lens`,
`material_table`, `scattering`, `light_sampling`, `texture_lookup`, `sampling`.  What kernels are written with
stands in `lanes` and `kernel_memory`, how they are compiled in `compiling`, how they are loaded in `kernel`.
"""

from grandlattice.tracer.adaptive_sampling import Unfinished
from grandlattice.tracer.camera_probe import CameraLook, Looker
from grandlattice.tracer.compiling.backend import (
    chosen as chosen_compiler,
    failure as compiler_failure,
    is_compiled,
    use as use_compiler,
)
from grandlattice.tracer.denoise import HOW_TO_INSTALL, can_denoise
from grandlattice.tracer.film import Film
from grandlattice.tracer.id_layout import hashes
from grandlattice.tracer.lens import Sensor
from grandlattice.tracer.light_passes import OwnPass
from grandlattice.tracer.path_tracer import Stopped, Tracer, TraceSettings, warm_up
from grandlattice.tracer.scene_arrays import image_files

__all__ = [
    "HOW_TO_INSTALL", "CameraLook", "Film", "Looker", "OwnPass", "Sensor", "Stopped",
    "TraceSettings", "Tracer", "Unfinished", "can_denoise", "chosen_compiler", "compiler_failure", "hashes",
    "image_files", "is_compiled", "use_compiler",
    "warm_up",
]  # fmt: skip
