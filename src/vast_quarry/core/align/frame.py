"""Standing the model upright on the origin, and a suggestion for the keep box.

*Up* comes from three witnesses. Photos are held level, so their x axes are horizontal: up is the direction most nearly
perpendicular to all of them. Laps at one height make the centres of each lap coplanar: the common normal of the laps is
a second estimate. A plane with many points below the cameras and next to none under it is the ground: the best witness
where it exists.

The subject is what the cameras look at: the cluster of points above the ground around the place where the optical
axes meet. The box is turned about the upright so that it is smallest.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import cKDTree

from vast_quarry.core.pose import Similarity, rotation_between
from vast_quarry.core.words import Said

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
    def size(self) -> Array:
        """Edge lengths (3,)."""
        return np.asarray(self.high) - np.asarray(self.low)

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


@dataclass
class Standing:
    """How the model was stood up.

    The transform to the upright frame, where up came from, the keep box, whether there is a ground and how rough it is
    (spread of its points about the plane, in world units).
    """

    transform: Similarity
    witness: str
    box: KeepBox
    ground: bool
    rough: float = 0.0
    notes: list[Said] = field(default_factory=list)


def up_from_level_photos(rotations: Array) -> Array:
    """Direction most nearly perpendicular to the x axes of all photos (n, 3, 3), on the side of their tops."""
    x = rotations[:, 0, :]
    _, vectors = np.linalg.eigh(x.T @ x)
    up = vectors[:, 0]
    mean_top = -rotations[:, 1, :].mean(0)
    values = np.linalg.eigvalsh(x.T @ x)
    if values[1] < 0.02 * values[2]:  # all looking the same way: x axes say nothing about the pitch
        up = mean_top - (mean_top @ x.mean(0)) * x.mean(0)
    up = up / np.linalg.norm(up)
    return up if up @ mean_top >= 0 else -up


def up_from_laps(centers: Array, up: Array) -> Array | None:
    """Common normal of laps of camera centres (n, 3) near a first guess ``up``, or None when there are no laps."""
    for _ in range(3):
        height = centers @ up
        order = np.argsort(height)
        spread = np.ptp(height)
        across = np.linalg.norm(centers - centers.mean(0), axis=1).max()
        gaps = np.flatnonzero(np.diff(height[order]) > max(0.25 * spread, 0.08 * across))
        laps = [g for g in np.split(order, gaps + 1) if len(g) >= 6]
        if not laps:
            return None
        scatter = np.zeros((3, 3))
        for g in laps:
            d = centers[g] - centers[g].mean(0)
            scatter += d.T @ d
        values, vectors = np.linalg.eigh(scatter)
        if values[1] < 0.05 * values[2] or values[0] > 0.05 * values[1]:
            return None  # on a line, or not flat
        normal = vectors[:, 0] * np.sign(vectors[:, 0] @ up)
        if normal @ up < np.cos(np.radians(30)):
            return None
        up = normal
    return up


def ground_plane(points: Array, centers: Array, up: Array, seed: int = 0) -> tuple[Array, float, float] | None:
    """The ground under the subject: normal (3,), offset (``normal . x = offset``) and its roughness, or None.

    A plane is the ground when it holds at least a tenth of the points, lies below all cameras, hardly any point
    lies under it, and it is within 25 degrees of level.
    """
    if len(points) < 200:
        return None
    rng = np.random.default_rng(seed)
    sample = points[rng.choice(len(points), min(len(points), 6000), replace=False)]
    reach = np.median(np.linalg.norm(centers - np.median(points, axis=0), axis=1))
    tolerance = 0.012 * reach
    best, best_score = None, 0.0
    for _ in range(800):
        a, b, c = sample[rng.choice(len(sample), 3, replace=False)]
        n = np.cross(b - a, c - a)
        length = np.linalg.norm(n)
        if length < 1e-9 * reach**2:
            continue
        n = n / length * np.sign(n @ up)
        if n @ up < np.cos(np.radians(25)):
            continue
        h = sample @ n - n @ a
        if ((centers @ n - n @ a) < tolerance).any():
            continue
        on, under = (np.abs(h) < tolerance).mean(), (h < -2.5 * tolerance).mean()
        score = on - 3.0 * under
        if score > best_score:
            best, best_score = (n, float(n @ a)), score
    if best is None or best_score < 0.10:
        return None
    n, d = best
    for _ in range(6):
        h = points @ n - d
        near = points[np.abs(h) < tolerance]
        middle = near.mean(0)
        _, vectors = np.linalg.eigh((near - middle).T @ (near - middle))
        n = vectors[:, 0] * np.sign(vectors[:, 0] @ up)
        h = (near - middle) @ n
        rough = 1.4826 * float(np.median(np.abs(h - np.median(h))))
        d = float(n @ middle + np.median(h))
        tolerance = max(min(tolerance, 3.0 * rough), 1e-4 * reach)
    # a patch, not a stripe: spread in both directions
    spread = np.linalg.eigvalsh(np.cov((near - middle).T))
    if spread[1] < 0.02 * spread[2]:
        return None
    return n, d, rough


def focus_point(rotations: Array, centers: Array) -> Array:
    """Where the optical axes meet, in the least-squares sense, (3,)."""
    a = np.zeros((3, 3))
    b = np.zeros(3)
    for r, c in zip(rotations, centers):
        p = np.eye(3) - np.outer(r[2], r[2])
        a += p
        b += p @ c
    return np.linalg.solve(a + 1e-9 * np.eye(3) * np.trace(a), b)


def subject_cluster(points: Array, focus: Array, reach: float) -> NDArray[np.bool_]:
    """Which points (N, 3) belong to what the cameras look at.

    Points within ``0.8 reach`` of the focus are put on a grid of cells a twentieth of the reach wide, whose occupied
    cells are joined with their neighbours. The cluster with most points, weighed by closeness to the focus, wins;
    clusters of some weight close to it belong to it (a sparse cloud has gaps where the subject is plain).
    """
    distance = np.linalg.norm(points - focus, axis=1)
    near = distance < 0.8 * reach
    if near.sum() < 30:
        return near if near.any() else np.ones(len(points), bool)
    p = points[near]
    low = p.min(0)
    cell = 0.05 * reach + 1e-12
    index = ((p - low) / cell).astype(int)
    grid = np.zeros(index.max(0) + 3, np.int32)
    np.add.at(grid, tuple((index + 1).T), 1)
    occupied = ndimage.binary_dilation(grid > 0, structure=ndimage.generate_binary_structure(3, 1))
    label, count = ndimage.label(occupied, structure=np.ones((3, 3, 3)))
    mine = label[tuple((index + 1).T)]
    weight = 1.0 / (0.05 + (distance[near] / reach) ** 2)
    score = np.bincount(mine, weights=weight, minlength=count + 1)
    score[0] = 0
    winner = int(np.argmax(score))
    members = p[mine == winner]
    chosen = [winner]
    for k in range(1, count + 1):
        if k != winner and score[k] > 0.02 * score[winner]:
            other = p[mine == k]
            gap = np.maximum(members.min(0) - other.max(0), other.min(0) - members.max(0)).max()
            if gap < 0.12 * reach and np.linalg.norm(other.mean(0) - focus) < 0.5 * reach:
                chosen.append(k)
    out = np.zeros(len(points), bool)
    out[np.flatnonzero(near)[np.isin(mine, chosen)]] = True
    return out


def without_strays(points: Array, neighbours: int = 6, factor: float = 4.0) -> Array:
    """Points (N, 3) without those that lie lonely: much further from their neighbours than most do from theirs."""
    if len(points) < 10 * neighbours:
        return points
    distance, _ = cKDTree(points).query(points, k=neighbours + 1)
    lonely = distance[:, -1] > factor * np.median(distance[:, -1])
    return points[~lonely]


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


def stand_up(
    rotations: Array, centers: Array, points: Array, masked: bool = False, mat: Similarity | None = None,
    place: bool = False,
) -> Standing:  # fmt: skip
    """Find up, ground, origin and keep box.

    Parameters
    ----------
    rotations : (n, 3, 3), centers : (n, 3)
        Placed cameras.
    points : (N, 3)
        Well seen points of the sparse cloud.
    masked : bool
        Whether masks left only the subject: then there is no ground to be found and all points count.
    mat : Similarity, optional
        From the model to a marker mat in metres: it says what is up, where the ground is, and the scale.
    place : bool
        Whether a place is recorded rather than a thing in its middle: then the keep box holds all that is well seen,
        the ground too.
    """
    notes: list[Said] = []
    up = up_from_level_photos(rotations)
    witness = "level photos"
    laps = up_from_laps(centers, up) if len(centers) >= 8 else None
    if laps is not None:
        up, witness = laps, "camera laps"
    plane = None if masked else ground_plane(points, centers, up)
    focus = focus_point(rotations, centers)
    reach = float(np.median(np.linalg.norm(centers - focus, axis=1)))
    rough = 0.0
    if plane is not None:
        up, offset, rough = plane
        witness = "ground plane"
    if mat is not None:
        up = mat.rotation.T @ [0.0, 0.0, 1.0]
        # height over the mat is scale (up . x) + shift
        plane, witness = (up, -float(mat.shift[2]) / mat.scale, rough), "marker mat"
        offset = plane[1]
    turn_up = rotation_between(up, [0.0, 0.0, 1.0])
    p = points @ turn_up.T
    f = turn_up @ focus
    ground = offset if plane is not None else None
    above = p[:, 2] > ground + max(4.0 * rough, 0.012 * reach) if ground is not None else np.ones(len(p), bool)
    if place or above.sum() < 50:
        above = np.ones(len(p), bool)
    subject = p[above]
    if place:
        # what lies far beyond the cameras is seen by chance
        around = np.abs(subject - np.median(turn_up @ centers.T, axis=1)).max(1)
        subject = subject[around < 2.5 * float(np.ptp(centers, axis=0).max()) + reach]
    elif not masked:
        subject = subject[subject_cluster(subject, f, reach)]
    if ground is not None and not place:
        # bumps of the ground around the foot must not widen the box
        tall = subject[:, 2] > ground + 0.10 * (np.percentile(subject[:, 2], 99) - ground)
        subject = subject[tall] if tall.sum() >= 50 else subject
    if not masked:
        subject = without_strays(subject)
    low, high = np.percentile(subject, 0.5, axis=0), np.percentile(subject, 99.5, axis=0)
    # without a ground the foot is the lowest point that is no stray one
    floor = ground if ground is not None else float(np.partition(subject[:, 2], 3)[3])
    middle = np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, floor])
    turn = smallest_turn(subject[:, :2])
    c, s = np.cos(turn), np.sin(turn)
    facing = np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])
    local = (subject - middle) @ facing.T
    low, high = np.percentile(local, 0.5, axis=0), np.percentile(local, 99.5, axis=0)
    shift_xy = np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, 0.0])
    rotation = facing @ turn_up
    scale = mat.scale if mat is not None else 1.0
    transform = Similarity(scale, rotation, scale * (-facing @ middle - shift_xy))
    low, high, shift_xy, rough = scale * low, scale * high, scale * shift_xy, scale * rough
    low, high = low - shift_xy, high - shift_xy
    pad = 0.08 * float((high - low).max())
    bottom = 0.0 if ground is not None and not place else min(float(low[2]), 0.0) - pad
    box = KeepBox((low[0] - pad, low[1] - pad, bottom), (high[0] + pad, high[1] + pad, high[2] + pad))
    if plane is None and not masked:
        notes.append(
            Said("No ground was found: up comes from how the photos were held; check that the model stands upright.")
        )
    return Standing(transform, witness, box, plane is not None, rough, notes)
