"""Arrays in, light out: the embedded path tracer.  No USD, no files, no plan.

Read in this order: `scene_arrays` (what the kernel walks), `integrator` (the path), `shading` (what happens
where it hits), `direct_lighting` and `lights_met` (its light), `company` (lightings that share a trace), then
what a path asks on its way: `embree`, `lens`, `material_table`, `scattering`, `light_sampling`,
`texture_lookup`, `sampling`.  What kernels are written with
stands in `lanes` and `kernel_memory`, how they are compiled in `compiling`, how they are loaded in `kernel`.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
