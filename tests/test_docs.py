"""What README and docs show: every command line is given, every piece of a plan is read."""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import grandlattice as lattice
from conftest import PLAN
from grandlattice import errors
from grandlattice.api.queue import QueueModel
from grandlattice.errors import PlanError
from grandlattice.plan import parse, validate
from grandlattice.plan.schema import PlanModel
from shapes import room_scene

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
SLOW = ("demo",)  # it has a test of its own
STEERING = ("pause", "unpause", "stop", "retry", "priority", "drop", "add", "workers", "spare")


def commands() -> list[str]:
    found: dict[str, None] = {}
    for page in PAGES:
        text = page.read_text(encoding="utf-8")
        found |= dict.fromkeys(re.findall(r"`(glat [^`\n]+)`", text))
        for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL):
            lines = [line.split("#")[0].strip() for line in block.splitlines()]
            found |= dict.fromkeys(line for line in lines if line.startswith("glat"))
    return [command for command in found if command.split()[1] not in SLOW]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A scene, and a small plan that has what the pages speak of."""
    here = tmp_path_factory.mktemp("docs")
    room_scene(here / "scene.usda")
    text = (
        PLAN.replace("room.usda", "scene.usda").replace("samples: 4", "samples: 1").replace("48x32", "24x16")
    )
    text = text.replace("[beauty, depth]", "[beauty, depth, illuminance]")
    more = "editions: {web: {size: 24x24}, wall: {purpose: ink-jet}}\nboards: {wall: {format: [pdf, png]}}\n"
    (here / "scene.lattice.yaml").write_text(text + more + "run: {after: [true]}\n")
    for name in ("hall", "garden"):
        (here / "more").mkdir(exist_ok=True)
        (here / "more" / f"{name}.lattice.yaml").write_text(
            text.replace("scene.usda", "../scene.usda").replace("out/", "{plan}/")
        )
    return here


@pytest.mark.long
def test_every_command_line_that_is_shown_works(folder: Path, glat, tmp_path_factory) -> None:
    shown = commands()
    assert len(shown) > 25
    done = subprocess.run(
        [sys.executable, "-m", "grandlattice", "run", "--workers", "0"],
        cwd=folder,
        capture_output=True,
        check=False,
    )
    assert done.returncode == 0
    for command in shown:
        words = shlex.split(command)[1:]
        filled = {
            "CELL": "day/Front",
            "SCENE": "scene.usda",
            "OTHER": "more/hall.lattice.yaml",
            "…": "light=day", "A": "day/Front", "B": "night/Front", "noon/brass/all/Wide": "day/Front",
            "noon/verdigris/all/Wide": "night/Front", "evening/brass/all/Wide": "night/Front",
            "light=noon": "light=day", "sky=040": "light=day", "old.exr": "out/day/Front.0001.exr",
            "new.exr": "out/night/Front.0001.exr",
        }  # fmt: skip
        words = [filled.get(word, word) for word in words]
        words = [
            f"more/{word}" if word in ("hall.lattice.yaml", "garden.lattice.yaml") else word for word in words
        ]
        if words in (["survey"], ["explain"], ["begin"], ["export"], ["grade"], ["adopt"], ["again"], ["finer"], ["pack"], ["unpack"],
                     ["history"], ["where"], ["compare"]):  # fmt: skip
            continue  # its name alone
        there = folder
        if words[0] in (
            "grade",
            "adopt",
            "again",
            "finer",
            "clean",
        ):  # they change the plan, or what is there
            there = tmp_path_factory.mktemp("changed") / "there"
            shutil.copytree(folder, there)
            words += ["--yes"] if words[0] != "grade" else []
        expected: tuple[int, ...] = (0,)
        if words[0] == "begin":
            words += ["--plan", str(folder.parent / f"begun{len(command)}.lattice.yaml")]
            (folder.parent / f"begun{len(command)}.lattice.yaml").unlink(missing_ok=True)
        elif words[0] in STEERING:
            expected = (1,)  # no run is under way, and that is said
        elif words[0] == "export":
            (folder / "scene-day-Front.usda").unlink(missing_ok=True)
        elif "--back" in words:
            expected = (1,)  # nothing was replaced here, and that is said
        elif "--open" in words:
            expected = (0, 1)  # there may be no desktop, and that is said
        elif words[-2:] == ["--page", "4000"]:
            expected = (2,)
        elif words[0] == "cluster":  # what this machine has for that is its person's
            words = ["cluster", "--help"] if "clean" in words else [*words, str(folder.parent / "keys")]
        elif words[0] == "finer":
            expected = (2,)  # no axis of this plan sweeps, and that is said
        elif {"--serve", "--listen", "--choices", "live"} & set(words):
            words = [words[0], "--help"]  # it serves until Ctrl-C; tests of the page do it
        elif words == ["run", "--and-then"]:
            words = ["run", "--and-then", "--help"]  # its countdown is half a minute
        if words[0] in ("run", "proof") and "--detached" not in words and "--help" not in words:
            words += ["--workers", "0"]
        code, said = glat(there, *words) if "--detached" in words else glat.here(there, tuple(words))
        assert code in expected, (command, said)
        assert "foresee" not in said


def fragments() -> list[tuple[str, str]]:
    found = []
    for page in PAGES:
        for k, block in enumerate(
            re.findall(r"```yaml\n(.*?)```", page.read_text(encoding="utf-8"), re.DOTALL)
        ):
            found.append((f"{page.name} {k + 1}", block))
    return found


@pytest.mark.parametrize(("where", "text"), fragments(), ids=[where for where, _ in fragments()])
def test_every_piece_of_a_plan_that_is_shown_is_read(where: str, text: str) -> None:
    if re.search(r"^plans:", text, re.MULTILINE):
        QueueModel.model_validate(dict(parse(text).data))
        return
    known = {field.alias or name for name, field in PlanModel.model_fields.items()}
    first = re.match(r"\s*(?:#[^\n]*\n\s*)*([\w-]+):", text)
    tops = [] if first is None else [first[1]]
    if not known & set(tops):  # what stands below defaults, or below an axis
        text = "defaults:\n" + "".join(f"  {line}\n" for line in text.splitlines())
    whole = text if "lattice:" in text else f"lattice: 1\nscene: orrery.usda\n{text}"
    try:
        validate(parse(whole))
    except PlanError as problem:
        pytest.fail(f"{where}: {problem}")


def test_every_command_setting_and_key_is_documented_and_none_that_is_not_there() -> None:
    from grandlattice.cli.main import _ROOMS
    from grandlattice.plan.edit_verbs import EDITS
    from grandlattice.plan.run_block import Budget, RunBlock
    from grandlattice.plan.settings import Settings

    pages = {page.name: page.read_text(encoding="utf-8") for page in PAGES}
    whole = "\n".join(pages.values())
    commands = {name for names in _ROOMS.values() for name in names}
    assert not {name for name in commands if f"glat {name}" not in whole}
    assert not set(re.findall(r"`glat ([a-z-]+)", whole)) - commands

    def keys(model: type) -> set[str]:
        return {field.alias or name for name, field in model.model_fields.items()}

    for page, model in (
        ("plan.md", Settings),
        ("plan.md", PlanModel),
        ("nights.md", RunBlock),
        ("nights.md", Budget),
    ):
        missing = {
            key for key in keys(model) if not re.search(rf"`{key}[`:]|^{key}:|^  {key}:", pages[page], re.M)
        }
        assert not missing, (page, missing)
    assert not {verb for verb in EDITS if f"`{verb}: " not in pages["plan.md"]}


def test_the_reference_has_every_public_name() -> None:
    pages = "\n".join(page.read_text() for page in sorted((ROOT / "docs" / "site").glob("*.rst")))
    documented = set(re.findall(r"auto(?:class|function|data):: (?:[\w.]+\.)?(\w+)", pages))
    assert "automodule:: grandlattice.errors" in pages
    documented |= set(vars(errors))
    assert set(lattice.__all__) - documented == {"__version__"}


def test_links_between_pages_lead_somewhere() -> None:
    broken = [
        f"{page.relative_to(ROOT)}: {target}"
        for page in [*PAGES, *sorted((ROOT / "docs" / "decisions").glob("*.md"))]
        for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", page.read_text(encoding="utf-8"))
        if "://" not in target and not (page.parent / target).exists()
    ]
    assert broken == []
