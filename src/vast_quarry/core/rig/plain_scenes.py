"""The rig's hard subjects: what people mostly bring has hardly any texture, thin parts, plain sides, or comes in two.

``hound``: a door-stop of cast iron, painted grey, four legs, on a floor of boards with some printed blocks about. ``rack``: a slab of
stone with thin iron rods. ``chest``: an alms chest with plain dark sides and a printed lid, and a stone jar apart from it.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.rig import paint
from vast_quarry.core.rig.scenes import Body, Scene, displaced, grid, rough_ground
from vast_quarry.core.rig.solids import box_distance, hound_distance, jar_distance, mesh_of_distance

Array = NDArray[np.float64]
Mesh = tuple[Array, NDArray[np.int64]]

#: how much the paint mirrors, of what a glossy subject does
SHEEN = 0.12


def _together(meshes: list[Mesh]) -> Mesh:
    """Several meshes as one."""
    starts = np.cumsum([0, *(len(v) for v, _ in meshes)])
    return np.concatenate([v for v, _ in meshes]), np.concatenate([f + n for (_, f), n in zip(meshes, starts)])


def _box(low: tuple[float, float, float], high: tuple[float, float, float], cell: float, r: float = 0.003) -> Mesh:
    pad = 2 * cell
    return mesh_of_distance(lambda p: box_distance(p, low, high, r), np.array(low) - pad, np.array(high) + pad, cell)


def _rod(at: tuple[float, float], radius: float, low: float, high: float, around: int = 24, along: int = 60) -> Mesh:
    """An upright rod with a flat end."""
    turn = np.arange(around) * 2 * np.pi / around
    z = np.linspace(low, high, along)
    side = np.stack(
        [
            np.broadcast_to(at[0] + radius * np.cos(turn), (along, around)),
            np.broadcast_to(at[1] + radius * np.sin(turn), (along, around)),
            np.broadcast_to(z[:, None], (along, around)),
        ],
        -1,
    ).reshape(-1, 3)
    i = np.arange(along * around).reshape(along, around)
    right = np.roll(i, -1, axis=1)
    quads = np.stack([i[:-1], right[:-1], right[1:], i[1:]], -1).reshape(-1, 4)
    top = along * around
    cap = np.stack([i[-1], right[-1], np.full(around, top)], 1)
    faces = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]], cap])
    return np.concatenate([side, [[*at, high]]]), faces


def _floor(half: float, cell: float) -> Body:
    return Body(*grid(half, cell, lambda p: np.zeros(len(p))), paint.BOARDS)


def hound(seed: int = 6, cell: float = 0.0016, fine: bool = True, material: int = paint.PAINTED) -> Scene:
    """A hound of cast iron, about 0.3 m high, painted in one colour, on boards; small printed blocks lie about."""
    del fine
    v, f = mesh_of_distance(hound_distance, np.array([-0.24, -0.10, -0.01]), np.array([0.26, 0.10, 0.33]), cell)
    v = displaced(v, f, [(0.03, 0.0006)], seed)
    blocks = [
        ((0.36, -0.22), 0.030),
        ((-0.34, -0.30), 0.024),
        ((-0.30, 0.34), 0.034),
        ((0.28, 0.36), 0.020),
        ((0.52, 0.10), 0.04),
    ]
    lying = [_box((x - s, y - s, 0.0), (x + s, y + s, 1.6 * s), 0.004) for (x, y), s in blocks]
    bodies = [Body(v, f, material), _floor(1.8, 0.012), Body(*_together(lying), paint.CLAY)]
    return Scene("hound", bodies, False, seed, 0.008, (0.55, 0.58, 0.62), gloss=SHEEN)


def bare_hound(seed: int = 6, cell: float = 0.0016, fine: bool = True) -> Scene:
    """The same hound in paint without any tone or grain: only its outline and its shading tell its shape."""
    return replace(hound(seed, cell, fine, paint.BARE), name="bare-hound")


#: rods of the rack: where each stands, its radius and its height above the slab (m)
RODS = tuple(
    ((-0.12 + 0.048 * k, 0.03 * (-1) ** k), 0.001 * w / 2, h)
    for k, (w, h) in enumerate(((3, 0.10), (4, 0.13), (5, 0.15), (6, 0.12), (8, 0.16), (3, 0.14)))
)


def rack(seed: int = 7, cell: float = 0.0016, fine: bool = True) -> Scene:
    """A slab of stone, 0.32 x 0.2 m, with six iron rods 3 to 8 mm thick, up to 0.16 m high."""
    del fine
    thick = 0.03
    v, f = _box((-0.16, -0.10, -0.01), (0.16, 0.10, thick), cell)
    v = displaced(v, f, [(0.02, 0.0008), (0.006, 0.0004)], seed)
    rods = [_rod(at, radius, thick - 0.004, thick + height) for at, radius, height in RODS]
    ground = Body(*grid(1.6, max(4 * cell, 0.006), lambda p: 0.4 * rough_ground(p, seed)), paint.GRASS)
    return Scene("rack", [Body(*_together([(v, f), *rods]), paint.CLAY), ground], False, seed, 0.01, (0.62, 0.70, 0.80))


def chest(seed: int = 8, cell: float = 0.0018, fine: bool = True) -> Scene:
    """An alms chest with plain dark sides and a printed lid, and a stone jar 0.12 m beside it, on rough ground."""
    del fine
    v, f = _box((-0.24, -0.10, 0.0), (-0.02, 0.10, paint.LID), cell, 0.002)
    jar = mesh_of_distance(jar_distance, np.array([0.08, -0.10, -0.01]), np.array([0.28, 0.10, 0.24]), cell)
    jar = displaced(*jar, [(0.03, 0.0015), (0.008, 0.0006)], seed), jar[1]
    ground = Body(*grid(1.8, 0.008, lambda p: 0.3 * rough_ground(p, seed)), paint.GRASS)
    return Scene(
        "chest", [Body(*_together([(v, f), jar]), paint.CHEST), ground], False, seed, 0.012, (0.62, 0.70, 0.80)
    )
