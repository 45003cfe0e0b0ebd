"""Texture coordinates for a mesh: two ways, judged by figures, of which the better is taken.

References
----------
Sander, P. V., Snyder, J., Gortler, S. J., Hoppe, H. (2001). Texture mapping progressive meshes. SIGGRAPH (stretch: the root mean square
of how far the texture is drawn out, 1 for a plane at even density).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.models import Model
from vast_quarry.core.surface.mesh import components, edge_faces, face_areas, joined, vertex_normals
from vast_quarry.core.texture.charts import make_charts
from vast_quarry.core.texture.packing import unwrap
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
#: ways there are
WAYS = ("ours", "xatlas")
#: texels between charts on either side
PADDING = 3
#: how much a seam as long as the mesh weighs against all texels
_SEAMS_WEIGH = 0.02
#: triangles up to which both ways are tried: xatlas takes longer than their number grows (4 s at 7,500, 70 s at 50,000)
BOTH_UP_TO = 15_000


@dataclass(frozen=True)
class Unwrapped:
    """A way of unwrapping, with what it came to.

    Attributes
    ----------
    model : Model
    way : str
    stretch : float
        1 is best (Sander et al. 2001).
    seams : float
        Length of all seams, in sizes of the mesh.
    fill : float
        Share of the picture that faces cover.
    charts : int
    """

    model: Model
    way: str
    stretch: float
    seams: float
    fill: float
    charts: int

    @property
    def cost(self) -> float:
        """What is lost: texels to stretch and to empty places, and a little to seams."""
        return self.stretch / np.sqrt(max(self.fill, 1e-6)) * (1 + _SEAMS_WEIGH * self.seams)

    def record(self) -> dict[str, float | str]:
        """As reports tell it."""
        return {
            "way": self.way, "stretch": round(self.stretch, 4), "seams": round(self.seams, 2),
            "fill_percent": round(100 * self.fill, 2), "charts": self.charts,
        }  # fmt: skip


def unwrapped(vertices: Array, faces: Faces, size: int, way: str = "") -> Unwrapped:
    """A mesh (N, 3), (M, 3) with coordinates in a picture of ``size``; the better way when none is asked for.

    Raises
    ------
    PlainError
        When there is no such way, or the mesh has no faces.
    """
    if way and way not in WAYS:
        raise PlainError(
            say("There is no way of unwrapping called {name}.", name=way),
            say("Use one of {list}.", list=", ".join(WAYS)),
        )
    if not len(faces):
        raise PlainError("There is no surface to unwrap.", "Take another mesh.")
    ways = [way] if way else WAYS if len(faces) <= BOTH_UP_TO else WAYS[:1]
    made = [_WAYS[w](vertices, faces, size) for w in ways]
    return min(made, key=lambda u: u.cost)


def _ours(vertices: Array, faces: Faces, size: int) -> Unwrapped:
    wanted = size * float(np.sqrt(0.8 / max(float(face_areas(vertices, faces).sum()), 1e-300)))
    charts = make_charts(vertices, faces)
    atlas = unwrap(vertices, faces, charts, size, wanted, PADDING, size)
    uv = (atlas.uv + 0.5) / atlas.size
    return _judged("ours", vertices, faces, atlas.wedge_vertex, atlas.faces, uv)


def _xatlas(vertices: Array, faces: Faces, size: int) -> Unwrapped:
    import xatlas

    atlas = xatlas.Atlas()
    # it works in single precision, about the origin and at unit size
    middle, extent = vertices.mean(0), float(np.ptp(vertices, axis=0).max()) or 1.0
    atlas.add_mesh(((vertices - middle) / extent).astype(np.float32), faces.astype(np.uint32))
    how = xatlas.PackOptions()
    how.resolution, how.padding, how.bilinear = size, PADDING, True
    atlas.generate(pack_options=how)
    wedge, corner, uv = atlas[0]
    uv = np.asarray(uv, float)
    # it may make the picture longer on one side than it is asked for
    uv = uv * [atlas.width, atlas.height] / max(atlas.width, atlas.height)
    return _judged("xatlas", vertices, faces, wedge.astype(np.int64), corner.astype(np.int64), uv)


_WAYS = {"ours": _ours, "xatlas": _xatlas}


def _judged(way: str, vertices: Array, faces: Faces, wedge: NDArray[np.int64], corner: Faces, uv: Array) -> Unwrapped:
    normals = vertex_normals(vertices, faces)
    model = Model(vertices[wedge], normals[wedge], corner, uv)
    stretch, fill = stretch_and_fill(model)
    seams, charts = _seams(model, faces)
    return Unwrapped(model, way, stretch, seams / max(model.size, 1e-300), fill, charts)


def stretch_and_fill(model: Model) -> tuple[float, float]:
    """How far the texture is drawn out (1 is best), and the share of the picture that faces take."""
    assert model.uv is not None
    p, q = model.vertices[model.faces], model.uv[model.faces]
    d1, d2 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    t1, t2 = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
    det = t1[:, 0] * t2[:, 1] - t1[:, 1] * t2[:, 0]
    area = np.linalg.norm(np.cross(d1, d2), axis=1) / 2
    known = np.abs(det) > 1e-14
    det = np.where(known, det, 1.0)
    su = (t2[:, 1:] * d1 - t1[:, 1:] * d2) / det[:, None]
    sv = (t1[:, :1] * d2 - t2[:, :1] * d1) / det[:, None]
    squared = ((su**2).sum(1) + (sv**2).sum(1)) / 2
    taken = float(np.abs(np.where(known, det, 0)).sum() / 2)
    whole = float(area[known].sum())
    rms = np.sqrt((squared[known] * area[known]).sum() / max(whole, 1e-300))
    return float(rms * np.sqrt(taken / max(whole, 1e-300))), taken


def _seams(model: Model, faces: Faces) -> tuple[float, int]:
    """Length of edges along which the texture is cut, and the number of charts."""
    _, within = edge_faces(model.faces)
    _, edges = edge_faces(faces)
    of = np.empty(int(model.faces.max()) + 1, np.int64)
    of[model.faces.ravel()] = faces.ravel()
    key = np.sort(of[within], axis=1)
    base = int(faces.max()) + 1
    cut = ~np.isin(edges[:, 0] * base + edges[:, 1], key[:, 0] * base + key[:, 1])
    place = np.zeros((base, 3))
    place[faces.ravel()] = model.vertices[model.faces.ravel()]
    length = np.linalg.norm(place[edges[cut, 0]] - place[edges[cut, 1]], axis=1).sum()
    return float(length), int(components(model.faces).max(initial=-1)) + 1


def with_coordinates(model: Model, size: int, way: str = "") -> tuple[Model, Unwrapped | None]:
    """A model with texture coordinates: its own when it has any and no way is asked for."""
    if model.uv is not None and not way:
        return model, None
    made = unwrapped(*joined(model.vertices, model.faces), size, way)
    return replace(made.model, extra=None), made
