"""What is known of kept light shares without their pictures, and which lightings they answer.

Nothing here needs a kernel, so that a process that only plans can ask.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

SKY = "sky"


@dataclass(frozen=True)
class Lamp:
    """A light as it is told apart from others, whatever its strength and tint.

    Attributes
    ----------
    name : digest of all of it but its radiance.
    radiance : nits, three channels.
    hides : whether its shape hides what is behind it from the camera.
    is_sky : whether it is a dome.
    """

    name: str
    radiance: tuple[float, float, float]
    hides: bool
    is_sky: bool


def sight_name(lamps: Iterable[Lamp]) -> str:
    """What some lamps hide from the camera, and whether there is a sky."""
    held = {lamp.name for lamp in lamps if lamp.hides} | {SKY for lamp in lamps if lamp.is_sky}
    return " ".join(sorted(held))


@dataclass(frozen=True)
class ShareIndex:
    """What is known of kept light shares without reading them.

    Attributes
    ----------
    lamps : name → the radiance it was traced with.
    sights : those in which shares were kept, and the lamps each has shares of.
    unseen : names of lamps that hide nothing in this picture.
    passes : that can be made of them.
    traced : when, seconds since 1970.
    """

    lamps: Mapping[str, tuple[float, float, float]]
    sights: Mapping[str, frozenset[str]]
    unseen: frozenset[str]
    passes: frozenset[str]
    traced: float

    def answers(self, lamps: Sequence[Lamp], passes: Iterable[str]) -> bool:
        """Whether a lighting can be mixed from the shares."""
        sight = sight_name(lamps)
        known = all(
            lamp.name in self.lamps and self._reaches(lamp) and self.sight_like(sight, lamp.name) is not None
            for lamp in lamps
        )
        return known and self.passes.issuperset(passes) and self.sight_like(sight) is not None

    def _reaches(self, lamp: Lamp) -> bool:
        """Whether a lamp shone in every channel that it has now."""
        channels = zip(self.lamps[lamp.name], lamp.radiance, strict=True)
        return not any(now > 0.0 >= before for before, now in channels)

    def sight_like(self, sight: str, lamp: str | None = None) -> str | None:
        """A sight, of those a lamp has shares in, that looks the same as another; None without one."""
        wanted = set(sight.split())
        return next(
            (
                each for each, lamps in self.sights.items()
                if wanted ^ set(each.split()) <= self.unseen and (lamp is None or lamp in lamps)
            ),
            None,
        )  # fmt: skip
