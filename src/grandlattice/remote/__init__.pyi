"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .manifest import (
    MANIFEST as MANIFEST,
    Manifest as Manifest,
    PackedFile as PackedFile,
)
from .packing import (
    Places as Places,
    Wanted as Wanted,
    write_pack as write_pack,
)
from .unpacking import (
    open_pack as open_pack,
)
