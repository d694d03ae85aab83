"""Looking on a run and steering it: by the name of a plan's file alone, without its scene.

Everything here answers at once, however large the plan.
"""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Sequence
from importlib.util import find_spec
from pathlib import Path

from grandlattice.api.call_options import At, listed
from grandlattice.errors import OutputError, PlanError
from grandlattice.runs.ledger import Ledger
from grandlattice.runs.status import RunStatus, known_runs, read_status
from grandlattice.runs.steering import Steering
from grandlattice.runs.writer_lock import is_under_way

_ENDING = ".lattice.yaml"


def ledger_of(plan: str | Path, into: str | Path | None = None) -> Ledger:
    """The ledger of a plan file.

    Parameters
    ----------
    into : the output folder, where it is not the plan's own.

    Raises
    ------
    PlanError
        When there is no such plan.
    """
    file = Path(plan)
    if not file.name.endswith(_ENDING) or not file.is_file():
        raise PlanError(f"There is no plan {file}.", cure=f"name a file that ends in {_ENDING}")
    return _ledger(file.name.removesuffix(_ENDING), Path(into) if into is not None else file.parent)


def _ledger(name: str, folder: Path) -> Ledger:
    return Ledger(folder.resolve() / f"{name}.ledger.sqlite")


def status(
    plan: str | Path, *, at: At = (), into: str | Path | None = None,
    states: Sequence[str] = ("running", "failed"), most: int = 200, logs: bool = False,
) -> RunStatus:  # fmt: skip
    """How the run of a plan stands; see `grandlattice.runs.status.read_status`."""
    return read_status(ledger_of(plan, into), listed(at), states, most, logs)


def all_runs() -> list[RunStatus]:
    """How every run on this machine stands, the last first; those that cannot be read are left out."""
    found = []
    for ledger in known_runs():
        try:
            found.append(read_status(ledger, states=()))
        except Exception:  # a ledger that is broken or of another version is not this list's business
            continue
        finally:
            ledger.close()
    return found


def run_detached(arguments: Sequence[str], name: str, folder: Path) -> tuple[int, Path]:
    """Begin ``glat run`` as a process that outlives this one and its terminal.

    Parameters
    ----------
    arguments : of ``glat run``.
    name, folder : its output goes into a new file ``NAME.{date}-{time}.log`` there.

    Returns
    -------
    The number of the process, and the log.

    Raises
    ------
    OutputError
        When the log cannot be written.
    """
    folder.mkdir(parents=True, exist_ok=True)
    log = folder / f"{name}.{time.strftime('%Y-%m-%d-%H%M%S')}.log"
    try:
        with log.open("xb") as said:
            process = subprocess.Popen(
                [sys.executable, "-m", "grandlattice", "run", *arguments], stdin=subprocess.DEVNULL,
                stdout=said, stderr=subprocess.STDOUT, start_new_session=True,
            )  # fmt: skip
    except OSError as problem:
        raise OutputError(f"{log} cannot be written: {problem.strerror}.") from problem
    _detached[process.pid] = process
    return process.pid, log


def ended_with(pid: int) -> int | None:
    """The exit code of a process begun by `run_detached`; None while it runs."""
    return _detached[pid].poll()


_detached: dict[int, subprocess.Popen[bytes]] = {}


def is_running(plan: str | Path, into: str | Path | None = None) -> bool:
    """Whether a run of a plan is under way, in whatever process."""
    return is_under_way(ledger_of(plan, into))


def refuse_without_server() -> None:
    """Make sure that what serves pages is installed.

    Raises
    ------
    PlanError
        When it is not.
    """
    if find_spec("uvicorn") is None or find_spec("starlette") is None:
        raise PlanError(
            "What serves pages is not installed.",
            cure='python -m pip install "starlette>=0.40,<2" "uvicorn>=0.30,<1"',
        )


def steering(plan: str | Path, into: str | Path | None = None) -> Steering:
    """Orders for the run of a plan that is under way.

    Examples
    --------
    >>> steering("orrery.lattice.yaml").pause()         # doctest: +SKIP
    """
    return Steering(ledger_of(plan, into))


def steering_of(name: str, folder: Path) -> Steering:
    """The same by the name of a plan and its output folder."""
    return Steering(_ledger(name, folder))
