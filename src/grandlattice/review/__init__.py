"""Looking at what was made: contact sheets.  They are loaded when they are asked for."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
