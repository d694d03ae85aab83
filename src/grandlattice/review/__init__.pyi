"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .contact_sheet import (
    SheetContents as SheetContents,
    contact_sheets as contact_sheets,
)
