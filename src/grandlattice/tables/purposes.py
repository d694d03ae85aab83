"""What pictures are made for: one record for each purpose, with the densities it asks for."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class Purpose(NamedTuple):
    """What an edition is for.

    Attributes
    ----------
    least, most : pixels an inch that it can use.
    usual : pixels an inch where nothing is said.
    meaning : for an artist.
    """

    least: float
    most: float
    usual: float
    meaning: str


PURPOSES: Mapping[str, Purpose] = {
    "screen": Purpose(72.0, 110.0, 72.0, "seen on a screen"),
    "ink-jet": Purpose(150.0, 200.0, 200.0, "printed by ink-jet, seen from some distance"),
    "offset": Purpose(240.0, 300.0, 300.0, "printed by offset, in hand"),
}
"""Name → what it is."""
