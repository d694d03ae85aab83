"""What a shared trace costs for the same error, against tracing each lighting by itself.

    python benchmarks/shared_traces.py [seeds] [group …]

Equal-error cost is the ratio of times × the ratio of squared errors, of all films together against one of
them alone; times are those of one thread, of tracing alone, the median of turns.  Errors are variances over
seeds, the brightest 0.2 % of the pixels left out on both sides.  Of 36 lightings four stand for all, spread
evenly.  In the room it is the demo's Wide camera, outdoors 14 balls on a plain; pictures are 256×144 with 32
samples, 4 bounces.

With `bytes` in place of groups it tells whether films are equal to the last bit whichever others are made,
with `bias` how many pixels' means over 64 seeds lie within three standard errors of the means of solo traces.
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

import grandlattice as lattice
from grandlattice.images import read_image
from grandlattice.runs import CellSnapshots
from grandlattice.scene_records import Camera, Geometry, Item, Light, Material, Snapshot, Texture
from grandlattice.tracer import Company, Lighting, Sensor, Tracer, TraceSettings, image_files

SIZE, SAMPLES, BOUNCES = (256, 144), 32, 4
BARS = {
    "36 angles, small sun": "≤ 4 mean, 5 worst", "36 angles, soft sky": "≤ 2",
    "12 strengths of 4": "≤ 1.3 mean, 2 worst", "8 places of a rect": "≤ 3", "3 kinds of light": "≤ 2",
}  # fmt: skip
Lights = tuple[Light, ...]


def sky_pixels(*, sun: bool) -> NDArray[np.float32]:
    """A sky 1080×540; with a sun 1.2° wide that carries 57 % of its power, or brighter on one side."""
    height, width = 540, 1080
    v = (np.arange(height)[:, None] + 0.5) / height * np.pi
    u = (np.arange(width) + 0.5) / width * 2 * np.pi
    x, y, z = np.sin(v) * np.sin(u), np.cos(v) + 0 * u, np.sin(v) * np.cos(u)
    up = np.clip(y, 0, 1)
    image = np.stack([0.4 + 0.3 * up, 0.5 + 0.4 * up, 0.6 + 0.6 * up], -1)
    image *= np.where(y < 0, 0.3, 1.0)[..., None]
    towards = np.sin(0.9) * np.cos(0.7), np.cos(0.9), np.sin(0.9) * np.sin(0.7)
    cosine = x * towards[0] + y * towards[1] + z * towards[2]
    disc, area = cosine > np.cos(np.radians(0.6)), np.sin(v) * np.ones(width)
    if sun:
        rest = (image.mean(-1) * area).sum()
        image[disc] += np.array([1.1, 1.0, 0.9]) * (rest * 0.57 / 0.43 / area[disc].sum())
    else:
        image *= (1.0 + 0.8 * np.clip(cosine, 0, 1) ** 3)[..., None]
    return image.astype(np.float32)


def turned(turns: float) -> NDArray[np.float64]:
    matrix, angle = np.eye(4), 2 * np.pi * turns
    matrix[[0, 0, 2, 2], [0, 2, 0, 2]] = np.cos(angle), -np.sin(angle), np.sin(angle), np.cos(angle)
    return matrix


def sky(file: str, turns: float) -> Light:
    texture = Texture(file, "/Sky", wrap_s="repeat", wrap_t="clamp")
    return Light("/Sky", "dome", turned(turns), (1.0, 1.0, 1.0), texture=texture)


def lamp(name: str, place: tuple[float, float, float], wide: float, radiance: float) -> Light:
    """A rectangle that shines down."""
    down = np.array([[1, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [*place, 1.0]], float)
    return Light(f"/{name}", "rect", down, (radiance,) * 3, (wide, wide), seen=False)


def outdoors() -> tuple[Snapshot, dict, float]:
    """Balls on a plain; images; how long a step is there."""
    rng = np.random.default_rng(3)
    balls = [Item(_ball(), _moved(x, -0.4, z, 0.6), (1,)) for x, z in rng.uniform(-3, 3, (14, 2))]
    grey = {"metallic": (0.0,), "roughness": (1.0,), "ior": (1.0,)}
    materials = (
        Material("/Grey", {**grey, "diffuseColor": (0.5, 0.5, 0.5)}),
        Material("/Red", {"diffuseColor": (0.6, 0.3, 0.2), "roughness": (0.3,)}),
    )
    view = np.eye(4)
    view[3, :3] = 0.0, 0.6, 7.0
    camera = Camera("/Camera", view, (1.6, 0.9), focal_length=1.8)
    return Snapshot((Item(_plain(), _moved(0, -1, 0), (0,)), *balls), materials, (), camera), {}, 1.0


def room() -> tuple[Snapshot, dict, float]:
    """The demo's room from its Wide camera."""
    from grandlattice.demo import write_demo

    plan = lattice.open_plan(write_demo(Path(tempfile.mkdtemp())))
    cell = plan.cells["noon/brass/all/Wide"]
    snapshot = CellSnapshots(plan.scene, plan.model, plan.folder).take(cell.settings, cell.edits, 36)
    return snapshot, {file: read_image(file) for file in image_files(snapshot.materials)}, 100.0


