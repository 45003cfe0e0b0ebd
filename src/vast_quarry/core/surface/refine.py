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
from scipy.sparse import coo_matrix, diags
from scipy.sparse.linalg import cg

from vast_quarry.core.camera import Camera, brown, view_limit
from vast_quarry.core.surface.mesh import normalised, vertex_normals
from vast_quarry.core.texture.coloring_kernels import shown

Array = NDArray[np.float64]
Floats = NDArray[np.float32]
Faces = NDArray[np.int64]

#: samples beside a patch's middle, one a pixel of the best photo; photos that are asked; places along the normal
HALF, ASKED, PLACES = 3, 5, 7
#: step between places: so many pixels by which the photos then see the patch apart; photos that see it less apart than this share of how far
#: it moves, and how far apart counts at most
STEP, LEAST_APART, MOST_APART = 0.5, 0.08, 1.25
#: photos whose lines of sight lie closer than this (cosine; 6 degrees) tell nothing of the distance between them
APART = float(np.cos(np.radians(6.0)))
#: least contrast of a patch (standard deviation in levels), and how far a photo must agree with the others to be heard
CONTRAST, HEARD = 1.5, 0.4
#: how far about a vertex its normal is the mean of, in pixels; rounds of that at most
WIDE, MOST_TURNS = 2.5, 8
#: how much a slope of the shifts of one step an edge counts against a miss of one step where it is as sure as usual; rounds of approach at most
PULL, ROUNDS = 25.0, 300


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
        shown(
            points, normals, self.rotation, self.center, self.camera.vector, view_limit(self.camera), self.gray.shape, self.depth,
            self.ramp, 0.004, np.empty((len(points), 2), np.float32), out,
        )  # fmt: skip
        return out


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


@njit(error_model="numpy", cache=True, parallel=True)
def _apart(P, N, photos, centers, out):
    """How far photos see a place apart, on the surface, for each unit that it moves along the normal: the farthest two of them."""
    for n in prange(P.shape[0]):
        side = np.zeros((photos.shape[1], 3))
        for k in range(photos.shape[1]):
            if photos[n, k] >= 0:
                d = centers[photos[n, k]] - P[n]
                along = (d * N[n]).sum()
                side[k] = (d - along * N[n]) / along
        for k in range(photos.shape[1]):
            for m in range(k):
                if photos[n, k] >= 0 and photos[n, m] >= 0:
                    off = side[k] - side[m]
                    out[n] = max(out[n], np.sqrt((off * off).sum()))


class Patches:
    """Patches about vertices (N, 3) with normals (N, 3), as the photos chosen for each (N, ASKED) show them at places along the normal.

    ``centers`` (n, 3) are where all photos stand; ``gsd`` (N,) is the size of a pixel of the best photo on the surface.
    """

    def __init__(
        self, points: Floats, normals: Floats, photos: NDArray[np.int32], centers: Floats, gsd: Floats
    ) -> None:
        apart = np.zeros(len(points), np.float32)
        _apart(points, normals, photos, centers, apart)
        # photos from nearly one side tell little of the distance: it takes long steps to see any difference
        self.step = (STEP * gsd / np.clip(apart, LEAST_APART, MOST_APART)).astype(np.float32)
        self.photos = np.where(apart[:, None] >= LEAST_APART, photos, -1).astype(np.int32)
        self.points, self.normals, self.gsd = points, normals, gsd
        side = np.eye(3, dtype=np.float32)[np.abs(normals).argmin(1)]
        self.across = np.cross(normals, side).astype(np.float32)
        self.across /= np.maximum(np.linalg.norm(self.across, axis=1, keepdims=True), 1e-12)
        self.up = np.cross(normals, self.across).astype(np.float32)
        self.samples = np.zeros((len(points), photos.shape[1], PLACES, (2 * HALF + 1) ** 2), np.float32)
        self.there = np.zeros(photos.shape, bool)

    def add(self, number: int, witness: Witness) -> None:
        """Take what photo ``number`` shows."""
        _take(
            self.points, self.normals, self.across, self.up, self.gsd, self.step, np.argwhere(self.photos == number), witness.gray,
            witness.rotation, witness.center, witness.camera.vector, self.samples, self.there,
        )  # fmt: skip

    def found(self) -> tuple[Floats, Floats, Floats]:
        """Shift of each vertex along its normal in world units (N,), how sure it is (N,; 0 for not at all), and how the photos agree where it is
        now (N,; mean correlation of pairs, NaN where no two see it)."""
        shift, sure = np.zeros(len(self.points), np.float32), np.zeros(len(self.points), np.float32)
        now = np.full(len(self.points), np.nan, np.float32)
        _peaks(self.samples, self.there, shift, sure, now)
        return shift * self.step, sure, now


