"""Versions: one number for a cell, all its frames and passes, raised only when its content changed.

The day a content was first planned goes with its version, so that a run that goes on past
midnight, or tomorrow, keeps its names.
"""

from __future__ import annotations

import datetime

from grandlattice.plan import Cell, Stamp
from grandlattice.runs.fingerprints import Fingerprints
from grandlattice.runs.ledger import Ledger


class Versions:
    """Answers the version of a cell; new ones are kept in mind until `remember`."""

    def __init__(self, ledger: Ledger, fingerprints: Fingerprints) -> None:
        self._ledger, self._fingerprints = ledger, fingerprints
        self._known = ledger.versions()
        self._new: dict[str, tuple[int, str, str]] = {}

    def stamp(self, cell: Cell) -> Stamp:
        """The version and date of a cell as it is planned now."""
        content = self._fingerprints.content(cell)
        known = self._new.get(cell.address) or self._known.get(cell.address)
        if known is None or known[1] != content:
            number = known[0] + 1 if known else 1
            known = self._new[cell.address] = number, content, datetime.date.today().isoformat()
        return Stamp(known[0], known[2])

    def remember(self) -> None:
        """Write the new versions down; a run does so before its first picture."""
        if self._new:
            self._ledger.record_versions(self._new)
            self._known |= self._new
            self._new = {}
