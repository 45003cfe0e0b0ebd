"""Photometric refinement: each vertex goes along its normal to where the photos that see it agree best about a small patch of the surface.

Patches are sampled from the photos as they are (with their distortion), at full size, at several places along the normal; the mean
normalised cross-correlation of all pairs of photos has its peak there, found between the places by a parabola. Photos that disagree with the
others (something before the surface, a highlight) are left out. Shifts are then spread over the mesh, each as sure as its peak is sharp:
where there is nothing to see, a vertex follows its neighbours.

References
----------
Vu, H.-H., Labatut, P., Pons, J.-P., Keriven, R. (2012). High accuracy and visibility-consistent dense multiview stereo. IEEE TPAMI 34(5)
(refinement of a mesh by the photos; here each vertex seeks its place, instead of a descent along the gradient of all).
Furukawa, Y., Ponce, J. (2010). Accurate, dense, and robust multiview stereopsis. IEEE TPAMI 32(8) (patches along normals).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, brown, view_limit
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.texture.coloring import seen_at

Array = NDArray[np.float64]
Floats = NDArray[np.float32]
Faces = NDArray[np.int64]

#: samples beside a patch's middle, one a pixel of the best photo; photos that are asked; places along the normal, and the step between
#: them in such pixels
HALF, ASKED, PLACES, STEP = 3, 5, 7, 0.5
#: photos whose lines of sight lie closer than this (cosine; 6 degrees) tell nothing of the distance between them
APART = float(np.cos(np.radians(6.0)))
#: least contrast of a patch (standard deviation in levels), and how far a photo must agree with the others to be heard
CONTRAST, HEARD = 1.5, 0.4
#: how strongly neighbours pull against a vertex of usual sureness, and how often they do
PULL, ROUNDS = 1.0, 40


@dataclass
class Witness:
    """A photo that may see the surface: grey levels (H, W) uint8 as they are; depth of the mesh and how far inside of what it sees (h, w)."""

    gray: NDArray[np.uint8]
    depth: Floats
    ramp: Floats
    camera: Camera
    rotation: Array
    center: Array

    def weights(self, points: Floats, normals: Floats) -> Floats:
        """What the photo counts at points (N,): squares of cosine and resolution, 0 where it does not see them."""
        out = np.zeros(len(points), np.float32)
        _weigh(
            points, normals, self.rotation, self.center, self.camera.vector, view_limit(self.camera), *self.gray.shape, self.depth,
            self.ramp, out,
        )  # fmt: skip
        return out


@njit(error_model="numpy", cache=True, parallel=True)
def _weigh(P, N, R, C, L, limit, H, W, depth, ramp, out):
    for n in prange(P.shape[0]):
        _, _, out[n] = seen_at(P, N, n, R, C, L, limit, H, W, depth, ramp, 0.004)


@njit(error_model="numpy", cache=True, parallel=True)
def chosen(weights, P, centers, out):
    """The best photos (N, ASKED) of those that weigh (n, N), best first, none along the line of sight of one before; -1 for none."""
    for p in prange(P.shape[0]):
        count = 0
        mine = weights[:, p].copy()
        line = np.empty((out.shape[1], 3))
        while count < out.shape[1]:
            best = 0
            for k in range(1, mine.shape[0]):
                if mine[k] > mine[best]:
                    best = k
            if mine[best] <= 0:
                break
            mine[best] = 0
            d = centers[best] - P[p]
            d /= np.sqrt((d * d).sum())
            free = True
            for k in range(count):
                if (line[k] * d).sum() > APART:
                    free = False
            if free:
                line[count] = d
                out[p, count] = best
                count += 1
        for k in range(count, out.shape[1]):
            out[p, k] = -1


class Patches:
    """Patches about vertices (N, 3) with normals (N, 3), as the photos chosen for each (N, ASKED) show them at places along the normal.

    ``gsd`` (N,) is the size of a pixel of the best photo on the surface.
    """

    def __init__(self, points: Floats, normals: Floats, photos: NDArray[np.int32], gsd: Floats) -> None:
        self.points, self.normals, self.photos, self.gsd = points, normals, photos, gsd
        side = np.eye(3, dtype=np.float32)[np.abs(normals).argmin(1)]
        self.across = np.cross(normals, side).astype(np.float32)
        self.across /= np.maximum(np.linalg.norm(self.across, axis=1, keepdims=True), 1e-12)
        self.up = np.cross(normals, self.across).astype(np.float32)
        self.samples = np.zeros((len(points), photos.shape[1], PLACES, (2 * HALF + 1) ** 2), np.float32)
        self.there = np.zeros(photos.shape, bool)

    def add(self, number: int, witness: Witness) -> None:
        """Take what photo ``number`` shows."""
        _take(
            self.points, self.normals, self.across, self.up, self.gsd, np.argwhere(self.photos == number), witness.gray,
            witness.rotation, witness.center, witness.camera.vector, self.samples, self.there,
        )  # fmt: skip

    def found(self) -> tuple[Floats, Floats, Floats]:
        """Shift of each vertex along its normal in world units (N,), how sure it is (N,; 0 for not at all), and how the photos agree where it is
        now (N,; mean correlation of pairs, NaN where no two see it)."""
        shift, sure = np.zeros(len(self.points), np.float32), np.zeros(len(self.points), np.float32)
        now = np.full(len(self.points), np.nan, np.float32)
        _peaks(self.samples, self.there, shift, sure, now)
        return shift * self.gsd, sure, now


@njit(error_model="numpy", cache=True)
def _pixel(X, R, C, L):
    a, b, c = X[0] - C[0], X[1] - C[1], X[2] - C[2]
    z = R[2, 0] * a + R[2, 1] * b + R[2, 2] * c
    u, v = brown(
        (R[0, 0] * a + R[0, 1] * b + R[0, 2] * c) / z, (R[1, 0] * a + R[1, 1] * b + R[1, 2] * c) / z, L[4], L[5], L[6], L[7], L[8]
    )  # fmt: skip
    return L[0] * u + L[2], L[1] * v + L[3]


@njit(error_model="numpy", cache=True, parallel=True)
def _take(P, N, T, U, gsd, slots, gray, R, C, L, samples, there):
    H, W = gray.shape
    places = samples.shape[2]
    for q in prange(slots.shape[0]):
        n, s = slots[q, 0], slots[q, 1]
        X = P[n].astype(np.float64)
        g = np.float64(gsd[n])
        # a patch is so small that the photo shows it by an affine map: three slopes, by central differences
        u0, v0 = _pixel(X, R, C, L)
        slope = np.empty((3, 2))
        for k in range(3):
            d = (N[n] if k == 0 else (T[n] if k == 1 else U[n])).astype(np.float64) * g
            a, b = _pixel(X + d, R, C, L)
            e, f = _pixel(X - d, R, C, L)
            slope[k, 0] = 0.5 * (a - e)
            slope[k, 1] = 0.5 * (b - f)
        reach_u = abs(slope[0, 0]) * STEP * (places // 2) + (abs(slope[1, 0]) + abs(slope[2, 0])) * HALF + 3
        reach_v = abs(slope[0, 1]) * STEP * (places // 2) + (abs(slope[1, 1]) + abs(slope[2, 1])) * HALF + 3
        if u0 < reach_u or v0 < reach_v or u0 > W - 1 - reach_u or v0 > H - 1 - reach_v:
            continue
        there[n, s] = True
        for place in range(places):
            away = (place - places // 2) * STEP
            m = 0
            for j in range(-HALF, HALF + 1):
                for i in range(-HALF, HALF + 1):
                    u = u0 + away * slope[0, 0] + i * slope[1, 0] + j * slope[2, 0]
                    v = v0 + away * slope[0, 1] + i * slope[1, 1] + j * slope[2, 1]
                    x = int(u)
                    y = int(v)
                    fx = u - x
                    fy = v - y
                    top = gray[y, x] * (1 - fx) + gray[y, x + 1] * fx
                    low = gray[y + 1, x] * (1 - fx) + gray[y + 1, x + 1] * fx
                    whole = top * (1 - fy) + low * fy
                    samples[n, s, place, m] = whole
                    m += 1


@njit(error_model="numpy", cache=True, parallel=True)
def _peaks(samples, there, shift, sure, now):
    asked, places, size = samples.shape[1:]
    for n in prange(samples.shape[0]):
        heard = there[n].copy()
        z = np.empty((asked, places, size))
        for s in range(asked):
            for p in range(places):
                if not heard[s]:
                    break
                mean = samples[n, s, p].sum() / size
                z[s, p] = samples[n, s, p] - mean
                norm = np.sqrt((z[s, p] * z[s, p]).sum())
                if norm < CONTRAST * np.sqrt(size):
                    heard[s] = False
                else:
                    z[s, p] /= norm
        if heard.sum() < 2:
            continue
        score, best = _scores(z, heard)
        now[n] = score[places // 2]
        # those who disagree with all others at the best place are not heard
        some = heard.copy()
        for s in range(asked):
            if heard[s]:
                rest = np.zeros(size)
                for t in range(asked):
                    if heard[t] and t != s:
                        rest += z[t, best]
                some[s] = (rest * z[s, best]).sum() > HEARD * np.sqrt((rest * rest).sum())
        if some.sum() < 2:
            continue
        if some.sum() < heard.sum():
            score, best = _scores(z, some)
        if best == 0 or best == places - 1:
            continue
        below, above = score[best] - score[best - 1], score[best] - score[best + 1]
        if below + above <= 1e-9:
            continue
        shift[n] = STEP * (best - places // 2 + 0.5 * (below - above) / (below + above))
        sure[n] = (below + above) * max(score[best] - 0.3, 0.0) * (some.sum() - 1)


@njit(error_model="numpy", cache=True)
def _scores(z, heard):
    """Mean correlation of pairs at each place, and the place where it is greatest."""
    asked, places, size = z.shape
    count = heard.sum()
    score = np.empty(places)
    best = 0
    for p in range(places):
        total = np.zeros(size)
        for s in range(asked):
            if heard[s]:
                total += z[s, p]
        score[p] = ((total * total).sum() - count) / (count * (count - 1))
        if score[p] > score[best]:
            best = p
    return score, best


def spread(shift: NDArray, sure: NDArray, faces: Faces) -> Floats:
    """Shifts (N,) that keep to what is sure (N,) and change little from one vertex of the mesh to the next.

    The minimum of the sum of ``sure`` times the squared miss and of :data:`PULL` times the squared differences along edges (each vertex by the
    mean over its edges), approached by :data:`ROUNDS` of Jacobi's iteration.
    """
    known = sure > 0
    if not known.any():
        return np.zeros(len(shift), np.float32)
    weight = np.minimum(sure / float(np.median(sure[known])), 4.0)
    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    a, b = np.concatenate([edges, edges[:, ::-1]]).T
    degree = np.maximum(np.bincount(a, minlength=len(shift)), 1)
    out = np.where(known, shift, 0.0)
    for _ in range(ROUNDS):
        around = np.bincount(a, weights=out[b], minlength=len(shift)) / degree
        out = (weight * shift + PULL * around) / (weight + PULL)
    return out.astype(np.float32)


def moved(vertices: Array, faces: Faces, shift: NDArray) -> Array:
    """Vertices (N, 3) moved along their normals."""
    return vertices + shift[:, None].astype(float) * vertex_normals(vertices, faces)
