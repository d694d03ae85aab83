"""A page of pictures: a folder that opens from the disk in any browser."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
