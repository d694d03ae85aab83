"""Commands that look on a run and steer it from another terminal."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Annotated

import typer
from rich.live import Live
from rich.markup import escape
from rich.table import Table

import grandlattice as lattice
from grandlattice.cli import terminal_text
from grandlattice.cli.terminal_text import console, duration, next_step, print_json

PlanFile = Annotated[
    Path | None,
    typer.Argument(
        metavar="[PLAN]", help="The plan; may be left out where there is just one.", show_default=False
    ),
]
At = Annotated[
    list[str] | None,
    typer.Option("--at", help="Only these cells: light=noon or noon//all/Wide.", show_default=False),
]
Into = Annotated[
    Path | None, typer.Option("--into", help="The output folder of the run.", show_default=False)
]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON for programs to read.")]

_MOST = 200  # frames in a table
_ENDING = ".lattice.yaml"
_QUEUE = ".queue.yaml"
_STATES = ("done", "running", "failed", "dropped", "waiting")
_SAID = {
    "done": "done", "failures": "ended with failures", "stopped": "stopped", "budget": "ended by its budget",
    "full": "ended by a full disk", "broken off": "broken off",
}  # fmt: skip


def status(
    plan: PlanFile = None,
    at: At = None,
    into: Into = None,
    failed: Annotated[bool, typer.Option("--failed", help="Only what failed, with its log.")] = False,
    follow: Annotated[bool, typer.Option("--follow", help="Stay and show what happens.")] = False,
    everything: Annotated[bool, typer.Option("--all", help="Every frame, whatever its state.")] = False,
    as_json: AsJson = False,
) -> None:
    """How a run stands: done, running, failed, left.  Where there is no plan: every run on this machine.

    Example:  glat status --follow
    """
    file = plan or _only_plan()
    if file is not None and file.name.endswith(_QUEUE):
        _show_queue(file, into, as_json)
        return
    if file is None:
        _show_all(as_json)
        return
    states = ["failed"] if failed else ["running", "failed"]
    if everything or (at and not failed):
        states = ["waiting", "running", "done", "failed", "dropped"]

    def read() -> lattice.RunStatus:
        most = sys.maxsize if as_json else _MOST
        return lattice.status(file, at=at or (), into=into, states=states, most=most, logs=failed)

    if as_json:
        print_json(read())
        return
    found = read()
    if not follow:
        console.print(_shown(found, failed))
        if found.counts.get("failed") and not failed:
            next_step(f"glat status --failed{_named(plan, into)}")
        elif found.counts.get("waiting") and not found.under_way:
            next_step(f"glat run{_named(plan, into)}")
        return
    with Live(_shown(found, failed), console=console, auto_refresh=False) as live:
        while found.under_way:
            time.sleep(0.5)
            found = read()
            live.update(_shown(found, failed), refresh=True)


def _show_queue(queue: Path, into: Path | None, as_json: bool) -> None:
    """Every plan of a queue in a few lines; those that have not begun say so."""
    found: list[lattice.RunStatus] = []
    for file in _plans_of(queue):
        try:
            found.append(lattice.status(file, into=into, states=["running", "failed"]))
        except lattice.RunError:
            if not as_json:
                console.print(f"[bold]{escape(file.name.removesuffix(_ENDING))}[/bold]  has not been run yet")
            continue
        if not as_json:
            console.print(_shown(found[-1], False))
    if as_json:
        print_json(found)
        return
    done = sum(run.counts.get("done", 0) for run in found)
    left = sum(run.seconds_left or 0.0 for run in found)
    whole = sum(sum(run.counts.values()) for run in found)
    more = f", {duration(left)} left" if left else ""
    console.print(f"[bold]in all[/bold]  {done:,} of {terminal_text.many(whole, 'frame')} done{more}")


def _only_plan() -> Path | None:
    plans = sorted(Path.cwd().glob(f"*{_ENDING}"))
    return plans[0] if len(plans) == 1 else None


def _the_plan(plan: Path | None, into: Path | None = None) -> Path:
    """The plan meant: the one named, the only one here, or of several the one whose run is under way."""
    file = plan or _only_plan()
    if file is not None and not file.name.endswith(_QUEUE):
        return file
    plans = _plans_of(file) if file is not None else sorted(Path.cwd().glob(f"*{_ENDING}"))
    running = [each for each in plans if lattice.is_running(each, into)]
    if len(running) == 1:
        return running[0]
    if file is not None:
        raise lattice.RunError("No plan of this queue is under way.", cure="glat run begins it")
    raise lattice.PlanError("There is no plan here, or more than one.", cure="name the one you mean")


def _plans_of(queue: Path) -> list[Path]:
    return [step.plan.file for step in lattice.open_queue(queue) if step.plan.file is not None]


def _named(plan: Path | None, into: Path | None = None) -> str:
    """Plan and folder as they stood on the command line."""
    named = f" {terminal_text.quoted(plan)}" if plan is not None else ""
    return named + (f" --into {terminal_text.quoted(into)}" if into is not None else "")


def _shown(status: lattice.RunStatus, logs: bool) -> Table:
    """A run as a few lines and a table of its frames."""
    grid = Table.grid(padding=(0, 0))
    counts = status.counts
    told = ", ".join(f"{counts[state]:,} {state}" for state in _STATES if counts.get(state))
    what = f"[yellow]‖ {escape(status.held)}[/yellow]" if status.held else escape(_state(status))
    grid.add_row(f"[bold]{escape(status.name)}[/bold]  {what}  [dim]·[/dim]  {told or 'nothing to do'}")
    took = f"{status.share * 100:.0f} % in {duration(status.seconds)}"
    if status.seconds_left is not None:
        took += f", {duration(status.seconds_left)} left"
    if status.under_way:
        workers = terminal_text.many(status.workers, "worker")
        took += f"  [dim]process {status.pid} on {escape(status.host)}, {workers}[/dim]"
    grid.add_row(took)
    if status.slots:
        grid.add_row(_slots_table(status.slots))
    if status.frames:
        grid.add_row(_frames_table(status.frames))
    if len(status.frames) >= _MOST:
        grid.add_row(f"[dim]the first {_MOST}; --at shows others, --json all of them[/dim]")
    for frame in status.frames:
        if frame.problem and frame.state == "failed":
            grid.add_row(f"[red]✗[/red] {escape(frame.cell)} · {frame.frame}")
            for line in frame.problem.splitlines():
                if logs and line.startswith("do: look at its log"):
                    continue  # here it is
                grid.add_row(f"  {escape(line)}")
            if logs and frame.log:
                grid.add_row(f"  [dim]{escape(_end(frame.log))}[/dim]")
    return grid


def _slots_table(slots: tuple[lattice.Slot, ...]) -> Table:
    """A row for each slot of a cluster: where it is, what it does, what it said last."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for title in ("slot", "machine", "", "does", "for", "memory", "last words"):
        table.add_column(title, overflow="fold")
    for slot in slots[:_MOST]:
        does = f"{escape(slot.cell)} · {slot.frame}  {slot.share * 100:.0f} %" if slot.cell else ""
        table.add_row(
            str(slot.number), escape(slot.host) + (f" [dim]{escape(slot.pools)}[/dim]" if slot.pools else ""),
            slot.state, does, duration(slot.seconds) if does else "",
            terminal_text.size(slot.memory) if slot.memory else "", escape(slot.words),
        )  # fmt: skip
    return table


