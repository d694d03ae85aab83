"""The folder of a page: what it is told, small pictures on atlases, pixels to look into.

Everything is a script or a picture, so that a browser opens it from the disk.  What is there and has not
changed is not written again; files of an earlier page that are not needed any more are removed.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial
from importlib import resources
from io import BytesIO
from itertools import groupby
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from grandlattice._support.filesystem import is_link
from grandlattice.errors import ImageError, OutputError
from grandlattice.images import read_attributes, read_channels, read_marks
from grandlattice.page.pixel_packing import pack
from grandlattice.runs import FolderStore
from grandlattice.runs.camera_facts import CAMERA_MARKS, CameraFacts

THUMB = 160, 90
"""Width and height of a small picture, pixels."""
ROW = 10
"""Small pictures in a row of an atlas, and rows of one."""

_BEHIND = 63, 63, 63
_MOST_SMALL = 1000
_SMALL: dict[str, Image.Image] = {}  # small pictures by their state, the latest last
_MANIFEST = "written.json"
_OWN = "grand lattice page 1"
_BUNDLE = ("index.html", "page.js", "page.css")


class Thumbnail(NamedTuple):
    """A small picture: how it is read, (H, W, 4) float32 as displayed, and what it depends on."""

    read: Callable[[], NDArray[np.float32]]
    state: str


class PixelSource(NamedTuple):
    """Pixels of a pass that the page may look into.

    Attributes
    ----------
    key : of the pixels on the page.
    file, channels : where they are read from.
    kind : see `pixel_packing.pack`.
    names : of passes of ids: whether the names they stand for are told, too.
    """

    key: str
    file: Path
    channels: tuple[str, ...]
    kind: str
    names: bool = False


@dataclass(frozen=True)
class PageFiles:
    """What came of writing a page.

    Attributes
    ----------
    index : the file to open.
    written, unchanged : how many files were written, and how many were as they should be.
    left_out : how many pictures have no pixels to look into, for the size of the folder.
    unreadable : files that could not be read, and why.
    on_demand : by their keys, what may be looked into and is no file: see `pixel_script`.
    """

    index: Path
    written: int = 0
    unchanged: int = 0
    left_out: int = 0
    unreadable: tuple[tuple[Path, str], ...] = ()
    on_demand: Mapping[str, PixelSource] = field(default_factory=dict)


def write_page(
    folder: Path, told: Mapping[str, Any], shaders: Sequence[object], explanations: Mapping[str, object],
    thumbnails: Sequence[Thumbnail], pixels: Sequence[PixelSource], most_bytes: float | None = 2e9,
) -> PageFiles:  # fmt: skip
    """Write a page into a folder.

    Parameters
    ----------
    told : what the page shows: cells, axes, passes; see `api.page_contents`.
    shaders : of each display, see `images.display_shader`.
    explanations : of each cell by its address, see `api.page_contents`.
    thumbnails : of the cells, in their order.
    pixels : the most important first.
    most_bytes : that pixels may take; None: they are not written, but made when they are asked for.

    Raises
    ------
    OutputError
        When the folder holds files of others, or cannot be written.
    """
    page = _Folder(folder)
    for number, at in enumerate(range(0, len(thumbnails), ROW * ROW)):
        part = thumbnails[at : at + ROW * ROW]
        page.put(f"small/{number}.jpg", [each.state for each in part], partial(_atlas, part))
    explained = list(explanations.items())
    for number, at in enumerate(range(0, len(explained), ROW * ROW)):
        page.put_script(f"why/{number}.js", "why", dict(explained[at : at + ROW * ROW]))
    if most_bytes is None:
        kept = [source.key for source in pixels]
        page.keep_pixels(pixels)
    else:
        kept = page.put_pixels(pixels, most_bytes)
    page.put_script("told.js", "told", {**told, "pixels": kept, "thumb": {"size": THUMB, "row": ROW}})
    page.put_script("shade.js", "shade", list(shaders))
    for name in _BUNDLE:
        data = (resources.files(__package__) / "bundle" / name).read_bytes()
        page.put(name, hashlib.sha256(data).hexdigest(), partial(bytes, data))
    page.end()
    return PageFiles(
        folder / "index.html",
        page.written,
        page.unchanged,
        len(pixels) - len(kept),
        tuple(page.unreadable),
        {source.key: source for source in pixels} if most_bytes is None else {},
    )


class _Folder:
    """A folder that pages are written to, with what an earlier page left there."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._store = folder, FolderStore(folder)
        self._before = self._read(folder)
        self._now: dict[str, list[Any]] = {}
        self.written = self.unchanged = 0
        self.unreadable: list[tuple[Path, str]] = []

    @staticmethod
    def _read(folder: Path) -> dict[str, list[Any]]:
        """The files an earlier page wrote: state and size of each."""
        if folder.is_symlink() or (folder.exists() and not folder.is_dir()):
            raise OutputError(f"{folder.name} is in the way, and is no page.", cure="move it away")
        try:
            told = json.loads((folder / _MANIFEST).read_text("utf-8"))
        except (OSError, ValueError):
            told = {}
        if told.get("what") == _OWN:
            return dict(told["files"])
        if folder.exists() and any(folder.iterdir()):
            raise OutputError(
                f"{folder.name} has files in it that are no page.",
                cure="move it away, or name another folder",
            )
        return {}

    def _has(self, path: str, digest: str) -> bool:
        """Whether a file is as it should be."""
        known = self._before.get(path)
        if known is None or known[0] != digest or self._store.is_link(path):
            return False
        return self._store.size(path) == known[1]

    def put(self, path: str, state: object, make: Callable[[], bytes]) -> int:
        """Write a file unless it is there in this state; returns its size."""
        digest = _digest(state)
        if self._has(path, digest):
            self.unchanged += 1
            self._now[path] = self._before[path]
            return int(self._before[path][1])
        return self._write(path, digest, make())

    def _write(self, path: str, digest: str, data: bytes) -> int:
        full = self._store.path(path)  # which refuses links among its folders
        try:
            full.parent.mkdir(parents=True, exist_ok=True)
            part = full.with_name(f".{full.name}.part")
            part.write_bytes(data)
            part.replace(full)
        except OSError as problem:
            raise OutputError(f"{full} cannot be written: {problem.strerror or problem}") from None
        self.written += 1
        self._now[path] = [digest, len(data)]
        return len(data)

    def put_script(self, path: str, call: str, *arguments: object) -> int:
        """Write a script that hands arguments to the page."""
        data = f"PAGE.{call}({', '.join(map(_script_text, arguments))});\n".encode()
        return self.put(path, hashlib.sha256(data).hexdigest(), lambda: data)

    def put_pixels(self, sources: Sequence[PixelSource], most: float) -> list[str]:
        """Write the scripts of pixels as long as there is room; returns the keys of those that are there."""
        kept = []
        for source, size in self._put_all(sources):
            if size > most:
                self._before[_script_of(source)] = self._now.pop(_script_of(source))  # removed in the end
                break
            most -= size
            kept.append(source.key)
        return kept

    def keep_pixels(self, sources: Iterable[PixelSource]) -> None:
        """Leave scripts of pixels that an earlier page wrote where they are as they should be."""
        for source in sources:
            path = _script_of(source)
            if path in self._before and self._has(path, _digest(_state_of(source))):
                self._now[path] = self._before[path]

    def _put_all(self, sources: Sequence[PixelSource]) -> Iterator[tuple[PixelSource, int]]:
        """Write the scripts of pixels, those of one file together; yields each with its size."""
        waiting: deque[tuple[list[PixelSource], Future[list[bytes]] | None]] = deque()
        groups = [list(group) for _, group in groupby(sources, key=lambda source: source.file)]
        at_once = max(2, os.cpu_count() or 1)
        with ThreadPoolExecutor(at_once) as pool:
            for group in groups:
                fresh = all(self._has(_script_of(each), _digest(_state_of(each))) for each in group)
                waiting.append((group, None if fresh else pool.submit(_packed, group)))
                if len(waiting) > 2 * at_once:
                    yield from self._landed(*waiting.popleft())
            while waiting:
                yield from self._landed(*waiting.popleft())

    def _landed(
        self, group: list[PixelSource], made: Future[list[bytes]] | None
    ) -> Iterator[tuple[PixelSource, int]]:
        try:
            scripts = [b""] * len(group) if made is None else made.result()
        except ImageError as problem:
            self.unreadable.append((group[0].file, problem.what))
            return
        for source, script in zip(group, scripts, strict=True):
            yield source, self.put(_script_of(source), _state_of(source), partial(bytes, script))

    def end(self) -> None:
        """Write down what was written, and remove what an earlier page wrote besides."""
        told = {"what": _OWN, "files": self._now}
        self._write(_MANIFEST, "", json.dumps(told, separators=(",", ":")).encode())
        for path in self._before.keys() - self._now.keys() - {_MANIFEST}:
            with suppress(OutputError):
                full = self._store.path(path)
                if not is_link(full):
                    full.unlink(missing_ok=True)


