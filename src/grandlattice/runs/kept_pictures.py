"""Pictures that others took the place of: where they are kept, and how long.

A run that keeps what it replaces moves it below ``PLAN-kept/DATE-TIME/``, under the path it had.
"""

from __future__ import annotations

import os
import re
import time
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from grandlattice.errors import LatticeError
from grandlattice.images import read_mark
from grandlattice.runs.store import FolderStore

_STAMP = "%Y-%m-%d-%H%M%S"


class KeptPicture(NamedTuple):
    """A picture that another took the place of.

    Attributes
    ----------
    path : where it is kept, relative to the store.
    stamp : when it was replaced, ``2026-11-28-093000``.
    """

    path: str
    stamp: str


def kept_top(plan: str) -> str:
    """The folder below which replaced pictures of a plan are kept."""
    return f"{plan}-kept"


def new_folder(store: FolderStore, plan: str) -> str:
    """A folder for what is replaced from now on, which is not there yet."""
    now = time.time()
    while True:
        folder = f"{kept_top(plan)}/{time.strftime(_STAMP, time.localtime(now))}"
        if not os.path.lexists(store.folder / folder):
            return folder
        now += 1.0


def earlier_of(store: FolderStore, plan: str, path: str) -> list[KeptPicture]:
    """Pictures that had this path before, the latest first."""
    top = kept_top(plan)
    try:
        stamps = [name for name in os.listdir(store.path(top)) if re.fullmatch(r"[\d-]{17}", name)]
    except (OSError, LatticeError):
        return []
    found = []
    for stamp in sorted(stamps, reverse=True):
        kept = f"{top}/{stamp}/{path}"
        with suppress(LatticeError):
            if store.size(kept) is not None and not store.is_link(kept):
                found.append(KeptPicture(kept, stamp))
    return found


def keep_latest(store: FolderStore, plan: str, path: str, most: int, owner: str) -> None:
    """Remove all but the latest earlier pictures of a path; one that no run of the plan made stays.

    Parameters
    ----------
    owner : id of the plan's ledger, which its pictures carry.
    """
    for kept in earlier_of(store, plan, path)[most:]:
        with suppress(LatticeError, OSError):
            if read_mark(store.path(kept.path), "owner") != owner:
                continue
            store.remove(kept.path)
            folder = store.path(kept.path).parent.parent
            while folder.name and folder != store.path(kept_top(plan)).parent:
                folder.rmdir()  # only where it is empty
                folder = folder.parent


def exchange(store: FolderStore, path: str, kept: KeptPicture, aside_in: str) -> None:
    """Put an earlier picture in its old place, and keep the one that is there.

    Parameters
    ----------
    aside_in : the folder for the one that is there.

    Raises
    ------
    OSError
        When a file cannot be moved; each is then where it was, or kept.
    """
    full = store.path(path)
    if os.path.lexists(full):
        aside = store.path(f"{aside_in}/{path}")
        aside.parent.mkdir(parents=True, exist_ok=True)
        os.replace(full, aside)
    full.parent.mkdir(parents=True, exist_ok=True)
    os.replace(store.path(kept.path), full)
    with suppress(OSError):
        store.path(kept.path).parent.rmdir()


def day_of(stamp: str) -> float:
    """When a picture was replaced, seconds since 1970."""
    return time.mktime(time.strptime(stamp, _STAMP))


def file_of(store: FolderStore, kept: KeptPicture) -> Path:
    """The file of a kept picture."""
    return store.path(kept.path)
