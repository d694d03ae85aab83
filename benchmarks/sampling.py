"""What the samples are worth: error at equal time against plain random sampling, in the same code.

Run it with:  python benchmarks/sampling.py [pixels across] [samples of the reference] [picture]

At 1280 pixels and 4,096 samples, what it does if nothing is said, it takes ten to twenty minutes a picture.

The plain way is this tracer with three things exchanged before it is compiled: its sample sequence for a
hash of (pixel, sample, dimension), the chances of the sky's directions for equal ones, and no path parts.
Both trace two pictures of the demo with the bounces and the clamp of its plan: Wide at noon, where sun and
window are lights beside the sky, and Wide under nothing but a sky with the sun in it.  `noon-exact` is the
first without any clamp, and with all bounces.

Errors are squared differences from a reference with the same settings and other random numbers, and fall
with time, so what the plain way would reach in the other's time follows from the two times.  Without a clamp
the brightest thousandth of the pixels is left out on both sides, where one speck would speak for all.
Sixteen patches, spread evenly, a sixteenth of the picture together, stand for it: the reference is traced
of them alone.  Of the whole picture is told how far three traces are apart, in both ways, with all pixels
and with its brightest ones left out: where the sun is mirrored in brass a few pixels hold most of the error.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

SAMPLES, SEEDS = 32, (1, 2, 3)
PICTURES = {
    "noon": ("orrery.lattice.yaml", "noon/brass/all/Wide", False),
    "sky": ("more/sky.lattice.yaml", "000", False),
    "noon-exact": ("orrery.lattice.yaml", "noon/brass/all/Wide", True),
}


def exchange() -> None:
    """Plain random numbers, a sky that is aimed at everywhere alike, paths that do not part."""
    from grandlattice.tracer import integrator, lanes, sampling, tracer  # noqa: F401

    combine, to_unit = sampling.combine, sampling._TO_UNIT
    to_floats = lanes.to_floats

    @lanes.inner
    def pair(pixel_seed, sample, dimension):  # type: ignore[no-untyped-def]
        seed = combine(combine(pixel_seed, dimension), sample)
        return to_floats(seed >> 8) * to_unit, to_floats(combine(seed, sample + 77) >> 8) * to_unit

    # Nothing is compiled yet: whoever has the name gets the other one.
    for module in list(sys.modules.values()):
        if module.__name__.startswith("grandlattice.tracer") and hasattr(module, "pair"):
            module.pair = pair  # type: ignore[attr-defined]
    from grandlattice.tracer import light_table

    tracer._HALVINGS = 0
    real = light_table._dome_grid
    light_table._dome_grid = lambda texels: real(np.ones_like(texels))


def patches(width: int, height: int) -> list[tuple[int, int, int, int]]:
    """Left, top, right, bottom of sixteen parts in the middle of sixteen equal ones."""
    wide, tall = width // 16, height // 16
    return [
        (x, y, x + wide, y + tall)
        for y in range(height // 8 - tall // 2, height, height // 4)
        for x in range(width // 8 - wide // 2, width, width // 4)
    ]


def trace(
    folder: Path, picture: str, width: int, samples: int, seed: int, file: Path, whole: bool
) -> None:  # fmt: skip
    """The patches of a picture with so many samples, and what all of it took."""
    import grandlattice as lattice
    from grandlattice.runs import WorkOrder, Workshop
    from grandlattice.tracer import Sensor, Tracer, TraceSettings

    name, address, exact = PICTURES[picture]
    plan = lattice.open_plan(folder / name)
    (task,) = plan.tasks(at=[address])
    shop = Workshop(WorkOrder(plan.model, plan.folder, plan.scene.file.resolve(), folder, "s"), plan.scene)
    snapshot = shop.snapshot(task.first, task.frame)
    images, height = shop.images_for(snapshot, task.first), width * 9 // 16
    sensor, tracer = Sensor(snapshot.camera, width, height), Tracer(2)
    tracer.trace(snapshot, images, sensor, TraceSettings(samples=1))
    how, parts, seconds = TraceSettings(samples=samples, seed=seed), patches(width, height), 0.0
    if not exact:
        settings = task.first.settings
        how = replace(how, bounces=settings.bounces, clamp=settings.clamp)
    if whole:
        film = tracer.trace(snapshot, images, sensor, how)
        beauty, seconds = film.passes["beauty"][..., :3], film.seconds
        found = [beauty[top:bottom, left:right] for left, top, right, bottom in parts]
        np.save(file.with_suffix(".npy"), beauty)
    else:
        films = [tracer.trace(snapshot, images, replace(sensor, region=part), how) for part in parts]
        found = [film.passes["beauty"][..., :3] for film in films]
    np.savez(file, beauty=np.stack(found), seconds=seconds)


def main() -> None:
    width = int(sys.argv[1]) if sys.argv[1:] else 1280
    reference = int(sys.argv[2]) if sys.argv[2:] else 4096
    with tempfile.TemporaryDirectory() as name:
        from grandlattice.demo import write_demo

        folder = Path(name)
        write_demo(folder)
        print(f"{width}×{width * 9 // 16}, {SAMPLES} samples against a reference of {reference}")
        for picture in sys.argv[3:] or PICTURES:
            compare(folder, picture, width, reference)


def compare(folder: Path, picture: str, width: int, reference: int) -> None:
    """Trace a picture in both ways and print how they compare."""

    def made(way: str, samples: int, seed: int, what: str = "whole") -> tuple[np.ndarray, float]:
        file = folder / f"{picture}-{way}-{samples}-{seed}.npz"
        environment = {**os.environ, "GRANDLATTICE_CACHE": str(folder / way)}
        arguments = [way, str(folder), picture, str(width), str(samples), str(seed), str(file), what]
        subprocess.run([sys.executable, __file__, *arguments], check=True, env=environment)
        held = np.load(file)
        return held["beauty"].astype(np.float64), float(held["seconds"])

    right, _ = made("ours", reference, 99, "patches")
    errors: dict[str, list[float]] = {"ours": [], "plain": []}
    seconds: dict[str, list[float]] = {"ours": [], "plain": []}
    for seed in SEEDS:  # in turns: the machine is not always its own
        for way in errors:
            beauty, took = made(way, SAMPLES, seed)
            squared = ((beauty - right) ** 2).mean(-1).ravel()
            left_out = squared.size // 1000 if PICTURES[picture][2] else 0
            errors[way].append(float(np.sort(squared)[: squared.size - left_out].mean()))
            seconds[way].append(took)
    wholes = {
        way: np.stack([np.load(folder / f"{picture}-{way}-{SAMPLES}-{seed}.npy") for seed in SEEDS])
        for way in errors
    }
    found = {way: (float(np.mean(errors[way])), min(seconds[way])) for way in errors}
    for way, (error, least) in found.items():
        print(f"{picture:11}{way:6} mean squared error {error:.3e}, {least:.1f} s")
    (ours, our_time), (plain, plain_time) = found["ours"], found["plain"]
    times = plain * plain_time / (ours * our_time)
    print(f"{picture:11}at equal time the plain way's is {times:.2f} times ours (bar: 2)", flush=True)
    spread = {way: each.var(0, ddof=1).mean(-1).ravel() for way, each in wholes.items()}
    brightest_last = np.argsort(sum(each.mean((0, -1)).ravel() for each in wholes.values()))
    for share in (0.0, 1e-4, 1e-3):
        counted = brightest_last[: round(brightest_last.size * (1.0 - share))]
        ours, plain = (float(spread[way][counted].mean()) for way in ("ours", "plain"))
        print(
            f"{picture:11}the whole picture but its brightest {share:.2%}: {ours:.3e} and {plain:.3e}, "
            f"at equal time {plain * plain_time / (ours * our_time):.2f} times",
            flush=True,
        )


if __name__ == "__main__":
    if sys.argv[1:2] in (["ours"], ["plain"]):
        if sys.argv[1] == "plain":
            exchange()
        numbers = (int(word) for word in sys.argv[4:7])
        trace(Path(sys.argv[2]), sys.argv[3], *numbers, Path(sys.argv[7]), sys.argv[8] == "whole")
    else:
        main()