def pixel_script(source: PixelSource) -> bytes:
    """The script of the pixels of a pass.

    Raises
    ------
    ImageError
        When its file cannot be read.
    """
    return _packed([source])[0]


def _script_of(source: PixelSource) -> str:
    return f"px/{source.key}.js"


def _state_of(source: PixelSource) -> list[object]:
    """What a script of pixels depends on."""
    try:
        stat = source.file.stat()
    except OSError:
        return [str(source.file)]
    told = [source.file.name, stat.st_size, stat.st_mtime_ns]
    return [*told, list(source.channels), source.kind, source.names]


def _packed(group: Sequence[PixelSource]) -> list[bytes]:
    """The scripts of some passes of one file."""
    wanted = [channel for source in group for channel in source.channels]
    values = read_channels(group[0].file, list(dict.fromkeys(wanted)))
    places = {channel: k for k, channel in enumerate(dict.fromkeys(wanted))}
    marks = read_marks(group[0].file, CAMERA_MARKS)
    camera = CameraFacts.from_marks(dict(zip(CAMERA_MARKS, marks, strict=True)))
    said = {"stops": camera.stops} if camera.stops else {}
    lens = {"lens": camera[1:]} if camera.focal_length else {}
    scripts = []
    for source in group:
        pixels = values[..., [places[channel] for channel in source.channels]]
        if source.kind == "half" and pixels.shape[2] == 4 and (pixels[..., 3] == 1.0).all():
            pixels = pixels[..., :3]  # nothing of it is clear
        packed = pack(pixels, source.kind)
        told: dict[str, object] = {**packed.told, **said, **lens}
        if source.names:
            told["names"] = _names_in(source, pixels)
        scripts.append(f'PAGE.put("{source.key}", {_script_text(told)}, "{packed.data}");\n'.encode())
    return scripts


