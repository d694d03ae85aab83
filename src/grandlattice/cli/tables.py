"""Tables of the command line: what the public interface returned, laid out."""

from __future__ import annotations

from pathlib import Path

from rich import box
from rich.markup import escape
from rich.table import Table

from grandlattice import Cell, Finding, Plan, Survey
from grandlattice.cli.words import console, many, short

_MARKS = {
    "error": "[bold red]✗ error[/bold red]",
    "warning": "[yellow]! warning[/yellow]",
    "note": "[dim]· note[/dim]",
}


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
        lights.add_row(escape(light.path), light.kind, f"{light.nits:,.3g}", remark)
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
    for kind, count in survey.undrawn.items():
        console.print(f"  [yellow]![/yellow] {many(count, kind)} will not be seen: the tracer draws meshes")
    for path, reason in survey.unknown_materials.items():
        console.print(f"  [yellow]![/yellow] {escape(path)} is drawn grey: its surface is {escape(reason)}")
    for problem in survey.problems:
        console.print(f"  [yellow]![/yellow] {escape(problem)}")


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
            "": str(cell.index + 1), "cell": escape(cell.address), "size": str(settings.size),
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
