"""Light taken out of colours: how a sky, with or without a sun, lit each place of the surface, worked out from the colours themselves.

Light that comes from far away is the same for every place; what differs is how much of it a place faces and sees past the subject. So
the light at a place is a sum, the same for all, of transfers: for each function of a basis over directions (spherical harmonics up to
the second order) the cosine-weighted part of it that reaches the place, one for what is blocked (light thrown back by the subject
itself), and one for a sun. How strong each is, is found by least squares over the brightness of many places, robust against places that
are painted otherwise. A sun is believed where one direction, with the shadow it throws, explains much of what is left.

References
----------
Ramamoorthi, R., Hanrahan, P. (2001). An efficient representation for irradiance environment maps. SIGGRAPH.
Sloan, P.-P., Kautz, J., Snyder, J. (2002). Precomputed radiance transfer for real-time rendering in dynamic, low-frequency lighting
environments. SIGGRAPH.
IEC 61966-2-1:1999 (sRGB).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.directions import even_directions
from vast_quarry.core.photo.srgb import coded, linear
from vast_quarry.core.raycast import RayScene

Array = NDArray[np.float64]
Floats = NDArray[np.float32]
#: directions by which the sky is sampled, and from which a sun is looked for
SKY, SUNS = 96, 300
#: a sun's direction is looked for so many times about the best, each time in a cone a third as wide (degrees)
CONE, ROUNDS, TRIED = 9.0, 3, 16
#: a sun has to explain so much of what the sky alone leaves (share of the cost), and to give a place that faces it so many times what
#: the even part of the sky gives; it is looked for by so many places. A milestone in the sun, which throws no shadow on itself: 0.026
#: and 2.7; the same, the well-head and the finial under an even sky: 0.001 to 0.008 and 0.1 to 0.6; a stained ball: 0.4
SUN_EXPLAINS, SUN_LEAST, SEARCHED = 0.02, 1.0, 4000
#: rounds of reweighting; what is painted otherwise counts less from so many times the usual spread on
REWEIGHTED, FARTHEST = 8, 1.5
#: how firmly the sky is held to be the same all round
EVEN = 1e-3
#: light is taken out at most by these factors of its middle
LEAST, MOST = 0.2, 5.0
#: radius of the sun's disc in degrees: shadows are that soft
DISC = 0.27


def harmonics(d: Array) -> Array:
    """The nine real spherical harmonics up to the second order at unit vectors (K, 3), to common factors."""
    x, y, z = d.T
    return np.stack([np.ones_like(x), x, y, z, x * y, y * z, x * z, x * x - y * y, 3 * z * z - 1], 1)


@dataclass(frozen=True)
class Light:
    """How a subject was lit.

    Attributes
    ----------
    sky : (10,)
        Strength of each harmonic, and of what is blocked.
    sun : (3,) or None
        Unit vector towards the sun.
    sun_strength : float
    middle : float
        Median of the light over the places that it was found from.
    spread : float
        Ratio of the light at the brightest and the darkest tenth of them.
    """

    sky: Array
    sun: Array | None
    sun_strength: float
    middle: float
    spread: float

    @property
    def from_where(self) -> tuple[float, float] | None:
        """Azimuth (from x towards y) and height of the sun in degrees."""
        if self.sun is None:
            return None
        x, y, z = self.sun
        return float(np.degrees(np.arctan2(y, x)) % 360), float(np.degrees(np.arcsin(np.clip(z, -1, 1))))


def transfers(scene: RayScene, points: NDArray, normals: NDArray, lift: float, count: int = SKY) -> Array:
    """How much of each part of the sky reaches places (N, 3) with normals (N, 3): (N, 10).

    ``lift``: how far off the surface rays begin, so that they do not meet the face they stand on.
    """
    out = np.zeros((len(points), 10))
    origin = points + lift * normals
    for d in even_directions(count):
        facing = normals @ d
        front = np.flatnonzero(facing > 0)
        if not len(front):
            continue
        free = ~blocked(scene, origin[front], d)
        part = facing[front] * (4 / count)
        out[front[free], :9] += part[free, None] * harmonics(d[None])[0]
        out[front[~free], 9] += part[~free]
    return out


def blocked(scene: RayScene, origin: NDArray, direction: Array) -> NDArray[np.bool_]:
    """Whether anything lies between places (N, 3) and far away in one direction."""
    rays = np.concatenate([origin, np.broadcast_to(direction, origin.shape)], 1).astype(np.float32)
    return scene.blocked(rays)


def sunlit(scene: RayScene, points: NDArray, normals: NDArray, sun: Array, lift: float, rays: int = 1) -> Array:
    """How much of a sun of unit strength places (N, 3) get: cosine, less in its shadow; ``rays`` spread over its disc."""
    facing = np.maximum(normals @ sun, 0)
    front = np.flatnonzero(facing > 0)
    out = np.zeros(len(points))
    if not len(front):
        return out
    origin = (points + lift * normals)[front]
    free = np.zeros(len(front))
    for d in about(sun, DISC, rays) if rays > 1 else [sun]:
        free += ~blocked(scene, origin, d)
    out[front] = facing[front] * free / rays
    return out


def about(direction: Array, degrees: float, count: int) -> Array:
    """Directions (count, 3) evenly in a cone about one."""
    helper = np.array([0.0, 0, 1]) if abs(direction[2]) < 0.8 else np.array([1.0, 0, 0])
    a = np.cross(direction, helper)
    a /= np.linalg.norm(a)
    b = np.cross(direction, a)
    i = np.arange(count) + 0.5
    r, turn = np.tan(np.radians(degrees)) * np.sqrt(i / count), i * np.pi * (3 - np.sqrt(5))
    d = direction + (r * np.cos(turn))[:, None] * a + (r * np.sin(turn))[:, None] * b
    return np.asarray(d / np.linalg.norm(d, axis=1, keepdims=True))


def _strengths(parts: Array, brightness: Array, scale: float | None = None) -> tuple[Array, float, float]:
    """Strengths (K,) of parts (N, K) that make up a brightness (N,), robust; the spread of the logarithm that is left, and the mean of
    Cauchy's cost of it, against ``scale`` or that spread itself."""
    hold = EVEN * np.sqrt(len(parts)) * np.median(parts[:, 0]) * np.eye(parts.shape[1])
    hold[0] = 0
    hold[9:] *= 0.1
    weight = np.ones(len(parts))
    strength = np.zeros(parts.shape[1])
    left, off = np.inf, np.zeros(len(parts))
    for _ in range(REWEIGHTED):
        # as shares of the brightness: a dark place counts as much as a bright one
        a = parts / brightness[:, None]
        normal = (a * weight[:, None]).T @ a + hold.T @ hold / np.median(brightness) ** 2
        strength = np.linalg.solve(normal, a.T @ weight)
        made = np.maximum(parts @ strength, 1e-3 * np.median(brightness))
        off = np.log(brightness / made)
        off -= np.median(off)
        left = float(np.median(np.abs(off))) * 1.4826
        weight = 1 / (1 + (off / max(FARTHEST * (scale or left), 1e-6)) ** 2)
    return strength, left, float(np.log1p((off / max(scale or left, 1e-6)) ** 2).mean())


