"""From a plan file to cells: reading, checking, multiplying, naming.  No USD, no pixels.

Read in this order: `reader` (YAML with places), `including`, `unfolding` and `sweeps` (axes that
write themselves), `schema` (what may stand in a plan, with `settings` and `edits`), `axes` and
`lattice` (the matrix), `setting_layers` (who says what), `cell_maker` (one cell) and
`setting_columns` (all of them), `file_names` and `file_index` (files).
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
