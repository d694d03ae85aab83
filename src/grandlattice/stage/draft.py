"""A first plan for a scene, from what the survey found: ready to run, with comments to edit by."""

from __future__ import annotations

import json
import re
from pathlib import Path

from grandlattice.errors import SceneError
from grandlattice.plan import RESERVED, distinct_names
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
    scene = _text(_relative(survey.file, plan_file.parent))
    names = distinct_names(camera.path for camera in survey.cameras)
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
            lines += [f"      {names[c.path]}: {{size: {_size(c.aspect)}}}" for c in sized]
    else:
        lines += [
            "  camera:",
            f"    {names[survey.cameras[0].path]}:",
            f"      camera: {survey.cameras[0].path}",
        ]
    lines += [
        "",
        "# rules:                       # what drops or amends cells after the axes are multiplied",
        "#   - drop: {camera: " + names[survey.cameras[-1].path] + "}",
        "",
    ]
    return "\n".join(lines)


def _light_axis(survey: Survey) -> list[str]:
    lit = [light for light in survey.lights if light.lit and light.known]
    lines = ["  light:", "    asis:                      # the scene's own lighting"]
    names = distinct_names(light.path for light in lit)
    if len(lit) > 1:
        for light in lit[:3]:
            others = [other.path for other in lit if other is not light]
            lines += [f"    only-{names[light.path]}:", "      edits:"]
            lines += [f"        - hide: {path}" for path in others]
    elif lit:
        lines += ["    dimmed:", "      edits:", "        - multiply:", f"            on: {lit[0].path}",
                  "            intensity: 0.25"]  # fmt: skip
    return lines


def _variant_sets(survey: Survey) -> dict[str, tuple[str, str, list[str]]]:
    """Axis name → prim, variant set and variants, for each set that gives a choice."""
    axes: dict[str, tuple[str, str, list[str]]] = {}
    for path, sets in survey.variants.items():
        for name, variants in sets.items():
            axis = re.sub(r"\W", "_", name)
            if axis in RESERVED or axis in ("light", "camera"):
                axis += "_set"
            if axis not in axes and len(variants) > 1:
                axes[axis] = (path, name, variants)
    return axes


def _variant_axes(survey: Survey) -> list[str]:
    lines: list[str] = []
    for axis, (path, name, variants) in _variant_sets(survey).items():
        lines.append(f"  {axis}:")
        for variant in variants:
            lines += [f"    {_text(variant)}:", "      edits:", "        - choose:"]
            lines += [f"            on: {path}", f"            {_text(name)}: {_text(variant)}"]
    return lines


def _output(survey: Survey) -> str:
    middle = "".join(f"-{{{axis}}}" for axis in _variant_sets(survey))
    return f'"renders/{{light}}/{{camera}}{middle}.{{frame:04d}}.{{ext}}"'


def _size(aspect: float) -> str:
    if aspect <= 0:
        aspect = 16 / 9
    longest = 1280
    width, height = (longest, longest / aspect) if aspect >= 1 else (longest * aspect, longest)
    return f"{round(width / 2) * 2}x{round(height / 2) * 2}"


def _text(words: str) -> str:
    """Words as YAML takes them: in quotes where they are not plain."""
    plain = re.fullmatch(r"[\w./][\w./ -]*", words) and not words.endswith(" ")
    return words if plain else json.dumps(words, ensure_ascii=False)


def _relative(file: Path, folder: Path) -> str:
    try:
        return file.resolve().relative_to(folder.resolve()).as_posix()
    except ValueError:
        return str(file.resolve())
