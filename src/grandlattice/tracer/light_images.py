"""Images of lights as tables: what kernels read a dome or a rect by, and draw directions in a dome by.

A dome's image, averaged to a grid of at most 256×128 and smoothed as it is when it is read, gives rows and
columns their chances.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.mipmaps import srgb_to_linear

_LUMA = np.array([0.2126, 0.7152, 0.0722])


Tables = Mapping[str, NDArray]


def _dome_grid(texels: NDArray[np.float32]) -> tuple[NDArray[np.float32], ...]:
    """Cumulated chances of rows (h + 1,) and, within rows, of cells (h, w + 1), a guide to each
    of the same shape, and the chances (h, w).

    The chances are kept besides the sums, whose differences lose the faintest cells.
    """
    brightness = texels.astype(np.float64) @ _LUMA
    height, width = brightness.shape
    grid_height, grid_width = min(max(height, 32), 128), min(max(width, 64), 256)
    if height > grid_height or width > grid_width:
        row_edges = np.linspace(0, height, grid_height + 1).astype(int)[:-1]
        column_edges = np.linspace(0, width, grid_width + 1).astype(int)[:-1]
        sums = np.add.reduceat(np.add.reduceat(brightness, row_edges, 0), column_edges, 1)
        counts = np.add.reduceat(np.add.reduceat(np.ones_like(brightness), row_edges, 0), column_edges, 1)
        brightness = sums / counts
    else:
        brightness = brightness[np.arange(grid_height) * height // grid_height]
        brightness = brightness[:, np.arange(grid_width) * width // grid_width]
    return _grid_of(brightness)


def _grid_of(brightness: NDArray[np.float64]) -> tuple[NDArray[np.float32], ...]:
    """The tables of `_dome_grid` from the brightness of cells."""
    grid_height = len(brightness)
    # The mean of the bilinear image over each texel: no bright texel is left without a chance.
    padded = np.pad(brightness, ((1, 1), (0, 0)), "edge")
    tall = 0.75 * brightness + 0.125 * (padded[:-2] + padded[2:])
    brightness = 0.75 * tall + 0.125 * (np.roll(tall, 1, 1) + np.roll(tall, -1, 1))
    brightness = np.maximum(brightness, 1e-3 * brightness.mean() + 1e-12)
    latitude = (np.arange(grid_height) + 0.5) / grid_height * np.pi
    weight = brightness * np.sin(latitude)[:, None]
    along_row = np.concatenate([np.zeros((grid_height, 1)), np.cumsum(weight, 1)], 1)
    over_rows = np.concatenate([[0.0], np.cumsum(along_row[:, -1])])
    over_rows, along_row = over_rows / over_rows[-1], along_row / along_row[:, -1:]
    over_rows, along_row = over_rows.astype(np.float32), along_row.astype(np.float32)
    guides = guide_to(over_rows[None])[0], guide_to(along_row)
    found = over_rows, along_row, *guides, weight / weight.sum()
    return tuple(np.ascontiguousarray(array, np.float32) for array in found)


def guide_to(steps: NDArray[np.float32]) -> NDArray[np.float32]:
    """Where to look in cumulated tables (n, count + 1): the step that holds i / count, each i.

    Whatever lies between i / count and (i + 1) / count is then held by one of few steps
    (Chen and Asau, "On generating random variates from an empirical distribution", 1974).
    """
    count = steps.shape[1] - 1
    marks = np.arange(count + 1, dtype=np.float32) / np.float32(count)
    held = [np.searchsorted(row, marks, "right") - 1 for row in steps]
    return np.minimum(held, count - 1).astype(np.float32)


def dome_tables(pixels: NDArray) -> dict[str, NDArray[np.float32]]:
    """What a dome with this image is seen and sampled by, under the names of `LIGHT`.

    `pixels` is (H, W, C) uint8 or float32, top row first.
    """
    image = linear_image(pixels)
    mean = np.array(_mean_of_sky(image), np.float32)
    return {"mean": mean, "texels": closed_image(image), **dict(zip(_GRID, _dome_grid(image), strict=True))}


_GRID = ("rows", "cells", "row_guide", "cell_guide", "chances")  # in the order of `_dome_grid`

_BRIGHT = 30.0  # times as bright as the sky on average are cells of a sun

_WIDEST_SUN = 8.0  # degrees from its middle

_LEAST_OF_SUN = 0.03  # of the light of the sky, at least: a fainter one is not worth rays of its own


def turned_sky_tables(pixels: NDArray) -> dict[str, NDArray[np.float32]]:
    """What a sky that is turned in several ways is seen by, and its sun drawn by, under the names of `LIGHT`.

    The sun is all that lies within some angle of the middle of its brightest cells; it is drawn apart from
    the rest of the sky, since a direction in the rest serves all ways the sky is turned, and one in the sun
    only its own.  `rest` is the brightness of cells without the sun, for `mixture_tables`.
    """
    tables = dome_tables(pixels)
    chances = tables["chances"].astype(np.float64)
    height, width = chances.shape
    towards = _cell_directions(height, width)
    area = np.sin((np.arange(height) + 0.5) / height * np.pi)[:, None]
    brightness = chances / area
    bright = brightness > _BRIGHT * np.average(brightness.mean(axis=1), weights=area[:, 0])
    middle = (towards * (chances * bright)[..., None]).sum(axis=(0, 1))
    length = float(np.linalg.norm(middle))
    axis, cosine, sun = np.array([0.0, 1.0, 0.0]), 2.0, np.zeros_like(bright)
    if length > 0.0:
        axis = middle / length
        beside = towards @ axis
        cell = math.pi / min(height, width // 2)
        widest = math.acos(np.clip(beside[bright].min(), -1.0, 1.0)) + cell
        if math.degrees(widest) <= _WIDEST_SUN and chances[beside > math.cos(widest)].sum() > _LEAST_OF_SUN:
            cosine, sun = math.cos(widest), beside > math.cos(widest + 1.5 * cell)
    of_sun = np.where(sun, chances, 0.0) / max(chances[sun].sum(), 1e-300)
    kept = {name: tables[name] for name in ("mean", "texels")}
    found = {
        "sun_steps": np.concatenate([[0.0], np.cumsum(of_sun[sun])]), "sun_cells": np.flatnonzero(sun),
        "sun_chances": of_sun, "sun_axis": axis, "sun_cosine": np.array(cosine),
        "rest": np.where(_in_sun(towards, axis, cosine), 0.0, brightness),
    }  # fmt: skip
    return kept | {name: np.ascontiguousarray(array, np.float32) for name, array in found.items()}


def _in_sun(towards: NDArray, axis: NDArray, cosine: float) -> NDArray[np.bool_]:
    """Which directions lie in the sun."""
    return np.asarray(towards @ axis > cosine)


def _cell_directions(height: int, width: int) -> NDArray[np.float64]:
    """(H, W, 3) the middle of each cell of a sky, in the sky's own axes; see `light_sampling`."""
    v = (np.arange(height)[:, None] + 0.5) / height * np.pi
    turn = (0.5 - (np.arange(width) + 0.5) / width) * 2.0 * np.pi
    return np.stack(
        [np.sin(v) * np.sin(turn), np.cos(v) + 0.0 * turn, np.sin(v) * np.cos(turn)], axis=-1
    )  # fmt: skip


