"""What was found out on this machine and may be needed again, in the user's cache folder.

Small tables stand in it as JSON; nothing depends on them: what is lost is found out anew.
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from platformdirs import user_cache_path

_MOST_KNOWN = 100_000


def cache_folder() -> Path:
    """The folder; ``GRANDLATTICE_CACHE`` names another one."""
    named = os.environ.get("GRANDLATTICE_CACHE")
    return Path(named) if named else user_cache_path("grandlattice", appauthor=False)


def remembered(table: str) -> dict[str, Any]:
    """A table as it was kept; empty where it is not there, or is none."""
    try:
        known = json.loads((cache_folder() / f"{table}.json").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return known if isinstance(known, dict) else {}


def remember(table: str, new: Mapping[str, Any]) -> None:
    """Add to a table; one that has grown too large is begun anew."""
    known = remembered(table)
    known = {**(known if len(known) < _MOST_KNOWN else {}), **new}
    file = cache_folder() / f"{table}.json"
    with suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        part = file.with_name(f".{file.name}.{os.getpid()}.part")
        part.write_text(json.dumps(known), encoding="utf-8")
        os.replace(part, file)
