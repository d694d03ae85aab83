"""What a display shows, as a program for a graphics processor: the steps of `to_display` and of grades."""

from __future__ import annotations

import base64
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import PyOpenColorIO as ocio

from grandlattice.errors import ImageError
from grandlattice.images.colour import CONFIG, SOURCE, find_display
from grandlattice.images.grading import MIDDLE_GREY

FUNCTION = "shown_on_display"


@dataclass(frozen=True)
class DisplayShader:
    """A function ``vec4 shown_on_display(vec4)`` in GLSL ES 3.0, from scene-linear light to displayed light.

    Attributes
    ----------
    text : of the program, without its version line.
    textures : tables it reads: sampler, width, height, channels, whether the nearest value is taken, and the
        values, float32 in base64.
    """

    text: str
    textures: tuple[dict[str, str | int | bool], ...]


@lru_cache(maxsize=16)
def display_shader(display: str | None, *, graded: bool) -> DisplayShader:
    """The program of a display.

    Parameters
    ----------
    display : see `find_display`.
    graded : with a grade between exposure and display, whose values are uniforms of the program.

    Raises
    ------
    ImageError
        When there is no such display, or it takes a table of three dimensions.
    """
    name, view = find_display(display)
    steps: list[ocio.Transform] = _dynamic_grade() if graded else []
    steps.append(ocio.DisplayViewTransform(src=SOURCE, display=name, view=view))
    # A cache of processors would hand out the one of other values: it does not look at those that change.
    config = ocio.Config.CreateFromBuiltinConfig(CONFIG)
    config.setProcessorCacheFlags(ocio.PROCESSOR_CACHE_OFF)
    program = ocio.GpuShaderDesc.CreateShaderDesc(
        language=ocio.GPU_LANGUAGE_GLSL_ES_3_0, functionName=FUNCTION
    )
    config.getProcessor(ocio.GroupTransform(steps)).getDefaultGPUProcessor().extractGpuShaderInfo(program)
    if list(program.get3DTextures()):
        raise ImageError(f"{name} / {view} takes a table that a page cannot hold.")
    textures = tuple(
        {
            "sampler": table.samplerName, "width": table.width, "height": table.height,
            "channels": 1 if table.channel == ocio.GpuShaderDesc.TEXTURE_RED_CHANNEL else 3,
            "nearest": table.interpolation == ocio.INTERP_NEAREST,
            "values": base64.b64encode(np.asarray(table.getValues(), "<f4").tobytes()).decode(),
        }
        for table in program.getTextures()
    )  # fmt: skip
    return DisplayShader(program.getShaderText(), textures)


def _dynamic_grade() -> list[ocio.Transform]:
    """The operations of `grading.transforms_of`, with values that can change."""
    exposure = ocio.ExposureContrastTransform(ocio.EXPOSURE_CONTRAST_LINEAR, 0.0, 1.0, 1.0, MIDDLE_GREY)
    exposure.makeExposureDynamic()
    exposure.makeContrastDynamic()
    primary, tone = ocio.GradingPrimary(ocio.GRADING_LIN), ocio.GradingTone(ocio.GRADING_LIN)
    return [
        exposure,
        ocio.GradingPrimaryTransform(primary, ocio.GRADING_LIN, True),
        ocio.GradingToneTransform(tone, ocio.GRADING_LIN, True),
    ]


@lru_cache(maxsize=16)
def display_table(display: str | None, edge: int = 33, stops: tuple[float, float] = (-10.0, 7.0)) -> str:
    """A table of what a display shows, for pages without a graphics processor.

    Parameters
    ----------
    edge : entries of each channel.
    stops : of the first and the last entry about middle grey; in between they are equal steps of stops.

    Returns
    -------
    (edge, edge, edge, 3) uint8 in base64, blue fastest.
    """
    from grandlattice.images.colour import to_display

    steps = MIDDLE_GREY * 2.0 ** np.linspace(*stops, edge)
    steps[0] = 0.0
    grid = np.stack(np.meshgrid(steps, steps, steps, indexing="ij"), axis=-1).reshape(1, -1, 3)
    light = np.concatenate([grid, np.ones((1, grid.shape[1], 1))], axis=2).astype(np.float32)
    shown = to_display(light, display)[0, :, :3]
    return base64.b64encode((shown * 255.0 + 0.5).astype(np.uint8).tobytes()).decode()
