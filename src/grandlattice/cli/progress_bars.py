"""The bars of a run: one for the whole, one for each task under way.

What is measured never knows how it is drawn: this follows the events of a run and draws them.
Without a terminal it prints a plain line for each finished task.
"""

from __future__ import annotations

from rich.markup import escape
from rich.progress import BarColumn, Progress, ProgressColumn, Task as Bar, TaskID, TextColumn
from rich.text import Text

from grandlattice import Event, Failed, Finished, Held, Outlook, Pace, Retried, Returned, Started
from grandlattice._support.readable import cleaned
from grandlattice.cli.terminal_text import console, duration


class _TimeLeft(ProgressColumn):
    """Time spent, and what is left where it is known."""

    def render(self, task: Bar) -> Text:
        spent = duration(task.elapsed or 0.0)
        left = task.fields.get("left")
        return Text(f"{spent}, {duration(left)} left" if left is not None else spent, style="dim")


def bars() -> Progress:
    """Bars with what they stand for, their share, and the time left."""
    return Progress(
        TextColumn("{task.description}"),
        BarColumn(bar_width=28, complete_style="#7fb2a6", finished_style="#7fb2a6"),
        TextColumn("{task.percentage:>3.0f} %"),
        _TimeLeft(),
        console=console,
        transient=True,
    )


class RunBars:
    """Draws a run while it goes on.

    Parameters
    ----------
    outlook : what the run will do.
    workers : how many tasks run at once.
    quiet : draw and print nothing.
    """

    def __init__(self, outlook: Outlook, workers: int, quiet: bool = False) -> None:
        self._pace = Pace(outlook.todo, workers)
        self._count = outlook.todo.frame_count
        self._done = self._failed = 0
        self._quiet = quiet
        self._live = console.is_terminal and not quiet
        self._bars = bars()
        self._whole: TaskID | None = None
        self._running: dict[int, TaskID] = {}
        self._held = ""

    def start(self) -> None:
        """Begin to draw; calling it again changes nothing."""
        if self._live and self._whole is None:
            self._bars.start()
            self._whole = self._bars.add_task(self._title(), total=1.0, left=None)

    def stop(self) -> None:
        """Draw no more."""
        if self._whole is not None:
            self._bars.stop()

    def follow(self, event: Event) -> None:
        """Draw what an event changed."""
        self._pace.follow(event)
        if isinstance(event, Held):
            self._say_held(event)
            return
        number = event.task.number
        if isinstance(event, Finished):
            self._done += len(event.task.members)
        elif isinstance(event, Failed):
            self._failed += len(event.task.members)
        if not self._live:
            self._say(event)
            return
        if isinstance(event, Started):
            self._running[number] = self._bars.add_task(
                f"  {escape(cleaned(event.task.label))}", total=1.0, left=None
            )
        elif isinstance(event, Finished | Failed | Retried | Returned):
            bar = self._running.pop(number, None)
            if bar is not None:
                self._bars.remove_task(bar)
            if isinstance(event, Failed):
                console.print(f"[red]✗[/red] {escape(event.task.label)}  {escape(event.problem.what)}")
            elif isinstance(event, Retried):
                console.print(f"[yellow]![/yellow] {escape(event.task.label)}  {escape(_again(event))}")
        else:
            left = self._pace.seconds_left(task=event.task)
            self._bars.update(self._running[number], completed=event.share, left=left)
        if self._whole is not None:
            self._bars.update(
                self._whole,
                completed=self._pace.share,
                left=self._pace.seconds_left(),
                description=self._title(),
            )

    def _say_held(self, event: Held) -> None:
        """Say that the run waits, and what for, or that it goes on."""
        self._held = event.reason
        if not self._quiet:
            then = (
                "glat unpause goes on"
                if event.reason == "paused"
                else "it goes on by itself when that changes"
            )
            held = f"[yellow]‖[/yellow] {escape(event.reason.rstrip('.'))}; {then}"
            console.print(held if event.reason else "going on")
        if self._whole is not None:
            self._bars.update(self._whole, description=self._title())

    def _title(self) -> str:
        held = f"  [yellow]‖ {escape(cleaned(self._held))}[/yellow]" if self._held else ""
        return f"[bold]{self._done} of {self._count} frames[/bold]{held}"

    def _say(self, event: Event) -> None:
        if self._quiet or not isinstance(event, Finished | Failed | Retried):
            return
        if isinstance(event, Retried):
            console.print(f"{event.task.label}  {_again(event)}", markup=False)
            return
        place = f"{self._done + self._failed}/{self._count}"
        if isinstance(event, Finished):
            console.print(f"{place}  {event.task.label}  {duration(event.result.seconds)}", markup=False)
        else:
            console.print(f"{place}  {event.task.label}  failed: {event.problem.what}", markup=False)


def _again(event: Retried) -> str:
    return f"{event.problem.what} It is tried again in {duration(event.delay)}."
