"""Telling people how a run goes: each cell, the first failure, the end; through apprise.

A notice that cannot be delivered is said once and never stops a run.
"""

from __future__ import annotations

import os
import queue
import tempfile
import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from grandlattice import images
from grandlattice.errors import ImageError
from grandlattice.plan.running import Notice
from grandlattice.readable import cleaned, duration, many
from grandlattice.runs import Event, Failed, Finished, Run

if TYPE_CHECKING:
    import apprise

_WAIT = 20.0  # seconds the end of a run waits for notices on their way


class Teller:
    """Passes the events of a run on, and sends the notices a plan asks for.

    Parameters
    ----------
    notices : who is told of what.
    name : of the plan.
    on_event : who is told every event.
    """

    def __init__(
        self, notices: Sequence[Notice], run: Run, name: str, on_event: Callable[[Event], None] | None
    ) -> None:
        self._notices, self._run, self._name = notices, run, name
        self._tell = on_event or (lambda event: None)
        self._failed = False
        self._last: Path | None = None
        self._left = _frames_left(run) if any("cell" in notice.on for notice in notices) else {}
        self.problems: list[str] = []
        self._outbox: queue.Queue[tuple[Notice, str, str, Path | None] | None] = queue.Queue()
        self._sender = threading.Thread(target=self._send_all, daemon=True)
        if notices:
            self._sender.start()

    def __call__(self, event: Event) -> None:
        self._tell(event)
        if not self._notices:
            return
        if isinstance(event, Failed) and not self._failed:
            self._failed = True
            self._say("failure", f"{event.task.label} failed", f"{event.problem}")
        elif isinstance(event, Finished):
            self._last = _thumbnail(event, self._run.output) or self._last
            for member in event.task.cells:
                if member.cell.index in self._left:
                    self._left[member.cell.index] -= 1
                    if not self._left[member.cell.index]:
                        seconds = event.result.seconds
                        self._say("cell", f"{member.cell.address} is done", f"last frame {duration(seconds)}")

    def end(self) -> None:
        """Tell how the run ended, and wait for what is on its way."""
        if not self._notices:
            return
        run = self._run
        told = [f"{many(len(run.finished), 'frame')} in {duration(run.seconds)}"]
        told += [f"{len(run.failures)} failed"] if run.failures else []
        told += [f"{run.left} left: {run.spent or run.ended_by}"] if run.left else []
        told += [failure.task.label for failure in run.failures[:10]]
        self._say("end", f"{self._name}: {'done' if run.ok else 'not all done'}", "\n".join(told))
        self._outbox.put(None)
        self._sender.join(_WAIT)

    def _say(self, moment: str, title: str, body: str) -> None:
        for notice in self._notices:
            if moment in notice.on:
                picture = self._last if notice.thumbnail else None
                self._outbox.put((notice, cleaned(title), cleaned(body), picture))

    def _send_all(self) -> None:
        import apprise

        with tempfile.TemporaryDirectory(prefix="grandlattice-") as folder:
            while (item := self._outbox.get()) is not None:
                self._send(apprise.Apprise(), Path(folder), *item)

    def _send(
        self, channel: apprise.Apprise, folder: Path, notice: Notice, title: str, body: str,
        picture: Path | None,
    ) -> None:  # fmt: skip
        address = _address(notice.to)
        known = bool(address) and channel.add(address)
        attached = _small(picture, folder) if picture is not None else None
        kind = kind_of_notice(title)
        sent = known and channel.notify(body=body, title=title, notify_type=kind, attach=attached)
        if not sent and known and attached:  # some channels take no pictures; the words matter more
            sent = channel.notify(body=body, title=title, notify_type=kind)
        if not sent:
            self.problems.append(f"A notice to {notice.to.split('://')[0]} could not be sent.")


_FAILED = "failed", "not all done"


def kind_of_notice(title: str) -> str:
    """What kind of notice a title is of, in apprise's words: ``failure``, or ``success``."""
    return "failure" if title.endswith(_FAILED) else "success"


def _small(picture: Path, folder: Path) -> str | None:
    """A small copy of a picture, None where it is gone."""
    small = folder / f"{picture.stem}.jpg"
    try:
        images.write_thumbnail(picture, small)
    except ImageError:
        return None
    return str(small)


def _address(text: str) -> str:
    """An address, from the environment where it begins with ``$``: plans are passed around."""
    return os.environ.get(text[1:], "") if text.startswith("$") else text


def _thumbnail(event: Finished, output: Path) -> Path | None:
    """The first picture of a task that any program shows."""
    for record in event.result.records:
        if record.format in ("png", "jpg"):
            return output / record.path
    return None


def _frames_left(run: Run) -> dict[int, int]:
    """How many tasks each cell of a run still has."""
    todo, columns = run.outlook.todo, run.tasks.columns
    here = np.isin(np.repeat(np.arange(len(columns)), np.diff(columns.starts)), todo.numbers)
    cells, counts = np.unique(columns.cells[here], return_counts=True)
    return dict(zip(cells.tolist(), counts.tolist(), strict=True))
