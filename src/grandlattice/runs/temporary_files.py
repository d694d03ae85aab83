"""Temporary files of a run: what they are called, and which of them may be removed again.

A try of a task has a name of its own, ``{run}-{task}-{try}-{random}``.  Everything it writes
stands first under ``.{stem}.{try's name}.part.{ext}`` beside the file it will become.  The ledger
notes these paths before the first of them is made, so that a run that cleans up after a kill removes
exactly what the run can prove it made: a path that was noted, whose name has this form.  Whatever
merely looks like it is left alone.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterator
from pathlib import PurePosixPath
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from grandlattice.runs.tasks import Task

PART = ".part"
_ATTEMPT = r"\d+-\d+-\d+-[0-9a-f]{16}"
_NAME = re.compile(rf"\..*\.{_ATTEMPT}{re.escape(PART)}(\.[^./]*)?", re.DOTALL)
_STEM = 160  # bytes of a name's stem that are kept; the whole name has to fit into 255


def new_attempt(run: int = 0, task: int = 0, attempt: int = 0) -> str:
    """A name for one try of a task that no other process, on any machine, will use."""
    return f"{run}-{task}-{attempt}-{secrets.token_hex(8)}"


def part_of(path: str, attempt: str) -> str:
    """Where a file stands until it is whole.

    Parameters
    ----------
    path : of the file, with ``/`` between folders.
    attempt : see `new_attempt`.

    Examples
    --------
    >>> part_of("day/Wide.0001.exr", "3-12-0-00112233aabbccdd")
    'day/.Wide.0001.3-12-0-00112233aabbccdd.part.exr'
    """
    file = PurePosixPath(path)
    stem = file.stem.encode("utf-8", "surrogateescape")[:_STEM].decode("utf-8", "ignore")
    return str(file.with_name(f".{stem}.{attempt}{PART}{file.suffix}"))


def exchange_folder(attempt: str) -> str:
    """The folder through which a try passes files to an outside renderer and back."""
    return f".renderer.{attempt}{PART}.d"


def unfinished_folder(plan: str) -> str:
    """Where pictures of a plan are kept that their time limit ended."""
    return f"{plan}-unfinished"


def unfinished_file(plan: str, trace: str, film: int) -> str:
    """Where films of a trace are kept that their time limit ended, named by the first of them."""
    return f"{unfinished_folder(plan)}/{trace}-{film}.npz"


def shares_folder(plan: str) -> str:
    """Where the light shares of a plan are kept."""
    return f"{plan}-shares"


def shares_file(plan: str, view: str, trace: str, film: int) -> str:
    """Where the light shares of a view are kept that a trace made, named by the first of its films."""
    return f"{shares_folder(plan)}/{view}-{trace}-{film}.npz"


def parts_of(task: Task, plan: str) -> Iterator[str]:
    """Every temporary path a try of a task may make."""
    for member in task.members:
        for file in member.files:
            yield part_of(file.planned.path, task.attempt)
    for film in task.wanted:
        yield part_of(unfinished_file(plan, task.trace, film), task.attempt)
        if task.shares:
            yield part_of(shares_file(plan, task.shares, task.trace, film), task.attempt)
    yield exchange_folder(task.attempt)


def is_part(path: str) -> bool:
    """Whether a path has the form of our temporary files.

    Examples
    --------
    >>> is_part("day/.Wide.0001.3-12-0-00112233aabbccdd.part.exr"), is_part("day/.notes.part.txt")
    (True, False)
    """
    return _NAME.fullmatch(PurePosixPath(path).name) is not None
