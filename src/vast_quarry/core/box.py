"""The keep box: what part of the world is wanted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


@dataclass(frozen=True)
class KeepBox:
    """Box that says what part of the world is wanted: upright, turned by ``turn`` (radians) about z.

    ``low`` and ``high`` (3,) are along its own axes about the world's origin.
    """

    low: tuple[float, float, float]
    high: tuple[float, float, float]
    turn: float = 0.0

    @property
    def axes(self) -> Array:
        """Rows: the box's own axes in the world (3, 3)."""
        c, s = np.cos(self.turn), np.sin(self.turn)
        return np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])

    def inside(self, points: Array, margin: float = 0.0) -> NDArray[np.bool_]:
        """Which points (N, 3) lie in the box, grown by ``margin``."""
        local = np.asarray(points) @ self.axes.T
        return np.asarray(((local >= np.asarray(self.low) - margin) & (local <= np.asarray(self.high) + margin)).all(1))

    @property
    def corners(self) -> Array:
        """The eight corners (8, 3)."""
        grid = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], dtype=float)
        local = np.asarray(self.low) + grid * (np.asarray(self.high) - np.asarray(self.low))
        return local @ self.axes

    @property
    def middle(self) -> Array:
        """Middle of the box in the world (3,)."""
        return np.asarray(self.axes.T @ ((np.asarray(self.low) + np.asarray(self.high)) / 2))

    @property
    def size(self) -> Array:
        """Edge lengths (3,)."""
        return np.asarray(self.high) - np.asarray(self.low)

    def moved(self, shift: Array) -> KeepBox:
        """The same box elsewhere in the world."""
        low, high = (tuple((np.asarray(x) + self.axes @ shift).tolist()) for x in (self.low, self.high))
        return KeepBox(low, high, self.turn)

    def planes(self) -> list[tuple[Array, Array]]:
        """Point and inward normal of each of the six faces."""
        out = []
        for k in range(3):
            n = self.axes[k]
            out += [(n * self.low[k], n), (n * self.high[k], -n)]
        return out

    def as_dict(self) -> dict:
        """JSON-ready."""
        return {"low": list(self.low), "high": list(self.high), "turn": self.turn}

    @staticmethod
    def from_dict(d: dict) -> KeepBox:
        """The reverse of :meth:`as_dict`."""
        return KeepBox(tuple(d["low"]), tuple(d["high"]), float(d["turn"]))


def smallest_turn(xy: Array) -> float:
    """Angle in (-45, 45] degrees, in radians, by which the box about points (N, 2) of least area is turned."""
    angles = np.radians(np.arange(-44.0, 46.0, 2.0))
    areas = []
    for a in angles:
        c, s = np.cos(a), np.sin(a)
        u = xy @ np.array([[c, -s], [s, c]])
        e = np.percentile(u, 99, axis=0) - np.percentile(u, 1, axis=0)
        areas.append(e[0] * e[1])
    best = float(angles[int(np.argmin(areas))])
    # a round subject has no preferred turn
    return best if min(areas) < 0.93 * areas[len(areas) // 2 - 1] else 0.0
