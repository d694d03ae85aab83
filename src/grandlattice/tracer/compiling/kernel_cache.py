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
from functools import cache
from importlib.metadata import version
from pathlib import Path

from grandlattice._support.user_cache import cache_folder
from grandlattice.tracer.compiling.native import processor


def kernel_folder() -> Path:
    """Where the kernels of this version of the tracer are kept."""
    return cache_folder() / f"kernel-{_version_digest()}"


@cache
def _version_digest() -> str:
    digest = hashlib.blake2b(digest_size=8)
    for file in sorted(Path(__file__).parent.parent.rglob("*.py")):
        digest.update(file.read_bytes())
    digest.update(f"{version('numba')} {version('llvmlite')} {sys.version} {processor()}".encode())
    return digest.hexdigest()


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


_DIGEST, _LENGTH = 16, 8  # bytes of the digest of all, and of the length of each


def _kernel_file() -> Path:
    return kernel_folder() / "kernels"