def _names_in(source: PixelSource, pixels: NDArray[np.float32]) -> dict[str, str]:
    """Of a pass of ids the names of those in it: id in hexadecimal digits → name."""
    said = read_attributes(source.file, "cryptomatte/")
    name = source.channels[0].partition(".")[0].rstrip("0123456789")
    key = next((key for key, value in said.items() if key.endswith("/name") and value == name), None)
    if key is None:
        return {}
    there = {
        f"{number:08x}"
        for number in np.unique(np.ascontiguousarray(pixels[..., 0::2]).view(np.uint32)).tolist()
    }
    manifest = json.loads(said[key.removesuffix("name") + "manifest"])
    return {number: path for path, number in manifest.items() if number in there}


def _atlas(thumbnails: Sequence[Thumbnail]) -> bytes:
    """Small pictures side by side, as JPEG."""
    width, height = THUMB
    rows = -(-len(thumbnails) // ROW)
    sheet = Image.new("RGB", (width * min(ROW, len(thumbnails)), height * rows), _BEHIND)
    for number, thumbnail in enumerate(thumbnails):
        picture = _SMALL.get(thumbnail.state) or _small(thumbnail)
        if picture is None:
            continue
        left = number % ROW * width + (width - picture.width) // 2
        sheet.paste(picture, (left, number // ROW * height + (height - picture.height) // 2))
    stream = BytesIO()
    sheet.save(stream, "JPEG", quality=85)
    return stream.getvalue()


def _small(thumbnail: Thumbnail) -> Image.Image | None:
    """A small picture, which is kept for the next page of this process; None where there is none."""
    shown = thumbnail.read()
    if not shown.size:
        return None
    grey = np.float32(0.25) * (1.0 - shown[..., 3:])  # what is clear
    colour = shown[..., :3] * shown[..., 3:] + grey
    picture = Image.fromarray((np.clip(colour, 0.0, 1.0) * 255.0 + 0.5).astype(np.uint8))
    picture.thumbnail(THUMB, Image.Resampling.LANCZOS)
    if thumbnail.state:
        _SMALL[thumbnail.state] = picture
        while len(_SMALL) > _MOST_SMALL:
            del _SMALL[next(iter(_SMALL))]
    return picture


def _script_text(value: object) -> str:
    """A value as it may stand in a script: JSON in which nothing can end the script or a line."""
    text = json.dumps(value, ensure_ascii=False, separators=(",", ":"))
    for letter in ("<", ">", "&", "\u2028", "\u2029"):
        text = text.replace(letter, f"\\u{ord(letter):04x}")
    return text.encode("utf-8", "backslashreplace").decode()


def _digest(state: object) -> str:
    return hashlib.blake2b(json.dumps(state, default=str).encode(), digest_size=12).hexdigest()
