"""Proofs that follow what is saved, on a page; what serves it is loaded when it is asked for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from grandlattice.api.call_options import At, listed
from grandlattice.api.run_control import refuse_without_server


def live(
    plan: str | Path, on_ready: Callable[[str], None], *, at: At = (), sets: Sequence[str] = (),
    width: int = 320, port: int = 0,
) -> None:  # fmt: skip
    """Serve proofs that follow a plan and its scene, until Ctrl-C: each save is proofed where it changed
    anything.

    Parameters
    ----------
    plan : its file.
    on_ready : is told the address to open.
    width : of proofs, pixels.

    Raises
    ------
    PlanError
        When what serves pages is not installed.
    LatticeError
        When the plan cannot be opened to begin with.

    Examples
    --------
    >>> live("orrery.lattice.yaml", print)              # doctest: +SKIP
    """
    refuse_without_server()
    from grandlattice.api.live_proofs import LiveProofs
    from grandlattice.page import serve

    serve(LiveProofs(Path(plan), listed(at), sets, width), "127.0.0.1", port, on_ready, every=0.25)
