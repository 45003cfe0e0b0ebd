"""Plain flat sides: a plane from what is known about their rims, where windows say nothing inside.

The inverse depth of a plane is an affine function of the pixel. What bounds a plain flat side is partly on it (the rim of the lid, the
foot on the ground) and partly far behind: one plane through as many of the known pixels about a segment as possible, on opposite sides
of it, is taken for the segment. Two sides that meet without a visible edge are one segment in one photo and two in another: planes that
several photos found are offered to all, and two of them may share a segment. Whether it is all there is for the other photos to say.

References
----------
Fischler, M. A., Bolles, R. C. (1981). Random sample consensus. Communications of the ACM 24(6).
Romanoni, A., Matteucci, M. (2019). TAPA-MVS: textureless-aware PatchMatch multi-view stereo. ICCV (planes of segments).
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vast_quarry.core.camera import Camera

Floats = NDArray[np.float32]
Array = NDArray[np.float64]

#: grey levels from a pixel to the next that end a segment; smallest segment, of the picture's pixels
STEP, LEAST = 2.5, 0.0004
#: known pixels so far about a segment count (pixels); so many of them at most; planes that are tried
RING, MOST, TRIES = 7, 500, 300
#: inverse depths within this share of a plane are on it
ON_PLANE = 0.0025
#: directions about the middle of a segment, in how many of them something known has to be on the plane, and on how many lines
#: through the middle on both sides
SECTORS, LEAST_SECTORS, FACING = 16, 6, 2
#: share of the known pixels that a plane has to have; of those that do nearly as well as the best (in directions) the nearest is taken:
#: what stands before a ground, which bounds it too, hides that
SHARE, AS_WELL = 0.1, 0.7
#: of two planes each has so much of the segment; known pixels in so many directions, and this share of all, are on one of them
OWN, LEAST_OF_TWO, SHARE_OF_TWO = 0.06, 9, 0.06
#: planes of photos are one whose normals differ by so much (degrees), and that lie so far apart, of the distance; so many photos
ALIKE_DEG, ALIKE, FOUND_BY = 4.0, 0.006, 3
#: planes that are offered to a photo at most
OFFERED = 10
#: a plane passes a segment no nearer and no farther than its known pixels are, give or take this share
BEYOND = 0.03


def inverse_of(depth: Floats, known: NDArray[np.bool_]) -> Floats:
    """Inverse depths (H, W) where a depth is ``known``, 0 elsewhere."""
    return np.where(known, 1 / np.where(known, depth, 1), 0).astype(np.float32)


def segments(unknown: NDArray[np.bool_], gray: NDArray[np.uint8]) -> tuple[NDArray[np.int32], list[tuple[slice, ...]]]:
    """Pieces of evenly coloured pixels that are ``unknown`` (H, W): their labels from 1 on, and where each is."""
    even = cv2.medianBlur(gray, 5).astype(np.float32)
    slope = np.maximum(np.abs(cv2.Sobel(even, -1, 1, 0, scale=0.125)), np.abs(cv2.Sobel(even, -1, 0, 1, scale=0.125)))
    label, _ = ndimage.label(unknown & (slope < STEP))
    size = np.bincount(label.ravel())
    small = size < LEAST * label.size
    small[0] = True
    new = np.cumsum(~small) * ~small
    label = new[label].astype(np.int32)
    return label, ndimage.find_objects(label)


@dataclass(frozen=True)
class Side:
    """A plain flat side that a photo found: its plane ``normal . x = offset`` in the world, the normal away from the photo; a place
    on it (3,), and how far it is from the photo."""

    normal: Array
    offset: float
    middle: Array
    distance: float


def _score(
    on: NDArray[np.bool_], sector: NDArray, least: int, share: float = SHARE
) -> tuple[NDArray, NDArray[np.bool_]]:
    """How well planes bound a segment, from which known pixels (K, N) are on them, and whether that is enough."""
    seen = np.stack([(on & (sector == k)).sum(1) for k in range(SECTORS)], 1) >= 2
    facing = (seen & np.roll(seen, SECTORS // 2, axis=1)).sum(1) // 2
    good = (seen.sum(1) >= least) & (facing >= FACING) & (on.mean(1) > share)
    return np.where(good, seen.sum(1) + facing, 0), good


def fitted(
    inverse: Floats, u: Floats, v: Floats, inside: NDArray, offered: Array | None = None, seed: int = 0
) -> tuple[Array, Array | None] | None:
    """What planes that most of the known pixels about a segment are on say of its pixels; None where none does.

    Parameters
    ----------
    inverse, u, v : (N,)
        Inverse depths of known pixels, and where they are.
    inside : (M, 2)
        Pixels (u, v) of the segment.
    offered : (K, 3), optional
        Planes (a, b, c) that other photos found: inverse depth = a u + b v + c.

    Returns
    -------
    (M,) inverse depths of the segment, and the plane (a, b, c) if it is one that was found here
    """
    if len(inverse) < 12:
        return None
    rng = np.random.default_rng(seed)
    if len(inverse) > MOST:
        some = rng.choice(len(inverse), MOST, replace=False)
        inverse, u, v = inverse[some], u[some], v[some]
    middle = inside.mean(0)
    angle = np.arctan2(v - middle[1], u - middle[0])
    sector = np.floor((angle + np.pi) / (2 * np.pi) * SECTORS).astype(int) % SECTORS
    a = np.stack([u - middle[0], v - middle[1], np.ones_like(u)], 1).astype(np.float64)
    w = inverse.astype(np.float64)
    at = np.concatenate([inside - middle, np.ones((len(inside), 1))], 1)
    low, high = w.min() * (1 - BEYOND), w.max() * (1 + BEYOND)
    found: list[tuple[float, float, Array, Array | None]] = []

    def offer(here: Array, score: float, plane: Array | None) -> None:
        if here.min() > low and here.max() < high:
            found.append((score, float(here.mean()), here, plane))

    own = _own(a, w, sector, rng)
    if own is not None:
        plane, score = own
        offer(at @ plane, score, plane)
    if offered is not None and len(offered):
        centred = offered.copy()
        centred[:, 2] += offered[:, 0] * middle[0] + offered[:, 1] * middle[1]
        rim, there = a @ centred.T, at @ centred.T
        scores, good = _score((np.abs(rim - w[:, None]) < ON_PLANE * w[:, None]).T, sector, LEAST_SECTORS)
        for k in np.flatnonzero(good):
            offer(there[:, k], float(scores[k]), None)
        for i in range(len(centred)):
            for j in range(i):
                # of a body whose sides meet outwards the farther plane is seen
                nearer = there[:, i] < there[:, j]
                if not OWN < nearer.mean() < 1 - OWN:
                    continue
                on = np.abs(np.minimum(rim[:, i], rim[:, j]) - w) < ON_PLANE * w
                both, enough = _score(on[None], sector, LEAST_OF_TWO, SHARE_OF_TWO)
                if enough[0]:
                    offer(np.minimum(there[:, i], there[:, j]), float(both[0]), None)
    if not found:
        return None
    best = max(score for score, *_ in found)
    _, _, here, mine = max((f for f in found if f[0] >= AS_WELL * best), key=lambda f: f[1])
    if mine is None:
        return here, None
    return here, np.array([mine[0], mine[1], mine[2] - mine[0] * middle[0] - mine[1] * middle[1]])


def _own(a: Array, w: Array, sector: NDArray, rng: np.random.Generator) -> tuple[Array, float] | None:
    """The plane (3,) that most known pixels about a segment are on, and how well it bounds it."""
    pick = rng.integers(0, len(w), (TRIES, 3))
    systems = a[pick]
    good = np.abs(np.linalg.det(systems)) > 20.0  # three that are no line
    if not good.any():
        return None
    planes = np.linalg.solve(systems[good], w[pick[good]][..., None])[..., 0]
    on = np.abs(planes @ a.T - w) < ON_PLANE * w
    score, good = _score(on, sector, LEAST_SECTORS)
    if not good.any():
        return None
    # inverse depth at the middle of the segment
    nearest = np.where(score >= AS_WELL * score.max(), planes[:, 2], -np.inf)
    # of many through the same pixels the one that most are on
    best = int(np.argmax(np.where(nearest > nearest.max() * (1 - 4 * ON_PLANE), on.sum(1), 0)))
    mine, plane = on[best], planes[best]
    for _ in range(2):
        plane, *_ = np.linalg.lstsq(a[mine], w[mine], rcond=None)
        mine = np.abs(a @ plane - w) < ON_PLANE * w
        if mine.sum() < 8:
            return None
    return plane, float(score[best])


def plane_filled(
    inverse: Floats,
    known: NDArray[np.bool_],
    active: NDArray[np.bool_],
    gray: NDArray[np.uint8],
    offered: Array | None = None,
) -> tuple[Floats, NDArray[np.bool_], NDArray[np.bool_], list[tuple[Array, tuple[float, float]]]]:
    """Inverse depths (H, W) with plain flat segments that are ``active`` filled by planes, which pixels (H, W) those are, which of them
    are by planes that were offered, and the planes (a, b, c) found here with the middles (u, v) of their segments."""
    label, where = segments(active & ~known, gray)
    out, filled, lent = inverse.copy(), np.zeros(known.shape, bool), np.zeros(known.shape, bool)
    planes = []
    high, wide = known.shape
    for k, (rows, columns) in enumerate(where, 1):
        r = slice(max(0, rows.start - RING), min(high, rows.stop + RING))
        c = slice(max(0, columns.start - RING), min(wide, columns.stop + RING))
        mine = (label[r, c] == k).astype(np.uint8)
        about = (cv2.dilate(mine, np.ones((2 * RING + 1,) * 2, np.uint8)) > 0) & known[r, c]
        y, x = np.nonzero(about)
        inside = np.argwhere(mine)[:, ::-1] + (c.start, r.start)
        u, v = (x + c.start).astype(np.float32), (y + r.start).astype(np.float32)
        fit = fitted(inverse[r, c][about], u, v, inside, offered)
        if fit is None:
            continue
        at, plane = fit
        out[r, c][mine > 0] = at
        filled[r, c] |= mine > 0
        if plane is not None:
            planes.append((plane, (float(inside[:, 0].mean()), float(inside[:, 1].mean()))))
        else:
            lent[r, c] |= mine > 0
    return out, filled, lent, planes


def side_of(plane: Array, at: tuple[float, float], camera: Camera, rotation: Array, center: Array) -> Side:
    """A plane (a, b, c) of inverse depths in a photo, and the middle (u, v) of its segment, in the world."""
    a, b, c = plane
    m = np.array([a * camera.fx, b * camera.fy, c + a * camera.cx + b * camera.cy])
    length = float(np.linalg.norm(m))
    normal = rotation.T @ (m / length)
    ray = np.array([(at[0] - camera.cx) / camera.fx, (at[1] - camera.cy) / camera.fy, 1.0])
    middle = center + rotation.T @ ray / float(m @ ray)
    return Side(normal, 1 / length + float(normal @ center), middle, float(np.linalg.norm(middle - center)))


def plane_in(normal: Array, offset: float, camera: Camera, rotation: Array, center: Array) -> Array | None:
    """A plane of the world as (a, b, c) of inverse depths in a photo; None for one that looks away from it."""
    h = offset - float(normal @ center)
    if h <= 0:
        return None
    x, y, z = rotation @ normal / h
    a, b = x / camera.fx, y / camera.fy
    return np.array([a, b, z - a * camera.cx - b * camera.cy])


def shared(sides: list[list[Side]]) -> Array:
    """Planes (K, 4), normal and offset, that several photos found; ``sides`` are those of each photo."""
    flat = [(photo, s) for photo, mine in enumerate(sides) for s in mine]
    if not flat:
        return np.zeros((0, 4))
    photo = np.array([p for p, _ in flat])
    normal = np.array([s.normal for _, s in flat])
    offset = np.array([s.offset for _, s in flat])
    middle = np.array([s.middle for _, s in flat])
    reach = np.array([s.distance for _, s in flat])
    off = np.abs(middle @ normal.T - offset[None])
    alike = (normal @ normal.T > np.cos(np.radians(ALIKE_DEG))) & (off < ALIKE * reach[:, None])
    alike &= alike.T
    out, left = list[list[float]](), np.ones(len(flat), bool)
    while left.any() and len(out) < OFFERED:
        count = np.array([len(np.unique(photo[alike[k] & left])) if left[k] else 0 for k in range(len(flat))])
        k = int(np.argmax(count))
        if count[k] < FOUND_BY:
            break
        mine = alike[k] & left
        mean = normal[mine].mean(0)
        mean /= np.linalg.norm(mean)
        out.append([*mean, float(np.median(middle[mine] @ mean))])
        left &= ~mine
    return np.array(out).reshape(-1, 4)
