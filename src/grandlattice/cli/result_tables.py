"""Tables of the command line: what the public interface returned, laid out."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich import box
from rich.markup import escape
from rich.table import Table

from grandlattice._support.readable import number
from grandlattice.cli.terminal_text import console, many, short

if TYPE_CHECKING:
    from grandlattice import Cell, CellSettings, Explanation, Finding, Pass, Plan, SharedTrace, Survey

_MOST_ROWS, _MOST_COLUMNS = 40, 60  # of a matrix in the terminal
_MOST_TRACES = 40
_MARKS = {
    "error": "[bold red]✗ error[/bold red]",
    "warning": "[yellow]! warning[/yellow]",
    "note": "[dim]· note[/dim]",
}


def _size(settings: CellSettings) -> str:
    """The size of the picture, and the part of it that is rendered."""
    if settings.region is None:
        return str(settings.size)
    left, top, right, bottom = settings.region
    return f"{settings.size}, of it {right - left}x{bottom - top} at {left} {top}"


def _table(*columns: str) -> Table:
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="dim")
    for column in columns:
        numeric = column in ("nits", "triangles", "frames", "aspect")
        table.add_column(column, justify="right" if numeric else "left", overflow="fold")
    return table


def show_survey(survey: Survey) -> None:
    """A scene at a glance."""
    frames = f"frames {survey.frames[0]}–{survey.frames[1]}" if survey.frames else "no frame range"
    console.print(
        f"[bold]{escape(survey.file.name)}[/bold]  {survey.up_axis} up, one unit is "
        f"{survey.metres_per_unit:g} m, {frames} at {survey.frames_per_second:g} a second"
    )
    kinds = ", ".join(f"{many(n, kind.lower())}" for kind, n in survey.objects.items())
    console.print(
        f"{kinds or 'nothing to draw'}; {many(survey.triangles, 'triangle')}; "
        f"{many(len(survey.materials), 'material')}"
    )
    cameras = _table("camera", "aspect", "projection", "lens")
    for camera in survey.cameras:
        lens = f"f/{camera.f_stop:g}" if camera.f_stop else "all in focus"
        lens += f", exposed by {camera.stops:+.1f} stops" if abs(camera.stops) > 0.005 else ""
        cameras.add_row(escape(camera.path), f"{camera.aspect:.2f}", camera.projection, lens)
    console.print(cameras if survey.cameras else "[yellow]no camera[/yellow]")
    lights = _table("light", "kind", "nits", "")
    for light in survey.lights:
        remark = (
            ""
            if light.lit and light.known
            else "[dim]off[/dim]"
            if light.known
            else "[yellow]left out[/yellow]"
        )
        lights.add_row(escape(light.path), light.kind, number(light.nits, 3), remark)
    console.print(lights if survey.lights else "[yellow]no light[/yellow]")
    if survey.variants:
        variants = _table("prim", "variant set", "variants, the chosen first")
        for path, sets in survey.variants.items():
            for name, names in sets.items():
                variants.add_row(escape(path), escape(name), escape(", ".join(names)))
        console.print(variants)
    missing = [asset for asset in survey.assets if not asset.found]
    console.print(
        f"{many(len(survey.assets), 'file')} asked for, "
        + ("all there" if not missing else f"[red]{len(missing)} missing[/red]")
    )
    for asset in missing:
        console.print(f"  [red]✗[/red] {escape(asset.file)}  [dim]{escape(asset.prim)}[/dim]")
    for what, prims in survey.omitted.items():
        shown = ", ".join(prims[:4]) + (f" and {len(prims) - 4} more" if len(prims) > 4 else "")
        console.print(f"  [yellow]![/yellow] {escape(what)}: {escape(shown)}")
    for path, reason in survey.unknown_materials.items():
        console.print(f"  [yellow]![/yellow] {escape(path)} is drawn grey: its surface is {escape(reason)}")
    for problem in survey.problems:
        console.print(f"  [yellow]![/yellow] {escape(problem)}")


def show_traces(traces: Iterable[SharedTrace]) -> None:
    """What the cells of each trace have in common, and why the next is another one."""
    shown = list(islice(traces, _MOST_TRACES + 1))
    for k, trace in enumerate(shown[:_MOST_TRACES], 1):
        held = ", ".join(f"{axis} {entry}" for axis, entry in trace.in_common.items()) or "no axis in common"
        count = len(trace.frames)
        held += f" · {trace.frames[0]}" if count == 1 else f" · {many(count, 'frame')}"
        what = many(len(trace.cells), "cell")
        what += f" that differ in {' and '.join(trace.differ)}" if trace.differ else ""
        what += f", {trace.films} different pictures of light" if trace.films > 1 else ""
        console.print(f"[bold]{k:3}[/bold]  {escape(held)}: {escape(what)}")
        if trace.unlike is not None:
            why = f"     [dim]another trace than {trace.unlike + 1}:[/dim] {escape('; '.join(trace.because))}"
            console.print(why)
    if len(shown) > _MOST_TRACES:
        console.print("[dim]… and more; narrow them with --at[/dim]")


def show_cells(plan: Plan, cells: list[Cell]) -> None:
    """Cells in the order they run; what is the same for all is said once, below."""
    rows = []
    for cell in cells:
        settings = cell.settings
        frames = (
            str(settings.frames[0])
            if len(settings.frames) == 1
            else f"{settings.frames[0]} … {settings.frames[-1]} ({len(settings.frames)})"
        )
        files = plan.files(cell)
        try:
            first = files[0].relative_to(plan.folder)
        except ValueError:
            first = files[0]
        more = f" +{len(files) - 1}" if len(files) > 1 else ""
        rows.append({
            "": str(cell.index + 1), "cell": escape(cell.address), "size": _size(settings),
            "frames": frames, "passes": " ".join(settings.passes),
            "first file": escape(str(first)) + f"[dim]{more}[/dim]",
        })  # fmt: skip
    same = {
        name: rows[0][name]
        for name in ("size", "frames", "passes")
        if len(rows) > 1 and len({row[name] for row in rows}) == 1
    }
    columns = [name for name in ("", "cell", "size", "frames", "passes", "first file") if name not in same]
    table = _table(*columns)
    for row in rows:
        table.add_row(*(row[name] for name in columns))
    console.print(table)
    for name, value in same.items():
        console.print(f"[dim]{name} of all[/dim]  {value}")
    shown = {ext for cell in cells for ext in plan.shows_beauty_only(cell)}
    if shown:
        console.print(f"[dim]exr holds every pass; {' and '.join(sorted(shown))} shows the beauty[/dim]")


def show_matrix(plan: Plan) -> None:
    """For every two axes, which of their entries meet: all cells of a meeting, some, or none."""
    axes = plan.lattice.axes
    shown = [axis for axis in axes if len(axis.options) > 1]
    if len(shown) < 2:
        console.print("one axis or none has a choice, so there is nothing to multiply")
        return
    console.print("[dim]how many cells have both: █ the most  ▒ fewer  · none[/dim]")
    for k, down in enumerate(shown):
        for across in shown[k + 1 :]:
            counts = plan.combinations(down.name, across.name)
            most = int(counts.to_numpy().max())
            if most and (counts.to_numpy() == most).all():
                console.print(f"\n[bold]{escape(down.name)} × {escape(across.name)}[/bold]  all meet")
                continue
            console.print(f"\n[bold]{escape(down.name)} × {escape(across.name)}[/bold]")
            _show_meetings(counts, most)


def _show_meetings(counts: Any, most: int) -> None:
    rows, columns = list(counts.index)[:_MOST_ROWS], list(counts.columns)
    label = min(24, max(len(name) for name in rows))
    wide = len(columns) <= 12
    width = max(8, *(len(name) + 2 for name in columns)) if wide else 1
    if wide:
        console.print(" " * (label + 2) + "".join(f"{name:<{width}}" for name in columns), markup=False)
    for name in rows:
        numbers = counts.loc[name].to_numpy()
        marks = ["█" if n == most else "▒" if n else "·" for n in numbers]
        if wide:
            marks = [f"{mark} {n}" if n else mark for mark, n in zip(marks, numbers, strict=True)]
        line = "".join(f"{mark:<{width}}" for mark in marks[:_MOST_COLUMNS])
        more = " …" if len(marks) > _MOST_COLUMNS else ""
        console.print(f"{name[:label]:<{label}}  {line}{more}", markup=False)
    if len(counts.index) > _MOST_ROWS:
        console.print(f"[dim]… and {len(counts.index) - _MOST_ROWS} more[/dim]")


def show_passes(passes: Sequence[Pass]) -> None:
    """A row for each pass."""
    table = Table(box=None, header_style="dim", pad_edge=False, padding=(0, 2, 0, 0))
    for name in ("pass", "channels", "value", "costs"):
        table.add_column(name, no_wrap=name in ("pass", "channels"))
    for each in passes:
        first, *others = each.channels
        stem = first.rpartition(".")[0]
        channels = " ".join([first, *(other.removeprefix(stem) if stem else other for other in others)])
        if len(others) > 3:
            channels = f"{first} … {others[-1]}"
        name = f"[bold]{escape(each.name)}[/bold]"
        table.add_row(name, escape(channels), escape(each.meaning), escape(each.cost))
    console.print(table)


def show_explanation(told: Explanation) -> None:
    """Values of a cell with who set them; what lost is struck through."""
    other = f" against {escape(told.compared)}" if told.compared else ""
    console.print(f"[bold]{escape(told.cell)}[/bold]{other}")
    if not told.changes and not told.settings:
        console.print("nothing differs" if told.compared else "nothing is laid over the scene")
    prim = None
    for change in (*told.changes, *told.settings):
        if change.prim != prim:
            prim = change.prim
            console.print(f"\n[bold]{escape(prim) or 'settings'}[/bold]")
        before = f"{escape(change.before)} → " if change.before and change.before != change.after else ""
        value = f"  {escape(change.name)}  [dim]{before}[/dim][bold]{escape(change.after)}[/bold]"
        if len(change.opinions) == 1:
            (opinion,) = change.opinions
            console.print(f"{value}  [dim]{escape(opinion.source)}  {escape(opinion.place)}[/dim]")
            continue
        console.print(value)
        for opinion in change.opinions:
            who = f"{escape(opinion.source)}  [dim]{escape(opinion.place)}[/dim]"
            value = escape(opinion.value)
            if opinion.wins:
                console.print(f"      [green]✓[/green] {value}  {who}")
            else:
                console.print(f"      [dim]  [strike]{value}[/strike]  {who}[/dim]")
    for path, what_happened, place in told.notes:
        console.print(
            f"\n[dim]·[/dim] {escape(path)}: {escape(what_happened)}  [dim]{escape(str(place))}[/dim]"
        )


def show_findings(findings: list[Finding]) -> None:
    """Findings in order of gravity, each with its cure."""
    for finding in findings:
        console.print(f"{_MARKS[finding.gravity]}  {escape(finding.what)}")
        if finding.place:
            console.print(f"     [dim]where[/dim]  {escape(finding.place)}")
        if finding.cells:
            more = f" and {len(finding.cells) - 3} more" if len(finding.cells) > 3 else ""
            console.print(f"     [dim]cells[/dim]  {escape(', '.join(finding.cells[:3]))}{more}")
        if finding.cure:
            console.print(f"     [dim]do[/dim]     {escape(finding.cure)}")


def show_files(files: list[Path], what: str) -> None:
    """Files that were written."""
    for file in files:
        console.print(f"{what}  [bold]{escape(short(file))}[/bold]")
