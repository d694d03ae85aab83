"""From sums to films: what is traced is added up, and here the pictures are made of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Snapshot
from grandlattice.tracer.adaptive_sampling import Window
from grandlattice.tracer.company import Company, Lighting
from grandlattice.tracer.film import Film, developed, empty_sums
from grandlattice.tracer.film_sums import FilmSums, part_of_sums
from grandlattice.tracer.lens import Sensor, make_lens
from grandlattice.tracer.light_mixing import Mixing, mixing_of
from grandlattice.tracer.light_passes import OwnPass, SharePlan
from grandlattice.tracer.light_shares import LightShares, filled
from grandlattice.tracer.motion import motion
from grandlattice.tracer.share_index import Lamp
from grandlattice.tracer.trace_settings import TraceSettings, traced_window

GUIDES = ("albedo", "normal")
"""What guides a denoiser besides the light itself."""


class AddedUp(Protocol):
    """Sums of films, and what is known of their samples; see `adaptive_sampling.Rounds`."""

    films: FilmSums
    rays: int

    def counts(self, film: int) -> NDArray[np.int32]: ...

    def seconds(self) -> NDArray[np.float32]: ...

    def is_whole(self, film: int | None = None) -> bool: ...

    def noise_of(self, film: int, half: NDArray, other: NDArray) -> float | None: ...


@dataclass(frozen=True, eq=False)
class FilmMaker:
    """Makes films of what was added up.

    Attributes
    ----------
    rounds : the sums, and how many samples are in them.
    seconds : that tracing took.
    relit : see `Film.relit`.
    """

    rounds: AddedUp
    shares: SharePlan
    snapshot: Snapshot
    sensor: Sensor
    settings: TraceSettings
    passes: tuple[str, ...]
    seconds: float
    relit: float | None = None

    def films(self) -> Iterator[Film]:
        """One after the other, so that one stands in memory at a time."""
        # What was traced beyond the part that is wanted served for judging noise.
        x, y, right, bottom = self.sensor.window
        left, top, _, _ = traced_window(self.sensor, self.settings)
        part = slice(y - top, bottom - top), slice(x - left, right - left)
        lens, names = make_lens(self.sensor), {
            "object-id": [item.path for item in self.snapshot.items],
            "material-id": [material.path for material in self.snapshot.materials],
        }  # fmt: skip
        count = self.rounds.films.count
        for number in range(count):
            sums = self.rounds.films.of_film(number)
            noise = self.rounds.noise_of(number, sums["half"], sums["beauty"])
            sums = part_of_sums(sums | {"beauty": sums["beauty"] + sums["half"]}, part)
            counts = self.rounds.counts(number)[part]
            made = developed(sums, counts, names, self.snapshot.camera)
            if "motion" in self.passes:
                made["motion"] = motion(sums, lens, self.snapshot, self.sensor)
            made["seconds"] = self.rounds.seconds()[part][..., None] / np.float32(count)
            shares = sums.get("shares", np.zeros(0, np.float32))
            made |= {
                name: self.shares.developed(name, shares, counts[..., None]) for name in self.shares.places
            }
            yield Film(
                passes={name: made[name] for name in self.passes},
                samples=round(float(counts.mean())),
                rays=self.rounds.rays // count,
                seconds=self.seconds / count,
                noise=noise,
                unfinished=not self.rounds.is_whole(number),
                relit=self.relit,
                names={name: names[name] for name in self.passes if name in names},
                guides={name: made[name] for name in ("beauty", *GUIDES)} if self.settings.guides else {},
                sources=self.shares.sources,
            )


def sums_of(
    window: Window, settings: TraceSettings, passes: Sequence[str], shares: SharePlan, mixing: Mixing | None,
    sky_words: int, catches: bool,
) -> dict[str, NDArray]:  # fmt: skip
    """The buffers of a trace."""
    left, top, right, bottom = window
    guides = GUIDES if settings.guides else ()
    sums = empty_sums(
        right - left, bottom - top, (*passes, *guides),
        len(shares.table) if mixing is None else mixing.sums_from,
        0 if mixing is None else mixing.planes,
    )  # fmt: skip
    sums["half"] = np.zeros_like(sums["beauty"])
    for name in ("sky", "sky_half") if sky_words else ():
        sums[name] = np.zeros((bottom - top, right - left, sky_words), np.float32)
    if catches:
        sums["caught"] = np.zeros((bottom - top, right - left, 3), np.float32)
    return sums


def relit_film(
    shares: LightShares, lighting: Lighting, lamps: Sequence[Lamp], snapshot: Snapshot, sensor: Sensor,
    settings: TraceSettings, passes: Sequence[str] = ("beauty",), own: Mapping[str, OwnPass] | None = None,
) -> Film:  # fmt: skip
    """A film mixed from kept light shares of its view; nothing is traced.

    Parameters
    ----------
    shares : that answer the lamps, see `ShareIndex.answers`.
    lamps : of the lighting, in its order.
    snapshot : the view; its lights are not looked at.
    """
    company = Company([lighting], by_lamp=True)
    snapshot = replace(snapshot, lights=tuple(version.light for version in company.versions))
    plan = SharePlan(passes, snapshot.lights, snapshot.glowing, own or {}, 1.0)
    mixing = mixing_of(company, plan)
    sums = sums_of(traced_window(sensor, settings), settings, passes, plan, mixing, 0, catches=False)
    added = filled(sums, mixing, shares, [lamps])
    maker = FilmMaker(added, plan, snapshot, sensor, settings, tuple(passes), 0.0, shares.index.traced)
    return next(maker.films())
