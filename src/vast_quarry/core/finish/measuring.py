"""Measures of a mesh: area, volume, girth, roughness, and bodies fitted to a part of it, each with how sure it is.

References
----------
Zhang, C., Chen, T. (2001). Efficient feature extraction for 2D/3D objects in mesh representation. ICIP (volume by signed tetrahedra).
Forbes, A. B. (1991). Least-squares best-fit geometric elements. NPL Report DITC 140/89 (planes, circles, cylinders, spheres).
ISO 25178-2:2021 (Sa: mean height of a surface without sign, Sq: root mean square height).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from vast_quarry.core.errors import PlainError
from vast_quarry.core.surface.mesh import face_areas, open_edges, signed_volume
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
Body = Literal["plane", "circle", "cylinder", "sphere"]
BODIES: tuple[Body, ...] = ("plane", "circle", "cylinder", "sphere")
#: points that each body takes at least, and points that are looked at to find where to begin
_LEAST = {"plane": 3, "circle": 4, "cylinder": 8, "sphere": 5}
_SOME = 4000


def area(vertices: Array, faces: Faces) -> float:
    """Area of the surface."""
    return float(face_areas(vertices, faces).sum())


def volume(vertices: Array, faces: Faces, over: float | None = None) -> float:
    """Volume of a closed mesh; with ``over`` that between the surface and a level, whatever is open there.

    Raises
    ------
    PlainError
        When the mesh is open and no level is given.
    """
    if over is None:
        if len(open_edges(faces)):
            raise PlainError(
                "An open mesh has no volume.",
                "Close it first, or ask for the volume over the ground (or another height).",
            )
        return signed_volume(vertices, faces)
    p = vertices[faces]
    z = p[..., 2].mean(1) - over
    d1, d2 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    # prisms from each face down to the level, those of faces that look down count against
    return float((z * (d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]) / 2).sum())


@dataclass(frozen=True)
class Fit:
    """A body fitted to points.

    Attributes
    ----------
    kind : str
    center, axis : (3,)
        Middle; axis of a cylinder, normal of a plane or circle (0 for a sphere).
    diameter, sigma : float
        And the standard deviation of it; 0 for a plane.
    rms, out_of_form : float
        Root mean square of the distances, and how far the outermost lie apart (flatness, roundness).
    count : int
    """

    kind: Body
    center: Array
    axis: Array
    diameter: float
    sigma: float
    rms: float
    out_of_form: float
    count: int
    height: float = 0.0

    def record(self, to_mm: float = 1000.0) -> dict[str, object]:
        """As reports tell it, lengths in mm; ``to_mm`` is what one world unit is."""
        out: dict[str, object] = {
            "body": self.kind,
            "points": self.count,
            "center": [round(float(x), 7) for x in self.center],
        }
        if self.kind != "sphere":
            out["axis"] = [round(float(x), 7) for x in self.axis]
        if self.kind != "plane":
            out |= {"diameter_mm": self.diameter * to_mm, "diameter_sigma_mm": self.sigma * to_mm}
        if self.kind == "cylinder":
            out["length_mm"] = self.height * to_mm
        name = {"plane": "flatness_mm"}.get(self.kind, "roundness_mm")
        return out | {"rms_mm": self.rms * to_mm, name: self.out_of_form * to_mm}


def fit(kind: Body, points: Array) -> Fit:
    """Fit a body to points (N, 3) by least squares.

    The standard deviation of its diameter is that of independent points, each as far off as all are on average.

    Raises
    ------
    PlainError
        When there is no such body, or the points are too few or do not determine it.
    """
    if kind not in BODIES:
        raise PlainError(
            say("There is no body called “{name}”.", name=kind), say("Use one of {list}.", list=", ".join(BODIES))
        )
    if len(points) < _LEAST[kind]:
        raise PlainError(
            say("{n, plural, one {# point} other {# points}} are too few for this fit.", n=len(points)),
            "Select more of the surface.",
        )
    middle = points.mean(0)
    size = float(np.ptp(points, axis=0).max())
    if not size > 0:
        raise PlainError("All points lie in one place.", "Select more of the surface.")
    p = (points - middle) / size
    found = {"plane": _plane, "circle": _circle, "cylinder": _cylinder, "sphere": _sphere}[kind](p)
    if not np.isfinite(found.diameter) or found.diameter > 1e4:
        raise PlainError("The points do not bend enough to tell how large the body is.", "Select more of the surface.")
    return Fit(
        kind, found.center * size + middle, found.axis, found.diameter * size, found.sigma * size, found.rms * size,
        found.out_of_form * size, len(points), found.height * size,
    )  # fmt: skip


def _spread(residuals: Array) -> float:
    return float(np.ptp(residuals))


def _plane(p: Array) -> Fit:
    center = p.mean(0)
    normal = np.linalg.svd(p - center, full_matrices=False)[2][2]
    normal = normal * (1 if normal[np.abs(normal).argmax()] > 0 else -1)
    off = (p - center) @ normal
    return Fit("plane", center, normal, 0.0, 0.0, _rms(off, 3), _spread(off), len(p))


def _rms(off: Array, unknowns: int) -> float:
    return float(np.sqrt((off**2).sum() / max(len(off) - unknowns, 1)))


def _sigma_of(jacobian: Array, off: Array, which: int) -> float:
    normal = jacobian.T @ jacobian
    try:
        inverse = np.linalg.inv(normal)
    except np.linalg.LinAlgError:
        return float("inf")
    return float(np.sqrt(max(inverse[which, which], 0)) * _rms(off, jacobian.shape[1]))


def _sphere(p: Array) -> Fit:
    middle, radius, off, jacobian = _round(p)
    return Fit("sphere", middle, np.zeros(3), 2 * radius, 2 * _sigma_of(jacobian, off, 3), _rms(off, 4), _spread(off), len(p))  # fmt: skip


def _in_plane(p: Array, axis: Array) -> tuple[Array, Array]:
    one = np.cross(axis, np.eye(3)[np.abs(axis).argmin()])
    one /= np.linalg.norm(one)
    two = np.cross(axis, one)
    return p @ np.c_[one, two], np.c_[one, two]


def _begun(q: Array) -> Array:
    """Middle and radius, one after the other, of a circle or sphere through points (N, d): linear, |x|^2 = 2 c x + k."""
    *c, k = np.linalg.lstsq(np.c_[2 * q, np.ones(len(q))], (q**2).sum(1), rcond=None)[0]
    return np.r_[c, np.sqrt(max(k + np.dot(c, c), 1e-12))]


def _round(q: Array) -> tuple[Array, float, Array, Array]:
    """Middle, radius, distances and derivatives of a circle or sphere through points (N, d)."""
    found = least_squares(lambda x: np.linalg.norm(q - x[:-1], axis=1) - x[-1], _begun(q))
    return found.x[:-1], abs(float(found.x[-1])), found.fun, found.jac


def _circle(p: Array) -> Fit:
    plane = _plane(p)
    q, axes = _in_plane(p - plane.center, plane.axis)
    middle, radius, off, jacobian = _round(q)
    return Fit("circle", plane.center + axes @ middle, plane.axis, 2 * radius, 2 * _sigma_of(jacobian, off, 2), _rms(off, 3), _spread(off), len(p))  # fmt: skip


def _cylinder(p: Array) -> Fit:
    some = p[np.random.default_rng(0).permutation(len(p))[:_SOME]]
    best, start = np.inf, np.zeros(5)
    # the axis is tried in many directions over half a sphere
    k = np.arange(60) + 0.5
    z = k / 60
    turn = np.pi * (3 - np.sqrt(5)) * k
    for axis in np.c_[np.sqrt(1 - z**2) * np.cos(turn), np.sqrt(1 - z**2) * np.sin(turn), z]:
        q, axes = _in_plane(some, axis)
        x, y, radius = _begun(q)
        cost = float(np.abs(np.linalg.norm(q - [x, y], axis=1) - radius).mean())
        if cost < best:
            best, start, found_axis, found_axes = cost, np.array([x, y, 0.0, 0.0, radius]), axis, axes
    axis, axes = found_axis, found_axes

    def of(x: Array, points: Array) -> Array:
        # the axis leans by two small angles, through a place across from it
        n = axis + axes @ x[2:4]
        n /= np.linalg.norm(n)
        off = points - axes @ x[:2]
        off = off - (off @ n)[:, None] * n
        return np.asarray(np.linalg.norm(off, axis=1) - x[4])

    found = least_squares(of, least_squares(of, start, args=(some,)).x, args=(p,))
    n = axis + axes @ found.x[2:4]
    n /= np.linalg.norm(n)
    n = n * (1 if n[np.abs(n).argmax()] > 0 else -1)
    center = axes @ found.x[:2]
    along = (p - center) @ n
    center = center + n * (along.max() + along.min()) / 2
    off = found.fun
    return Fit("cylinder", center, n, 2 * abs(float(found.x[4])), 2 * _sigma_of(found.jac, off, 4), _rms(off, 5), _spread(off), len(p), float(np.ptp(along)))  # fmt: skip


@dataclass(frozen=True)
class Roughness:
    """Heights of a part of a surface over its own form (ISO 25178-2): mean without sign, root mean square, and from lowest to highest."""

    sa: float
    sq: float
    sz: float


def roughness(vertices: Array, faces: Faces) -> Roughness:
    """Of a part of a mesh, over the quadric that fits it.

    Raises
    ------
    PlainError
        When it is too small.
    """
    if len(faces) < 20:
        raise PlainError("Too little is selected to tell how rough it is.", "Select more of the surface.")
    weight = np.bincount(faces.ravel(), np.repeat(face_areas(vertices, faces) / 3, 3), len(vertices))
    on = weight > 0
    p, w = vertices[on], weight[on]
    center = np.average(p, axis=0, weights=w)
    axes = np.linalg.svd((p - center) * np.sqrt(w)[:, None], full_matrices=False)[2]
    q = (p - center) @ axes.T
    size = float(np.ptp(q[:, :2], axis=0).max()) or 1.0
    x, y = q[:, 0] / size, q[:, 1] / size
    form = np.c_[np.ones_like(x), x, y, x * x, x * y, y * y]
    root = np.sqrt(w)
    found, *_ = np.linalg.lstsq(form * root[:, None], q[:, 2] * root, rcond=None)
    height = q[:, 2] - form @ found
    total = w.sum()
    return Roughness(
        float((np.abs(height) * w).sum() / total), float(np.sqrt((height**2 * w).sum() / total)), float(np.ptp(height))
    )


def angle(a: Array, corner: Array, b: Array) -> float:
    """Angle (degrees) at a corner between two places."""
    u, v = np.asarray(a) - corner, np.asarray(b) - corner
    length = np.linalg.norm(u) * np.linalg.norm(v)
    if not length > 0:
        raise PlainError("Two of the places are the same.", "Pick three different ones.")
    return float(np.degrees(np.arctan2(np.linalg.norm(np.cross(u, v)), u @ v)))


@dataclass(frozen=True)
class Section:
    """A mesh cut by a plane: lines (K, 2) in the plane, each closed or not; the plane's origin and axes (2, 3)."""

    lines: list[Array]
    closed: list[bool]
    origin: Array
    axes: Array
    length: float = field(default=0.0)

    @property
    def area(self) -> float:
        """Area within closed lines, those inside of others taken off."""
        total = 0.0
        for line, shut in zip(self.lines, self.closed):
            if shut:
                x, y = line.T
                total += float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2)
        return abs(total)


