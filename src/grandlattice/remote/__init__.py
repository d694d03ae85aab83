"""Plans on their way to other machines: packs, with everything that a plan's cells need and nothing else."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
