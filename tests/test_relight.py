"""Light shares that are kept: other strengths, tints, on and off without a trace; edits of one call."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest

import grandlattice as lattice
from conftest import PLAN
from grandlattice.tracer import Lamp, ShareIndex
from grandlattice.tracer.light_shares import _unseen

KEY, RIM, SKY = "/World/Lights/Key", "/World/Lights/Rim", "/World/Lights/Sky"
KEPT = PLAN.replace("own-trace: true ", "keep-light-shares: true ").replace(
    "passes: [beauty, depth]", "passes: [beauty, depth, direct, light.Key, illuminance, object-id]"
)


@pytest.fixture
def kept(plan_file: Path) -> Path:
    """Two lightings of two cameras, traced, their light shares kept."""
    plan_file.write_text(KEPT)
    assert lattice.open_plan(plan_file).run(workers=0).ok
    return plan_file


def channels(file: Path) -> tuple[list[str], np.ndarray]:
    image = oiio.ImageInput.open(str(file))
    return list(image.spec().channelnames), image.read_image(oiio.FLOAT)


def rays(run: lattice.Run) -> int:
    return sum(event.result.rays for event in run.finished)


OTHER_LIGHT = {
    "stronger": [{"multiply": {"on": KEY, "intensity": 3}}],
    "weaker, by exposure": [{"set": {"on": KEY, "exposure": -2}}],
    "tinted": [{"set": {"on": KEY, "color": [0.2, 0.9, 1.0]}}, {"multiply": {"on": RIM, "intensity": 0.5}}],
    "off": [{"hide": KEY}],
    "what fills the frame is off": [{"hide": RIM}],
    "no sky": [{"hide": SKY}],
}


@pytest.mark.parametrize("name", OTHER_LIGHT)
def test_what_is_relit_is_what_a_trace_would_be(kept: Path, tmp_path: Path, name: str) -> None:
    plan = lattice.open_plan(kept).override(edits=OTHER_LIGHT[name])
    relit = plan.run(workers=0, at="light=day")
    assert relit.ok
    assert relit.finished_frames == 2
    assert (rays(relit), sum(event.result.relit for event in relit.finished)) == (0, 2)
    assert relit.outlook.foreseen is not None
    assert relit.outlook.foreseen.frames == 2
    assert not relit.outlook.traced
    traced = plan.run(workers=0, at="light=day", into=tmp_path / "traced")
    assert rays(traced) > 0
    for camera in ("Front", "Side"):
        file = f"out/day/{camera}.0001.exr"
        names, ours = channels(relit.output / file)
        _, theirs = channels(traced.output / file)
        for k, channel in enumerate(names):
            if channel.split(".")[0] in ("depth", "object-id"):
                assert np.array_equal(ours[..., k], theirs[..., k]), channel
            elif name in ("stronger", "weaker, by exposure", "tinted"):
                # The same paths and the same shadow rays: half rounding of each lamp, and of the file.
                np.testing.assert_allclose(
                    ours[..., k], theirs[..., k], rtol=2e-3, atol=2e-3, err_msg=channel
                )
            else:  # with fewer lamps others are aimed at more often: the same but for noise
                assert ours[..., k].mean() == pytest.approx(theirs[..., k].mean(), rel=0.15, abs=0.02), (
                    channel
                )
        spec = oiio.ImageInput.open(str(relit.output / file)).spec()
        assert "traced on" in spec.getattribute("lattice:relit")
    assert not plan.outlook(at="light=day").todo  # it counts as done
    assert lattice.open_plan(kept).outlook(at="light=day").todo.frame_count == 2


@pytest.mark.long
def test_what_kept_shares_do_not_answer_is_traced(kept: Path) -> None:
    plan = lattice.open_plan(kept)
    for edits in (
        [{"move": {"on": KEY, "x": 0.5}}],
        [{"set": {"on": KEY, "radius": 0.9}}],
        [{"move": {"on": "/World/Toys/BallA", "x": 0.2}}],
    ):
        outlook = plan.override(edits=edits).run(workers=0, at="day/Front").outlook
        assert outlook.foreseen is not None
        assert (outlook.foreseen.frames, outlook.todo.frame_count) == (0, 1), edits
    assert rays(plan.override(edits=OTHER_LIGHT["stronger"]).run(workers=0, fresh=True)) > 0
    more = plan.override(passes=["beauty", "depth", "indirect"]).run(workers=0, at="day/Front")
    assert rays(more) > 0


def test_shares_are_as_large_as_was_said_and_broken_ones_are_traced_anew(kept: Path) -> None:
    folder = kept.with_name("room-shares")
    files = sorted(folder.iterdir())
    plan = lattice.open_plan(kept)
    said = plan.override(samples=5).run(workers=0, into=kept.parent / "b").outlook.foreseen
    assert said is not None
    assert said.bytes == pytest.approx(sum(file.stat().st_size for file in files), rel=0.5)
    for k, file in enumerate(files):
        whole = file.read_bytes()
        file.write_bytes([b"", whole[: len(whole) // 2], b"no zip at all"][k % 3])
    run = plan.override(edits=OTHER_LIGHT["stronger"]).run(workers=0)
    assert run.ok
    assert rays(run) > 0
    notes = [note for event in run.finished for note in event.result.notes if "traced anew" in note]
    assert notes
    assert len(notes) == len(set(notes))


def test_light_that_is_limited_has_no_shares(kept: Path) -> None:
    with pytest.raises(lattice.PlanError, match="Light shares cannot be kept where light is limited"):
        lattice.open_plan(kept).override(clamp=4).outlook()
    assert lattice.open_plan(kept).proof(at="day/Front", workers=0)  # a proof limits light, and keeps none


def test_lamps_are_answered_by_channel_and_by_what_they_hide() -> None:
    red, white, sky = (
        Lamp("red", (5.0, 0.0, 0.0), True, False), Lamp("white", (1.0, 1.0, 1.0), True, False),
        Lamp("dome", (1.0, 1.0, 1.0), False, True),
    )  # fmt: skip
    everyone = frozenset({"red", "white", "dome", "surfaces that glow"})
    index = ShareIndex(
        {lamp.name: lamp.radiance for lamp in (red, white, sky)},
        {"red sky white": everyone, "sky white": everyone - {"red"}}, frozenset({"white"}),
        frozenset({"beauty"}), 0.0,
    )  # fmt: skip
    yes = [
        (red, white, sky),
        (white, sky),
        (red, sky),
        (sky,),
        (Lamp("red", (9.0, 0.0, 0.0), True, False), sky),
    ]
    no = [
        (red, white),
        (Lamp("red", (1.0, 0.1, 0.0), True, False), white, sky),
        (Lamp("new", (1,) * 3, 1, 0), sky),
    ]
    assert all(index.answers(lamps, ["beauty"]) for lamps in yes)
    assert not any(index.answers(lamps, ["beauty"]) for lamps in no)
    assert not index.answers(yes[0], ["beauty", "depth"])


def test_what_a_lamp_hides_is_known_only_where_all_other_light_is() -> None:
    """Equal light of one lamp says nothing of what another would show there."""
    same, other = np.ones((2, 2, 3), np.float32), np.zeros((2, 2, 3), np.float32)
    planes = {
        "key rim/key/": same,
        "key rim/rim/": same,
        "rim/rim/": same,
        "key rim//alpha": same,
        "rim//alpha": same,
    }
    held = {"key rim": {"key", "rim"}, "rim": {"rim"}}
    assert list(_unseen(planes, held)) == ["key"]
    assert not list(_unseen({**planes, "rim/rim/": other}, held))
    assert not list(_unseen({**planes, "key rim/fill/": same}, {**held, "key rim": {"key", "rim", "fill"}}))


def test_lamps_off_are_looked_at_and_count_for_nothing_else(kept: Path) -> None:
    plan = lattice.open_plan(kept)
    made = plan.run(workers=0, fresh=True)
    plain = plan.override(keep_light_shares=False).run(workers=0, into=kept.parent / "plain")
    # What a trace took is shared among the films that are made of it, and not among those that only look.
    assert rays(made) == pytest.approx(rays(plain), rel=0.6)


# --- edits of a call --------------------------------------------------------------------------------------


@pytest.mark.long
def test_an_edit_of_a_call_is_the_last_word_and_is_named(plan_file: Path, glat) -> None:
    edit = "multiply: {on: /World/Lights/Key, intensity: 4}"
    code, said = glat(plan_file.parent, "explain", "night/Front", "--edit", edit)
    assert code == 0
    assert "✓ 240  the caller  this call (--set, --edit, or override)" in said
    assert "60  light=night" in said
    code, said = glat(plan_file.parent, "run", "--at", "day/Front", "--workers", "0", "--edit", edit)
    assert code == 0, said
    code, said = glat(plan_file.parent, "run", "--at", "day/Front", "--workers", "0", "--edit", edit)
    assert "everything is done already" in said
    code, said = glat(plan_file.parent, "run", "--at", "day/Front", "--workers", "0")
    assert "1 frame in" in said


@pytest.mark.parametrize(
    ("edit", "says"),
    [("multply: {on: /World/Lights/Key, intensity: 4}", "multply is no edit. Did you mean multiply?"),
     ("multiply", "The edit multiply cannot be read."), ("[1, 2]", "cannot be read"),
     ("{hide: /World/Lights/Key, show: /World/Lights/Sky}", "each edit is an item of its own"),
     ("multiply: {on: /World/Lights/Kye, intensity: 4}", "/World/Lights/Kye"),
     ("multiply: {on: /World/Lights/Key}", "names no attribute"), ("hide: {", "cannot be read")],
)  # fmt: skip
def test_a_wrong_edit_of_a_call_is_said_in_words(plan_file: Path, glat, edit: str, says: str) -> None:
    code, said = glat(plan_file.parent, "check", "--edit", edit)
    assert code in (1, 2)
    assert says in " ".join(said.split())
    assert "did not foresee" not in said


# --- what is traced together, and why ---------------------------------------------------------------------


def test_traces_are_counted_and_reasons_given(plan_file: Path, glat) -> None:
    plan_file.write_text(
        PLAN.replace("  own-trace: true ", "  subdivision: 1 ").replace("  camera:\n", (
            "  toys:\n    as is:\n    red: {edits: [{set: {on: /World/Toys/BallA, doubleSided: true}}]}\n"
            "    away: {edits: [{hide: /World/Toys}]}\n    fine: {samples: 8}\n  camera:\n"
        )).replace("{camera}.", "{camera}-{toys}.")
    )  # fmt: skip
    plan = lattice.open_plan(plan_file)
    assert (plan.sharing().frames, plan.sharing().traces, plan.sharing().most) == (16, 8, 2)
    traces = list(plan.traces(at="camera=Front"))
    assert [trace.differ for trace in traces] == [("light",)] * 4
    assert [trace.in_common["toys"] for trace in traces] == ["as is", "red", "away", "fine"]
    assert not traces[0].because
    for trace, reason in zip(traces[1:], ("doubleSided", "/World/Toys", "samples 4 → 8"), strict=True):
        assert any(reason in said for said in trace.because), (reason, trace.because)
        assert not any("Lights" in said for said in trace.because)
    code, said = glat(plan_file.parent, "cells")
    assert "16 frames in 8 traces; the largest trace makes 2 of them" in said
    code, said = glat(plan_file.parent, "cells", "--why", "--at", "camera=Front")
    assert code == 0
    assert "toys as is, camera Front · 1: 2 cells that differ in light, 2 different pictures of light" in said
    assert "another trace than 1: samples 4 → 8" in said


# --- answers that are remembered --------------------------------------------------------------------------


@pytest.mark.long
def test_what_is_done_is_known_without_opening_until_anything_changes(
    plan_file: Path, glat, monkeypatch
) -> None:
    folder = plan_file.parent

    def quickly(words: tuple[str, ...]) -> bool:
        """Whether a command answers without opening the plan."""
        with monkeypatch.context() as patch:
            patch.setattr(lattice, "open_queue", None)
            return bool(glat.here(folder, words)[0] == 0)

    run, count = ("run", "--workers", "0"), ("cells", "--count")
    assert not quickly(count)
    assert glat.here(folder, count) == (0, "4\n")
    assert quickly(count)
    assert not quickly(run)
    assert glat.here(folder, run)[0] == 0
    assert quickly(run)
    said = glat.here(folder, run)[1]
    assert "everything is done already: 4 frames" in said
    assert not quickly((*run, "--at", "day/Front"))
    assert not quickly((*run, "--set", "samples=5"))
    assert not quickly((*run, "--fresh"))
    picture, scene, image = folder / "out/day/Front.0001.png", folder / "room.usda", folder / "grid.png"
    for change in (
        lambda: picture.write_bytes(picture.read_bytes()),
        picture.unlink,
        lambda: scene.write_text(scene.read_text()),
        lambda: plan_file.write_text(plan_file.read_text() + "\n"),
        lambda: image.write_bytes(image.read_bytes()),
        (folder / "room.ledger.sqlite").unlink,
    ):
        assert quickly(run)
        change()
        assert not quickly(run)
        assert glat.here(folder, run)[0] == 0
