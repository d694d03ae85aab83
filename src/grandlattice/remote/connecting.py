"""Ways to a cluster: addresses, and whom they may be told.

An open scheduler lets anyone who reaches it run anything on all its machines.  A plain line is taken to this
machine alone, unless the person at it says that the network is trusted; a plan cannot say so, for it travels.
"""

from __future__ import annotations

import ipaddress
import json
import logging
import warnings
from collections.abc import Mapping
from importlib.util import find_spec
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from platformdirs import user_config_path

from grandlattice._support.user_cache import remember, remembered
from grandlattice.errors import PlanError, RunError
from grandlattice.remote.certificates import AUTHORITY, CERTIFICATE, KEY
from grandlattice.runs import local_backends
from grandlattice.runs.backends import Backend, BackendRequest

_WITHIN = 10.0  # seconds a scheduler may take to answer
_TABLE = "cluster"
_FEW_LOOKS = {
    "distributed.worker.profile.enabled": False,
    "distributed.admin.tick.interval": "1s",
    "distributed.admin.system-monitor.interval": "5s",
    "distributed.admin.system-monitor.disk": False,
    "distributed.scheduler.work-stealing": False,
    "distributed.scheduler.active-memory-manager.start": False,
}
"""What the engine does besides, for tasks far shorter than ours; it takes a quarter of a processor."""


class _Scheduler:
    """The backend of an address: ``tcp://…``, ``tls://…``, ``file:scheduler.json``, or ``cluster``, which is
    the last one."""

    def refuse_unready(self, address: str, trusted: bool) -> None:
        """Make sure that an address can be used, as far as this machine knows.

        Raises
        ------
        PlanError
            When it cannot.
        """
        _refuse_without_engine()
        _, found = _found(address)
        _refuse_open_line(found, trusted)
        _security(found)

    def __call__(self, request: BackendRequest) -> Backend:
        """Connect to it.

        Raises
        ------
        PlanError
            When the address cannot be used.
        RunError
            When no scheduler answers there.
        """
        self.refuse_unready(request.address, request.trusted)
        told, _ = _found(request.address)

        def connected() -> Any:
            _, address = _found(told)  # a scheduler that was begun again may have another one in its file
            _refuse_open_line(address, request.trusted)
            return _client(address, **_security(address))

        from grandlattice.remote.cluster import Cluster

        made = Cluster(request.order, connected, request.asked, gentle=request.gentle)
        remember(_TABLE, {"address": told})
        return made


class _Local:
    """The backend of this machine; ``local:4`` is a cluster of four workers on it."""

    def refuse_unready(self, address: str, trusted: bool) -> None:
        """Make sure that an address can be used; see `_Scheduler`."""
        _, _, count = address.partition(":")
        if not count and ":" not in address:
            return
        if not count.isdecimal() or not 1 <= int(count) <= 1000:
            raise PlanError(f"{address} is no number of workers.", cure="such as local:4")
        _refuse_without_engine()

    def __call__(self, request: BackendRequest) -> Backend:
        """Begin its workers."""
        self.refuse_unready(request.address, request.trusted)
        _, _, count = request.address.partition(":")
        return _cluster_here(request, int(count)) if count else local_backends.local(request)


connect, local = _Scheduler(), _Local()


def _found(address: str) -> tuple[str, str]:
    """An address as it is remembered, and that of its scheduler."""
    if address == "cluster":
        address = str(remembered(_TABLE).get("address", ""))
        if not address:
            raise PlanError("No cluster was used on this machine yet.", cure="say --on tcp://… or its like")
    if address.startswith("file:"):
        return address, _address_in(Path(address.removeprefix("file:")))
    return address, address


def _cluster_here(request: BackendRequest, count: int) -> Backend:
    import dask.config
    from distributed import LocalCluster

    from grandlattice.remote.cluster import Cluster

    _be_quiet()
    with dask.config.set(_FEW_LOOKS):
        cluster = LocalCluster(
            n_workers=count, threads_per_worker=1, host="127.0.0.1", dashboard_address=None,
            silence_logs=logging.CRITICAL, memory_limit=0,
        )  # fmt: skip
    return Cluster(request.order, lambda: _client(cluster), None, gentle=request.gentle)


def _refuse_without_engine() -> None:
    if find_spec("distributed") is None:
        raise PlanError(
            "What talks to clusters is not installed.",
            cure='python -m pip install "distributed>=2026.8,<2027" on this and all other machines',
        )


def _be_quiet() -> None:
    """Have the engine print nothing: its words are for its own users."""
    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    warnings.filterwarnings("ignore", module="distributed")


def _client(address: Any, **security: Any) -> Any:
    from distributed import Client

    _be_quiet()
    try:
        return Client(address, timeout=_WITHIN, set_as_default=False, **security)
    except (OSError, TimeoutError, ValueError, RuntimeError) as problem:
        raise RunError(
            f"No scheduler answers at {address}: {_first_sentence(problem)}.",
            cure="look whether it runs, and whether address and certificates are right",
        ) from None


def _first_sentence(problem: Exception) -> str:
    lines = str(problem).strip().splitlines() or [type(problem).__name__]
    return lines[0].partition(". ")[0].rstrip(".")[:200]


def _address_in(file: Path) -> str:
    try:
        return str(json.loads(file.read_text(encoding="utf-8"))["address"])
    except (OSError, ValueError, KeyError, TypeError):
        raise PlanError(
            f"{file} is no file that a scheduler wrote.", cure="give the scheduler --scheduler-file"
        ) from None


def _refuse_open_line(address: str, trusted: bool) -> None:
    """Make sure that a line is encrypted, or leads to this machine, or is said to be trusted."""
    parts = urlsplit(address)
    if parts.scheme not in ("tcp", "tls"):
        raise PlanError(f"{address} is no address of a cluster.", cure="such as tls://host:8786")
    if parts.scheme == "tls" or trusted or _is_here(parts.hostname or ""):
        return
    raise PlanError(
        f"Anyone who reaches {address} can run anything on all its machines: the line is open.",
        cure="use tls://, see docs/cluster.md; or say --trust-network where no one else can reach it",
    )


def _is_here(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def credentials_folder() -> Path:
    """Where this machine keeps its certificate, and that of the authority it trusts."""
    return user_config_path("grandlattice", appauthor=False) / "cluster"


def _security(address: str) -> dict[str, Any]:
    if not address.startswith("tls:"):
        return {}
    from distributed import Security

    folder = credentials_folder()
    files = {name: folder / name for name in (AUTHORITY, CERTIFICATE, KEY)}
    for path in files.values():
        if not path.is_file():
            raise PlanError(
                f"{path} is missing: this machine has no certificate.",
                cure="glat cluster certificates makes them; see docs/cluster.md",
            )
    return {"security": Security(**tls_settings(files), require_encryption=True)}


def tls_settings(files: Mapping[str, Path]) -> dict[str, str]:
    """What the engine is told of certificates."""
    return {
        "tls_ca_file": str(files[AUTHORITY]),
        "tls_client_cert": str(files[CERTIFICATE]),
        "tls_client_key": str(files[KEY]),
    }
