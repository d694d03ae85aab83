"""Pictures that their time limit ended, as far as they came: kept beside the ledger until they are taken
further.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any
from zipfile import BadZipFile

import numpy as np

from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Task
from grandlattice.runs.temporary_files import unfinished_file
from grandlattice.tracer import Unfinished

_SO_FAR = ("taken", "ended", "number", "rays", "seconds")


class UnfinishedPictures:
    """The unfinished pictures that runs of a plan have kept.

    Parameters
    ----------
    store : where the plan's files land.
    plan : its name.
    """

    def __init__(self, store: FolderStore, plan: str) -> None:
        self._store, self._plan = store, plan

    def keep(self, task: Task, films: Sequence[int], unfinished: Unfinished) -> None:
        """Put films away as far as they came.

        Raises
        ------
        OutputError
            When they cannot be written.
        """
        told: dict[str, Any] = {f"sums {name}": sums for name, sums in unfinished.sums.items()}
        told |= {f"settled {name}": sums for name, sums in unfinished.settled.items()}
        told |= {f"so far {name}": getattr(unfinished, name) for name in _SO_FAR}
        told["films"] = np.array(films)

        def write(path: Path) -> None:
            with path.open("wb") as stream:
                np.savez(stream, **told)

        self._store.put(unfinished_file(self._plan, task.trace, films[0]), write, task.attempt)

    def begun(self, task: Task, film: int) -> tuple[list[int], Unfinished] | None:
        """Films that were put away, the first of them, and how far they came; they are traced from the start
        where that is gone or broken."""
        try:
            with np.load(self._store.path(unfinished_file(self._plan, task.trace, film))) as kept:
                sums, settled = (
                    {name.removeprefix(kind): kept[name] for name in kept.files if name.startswith(kind)}
                    for kind in ("sums ", "settled ")
                )
                taken, ended, number, rays, seconds = (kept[f"so far {name}"] for name in _SO_FAR)
                films = kept["films"].tolist()
        except (OSError, EOFError, ValueError, KeyError, BadZipFile):
            return None
        return films, Unfinished(sums, settled, taken, ended, int(number), int(rays), float(seconds))
