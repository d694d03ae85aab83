"""What the composed scene says of a cell at a frame: digests of its view and of its lights.

A cell is composed once.  What was found is kept under a digest of everything the plan and the scene's
files say of the cell, so that the same question is answered without the scene, also by a later run.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import cached_property
from typing import NamedTuple

from grandlattice._support.user_cache import remember, remembered
from grandlattice.errors import LatticeError
from grandlattice.plan import CellSettings, PlacedEdit
from grandlattice.runs.cell_snapshots import CellSnapshots
from grandlattice.scene_records import Light
from grandlattice.stage import SnapshotDigests
from grandlattice.tracer import Lamp


class Halves(NamedTuple):
    """The two halves of what is traced for a cell at a frame.

    Attributes
    ----------
    view, lights : digests, 16 bytes each; see `stage.scene_digests`.
    later : digest of where everything is at the next frame, empty where no pass asks.
    stops : the exposure of the camera itself.
    is_shared : whether lightings of this view can be traced together.
    lamps : its lights, where their shares are kept.
    """

    view: bytes
    lights: bytes
    later: bytes
    stops: float
    is_shared: bool
    lamps: tuple[Lamp, ...] = ()


_TABLE = "compositions"

Asked = tuple[bytes, int | None]
"""What a cell is told, as a digest, and the frame; None where it is the same at all frames."""


class Compositions:
    """Composes cells, each once; what was found is kept in the user's cache folder.

    Parameters
    ----------
    open_scene : gives what takes snapshots; called when the first cell has to be composed.
    """

    def __init__(self, open_scene: Callable[[], CellSnapshots]) -> None:
        self._open, self._new = open_scene, dict[str, list[object]]()
        self._snapshots: CellSnapshots | None = None
        self._digests = SnapshotDigests()
        self._known: dict[Asked, Halves | None] = {}
        self.problems: dict[bytes, LatticeError] = {}
        """What keeps cells from being composed, by what is told of them."""

    @cached_property
    def _kept(self) -> dict[str, list]:
        return remembered(_TABLE)

    def keep(self) -> None:
        """Write down what was found since."""
        if self._new:
            remember(_TABLE, self._new)
            self._new = {}

    def knows(self, told: bytes, frame: int) -> bool:
        """Whether a cell was composed at a frame, or need not be."""
        return any((told, at) in self._known or f"{told.hex()} {at}" in self._kept for at in (frame, None))

    def of(
        self, told: bytes, settings: CellSettings, edits: Sequence[PlacedEdit], frame: int
    ) -> Halves | None:  # fmt: skip
        """The halves of a cell at a frame; None where the cell cannot be composed, which its task will say.

        Parameters
        ----------
        told : digest of all that the plan and the scene's files say of the cell but the frame.
        """
        for at in (frame, None):
            if (told, at) in self._known:
                return self._known[told, at]
            kept = self._kept.get(f"{told.hex()} {at}")
            if kept is not None and (found := _read(kept)) is not None:
                self._known[told, at] = found
                return found
        found, is_still = self._composed(told, settings, edits, frame)
        asked = told, None if is_still else frame
        self._known[asked] = found
        if found is not None:
            digests = [found.view.hex(), found.lights.hex(), found.later.hex()]
            lamps = [[lamp.name, list(lamp.radiance), lamp.hides, lamp.is_sky] for lamp in found.lamps]
            self._new[f"{told.hex()} {asked[1]}"] = [*digests, found.stops, found.is_shared, lamps]
        return found

    def _composed(
        self, told: bytes, settings: CellSettings, edits: Sequence[PlacedEdit], frame: int
    ) -> tuple[Halves | None, bool]:  # fmt: skip
        """The halves, and whether they are the same at every frame."""
        try:
            if self._snapshots is None:
                self._snapshots = self._open()
            snapshot = self._snapshots.take(settings, edits, frame)
        except LatticeError as problem:
            self.problems.setdefault(told, problem)
            return None, False
        halves = Halves(
            self._digests.view(snapshot), self._digests.lights(snapshot), self._digests.later(snapshot),
            snapshot.camera.stops,
            not snapshot.catches_shadow,
            lamps_of(self._digests, snapshot.lights) if settings.keep_light_shares else (),
        )  # fmt: skip
        return halves, self._snapshots.is_still(snapshot.camera.path)


def _read(kept: object) -> Halves | None:
    """What was kept; None where it is not what was written."""
    match kept:
        case [str(view), str(lights), str(later), float(stops), bool(is_shared), list(lamps)]:
            with suppress(ValueError, TypeError):
                digests = bytes.fromhex(view), bytes.fromhex(lights), bytes.fromhex(later)
                found = tuple(Lamp(name, (r, g, b), hides, sky) for name, (r, g, b), hides, sky in lamps)
                return Halves(*digests, stops, is_shared, found)
    return None


def lamps_of(digests: SnapshotDigests, lights: Sequence[Light]) -> tuple[Lamp, ...]:
    """Lights as they are told apart in kept light shares, in their order."""
    return tuple(
        Lamp(digests.lamp(light).hex(), light.radiance, light.hides, light.kind == "dome") for light in lights
    )
