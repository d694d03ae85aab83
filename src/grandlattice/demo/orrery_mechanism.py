"""The orrery: dial, gear train, arms and eight planets, with the speeds its teeth give.

The dial's plane is y = 0; all lengths are centimetres.  Frames 1 to 97 are one year.  Two hidden
drives turn two lay shafts at 2 and 1/50 turns a year; each planet's wheel on the central arbor
meshes with a pinion on one of them, and the teeth make its period:

    turns a year = (turns of the shaft) × (teeth of the pinion) / (teeth of the wheel)
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from grandlattice.demo.mesh_shapes import (
    Mesh,
    box,
    disc,
    gear,
    joined,
    lathe,
    ring,
    rounded,
    sphere,
    torus,
    tube,
)

FAST, SLOW = Fraction(2), Fraction(1, 50)  # turns of the lay shafts in a year
SHAFT = 10.0  # distance of the lay shafts from the middle
ORBIT_PLANE = 25.0  # height of the planets


@dataclass(frozen=True)
class Planet:
    """A planet of the machine.  `pinion` and `wheel` are teeth, lengths are centimetres."""

    name: str
    radius: float
    orbit: float
    pinion: int
    wheel: int
    shaft: Fraction
    start_deg: float

    @property
    def turns_a_year(self) -> Fraction:
        return self.shaft * Fraction(self.pinion, self.wheel)


PLANETS = (
    Planet("Mercury", 0.95, 7.0, 83, 40, FAST, 40),
    Planet("Venus", 1.40, 9.8, 65, 80, FAST, 205),
    Planet("Earth", 1.50, 13.2, 40, 80, FAST, 118),
    Planet("Mars", 1.20, 16.6, 21, 79, FAST, 335),
    Planet("Jupiter", 2.70, 20.6, 59, 14, SLOW, 62),
    Planet("Saturn", 2.15, 25.0, 56, 33, SLOW, 262),
    Planet("Uranus", 1.75, 28.6, 25, 42, SLOW, 152),
    Planet("Neptune", 1.65, 31.4, 17, 56, SLOW, 12),
)


@dataclass(frozen=True)
class Part:
    """A piece of the machine: its mesh, what it is made of, and how it turns about Y.

    `made_of` is a kind (`Metal`, `MetalDark`, `Dial`) that a finish gives a material, or a
    material's own name.  It turns about (x, z) by `turns_a_year`, from `start_deg`.
    """

    name: str
    mesh: Mesh
    made_of: str
    turns_a_year: Fraction = Fraction(0)
    start_deg: float = 0.0
    x: float = 0.0
    z: float = 0.0


def _arm_height(index: int) -> float:
    return 20.6 - 0.75 * index


def parts() -> list[Part]:
    """Every piece of the orrery."""
    return [*_base(), *_train(), *_arms(), *_globes(), *_frame()]


def _base() -> list[Part]:
    plinth = rounded(
        [(1e-3, -6.2), (37.5, -6.2), (37.5, -4.6), (35.8, -4.0), (35.4, -2.4), (36.2, -1.6), (36.2, -0.7), (34.6, -0.5),
         (1e-3, -0.5)], 0.5,
    )  # fmt: skip
    feet = [
        lathe(
            rounded([(1e-3, -8.6), (1.6, -8.6), (2.4, -7.6), (1.5, -6.6), (2.0, -6.2), (1e-3, -6.2)], 0.4), 32
        ).moved(30 * np.sin(a), 0, 30 * np.cos(a))
        for a in np.radians([45, 135, 225, 315])
    ]
    return [
        Part("Plinth", lathe(plinth, 128), "WalnutTurned"),
        Part("Feet", joined(feet), "Metal"),
        Part("Dial", disc(31.5, 0.0, 160), "Dial"),
        Part(
            "DialRim",
            lathe(
                rounded(
                    [
                        (31.4, -0.5),
                        (34.5, -0.5),
                        (34.5, 0.3),
                        (33.6, 1.0),
                        (32.3, 1.0),
                        (31.4, 0.25),
                        (31.4, -0.5),
                    ],
                    0.3,
                ),
                160,
            ),
            "MetalDark",
        ),
    ]


def _train() -> list[Part]:
    made = []
    for i, planet in enumerate(PLANETS):
        module = 2 * SHAFT / (planet.pinion + planet.wheel)
        height = 2.6 + 1.85 * (7 - i)
        side = -1 if planet.shaft == FAST else 1
        shaft_x = SHAFT * side
        # Turn the pinion so that its teeth stand in the gaps of the wheel where the two meet.
        towards_pinion = 90.0 * side
        wheel_phase = planet.start_deg
        step_wheel, step_pinion = 360 / planet.wheel, 360 / planet.pinion
        gap = ((towards_pinion - wheel_phase) / step_wheel) % 1.0
        pinion_phase = (towards_pinion + 180) + (gap - 0.5) * step_pinion
        kind = "Metal" if i % 2 else "MetalDark"
        made.append(
            Part(f"{planet.name}Wheel", gear(planet.wheel, module, 0.7, 5, 1.5).moved(0, height, 0), kind,
                 planet.turns_a_year, wheel_phase)
        )  # fmt: skip
        made.append(
            Part(f"{planet.name}Pinion", gear(planet.pinion, module, 0.8, 4, 0.55).moved(0, height - 0.05, 0),
                 "Metal" if kind == "MetalDark" else "MetalDark", -planet.shaft, pinion_phase, shaft_x)
        )  # fmt: skip
    for side, name in ((-1, "Fast"), (1, "Slow")):
        shaft = lathe(
            rounded(
                [
                    (1e-3, 0),
                    (1.5, 0.0),
                    (1.5, 0.8),
                    (0.5, 1.2),
                    (0.5, 17.2),
                    (1.0, 17.5),
                    (0.8, 18.6),
                    (1e-3, 18.9),
                ],
                0.15,
            ),
            24,
        )
        made.append(Part(f"{name}Shaft", shaft.moved(SHAFT * side, 0, 0), "Steel"))
    return made


def _arms() -> list[Part]:
    made = []
    for i, planet in enumerate(PLANETS):
        y = _arm_height(i)
        sleeve = 0.62 + 0.13 * i
        hub = ring(sleeve + 0.35, 0.9, 0.62, 40, 0.08).moved(0, y - 0.31, 0)
        reach = np.linspace(sleeve + 0.3, planet.orbit, 14)
        bar = tube(np.stack([np.zeros(14), np.full(14, y), reach], 1), np.linspace(0.30, 0.17, 14), 10)
        tail = tube(
            np.array([[0, y, -sleeve - 0.3], [0, y, -3.0 - 0.2 * i], [0, y, -3.6 - 0.2 * i]]), 0.2, 10
        )
        weight = sphere(0.62, 20).moved(0, y, -4.1 - 0.2 * i)
        post_top = ORBIT_PLANE - planet.radius * 0.9
        post = tube(
            np.array([[0, y - 0.3, planet.orbit], [0, y + 0.4, planet.orbit], [0, post_top - 0.4, planet.orbit], [0, post_top, planet.orbit]]),
            np.array([0.24, 0.15, 0.13, 0.30]), 12,
        )  # fmt: skip
        pin = sphere(0.34, 16).moved(0, y, planet.orbit)
        mesh = joined([hub, bar, tail, weight, post, pin])
        made.append(Part(f"{planet.name}Arm", mesh, "Metal", planet.turns_a_year, planet.start_deg))
    return made


def _globes() -> list[Part]:
    made = []
    for planet in PLANETS:
        globe = sphere(planet.radius, 40).turned("z", 12).moved(0, ORBIT_PLANE, planet.orbit)
        made.append(Part(planet.name, globe, planet.name, planet.turns_a_year, planet.start_deg))
    saturn, earth = PLANETS[5], PLANETS[2]
    rings = [
        ring(saturn.radius * r, w, 0.08, 72, 0.02) for r, w in ((1.45, 0.38), (1.80, 0.52), (2.12, 0.20))
    ]
    tilted = joined(rings).turned("z", 24).moved(0, ORBIT_PLANE, saturn.orbit)
    made.append(Part("SaturnRings", tilted, "Metal", saturn.turns_a_year, saturn.start_deg))
    moon_at = (1.75, ORBIT_PLANE + 0.55, earth.orbit + 0.8)
    wire = tube(
        np.array([[0, ORBIT_PLANE - 1.5, earth.orbit], [0.9, ORBIT_PLANE - 1.5, earth.orbit + 0.4], [1.75, ORBIT_PLANE - 0.9, earth.orbit + 0.8], moon_at]),
        0.07, 8,
    )  # fmt: skip
    made.append(Part("MoonWire", wire, "Steel", earth.turns_a_year, earth.start_deg))
    made.append(Part("Moon", sphere(0.36, 24).moved(*moon_at), "Moon", earth.turns_a_year, earth.start_deg))
    return made


def _frame() -> list[Part]:
    """The sun on its arbor, the horizon ring on its posts, the bridge over the train."""
    arbor = rounded(
        [(1e-3, 0.0), (2.6, 0.0), (2.6, 0.7), (1.3, 1.2), (1.3, 2.0), (1.7, 2.3), (1.3, 2.6), (1.3, 19.0), (0.62, 19.6),
         (0.62, 21.2), (0.5, 21.6), (0.5, 22.0), (1.0, 22.3), (0.4, 22.6), (1e-3, 22.7)], 0.18,
    )  # fmt: skip
    posts = []
    for a in np.radians([65, 155, 245, 335]):
        baluster = rounded(
            [(1e-3, 0.0), (1.5, 0.0), (1.5, 0.6), (0.7, 1.1), (0.6, 3.0), (1.15, 6.4), (0.55, 10.5), (0.45, 20.0), (0.95, 20.7),
             (0.55, 21.3), (0.8, 22.2), (1e-3, 22.6)], 0.4,
        )  # fmt: skip
        posts.append(lathe(baluster, 28).moved(34.1 * np.sin(a), 1.0, 34.1 * np.cos(a)))
    short, tall = (box(0.09, 0.02, length, 0.01).moved(0, 0, 34.3) for length in (0.9, 1.5))
    graduations = [(tall if k % 5 == 0 else short).turned("y", 3.0 * k) for k in range(120)]
    bridge = ring(SHAFT, 2.2, 0.5, 96, 0.1).moved(0, 17.3, 0)
    cross = box(2 * SHAFT, 0.5, 1.6, 0.1).moved(0, 17.3, 0)
    return [
        Part("Arbor", lathe(arbor, 40), "Steel"),
        Part("Sun", sphere(3.4, 64).moved(0, ORBIT_PLANE, 0), "Sun"),
        Part("Bridge", bridge + cross, "MetalDark"),
        Part("HorizonPosts", joined(posts), "Metal"),
        Part("HorizonRing", ring(34.2, 2.6, 0.55, 160, 0.12).moved(0, 22.9, 0), "Metal"),
        Part("Graduations", joined(graduations).moved(0, 23.44, 0), "MetalDark"),
        Part("HorizonBead", torus(35.6, 0.28, 160, 10).moved(0, 23.2, 0), "MetalDark"),
    ]


def dome() -> tuple[Mesh, Mesh, Mesh]:
    """The glass over it all, its brass knob, and the ring it stands in."""
    wall = [(38.6, -6.0), (38.6, 24.0)]
    cap = [(38.6 * np.cos(a), 24.0 + 22.0 * np.sin(a)) for a in np.linspace(0.06, np.pi / 2 - 0.03, 24)]
    knob = rounded(
        [
            (1e-3, 45.6),
            (2.0, 45.6),
            (2.0, 46.2),
            (0.8, 46.9),
            (0.8, 47.6),
            (2.1, 49.0),
            (1.4, 50.6),
            (1e-3, 51.0),
        ],
        0.5,
        5,
    )
    foot = rounded([(37.7, -8.6), (40.4, -8.6), (40.4, -7.2), (39.6, -5.6), (37.9, -5.6), (37.7, -8.6)], 0.3)
    return lathe([*wall, *cap], 96), lathe(knob, 40), lathe(foot, 128)
