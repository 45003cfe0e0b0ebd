"""Procedural 3D colour of the rig's materials (numba): albedo in linear RGB at a place in the world.

Every material has detail down to ``finest`` metres, which the caller sets to about one pixel.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from vast_quarry.core.rig.noise import fbm, value_noise

SANDSTONE, GRASS, CLAY, FELT = 0, 1, 2, 3
#: a printed sheet, whose picture the scene holds
PRINT = 4
#: one colour of paint with a breath of tone and grain; a floor of boards; a chest with a printed lid beside a stone jar
PAINTED, BOARDS, CHEST = 5, 6, 7
#: the same paint without any tone or grain
BARE = 8
#: height of the chest's lid, and where along x the chest ends (m)
LID, CHEST_END = 0.17, 0.02
#: mean colours of sandstone, grass, clay and felt
_PLAIN = np.array(
    [
        [0.42, 0.35, 0.25], [0.15, 0.20, 0.08], [0.38, 0.21, 0.13], [0.055, 0.057, 0.062], [0.8, 0.8, 0.8],
        [0.27, 0.28, 0.29], [0.30, 0.20, 0.11], [0.10, 0.08, 0.07], [0.27, 0.28, 0.29],
    ]
)  # fmt: skip


@njit(error_model="numpy", cache=True)
def _octaves(scale: float, finest: float) -> int:
    return max(1, min(12, int(np.ceil(np.log2(scale / finest))) + 1))


@njit(error_model="numpy", cache=True)
def albedo(
    material: int, x: float, y: float, z: float, finest: float, seed: int, bald: float = 0.0
) -> tuple[float, float, float]:
    """Linear RGB reflectance of a material at a place; ``bald`` patches of it lose so much of their texture (0 to 1)."""
    r, g, b = _painted(material, x, y, z, finest, seed)
    if bald > 0:
        patch = fbm(x, y, z, 0.16, 2, 0.5, seed + 131)
        s = bald * min(1.0, max(0.0, (patch + 0.02) * 8.0))
        if s > 0:
            mr, mg, mb = _PLAIN[material, 0], _PLAIN[material, 1], _PLAIN[material, 2]
            r, g, b = r * (1 - s) + mr * s, g * (1 - s) + mg * s, b * (1 - s) + mb * s
    return r, g, b


@njit(error_model="numpy", cache=True)
def _stone(x: float, y: float, z: float, finest: float, seed: int) -> tuple[float, float, float]:
    """Bedded sandstone with lichen."""
    bed = fbm(x * 0.35, y * 0.35, z * 3.0, 0.05, _octaves(0.05, finest), 0.75, seed + 11)
    grain = fbm(x, y, z, 0.008, _octaves(0.008, finest), 0.9, seed + 31)
    lichen = fbm(x, y, z, 0.06, _octaves(0.06, finest), 0.7, seed + 53)
    tone = 0.36 + 0.08 * bed + 0.16 * grain
    r, g, b = tone * 1.12, tone * 0.92, tone * 0.66
    if lichen > 0.25:
        s = min(1.0, (lichen - 0.25) * 5.0) * (0.75 + 0.4 * grain)
        s = min(max(s, 0.0), 1.0)
        r, g, b = r * (1 - s) + 0.40 * s, g * (1 - s) + 0.44 * s, b * (1 - s) + 0.30 * s
    return r, g, b


@njit(error_model="numpy", cache=True)
def _painted(material: int, x: float, y: float, z: float, finest: float, seed: int) -> tuple[float, float, float]:
    if material == SANDSTONE:
        r, g, b = _stone(x, y, z, finest, seed)
    elif material == GRASS:
        blades = fbm(x, y, z, 0.012, _octaves(0.012, finest * 1.5), 0.9, seed + 71)
        patch = fbm(x, y, z, 0.22, 4, 0.6, seed + 91)
        straw = value_noise(x * 160.0, y * 160.0, z * 160.0, seed + 97)
        tone = 0.16 + 0.11 * blades + 0.03 * patch
        r, g, b = tone * (0.75 + 0.25 * patch), tone * 1.15, tone * 0.42
        if straw > 0.45:
            r, g, b = r + 0.18, g + 0.15, b + 0.07
    elif material == CLAY:
        fire = fbm(x, y, z, 0.05, _octaves(0.05, finest), 0.7, seed + 13)
        grain = fbm(x, y, z, 0.005, _octaves(0.005, finest), 0.9, seed + 37)
        soot = fbm(x, y, z * 0.6, 0.03, _octaves(0.03, finest), 0.65, seed + 59)
        tone = 0.30 + 0.07 * fire + 0.13 * grain
        r, g, b = tone * 1.35, tone * 0.72, tone * 0.45
        if soot > 0.30:
            s = min(0.8, (soot - 0.30) * 3.0)
            r, g, b = r * (1 - s) + 0.05 * s, g * (1 - s) + 0.045 * s, b * (1 - s) + 0.045 * s
    elif material == PAINTED:
        # tone and grain of three to four per cent (standard deviation)
        tone = (
            1
            + 0.06 * fbm(x, y, z, 0.05, 3, 0.6, seed + 19)
            + 0.08 * fbm(x, y, z, 0.003, _octaves(0.003, finest), 0.8, seed + 23)
        )
        r, g, b = 0.27 * tone, 0.28 * tone, 0.29 * tone
    elif material == BARE:
        r, g, b = 0.27, 0.28, 0.29
    elif material == BOARDS:
        board = np.floor(y / 0.11)
        streak = fbm(x * 0.07, y, z, 0.006, _octaves(0.006, finest), 0.75, seed + 61 + int(board) * 7)
        tone = 0.24 + 0.035 * np.sin(2.4 * board) + 0.11 * streak
        if abs(y / 0.11 - board - 0.5) > 0.488:
            tone *= 0.25
        r, g, b = tone * 1.25, tone * 0.85, tone * 0.5
    elif material == CHEST:
        if x > CHEST_END:
            r, g, b = _stone(x, y, z, finest, seed)
        elif z > LID - 0.004:
            cell = value_noise(np.floor(x / 0.008) * 3.1, np.floor(y / 0.008) * 5.3, 0.5, seed + 41)
            tone = 0.55 if cell > 0 else 0.06
            r, g, b = tone, tone * 0.95, tone * 0.85
        else:
            tone = 1 + 0.06 * fbm(x, y, z, 0.004, _octaves(0.004, finest), 0.8, seed + 29)
            r, g, b = 0.10 * tone, 0.08 * tone, 0.07 * tone
    else:
        tone = 0.055 + 0.006 * fbm(x, y, z, 0.004, 2, 0.8, seed + 17)
        r, g, b = tone, tone * 1.04, tone * 1.12
    return max(r, 0.01), max(g, 0.01), max(b, 0.01)
