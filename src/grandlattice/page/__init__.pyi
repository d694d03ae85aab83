"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .page_server import (
    Service as Service,
    serve as serve,
)
from .page_writing import (
    PageFiles as PageFiles,
    PixelSource as PixelSource,
    Thumbnail as Thumbnail,
    pixel_script as pixel_script,
    write_page as write_page,
)