def _moved(x: float, y: float, z: float, size: float = 1.0) -> NDArray[np.float64]:
    matrix = np.diag([size, size, size, 1.0])
    matrix[3, :3] = x, y, z
    return matrix


def _geometry(points: NDArray, triangles: NDArray, normals: NDArray) -> Geometry:
    corners = np.asarray(triangles, np.int32)
    return Geometry(
        "/Shape", np.asarray(points, np.float32), corners, np.asarray(normals, np.float32)[corners],
        np.zeros((len(corners), 3, 2), np.float32), np.zeros(len(corners), np.int32),
    )  # fmt: skip


def _plain() -> Geometry:
    points = np.array([(-20, 0, -20), (-20, 0, 20), (20, 0, 20), (20, 0, -20)], float)
    return _geometry(points, np.array([(0, 1, 2), (0, 2, 3)]), np.tile((0.0, 1.0, 0.0), (4, 1)))


def _ball(columns: int = 32) -> Geometry:
    v, u = np.meshgrid(
        np.linspace(0, np.pi, columns // 2 + 1), np.linspace(0, 2 * np.pi, columns + 1), indexing="ij"
    )
    points = np.stack([np.sin(v) * np.cos(u), np.cos(v), np.sin(v) * np.sin(u)], -1).reshape(-1, 3)
    a = (np.arange(columns // 2)[:, None] * (columns + 1) + np.arange(columns)).ravel()
    b, c, d = a + 1, a + columns + 1, a + columns + 2
    return _geometry(points, np.concatenate([np.stack([a, b, d], 1), np.stack([a, d, c], 1)]), points)


def groups(step: float) -> dict[str, list[Lights]]:
    four = [lamp(f"Lamp{k}", ((k - 1.5) * step, 2.6 * step, 0.5 * step), 0.4 * step, 8.0) for k in range(4)]
    rng = np.random.default_rng(5)

    def lit(strengths: NDArray) -> Lights:
        return tuple(replace(each, radiance=tuple(s * 8.0)) for each, s in zip(four, strengths, strict=True))

    places = [(0.4 * np.cos(a) * step, 2.6 * step, 0.4 * np.sin(a) * step) for a in np.arange(8) * np.pi / 4]
    return {
        "36 angles, small sun": [(sky("sunny", k / 36),) for k in range(36)],
        "36 angles, soft sky": [(sky("soft", k / 36),) for k in range(36)],
        "12 strengths of 4": [lit(rng.uniform(0.1, 1.0, (4, 3))) for _ in range(12)],
        "8 places of a rect": [(lamp("Lamp", place, 0.6 * step, 12.0),) for place in places],
        "3 kinds of light": [
            (sky("soft", 0.0),), (lamp("Lamp", places[0], 0.6 * step, 12.0),), (sky("sunny", 0.2),),
        ],
    }  # fmt: skip


def spread_of(pictures: NDArray) -> float:
    """Mean variance over seeds, without the brightest pixels of it."""
    variance = np.sort(pictures.var(0, ddof=1).mean(-1).ravel())
    return float(variance[: int(len(variance) * 0.998)].mean())


def cost(tracer: Tracer, scene: tuple[Snapshot, dict, float], lightings: list[Lights], seeds: int) -> str:
    """The equal-error cost of a group, mean and worst, and the ratio of times."""
    snapshot, images, _ = scene
    images = images | {"sunny": sky_pixels(sun=True), "soft": sky_pixels(sun=False)}
    sensor, how = Sensor(snapshot.camera, *SIZE), TraceSettings(samples=SAMPLES, bounces=BOUNCES)
    company = Company([Lighting(lights) for lights in lightings])
    few = sorted({round(k) for k in np.linspace(0, len(lightings) - 1, 4)})

    def together(seed: int) -> tuple[NDArray, float]:
        films = list(tracer.trace_films(company, snapshot, images, sensor, replace(how, seed=seed)))
        seconds = sum(film.seconds for film in films)
        return np.stack([films[k].passes["beauty"][..., :3] for k in few]), seconds

    def alone(seed: int, k: int) -> tuple[NDArray, float]:
        film = tracer.trace(replace(snapshot, lights=lightings[k]), images, sensor, replace(how, seed=seed))
        return film.passes["beauty"][..., :3], film.seconds

    together(0), alone(0, 0)
    # In turns: the machine is faster in one minute than in the next.
    turns = [(together(seed), [alone(seed, k) for k in few]) for seed in range(1, seeds + 1)]
    ratio = float(np.median([seconds / np.mean([s for _, s in solo]) for (_, seconds), solo in turns]))
    costs = [
        spread_of(np.stack([whole[n] for (whole, _), _ in turns]))
        / spread_of(np.stack([solo[n][0] for _, solo in turns]))
        for n in range(len(few))
    ]
    return f"{np.mean(costs) * ratio:5.2f} {max(costs) * ratio:6.2f}   {ratio:5.2f} times as long"


def same_bytes(tracer: Tracer, scene: tuple[Snapshot, dict, float], lightings: list[Lights]) -> bool:
    """Whether films are the same whichever others are made."""
    snapshot, images, _ = scene
    images = images | {"sunny": sky_pixels(sun=True), "soft": sky_pixels(sun=False)}
    sensor, how = Sensor(snapshot.camera, 64, 36), TraceSettings(samples=8, bounces=BOUNCES)
    lit = [Lighting(lights) for lights in lightings]

    def made(wanted: list[int]) -> dict[int, bytes]:
        films = list(tracer.trace_films(Company(lit, wanted), snapshot, images, sensor, how))
        return {k: film.passes["beauty"].tobytes() for k, film in zip(wanted, films, strict=True)}

    whole, third = made(list(range(len(lit)))), len(lit) // 3
    parts = [list(range(third)), list(range(third, len(lit))), [len(lit) // 2], [0, len(lit) - 1]]
    return all(whole[k] == data for part in parts for k, data in made(part).items())


def unbiased(
    tracer: Tracer, scene: tuple[Snapshot, dict, float], lightings: list[Lights]
) -> tuple[float, float]:
    """The part of the pixels whose mean over 64 seeds is within three standard errors of that alone; and
    the same for traces alone against others alone, which tells what chance does."""
    snapshot, images, _ = scene
    images = images | {"sunny": sky_pixels(sun=True), "soft": sky_pixels(sun=False)}
    sensor, how = Sensor(snapshot.camera, 64, 36), TraceSettings(samples=SAMPLES, bounces=BOUNCES)
    company = Company([Lighting(lights) for lights in lightings])
    few = sorted({round(k) for k in np.linspace(0, len(lightings) - 1, 4)})

    def grey(films: list[NDArray]) -> NDArray[np.float64]:
        return np.stack(films)[..., :3].mean(-1, dtype=np.float64)

    def alone(seed: int) -> NDArray[np.float64]:
        settings = replace(how, seed=seed)
        films = [tracer.trace(replace(snapshot, lights=lightings[k]), images, sensor, settings) for k in few]
        return grey([film.passes["beauty"] for film in films])

    def shared(seed: int) -> NDArray[np.float64]:
        films = list(tracer.trace_films(company, snapshot, images, sensor, replace(how, seed=seed)))
        return grey([films[k].passes["beauty"] for k in few])

    def within(a: NDArray[np.float64], b: NDArray[np.float64]) -> float:
        error = np.sqrt((a.var(0, ddof=1) + b.var(0, ddof=1)) / 64)
        # Where nothing is noisy what is left is the rounding of single precision.
        return float((np.abs(a.mean(0) - b.mean(0)) <= 3.0 * error + 1e-5 * b.mean(0)).mean())

    one, two = (np.stack([alone(seed + first) for seed in range(64)]) for first in (1000, 2000))
    return within(np.stack([shared(seed) for seed in range(1, 65)]), one), within(two, one)


def main(words: list[str]) -> None:
    seeds = int(words[0]) if words and words[0].isdigit() else 4
    chosen = [word for word in words if not word.isdigit()]
    kind = chosen.pop(0) if chosen[:1] in (["bytes"], ["bias"]) else "cost"
    tracer = Tracer(1)
    scenes: dict[str, Callable[[], tuple[Snapshot, dict, float]]] = {"outdoors": outdoors, "room": room}
    print({"cost": f"{'':32}  mean  worst", "bytes": "films whichever others are made, to the last bit",
           "bias": "pixels within three standard errors of the mean of solo traces"}[kind])  # fmt: skip
    for where, make in scenes.items():
        scene = make()
        for name, lightings in groups(scene[2]).items():
            if chosen and not any(word in name for word in chosen):
                continue
            if kind == "bytes":
                found, bar = "equal" if same_bytes(tracer, scene, lightings) else "DIFFER", "equal"
            elif kind == "bias":
                here, chance = (100.0 * part for part in unbiased(tracer, scene, lightings))
                found, bar = f"{here:.2f} %, alone {chance:.2f} %", "≥ 99.5 %"
            else:
                found, bar = cost(tracer, scene, lightings, seeds), BARS[name]
            print(f"{where:9} {name:22} {found:36} {bar}", flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
