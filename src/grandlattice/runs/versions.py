"""Versions: one number for a cell, all its frames and passes, raised only when its content changed.

The day a content was first planned goes with its version, so that a run that goes on past
midnight, or tomorrow, keeps its names.  The pictures carry their versions too: a ledger that was
lost does not begin to count anew.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable
from functools import cached_property

from grandlattice.images import read_mark
from grandlattice.plan import Cell, Stamp
from grandlattice.runs.fingerprints import Fingerprints
from grandlattice.runs.ledger import Ledger
from grandlattice.runs.store import FolderStore

Known = dict[str, tuple[int, str, str]]
"""By address of a cell: its version, the fingerprint of its content, the day of both."""


class Versions:
    """Answers the version of a cell; new ones are kept in mind until `remember`.

    Parameters
    ----------
    recall : finds versions in pictures, where the ledger knows none; see `versions_in`.
    """

    def __init__(self, ledger: Ledger, fingerprints: Fingerprints, recall: Callable[[], Known]) -> None:
        self._ledger, self._fingerprints, self._recall = ledger, fingerprints, recall
        self._new: Known = {}

    @cached_property
    def _known(self) -> Known:
        known = self._ledger.versions()
        if not known:
            self._new = dict(known := self._recall())
        return known

    def stamp(self, cell: Cell) -> Stamp:
        """The version and date of a cell as it is planned now."""
        content = self._fingerprints.content(cell)
        known = self._new.get(cell.address) or self._known.get(cell.address)
        if known is None or known[1] != content:
            number = known[0] + 1 if known else 1
            known = self._new[cell.address] = number, content, datetime.date.today().isoformat()
        return Stamp(known[0], known[2], known[1])

    def remember(self) -> None:
        """Write the new versions down; a run does so before its first picture."""
        if self._new:
            self._ledger.record_versions(self._new)
            self._known.update(self._new)
            self._new = {}


def versions_in(store: FolderStore, names: Iterable[str], plan: str) -> Known:
    """The last version of each cell of a plan, as its pictures say.

    Parameters
    ----------
    names : files of the store that may be such pictures.
    """
    found: Known = {}
    for name in names:
        path = store.path(name)
        said = (read_mark(path, "version") or "").split(" ")
        if len(said) != 3 or not said[0].isdigit() or read_mark(path, "plan") != plan:
            continue
        cell, (number, date, content) = read_mark(path, "cell") or "", said
        if cell not in found or found[cell][0] < int(number):
            found[cell] = int(number), content, date
    return found
