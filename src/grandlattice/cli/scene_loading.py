"""Loading what opens scenes, which takes its time and must not be interrupted in the usual way."""

from __future__ import annotations

import grandlattice as lattice
from grandlattice.cli import signals


def load_scenes() -> None:
    """Load USD.  It takes an exception meanwhile for a fault of its own; there is nothing to clean up yet, so
    that a command which is asked to end does so at once."""
    signals.end_at_once()
    _ = lattice.open_plan
    signals.end_in_order()
