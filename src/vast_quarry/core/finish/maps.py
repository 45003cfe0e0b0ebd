"""Maps of a fine mesh baked onto a coarse one: what lies on the fine one along the coarse one's normal at each texel.

References
----------
Cohen, J., Olano, M., Manocha, D. (1998). Appearance-preserving simplification. SIGGRAPH (normal maps).
Cignoni, P., Montani, C., Rocchini, C., Scopigno, R. (1998). A general method for preserving attribute values on simplified meshes.
IEEE Visualization.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.curvature import mean_curvature
from vast_quarry.core.finish.hemisphere import openness, thickness
from vast_quarry.core.finish.tangents import tangents
from vast_quarry.core.formats.models import Model
from vast_quarry.core.raycast import MISS, RayScene
from vast_quarry.core.surface.mesh import (
    face_areas,
    face_normals,
    normalised,
    same_places,
    vertex_normals,
    within_faces,
)
from vast_quarry.core.texture.packing import Atlas, raster_faces
from vast_quarry.core.texture.texels import Texels, band_of_texels, fill_between, looked_up
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
#: maps that can be baked
KINDS = ("color", "normal", "normal-object", "occlusion", "height", "thickness", "curvature", "evidence")
#: texels that are cast at a time
BAND = 1 << 20
#: reach (share of the fine mesh's size) at least, and by what factor it is more than nearly all of the distance between both
LEAST_REACH, MORE = 0.002, 1.5
#: what rays find is found at vertices of the fine mesh where edges are no longer than so many texels, at each texel where they are longer
#: than so many; between, it depends on whether corners and middle of a face differ by more than a share of the whole
FINE_ENOUGH, LARGE, ALIKE = 8.0, 64.0, 0.04
#: vertices are fewer than texels: each gets so many times the rays
AT_VERTICES = 4


@dataclass(frozen=True)
class Request:
    """What is to be baked.

    Attributes
    ----------
    maps : sequence of str
        Out of ``KINDS``.
    size : int
        Texels a side.
    samples : int
        Each texel is the mean of so many times so many.
    out, into : float
        How far (world units) the fine mesh is looked for outside and inside the coarse one; 0 finds it.
    rays : int
        For occlusion and thickness, at each place.
    occluded_within : float
        What lies farther away (world units) hides nothing; 0 for no such bound.
    green_up : bool
        Whether the normal map's green grows upwards, as glTF 2.0 has it.
    """

    maps: Sequence[str]
    size: int = 2048
    samples: int = 2
    out: float = 0.0
    into: float = 0.0
    rays: int = 64
    occluded_within: float = 0.0
    green_up: bool = True


@dataclass
class Baked:
    """What was baked.

    Attributes
    ----------
    pictures : dict
        (S, S, 3) or (S, S) uint8 (colour also uint16), blue, green, red; height, thickness and curvature uint16.
    ranges : dict
        What black and white stand for, in world units (curvature: 1 / world unit), of each map that is a measure.
    missed : (S, S) uint8
        1 where the fine mesh was not met, 2 where only its wrong side was, 0 elsewhere.
    figures : dict
    """

    pictures: dict[str, NDArray] = field(default_factory=dict)
    ranges: dict[str, tuple[float, float]] = field(default_factory=dict)
    missed: NDArray[np.uint8] = field(default_factory=lambda: np.zeros((0, 0), np.uint8))
    figures: dict[str, float] = field(default_factory=dict)


class Fine:
    """The fine mesh, to be asked what it is like at places of it."""

    def __init__(self, model: Model) -> None:
        self.model = model
        self.middle = model.vertices.mean(0)
        self.scene = RayScene()
        self.scene.add(model.vertices - self.middle, model.faces)
        self.facing = face_normals(model.vertices, model.faces)
        first, self.which = same_places(model.vertices)
        self.welded = model.vertices[first], self.which[model.faces].astype(np.int64)
        self.edge = float(np.sqrt(np.median(face_areas(model.vertices, model.faces)) * 2))
        self.lift = 1e-5 * model.size

    def at(self, values: NDArray, face: Faces, uv: NDArray) -> NDArray[np.float32]:
        """Values (K, d) at places of faces, out of those of vertices (N, d)."""
        return np.asarray(within_faces(values, self.model.faces[face], uv), np.float32)

    def spread(self, values: NDArray) -> NDArray:
        """Values of the welded surface's vertices (V, d) for each vertex of the model (N, d)."""
        return values[self.which]

    def meet(
        self, points: NDArray, normals: NDArray, out: float, into: float
    ) -> tuple[Faces, NDArray, NDArray[np.uint8]]:
        """Faces (K,), weights (K, 2) and how they were met (K,): 0 as wished, 1 only by distance, 2 from the wrong side.

        The nearer of what lies outwards and inwards along the normal and faces the same way.
        """
        n = normalised(np.asarray(normals, float)).astype(np.float32)
        p = np.asarray(points - self.middle, np.float32)
        step = np.float32(self.lift)
        face = np.full(len(p), -1, np.int64)
        uv = np.zeros((len(p), 2), np.float32)
        best = np.full(len(p), np.inf, np.float32)
        turned = np.zeros(len(p), bool)
        for side, reach in ((1.0, out), (-1.0, into)):
            # from a little on the other side, so that what lies in both meshes is met
            hit = self.scene.cast(np.concatenate([p - side * step * n, side * n], 1))
            met = (hit["face"] != MISS) & (hit["t"] <= reach + step)
            right = met.copy()
            right[met] = (self.facing[hit["face"][met]] * n[met]).sum(1) > 0
            turned |= met & ~right
            take = right & (hit["t"] < best)
            face[take], uv[take], best[take] = hit["face"][take], hit["uv"][take], hit["t"][take]
        how = np.where(face >= 0, 0, np.where(turned, 2, 1)).astype(np.uint8)
        lost = np.flatnonzero(face < 0)
        if len(lost):
            face[lost], uv[lost] = self.scene.nearest(p[lost])
        return face, uv, how


