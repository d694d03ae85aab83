"""Looking at what was made: contact sheets.  They are loaded when they are asked for."""

from typing import TYPE_CHECKING

from grandlattice.loading import on_demand

if TYPE_CHECKING:
    from grandlattice.review.contact import contact_sheets

__getattr__, __dir__ = on_demand(__name__, {"contact": ("contact_sheets",)})

__all__ = ["contact_sheets"]
