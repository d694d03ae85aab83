"""Boards as PNG, by Pillow, and as PDF with vector text, by reportlab; both with the same letters."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from pathlib import Path

import reportlab.rl_config
from PIL import Image, ImageDraw
from PIL.PngImagePlugin import PngInfo
from reportlab.lib.utils import ImageReader
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFError, TTFont
from reportlab.pdfgen import canvas

from grandlattice.images.letters import FONT, Letters, parts_of
from grandlattice.review.board_layout import Picture, Sheet

reportlab.rl_config.useA85 = False  # bytes as they are: letters for them are made in Python, and slowly
_COLOURS = {"ink": "#1b1f22", "faint": "#5c6468", "warning": "#a4480f"}
_PAPER, _EMPTY = "#ffffff", "#e9e7e2"
_QUALITY = 92
_RIGHT_TO_LEFT = re.compile("[\u0590-\u08ff]+(?:\\s+[\u0590-\u08ff]+)*")

PictureOf = Callable[[str], Image.Image]
"""The picture of a cell, by its address."""


@cache
def _register(font: Path) -> str:
    """The name of a font in PDF files; that of the one that comes along where it cannot be in any."""
    name = f"letters {font.stem}"
    try:
        pdfmetrics.registerFont(TTFont(name, str(font)))
    except TTFError:
        return _register(FONT)
    return name


def width_of(text: str, size: float) -> float:
    """How wide a text is, in the unit of its size."""
    return float(sum(pdfmetrics.stringWidth(part, _register(font), size) for font, part in parts_of(text)))


def draw_pdf(
    path: Path, sheets: Sequence[Sheet], size: tuple[float, float], picture_of: PictureOf, density: float,
    facts: Mapping[str, str],
) -> None:  # fmt: skip
    """Write a board as PDF; its words can be selected.

    Parameters
    ----------
    size : of a sheet, points.
    density : most pixels a point of the pictures.
    facts : title, author, subject and keywords of the file.
    """
    page = canvas.Canvas(str(path), pagesize=size, pageCompression=1, invariant=1)
    page.setTitle(facts.get("title", ""))
    page.setSubject(facts.get("subject", ""))
    page.setKeywords(facts.get("keywords", ""))
    for sheet in sheets:
        for place in sheet.pictures:
            bottom = size[1] - place.y - place.height
            if not place.is_there:
                page.setFillColor(_EMPTY)
                page.rect(place.x, bottom, place.width, place.height, stroke=0, fill=1)
                continue
            stream = io.BytesIO()
            picture = picture_of(place.address)
            if picture.width > place.width * density:  # a smaller one is enlarged by the reader
                picture = _fitted(picture, place, density)
            picture.save(stream, "JPEG", quality=_QUALITY)
            stream.seek(0)
            page.drawImage(ImageReader(stream), place.x, bottom, place.width, place.height)
        for words in sheet.words:
            page.setFillColor(_COLOURS[words.kind])
            x = words.x
            for font, part in parts_of(words.text):
                page.setFont(_register(font), words.size)
                page.drawString(x, size[1] - words.y, _as_seen(part))
                x += pdfmetrics.stringWidth(part, _register(font), words.size)
        page.showPage()
    page.save()


def _as_seen(text: str) -> str:
    """A text with words of Hebrew and Arabic letters in the order they are seen: the PDF library sets letters
    from left to right."""
    return _RIGHT_TO_LEFT.sub(lambda found: found[0][::-1], text)


def draw_png(
    path: Path, sheet: Sheet, size: tuple[float, float], picture_of: PictureOf, density: float,
    facts: Mapping[str, str],
) -> None:  # fmt: skip
    """Write one sheet of a board as PNG; parameters as in `draw_pdf`."""
    told = PngInfo()
    for name, text in facts.items():
        told.add_itxt(name, text)
    ppi = density * 72.0
    drawn(sheet, size, picture_of, density).save(path, "PNG", pnginfo=told, dpi=(ppi, ppi))


def drawn(sheet: Sheet, size: tuple[float, float], picture_of: PictureOf, density: float) -> Image.Image:
    """One sheet of a board as pixels; parameters as in `draw_pdf`."""
    whole = Image.new("RGB", (round(size[0] * density), round(size[1] * density)), _PAPER)
    draw = ImageDraw.Draw(whole)
    for place in sheet.pictures:
        left, top = round(place.x * density), round(place.y * density)
        if place.is_there:
            whole.paste(_fitted(picture_of(place.address), place, density), (left, top))
        else:
            right, bottom = left + round(place.width * density), top + round(place.height * density)
            draw.rectangle((left, top, right, bottom), fill=_EMPTY)
    for words in sheet.words:
        at = words.x * density, words.y * density
        Letters(round(words.size * density)).write(draw, at, words.text, _COLOURS[words.kind], anchor="ls")
    return whole


def _fitted(picture: Image.Image, place: Picture, density: float) -> Image.Image:
    size = max(1, round(place.width * density)), max(1, round(place.height * density))
    return picture if picture.size == size else picture.resize(size, Image.Resampling.LANCZOS)
