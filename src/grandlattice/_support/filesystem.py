"""Questions about files and folders whose names were typed by hand, and about the disks they are on.

A name may be too long, hold a zero byte, or be that of a pipe or a device; none of that is an error here.
"""

from __future__ import annotations

import stat
from collections.abc import Iterable
from pathlib import Path, PurePosixPath

_NETWORK = ("nfs", "cifs", "smb", "9p", "afs", "ceph", "lustre", "gfs", "gpfs", "beegfs", "gluster", "sshfs")


def is_file(path: str | Path) -> bool:
    """Whether a name is that of a file with contents: not of a folder, a pipe or a device.

    Examples
    --------
    >>> is_file("x" * 5000), is_file("a zero\\0byte"), is_file("/dev/zero")
    (False, False, False)
    """
    try:
        return stat.S_ISREG(Path(path).stat().st_mode)
    except (OSError, ValueError):
        return False


def is_there(path: str | Path) -> bool:
    """Whether anything at all stands there.

    Examples
    --------
    >>> is_there("/dev/null"), is_there("x" * 5000)
    (True, False)
    """
    try:
        Path(path).stat()
    except (OSError, ValueError):
        return False
    return True


def is_link(path: Path) -> bool:
    """Whether a link stands there, wherever it leads."""
    try:
        return path.is_symlink()
    except (OSError, ValueError):
        return False


def lineage(folder: str) -> list[str]:
    """A relative folder and those above it, the topmost first.

    Examples
    --------
    >>> lineage("a/b")
    ['a', 'a/b']
    """
    parts = PurePosixPath(folder).parts
    return ["/".join(parts[: k + 1]) for k in range(len(parts))]


def links_among(folder: Path, below: Iterable[str]) -> list[Path]:
    """Those of a folder and of some relative folders below it, and of the folders between, that are links."""
    between = dict.fromkeys(path for top in below for path in lineage(top))
    return [each for each in (folder, *(folder / path for path in between)) if is_link(each)]


def is_on_network(folder: Path) -> bool:
    """Whether other machines may have the same folder; False where the system does not tell.

    Examples
    --------
    >>> is_on_network(Path("/"))
    False
    """
    import psutil  # takes 20 ms, and most callers of this module do not need it

    full, kind, longest = folder.resolve(), "", -1
    try:
        mounted = psutil.disk_partitions(all=True)
    except (OSError, RuntimeError):
        return False
    for each in mounted:
        if full.is_relative_to(each.mountpoint) and len(each.mountpoint) >= longest:
            kind, longest = each.fstype.lower(), len(each.mountpoint)
    return any(name in kind for name in _NETWORK)
