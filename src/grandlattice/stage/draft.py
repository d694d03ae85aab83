"""A first plan for a scene, from what the survey found: ready to run, with comments to edit by."""

from __future__ import annotations

from pathlib import Path

from grandlattice.errors import SceneError
from grandlattice.stage.survey import Survey


def draft_plan(survey: Survey, plan_file: Path) -> str:
    """The text of a plan for the surveyed scene.

    Raises
    ------
    SceneError
        When the scene has no camera to render with.
    """
    if not survey.cameras:
        raise SceneError(
            f"{survey.file.name} has no camera, so there is nothing to render with.",
            cure="add a camera in the program the scene comes from, then run glat begin again",
        )
    scene = _relative(survey.file, plan_file.parent)
    lines = [
        "# A plan: which pictures of one scene are rendered, and how.",
        "# Every axis multiplies the cells; glat cells shows them all.",
        "lattice: 1",
        f"scene: {scene}",
        "",
        "qualities:                     # named bundles of settings",
        "  draft: {samples: 16}",
        "  final: {samples: 256}",
        "",
        "defaults:",
        f"  size: {_size(survey.cameras[0].aspect)}",
        "  scale: 50%                   # the whole matrix at half size; 100% for the last run",
        f"  frames: {survey.frames[0] if survey.frames else 1}"
        + "                    # 12, 1-48, 1-48 by 4, or scene for all of them",
        "  quality: draft",
        "  passes: [beauty, depth]      # also: normal, occlusion, albedo",
        "  format: [exr, png]",
        f"  output: {_output(survey)}",
        "",
        "axes:",
    ]
    lines += _light_axis(survey)
    lines += _variant_axes(survey)
    if len(survey.cameras) > 1:
        lines += ["  camera:", "    each: cameras              # one entry for each camera of the scene"]
        sized = [c for c in survey.cameras if _size(c.aspect) != _size(survey.cameras[0].aspect)]
        if sized:
            lines.append("    with:                      # settings for some of them")
            lines += [f"      {_name(c.path)}: {{size: {_size(c.aspect)}}}" for c in sized]
    else:
        lines += [
            "  camera:",
            f"    {_name(survey.cameras[0].path)}:",
            f"      camera: {survey.cameras[0].path}",
        ]
    lines += [
        "",
        "# rules:                       # what drops or amends cells after the axes are multiplied",
        "#   - drop: {camera: " + _name(survey.cameras[-1].path) + "}",
        "",
    ]
    return "\n".join(lines)


def _light_axis(survey: Survey) -> list[str]:
    lit = [light for light in survey.lights if light.lit and light.known]
    lines = ["  light:", "    asis:                      # the scene's own lighting"]
    if len(lit) > 1:
        for light in lit[:3]:
            others = [other.path for other in lit if other is not light]
            lines += [f"    only-{_name(light.path)}:", "      edits:"]
            lines += [f"        - hide: {path}" for path in others]
    elif lit:
        lines += ["    dimmed:", "      edits:", "        - multiply:", f"            on: {lit[0].path}",
                  "            intensity: 0.25"]  # fmt: skip
    return lines


def _variant_axes(survey: Survey) -> list[str]:
    lines: list[str] = []
    named: set[str] = set()
    for path, sets in survey.variants.items():
        for name, variants in sets.items():
            if name in named or len(variants) < 2 or name in ("light", "camera"):
                continue
            named.add(name)
            lines.append(f"  {name}:")
            for variant in variants:
                lines += [f"    {variant}:", "      edits:", "        - choose:", f"            on: {path}",
                          f"            {name}: {variant}"]  # fmt: skip
    return lines


def _output(survey: Survey) -> str:
    axes = [name for sets in survey.variants.values() for name, v in sets.items() if len(v) > 1]
    middle = "".join(f"-{{{name}}}" for name in dict.fromkeys(axes) if name not in ("light", "camera"))
    return f'"renders/{{light}}/{{camera}}{middle}.{{frame:04d}}.{{ext}}"'


def _size(aspect: float) -> str:
    if aspect <= 0:
        aspect = 16 / 9
    longest = 1280
    width, height = (longest, longest / aspect) if aspect >= 1 else (longest * aspect, longest)
    return f"{round(width / 2) * 2}x{round(height / 2) * 2}"


def _name(path: str) -> str:
    return path.rsplit("/", 1)[-1]


def _relative(file: Path, folder: Path) -> str:
    try:
        return file.resolve().relative_to(folder.resolve()).as_posix()
    except ValueError:
        return str(file.resolve())
