"""What a machine needs to take part in a cluster, and what it keeps for it."""

from __future__ import annotations

from pathlib import Path


def make_certificates(folder: str | Path | None = None) -> list[Path]:
    """Write an authority and a certificate, by which the machines of a cluster know each other.

    Parameters
    ----------
    folder : where; where this machine looks for its own by default.

    Raises
    ------
    OutputError
        When some are there already.
    PlanError
        When what makes them is not installed.

    Examples
    --------
    >>> make_certificates("studio")                                     # doctest: +SKIP
    """
    from grandlattice.remote import certificates, connecting

    return certificates.make_certificates(connecting.credentials_folder() if folder is None else Path(folder))


def clean_cluster_cache() -> int:
    """Remove scenes that this machine keeps from rendering for others; returns how many bytes they were."""
    from grandlattice.remote import host_cache

    return host_cache.clean()