def section(vertices: Array, faces: Faces, point: Array, normal: Array) -> Section:
    """Where a plane cuts a mesh.

    Raises
    ------
    PlainError
        When it does not, or the direction is none.
    """
    normal = np.asarray(normal, float)
    length = float(np.linalg.norm(normal))
    if not (np.isfinite(length) and length > 0):
        raise PlainError("The plane has no direction.", "Say it as three numbers, such as 0,0,1.")
    normal = normal / length
    h = (vertices - point) @ normal
    # a vertex on the plane counts as above: no line runs through a corner twice
    above = h >= 0
    cut = faces[above[faces].any(1) & ~above[faces].all(1)]
    if not len(cut):
        raise PlainError("The plane does not meet the model.", "Move it.")
    one, two = _in_plane(np.zeros((1, 3)), normal)[1].T
    if abs(normal[2]) < 0.999:
        # upright in the drawing is upright in the world
        two = np.array([0.0, 0.0, 1.0]) - normal[2] * normal
        two /= np.linalg.norm(two)
        one = np.cross(two, normal)
    else:
        one, two = np.array([1.0, 0, 0]), np.array([0.0, np.sign(normal[2]), 0])
    # each face has a way in and a way out, so that lines run with the inside on one side
    place: dict[tuple[int, int], int] = {}
    points: list[Array] = []
    after: dict[int, int] = {}

    def crossing(a: int, b: int) -> int:
        key = (a, b) if a < b else (b, a)
        if key not in place:
            place[key] = len(points)
            t = h[key[0]] / (h[key[0]] - h[key[1]])
            points.append(vertices[key[0]] + t * (vertices[key[1]] - vertices[key[0]]))
        return place[key]

    for a, b, c in cut.tolist():
        begin = end = -1
        for i, j in ((a, b), (b, c), (c, a)):
            if above[i] and not above[j]:
                begin = crossing(i, j)
            elif above[j] and not above[i]:
                end = crossing(i, j)
        after[begin] = end
    flat = (np.array(points) - point) @ np.c_[one, two]
    lines, closed, total = [], [], 0.0
    starts = set(after) - set(after.values())
    while after:
        at = next(iter(starts)) if starts else next(iter(after))
        starts.discard(at)
        first, chain = at, [at]
        while at in after:
            at = after.pop(at)
            if at == first:
                break
            chain.append(at)
        shut = at == first
        line = flat[chain]
        total += float(np.linalg.norm(np.diff(line, axis=0, append=line[:1] if shut else line[-1:]), axis=1).sum())
        lines.append(line)
        closed.append(shut)
    return Section(lines, closed, np.asarray(point, float), np.stack([one, two]), total)
