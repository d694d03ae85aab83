"""Boards: where things stand on sheets, files with selectable words, made anew only when they have to be."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import pypdf
import pytest
from hypothesis import given, settings, strategies as st
from PIL import Image, ImageDraw

import grandlattice as lattice
from conftest import PLAN
from grandlattice.images import letters
from grandlattice.images.letters import FONT, Letters, parts_of
from grandlattice.images.sheet_layout import with_label
from grandlattice.review.board_drawing import width_of
from grandlattice.review.board_layout import BoardCell, BoardPlan, laid_out

BOARDS = (
    PLAN
    + """\
words: {client: Harbour museum}
boards:
  wall: {title: Light and side, notes: "What the two sides look like by day and by night.", captions: [coordinates, samples, client]}
  screen: {size: 640x400, format: png, across: [light], down: [camera], captions: [size]}
"""
)


@st.composite
def cells(draw: st.DrawFn) -> list[BoardCell]:
    count = draw(st.integers(1, 40))
    words = st.text("abc äß·日", min_size=0, max_size=30)
    return [
        BoardCell(
            f"cell{k}", {"a": f"a{k % 3}", "b": f"b{k // 3}"}, draw(st.floats(0.3, 4.0)),
            tuple(draw(st.lists(words, max_size=3))), draw(st.sampled_from(["", "failed"])), draw(st.booleans()),
        )
        for k in range(count)
    ]  # fmt: skip


@settings(max_examples=60, deadline=None)
@given(
    cells(), st.sampled_from([(1190.0, 842.0), (595.0, 842.0), (1280.0, 800.0), (200.0, 150.0)]),
    st.sampled_from([((), ()), (("a",), ("b",)), (("b",), ()), ((), ("a",)), (("a", "b"), ())]),
)  # fmt: skip
def test_every_picture_stands_once_on_its_sheet_and_over_no_other(
    shown: list[BoardCell], size: tuple[float, float], axes: tuple[tuple[str, ...], tuple[str, ...]]
) -> None:
    sheets = laid_out(BoardPlan(*size, "A title", "and notes", *axes), shown, width_of)
    found = [picture.address for sheet in sheets for picture in sheet.pictures]
    assert sorted(found) == sorted(cell.address for cell in shown)
    aspects = {cell.address: cell.aspect for cell in shown}
    for sheet in sheets:
        for k, a in enumerate(sheet.pictures):
            assert min(a.x, a.y) >= 0
            assert a.width / a.height == pytest.approx(aspects[a.address], rel=1e-3)
            for b in sheet.pictures[:k]:
                apart = (
                    a.x >= b.x + b.width
                    or b.x >= a.x + a.width
                    or a.y >= b.y + b.height
                    or b.y >= a.y + a.height
                )
                assert apart, (a, b)
        if size[0] > 500:
            assert all(p.x + p.width <= size[0] + 1 and p.y + p.height <= size[1] + 1 for p in sheet.pictures)


def test_pictures_are_as_large_as_the_paper_allows() -> None:
    """Thirty-six pictures with a heading each fill more than half of a sheet, on one sheet."""
    shown = [
        BoardCell(f"{k}", {"sky": f"{k:02d}", "mood": m}, 16 / 9, (f"{k}",), "")
        for k in range(18)
        for m in "ab"
    ]
    for axes in (((), ()), (("mood",), ("sky",))):
        (sheet,) = laid_out(BoardPlan(1190.0, 842.0, "Skies", "", *axes), shown, width_of)
        covered = sum(p.width * p.height for p in sheet.pictures) / (1190.0 * 842.0)
        assert covered > 0.5, (axes, covered)


@pytest.mark.long
def test_a_board_has_words_that_can_be_selected_and_is_written_when_it_has_to_be(
    plan_file: Path, glat
) -> None:
    plan_file.write_text(BOARDS)
    code, said = glat(plan_file.parent, "board", "wall")
    assert code == 0, said
    wall = plan_file.parent / "boards/wall.pdf"
    text = pypdf.PdfReader(wall).pages[0].extract_text()
    assert text.count("not rendered") == 4
    plan = lattice.open_plan(plan_file)
    assert plan.run(workers=0).ok  # the board that is there is made anew, the other one not begun
    assert not (plan_file.parent / "boards/screen.png").exists()
    page = pypdf.PdfReader(wall).pages[0]
    text = page.extract_text()
    for word in ("Light and side", "day · Front", "night · Side", "4 samples", "Harbour museum", "by night."):
        assert word in text, text
    assert "not rendered" not in text
    assert len(page.images) == 4
    width, height = (float(side) / 72 * 25.4 for side in page.mediabox[2:])
    assert (width, height) == (pytest.approx(420, abs=0.5), pytest.approx(297, abs=0.5))
    code, said = glat(plan_file.parent, "board")
    assert code == 0, said
    assert "1 file as they should be already" in said
    screen = plan_file.parent / "boards/screen.png"
    with Image.open(screen) as image:
        assert image.size == (640, 400)
    before = wall.read_bytes()
    assert glat(plan_file.parent, "grade", "exposure=1")[0] == 0
    assert wall.read_bytes() != before  # what a grade changed, too
    plan_file.write_text(BOARDS)
    assert lattice.open_plan(plan_file).run(workers=0).ok
    # A cell that changed is marked, and nothing is traced for it.
    plan_file.write_text(BOARDS.replace("samples: 4", "samples: 5"))
    before = {p: p.stat().st_mtime_ns for p in (plan_file.parent / "out").rglob("*.*")}
    assert glat(plan_file.parent, "board", "wall")[0] == 0
    assert pypdf.PdfReader(wall).pages[0].extract_text().count("out of date") == 4
    assert {p: p.stat().st_mtime_ns for p in (plan_file.parent / "out").rglob("*.*")} == before


WORDS = "Möwe Łódź ığő", "Ωμέγα", "Ёжик", "שלום", "سلام", "→ × ½ …"


@pytest.mark.parametrize("words", WORDS)
def test_letters_of_many_scripts_are_in_the_font_that_comes_along(words: str) -> None:
    assert {font for font, _ in parts_of(words)} == {FONT}
    drawn = [Image.new("L", (200, 40)) for _ in range(2)]
    for image, text in zip(drawn, (words, "\uffff" * len(words)), strict=True):
        Letters(20, alone=True).write(ImageDraw.Draw(image), (0, 0), text, "white")
        assert image.getbbox() is not None
    assert drawn[0].tobytes() != drawn[1].tobytes()  # no signs for letters that are missing
    assert Letters(20).length(words) == Letters(20, alone=True).length(words)


def test_letters_that_the_font_lacks_come_from_the_machine_and_labels_are_the_same_on_each(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    def label(words: str) -> bytes:
        return with_label(np.zeros((40, 300, 4), np.float32), words, "").tobytes()

    apart = parts_of("Möwe 夜明け")
    found = [font for font, part in apart if "夜" in part]
    before = label("夜明け")
    if found != [FONT]:  # a font with such letters is installed here
        assert [part for _, part in apart] == ["Möwe ", "夜明け"]
        whole = sum(Letters(20).length(part) for part in ("Möwe ", "夜明け"))
        assert Letters(20).length("Möwe 夜明け") == pytest.approx(whole)
        assert len(parts_of("夜\u0301明")) == 1  # a mark stays with its letter
    monkeypatch.setattr(letters, "_others", lambda: ())
    letters.parts_of.cache_clear()
    letters._font_for.cache_clear()
    assert parts_of("夜明け") == ((FONT, "夜明け"),)
    assert label("夜明け") == before
    letters.parts_of.cache_clear()
    letters._font_for.cache_clear()


def test_boards_refuse_what_is_no_board_and_say_what_is_wrong(plan_file: Path, glat) -> None:
    mine = plan_file.parent / "boards/wall.pdf"
    mine.parent.mkdir()
    mine.write_bytes(b"mine")
    plan_file.write_text(BOARDS)
    code, said = glat(plan_file.parent, "board", "wall")
    assert (code, mine.read_bytes()) == (1, b"mine"), said
    for text, says in (
        ("{paper: A33}", "A3"), ("{paper: A3, size: 64x64}", "only one can count"), ("{across: [lihgt]}", "light"),
        ("{across: [light], down: [light]}", "across and down"), ("{captions: [nosie]}", "noise"),
        ("{pass: dpeth}", "depth"), ("{format: gif}", "pdf"), ("{at: light=dusk}", "dusk"),
        ("{output: ../wall}", "outside"),
    ):  # fmt: skip
        plan_file.write_text(PLAN + f"boards:\n  w: {text}\n")
        code, said = glat(plan_file.parent, "board")
        assert code in (1, 2), (text, said)
        assert says in said, (text, said)
        assert "did not foresee" not in said
    assert "no board wll" in glat(plan_file.parent, "board", "wll")[1]


def test_illuminance_marks_its_brightest_and_darkest_place(plan_file: Path, glat) -> None:
    from grandlattice.images import study_light

    lux = np.full((120, 160, 1), 200.0, np.float32)
    lux[40:60, 100:120] = 900.0
    lux[80:100, 20:40] = 5.0
    lux[0, 0], lux[10, 10], lux[119, :] = 1e6, np.nan, 0.0  # a speck, no number, nothing
    study = study_light(lux, 300.0)
    assert (study.brightest.value, study.darkest.value) == (pytest.approx(900.0), pytest.approx(5.0))
    assert 100 <= study.brightest.x < 120
    assert 40 <= study.brightest.y < 60
    assert 20 <= study.darkest.x < 40
    assert study.above == pytest.approx((20 * 20 + 1) / (120 * 160 - 160 - 1))
    plan_file.write_text(
        PLAN.replace("[beauty, depth]", "[beauty, illuminance]")
        + ("boards:\n  lux: {pass: illuminance, format: png, size: 640x400}\n")
    )
    assert lattice.open_plan(plan_file).run(workers=0).ok
    code, said = glat(plan_file.parent, "review", "--pass", "illuminance", "--above", "10")
    assert code == 0, said
    assert glat(plan_file.parent, "board")[0] == 0


def test_a_board_moves_through_an_axis_or_frames(plan_file: Path, glat) -> None:
    av = pytest.importorskip("av")
    boards = """
