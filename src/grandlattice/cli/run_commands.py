"""Commands that render: run, review and the demo."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.markup import escape

import grandlattice as lattice
from grandlattice._support.readable import price
from grandlattice.cli import result_tables, terminal_text
from grandlattice.cli.composing_bar import ComposingBar
from grandlattice.cli.plan_commands import saved, say_meters
from grandlattice.cli.run_report import (
    places_of,
    say_all,
    say_done,
    say_end,
    say_estimate,
    say_forecast,
    say_outlook,
    say_whole,
)
from grandlattice.cli.shared_options import (
    AllowMissing,
    At,
    Conduct,
    EditOption,
    Existing,
    Into,
    On,
    PlanFiles,
    SetOf,
    SetOption,
    TrustNetwork,
    Until,
    Why,
    Workers,
    arguments,
    asked_of,
    conduct_of,
    open_queue,
    read_frames,
)
from grandlattice.cli.terminal_text import (
    console,
    duration,
    many,
    next_step,
    quoted,
    short,
    show_problem,
)

Frames = Sequence[int] | str | None


def run(
    plans: PlanFiles = None,
    at: At = None,
    sets: SetOf = None,
    settings: SetOption = None,
    edits: EditOption = None,
    frames: Annotated[
        str | None, typer.Option("--frames", help="Only these frames.", show_default=False)
    ] = None,
    workers: Workers = None,
    into: Into = None,
    fresh: Annotated[bool, typer.Option("--fresh", help="Do again what is done.")] = False,
    allow_missing: AllowMissing = False,
    quiet: Annotated[bool, typer.Option("--quiet", help="Print problems only.")] = False,
    existing: Existing = None,
    until: Until = None,
    on: On = None,
    trust_network: TrustNetwork = False,
    conduct: Conduct = None,
    and_then: Annotated[
        bool, typer.Option("--and-then", help="When all is over, run the plan's after: command.")
    ] = False,
    first: Annotated[
        bool, typer.Option("--first", help="Render each cell's first frame, then ask before the rest.")
    ] = False,
    detached: Annotated[
        bool,
        typer.Option("--detached", help="Go on without this terminal, with a log; glat status shows it."),
    ] = False,
    why: Why = False,
    go_on_after: Annotated[
        float | None,
        typer.Option(
            "--go-on-after",
            min=0,
            help="With --first: go on by itself after so many seconds.",
            show_default=False,
        ),
    ] = None,
) -> None:
    """Render what is not rendered yet, plan after plan; goes on where it stopped.

    Example:  glat run --at camera=Wide --set samples=64
    """
    asked = asked_of(plans, at, sets, settings, edits, into)
    plain = not (
        frames or fresh or quiet or existing or until or on or conduct or and_then or first or detached or why
    )
    done = lattice.is_done(asked) if plain and asked is not None else None
    if done is not None:
        say_done(done)
        next_step(_review(plans, at, sets, into))
        return
    queue = open_queue(plans, settings, at, sets, edits)
    queue.refuse_collisions()
    if detached:
        _run_detached(queue, into, f"glat status --follow{arguments((plans or [])[:1], into=into)}")
        return
    before = lattice.states_before(queue, into) if plain and asked is not None else {}
    given = arguments(plans or (), at, sets, settings, into, edits)
    command = f"glat run{given}"
    if len(queue) > 1 and not quiet:
        whole = queue.totals()
        console.print(
            f"{many(len(queue), 'plan')}: {many(whole.cells, 'cell')}, {many(whole.frames, 'frame')}, "
            f"{many(whole.files, 'file')}, about {terminal_text.size(whole.bytes)}"
        )
        say_forecast(queue.forecast(workers, frames=read_frames(frames), into=into, fresh=fresh))
    said = conduct_of(existing, until, conduct, on)
    how = _How(
        read_frames(frames), workers, into, fresh, allow_missing, quiet, said, why=why, trusts=trust_network,
        continued=f"glat continue{given}{_conducted(conduct, on, trust_network)}",
    )  # fmt: skip
    if first:
        if frames is not None:
            raise lattice.PlanError("--first and --frames exclude each other.", cure="leave one of them out")
        ok = _run_steps(queue, replace(how, frames="first"), command)
        for step in queue:
            result_tables.show_files(step.plan.review(at=step.at, sets=step.sets, into=into), "wrote")
        if not ok or not _go_on(go_on_after, command):
            raise typer.Exit(0 if ok else 1)
        # The first frames are done by now.
        said = {key: value for key, value in said.items() if key != "existing" or value != "replace"}
        how = replace(how, fresh=False, conduct=said)
    ok = _run_steps(queue, how, command)
    if and_then:
        _and_then(queue, said)
    if not ok:
        raise typer.Exit(1)
    if plain and asked is not None:
        lattice.remember_done(asked, queue, into, places_of(queue.steps[0].plan, into), before)
    if not quiet:
        next_step(_review(plans, at, sets, into))


def _conducted(conduct: list[str] | None, on: str | None, trust_network: bool) -> str:
    """What a call said of the run, for a next command."""
    words = [f"--run {quoted(text)}" for text in conduct or ()]
    words += [f"--on {quoted(on)}"] if on is not None else []
    words += ["--trust-network"] if trust_network else []
    return "".join(f" {word}" for word in words)


_BEGINS_WITHIN = 60.0  # seconds a detached run is looked at until it renders


def _run_detached(queue: lattice.Queue, into: Path | None, follow: str) -> None:
    """Begin the same command as a process of its own, and wait until it is under way, or has ended."""
    first = queue.steps[0].plan
    asked = [word for word in sys.argv[2:] if word != "--detached"]
    pid, log = lattice.run_detached(asked, first.name, into or first.folder)
    file, deadline = first.file, time.monotonic() + _BEGINS_WITHIN
    while time.monotonic() < deadline and not (file and lattice.is_running(file, into)):
        code = lattice.ended_with(pid)
        if code is not None:
            console.print(log.read_text("utf-8", "replace").rstrip(), markup=False)
            raise typer.Exit(code)
        time.sleep(0.2)
    console.print(
        f"runs in the background as process {pid}; its messages go to [bold]{escape(short(log))}[/bold]"
    )
    next_step(follow)


def _review(plans: list[Path] | None, at: list[str] | None, sets: list[str] | None, into: Path | None) -> str:
    """The command that shows what a run made."""
    one = len(plans or ()) < 2
    return f"glat review{arguments(plans or (), at, sets, into=into) if one else ' PLAN'}"


@dataclass(frozen=True)
class _How:
    """What a call says of how to run, whatever the plan."""

    frames: Frames = None
    workers: int | None = None
    into: Path | None = None
    fresh: bool = False
    allow_missing: bool = False
    quiet: bool = False
    conduct: Mapping[str, Any] = field(default_factory=dict)
    further: bool = False
    continued: str | None = None  # the command that takes frames further that their seconds ended
    why: bool = False
    trusts: bool = False  # the network to a cluster


def _run_steps(queue: lattice.Queue, how: _How, command: str) -> bool:
    """Carry out a queue; whether nothing failed.  A plan that cannot start does not stop the others."""
    ok, steps, number, runs = True, list(queue), 0, []
    while number < len(steps):
        step, number = steps[number], number + 1
        if len(steps) > 1 and not how.quiet:
            console.rule(f"{number} of {len(steps)}  {escape(step.plan.name)}", align="left", style="dim")
        try:
            done = _run(step, how, command)
        except lattice.LatticeError as problem:
            if len(queue) == 1:
                raise
            show_problem(problem)
            ok = False
            continue
        runs.append(done)
        if done.interrupted:
            break
        ok = ok and done.ok
        try:
            steps += lattice.added_to(done)  # from another terminal
        except lattice.LatticeError as problem:
            show_problem(problem)
            ok = False
    if len(steps) > 1 and not how.quiet:
        say_all(runs)
    for unsent in queue.tell(runs, all_began=len(runs) == len(steps)):
        console.print(unsent)
    if runs and runs[-1].interrupted:
        raise typer.Exit(_code_of(runs[-1]))
    return ok


def _code_of(done: lattice.Run) -> int:
    """The exit code of a run that was interrupted: by which signal."""
    return 128 + (done.signal or 2)


_COUNTDOWN = 30  # seconds


def _and_then(queue: lattice.Queue, conduct: Mapping[str, Any]) -> None:
    """Run the command the last plan that has one names for afterwards, with time to call it off."""
    command = queue.after(**conduct)
    if not command:
        console.print("--and-then: neither the queue nor a plan of it names a command in after:")
        return
    console.print(f"in {_COUNTDOWN} s: {escape(' '.join(command))}   (Ctrl-C calls it off)")
    try:
        time.sleep(_COUNTDOWN)
    except KeyboardInterrupt:
        console.print("called off")
        return
    try:
        code = subprocess.run(command, check=False).returncode
    except OSError as problem:
        raise lattice.RunError(f"{command[0]} cannot be started: {problem.strerror}.") from problem
    if code:
        raise lattice.RunError(f"{command[0]} ended with code {code}.")


def _go_on(after: float | None, command: str) -> bool:
    """Ask whether to go on after the first frames; without a terminal the answer is no, or the run waits."""
    console.print("[bold]the first frame of every cell is done; look at the sheet[/bold]")
    if after is not None:
        console.print(f"going on in {duration(after)}; Ctrl-C stops here")
        time.sleep(after)
        return True
    if sys.stdin is not None and sys.stdin.isatty() and typer.confirm("render the rest?", default=True):
        return True
    next_step(command)
    return False


def proof(
    plans: PlanFiles = None,
    at: At = None,
    sets: SetOf = None,
    settings: SetOption = None,
    edits: EditOption = None,
    workers: Workers = None,
    into: Into = None,
    frames: Annotated[
        str, typer.Option("--frames", help="Which of each cell: first, or first,middle,last in a strip.")
    ] = "first",
) -> None:
    """One small, quick frame of each cell, on a labelled sheet.

    The plan's quality `proof` is laid over everything it says, where it has one.

    Example:  glat proof --at light=evening
    """
    for step in open_queue(plans, settings, at, sets, edits):
        quick, folder = step.plan.proofing(), into or step.plan.proof_folder
        how = _How(read_frames(frames), workers, folder, allow_missing=True, conduct=step.plan.hurried)
        command = f"glat proof{arguments(plans or (), at, sets, settings, into, edits)}"
        done = _run(replace(step, plan=quick), how, command)
        if done.interrupted:
            raise typer.Exit(_code_of(done))
        shown = None if frames == "first" else how.frames
        sheets = quick.review(at=step.at, sets=step.sets, into=folder, frames=shown)
        result_tables.show_files(sheets, "wrote")
        if not done.ok:
            raise typer.Exit(1)
    next_step(f"glat run{arguments(plans or (), at, sets, edits=edits)}")


def _run(step: lattice.Step, how: _How, next_run: str) -> lattice.Run:
    """Check, say what will be done, do it with bars, and say how it went."""
    from grandlattice.cli.progress_bars import RunBars  # what it follows takes half a second to load

    plan = step.plan
    block = plan.conducted(**how.conduct)  # what the call says of run: is right, before anything is done
    conduct = {**how.conduct, "threads": None, "workers": None}
    existing: Any = "replace" if how.fresh else how.conduct.get("existing")
    # What is done needs no check where it is not rendered again.
    is_kept = block.existing == "skip" and not (how.fresh or how.further)
    is_done = is_kept and plan.is_done(at=step.at, sets=step.sets, frames=how.frames, into=how.into)
    findings = [] if is_done else plan.check(
        at=step.at, sets=step.sets, into=how.into, allow_missing=how.allow_missing, existing=existing
    )  # fmt: skip
    bad = [finding for finding in findings if finding.gravity == "error"]
    if bad or not how.quiet:
        result_tables.show_findings(bad or [finding for finding in findings if finding.gravity == "warning"])
    if bad:
        raise lattice.RunError(
            f"Nothing of {plan.name} was rendered: {many(len(bad), 'thing')} to mend first.",
            cure="mend what is listed above and give the same command again",
        )
    count = plan.default_workers(**how.conduct) if how.workers is None else how.workers
    threads = block.threads if "threads" in how.conduct else None
    bars: list[RunBars] = []
    composing = ComposingBar(how.quiet)

    def on_outlook(outlook: lattice.Outlook) -> None:
        if not how.quiet:
            console.print(f"[dim]{escape(saved(plan))}[/dim]")
            whole = plan.totals(at=step.at, sets=step.sets)
            say_whole(whole, how.frames is not None, places_of(plan, how.into))
            say_outlook(outlook, count, how.further, block.keeps_replaced, block.on)
        if how.why:
            result_tables.show_traces(
                plan.traces(at=step.at, sets=step.sets, frames=how.frames, into=how.into)
            )
        bars.append(RunBars(outlook, max(1, count), how.quiet))

    def on_estimate(estimate: lattice.Estimate) -> None:
        say_estimate(estimate, block.budget)

    def on_event(event: lattice.Event) -> None:
        bars[0].start()
        bars[0].follow(event)

    if plan.meters and not how.quiet:
        say_meters()
    try:
        done = plan.run(
            at=step.at, sets=step.sets, workers=count if block.on == "local" else how.workers,
            threads=threads, frames=how.frames, into=how.into, fresh=how.fresh,
            allow_missing=how.allow_missing, on_event=on_event, on_composing=composing, on_outlook=on_outlook,
            on_estimate=None if how.quiet else on_estimate, further=how.further,
            trust_network=how.trusts,
            **{key: value for key, value in conduct.items() if value is not None},
        )  # fmt: skip
    finally:
        composing.stop()
        for bar in bars:
            bar.stop()
    if not how.quiet or not done.ok:
        say_end(done, next_run, how.continued, places_of(plan, how.into))
        if done.finished and block.budget.rate:
            hours = sum(event.result.seconds * event.result.cores for event in done.finished) / 3600.0
            console.print(f"it cost {price(hours * block.budget.rate, block.budget.currency)}")
    return done


def demo(
    folder: Annotated[Path, typer.Argument(help="Where to write it.")] = Path("orrery-room"),
) -> None:
    """Write the orrery room with its plan, render it small, and say where to look.

    Example:  glat demo my-demo
    """
    from grandlattice.demo import write_demo  # it loads USD

    started = time.monotonic()
    console.print(f"[bold]1[/bold]  writing the orrery room, scene and plan, to {escape(str(folder))} …")
    with lattice.tracer_prepared_aside():
        if not lattice.tracer_is_prepared():
            console.print("   meanwhile compiling the tracer for this machine, once …")
        file = write_demo(folder)
    opened = lattice.open_plan(file)
    console.print(f"[bold]2[/bold]  the plan multiplies to {many(len(opened.cells), 'cell')}: "
                  + " × ".join(axis.name for axis in opened.lattice.axes))  # fmt: skip
    console.print("[bold]3[/bold]  checking, then rendering small, on all processors")
    done = _run(lattice.Step(opened), _How(conduct=opened.hurried), f"glat run {quoted(file)}")
    if done.interrupted:
        raise typer.Exit(_code_of(done))
    if not done.ok:
        raise typer.Exit(1)
    sheets = opened.review()
    console.print(f"[bold]4[/bold]  done in {duration(time.monotonic() - started)}. Look at:")
    for sheet in sheets:
        console.print(f"   [bold]{escape(str(folder / sheet.name))}[/bold]  all cells on one sheet")
    console.print(
        f"   {escape(str(folder / 'renders'))}  the pictures, PNG to look at and EXR with all passes"
    )
    console.print(f"   {escape(str(file))}  the plan that made them, to change and run again")
    next_step("glat cells" if folder == Path() else f"cd {quoted(folder)} && glat cells")


def continue_(
    plans: PlanFiles = None,
    at: At = None,
    sets: SetOf = None,
    settings: SetOption = None,
    edits: EditOption = None,
    workers: Workers = None,
    into: Into = None,
    until: Until = None,
    on: On = None,
    trust_network: TrustNetwork = False,
    conduct: Conduct = None,
) -> None:
    """Take frames to their full quality that the setting seconds ended.

    Settings and folder are those of the run that it ended.

    Example:  glat continue --at light=evening
    """
    queue = open_queue(plans, settings, at, sets, edits)
    said = conduct_of(None, until, conduct, on)
    how = _How(None, workers, into, conduct=said, further=True, trusts=trust_network)
    given = arguments(plans or (), at, sets, settings, into, edits) + _conducted(conduct, on, trust_network)
    if not _run_steps(queue, how, f"glat continue{given}"):
        raise typer.Exit(1)
    next_step(_review(plans, at, sets, into))