def _frames_table(frames: tuple[lattice.FrameStatus, ...]) -> Table:
    """A row for each frame; empty columns are left out."""
    columns: dict[str, list[str]] = {}
    for frame in frames:
        running = frame.state == "running"
        seconds = time.time() - frame.started if running and frame.started else frame.seconds
        share = frame.share if running else None
        for name, text in (
            ("cell", escape(frame.cell)),
            ("frame", str(frame.frame)),
            ("state", frame.state),
            ("done", "" if share is None else f"{share * 100:.0f} %"),
            ("time", "" if seconds is None else duration(seconds)),
            ("processor", "" if frame.cpu_seconds is None else duration(frame.cpu_seconds)),
            ("memory", terminal_text.size(frame.peak_bytes) if frame.peak_bytes else ""),
            ("samples", "" if frame.samples is None else str(frame.samples)),
            ("noise", "" if frame.noise is None else f"{frame.noise * 100:.1f} %"),
            ("tried again", str(frame.tries) if frame.tries else ""),
        ):
            columns.setdefault(name, []).append(text)
    used = {name: texts for name, texts in columns.items() if any(texts)}
    for name in ("processor", "memory", "tried again", "noise"):  # what a narrow terminal can do without
        if sum(max(map(len, (title, *texts))) + 2 for title, texts in used.items()) > console.width:
            used.pop(name, None)
    table = Table(box=None, header_style="dim", pad_edge=False, padding=(0, 2, 0, 0))
    for name in used:
        table.add_column(name, justify="left" if name in ("cell", "state") else "right", no_wrap=True)
    for row in zip(*used.values(), strict=True):
        table.add_row(*row)
    return table