boards:
  hours: {size: 200x160, format: [webp, mp4, mov], along: light, across: camera, rate: 4}
  walk: {size: 161x121, format: webp, along: frame, at: day/Front, captions: frame}
  strip: {size: 300x100, format: png, across: frame, at: day/Front}
"""
    plan_file.write_text(PLAN.replace("samples: 4", "samples: 4\n  frames: 1-3") + boards)
    plan = lattice.open_plan(plan_file)
    with pytest.raises(lattice.PlanError, match="There is no board"):
        plan.board("none")
    run = plan.run(workers=0)
    assert run.ok
    written = {path.name for path in run.board("hours", "walk", "strip").written}
    assert written == {"hours.webp", "hours.mp4", "hours.mov", "walk.webp", "strip.png"}
    folder = plan_file.parent / "boards"
    moments = []
    with Image.open(folder / "hours.webp") as moving:
        assert (moving.n_frames, moving.size) == (2, (200, 160))
        for k in range(2):
            moving.seek(k)
            moments.append(np.asarray(moving.convert("RGB"), float))
            assert moving.info["duration"] == 250  # ms, of rate 4
    for kind in ("mp4", "mov"):
        with av.open(str(folder / f"hours.{kind}")) as film:
            frames = [frame.to_ndarray(format="rgb24").astype(float) for frame in film.decode(video=0)]
            assert (len(frames), film.streams.video[0].average_rate) == (2, 4)
        for one, other in zip(frames, moments, strict=True):
            assert np.abs(one - other).mean() < 4.0
    assert np.abs(moments[0] - moments[1]).mean() > 1.0
    with Image.open(folder / "walk.webp") as moving:
        assert (moving.n_frames, moving.size) == (3, (161, 121))
    again = run.board("hours", "walk", "strip")
    assert (again.written, len(again.unchanged)) == ((), 5)
    for wrong, says in (
        ("{format: webp}", "say through what"),
        ("{along: light}", "say a format"),
        ("{along: light, format: webp, across: light}", "cannot go across or down as well"),
        ("{along: hour, format: webp}", "There is no axis hour"),
        ("{along: light, format: webp, size: 40x40}", "do not fit on one sheet"),
    ):
        plan_file.write_text(PLAN + f"boards: {{bad: {wrong}}}\n")
        code, said = glat(plan_file.parent, "board", "bad")
        assert (code, says in said) == (2, True), said


def test_boards_follow_a_run_as_its_frames_arrive(plan_file: Path) -> None:
    plan_file.write_text(PLAN + "boards: {wall: {size: 300x200, format: png}}\n")
    plan = lattice.open_plan(plan_file)
    wall = plan.board("wall").written[0]
    empty, seen = wall.read_bytes(), list[bytes]()

    def hear(event: lattice.Event) -> None:
        if isinstance(event, lattice.Finished) and not seen:
            end = time.monotonic() + 30.0
            while wall.read_bytes() == empty:
                assert time.monotonic() < end
                time.sleep(0.05)
            seen.append(wall.read_bytes())

    assert plan.run(workers=0, on_event=hear).ok
    assert len({empty, *seen, wall.read_bytes()}) == 3  # none, some, all of its pictures
    stood = wall.stat().st_mtime_ns
    assert plan.run(workers=0).ok  # nothing to do, and nothing is written
    assert wall.stat().st_mtime_ns == stood
