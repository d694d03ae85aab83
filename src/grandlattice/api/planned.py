"""A plan on a machine: what every part that checks it or carries it out needs to know of it."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.filesystem import is_file
from grandlattice.checks.landing import Landing
from grandlattice.plan import (
    Cell,
    CellMaker,
    FileNames,
    Filing,
    Lattice,
    PlanModel,
    SceneFacts,
    Stamp,
)  # fmt: skip
from grandlattice.plan.run_block import RunBlock
from grandlattice.plan.schema import texts_of
from grandlattice.runs import (
    CellSnapshots,
    Compositions,
    Fingerprints,
    FolderStore,
    Ingredients,
    Ledger,
    Versions,
)
from grandlattice.runs.remaining import names_in_reach
from grandlattice.runs.tasks import Frames
from grandlattice.runs.versions import versions_in
from grandlattice.stage import Scene, files_read, scene_digest, scene_files
from grandlattice.tracer import can_denoise

Indices = NDArray[np.int64]


@dataclass(frozen=True)
class Planned:
    """What a plan is by the time a machine comes in.

    `output` is the folder its pictures land in.
    """

    name: str
    folder: Path
    output: Path
    scene: Scene
    model: PlanModel
    lattice: Lattice
    make: CellMaker
    facts: SceneFacts

    @cached_property
    def fingerprints(self) -> Fingerprints:
        assert self._found is not None  # looked at before the files are read
        cells = range(len(self.lattice))
        return Fingerprints(
            self.model, scene_digest(self.scene), self.folder, can_denoise(), self.compositions,
            len(cells), lambda: self.make.plain.told(cells),
        )  # fmt: skip

    def _states(self) -> list[tuple[Path, int, int]]:
        """Size and time of change of every file of the scene."""
        return [
            (path, found.st_size, found.st_mtime_ns)
            for path in scene_files(self.scene) for found in (path.stat(),)
        ]  # fmt: skip

    def keep_compositions(self) -> None:
        """Write down what was found of cells, unless the scene changed meanwhile."""
        if self._states() == self._found:
            self.compositions.keep()

    @cached_property
    def _found(self) -> list[tuple[Path, int, int]]:
        return self._states()

    @cached_property
    def compositions(self) -> Compositions:
        """What the composed scene says of cells, with what earlier runs found out."""
        return Compositions(lambda: CellSnapshots(self.scene, self.model, self.folder))

    @cached_property
    def ledger(self) -> Ledger:
        name = f"{self.name}.ledger.sqlite"
        return Ledger(self.output / name, self.folder / name)

    @cached_property
    def fixed(self) -> tuple[str, ...]:
        """Folders below the output with which its templates begin; they may be links."""
        return tuple(top for top, _ in self.filing().reach() if top)

    @cached_property
    def store(self) -> FolderStore:
        """Where its files land."""
        return FolderStore(self.output, self.fixed)

    @cached_property
    def sources(self) -> frozenset[Path]:
        """Every file that the scene or the plan reads, as named and as links lead."""
        named = [self.folder / text for text in self.texts_read()]
        return frozenset(files_read(self.scene, [path for path in named if is_file(path)]))

    def texts_read(self) -> list[str]:
        """Every text of the plan and of its cells' edits; those that are files are read."""
        texts = self.model.texts()
        for said in [*self.lattice.everything_said(), self.make.caller]:
            texts += [text for placed in said.edits for text in texts_of(placed.edit)]
        return list(dict.fromkeys(texts))

    @cached_property
    def versions(self) -> Versions:
        def recall() -> dict[str, tuple[int, str, str]]:
            store = self.store
            return versions_in(store, names_in_reach(store, self.filing()), self.name)

        return Versions(self.ledger, self.fingerprints, recall)

    @cached_property
    def names(self) -> FileNames:
        """What templates may say besides the cell; versions are asked for only where they say so."""
        scene = self.scene.file.stem
        return FileNames(self.name, scene, self.model.words, self.stamp)

    def stamp(self, cell: Cell) -> Stamp:
        """The version of a cell, with the exposure a meter gives it."""
        return self.versions.stamp(self.make(cell.index) if cell.settings.metered else cell)

    @cached_property
    def ingredients(self) -> Ingredients:
        return Ingredients(self.model, self.lattice, self.make, self.fingerprints, self.names)

    def run_as(self, block: RunBlock) -> Planned:
        """The same with what a call says of ``run:``, as far as that decides which tasks there are."""
        if block.films == self.model.run.films:
            return self
        return replace(self, model=self.model.model_copy(update={"run": block}))

    def key(self, indices: Indices, frames: Frames) -> str:
        """Digest of everything that decides which tasks there are and what they make."""
        told: list[object] = [
            self.name,
            self.scene.file.stem,
            self.fingerprints.of_plan(self.make.caller),
        ]
        told += [frames if frames is None or isinstance(frames, str) else sorted(frames)]
        told += [self.model.run.films]
        whole = hashlib.blake2b(json.dumps(told, default=str).encode(), digest_size=16)
        whole.update(np.ascontiguousarray(indices, np.int64).tobytes())
        return whole.hexdigest()

    def landing(self, indices: Indices) -> Landing:
        """Where the pictures of cells would land."""
        return Landing(
            self.output,
            self.fixed,
            self.sources,
            self.filing(indices),
            self.make.plain,
            self.names,
            self.store,
        )

    def filing(self, indices: Indices | None = None) -> Filing:
        """The files of cells at once; of all by default."""
        return Filing(self.lattice, self.make.plain, self.facts, self.names, indices)
