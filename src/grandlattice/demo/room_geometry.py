"""The room: boarded floor, panelled walls, a tall window with a curtain, pedestal, lamp and table.

The floor is y = 0, the pedestal stands at the middle.  The room is open towards the cameras and
above, as a stage is, so that the sky can light it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from grandlattice.demo.mesh_shapes import (
    Floats,
    Mesh,
    box,
    cylinder,
    disc,
    joined,
    lathe,
    rounded,
    sphere,
    surface,
    torus,
    tube,
)

BACK, LEFT, RIGHT, FRONT = -170.0, -215.0, 260.0, 300.0
WALL_HEIGHT = 330.0
PEDESTAL_HEIGHT = 92.0
TABLE = (128.0, -92.0)  # x, z
TABLE_HEIGHT = 70.0
WINDOW = (-50.0, 70.0, 62.0, 246.0)  # z from, z to, y from, y to, in the left wall


@dataclass(frozen=True)
class Piece:
    """A piece of the room: path below /Room, mesh, material."""

    path: str
    mesh: Mesh
    material: str


def pieces() -> list[Piece]:
    """Everything that is always there."""
    return [
        Piece("Shell/Floor", _floor(), "Boards"),
        Piece("Shell/BackWall", _panelled(RIGHT - LEFT).moved((LEFT + RIGHT) / 2, 0, BACK), "Panel"),
        Piece("Shell/BackPlaster", _plaster(RIGHT - LEFT).moved((LEFT + RIGHT) / 2, 0, BACK), "Plaster"),
        Piece("Shell/LeftWall", _left_wall(), "Panel"),
        Piece("Shell/LeftPlaster", _left_plaster(), "Plaster"),
        Piece("Shell/Window", _window(), "Ivory"),
        Piece("Shell/WindowGlass", _pane(), "Glass"),
        Piece("Shell/Curtain", _curtains(), "Velvet"),
        Piece("Shell/CurtainRod", _rod(), "BrassDark"),
        Piece("Shell/Rug", disc(118, 0.6, 96) + lathe([(118, 0.6), (119, 0.3), (119, 0)], 96), "Rug"),
        Piece("Shell/RugBorder", disc(110, 0.75, 96, 99), "RugBorder"),
        Piece("Pedestal/Body", _pedestal(), "Walnut"),
        Piece("Pedestal/Top", _pedestal_top(), "Walnut"),
        Piece("SideTable/Wood", _table(), "WalnutTurned"),
        Piece("Lamp/Base", _lamp_base(), "Brass"),
        Piece("Lamp/Shade", _lamp_shade(), "Shade"),
        Piece("Lamp/Trim", _lamp_trim(), "BrassDark"),
    ]


def reading_table() -> list[Piece]:
    """What the `dressing` called reading-table adds."""
    x, z = TABLE
    y = TABLE_HEIGHT
    stack = [
        ("LeatherGreen", box(22, 4.2, 30, 0.5), 8, 0.0),
        ("LeatherRed", box(20, 3.4, 27, 0.5), -6, 4.2),
        ("LeatherBrown", box(18, 3.0, 25, 0.5), 20, 7.6),
    ]
    found = [
        Piece(f"Books/{name}", mesh.turned("y", turn).moved(x - 14, y + up, z + 13), name)
        for name, mesh, turn, up in stack
    ]
    left = surface(
        lambda u, v: (-16 * u, 0.4 + 2.2 * np.sin(np.pi * np.clip(u, 0.02, 1) ** 0.6), 22 * v - 11), 14, 4
    )
    right = surface(
        lambda u, v: (16 - 16 * u, 0.4 + 2.2 * np.sin(np.pi * (1 - u * 0.98) ** 0.6), 22 * v - 11), 14, 4
    )
    open_book = (left + right).turned("y", -24)
    found.append(Piece("Books/OpenPages", _facing_up(open_book).moved(x + 15, y + 0.6, z + 18), "Paper"))
    found.append(
        Piece(
            "Books/OpenCover", box(33, 0.6, 23, 0.2).turned("y", -24).moved(x + 15, y, z + 18), "LeatherBrown"
        )
    )
    return found


def _facing_up(mesh: Mesh) -> Mesh:
    """Every face turned to look up."""
    at = mesh.points[mesh.indices].reshape(-1, 4, 3)
    normal = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
    indices, uvs = mesh.indices.reshape(-1, 4).copy(), mesh.uvs.reshape(-1, 4, 2).copy()
    down = normal[:, 1] < 0
    indices[down], uvs[down] = indices[down][:, ::-1], uvs[down][:, ::-1]
    return Mesh(mesh.points, mesh.counts, indices.ravel(), uvs.reshape(-1, 2))


def _quad(corners: list[tuple[float, float, float]], scale: float) -> Mesh:
    p = np.array(corners)
    width, height = np.linalg.norm(p[1] - p[0]) * scale, np.linalg.norm(p[3] - p[0]) * scale
    uvs = np.array([[0, 0], [width, 0], [width, height], [0, height]])
    return Mesh(p, np.array([4]), np.arange(4), uvs)


def _floor() -> Mesh:
    return _quad([(LEFT, 0, FRONT), (RIGHT, 0, FRONT), (RIGHT, 0, BACK), (LEFT, 0, BACK)], 1 / 130)


def _moulding(width: float, y: float, sections: list[tuple[float, float]]) -> Mesh:
    """A profile (out from the wall, up) drawn along X, the wall being z = 0."""
    p: Floats = np.array(sections)
    xs = np.array([-width / 2, width / 2])
    points = np.stack([np.stack([np.full(len(p), x), y + p[:, 1], p[:, 0]], 1) for x in xs])
    quads, count = [], len(p)
    for i in range(count - 1):
        quads.append([i, count + i, count + i + 1, i + 1])
    indices = np.array(quads).ravel()
    flat = points.reshape(-1, 3)
    return Mesh(flat, np.full(len(quads), 4), indices, flat[indices][:, :2] / 100)


def _frame(width: float, height: float) -> Mesh:
    """The moulded frame of a panel, centred on x, standing on y = 0, raised from z = 0."""
    w = 4.0
    sides = []
    for along, across, turn in ((width, height, 0), (height, width, 90)):
        for sign in (-1, 1):
            profile = [(0.0, 0.0), (1.6, 0.6), (2.2, 1.6), (1.3, 2.8), (1.7, 3.4), (0.0, 4.0)]
            bar = _moulding(along, -w / 2, profile)
            if sign > 0:
                bar = bar.turned("z", 180)
            bar = bar.moved(0, sign * (across / 2 - w / 2), 0)
            sides.append(bar.turned("z", turn))
    return joined(sides).moved(0, height / 2, 0)


_DADO = 108.0
_PICTURE_RAIL = 262.0


def _panelled(width: float) -> Mesh:
    """A wall of panels, centred on x, facing +Z at z = 0: skirting, two rows of panels, rails."""
    board = _quad(
        [
            (-width / 2, 0, 0),
            (width / 2, 0, 0),
            (width / 2, _PICTURE_RAIL, 0),
            (-width / 2, _PICTURE_RAIL, 0),
        ],
        0.01,
    )
    skirting = _moulding(width, 0, [(2.4, 0), (2.4, 15), (1.8, 16), (1.8, 18), (0.8, 20), (0, 20)])
    dado = _moulding(
        width, _DADO, [(0, -5), (1.2, -4), (1.6, -1), (3.2, 0), (3.2, 1.6), (2.0, 2.6), (0, 3.2)]
    )
    rail = _moulding(
        width, _PICTURE_RAIL, [(0, -9), (1.4, -7), (1.8, -2.6), (4.2, -1.4), (4.6, 0.8), (3.4, 2.2), (0, 2.2)]
    )
    count = max(1, round(width / 92))
    wide = width / count
    frames = []
    for k in range(count):
        x = -width / 2 + wide * (k + 0.5)
        frames.append(_frame(wide - 18, _DADO - 42).moved(x, 29, 0))
        frames.append(_frame(wide - 18, _PICTURE_RAIL - _DADO - 30).moved(x, _DADO + 14, 0))
    return joined([board, skirting, dado, rail, *frames])


def _plaster(width: float) -> Mesh:
    low, high = _PICTURE_RAIL, WALL_HEIGHT
    wall = _quad(
        [(-width / 2, low, 0), (width / 2, low, 0), (width / 2, high, 0), (-width / 2, high, 0)], 0.01
    )
    cornice = _moulding(
        width, high, [(0, -16), (2, -15), (3, -11), (8, -5), (9, -2), (11, -1), (11, 2), (0, 2)]
    )
    return wall + cornice


def _left_wall() -> Mesh:
    """Panels on both sides of the window and below it; the wall has a thickness there."""
    z0, z1, y0, y1 = WINDOW
    parts = []
    for start, end in ((BACK, z0), (z1, FRONT)):
        parts.append(_panelled(end - start).turned("y", 90).moved(LEFT, 0, (start + end) / 2))
    sill = _quad(
        [(-(z1 - z0) / 2, 0, 0), ((z1 - z0) / 2, 0, 0), ((z1 - z0) / 2, y0, 0), (-(z1 - z0) / 2, y0, 0)], 0.01
    )
    under = sill + _frame(z1 - z0 - 18, y0 - 30).moved(0, 24, 0)
    skirting = _moulding(z1 - z0, 0, [(2.4, 0), (2.4, 15), (1.8, 16), (1.8, 18), (0.8, 20), (0, 20)])
    over = [
        (-(z1 - z0) / 2, y1),
        ((z1 - z0) / 2, y1),
        ((z1 - z0) / 2, _PICTURE_RAIL),
        (-(z1 - z0) / 2, _PICTURE_RAIL),
    ]
    under += _quad([(a, b, 0) for a, b in over], 0.01)
    parts.append((under + skirting).turned("y", 90).moved(LEFT, 0, (z0 + z1) / 2))
    return joined(parts)


def _left_plaster() -> Mesh:
    return _plaster(FRONT - BACK).turned("y", 90).moved(LEFT, 0, (FRONT + BACK) / 2)


def _window() -> Mesh:
    """Reveal, frame, muntins and sill, in the left wall."""
    z0, z1, y0, y1 = WINDOW
    middle, width, height, deep = (z0 + z1) / 2, z1 - z0, y1 - y0, 16.0
    parts = []
    for z in (z0, z1):
        parts.append(box(deep, height, 5, 0.4).moved(LEFT - deep / 2 + 2, y0, z))
    parts.append(box(deep, 5, width, 0.4).moved(LEFT - deep / 2 + 2, y1 - 5, middle))
    parts.append(box(deep + 12, 3.4, width + 14, 0.8).moved(LEFT - deep / 2 + 7, y0 - 3, middle))
    for z in (z0 - 5.5, z1 + 5.5):
        parts.append(box(3.2, height + 16, 9, 0.8).moved(LEFT + 1.4, y0 - 3, z))
    parts.append(box(4.4, 11, width + 26, 1.2).moved(LEFT + 2, y1, middle))
    x = LEFT - 9
    parts.append(box(5, height, 5.5, 0.6).moved(x, y0, middle))
    for z in (middle - width / 4, middle + width / 4):
        parts.append(box(2.6, height, 2.4, 0.5).moved(x, y0, z))
    for k in range(1, 5):
        thick = 5.5 if k == 3 else 2.4
        parts.append(box(2.8, thick, width, 0.5).moved(x, y0 + height * k / 5 - thick / 2, middle))
    return joined(parts)


def _pane() -> Mesh:
    z0, z1, y0, y1 = WINDOW
    x = LEFT - 9
    return _quad([(x, y0, z1), (x, y0, z0), (x, y1, z0), (x, y1, z1)], 0.01)


def _curtains() -> Mesh:
    """Two drapes with folds, drawn together at a tie a third of the way up."""
    z0, z1, _, y1 = WINDOW

    def drape(outer: float, inner: float, phase: float) -> Mesh:
        def shape(u: Floats, v: Floats) -> tuple[Floats, Floats, Floats]:
            y = 4 + v * (y1 + 12 - 4)
            waist = np.exp(-(((y - 112) / 52) ** 2))
            spread = 1 - 0.52 * waist
            across = outer + (inner - outer) * u * spread
            depth = (
                5.5
                * (1 - 0.35 * waist)
                * np.sin(2 * np.pi * 6.5 * u + phase + 0.5 * np.sin(3 * v))
                * (0.6 + 0.4 * u)
            )
            return LEFT + 13 + depth + 4 * waist + 1.5 * np.sin(9 * u + 4 * v), y, across

        return surface(shape, 130, 46)

    return drape(z0 - 22, z0 + 30, 0.4) + drape(z1 + 22, z1 - 30, 1.9)


def _rod() -> Mesh:
    z0, z1, _, y1 = WINDOW
    y = y1 + 17
    bar = tube(np.array([[LEFT + 13, y, z0 - 34], [LEFT + 13, y, z1 + 34]]), 1.7, 20)
    ends = [sphere(3.6, 28).moved(LEFT + 13, y, z) for z in (z0 - 36, z1 + 36)]
    rings = []
    for z in (*np.linspace(z0 - 21, z0 + 28, 9), *np.linspace(z1 + 21, z1 - 28, 9)):
        rings.append(torus(2.6, 0.4, 28, 8).turned("x", 90).moved(LEFT + 13, y - 0.8, float(z)))
    return joined([bar, *ends, *rings])


def _pedestal() -> Mesh:
    h = PEDESTAL_HEIGHT
    parts = [
        box(92, 9, 92, 1.2),
        box(86, 4, 86, 1.8).moved(0, 9, 0),
        box(76, h - 28, 76, 0.8).moved(0, 13, 0),
        box(84, 3.5, 84, 1.6).moved(0, h - 15, 0),
    ]
    for turn in (0, 90, 180, 270):
        panel = _frame(60, h - 44).moved(0, 21, 38)
        parts.append(Mesh(panel.points, panel.counts, panel.indices, panel.uvs * 100).turned("y", turn))
    return joined(parts)


def _pedestal_top() -> Mesh:
    h = PEDESTAL_HEIGHT
    return box(92, 5, 92, 1.6).moved(0, h - 11.5, 0) + box(100, 6.5, 100, 2.2).moved(0, h - 6.5, 0)


def _table() -> Mesh:
    x, z = TABLE
    h = TABLE_HEIGHT
    top = lathe(
        rounded([(1e-3, h - 3.4), (33, h - 3.4), (36, h - 2.4), (36.5, h - 0.8), (35.6, h), (1e-3, h)], 0.6),
        96,
    )
    column = lathe(
        rounded(
            [(1e-3, 12), (5.4, 14), (6.6, 19), (3.4, 26), (2.6, 40), (4.4, 50), (2.8, 56), (3.2, 60), (8, h - 4), (8, h - 3.2),
             (1e-3, h - 3.2)], 2.0, 5,
        ), 48,
    )  # fmt: skip
    legs = []
    for k in range(3):
        t = np.linspace(0, 1, 14)
        path = np.stack([np.zeros(14), 19 - 17.2 * t**1.6 + 2.2 * np.sin(np.pi * t), 3 + 29 * t], 1)
        legs.append(tube(path, 2.5 - 0.9 * t, 14).turned("y", 120 * k + 40))
    return joined([top, column, *legs]).moved(x, 0, z)


_LAMP = (TABLE[0] + 4.0, TABLE[1] - 8.0)
LAMP_BULB = (_LAMP[0], TABLE_HEIGHT + 40.0, _LAMP[1])


def _lamp_base() -> Mesh:
    x, z = _LAMP
    stem = lathe(
        rounded(
            [(1e-3, 0), (10, 0), (10, 1.4), (8.4, 2.4), (4, 3.4), (2.4, 5.6), (4.6, 9.6), (6.2, 14.5), (4.4, 20), (1.7, 24),
             (2.2, 25.2), (1.2, 26.4), (1.0, 36), (1.6, 36.6), (1.6, 39), (1e-3, 39)], 0.8, 4,
        ), 64,
    )  # fmt: skip
    finial = sphere(1.3, 24).moved(0, 59.5, 0) + cylinder(0.35, 24, 12).moved(0, 36, 0)
    return (stem + finial).moved(x, TABLE_HEIGHT, z)


def _lamp_shade() -> Mesh:
    x, z = _LAMP
    return lathe([(21.5, 33.0), (12.5, 56.5)], 96).moved(x, TABLE_HEIGHT, z)


def _lamp_trim() -> Mesh:
    x, z = _LAMP
    spokes = [tube(np.array([[0, 55.5, 0], [0, 56.3, 12.3]]), 0.25, 8).turned("y", 120 * k) for k in range(3)]
    rims = [torus(21.5, 0.35, 96, 8).moved(0, 33, 0), torus(12.5, 0.35, 96, 8).moved(0, 56.5, 0)]
    return joined([*rims, *spokes]).moved(x, TABLE_HEIGHT, z)
