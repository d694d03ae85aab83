"""The public interface: opening, surveying and beginning plans.  `plan_object` has the plan itself.

The command line calls this and nothing else, so that whatever it does can be done from Python.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from grandlattice.api.plan_object import Plan
from grandlattice.errors import LatticeError, OutputError, Place, PlanError
from grandlattice.plan import PlanModel
from grandlattice.stage import Survey, draft_plan, framing_file, open_scene, survey_scene
from grandlattice.tables.passes import LIGHT_PASS, PASSES, Pass, known_pass

ENDING = ".lattice.yaml"
QUEUE_ENDING = ".queue.yaml"


def open_plan(file: str | Path) -> Plan:
    """Open a plan file.

    Raises
    ------
    PlanError
        When it is missing or cannot be understood, with its line and column.
    """
    return Plan.read(Path(file))


def plan_schema() -> dict[str, Any]:
    """The JSON Schema of the plan format, for editors that complete and check plans."""
    schema = PlanModel.model_json_schema(by_alias=True)
    return {
        **schema,
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Grand Lattice plan",
    }


def survey(scene: str | Path, *, bounds: bool = True) -> Survey:
    """What is in a USD scene.

    Parameters
    ----------
    bounds : also work out the corners of everything, which of a large scene takes longer than all the rest.

    Raises
    ------
    SceneError
        When it is missing or no USD.
    """
    return survey_scene(open_scene(Path(scene)), bounds=bounds)


def passes(plan: Plan | None = None) -> list[Pass]:
    """Every pass there is.

    Parameters
    ----------
    plan : also the share of each light of its scene, by name, and the passes of its own.
    """
    if plan is None:
        return [*PASSES.values(), known_pass(f"{LIGHT_PASS}NAME")]
    lights = [fact.path.rpartition("/")[2] for fact in plan.facts.lights]
    shares = [known_pass(f"{LIGHT_PASS}{name}") for name in dict.fromkeys([*lights, "surfaces"])]
    own = plan.model.own_kinds
    return [*PASSES.values(), *shares, *(known_pass(name, own) for name in own)]


def begin(scene: str | Path, plan: str | Path | None = None, *, look: bool = True) -> Path:
    """Write a first plan for a scene and return its path.

    Where the scene has no camera, an overlay with one that sees all of it is written beside the
    plan; where it has no light, the plan brings in a sky.

    Parameters
    ----------
    plan : where; ``SCENE.lattice.yaml`` beside the scene by default.
    look : trace a picture of some 64 pixels' width of its first cell; where that is black or burnt out the
        plan has its exposures metered.

    Raises
    ------
    SceneError, PlanError
        When the scene cannot be used, or the plan file exists already.
    """
    scene = Path(scene)
    file = Path(plan) if plan is not None else scene.with_name(scene.stem + ENDING)
    opened = open_scene(scene)
    seen = survey_scene(opened, bounds=False)
    if not seen.cameras:  # one is proposed that sees everything
        seen = survey_scene(opened)
    text, framing = draft_plan(seen, file)
    _write_new(file, text, f"glat cells {file.name} shows what it renders; --plan names another file")
    if framing is not None:
        camera = framing_file(file)
        try:
            _write_new(camera, framing, "move it away, or name another plan with --plan")
        except LatticeError:
            file.unlink(missing_ok=True)
            raise
    if look and not _can_be_seen(file):
        text, _ = draft_plan(seen, file, metered=True)
        file.write_text(text, encoding="utf-8")
    return file


def _can_be_seen(plan: Path) -> bool:
    """Whether the first cell of a plan shows something; also where that cannot be found out."""
    try:
        prepare_tracer()
        return open_plan(plan).shows_something(0)
    except LatticeError:
        return True


def _write_new(file: Path, text: str, cure: str) -> None:
    try:
        with file.open("x", encoding="utf-8") as stream:
            stream.write(text)
    except FileExistsError:
        raise PlanError(
            f"{file.name} exists already and is left as it is.", place=Place(file), cure=cure
        ) from None
    except OSError as problem:
        raise OutputError(f"{file} cannot be written: {problem.strerror}.") from problem


def prepare_tracer() -> None:
    """Compile the tracer for this machine, or load what was compiled before."""
    from grandlattice.api import orchestration

    orchestration.prepare_tracer()


@contextmanager
def tracer_prepared_aside() -> Iterator[None]:
    """Prepare the tracer while the body runs; waits for it on leaving."""
    begun: list[Any] = []

    def begin() -> None:
        from grandlattice.api import orchestration

        begun.append(orchestration.Preparation())

    aside = threading.Thread(target=begin)
    aside.start()
    try:
        yield
    except BaseException:
        aside.join()
        begun[0].cancel()
        raise
    aside.join()
    begun[0].wait()


def tracer_is_prepared() -> bool:
    """Whether the tracer was compiled on this machine before."""
    from grandlattice.tracer.compiling.backend import is_compiled

    return is_compiled()
