"""Looking at what was made: contact sheets."""

from grandlattice.review.contact import contact_sheets

__all__ = ["contact_sheets"]