def reach_for(fine: Fine, coarse: Model) -> float:
    """How far (world units) the fine mesh lies from the coarse one nearly everywhere, and a little more."""
    far = fine.scene.distance(coarse.vertices[coarse.faces].mean(1) - fine.middle)
    if not len(far) or float(np.median(far)) > 0.2 * fine.model.size:
        raise PlainError(
            "The two meshes do not lie on each other.", "Bring both into the same place, axes and unit, and try again."
        )
    return max(LEAST_REACH * fine.model.size, MORE * float(np.percentile(far, 99.5)))


def _atlas(coarse: Model, size: int) -> Atlas:
    if coarse.uv is None:
        raise PlainError("The coarse mesh has no texture coordinates.", "Let new ones be made.")
    low, high = coarse.uv.min(0), coarse.uv.max(0)
    if (low < -1e-4).any() or (high > 1 + 1e-4).any():
        raise PlainError(
            "Texture coordinates of the coarse mesh lie outside of the picture (0 to 1).",
            "Move them into it, or let new ones be made.",
        )
    return Atlas(coarse.uv * size - 0.5, np.arange(len(coarse.vertices)), coarse.faces, size, 1.0)


def overlapping(atlas: Atlas) -> float:
    """Share of the area of faces in an atlas on which others lie as well."""
    p = atlas.uv[atlas.faces]
    a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    area = float(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2)
    # a texel counts where its middle is covered: over many faces that is their area
    side = 1024
    scale = side / atlas.size
    seen = raster_faces((atlas.uv + 0.5) * scale - 0.5, atlas.faces, side)
    return max(0.0, 1 - float((seen >= 0).sum()) / scale**2 / max(area, 1e-300))


