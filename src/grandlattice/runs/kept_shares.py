"""Light shares beside the ledger: what was traced of each lamp, for other strengths of it.

A file holds the shares of one view as one trace made them.  What is in it that has to be known beforehand
stands in an index that is read without the pictures.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zipfile import BadZipFile

import numpy as np

from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Task
from grandlattice.runs.temporary_files import shares_file, shares_folder
from grandlattice.tracer import Lamp, ShareIndex

if TYPE_CHECKING:
    from grandlattice.tracer import LightShares

_BROKEN = (OSError, EOFError, ValueError, KeyError, TypeError, AttributeError, BadZipFile)


class KeptShares:
    """The light shares that runs of a plan have kept.

    Parameters
    ----------
    store : where the plan's files land.
    plan : its name.
    """

    def __init__(self, store: FolderStore, plan: str) -> None:
        self.store, self._plan = store, plan
        self._indexes: dict[Path, tuple[tuple[int, int], ShareIndex | None]] = {}
        self._broken: list[str] = []
        self._told = 0

    def newly_broken(self) -> list[str]:
        """Files that could not be read, each once."""
        names, self._told = self._broken[self._told :], len(self._broken)
        return names

    def of_view(self, view: str) -> list[tuple[Path, ShareIndex]]:
        """What was kept of a view, the latest first."""
        folder = shares_folder(self._plan)
        names = [name for name in self.store.listing(folder) if name.startswith(view)]
        found = [(path, self._index(path)) for path in (self.store.path(f"{folder}/{n}") for n in names)]
        known = [(path, index) for path, index in found if index is not None]
        return sorted(known, key=lambda each: -each[1].traced)

    def _index(self, path: Path) -> ShareIndex | None:
        """What is known of kept shares; None where they are broken."""
        state = (0, 0)
        try:
            state = path.stat().st_size, path.stat().st_mtime_ns
            if self._indexes.get(path, (None,))[0] == state:
                return self._indexes[path][1]
            with np.load(path) as kept:
                index = _index_of(json.loads(str(kept["index"])))
        except _BROKEN:
            self._broken.append(path.name)
            self._indexes[path] = state, None
            return None
        self._indexes[path] = state, index
        return index

    def read(self, path: Path) -> LightShares | None:
        """Kept shares; None where they are broken."""
        index = self._index(path)
        if index is None:
            return None
        from grandlattice.tracer import LightShares  # it brings the tracer along

        try:
            with np.load(path) as kept:
                scales = {str(k): float(v) for k, v in json.loads(str(kept["scales"])).items()}
                planes = {name: kept[f"plane {k}"] for k, name in enumerate(scales)}
                data = {name[5:]: kept[name] for name in kept.files if name.startswith("data ")}
                counts = kept["counts"]
                if any(plane.shape != (*counts.shape, 3) for plane in planes.values()):
                    raise ValueError("planes of another size")
        except _BROKEN:
            self._broken.append(path.name)
            return None
        return LightShares(index, planes, scales, data, counts)

    def keep(self, task: Task, film: int, shares: LightShares) -> None:
        """Write shares down under a temporary name first.

        Parameters
        ----------
        film : the first of those that were traced.

        Raises
        ------
        OutputError
            When they cannot be written.
        """
        scales = dict(shares.scales)
        arrays: dict[str, Any] = {f"plane {k}": shares.planes[name] for k, name in enumerate(scales)}
        arrays |= {f"data {name}": buffer for name, buffer in shares.data.items()}
        arrays |= {"counts": shares.counts, "scales": np.array(json.dumps(scales))}
        arrays["index"] = np.array(json.dumps(_told(shares.index)))

        def write(path: Path) -> None:
            with path.open("wb") as stream:
                np.savez(stream, **arrays)

        self.store.put(shares_file(self._plan, task.shares, task.trace, film), write, task.attempt)


def answering(
    known: Sequence[tuple[Path, ShareIndex]], lamps: Sequence[Lamp], passes: Sequence[str]
) -> tuple[Path, ShareIndex] | None:
    """Of what was kept of a view what a lighting can be mixed from; None where it has to be traced."""
    return next((each for each in known if each[1].answers(lamps, passes)), None)


def _told(index: ShareIndex) -> dict[str, Any]:
    return {
        "lamps": {name: list(map(float, value)) for name, value in index.lamps.items()},
        "sights": {sight: sorted(lamps) for sight, lamps in index.sights.items()},
        "unseen": sorted(index.unseen), "passes": sorted(index.passes),
        "traced": index.traced,
    }  # fmt: skip


def _index_of(told: Mapping[str, Any]) -> ShareIndex:
    lamps = {str(name): (float(r), float(g), float(b)) for name, (r, g, b) in told["lamps"].items()}
    return ShareIndex(
        lamps, {str(sight): frozenset(map(str, held)) for sight, held in told["sights"].items()},
        frozenset(map(str, told["unseen"])),
        frozenset(map(str, told["passes"])), float(told["traced"]),
    )  # fmt: skip
