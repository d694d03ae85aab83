"""The page in a real browser, opened from the disk: what it shows is what the files hold."""

from __future__ import annotations

import base64
import json
import re
import time
import zlib
from collections.abc import Iterator
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import grandlattice as lattice
from conftest import PLAN
from grandlattice.images import read_channels, to_display
from grandlattice.page.pixel_packing import pack
from shapes import room_scene

playwright = pytest.importorskip("playwright.sync_api")
CHROMIUM = next((p for p in ("/usr/bin/chromium", "/usr/bin/chromium-browser") if Path(p).exists()), None)
pytestmark = pytest.mark.skipif(CHROMIUM is None, reason="Chromium is not installed")
ARGUMENTS = [
    "--no-sandbox", "--disable-background-networking", "--disable-component-update", "--disable-sync",
    "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--force-color-profile=srgb",
]  # fmt: skip
TEXT = (
    PLAN.replace("size: 48x32", "size: 96x64\n  keep-noisy: true\n  denoise: true\n  exposure: 0.5")
    .replace("own-trace: true ", "")
    .replace("passes: [beauty, depth]", 'passes: [beauty, depth, normal, object-id, "light.*"]')
    .replace(
        "    night:\n",
        "    night:\n      grade: {contrast: 1.3, temperature: 0.6, saturation: 0.7, shadows: 0.4, highlights: -0.5}\n",
    )
)


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Four cells with light passes, rendered, and their page."""
    folder = tmp_path_factory.mktemp("page")
    room_scene(folder / "room.usda")
    plan = folder / "room.lattice.yaml"
    plan.write_text(TEXT)
    opened = lattice.open_plan(plan)
    assert opened.run(workers=0).ok
    assert opened.page().written > 20
    return plan


@pytest.fixture(scope="module")
def browser() -> Iterator:
    with playwright.sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        yield browser
        browser.close()


def until(page, wanted: str, seconds: float = 60.0) -> None:
    """Wait until a script is true; the page itself may evaluate none."""
    end = time.monotonic() + seconds
    while not page.evaluate(wanted):
        assert time.monotonic() < end, wanted
        page.wait_for_timeout(30)


class Tab:
    """A tab with the page; it fails on anything in the console, and on requests off the disk."""

    def __init__(self, browser, index: Path, query: str = "", size: tuple[int, int] = (1280, 800)) -> None:
        self.context = browser.new_context(
            viewport={"width": size[0], "height": size[1]}, accept_downloads=True
        )
        self.page = self.context.new_page()
        self.page.set_default_timeout(60_000)
        self.wrong: list[str] = []
        self.page.on(
            "console",
            lambda message: (
                self.wrong.append(message.text)
                if message.type in ("error", "warning") and "GPU stall" not in message.text
                else None
            ),
        )
        self.page.on("pageerror", lambda error: self.wrong.append(str(error)))
        self.page.on(
            "request",
            lambda request: (
                None
                if request.url.startswith(("file:", "data:", "blob:"))
                else self.wrong.append(request.url)
            ),
        )
        self.url = index.as_uri() + query
        self.page.goto(self.url)
        until(self.page, "window.page !== undefined")

    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)

    def state(self, name: str):
        return self.page.evaluate(f"page.state.{name}")

    def look(self, *cells: str, **state) -> None:
        """Show some cells, and wait until all of them are painted."""
        self.page.evaluate(
            """async ([cells, state]) => {
              const at = cells.map((address) => page.told.cells.findIndex((cell) => cell.a === address));
              page.lookAt(at); page.update(state);
              for (const index of at) for (const pass of page.told.passes) await page.store.load(page.told.cells[index], page.panes.frameOf(index), pass.name);
              await new Promise((done) => { page.painted = done; page.panes.soon(); });
              page.painted = undefined;
            }""",
            [list(cells), state],
        )

    def pixels(self, pane: int = 0) -> np.ndarray:
        """(H, W, 3) uint8, what the canvas has in a pane; of a picture that is shown pixel by pixel."""
        told = self.page.evaluate(
            """(pane) => {
              const { canvas } = page.panes, box = page.panes.boxes()[pane], still = document.createElement("canvas");
              still.width = box.w; still.height = box.h;
              const context = still.getContext("2d");
              context.drawImage(canvas, box.x, box.y, box.w, box.h, 0, 0, box.w, box.h);
              return still.toDataURL("image/png").split(",")[1];
            }""",
            pane,
        )
        return np.asarray(Image.open(BytesIO(base64.b64decode(told))).convert("RGB"))

    def picture(self, size: tuple[int, int], pane: int = 0) -> np.ndarray:
        """The picture in a pane, shown at one pixel for one."""
        pixels, (width, height) = self.pixels(pane), size
        top, left = round(pixels.shape[0] / 2 - height / 2), round(pixels.shape[1] / 2 - width / 2)
        return pixels[top : top + height, left : left + width]

    def at_one(self) -> float:
        """The zoom that shows a pixel of the picture as one of the screen."""
        return self.page.evaluate(
            "1 / page.panes.scaleOf(page.panes.boxes()[0], page.told.cells[page.state.panes[0]])"
        )

    def end(self) -> None:
        self.context.close()
        assert self.wrong == []


@pytest.fixture
def tab(browser, made: Path) -> Iterator[Tab]:
    tab = Tab(browser, made.parent / "room-page/index.html")
    yield tab
    tab.end()


def exr(made: Path, cell: str) -> Path:
    return made.parent / f"out/{cell}.0001.exr"


def test_packed_pixels_are_the_same_when_they_are_unpacked() -> None:
    values = np.random.default_rng(3).normal(0.0, 100.0, (13, 7, 3)).astype(np.float32)
    values[0, 0] = np.inf
    for kind, whole, exact in (
        ("float", np.uint32, values),
        ("half", np.uint16, np.clip(values, -65504, 65504).astype(np.float16)),
    ):
        packed = pack(values, kind)
        size = np.dtype(whole).itemsize
        parts = np.frombuffer(zlib.decompress(base64.b64decode(packed.data), -15), np.uint8).reshape(
            size, 3, 13, 7
        )
        folded = sum(part.astype(np.int64) << (8 * (size - 1 - k)) for k, part in enumerate(parts))
        expected = (folded >> 1) ^ -(folded & 1)
        planes = np.cumsum(np.cumsum(expected, axis=1), axis=2).astype(whole)
        top = whole(1 << (8 * size - 1))
        bits = np.where(planes & top, planes ^ top, ~planes).transpose(1, 2, 0)
        assert np.array_equal(np.ascontiguousarray(bits).view(exact.dtype), exact)


@pytest.mark.long
def test_a_pixel_says_what_the_file_has(tab: Tab, made: Path) -> None:
    tab.look("day/Front", "night/Side")
    for pane, cell in enumerate(("day/Front", "night/Side")):
        for x, y in ((3, 60), (50, 30), (90, 5)):
            told = tab.page.evaluate(f"page.panes.reading({pane}, {(x + 0.5) / 96}, {(y + 0.5) / 64})")
            assert (told["px"], told["py"]) == (x, y)
            found = {row["pass"]: row["values"] for row in told["rows"]}
            for name, channels in (
                ("beauty", "RGB"),
                ("normal", [f"normal.{c}" for c in "XYZ"]),
                ("depth", "Z"),
                ("light.Key", [f"light.Key.{c}" for c in "RGB"]),
            ):
                held = read_channels(exr(made, cell), list(channels))[y, x]
                said = np.array([np.inf if value is None else value for value in found[name]][: len(held)])
                assert np.array_equal(said, held), (name, x, y)
            names = next(row["text"] for row in told["rows"] if row["pass"] == "object-id")
            assert re.search(r"\d+ %|^$", names)


@pytest.mark.long
@pytest.mark.parametrize("query", ["", "?plain"])
def test_what_is_shown_is_what_the_file_shows_with_its_grade(browser, made: Path, query: str) -> None:
    """By the graphics processor within one code of 255; without one within three, tones of a grade apart."""
    tab = Tab(browser, made.parent / "room-page/index.html", query)
    plan = lattice.open_plan(made)
    for cell in ("day/Front", "night/Front") if not query else ("day/Front",):
        tab.look(cell)
        tab.look(cell, zoom=tab.at_one())
        settings = plan.cells[cell].settings
        light = read_channels(exr(made, cell), list("RGBA"))
        shown = to_display(light, settings.display, settings.exposure, settings.graded)
        wanted = np.clip(shown[..., :3] * shown[..., 3:] + 0.42 * (1.0 - shown[..., 3:]), 0, 1) * 255.0
        apart = np.abs(tab.picture((96, 64)).astype(float) - wanted)
        assert apart.max() <= (1.01 if not query else 3.5), cell
    tab.end()


@pytest.mark.long
def test_exposure_grade_and_display_are_those_of_the_files(tab: Tab, made: Path) -> None:
    light, settings = (
        read_channels(exr(made, "day/Front"), list("RGBA")),
        lattice.open_plan(made).cells["day/Front"].settings,
    )
    tab.look("day/Front")
    one = tab.at_one()
    displays = tab.page.evaluate("page.told.displays")
    random = np.random.default_rng(5)
    for display in range(len(displays)):
        grade = {
            "exposure": 0.5,
            "contrast": 1.4,
            "saturation": 0.6,
            **{
                name: round(random.uniform(-0.9, 0.9), 2)
                for name in ("temperature", "tint", "shadows", "mid-tones", "highlights")
            },
        }
        tab.look("day/Front", zoom=one, stops=-1.5, display=display, grade=grade)
        shown = to_display(light, displays[display], settings.exposure - 1.5, grade)[..., :3] * 255.0
        assert np.abs(tab.picture((96, 64)).astype(float) - shown).max() <= 1.01, displays[display]


@pytest.mark.long
def test_light_that_is_mixed_is_the_sum_of_its_parts(tab: Tab, made: Path) -> None:
    tab.look("day/Front", mix={"Key": [2.5, "#ffffff"], "Rim": [0, "#ffffff"]})
    file = exr(made, "day/Front")
    beauty, key, rim = (
        read_channels(file, [f"{name}{c}" for c in "RGB"]) for name in ("", "light.Key.", "light.Rim.")
    )
    for x, y in ((20, 40), (60, 33)):
        told = tab.page.evaluate(f"page.panes.reading(0, {(x + 0.5) / 96}, {(y + 0.5) / 64}).rows[0].values")
        np.testing.assert_allclose(told[:3], (beauty + 1.5 * key - rim)[y, x], rtol=1e-5, atol=1e-6)
    tab.look("day/Front", mix={}, noisy=1)
    noisy = read_channels(file, ["noisy.R", "noisy.G", "noisy.B"]).astype(np.float16)
    told = tab.page.evaluate("page.panes.reading(0, 0.5, 0.5).rows[0].values")
    np.testing.assert_allclose(told[:3], noisy[32, 48], rtol=1e-5)
    # Handed back, the plan takes it.
    tab.page.evaluate("page.update({ noisy: 0, panel: 'light', mix: { Key: [2, '#ffc080'] } })")
    tab.page.get_by_role("button", name="Hand back").click()
    rule = tab.page.locator("dialog textarea").input_value()
    plan = made.with_name("mixed.lattice.yaml")
    plan.write_text(made.read_text() + rule)
    multiplied = lattice.open_plan(plan).explain("day/Front").changes
    assert any(change.name.endswith("intensity") and "Key" in str(change.prim) for change in multiplied)


@pytest.mark.long
def test_locked_panes_show_the_same_part_and_differences_are_nought_where_nothing_differs(tab: Tab) -> None:
    tab.look("day/Front", "day/Front", zoom=3.3, x=0.31, y=0.62)
    one, other = tab.pixels(0), tab.pixels(1)
    assert one.std() > 5
    assert np.array_equal(one, other)
    tab.look("day/Front", "day/Front", mode="apart", zoom=1, x=0.5, y=0.5)
    apart = tab.picture((96, 64))
    assert (apart.reshape(-1, 3) == apart[30, 40]).all()
    tab.look("day/Front", "night/Front", mode="wipe", wipe=0.5, zoom=1)
    wiped = tab.pixels(0)
    tab.look("day/Front", "night/Front", mode="flip", flip=0)
    first = tab.pixels(0)
    tab.press("r")
    tab.look("day/Front", "night/Front", mode="flip", flip=1)
    half = first.shape[1] // 2
    assert np.array_equal(wiped[:, : half - 1], first[:, : half - 1])
    assert np.array_equal(wiped[:, half + 1 :], tab.pixels(0)[:, half + 1 :])


def test_small_pictures_follow_the_light_that_is_mixed(tab: Tab) -> None:
    tab.page.evaluate("page.update({ panel: 'light' })")
    shown = """[...document.querySelectorAll('.cell canvas')].map((each) => {
      const still = new OffscreenCanvas(each.width, each.height).getContext("2d");
      still.drawImage(each, 0, 0);
      return still.getImageData(0, 0, each.width, each.height).data.reduce((sum, part) => sum + part, 0);
    })"""
    assert tab.page.evaluate(shown) == []
    sums = []
    for strength in (4, 0):
        tab.page.evaluate(f"page.update({{ mix: {{ Key: [{strength}, '#ffffff'] }} }}, true)")
        until(tab.page, "page.matrix.relit.busy === false")
        sums.append(tab.page.evaluate(shown))
    assert [len(each) for each in sums] == [4, 4]
    assert all(bright > dark for bright, dark in zip(*sums, strict=True))
    tab.page.evaluate("page.update({ mix: {} })")
    assert tab.page.evaluate(shown) == []


@pytest.mark.long
def test_a_click_puts_what_is_there_in_focus_and_hands_it_back(tab: Tab, made: Path) -> None:
    tab.look("day/Front", panel="lens")
    sharp = tab.pixels().astype(float)
    box = tab.page.evaluate("page.panes.boxOf(page.panes.boxes()[0], page.panes.picture(0, 'beauty'))")
    around = tab.page.locator(".panes").bounding_box()
    x, y = box["x"] + 0.5 * box["w"] + around["x"], box["y"] + 0.8 * box["h"] + around["y"]
    tab.page.mouse.click(x, y)
    depth = read_channels(made.parent / "out/day/Front.0001.exr", ["Z"])[int(0.8 * 64), 48, 0]
    metres = lattice.open_plan(made).scene.metres_per_unit
    assert tab.state("lens[0]") == pytest.approx(depth * metres, rel=0.05)
    tab.page.evaluate("page.update({ lens: [page.state.lens[0], 0.7] })")
    tab.page.evaluate("new Promise((done) => { page.painted = done; page.panes.soon(); })")
    soft = tab.pixels().astype(float)
    steps = [np.abs(np.diff(each, axis=1)).mean() for each in (sharp, soft)]
    assert steps[1] < 0.9 * steps[0]
    tab.page.get_by_role("button", name="Hand back").click()
    told = tab.page.locator("dialog textarea").input_value()
    assert re.search(r"fstop: 0.7\n    focus: [\d.]+ m", told), told


@pytest.mark.long
def test_choices_survive_a_reload_merge_and_are_handed_on(tab: Tab, made: Path, tmp_path: Path, glat) -> None:
    tab.press("k", "n")
    tab.page.keyboard.type("warm <b>& close</b> 🌞")
    tab.press("Escape")
    until(tab.page, "page.kept.read().then((found) => found['day/Front']?.note)")
    tab.page.goto("about:blank")
    tab.page.goto(tab.url)
    until(tab.page, "window.page?.choices?.['day/Front']?.by === 'keep'")
    tab.page.locator("summary").click()
    assert "1 keep" in tab.page.locator("aside").inner_text()
    with tab.page.expect_download() as coming:
        tab.page.get_by_role("button", name="Save as a file").click()
    saved = tmp_path / "choices.json"
    coming.value.save_as(saved)
    assert json.loads(saved.read_text())["choices"]["day/Front"]["note"] == "warm <b>& close</b> 🌞"
    code, said = glat(made.parent, "review", "room.lattice.yaml", "--choices", str(saved))
    assert (code, "1 keep, 0 maybe, 0 out" in said) == (0, True)
    # One that is older, of another person, does not win; one that is newer does.
    told = json.loads(saved.read_text())
    told["choices"] = {
        "day/Front": {"by": "out", "note": "", "at": 5},
        "day/Side": {"by": "out", "note": "", "at": 9e9},
    }
    saved.write_text(json.dumps(told))
    choices = lattice.open_plan(made).choices(take_in=saved)
    assert (choices["day/Front"].by, choices["day/Side"].by) == ("keep", "out")
    assert {each.cell for each in lattice.open_plan(made).leftovers(rejected=True)} == {"day/Side"}
    assert lattice.open_plan(made).leftovers() == []
    for wrong in ('{"choices": {"a": {"by": "best"}}}', "[", '{"plan": "other", "choices": {}}'):
        saved.write_text(wrong)
        with pytest.raises(lattice.OutputError):
            lattice.open_plan(made).choices(take_in=saved)
    made.with_name("room-choices.json").unlink()
    assert lattice.open_plan(made).page().index.exists()


@pytest.mark.long
def test_a_morning_by_keyboard(tab: Tab) -> None:
    """Open, search, compare, sweep, choose, mix, adopt: without a mouse."""
    tab.press("/")
    tab.page.keyboard.type("front")
    tab.press("Enter")
    assert tab.page.locator("[data-cell]").count() == 2
    tab.page.locator('[data-cell][tabindex="0"]').focus()
    tab.press("Space", "ArrowDown", "Space", "Enter")
    assert (tab.state("view"), tab.state("panes.length")) == ("panes", 2)
    tab.press("x", "w", "s", "]", "]", "[", "+", "+", "0", "z", "z", "d", "b", "Tab", "o", "Tab", "k")
    assert tab.page.evaluate(
        "Object.fromEntries(Object.entries(page.choices).map(([cell, each]) => [cell, each.by]))"
    ) == {"day/Front": "keep", "night/Front": "out"}
    tab.page.evaluate("page.update({ sweep: 'camera' })")
    tab.press("ArrowRight")
    assert tab.page.evaluate("page.state.panes.map((index) => page.told.cells[index].a)") == [
        "day/Side",
        "night/Side",
    ]
    assert tab.page.locator(".value").inner_text() == "Side"
    tab.press("l")
    tab.page.get_by_label("Key", exact=True).focus()
    tab.press("ArrowRight", "ArrowRight")
    assert tab.state("mix.Key")[0] == pytest.approx(1.02)
    tab.press("c")
    tab.page.get_by_role("button", name="Adopt").focus()
    tab.press("Enter")
    assert "glat adopt room.lattice.yaml camera=Side" in tab.page.locator("dialog textarea").input_value()
    tab.press("Escape", "Escape")
    assert tab.state("view") == "matrix"
    # A link opens what was looked at.
    tab.page.evaluate("page.update({ view: 'panes', stops: 1.5 })")
    until(tab.page, "decodeURIComponent(location.hash).includes('\"stops\":1.5')")
    link = tab.page.url
    tab.page.goto("about:blank")
    tab.page.goto(link)
    until(tab.page, "window.page !== undefined")
    assert (tab.state("view"), tab.state("stops")) == ("panes", 1.5)


@pytest.mark.long
@pytest.mark.parametrize("size", [(1280, 800), (390, 844)])
def test_nothing_stands_in_the_way_of_those_who_cannot_see_or_point(
    browser, made: Path, size: tuple[int, int]
) -> None:
    axe = pytest.importorskip("axe_playwright_python.sync_playwright").Axe()
    tab = Tab(browser, made.parent / "room-page/index.html", size=size)
    for keys in ((), ("Space", "ArrowRight", "Space", "Enter", "v"), ("l",), ("g",), ("y",), ("j",), ("?",)):
        tab.press(*keys)
        tab.page.wait_for_timeout(150)
        found = [
            each
            for each in axe.run(tab.page, options={"preload": False}).response["violations"]
            if each["impact"] in ("serious", "critical")
        ]
        assert [(each["id"], [node["html"][:120] for node in each["nodes"]]) for each in found] == [], keys
    assert tab.page.evaluate("document.documentElement.scrollWidth") <= size[0]
    tab.end()


@pytest.mark.long
def test_plans_of_a_queue_stand_on_one_page(browser, plan_file: Path, glat) -> None:
    folder = plan_file.parent
    other = (
        PLAN.replace("    night:\n", "    dusk:\n")
        .replace("out/{light}", "other/{light}")
        .replace("[beauty, depth]", "[beauty, normal]")
    )
    (folder / "hall.lattice.yaml").write_text(other)
    (folder / "both.queue.yaml").write_text("plans: [room.lattice.yaml, hall.lattice.yaml]\n")
    for step in lattice.open_queue(folder / "both.queue.yaml"):
        assert step.plan.run(workers=0).ok
    code, said = glat(folder, "review", "both.queue.yaml")
    assert (code, "both-page/index.html" in said) == (0, True), said
    tab = Tab(browser, folder / "both-page/index.html")
    assert tab.page.locator("[data-cell]").count() == 8
    assert tab.page.evaluate("page.told.axes.map((axis) => [axis.name, axis.entries.length])") == [
        ["plan", 2], ["light", 3], ["camera", 2],
    ]  # fmt: skip
    tab.look("room: day/Front", "hall: day/Front")
    held = [exr(plan_file, "day/Front"), folder / "other/day/Front.0001.exr"]
    for pane, file in enumerate(held):
        values = tab.page.evaluate(f"page.panes.reading({pane}, 0.5, 0.5).rows[0].values")
        assert values == pytest.approx(read_channels(file, ["R", "G", "B"])[16, 24].tolist(), rel=1e-6)
    names = "page.panes.reading({}, 0.5, 0.5).rows.map((row) => row.pass)"
    assert [tab.page.evaluate(names.format(pane)) for pane in (0, 1)] == [
        ["beauty", "depth"],
        ["beauty", "normal"],
    ]
    tab.page.evaluate("page.update({ panel: 'grade', active: 1 }); page.update({ grade: { contrast: 1.2 } })")
    tab.page.get_by_role("button", name="Hand back").click()
    assert tab.page.locator("dialog textarea").input_value() == (
        "glat grade contrast=1.2 --plan hall.lattice.yaml --at day/Front"
    )
    tab.end()


def test_an_earlier_picture_stands_beside_the_present_one(browser, plan_file: Path) -> None:
    text = PLAN.replace("own-trace: true ", "").replace("axes:", "run: {keep-earlier: 2}\naxes:")
    for intensity in (2, 3, 4):
        plan_file.write_text(text.replace("intensity: 2", f"intensity: {intensity}"))
        plan = lattice.open_plan(plan_file)
        assert plan.run(workers=0).ok
    (plan_file.parent / "out/day/Side.0001.exr").unlink()
    (plan_file.parent / "out/day/Side.0001.png").unlink()
    tab = Tab(browser, plan.page().index)
    told = tab.page.evaluate("page.told.cells.map((cell) => [cell.a, cell.past ?? -1])")
    assert [past for _, past in told] == [-1, -1, -1, -1, 2, 2, 3, 3]
    assert all(name.startswith("night/Front, until ") for name, past in told if past == 2)
    assert tab.page.locator("[data-cell]").count() == 4
    width, height = tab.page.evaluate("page.matrix.size()")
    sheet = tab.page.evaluate("document.querySelector('[data-cell]').style.backgroundSize")
    assert sheet == f"{4 * width}px {height}px"  # earlier pictures have no small ones
    tab.page.evaluate("page.update({ at: 2 })")
    tab.page.locator("summary", has_text="Earlier pictures (2)").click()
    tab.page.get_by_role("button", name="until").first.click()
    assert (tab.state("view"), tab.state("panes")) == ("panes", [2, 4])
    tab.press("x")
    until(tab.page, "page.panes.picture(2, 'beauty') && page.panes.picture(4, 'beauty') && true")
    assert (
        tab.page.evaluate(
            "page.panes.apartBy(page.panes.picture(2, 'beauty'), page.panes.picture(4, 'beauty'))"
        )
        > 0
    )
    values = "page.panes.reading({}, 0.5, 0.5).rows[0].values[1]"
    assert tab.page.evaluate(values.format(0)) > tab.page.evaluate(values.format(1)) > 0
    tab.press("k")  # the cell is chosen, not one of its pictures
    assert tab.page.evaluate("Object.keys(page.choices)") == ["night/Front"]
    tab.end()


def test_names_and_notes_are_shown_as_text(browser, tmp_path: Path) -> None:
    name = "<script>hit()<!-- <b onmouseover>"
    room_scene(tmp_path / "room.usda")
    plan = tmp_path / "weird.lattice.yaml"
    entries = [name, "a \"b\" 'c' &amp;", "🌞" * 40, "בוקר אור"]
    axis = "".join(f"    {json.dumps(entry, ensure_ascii=False)}:\n" for entry in entries)
    plan.write_text(
        f"lattice: 1\nscene: room.usda\ndefaults: {{size: 16x16, samples: 1, camera: /World/Cameras/Front, format: png, output: 'o/{{index}}.{{ext}}'}}\naxes:\n  kind:\n{axis}"
    )
    opened = lattice.open_plan(plan)
    assert opened.run(workers=0).ok
    tab = Tab(browser, opened.page().index)
    assert tab.page.evaluate("document.querySelectorAll('body script, b').length") == 0
    assert tab.page.evaluate("page.told.cells.map((cell) => cell.a)") == entries
    tab.press("ArrowDown", "y", "Enter")
    said = tab.page.locator(".labels", has_text="no OpenEXR file to look into")
    said.wait_for()  # until its picture was looked for
    tab.end()


def test_a_page_replaces_nothing_of_others_and_follows_the_pictures(plan_file: Path, glat) -> None:
    plan = lattice.open_plan(plan_file)
    with pytest.raises(lattice.RunError, match="no picture for a page"):
        plan.page()
    assert plan.run(workers=0).ok
    folder = plan_file.parent / "room-page"
    folder.mkdir()
    (folder / "mine.txt").write_text("mine")
    with pytest.raises(lattice.OutputError, match="files in it that are no page"):
        plan.page()
    (folder / "mine.txt").unlink()
    first = plan.page()
    again = plan.page()
    assert first.written > again.written == 2  # what it is told, with when, and what it wrote
    (folder / "notes.txt").write_text("mine, too")
    plan_file.write_text(PLAN.replace("    night:\n", "    dusk:\n"))
    (plan_file.parent / "out/day/Side.0001.exr").write_bytes(b"broken")
    code, said = glat(plan_file.parent, "review", "room.lattice.yaml", "--at", "light=day")
    assert (code, "is not on the page" in said) == (0, True)
    assert (folder / "notes.txt").read_text() == "mine, too"
    keys = {path.name for path in (folder / "px").iterdir()}
    assert len(keys) == 2  # beauty and depth of the one cell that can be read
    small = lattice.open_plan(plan_file).page(most_bytes=10)
    assert small.left_out > 0
    # A link among its folders is not followed.
    elsewhere = plan_file.with_name("elsewhere")
    elsewhere.mkdir()
    for path in (folder / "px").iterdir():
        path.unlink()
    (folder / "px").rmdir()
    (folder / "px").symlink_to(elsewhere)
    with pytest.raises(lattice.OutputError, match="is a link"):
        lattice.open_plan(plan_file).page()
    assert list(elsewhere.iterdir()) == []
