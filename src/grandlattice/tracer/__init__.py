"""Arrays in, light out: the embedded path tracer.  No USD, no files, no plan.

Read in this order: `scene` (what the kernel walks), `integrator` (the path), `shading` (what happens
where it hits), `gathering` (its light), then what a path asks on its way: `embree`, `lens`, `materials`,
`scattering`, `lights`, `textures`, `sampling`.  What kernels are written with stands in `lanes` and
`memory`, how they are compiled in `compiling`, how they are loaded in `kernel`.
"""

from grandlattice.tracer.denoise import HOW_TO_INSTALL, can_denoise
from grandlattice.tracer.film import Film
from grandlattice.tracer.ids import hashes
from grandlattice.tracer.lens import Sensor
from grandlattice.tracer.look import CameraLook, Looker
from grandlattice.tracer.rounds import Unfinished
from grandlattice.tracer.scene import image_files
from grandlattice.tracer.shares import OwnPass
from grandlattice.tracer.tracer import Stopped, Tracer, TraceSettings, warm_up

__all__ = [
    "HOW_TO_INSTALL", "CameraLook", "Film", "Looker", "OwnPass", "Sensor", "Stopped",
    "TraceSettings", "Tracer", "Unfinished", "can_denoise", "hashes", "image_files",
    "warm_up",
]  # fmt: skip