def find_light(scene: RayScene, points: NDArray, normals: NDArray, colors: NDArray, lift: float) -> Light:
    """How places (N, 3) with normals (N, 3) and sRGB colours (N, 3) were lit.

    Parameters
    ----------
    scene : RayScene
        What throws shadows.
    lift : float
        See :func:`transfers`.
    """
    brightness = np.maximum(linear(_bytes(colors)) @ np.array([0.2126, 0.7152, 0.0722]), 1e-4).astype(float)
    parts = transfers(scene, points, normals, lift)
    few = slice(None, None, max(1, len(points) // SEARCHED))
    sun = _sun_of(scene, points[few], normals[few], brightness[few], parts[few], lift)
    if sun is not None:
        parts = np.column_stack([parts, sunlit(scene, points, normals, sun, lift)])
    strength, *_ = _strengths(parts, brightness)
    made = parts @ strength
    low, middle, high = np.quantile(made, [0.1, 0.5, 0.9])
    floor = max(1e-9, 0.01 * float(middle))
    return Light(
        strength[:10], sun, float(strength[10]) if sun is not None else 0.0, max(float(middle), floor),
        float(high) / max(float(low), floor),
    )  # fmt: skip


def _bytes(colors: NDArray) -> NDArray[np.uint8]:
    return np.asarray(np.clip(np.asarray(colors, np.float32) + 0.5, 0, 255), np.uint8)


def _sun_of(
    scene: RayScene, points: NDArray, normals: NDArray, brightness: Array, parts: Array, lift: float
) -> Array | None:  # fmt: skip
    """The direction of a sun that with its shadow explains what a sky alone does not; None where none does."""
    _, scale, least = _strengths(parts, brightness)
    least *= 1 - SUN_EXPLAINS
    best: Array | None = None
    tried = even_directions(SUNS)
    tried = tried[tried[:, 2] > 0.05]  # a sun stands above the horizon
    for turn in range(ROUNDS + 1):
        for d in tried:
            lit = sunlit(scene, points, normals, d, lift)
            strength, _, cost = _strengths(np.column_stack([parts, lit]), brightness, scale)
            if cost < least and strength[10] > SUN_LEAST * strength[0]:
                best, least = d, cost
        if best is None:
            return None
        tried = about(best, CONE / 3**turn, TRIED)
    return best


def unlit(colors: NDArray, factor: NDArray, amount: float) -> Floats:
    """Colours (N, 3) with the light (N,), against its middle, taken out by an ``amount`` of 0 to 1."""
    light = linear(_bytes(colors)) / (np.clip(factor, LEAST, MOST) ** amount)[:, None]
    return np.asarray(255 * coded(light.clip(0, 1)), np.float32)
