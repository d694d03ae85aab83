"""What can be wrong with the plan itself, its files, and what it asks of this machine."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator

from grandlattice.checks.finding import ERROR, NOTE, WARNING, Checked, Finding, from_error
from grandlattice.errors import LatticeError
from grandlattice.plan.cell_settings import DEFAULT_OUTPUT, Cell
from grandlattice.plan.schema import Bundle, EachAxis, SweepAxis
from grandlattice.plan.spelled_values import Size
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.purposes import PURPOSES


def check_files(checked: Checked) -> Iterator[Finding]:
    """Two pictures with one file, names that cannot be, files in the way, a folder that cannot be
    written to."""
    try:
        checked.filing.refuse_collisions()
    except LatticeError as problem:
        yield from_error(problem)
    if checked.read_too:
        path = checked.read_too[0][0]
        more = f" and {len(checked.read_too) - 1} more" if len(checked.read_too) > 1 else ""
        yield Finding(
            ERROR, f"{path}{more} would be written over, and the scene or the plan reads it.",
            str(checked.cells[0].origins.get("output", "")),
            "change the output template; nothing the scene is made of is ever replaced",
            tuple(dict.fromkeys(address for _, address in checked.read_too)),
        )  # fmt: skip
    read = {path for path, _ in checked.read_too}
    for owner in dict.fromkeys(owner for path, owner in checked.in_the_way if path not in read):
        files = [path for path, whose in checked.in_the_way if whose == owner and path not in read]
        more = f" and {len(files) - 1} more" if len(files) > 1 else ""
        made = f"the plan {owner} made it" if owner else "no run of this plan made it"
        yield Finding(
            ERROR, f"{files[0]}{more} stands where a picture will be, and {made}.", "",
            "put {plan} into the output templates of both plans, or name another folder with --into"
            if owner
            else "move it away, change the output template, or replace it with --fresh",
        )  # fmt: skip
    unsaid = [cell.address for cell in checked.cells if "output" not in cell.origins]
    if unsaid:
        yield Finding(
            NOTE, f"No output is said; pictures go to {DEFAULT_OUTPUT} beside the plan.", "",
            "write output: under defaults; require: [output] makes it an error to forget it", tuple(unsaid),
        )  # fmt: skip
    for link, leads in checked.links:
        yield Finding(NOTE, f"{link.name} is a link; pictures go to {leads}.", str(link))
    if checked.astray is not None:
        yield from_error(checked.astray)
    if checked.facilities.unwritable:
        yield Finding(
            ERROR, checked.facilities.unwritable, "",
            "change its permissions, or name another folder with --into",
        )  # fmt: skip


def check_room(checked: Checked) -> Iterator[Finding]:
    """Whether the disk has room for the files."""
    free = checked.facilities.free_bytes
    try:
        needed = checked.filing.totals().bytes
    except LatticeError:
        return  # `check_files` says it
    if free is not None and needed > free:
        yield Finding(
            ERROR,
            f"The files need about {needed / 1e9:.1f} GB and the disk has {free / 1e9:.1f} GB left.",
            "", "make room, or name another folder with --into",
        )  # fmt: skip


def check_extent(checked: Checked) -> Iterator[Finding]:
    """Say so where not every cell could be looked at."""
    if checked.total > len(checked.cells):
        yield Finding(
            NOTE,
            f"Of {checked.total:,} cells {len(checked.cells):,} were looked at one by one: the first ones, "
            "and one at least for every entry and every rule. Names of files were checked for all.",
        )


def check_regions(checked: Checked) -> Iterator[Finding]:
    """Regions of which only a part lies in the picture."""
    cut: dict[str, list[Cell]] = {}
    for cell in checked.cells:
        if cell.settings.region_cut:
            cut.setdefault(str(cell.origins.get("region", "")), []).append(cell)
    for place, cells in cut.items():
        yield Finding(
            WARNING,
            f"The region reaches beyond the picture of {cells[0].settings.size}; the rest is rendered.",
            place, "write left top right bottom in pixels of the size", tuple(cell.address for cell in cells),
        )  # fmt: skip


def check_editions(checked: Checked) -> Iterator[Finding]:
    """Editions that ask for more pixels than are traced, or than what they are for can use."""
    for name, edition in checked.model.editions.items():
        place = f"the edition {name}"
        purpose = None if edition.purpose is None else PURPOSES[edition.purpose]
        asked = edition.size_of(Size(1, 1)).ppi
        if purpose is not None and asked is not None and asked > purpose.most:
            yield Finding(
                NOTE, f"The edition {name} has {asked:g} pixels an inch; {edition.purpose} can use "
                f"{purpose.most:g}.", place, f"ppi: {purpose.usual:g} is enough",
            )  # fmt: skip
        smaller = []
        for cell in checked.cells:
            traced, wanted = cell.settings.size, edition.size_of(cell.settings.size)
            if traced.width < wanted.width and traced.height < wanted.height:
                smaller.append(cell)
        if smaller:
            traced, wanted = smaller[0].settings.size, edition.size_of(smaller[0].settings.size)
            yield Finding(
                NOTE, f"The edition {name} is {wanted}, larger than the {traced} that is traced; it shows no "
                "more than that.", place, f"size: {wanted}, for these cells",
                tuple(cell.address for cell in smaller),
            )  # fmt: skip


def check_rivals(checked: Checked) -> Iterator[Finding]:
    """Settings that two axes speak of, and which of them wins."""
    speakers: dict[str, dict[str, str]] = {}
    for axis, options in zip(checked.lattice.axes, checked.lattice.sayings.options, strict=True):
        for saying in options:
            for key, _, place in saying.settings:
                if key not in ("take", "passes", "skip", "camera"):
                    speakers.setdefault(key, {}).setdefault(axis.name, str(place))
    for key, axes in speakers.items():
        if len(axes) > 1:
            *losers, winner = axes
            yield Finding(
                NOTE, f"Both {' and '.join(losers)} and {winner} say {key}; where they meet, {winner} wins.",
                axes[winner], "",
            )  # fmt: skip


def check_machine(checked: Checked) -> Iterator[Finding]:
    """What the plan asks that this machine does not have."""
    asking = [cell for cell in checked.cells if cell.settings.denoise]
    if asking and not checked.facilities.can_denoise:
        yield Finding(
            WARNING,
            "The plan asks to denoise and denoising is not installed; pictures stay as traced.",
            str(asking[0].origins.get("denoise", "")),
            checked.facilities.how_to_denoise,
        )
    for cell in checked.cells:
        layered = any(FORMATS[each].layered for each in cell.settings.format)
        if not cell.settings.keep_noisy:
            continue
        if cell.settings.is_outside:
            why, cure = f"{cell.settings.renderer} draws it, and what it gives is kept as it is", ""
        elif layered and "beauty" in cell.settings.passes:
            continue
        else:
            why, cure = (
                "it has no OpenEXR file with the beauty",
                "add exr to its formats and beauty to its passes, or ",
            )
        place = str(cell.origins.get("keep_noisy", ""))
        yield Finding(
            WARNING, f"{cell.address} keeps no noisy picture: {why}.", place, f"{cure}leave keep-noisy out"
        )
        break
    for cell in checked.cells:
        wrong = checked.facilities.wrong_displays.get(cell.settings.display or "")
        if wrong:
            yield Finding(ERROR, wrong, str(cell.origins.get("display", "")))


def check_renderers(checked: Checked) -> Iterator[Finding]:
    """Outside renderers whose program is not there; addresses of notices that are not set."""
    for wanted in dict.fromkeys(cell.settings.renderer for cell in checked.cells):
        name, _, version = wanted.partition(" ")
        if name not in checked.model.renderers:
            continue
        renderer = checked.model.renderers[name]
        program = renderer.command[0].replace("{executable}", renderer.executable(version or None) or "")
        beside = os.sep in program and (checked.folder / program).is_file()
        if not beside and shutil.which(program) is None:
            yield Finding(
                ERROR, f"The renderer {wanted} has no program {program} on this machine.",
                f"renderers: {name}", "check its command and executables",
            )  # fmt: skip
    for notice in checked.model.run.notices:
        if notice.to.startswith("$") and notice.to[1:] not in os.environ:
            yield Finding(
                WARNING, f"A notice goes to {notice.to}, and the environment has no {notice.to[1:]}.",
                "run: notices", "set it before the run, or no notice is sent",
            )  # fmt: skip


def check_unused(checked: Checked) -> Iterator[Finding]:
    """Takes, qualities, materials and selections that nothing uses."""
    model = checked.model
    bundles: list[Bundle] = list(model.takes.values())
    for axis in model.axes.values():
        if isinstance(axis, EachAxis):
            bundles += [axis, *axis.with_.values()]
        elif isinstance(axis, SweepAxis):
            bundles += [*list(axis.made.values())[:1], *axis.with_.values()]
        else:
            bundles += axis.values()
    bundles += [rule for rule in model.rules if isinstance(rule, Bundle)]
    used_takes = {name for bundle in bundles for name in bundle.use or ()}
    if any(isinstance(axis, EachAxis) and axis.each == "takes" for axis in model.axes.values()):
        used_takes |= set(model.takes)
    used_qualities = {settings.quality for settings in [model.defaults, *bundles]}
    texts: set[str] = set()
    materials: set[str] = set()
    for bundle in bundles:
        for edit in bundle.edits:
            for key in ("on", "except_", "light", "to", "shadow"):
                texts |= {str(text) for text in getattr(edit.body, key, None) or ()}
            materials.add(getattr(edit.body, "material", ""))
    texts |= {axis.among for axis in model.axes.values() if isinstance(axis, EachAxis) and axis.among}
    texts |= {text for named in model.select.values() for text in named}
    for kind, names, used in (
        ("take", model.takes, used_takes), ("quality", model.qualities, used_qualities),
        ("material", model.materials, materials), ("selection", model.select, texts),
    ):  # fmt: skip
        for name in names:
            if name not in used and (kind, name) != ("quality", "proof"):  # glat proof uses it
                yield Finding(NOTE, f"Nothing uses the {kind} {name}.")
