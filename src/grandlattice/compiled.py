"""Where the compiled tracer is kept.

Compiling takes some seconds, once for each machine and version.  The result is kept in the user's
cache folder under a name made from the source of `tracer`, so that no change to any of its files
can meet a stale kernel.  `GRANDLATTICE_CACHE` names another folder.
"""

from __future__ import annotations

import hashlib
import os
import sys
from contextlib import suppress
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
    """Where the kernels of this version of the tracer are kept."""
    import llvmlite.binding as llvm  # who asks for this needs it soon

    digest = hashlib.blake2b(digest_size=8)
    for file in sorted((Path(__file__).parent / "tracer").rglob("*.py")):
        digest.update(file.read_bytes())
    features = llvm.get_host_cpu_features().flatten()
    told = f"{version('numba')} {version('llvmlite')} {sys.version} {llvm.get_host_cpu_name()} {features}"
    digest.update(told.encode())
    return cache_folder() / f"kernel-{digest.hexdigest()}"


def kept_kernels() -> list[bytes] | None:
    """Object files of the kernels for this kind of processor; None where there are none, or damaged ones.

    Whatever is wrong with machine code ends the process that runs it: its digest stands before it.
    """
    try:
        whole = _kernel_file().read_bytes()
    except OSError:
        return None
    digest, rest = whole[:_DIGEST], whole[_DIGEST:]
    if digest != hashlib.blake2b(rest, digest_size=_DIGEST).digest():
        return None
    objects = []
    while rest:
        end = _LENGTH + int.from_bytes(rest[:_LENGTH], "little")
        objects.append(rest[_LENGTH:end])
        rest = rest[end:]
    return objects


def keep_kernels(objects: list[bytes]) -> None:
    """Keep object files for processes to come; where the cache cannot be written that only costs time."""
    code = b"".join(len(each).to_bytes(_LENGTH, "little") + each for each in objects)
    file = _kernel_file()
    part = file.with_name(f".{file.name}.{os.getpid()}.part")
    with suppress(OSError):
        part.parent.mkdir(parents=True, exist_ok=True)
        part.write_bytes(hashlib.blake2b(code, digest_size=_DIGEST).digest() + code)
        os.replace(part, file)


def is_compiled() -> bool:
    """Whether kernels for this machine and version are already in the cache."""
    return kept_kernels() is not None


_DIGEST, _LENGTH = 16, 8  # bytes of the digest of all, and of the length of each


def _kernel_file() -> Path:
    return kernel_folder() / "kernels"
