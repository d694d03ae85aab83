"""The bar of what comes before a run or a list: scenes of cells are composed to see which share a trace."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Self

from grandlattice.cli.terminal_text import console, duration

if TYPE_CHECKING:
    from rich.progress import Progress

_A_MOMENT = 1.5  # seconds


class ComposingBar:
    """Shows how far scenes are composed, where that takes more than a moment.

    Parameters
    ----------
    quiet : show nothing.
    """

    def __init__(self, quiet: bool = False) -> None:
        self._quiet, self._began = quiet, 0.0
        self._bar: Progress | None = None
        self._is_said = False

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()

    def __call__(self, done: int, of: int) -> None:
        """So many scenes of so many are composed."""
        if done == 1:
            self._began = time.monotonic()
        spent = time.monotonic() - self._began
        if spent < _A_MOMENT or self._quiet:
            return
        left = spent / done * (of - done)
        if not console.is_terminal:
            if not self._is_said:
                console.print(
                    f"composing {of:,} scenes, to see which share a trace: about {duration(spent + left)}"
                )
            self._is_said = True
            return
        if self._bar is None:
            from grandlattice.cli.progress_bars import bars  # it takes half a second to load

            self._bar = bars()
            self._bar.start()
            self._bar.add_task("", total=of)
        self._bar.update(
            self._bar.task_ids[0],
            completed=done,
            left=left,
            description=f"composing scenes, {done:,} of {of:,}",
        )
        if done == of:
            self.stop()

    def stop(self) -> None:
        """Show no more; the next scenes begin anew."""
        if self._bar is not None:
            self._bar.stop()
        self._bar = None
