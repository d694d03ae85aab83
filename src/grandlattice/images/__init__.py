"""Pictures: files in and out, colour and displays, sheets.

Names stand in `__init__.pyi` and are loaded when they are asked for: reading an image needs no fonts and no
displays.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