def bake(
    model: Model, coarse: Model, request: Request, check: Callable[[], None] = lambda: None,
    told: Callable[[float], None] = lambda share: None,
) -> Baked:  # fmt: skip
    """Bake maps of a fine model onto the texture coordinates of a coarse one.

    Parameters
    ----------
    model : Model
        The fine one.
    coarse : Model
        With texture coordinates, in the same place.
    request : Request
    check : callable
        Called between parts of the work; may raise to cancel.
    told : callable
        Hears what share is done.

    Raises
    ------
    PlainError
        When the meshes do not lie on each other, the coordinates cannot be used, or the fine mesh lacks what a map asks for.
    """
    for name in request.maps:
        if name not in KINDS:
            raise PlainError(
                say("There is no map called {name}.", name=name), say("Use one of {list}.", list=", ".join(KINDS))
            )
    fine = Fine(model)
    source = _Source(fine, request.maps, request)
    across = request.samples
    atlas = _atlas(coarse, request.size * across)
    auto = reach_for(fine, coarse) if request.out <= 0 or request.into <= 0 else 0.0
    out, into = request.out or auto, request.into or auto
    source.prepare(_texel(coarse, request.size), check)
    told(0.1)
    basis = tangents(coarse.vertices, coarse.normals, coarse.uv, coarse.faces) if "normal" in request.maps else None  # type: ignore[arg-type]
    made = _Made(request, model)
    rows = max(across, BAND // (request.size * across) // across * across)
    for first in range(0, atlas.size, rows):
        check()
        last = min(first + rows, atlas.size)
        t = band_of_texels(atlas, first, last)
        # what lies on the rim of a chart, outside of its faces, takes the nearest that is well inside
        t.weights = np.maximum(t.weights, 0.01)
        t.weights /= t.weights.sum(1, keepdims=True)
        points, normals = t.mix(coarse.vertices, coarse.faces), t.mix(coarse.normals, coarse.faces)
        face, uv, how = fine.meet(points, normals, out, into)
        values = source.values(face, uv, points, normals)
        if basis is not None:
            values["normal"] = _in_tangent_space(values.pop("_normal"), normals, t, basis, coarse.faces)
        made.take(t, first, last, values, how)
        told(0.1 + 0.85 * last / atlas.size)
    return made.finished(out, into, atlas, coarse)


def _texel(coarse: Model, size: int) -> float:
    """Length of a texel on the surface (world units)."""
    assert coarse.uv is not None
    p = coarse.uv[coarse.faces]
    a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    area = float(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2)
    return float(np.sqrt(face_areas(coarse.vertices, coarse.faces).sum() / max(area, 1e-12)) / size)


def _in_tangent_space(
    found: NDArray[np.float32], normals: NDArray[np.float32], t: Texels, basis: Array, faces: Faces
) -> NDArray[np.float32]:
    """Normals (K, 3) as a shader mixes them: x times tangent, y times bitangent, z times normal, none of them scaled before."""
    tangent = t.mix(basis[:, :3], faces)
    sign = basis[faces[t.face, 0], 3].astype(np.float32)
    bitangent = sign[:, None] * np.cross(normals, tangent)
    # rows of the inverse are cross products of the columns
    inner = np.stack(
        [(np.cross(a, b) * found).sum(1) for a, b in ((bitangent, normals), (normals, tangent), (tangent, bitangent))],
        1,
    )
    det = (tangent * np.cross(bitangent, normals)).sum(1)
    inner *= np.sign(det)[:, None]
    inner[np.abs(det) < 1e-6] = (0, 0, 1)
    return normalised(inner.astype(float)).astype(np.float32)


class _Source:
    """What maps take from the fine mesh."""

    def __init__(self, fine: Fine, maps: Sequence[str], request: Request) -> None:
        self.fine, self.maps, self.request = fine, maps, request
        model = fine.model
        if "color" in maps and model.picture is None and model.colors is None:
            raise PlainError(
                "The fine mesh has no colours.",
                "Take one with a texture or with colours of its vertices, or leave out “color”.",
            )
        self.evidence = (model.extra or {}).get("evidence")
        if "evidence" in maps and self.evidence is None:
            raise PlainError(
                "The fine mesh does not say how well its parts were seen.",
                "Take the mesh.ply of a build, or leave out “evidence”.",
            )
        self.normals = model.normals
        self.of_vertices: dict[str, NDArray[np.float32]] = {}
        self.each_texel: dict[str, NDArray[np.bool_]] = {}

    def prepare(self, texel: float, check: Callable[[], None]) -> None:
        """Find at the fine mesh's vertices what need not be found at each texel."""
        fine = self.fine
        v, f = fine.welded
        if "curvature" in self.maps:
            self.of_vertices["curvature"] = fine.spread(mean_curvature(v, f).astype(np.float32))[:, None]
        n = vertex_normals(v, f)
        at_rays = AT_VERTICES * self.request.rays
        corners = v[f]
        longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(1)
        small, large = longest <= FINE_ENOUGH * texel, longest > LARGE * texel
        unsure = np.flatnonzero(~small & ~large)
        for name in ("occlusion", "thickness"):
            if name not in self.maps:
                continue
            found = self._rays(name, v - fine.middle, n, at_rays, check)
            self.of_vertices[name] = fine.spread(found)[:, None]
            # where corners and middle of a face are alike, all of it is
            middle = self._rays(name, corners[unsure].mean(1) - fine.middle, face_normals(v, f[unsure]), at_rays, check)
            there = np.concatenate([found[f[unsure]], middle[:, None]], 1)
            each = large.copy()
            each[unsure] = np.ptp(there, axis=1) > ALIKE * (1.0 if name == "occlusion" else fine.model.size)
            self.each_texel[name] = each

    def _rays(
        self, name: str, points: NDArray, normals: NDArray, rays: int, check: Callable[[], None]
    ) -> NDArray[np.float32]:
        r, fine = self.request, self.fine
        if name == "occlusion":
            return openness(fine.scene, points, normals, rays, fine.lift, r.occluded_within or np.inf, check)
        return thickness(fine.scene, points, normals, max(rays // 2, 1), fine.lift, fine.model.size, check)

    def values(self, face: Faces, uv: NDArray, points: NDArray, normals: NDArray) -> dict[str, NDArray]:
        """What each map has at places of faces; ``points`` and ``normals`` are the coarse mesh's."""
        fine, model = self.fine, self.fine.model
        out: dict[str, NDArray] = {}
        own = normalised(fine.at(self.normals, face, uv).astype(float)).astype(np.float32)
        if "normal" in self.maps:
            out["_normal"] = own
        if "normal-object" in self.maps:
            out["normal-object"] = own
        if "color" in self.maps:
            out["color"] = self._colors(face, uv)
        if "height" in self.maps:
            met = fine.at(model.vertices - fine.middle, face, uv)
            n = normalised(np.asarray(normals, float))
            out["height"] = ((met - (points - fine.middle)) * n).sum(1, keepdims=True).astype(np.float32)
        for name, of_vertices in self.of_vertices.items():
            out[name] = fine.at(of_vertices, face, uv)
            each = np.flatnonzero(self.each_texel[name][face]) if name in self.each_texel else face[:0]
            if len(each):
                met = fine.at(model.vertices - fine.middle, face[each], uv[each])
                # rays begin over the face itself: smoothed normals may lead into it
                rays = max(self.request.rays // self.request.samples**2, 1)
                out[name][each, 0] = self._rays(name, met, fine.facing[face[each]], rays, lambda: None)
        if "evidence" in self.maps:
            assert self.evidence is not None
            nearest = np.concatenate([1 - uv.sum(1, keepdims=True), uv], 1).argmax(1)
            out["evidence"] = self.evidence[model.faces[face, nearest]][:, None].astype(np.float32)
        return out

    def _colors(self, face: Faces, uv: NDArray) -> NDArray:
        model = self.fine.model
        if model.picture is None or model.uv is None:
            assert model.colors is not None
            return self.fine.at(model.colors[:, ::-1].astype(np.float32), face, uv)
        return looked_up(model.picture, self.fine.at(model.uv, face, uv)).astype(np.float32)


class _Made:
    """Maps that fill up, band by band."""

    def __init__(self, request: Request, model: Model) -> None:
        side = request.size
        self.request = request
        self.deep = model.picture is not None and model.picture.dtype == np.uint16
        self.maps = {k: np.zeros((side, side, _CHANNELS.get(k, 1)), np.float32) for k in request.maps}
        self.covered = np.zeros((side, side), bool)
        self.missed = np.zeros((side, side), np.uint8)
        self.count = np.zeros(3, np.int64)

    def take(self, t: Texels, first: int, last: int, values: dict[str, NDArray], how: NDArray[np.uint8]) -> None:
        """A band of rows of samples."""
        k = self.request.samples
        here = slice(first // k, last // k)
        rows, side = last // k - first // k, self.request.size
        at = (t.row // k) * side + t.column // k
        weight = np.bincount(at, minlength=rows * side)
        there = weight > 0
        self.covered[here] = there.reshape(rows, side)
        for name, v in values.items():
            target = self.maps[name][here].reshape(rows * side, -1)
            for c in range(v.shape[1]):
                total = np.bincount(at, v[:, c], rows * side)
                target[there, c] = (total[there] / weight[there]).astype(np.float32)
        np.maximum.at(self.missed[here].reshape(-1), at, how)
        self.count += np.bincount(how, minlength=3)

    def finished(self, out: float, into: float, atlas: Atlas, coarse: Model) -> Baked:
        """Pictures, with what lies between charts filled."""
        done = Baked(missed=self.missed)
        for name, values in self.maps.items():
            picture, span = _as_picture(name, values, self.covered, self.deep, self.request.green_up)
            if span is not None:
                done.ranges[name] = span
            fill_between(picture, self.covered)
            done.pictures[name] = picture if picture.shape[2] == 3 else picture[..., 0]
        total = max(int(self.count.sum()), 1)
        done.figures = {
            "missed_percent": 100 * self.count[1] / total,
            "wrong_side_percent": 100 * self.count[2] / total,
            "covered_percent": 100 * float(self.covered.mean()),
            "overlap_percent": 100 * overlapping(atlas),
            "reach_out": out,
            "reach_in": into,
            "texel": _texel(coarse, self.request.size),
        }
        return done


_CHANNELS = {"color": 3, "normal": 3, "normal-object": 3}


def _as_picture(
    name: str, values: NDArray[np.float32], covered: NDArray[np.bool_], deep: bool, green_up: bool
) -> tuple[NDArray, tuple[float, float] | None]:
    """A map as whole numbers, and what its black and white stand for."""
    if name == "color":
        most = 65535 if deep else 255
        return np.clip(values + 0.5, 0, most).astype(np.uint16 if deep else np.uint8), None
    if name in ("normal", "normal-object"):
        length = np.maximum(np.linalg.norm(values, axis=2, keepdims=True), 1e-9)
        n = values / length
        if name == "normal" and not green_up:
            n[..., 1] *= -1
        coded = np.clip(128.001 + 127.5 * n, 0, 255)
        return np.ascontiguousarray(coded[..., ::-1]).astype(np.uint8), None
    if name == "occlusion":
        return np.clip(255 * values + 0.5, 0, 255).astype(np.uint8), (0.0, 1.0)
    if name == "evidence":
        return (values * 100 + 0.5).astype(np.uint8), (0.0, 2.55)
    known = values[covered]
    if name == "thickness":
        low, high = 0.0, float(known.max(initial=1e-9))
    else:
        # the middle grey is none: as far up as down
        high = float(np.percentile(np.abs(known), 99.9)) if name == "curvature" and len(known) else 0.0
        high = max(high or float(np.abs(known).max(initial=0.0)), 1e-9)
        low = -high
    scaled = (np.clip(values, low, high) - low) / (high - low)
    return (scaled * 65535 + 0.5).astype(np.uint16), (low, high)
