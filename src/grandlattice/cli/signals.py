"""What Ctrl-C and its like do to the command, from its first moment to its last.

While it loads there is nothing to clean up, so it ends at once and without a word.  While it works
an `Ended` is raised, so that everything that was begun is cleared away; a run puts its own, more
patient handlers over these.  Once all is over nothing interrupts the interpreter's leaving.
"""

from __future__ import annotations

import os
import signal
import threading
import time
from types import FrameType

_NUMBERS = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]
_AGAIN = 1.5  # seconds after which an `Ended` that a library swallowed is raised once more


class Ended(KeyboardInterrupt):
    """The system asks the command to end; `code` is its exit code then."""

    def __init__(self, number: int) -> None:
        super().__init__()
        self.code = 128 + number
        self.has_arrived = False  # where the command ends


asked: Ended | None = None
"""What the system asked last."""


def _set(handler: object) -> None:
    """Handle signals so, except those that were ignored when this process began (as under nohup)."""
    if threading.current_thread() is threading.main_thread():
        for number in _NUMBERS:
            if signal.getsignal(number) is not signal.SIG_IGN:
                signal.signal(number, handler)  # type: ignore[arg-type]


def end_at_once() -> None:
    """End without a word when asked to, from now on."""
    _set(lambda number, frame: os._exit(128 + number))


def end_in_order() -> None:
    """Raise `Ended` when asked to, from now on."""
    _set(_raise)


def go_on() -> None:
    """Take no notice any more."""
    _set(signal.SIG_IGN)


def _raise(number: int, frame: FrameType | None) -> None:
    global asked
    asked = Ended(number)
    threading.Thread(target=_insist, args=(asked, number), daemon=True).start()
    raise asked


def _insist(ended: Ended, number: int) -> None:
    """Ask again where a library has kept the exception to itself."""
    time.sleep(_AGAIN)
    if asked is ended and not ended.has_arrived:
        signal.raise_signal(number)
