"""What can be wrong with the plan itself, its files, and what it asks of this machine."""

from __future__ import annotations

from collections.abc import Iterator

from grandlattice.checks.finding import ERROR, NOTE, WARNING, Checked, Finding, from_error
from grandlattice.errors import LatticeError
from grandlattice.plan import refuse_collisions
from grandlattice.plan.schema import Bundle, EachAxis

_BYTES = {"exr": 1.0, "png": 2.0, "tiff": 3.0, "jpg": 0.4}  # a pixel, as the demo compresses


def check_files(checked: Checked) -> Iterator[Finding]:
    """Two pictures with one file, names that cannot be, a folder that cannot be written to."""
    try:
        refuse_collisions(checked.cells, "plan", checked.scene.file.stem)
    except LatticeError as problem:
        yield from_error(problem)
    if checked.facilities.unwritable:
        yield Finding(
            ERROR, checked.facilities.unwritable, "",
            "change its permissions, or name another folder with --into",
        )  # fmt: skip


def estimated_bytes(checked: Checked) -> int:
    """Room the files of the run need: an estimate from the size and number of channels."""
    total = 0.0
    for cell in checked.cells:
        pixels = cell.settings.size.width * cell.settings.size.height * len(cell.settings.frames)
        for kind in cell.settings.format:
            channels = 3 * len(cell.settings.passes) if kind == "exr" else 1
            total += pixels * _BYTES[kind] * channels
    return int(total)


def check_room(checked: Checked) -> Iterator[Finding]:
    """Whether the disk has room for the files."""
    free, needed = checked.facilities.free_bytes, estimated_bytes(checked)
    if free is not None and needed > free:
        yield Finding(
            ERROR,
            f"The files need about {needed / 1e9:.1f} GB and the disk has {free / 1e9:.1f} GB left.",
            "", "make room, or name another folder with --into",
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
        wrong = checked.facilities.wrong_displays.get(cell.settings.display or "")
        if wrong:
            yield Finding(ERROR, wrong, str(cell.origins.get("display", "")))


def check_unused(checked: Checked) -> Iterator[Finding]:
    """Takes, qualities, materials and selections that nothing uses."""
    model = checked.model
    bundles: list[Bundle] = list(model.takes.values())
    for axis in model.axes.values():
        bundles += (axis.with_ if isinstance(axis, EachAxis) else axis).values()
    bundles += [rule for rule in model.rules if isinstance(rule, Bundle)]
    used_takes = {name for bundle in bundles for name in bundle.use or ()}
    used_qualities = {settings.quality for settings in [model.defaults, *bundles]}
    texts: set[str] = set()
    materials: set[str] = set()
    for bundle in bundles:
        for edit in bundle.edits:
            texts |= {*getattr(edit.body, "on", ()), *(getattr(edit.body, "except_", None) or ())}
            materials.add(getattr(edit.body, "material", ""))
    texts |= {text for named in model.select.values() for text in named}
    for kind, names, used in (
        ("take", model.takes, used_takes), ("quality", model.qualities, used_qualities),
        ("material", model.materials, materials), ("selection", model.select, texts),
    ):  # fmt: skip
        for name in names:
            if name not in used:
                yield Finding(NOTE, f"Nothing uses the {kind} {name}.")
