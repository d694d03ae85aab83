"""A terminal that cannot end a run: full, closed, gone, or without the letters we write.

Pictures matter more than words.  What cannot be written is dropped, and what follows is, too.
"""

from __future__ import annotations

import io
import os
import sys
from contextlib import suppress
from typing import Any, TextIO

_PLAIN = str.maketrans({
    "✓": "+", "✗": "x", "‖": "|", "·": "-", "–": "-", "—": "-", "…": "...", "→": "->", "×": "x",
    "█": "#", "▒": "=", "‘": "'", "’": "'", "“": '"', "”": '"', "≤": "<=", "≥": ">=", "²": "2",
})  # fmt: skip


class Forgiving(io.TextIOBase):
    """A text stream whose troubles are its own.

    Parameters
    ----------
    stream : where words go for as long as it takes them.
    """

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self._is_gone = False
        encoding = (stream.encoding or "utf-8").lower().replace("-", "").replace("_", "")
        self._is_plain = not encoding.startswith("utf")
        if isinstance(stream, io.TextIOWrapper):
            with suppress(ValueError, OSError):
                stream.reconfigure(errors="replace")

    @property
    def encoding(self) -> str:  # type: ignore[override]
        return self._stream.encoding

    def write(self, text: str) -> int:
        if not self._is_gone:
            try:
                self._stream.write(text.translate(_PLAIN) if self._is_plain else text)
            except (OSError, ValueError):
                self._give_up()
        return len(text)

    def flush(self) -> None:
        if not self._is_gone:
            try:
                self._stream.flush()
            except (OSError, ValueError):
                self._give_up()

    def fileno(self) -> int:
        return self._stream.fileno()

    def isatty(self) -> bool:
        try:
            return not self._is_gone and self._stream.isatty()
        except (OSError, ValueError):
            return False

    def writable(self) -> bool:
        return True

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)

    def _give_up(self) -> None:
        """Write no more; what the stream still holds is discarded, so that closing it raises nothing."""
        self._is_gone = True
        with suppress(OSError, ValueError):
            nowhere = os.open(os.devnull, os.O_WRONLY)
            os.dup2(nowhere, self._stream.fileno())
            os.close(nowhere)


def forgive() -> None:
    """Have standard output and standard error forgive, from now on."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is not None and not isinstance(stream, Forgiving):
            setattr(sys, name, Forgiving(stream))
