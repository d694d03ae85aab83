"""A first plan for a scene, from what the survey found: ready to run, with comments to edit by."""

from __future__ import annotations

import itertools
import json
import re
from dataclasses import replace
from pathlib import Path

from pxr import Gf, Usd, UsdGeom

from grandlattice.errors import SceneError
from grandlattice.plan import RESERVED, distinct_names
from grandlattice.plan.spelled_values import PAPERS, paper_size, read_size
from grandlattice.stage.survey import CameraSurvey, Survey
from grandlattice.tables.purposes import PURPOSES

FRAMING = "/Framing/Camera"
_HANDFUL = 24  # cells of a first plan; of more the rest stands there as comments


def draft_plan(survey: Survey, plan_file: Path, *, metered: bool = False) -> tuple[str, str | None]:
    """The text of a plan for the surveyed scene, and of an overlay with a camera where it has none.

    Parameters
    ----------
    metered : let a meter set the exposures.

    Raises
    ------
    SceneError
        When the scene has no camera, and nothing a camera could look at.
    """
    framing = None
    if not survey.cameras:
        framing = _framing(survey)
        aspect = CameraSurvey(FRAMING, 16 / 9, "perspective", 0.0)
        survey = replace(survey, cameras=(aspect,))
    return _plan(survey, plan_file, framing is not None, metered), framing


def framing_file(plan_file: Path) -> Path:
    """Where the overlay with the proposed camera goes."""
    name = plan_file.name.removesuffix(".yaml").removesuffix(".lattice")
    return plan_file.with_name(f"{name}.framing.usda")


def _framing(survey: Survey) -> str:
    """A layer with a camera that sees all of the scene from the front, a little from above."""
    if survey.bounds is None:
        raise SceneError(
            f"{survey.file.name} has no camera, and nothing a camera could look at.",
            cure="add a camera in the program the scene comes from, then run glat begin again",
        )
    low, high = (Gf.Vec3d(*corner) for corner in survey.bounds)
    centre, radius = (low + high) / 2.0, max((high - low).GetLength() / 2.0, 1e-6)
    y_up = survey.up_axis == "Y"
    up = Gf.Vec3d.YAxis() if y_up else Gf.Vec3d.ZAxis()
    view = (Gf.Vec3d(0.5, 0.35, 1.0) if y_up else Gf.Vec3d(0.5, -1.0, 0.35)).GetNormalized()
    aperture, focal_length = (36.0, 20.25), 35.0
    right = Gf.Cross(up, view).GetNormalized()
    above = Gf.Cross(view, right)
    wide, tall = (2.0 * focal_length / side for side in aperture)
    corners = [Gf.Vec3d(*xyz) - centre for xyz in itertools.product(*zip(low, high, strict=True))]
    # As near as all corners of the scene's box stay inside the frame.
    distance = 1.05 * max(max(abs(c * right) * wide, abs(c * above) * tall) + c * view for c in corners)
    distance = max(distance, radius * 1e-3)
    stage = Usd.Stage.CreateInMemory()
    stage.SetTimeCodesPerSecond(survey.time_codes_per_second)
    UsdGeom.SetStageUpAxis(stage, survey.up_axis)
    UsdGeom.SetStageMetersPerUnit(stage, survey.metres_per_unit)
    camera = UsdGeom.Camera.Define(stage, FRAMING)
    looking = Gf.Matrix4d().SetLookAt(centre + view * distance, centre, up).GetInverse()
    camera.AddTransformOp().Set(looking)
    camera.CreateHorizontalApertureAttr(aperture[0])
    camera.CreateVerticalApertureAttr(aperture[1])
    camera.CreateFocalLengthAttr(focal_length)
    camera.CreateFocusDistanceAttr(distance)
    near = max(distance - 2 * radius, distance / 1000)
    camera.CreateClippingRangeAttr(Gf.Vec2f(near, (distance + radius) * 100))
    return str(stage.GetRootLayer().ExportToString())


