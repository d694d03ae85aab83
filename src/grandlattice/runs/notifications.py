"""Telling people how a run goes: each cell, the first failure, the end; through apprise, or by a bell.

A notice that cannot be delivered is said once and never stops a run.
"""

from __future__ import annotations

import os
import queue
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np

from grandlattice import images
from grandlattice._support.readable import cleaned, duration, many
from grandlattice.errors import ImageError
from grandlattice.plan.run_block import Notice
from grandlattice.runs import Event, Failed, Finished, Run
from grandlattice.tables.formats import FORMATS

_WAIT = 20.0  # seconds the end of a run waits for notices on their way


class Outbox:
    """Sends notices in a thread of its own, so that the run does not wait for a slow server.

    Parameters
    ----------
    notices : who is told of what.

    Attributes
    ----------
    problems : what could not be sent.
    """

    def __init__(self, notices: Sequence[Notice]) -> None:
        self._notices = notices
        self.problems: list[str] = []
        self._waiting: queue.Queue[tuple[Notice, _Letter] | None] = queue.Queue()
        self._sender = threading.Thread(target=self._send_all, daemon=True)
        if notices:
            self._sender.start()

    def __bool__(self) -> bool:
        return bool(self._notices)

    def say(
        self, moment: str, title: str, body: str, *, good: bool = True, picture: Path | None = None
    ) -> None:
        """Tell those who are told of a moment.

        Parameters
        ----------
        good : whether it is good news.
        picture : that goes with it, for addresses that want one.
        """
        for notice in self._notices:
            if moment in notice.on:
                shown = picture if notice.thumbnail else None
                self._waiting.put((notice, _Letter(cleaned(title), cleaned(body), good, shown)))

    def close(self) -> None:
        """Wait for what is on its way."""
        if self._notices:
            self._waiting.put(None)
            self._sender.join(_WAIT)

    def _send_all(self) -> None:
        with tempfile.TemporaryDirectory(prefix="grandlattice-") as folder:
            while (item := self._waiting.get()) is not None:
                notice, letter = item
                if not (_ring(letter.good) if notice.to == SOUND else _post(notice, letter, Path(folder))):
                    self.problems.append(f"A notice to {notice.to.split('://')[0]} could not be sent.")


SOUND = "sound"
"""An address that is no address: the bell of the terminal."""


class _Letter(NamedTuple):
    title: str
    body: str
    good: bool
    picture: Path | None


def _post(notice: Notice, letter: _Letter, folder: Path) -> bool:
    """Send a notice; whether it was taken."""
    import apprise

    channel, address = apprise.Apprise(), _address(notice.to)
    if not address or not channel.add(address):
        return False
    attached = _small(letter.picture, folder) if letter.picture is not None else None
    told = {
        "body": letter.body,
        "title": letter.title,
        "notify_type": "success" if letter.good else "failure",
    }
    # Some channels take no pictures; the words matter more.
    return bool(channel.notify(**told, attach=attached) or (attached and channel.notify(**told)))


def _ring(good: bool) -> bool:
    """Ring the bell of the terminal the command was given in: once, or three times where something failed."""
    try:
        with open("/dev/tty" if os.name == "posix" else "CON", "w", encoding="ascii") as terminal:
            for _ in range(1 if good else 3):
                terminal.write("\a")
                terminal.flush()
                time.sleep(0.3)
    except OSError:
        return False
    return True


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
        self._run, self._name, self._outbox = run, name, Outbox(notices)
        self._tell = on_event or (lambda event: None)
        self._failed = False
        self._last: Path | None = None
        self._left = _frames_left(run) if any("cell" in notice.on for notice in notices) else {}

    @property
    def problems(self) -> list[str]:
        """What could not be sent."""
        return self._outbox.problems

    def __call__(self, event: Event) -> None:
        self._tell(event)
        if not self._outbox:
            return
        if isinstance(event, Failed) and not self._failed:
            self._failed = True
            title = f"{event.task.label} failed"
            self._outbox.say("failure", title, f"{event.problem}", good=False, picture=self._last)
        elif isinstance(event, Finished):
            self._last = _thumbnail(event, self._run.output) or self._last
            for member in event.task.members:
                if member.cell.index in self._left:
                    self._left[member.cell.index] -= 1
                    if not self._left[member.cell.index]:
                        seconds = f"last frame {duration(event.result.seconds)}"
                        self._outbox.say(
                            "cell", f"{member.cell.address} is done", seconds, picture=self._last
                        )

    def end(self) -> None:
        """Tell how the run ended, and wait for what is on its way."""
        _say_end(self._outbox, self._name, [self._run], self._last)
        self._outbox.close()


def tell_of_queue(notices: Sequence[Notice], name: str, runs: Sequence[Run], all_began: bool) -> list[str]:
    """Tell how a whole queue ended, and of the first of its runs that failed; what could not be sent."""
    outbox = Outbox(notices)
    for run in runs:
        if run.failures:
            first = run.failures[0]
            outbox.say("failure", f"{first.task.label} failed", f"{first.problem}", good=False)
            break
    _say_end(outbox, name, runs, None, all_began)
    outbox.close()
    return outbox.problems


def _say_end(
    outbox: Outbox, name: str, runs: Sequence[Run], picture: Path | None, all_began: bool = True
) -> None:
    finished, failed = sum(run.finished_frames for run in runs), sum(run.failed_frames for run in runs)
    failures = [failure for run in runs for failure in run.failures]
    told = [f"{many(finished, 'frame')} in {duration(sum(run.seconds for run in runs))}"]
    told += [f"{failed} failed"] if failed else []
    told += [f"{run.left} left: {run.spent or run.ended_by}" for run in runs if run.left]
    told += [failure.task.label for failure in failures[:10]]
    told += [] if all_began else ["some could not begin"]
    ok = all_began and all(run.ok for run in runs)
    title = f"{name}: {'done' if ok else 'not all done'}"
    outbox.say("end", title, "\n".join(told), good=ok, picture=picture)


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
        if FORMATS[record.format].everywhere:
            return output / record.path
    return None


def _frames_left(run: Run) -> dict[int, int]:
    """How many frames each cell of a run still has."""
    todo = run.outlook.todo
    cells, counts = np.unique(todo.columns.cells[todo.members], return_counts=True)
    return dict(zip(cells.tolist(), counts.tolist(), strict=True))
