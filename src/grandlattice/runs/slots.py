"""What slots of a cluster do, for those who look on."""

from __future__ import annotations

from typing import NamedTuple


class Slot(NamedTuple):
    """What a slot of a cluster is and does.

    Attributes
    ----------
    number : counts from 0, as slots come.
    host : its machine.
    state : ``ready``, ``coming``, ``resting`` or ``refused``.
    cell, frame : what it renders now; empty where it is idle.
    share : of that, 0..1.
    seconds : since that began.
    memory : bytes that its process holds; 0 where that is not known.
    words : why it is refused, or what it failed with last.
    pools : names of the pools of machines it is of, with commas.
    """

    number: int
    host: str
    state: str
    cell: str = ""
    frame: int = 0
    share: float = 0.0
    seconds: float = 0.0
    memory: int = 0
    words: str = ""
    pools: str = ""