def _state(status: lattice.RunStatus) -> str:
    if status.under_way:
        return "under way"
    return _SAID.get(status.state, "not begun")


def _end(log: str, lines: int = 15) -> str:
    return "\n  ".join(log.splitlines()[-lines:])


def _show_all(as_json: bool) -> None:
    runs = lattice.all_runs()
    if as_json:
        print_json(runs)
        return
    if not runs:
        console.print("nothing has been run on this machine yet")
        return
    table = Table(box=None, header_style="dim", pad_edge=False, padding=(0, 2, 0, 0))
    for name in ("plan", "state", "frames", "done", "left", "folder"):
        table.add_column(
            name, justify="right" if name in ("frames", "done") else "left", no_wrap=name != "folder"
        )
    for run in runs:
        left = duration(run.seconds_left) if run.seconds_left is not None else ""
        table.add_row(
            f"[bold]{escape(run.name)}[/bold]", escape(run.held or _state(run)),
            f"{sum(run.counts.values()):,}", f"{run.share * 100:.0f} %", left,
            escape(terminal_text.short(run.ledger.parent)),
        )  # fmt: skip
    console.print(table)


def pause(plan: PlanFile = None, into: Into = None) -> None:
    """Begin no more frames for now; those under way are finished.

    Example:  glat pause
    """
    console.print(lattice.steering(_the_plan(plan, into), into).pause())
    next_step(f"glat unpause{_named(plan, into)}")


def unpause(plan: PlanFile = None, into: Into = None) -> None:
    """Go on with a run that was paused.

    Example:  glat unpause
    """
    console.print(lattice.steering(_the_plan(plan, into), into).unpause())


def stop(
    plan: PlanFile = None,
    into: Into = None,
    now: Annotated[bool, typer.Option("--now", help="Give up the frames under way too.")] = False,
) -> None:
    """End a run after the frames under way; glat run goes on with it later.

    Example:  glat stop --now
    """
    console.print(lattice.steering(_the_plan(plan, into), into).stop(now=now))
    next_step(f"glat run{_named(plan, into)}")


def retry(plan: PlanFile = None, at: At = None, into: Into = None) -> None:
    """Have frames of the run under way done again that failed or were dropped.

    Example:  glat retry --at light=evening
    """
    console.print(lattice.steering(_the_plan(plan, into), into).retry(*at or ()))


def drop(plan: PlanFile = None, at: At = None, into: Into = None) -> None:
    """Leave cells out of the run under way that have not begun.

    Example:  glat drop --at camera=Dial
    """
    if not at:
        raise lattice.PlanError(
            "Which cells?", cure="name them: glat drop --at camera=Dial; glat stop ends all"
        )
    console.print(lattice.steering(_the_plan(plan, into), into).drop(*at))


def priority(
    level: Annotated[int, typer.Argument(help="Higher ones run first; 0 is usual.")],
    plan: PlanFile = None,
    at: At = None,
    into: Into = None,
) -> None:
    """Change the priority of cells of the run under way.

    Example:  glat priority 5 --at camera=Wide
    """
    console.print(lattice.steering(_the_plan(plan, into), into).prioritise(level, *at or ()))


def add(
    other: Annotated[Path, typer.Argument(metavar="OTHER", help="A plan or queue to carry out afterwards.")],
    plan: PlanFile = None,
    into: Into = None,
) -> None:
    """Have another plan carried out when the run under way is done.

    Example:  glat add garden.lattice.yaml hall.lattice.yaml
    """
    lattice.open_queue(other)  # a mistake in it is better said now than when its turn comes
    console.print(lattice.steering(_the_plan(plan, into), into).add(other))


def workers(
    count: Annotated[int, typer.Argument(help="Processes that render, from the next frame on.")],
    plan: PlanFile = None,
    into: Into = None,
) -> None:
    """Change how many workers the run under way has; the pictures stay the same.

    Example:  glat workers 1
    """
    console.print(lattice.steering(_the_plan(plan, into), into).workers(count))


def spare(
    count: Annotated[int, typer.Argument(help="Processors left to you, from the next frame on.")],
    plan: PlanFile = None,
    into: Into = None,
) -> None:
    """Change how many processors the run under way leaves to you.

    Example:  glat spare 2
    """
    console.print(lattice.steering(_the_plan(plan, into), into).spare(count))
