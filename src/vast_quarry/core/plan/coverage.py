"""What planned photos see of a stand-in, by ray casting.

A photo sees a patch well when the patch lies in its frame, nothing is in between, and the line of sight meets it under
60 degrees from its normal. Each patch gets the number of photos that see it well, the finest ground sample, the
squarest angle, the widest angle between two of its lines of sight, and whether any of them has it in focus.

References
----------
Depth from two lines of sight is the better the wider they part; common practice, no source: every place in three
neighbouring photos, ten degrees or more between two of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.plan.standin import StandIn
from vast_quarry.core.raycast import RayScene

Array = NDArray[np.float64]

#: steepest line of sight on a patch that still counts, in degrees from its normal
WELL = 60.0
#: photos that are to see each patch
ENOUGH = 3


@dataclass(frozen=True)
class Coverage:
    """What stations see of patches.

    Attributes
    ----------
    seen : (S, P) bool
        Which station sees which patch well.
    count : (P,) int
        Photos a patch.
    gsd : (P,)
        Finest ground sample in metres; inf where nothing sees it.
    angle : (P,)
        Squarest line of sight, degrees from the normal; 90 where nothing sees it.
    widest : (P,)
        Widest angle between two lines of sight, degrees.
    sharp : (P,) bool
        Whether a photo that sees it has it in focus.
    """

    seen: NDArray[np.bool_]
    count: NDArray[np.int64]
    gsd: Array
    angle: Array
    widest: Array
    sharp: NDArray[np.bool_]

    def share_seen(self, standin: StandIn, photos: int = ENOUGH) -> float:
        """Share of the wanted area that so many photos see."""
        area = standin.areas[standin.wanted]
        return float(area[self.count[standin.wanted] >= photos].sum() / max(area.sum(), 1e-30))


@njit(error_model="numpy", cache=True, parallel=True)
def _in_view(
    centers: Array, rotations: Array, points: Array, normals: Array, lens: Array, cos_well: float,
    seen: NDArray[np.bool_], facing: NDArray[np.float32], distance: NDArray[np.float32],
) -> None:  # fmt: skip
    """Which points (P, 3) lie in the frame and face each camera, whatever is in between.

    ``lens`` holds fx, fy, cx, cy, width, height. Fills seen, cosine of incidence and distance, all (S, P).
    """
    for s in prange(len(centers)):
        r = rotations[s]
        for p in range(len(points)):
            x, y, z = points[p, 0] - centers[s, 0], points[p, 1] - centers[s, 1], points[p, 2] - centers[s, 2]
            d = np.sqrt(x * x + y * y + z * z)
            c = -(x * normals[p, 0] + y * normals[p, 1] + z * normals[p, 2]) / max(d, 1e-30)
            facing[s, p], distance[s, p] = c, d
            if c <= cos_well:
                continue
            depth = r[2, 0] * x + r[2, 1] * y + r[2, 2] * z
            if depth <= 0:
                continue
            u = lens[0] * (r[0, 0] * x + r[0, 1] * y + r[0, 2] * z) / depth + lens[2]
            v = lens[1] * (r[1, 0] * x + r[1, 1] * y + r[1, 2] * z) / depth + lens[3]
            seen[s, p] = u > -0.5 and u < lens[4] - 0.5 and v > -0.5 and v < lens[5] - 0.5


@njit(error_model="numpy", cache=True, parallel=True)
def _widest(seen: NDArray[np.bool_], centers: Array, points: Array) -> NDArray[np.float32]:
    """Smallest cosine between two of the lines of sight of each point."""
    stations, patches = seen.shape
    out = np.ones(patches, np.float32)
    for p in prange(patches):
        rays = np.empty((stations, 3))
        n = 0
        for s in range(stations):
            if seen[s, p]:
                d = centers[s] - points[p]
                rays[n] = d / np.sqrt((d * d).sum())
                n += 1
        least = 1.0
        for i in range(n):
            for j in range(i):
                least = min(least, rays[i, 0] * rays[j, 0] + rays[i, 1] * rays[j, 1] + rays[i, 2] * rays[j, 2])
        out[p] = least
    return out


def _centers(stations: Sequence[Station]) -> Array:
    return np.array([s.center for s in stations], float).reshape(-1, 3)


class Watcher:
    """A stand-in with what stands about it, looked at from stations with one camera."""

    def __init__(
        self,
        standin: StandIn,
        camera: Camera,
        focus: tuple[float, float] = (0.0, np.inf),
        obstacles: Sequence[tuple[Array, NDArray[np.int64]]] = (),
        well: float = WELL,
    ) -> None:
        self.standin, self.camera, self.focus = standin, camera, focus
        self.cos_well = float(np.cos(np.radians(well)))
        self.scene = RayScene()
        self.scene.add(standin.vertices, standin.faces)
        for v, f in obstacles:
            self.scene.add(v, f)
        size = float(np.linalg.norm(standin.size))
        self.lifted = standin.centers + standin.normals * 1e-4 * size

    def look(self, stations: Sequence[Station]) -> tuple[NDArray[np.bool_], NDArray[np.float32], NDArray[np.float32]]:
        """Which patches are well seen, cosines of incidence, and distances, all (S, P)."""
        shape = len(stations), len(self.standin.centers)
        seen, facing, distance = np.zeros(shape, bool), np.zeros(shape, np.float32), np.zeros(shape, np.float32)
        if not stations:
            return seen, facing, distance
        c, centers = self.camera, _centers(stations)
        lens = np.array([c.fx, c.fy, c.cx, c.cy, c.width, c.height], float)
        rotations = np.stack([s.rotation for s in stations])
        _in_view(centers, rotations, self.lifted, self.standin.normals, lens, self.cos_well, seen, facing, distance)
        s, q = np.nonzero(seen)
        cast = np.empty((len(s), 6), np.float32)
        cast[:, :3], cast[:, 3:] = self.lifted[q], centers[s] - self.lifted[q]
        seen[s, q] = ~self.scene.blocked(cast, near=0.0, far=1.0)
        return seen, facing, distance

    def coverage(self, stations: Sequence[Station]) -> Coverage:
        """What stations see."""
        seen, facing, distance = self.look(stations)
        best = np.where(seen, facing, 0.0).max(0, initial=0.0)
        nearest = np.where(seen, distance, np.inf).min(0, initial=np.inf)
        sharp: NDArray[np.bool_] = np.any(seen & (distance >= self.focus[0]) & (distance <= self.focus[1]), axis=0)
        widest = _widest(seen, _centers(stations), self.lifted)
        return Coverage(
            seen=seen,
            count=seen.sum(0),
            gsd=nearest.astype(float) / self.camera.fx,
            angle=np.degrees(np.arccos(np.clip(best, 0, 1))).astype(float),
            widest=np.degrees(np.arccos(np.clip(widest, -1, 1))).astype(float),
            sharp=np.asarray(sharp),
        )

    def overlap(self, first: Station, second: Station) -> float:
        """Share of what one photo sees well, by area, that another sees well too."""
        seen, _, _ = self.look([first, second])
        area = self.standin.areas
        return float(area[seen[0] & seen[1]].sum() / max(area[seen[0]].sum(), 1e-30))


@dataclass(frozen=True)
class Mend:
    """A further shot, and how much of the wanted area it brings to three photos."""

    station: Station
    gain: float


def next_best(
    watcher: Watcher, stations: Sequence[Station], candidates: Sequence[Station], shots: int, enough: int = ENOUGH
) -> list[Mend]:
    """Shots that mend the worst patches: greedy, each time the one that adds most.

    A patch counts the more the fewer photos see it, so that what nobody sees goes first; the sum of what is missing up to
    ``enough`` photos is submodular, for which greedy choice comes within ``1 - 1/e`` of the best one.

    References
    ----------
    Nemhauser, G., Wolsey, L., Fisher, M. (1978). An analysis of approximations for maximizing submodular set functions.
    Mathematical Programming 14, 265-294.
    """
    weight = np.where(watcher.standin.wanted, watcher.standin.areas, 0.0)
    count = watcher.look(stations)[0].sum(0).astype(np.int64)
    seen = watcher.look(candidates)[0]
    # the first photo of a patch is worth more than the second, the second more than the third
    worth = np.array([1.0 / (k + 1) for k in range(enough)] + [0.0])
    total = max(float(weight.sum()), 1e-30)
    left = np.ones(len(candidates), bool)
    out: list[Mend] = []
    for _ in range(min(shots, len(candidates))):
        value = seen @ (weight * worth[np.minimum(count, enough)])
        value[~left] = -1.0
        k = int(np.argmax(value))
        if value[k] <= 1e-6 * total:
            break
        before = weight[count >= enough].sum()
        count += seen[k]
        left[k] = False
        out.append(Mend(candidates[k], float((weight[count >= enough].sum() - before) / total)))
    return out
