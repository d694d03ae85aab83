"""Grand Lattice: one scene, one plan, every picture of the matrix.

>>> import grandlattice as lattice
>>> plan = lattice.open_plan("orrery.lattice.yaml")             # doctest: +SKIP
>>> plan.cells["noon/brass/all/Wide"].edits                     # doctest: +SKIP
>>> run = plan.run(workers=2)                                   # doctest: +SKIP
>>> run.picture("noon/brass/all/Wide", pass_name="beauty")      # doctest: +SKIP

Names stand in `__init__.pyi` and are loaded when they are asked for: looking on a run needs no USD,
planning no tracer.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