def mixture_tables(
    rest: Sequence[NDArray], axes: NDArray, weights: NDArray, turns: NDArray | None = None
) -> dict[str, NDArray[np.float32]]:  # fmt: skip
    """What directions are drawn by that serve a sky in all the ways it is turned, in the axes of the first.

    Parameters
    ----------
    rest : for each way the (H, W) brightness of its cells.
    axes : (N, 3, 3) the axes of each way, in rows.
    weights : (N,) how bright each way is.
    turns : (N,) parts of a turn about the first one's pole, where it is that of all; else None.
    """
    height, width = rest[0].shape
    towards = _cell_directions(height, width) @ axes[0]
    whole = np.zeros((height, width))
    for k, (image, own, weight) in enumerate(zip(rest, axes, weights, strict=True)):
        if turns is not None:
            column = (np.arange(width) + int(turns[k] * width + 0.5)) % width
            whole += weight * image[:, column]
            continue
        x, y, z = np.moveaxis(towards @ own.T, -1, 0)
        column = ((0.5 - np.arctan2(x, z) / (2.0 * np.pi)) * width).astype(int) % width
        line = np.minimum((np.arccos(np.clip(y, -1.0, 1.0)) / np.pi * height).astype(int), height - 1)
        whole += weight * image[line, column]
    return dict(zip(_GRID, _grid_of(whole), strict=True))


def rect_tables(pixels: NDArray) -> dict[str, NDArray[np.float32]]:
    """What a rect with this image is seen by, under the names of `LIGHT`; `pixels` as in `dome_tables`."""
    image = linear_image(pixels)
    return {"mean": np.array((image @ _LUMA).mean(), np.float32), "texels": closed_image(image)}


def closed_image(image: NDArray[np.float32]) -> NDArray[np.float32]:
    """An image whose first column stands behind its last one, too."""
    return np.concatenate([image, image[:, :1]], axis=1)


TURNED = "turned sky"

TABLES: Mapping[str, Callable[[NDArray], Tables]] = {
    "dome": dome_tables, "rect": rect_tables, TURNED: turned_sky_tables,
}  # fmt: skip
"""Kinds of lights that may have an image → what is worked out of it."""


def tables_of(kind: str, pixels: NDArray) -> Tables:
    """What is worked out of the image of a light."""
    return TABLES[kind](pixels)


def _mean_of_sky(texels: NDArray[np.float32]) -> float:
    """Brightness of a sky's image, on average over all directions."""
    latitude = (np.arange(len(texels)) + 0.5) / len(texels) * np.pi
    return float(np.average((texels @ _LUMA).mean(axis=1), weights=np.sin(latitude)))


def linear_image(pixels: NDArray) -> NDArray[np.float32]:
    if pixels.dtype == np.uint8:
        pixels = srgb_to_linear(pixels / 255.0).astype(np.float32)
    if pixels.shape[2] < 3:
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    # An infinite texel (a badly stored sun) would make every pixel infinite.
    return np.clip(np.nan_to_num(pixels[..., :3], posinf=65504.0), 0.0, None).astype(np.float32)
