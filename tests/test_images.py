"""Files as other programs read them, colour through the display, sheets that can be read."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest

from grandlattice.errors import ImageError
from grandlattice.images import (
    Channels,
    Frame,
    find_display,
    make_sheets,
    read_channels,
    read_image,
    read_mark,
    to_display,
    write_display,
    write_exr,
)

FACTS = {
    "lattice:fingerprint": "abc123",
    "lattice:cell": "noon/brass",
    "lattice:seconds": 1.25,
    "lattice:samples": 16,
}


def picture(height: int = 6, width: int = 9, channels: int = 4) -> np.ndarray:
    return np.random.default_rng(1).random((height, width, channels)).astype(np.float32)


@pytest.mark.parametrize("half", [True, False])
def test_exr_keeps_layers_types_windows_and_facts(tmp_path: Path, half: bool) -> None:
    beauty, depth = picture(), picture(channels=1) * 1e4
    beauty[0, 0, 0] = 1e6  # brighter than a half can hold
    depth[0, 0] = np.inf
    file = tmp_path / "a.exr"
    layers = [Channels(("R", "G", "B", "A"), beauty), Channels(("Z",), depth, exact=True),
              Channels(("normal.X", "normal.Y", "normal.Z"), picture(channels=3))]  # fmt: skip
    write_exr(file, layers, FACTS, half=half)
    spec = oiio.ImageInput.open(str(file)).spec()
    assert set(spec.channelnames) == {"R", "G", "B", "A", "Z", "normal.X", "normal.Y", "normal.Z"}
    kinds = {n: str(spec.channelformat(i)) for i, n in enumerate(spec.channelnames)}
    assert kinds["Z"] == "float"
    assert kinds["R"] == kinds["normal.X"] == ("half" if half else "float")
    assert (spec.width, spec.height, spec.full_width, spec.full_height, spec.x, spec.y) == (9, 6, 9, 6, 0, 0)
    assert spec.getattribute("compression") == "zip"
    assert tuple(spec.getattribute("chromaticities"))[:2] == pytest.approx((0.64, 0.33))
    assert spec.getattribute("lattice:samples") == 16
    assert read_mark(file, "fingerprint") == "abc123"
    assert np.array_equal(read_channels(file, ("Z",)), depth)
    got = read_channels(file, ("R", "G", "B", "A"))
    assert got == pytest.approx(np.minimum(beauty, 65504.0 if half else np.inf), rel=1e-3, abs=1e-3)
    with pytest.raises(ImageError, match="no channel albedo"):
        read_channels(file, ("albedo.R",))


@pytest.mark.parametrize("kind", ["exr", "png", "jpg", "tiff"])
def test_the_usual_tools_read_every_file_without_complaint(tmp_path: Path, kind: str) -> None:
    file = tmp_path / f"a.{kind}"
    if kind == "exr":
        write_exr(file, [Channels(("R", "G", "B", "A"), picture())], FACTS)
    else:
        write_display(file, picture(), FACTS, kind=kind, bits=16)
    assert read_mark(file, "fingerprint") == "abc123"
    tools = [["oiiotool", "--info", "-v", str(file)]] + ([["exrheader", str(file)]] if kind == "exr" else [])
    for command in tools:
        if shutil.which(command[0]) is None:
            pytest.skip(f"{command[0]} is not installed")
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        assert done.returncode == 0
        assert not done.stderr
        assert "abc123" in done.stdout


def test_png_keeps_sixteen_bits_and_straight_alpha(tmp_path: Path) -> None:
    pixels = np.tile(np.array([0.5, 0.25, 0.125, 0.5], np.float32), (4, 4, 1))
    write_display(tmp_path / "a.png", pixels, {}, kind="png", bits=16)
    from PIL import Image

    with Image.open(tmp_path / "a.png") as image:
        assert np.asarray(image)[0, 0] == pytest.approx((128, 64, 32, 128), abs=1)


def test_broken_and_missing_images_are_errors(tmp_path: Path) -> None:
    (tmp_path / "text.png").write_text("not a picture")
    for name in ("text.png", "absent.exr"):
        with pytest.raises(ImageError):
            read_image(str(tmp_path / name))
    assert read_mark(tmp_path / "text.png", "fingerprint") is None


def test_exposure_is_stops_of_light_and_displays_are_found_by_part() -> None:
    grey = np.full((2, 2, 4), 0.18, np.float32)
    grey[..., 3] = 1.0
    brighter = grey * (2.0, 2.0, 2.0, 1.0)
    assert to_display(grey, None, 1.0) == pytest.approx(to_display(brighter.astype(np.float32)), abs=1e-5)
    # Un-tone-mapped, the display is plain sRGB: 0.18 is 0.4614 by IEC 61966-2-1.
    assert to_display(grey, "sRGB / un-tone")[0, 0, 0] == pytest.approx(0.4614, abs=2e-3)
    covered = to_display(grey * np.float32(0.5))  # premultiplied, half covered: the same colour
    assert covered[0, 0, :3] == pytest.approx(to_display(grey)[0, 0, :3], abs=1e-5)
    assert find_display("sRGB")[0] == "sRGB - Display"
    with pytest.raises(ImageError, match="There is no display"):
        find_display("nowhere")


def test_a_sheet_holds_every_cell_at_a_size_to_judge_by() -> None:
    frames = [
        Frame(
            f"{a}/{b}/{c}",
            {"light": a, "finish": b, "camera": c},
            np.full((45, 80, 4), (0.6, 0.6, 0.6, 1), np.float32),
        )
        for a in ("noon", "evening", "moon")
        for b in ("brass", "clay")
        for c in ("Wide", "Dial", "Portrait")
    ]
    frames[3] = Frame("noon/clay/Wide", frames[3].coordinates, None, "not rendered")
    (sheet,) = make_sheets("orrery", "18 cells", frames)
    assert sheet.size == (1280, 800)
    pixels = np.asarray(sheet).reshape(-1, 3)
    shown = (np.abs(pixels.astype(int) - 153).max(1) < 3).sum()
    assert shown > 17 * 150 * 84  # each of the seventeen at least that large
    many = [Frame(str(i), {"n": str(i)}, np.ones((9, 16, 4), np.float32)) for i in range(300)]
    assert len(make_sheets("many", "300 cells", many)) > 1
    assert len(make_sheets("one", "1 cell", many[:1])) == 1


@pytest.mark.parametrize("hours", [3, 6, 9, 30])
@pytest.mark.parametrize("shapes", [((9, 16), (10, 8)), ((9, 32), (16, 9)), ((8, 8),)])
def test_no_picture_of_a_sheet_is_cut_off(hours: int, shapes: tuple) -> None:
    frames = [
        Frame(
            f"{h}/{b}/{k}",
            {"hour": str(h), "brightness": str(b), "camera": str(k)},
            np.ones((*shape, 4), np.float32),
        )
        for h in range(hours)
        for b in range(3)
        for k, shape in enumerate(shapes)
    ]
    sheets = [np.asarray(sheet).astype(int) for sheet in make_sheets("day", "cells", frames)]
    for sheet in sheets:
        for edge in (sheet[:, -12:], sheet[-12:], sheet[:, :12]):
            assert (np.abs(edge - edge[0, 0]) <= 1).all()
    white = sum((sheet.min(-1) > 250).sum() for sheet in sheets)
    assert white > len(frames) * 48 * 27  # each of them is there, and of use