@njit(error_model="numpy", cache=True)
def _pixel(X, R, C, L):
    a, b, c = X[0] - C[0], X[1] - C[1], X[2] - C[2]
    z = R[2, 0] * a + R[2, 1] * b + R[2, 2] * c
    u, v = brown(
        (R[0, 0] * a + R[0, 1] * b + R[0, 2] * c) / z, (R[1, 0] * a + R[1, 1] * b + R[1, 2] * c) / z, L[4], L[5], L[6], L[7], L[8]
    )  # fmt: skip
    return L[0] * u + L[2], L[1] * v + L[3]


@njit(error_model="numpy", cache=True, parallel=True)
def _take(P, N, T, U, gsd, step, slots, gray, R, C, L, samples, there):
    H, W = gray.shape
    flat, width, right = gray.ravel(), np.uint64(W), np.uint64(1)
    places = samples.shape[2]
    for q in prange(slots.shape[0]):
        n, s = slots[q, 0], slots[q, 1]
        X = P[n].astype(np.float64)
        g = np.float64(gsd[n])
        # a patch is so small that the photo shows it by an affine map: three slopes, by central differences
        u0, v0 = _pixel(X, R, C, L)
        slope = np.empty((3, 2))
        for k in range(3):
            d = (N[n] if k == 0 else (T[n] if k == 1 else U[n])).astype(np.float64) * (
                np.float64(step[n]) if k == 0 else g
            )
            a, b = _pixel(X + d, R, C, L)
            e, f = _pixel(X - d, R, C, L)
            slope[k, 0] = 0.5 * (a - e)
            slope[k, 1] = 0.5 * (b - f)
        reach_u = abs(slope[0, 0]) * (places // 2) + (abs(slope[1, 0]) + abs(slope[2, 0])) * HALF + 3
        reach_v = abs(slope[0, 1]) * (places // 2) + (abs(slope[1, 1]) + abs(slope[2, 1])) * HALF + 3
        if u0 < reach_u or v0 < reach_v or u0 > W - 1 - reach_u or v0 > H - 1 - reach_v:
            continue
        there[n, s] = True
        mine = samples[n, s]
        # counted from a corner that lies before all of them: never negative, and single precision is enough
        left, above = int(u0 - reach_u), int(v0 - reach_v)
        corner = above * W + left
        du, dv = np.float32(u0 - left), np.float32(v0 - above)
        slopes = slope.astype(np.float32)
        for place in range(places):
            away = np.float32(place - places // 2)
            for j in range(2 * HALF + 1):
                along = np.float32(j - HALF)
                u_row = du + away * slopes[0, 0] + along * slopes[2, 0]
                v_row = dv + away * slopes[0, 1] + along * slopes[2, 1]
                for i in range(2 * HALF + 1):
                    u = u_row + np.float32(i - HALF) * slopes[1, 0]
                    v = v_row + np.float32(i - HALF) * slopes[1, 1]
                    x = np.int32(u)
                    y = np.int32(v)
                    fx = u - np.float32(x)
                    fy = v - np.float32(y)
                    # numbers without a sign are not checked for counting from the end
                    at = np.uint64(corner + np.int64(y) * W + x)
                    a, b = np.float32(flat[at]), np.float32(flat[at + right])
                    c, d = np.float32(flat[at + width]), np.float32(flat[at + width + right])
                    top = a + (b - a) * fx
                    low = c + (d - c) * fx
                    mine[place, j * (2 * HALF + 1) + i] = top + (low - top) * fy


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def _peaks(samples, there, shift, sure, now):
    asked, places, size = samples.shape[1:]
    for n in prange(samples.shape[0]):
        heard = there[n].copy()
        # how each two photos agree at each place
        agree = np.zeros((places, asked, asked), np.float32)
        inverse = np.zeros((asked, places), np.float32)
        mine = samples[n]
        for s in range(asked):
            for p in range(places):
                if not heard[s]:
                    break
                total = np.float32(0)
                for m in range(size):
                    total += mine[s, p, m]
                mean = total / np.float32(size)
                squares = np.float32(0)
                for m in range(size):
                    mine[s, p, m] -= mean
                    squares += mine[s, p, m] * mine[s, p, m]
                norm = np.sqrt(squares)
                if norm < CONTRAST * np.sqrt(size):
                    heard[s] = False
                else:
                    inverse[s, p] = 1 / norm
        if heard.sum() < 2:
            continue
        for p in range(places):
            for s in range(asked):
                for t in range(s):
                    if heard[s] and heard[t]:
                        total = np.float32(0)
                        for m in range(size):
                            total += mine[s, p, m] * mine[t, p, m]
                        agree[p, s, t] = total * inverse[s, p] * inverse[t, p]
                        agree[p, t, s] = agree[p, s, t]
        score, best = _scores(agree, heard)
        now[n] = score[places // 2]
        # those who disagree with all others at the best place are not heard
        some = heard.copy()
        for s in range(asked):
            if heard[s]:
                with_them = np.float32(0)
                among = np.float32(0)
                for t in range(asked):
                    if heard[t] and t != s:
                        with_them += agree[best, s, t]
                        among += 1
                        for k in range(t):
                            if heard[k] and k != s:
                                among += 2 * agree[best, t, k]
                some[s] = with_them > HEARD * np.sqrt(max(among, np.float32(0)))
        if some.sum() < 2:
            continue
        if some.sum() < heard.sum():
            score, best = _scores(agree, some)
        if best == 0 or best == places - 1:
            continue
        below, above = score[best] - score[best - 1], score[best] - score[best + 1]
        if below + above <= 1e-9:
            continue
        shift[n] = best - places // 2 + 0.5 * (below - above) / (below + above)
        sure[n] = (below + above) * max(score[best] - 0.3, 0.0) * (some.sum() - 1)


@njit(error_model="numpy", cache=True)
def _scores(agree, heard):
    """Mean correlation of the pairs of photos that are heard at each place, and the place where it is greatest."""
    places, asked, _ = agree.shape
    count = heard.sum()
    score = np.empty(places)
    best = 0
    for p in range(places):
        total = 0.0
        for s in range(asked):
            for t in range(s):
                if heard[s] and heard[t]:
                    total += agree[p, s, t]
        score[p] = 2 * total / (count * (count - 1))
        if score[p] > score[best]:
            best = p
    return score, best


def spread(shift: NDArray, sure: NDArray, step: NDArray, edge: float, faces: Faces) -> Floats:
    """Shifts (N,) that keep to what is sure (N,) and bend the surface little.

    The minimum of the sum of ``sure`` times the squared miss in steps (N,), and of :data:`PULL` times the squared slopes along edges of a
    length of about ``edge``. So where photos stand close together, and a step is long, a shift is the mean of many. The normal equations are
    solved by conjugate gradients.
    """
    known = sure > 0
    if not known.any():
        return np.zeros(len(shift), np.float32)
    weight = np.minimum(sure / float(np.median(sure[known])), 4.0).astype(float)
    pull = PULL * (step.astype(float) / edge) ** 2
    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    a, b = edges.T
    # each edge stands here once for each of its faces, each vertex has six
    stiff = 0.5 * (pull[a] + pull[b]) / 12
    count = len(shift)
    laplace = coo_matrix(
        (np.concatenate([stiff, stiff]), (np.concatenate([a, b]), np.concatenate([b, a]))), (count, count)
    ).tocsr()
    # a vertex that nothing is known of, far from all others, stays
    diagonal = weight + np.asarray(laplace.sum(1)).ravel() + 1e-6
    system = diags(diagonal) - laplace
    found, _ = cg(
        system, weight * np.where(known, shift, 0.0), x0=np.where(known, shift, 0.0), rtol=1e-4, maxiter=ROUNDS, M=diags(1 / diagonal)
    )  # fmt: skip
    return np.asarray(found, np.float32)


def edge_length(vertices: Array, faces: Faces) -> float:
    """Median length of some edges."""
    some = faces[:: max(1, len(faces) // 20_000)]
    return float(np.median(np.linalg.norm(vertices[some[:, 0]] - vertices[some[:, 1]], axis=1)))


def facing(vertices: Array, faces: Faces, gsd: float) -> Array:
    """Normals (N, 3) of the surface as a patch has it that is laid against it: means over about its width, ``gsd`` being a pixel on the surface.

    Those of single vertices of a mesh as fine as the photos tilt every patch by the mesh's own noise.
    """
    normals = vertex_normals(vertices, faces)
    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    turns = int(min(round((WIDE * gsd / max(edge_length(vertices, faces), 1e-12)) ** 2), MOST_TURNS))
    a, b = np.concatenate([edges, edges[:, ::-1]]).T
    for _ in range(turns):
        normals = normalised(
            normals + np.stack([np.bincount(a, weights=normals[b, k], minlength=len(vertices)) for k in range(3)], 1)
        )
    return normals
