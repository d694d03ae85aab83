"""Where the compiled tracer is kept.

Compiling takes some seconds, once for each machine and version.  The result is kept in the user's
cache folder under a name made from the source of `tracer`, so that no change to any of its files
can meet a stale kernel.  `GRANDLATTICE_CACHE` names another folder.
"""

from __future__ import annotations

import hashlib
import os
import sys
from importlib.metadata import version
from pathlib import Path


def cache_folder() -> Path:
    """Where compiled kernels are kept."""
    named = os.environ.get("GRANDLATTICE_CACHE")
    if named:
        return Path(named)
    if sys.platform == "win32":
        base = Path(os.environ.get("LOCALAPPDATA", Path.home()))
    elif sys.platform == "darwin":
        base = Path.home() / "Library" / "Caches"
    else:
        base = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    return base / "grandlattice"


def kernel_folder() -> Path:
    """Where the kernel of this version of the tracer is kept."""
    digest = hashlib.blake2b(digest_size=8)
    for file in sorted((Path(__file__).parent / "tracer").glob("*.py")):
        digest.update(file.read_bytes())
    # Numba keeps a kernel apart for each place its source stands in.
    digest.update(f"{Path(__file__).parent} {version('numba')} {sys.version}".encode())
    return cache_folder() / f"kernel-{digest.hexdigest()}"


def is_compiled() -> bool:
    """Whether a kernel for this machine and version is already in the cache."""
    return any(kernel_folder().glob("**/*.nbc"))
