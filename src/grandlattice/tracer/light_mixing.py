"""Films mixed from light sums: what a trace of many lightings adds up, and how each film comes of it.

A path's results hold, one field of three numbers behind the other, the parts of the beauty that are
counted once (`light_passes.SharePlan`), the parts of each light sum, the light sums themselves, and alpha in
every sight but the first.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.company import Company, shape_of
from grandlattice.tracer.light_passes import CLOSED, LIGHT_GROUP, LIT, LUX, SharePlan
from grandlattice.tracer.turned_sky import TurnedSkies


@dataclass(frozen=True, eq=False)
class Mixing:
    """Which fields there are, and the films of a company made from them.

    Attributes
    ----------
    pairs : (parts, light sums) int32, the field of a part of a light sum; −1 where there is none.
    sums_from : the first light sum.
    thresholds : (rows of the light table,) float32, what a light adds to a pixel from which on its shadow
        ray is always traced; None where all are.
    """

    company: Company
    shares: SharePlan
    pairs: NDArray[np.int32]
    sums_from: int
    thresholds: NDArray[np.float32] | None = None

    @property
    def planes(self) -> int:
        """How many pictures of sums there are: of light, and of alpha."""
        return self.company.sums.count + int(self.company.sights.max())

    @property
    def several(self) -> NDArray[np.int64]:
        """Numbers of the light sums of lamps that stand in several ways."""
        sums, versions = self.company.sums, self.company.versions
        counts = np.bincount([version.lamp for version in versions], minlength=1)
        several = {row for row, version in enumerate(versions) if counts[version.lamp] > 1}
        return np.array([n for n, (row, _) in enumerate(sums.origins) if row in several], np.int64)

    def options(self, skies: TurnedSkies | None) -> dict[str, object]:
        """Fields of the kernel's options.

        Parameters
        ----------
        skies : those that have sums of their own.  A path has no light sums for what only they shine
            into, where they have no sun.
        """
        sums, company = self.company.sums, self.company
        versions = np.bincount([version.lamp for version in company.versions], minlength=1)
        count, sights = sums.count, int(company.sights.max()) + 1
        if skies is not None and sights == 1 and skies.are_all_of(company) and not skies.have_suns:
            count = max(sums.skies_from, 1)
        return {
            "sum_count": count, "first": sums.first, "sums": sums.sums, "bits": sums.bits,
            "weights": sums.weights, "pairs": self.pairs, "sums_from": self.sums_from,
            "alphas": self.sums_from + count, "sights": sights, "most_versions": int(versions.max()),
            "own_row": company.lamp_count,
            "thresholds": 0 if self.thresholds is None else self.thresholds,
        }  # fmt: skip

    def thresholds_for(self, company: Company, light: NDArray[np.float64]) -> NDArray[np.float32]:
        """The thresholds of a company whose pilot this is.

        Parameters
        ----------
        light : (light sums of the pilot,) what is faint of each.
        """
        pilot, sums = self.company, self.company.sums
        row_of = {shape_of(version.light): k for k, version in enumerate(pilot.versions)}
        counts = np.bincount([version.lamp for version in company.versions])
        found = np.zeros(len(company.versions) + 1)
        for k, version in enumerate(company.versions):
            if counts[version.lamp] > 1:
                row = row_of[shape_of(replace(version.light, seen=False, matte=False))]
                row += row >= pilot.lamp_count
                found[k + (k >= company.lamp_count)] = light[sums.sums[sums.first[row]]]
        return found.astype(np.float32)

    def beauty(
        self, film: int, light: NDArray[np.float32], alpha: NDArray[np.float32]
    ) -> NDArray[np.float32]:  # fmt: skip
        """(H, W, 4) sums of a film's light and alpha.

        Parameters
        ----------
        light : (planes, H, W, 3), sums of light, and of alpha in every sight but the first.
        alpha : (H, W, 1), in the first sight.
        """
        sight = int(self.company.sights[film])
        if sight:
            alpha = light[self.company.sums.count + sight - 1][..., :1]
        made = np.empty((*alpha.shape[:2], 4), np.float32)
        self.company.sums.mix_into(made[..., :3], film, light)
        made[..., 3:] = alpha
        return made

    def parts(self, film: int, shares: NDArray[np.float32]) -> NDArray[np.float32]:
        """(parts, H, W, 3) sums of the parts of a film's beauty, from those of all light sums."""
        table = self.shares.table
        made = np.zeros((len(table), *shares.shape[1:]), np.float32)
        for part, (kind, _) in enumerate(table):
            if kind in (CLOSED, LIT):
                made[part] = shares[part]
                continue
            for number, weight in self.company.sums.mix[film]:
                field = int(self.pairs[part, number])
                if field >= 0:
                    made[part] += shares[field] * np.array(weight, np.float32)
            if kind == LUX:
                made[part] = made[part].sum(axis=-1, keepdims=True)
        return made


def mixing_of(company: Company, shares: SharePlan) -> Mixing:
    """Lay out the fields for the wanted films of a company."""
    sums, parts = company.sums, len(shares.table)
    # The bits of the light passes that each light sum has light of.
    bits = np.zeros(max(sums.count, 1), np.int32)
    groups = [*shares.groups[: company.lamp_count], int(np.bitwise_or.reduce(shares.glowing, initial=0))]
    groups += [*shares.groups[company.lamp_count :]]
    for row, of_row in enumerate(groups):
        bits[sums.sums[sums.first[row] : sums.first[row + 1]]] |= of_row
    pairs = np.full((max(parts, 1), max(sums.count, 1)), -1, np.int32)
    field = parts
    for part, (kind, bit) in enumerate(shares.table.tolist()):
        for number in range(sums.count):
            if kind not in (CLOSED, LIT) and (kind != LIGHT_GROUP or bits[number] & bit):
                pairs[part, number], field = field, field + 1
    return Mixing(company, shares, pairs, field)
