"""What a process makes once and shares among its threads."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from threading import RLock
from typing import TypeVar

Made = TypeVar("Made")


def once(make: Callable[[], Made]) -> Callable[[], Made]:
    """A function that is called once, however many threads ask at the same time; all get what it made.

    `functools.cache` calls it for each thread that asks before the first has its answer: two handles of a
    library are made, and what belongs to one meets what belongs to the other.  What fails is tried again.

    Examples
    --------
    >>> @once
    ... def handle() -> list[int]:
    ...     return []
    >>> handle() is handle()
    True
    """
    lock, made = RLock(), list[Made]()

    @wraps(make)
    def get() -> Made:
        if not made:
            with lock:
                if not made:
                    made.append(make())
        return made[0]

    return get