def _plan(survey: Survey, plan_file: Path, proposed: bool, metered: bool) -> str:
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
        *(["  exposure: metered            # at 0 stops the first look was black or burnt out"] * metered),
        f"  output: {_output(survey)}",
        "",
        "axes:",
    ]
    whole = _is_handful(survey)
    lines += _light_axis(survey, whole)
    lines += _variant_axes(survey, whole)
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
        if proposed:
            lines += [
                "      edits:                   # the scene has no camera; this file proposes one",
                f"        - overlay: {_text(framing_file(plan_file).name)}",
            ]
    lines += [
        "",
        "# rules:                       # what drops or amends cells after the axes are multiplied",
        "#   - drop: {camera: " + names[survey.cameras[-1].path] + "}",
        "",
        *_editions(survey),
    ]
    return "\n".join(lines)


def _editions(survey: Survey) -> list[str]:
    """Editions for usual purposes, and how many times the pixels of the plan each wants."""
    traced = read_size(_size(survey.cameras[0].aspect))
    lines = ["# editions:                    # pictures for a purpose, from what is traced: glat edition"]
    lines.append("#   screen: {purpose: screen, format: jpg}")
    for name in ("ink-jet", "offset"):
        ppi = PURPOSES[name].usual
        paper = paper_size(*PAPERS["A3"], ppi)
        times = paper.width * paper.height / (traced.width * traced.height)
        lines.append(
            f"#   {name}: {{print: {{paper: A3, ppi: {ppi:g}}}, format: tiff}}"
            f"   # trace {paper} for it: {times:.0f} times these pixels"
        )
    return [*lines, ""]


def _is_handful(survey: Survey) -> bool:
    """Whether everything a plan could multiply comes to few cells."""
    lit = sum(light.lit and light.known for light in survey.lights)
    cells = max(1, len(survey.cameras)) * (1 + min(lit, 3) if lit > 1 else 2)
    for _, _, variants in _variant_sets(survey).values():
        cells *= len(variants)
    return cells <= _HANDFUL


def _light_axis(survey: Survey, whole: bool) -> list[str]:
    lit = [light for light in survey.lights if light.lit and light.known]
    if not survey.lights:
        return [
            "  light:", "    sky:                       # the scene has no light; this one is the plan's",
            "      edits:", "        - light:", "            kind: dome", "            name: Sky",
            "            intensity: 1",
        ]  # fmt: skip
    lines = ["  light:", "    asis:                      # the scene's own lighting"]
    names = distinct_names(light.path for light in lit)
    more: list[str] = []
    if len(lit) > 1:
        for light in lit[:3]:
            others = [other.path for other in lit if other is not light]
            more += [f"only-{names[light.path]}:", "  edits:"]
            more += [f"    - hide: {path}" for path in others]
    elif lit:
        more += ["dimmed:", "  edits:", "    - multiply:", f"        on: {lit[0].path}",
                 "        intensity: 0.25"]  # fmt: skip
    if whole:
        return [*lines, *(f"    {line}" for line in more)]
    return lines + _commented(more, "more of it, once # is taken away:")


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


def _variant_axes(survey: Survey, whole: bool) -> list[str]:
    lines: list[str] = []
    for axis, (path, name, variants) in _variant_sets(survey).items():
        lines.append(f"  {axis}:")
        each = [
            [f"{_text(variant)}:", "  edits:", "    - choose:", f"        on: {path}",
             f"        {_text(name)}: {_text(variant)}"]
            for variant in variants
        ]  # fmt: skip
        shown = each if whole else each[:1]
        lines += [f"    {line}" for entry in shown for line in entry]
        lines += _commented([line for entry in each[len(shown) :] for line in entry], "the other variants:")
    return lines


def _commented(lines: list[str], above: str) -> list[str]:
    """Entries of an axis as comments: a first plan makes a handful of cells, and shows what more there is."""
    return [f"    # {above}", *(f"    # {line}" for line in lines)] if lines else []


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
