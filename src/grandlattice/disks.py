"""What kind of disk a folder is on."""

from __future__ import annotations

from pathlib import Path

import psutil

_NETWORK = ("nfs", "cifs", "smb", "9p", "afs", "ceph", "lustre", "gfs", "gpfs", "beegfs", "gluster", "sshfs")


def is_on_network(folder: Path) -> bool:
    """Whether other machines may have the same folder; False where the system does not tell.

    Examples
    --------
    >>> is_on_network(Path("/"))
    False
    """
    full, kind, longest = folder.resolve(), "", -1
    try:
        mounted = psutil.disk_partitions(all=True)
    except (OSError, RuntimeError, NotImplementedError):
        return False
    for each in mounted:
        if full.is_relative_to(each.mountpoint) and len(each.mountpoint) >= longest:
            kind, longest = each.fstype.lower(), len(each.mountpoint)
    return any(name in kind for name in _NETWORK)
