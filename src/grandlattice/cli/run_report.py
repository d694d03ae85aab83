"""What a run says before it begins and when it has ended."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from rich.markup import escape

import grandlattice as lattice
from grandlattice._support.readable import price
from grandlattice.cli import terminal_text
from grandlattice.cli.terminal_text import console, duration, many, next_step, say_compiling, show_problem


def say_all(runs: Sequence[lattice.Run]) -> None:
    """What came of a whole queue."""
    finished, failed = sum(run.finished_frames for run in runs), sum(run.failed_frames for run in runs)
    took = duration(sum(run.seconds for run in runs))
    more = f", {failed:,} failed" if failed else ""
    console.print(
        f"[bold]in all[/bold]  {many(finished, 'frame')} of {many(len(runs), 'plan')} in {took}{more}"
    )


def say_forecast(forecast: lattice.Forecast) -> None:
    """How long a queue will take, and of which plans nothing is known."""
    known = f"about {duration(forecast.seconds)} for all of it" if forecast.seconds else ""
    unknown = f"nothing was rendered yet of {escape(', '.join(forecast.unknown))}" if forecast.unknown else ""
    if known or unknown:
        console.print(f"[dim]{'; '.join(filter(None, (known, unknown)))}[/dim]")


def places_of(plan: lattice.Plan, into: Path | None) -> str:
    """Where the pictures of a plan go."""
    found = [
        terminal_text.short(folder) + (f" (a link to {leads})" if leads is not None else "")
        for folder, leads in plan.folders(into)
    ]
    return ", ".join(found[:3]) + (f" and {len(found) - 3} more folders" if len(found) > 3 else "")


def say_done(done: lattice.Done) -> None:
    """That there is nothing to do."""
    console.print(
        f"{many(done.cells, 'cell')}, {many(done.frames, 'frame')}, {many(done.files, 'file')}, "
        f"about {terminal_text.size(done.bytes)}, to {escape(done.folders)}"
    )
    console.print(f"everything is done already: {many(done.frames, 'frame')}")


def say_whole(whole: lattice.Totals, is_narrowed: bool, places: str) -> None:
    """What the cells of a run make, and where it goes; of some of their frames only where."""
    if not is_narrowed:
        console.print(
            f"{many(whole.cells, 'cell')}, {many(whole.frames, 'frame')}, {many(whole.files, 'file')}, "
            f"about {terminal_text.size(whole.bytes)}, to {escape(places)}"
        )
    else:
        console.print(f"to {escape(places)}")


def say_outlook(
    outlook: lattice.Outlook, workers: int, further: bool, is_kept: bool, on: str = "local"
) -> None:  # fmt: skip
    """What a run will do; `on` is who renders."""
    if not outlook.todo and further:
        console.print("no frame here was ended by its seconds, as the plan and this call have it")
        return
    if not outlook.todo:
        console.print(f"everything is done already: {many(outlook.done.frame_count, 'frame')}")
        return
    frames, traces = outlook.todo.frame_count, outlook.todo.trace_count
    parts, most = [f"{many(frames, 'frame')} to render"], ""
    if traces < frames:
        parts[0] += f" in {many(traces, 'trace')}"
        most = f"; the largest trace makes {outlook.todo.most_together:,} of them"
    if outlook.done:
        parts.append(f"{outlook.done.frame_count:,} done already")
    if outlook.changed:
        fate = "to be kept aside" if is_kept else "to be replaced"
        parts.append(f"{many(len(outlook.changed), 'file')} out of date, {fate}")
    foreseen = outlook.foreseen
    if foreseen is not None and foreseen.frames:
        parts.append(f"{foreseen.frames:,} relit from what was traced {day(foreseen.traced)}")
    if foreseen is not None and foreseen.finished:
        parts.append(f"{len(foreseen.finished):,} finished from their OpenEXR files")
    if foreseen is not None and foreseen.numbers and not outlook.traced:
        parts[-1] += ", nothing is traced"
    if foreseen is not None and foreseen.bytes:
        parts.append(f"their light shares kept, about {terminal_text.size(foreseen.bytes)}")
    with_ = many(workers, "worker") if workers else "this process"
    with_ = with_ if on == "local" else escape(on)
    console.print(f"{', '.join(parts)}{most}; by {with_}. Ctrl-C finishes the frames under way and stops.")
    say_compiling()


def day(seconds: float) -> str:
    """A day as one speaks of it: today, yesterday, on Tuesday, or its date."""
    then, now = datetime.fromtimestamp(seconds), datetime.now()
    ago = (now.date() - then.date()).days
    if ago < 2:
        return ("today" if ago == 0 else "yesterday") + f" at {then:%H:%M}"
    return f"on {then:%A}" if ago < 7 else f"on {then:%Y-%m-%d}"


def say_estimate(estimate: lattice.Estimate, budget: Any) -> None:
    """What a run will take, and cost where its budget has a rate."""
    text = (
        f"about {duration(estimate.seconds)}, between {duration(estimate.low)} and {duration(estimate.high)} "
        f"[dim](from {estimate.source})[/dim]"
    )
    if budget.rate:
        text += f", about {price(estimate.core_seconds / 3600.0 * budget.rate, budget.currency)}"
    if estimate.last is not None:
        off = round((estimate.last - 1.0) * 100.0)
        more = "as long as" if not off else f"{abs(off)} % {'more' if off > 0 else 'less'} time than"
        text += f"; the last run took {more} estimated"
    console.print(text)


def say_end(done: lattice.Run, next_run: str, continued: str | None, places: str) -> None:
    """What came of a run, and what to do next."""
    if done.finished:
        rays = sum(event.result.rays for event in done.finished)
        shot = f"{rays / 1e6:,.0f} million rays" if rays >= 1e6 else f"{rays:,} rays"
        shot = f" [dim]({shot})[/dim]" if rays else ""
        relit = sum(event.result.relit for event in done.finished)
        if relit:
            mixed = "all" if relit == done.finished_frames else f"{relit:,} of them"
            shot += f", {mixed} relit from kept light shares"
        finished = sum(event.result.finished for event in done.finished)
        if finished:
            mixed = "all" if finished == done.finished_frames else f"{finished:,} of them"
            shot += f", {mixed} finished from their OpenEXR files"
        shot += ", nothing traced" if (relit or finished) and not rays else ""
        console.print(
            f"[green]✓[/green] {many(done.finished_frames, 'frame')} in {duration(done.seconds)}{shot}, "
            f"in {escape(places)}"
        )
    if done.failures:
        console.print(f"[red]✗[/red] {many(done.failed_frames, 'frame')} failed:")
        for failure in done.failures:
            console.print(f"  {escape(failure.task.label)}")
            show_problem(failure.problem)
            if terminal_text.debug:
                console.print(failure.details, markup=False)
        kept = "the others are done and kept; " if done.finished or done.outlook.done else ""
        console.print(f"{kept}mend this and give the same command again")
    if done.ledger_aside is not None:
        console.print(
            f"[yellow]![/yellow] the ledger could not be read and lies aside as {done.ledger_aside.name}; "
            "what is done was found again in the pictures themselves"
        )
    cut = sum(member.unfinished for event in done.finished for member in event.result.members)
    if cut:
        how = f"; to take them further:  {continued}" if continued else ""
        console.print(f"{many(cut, 'frame')} ended by their seconds{escape(how)}")
    for note in done.notes:
        console.print(f"[yellow]![/yellow] {escape(note)}")
    if done.left:
        why = (done.spent or "stopped").rstrip(".")
        console.print(f"{escape(why)}; {many(done.left, 'frame')} left, no half file was kept")
        next_step(next_run)
