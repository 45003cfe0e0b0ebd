"""Whether a mesh can be printed, and what stands against it: open edges, parts turned inside out, crossings, thin walls, overhangs.

References
----------
Leary, M. (2019). Design for Additive Manufacturing. Elsevier (overhangs of more than 45 degrees from upright need support: common
practice).
Shapira, L., Shamir, A., Cohen-Or, D. (2008). Consistent mesh partitioning and skeletonisation using the shape diameter function. The
Visual Computer 24 (thickness by rays).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.finish.filling import filled, holes_of
from vast_quarry.core.finish.hemisphere import thickness
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import (
    compacted,
    components,
    cut_apart,
    edge_faces,
    face_areas,
    face_normals,
    open_edges,
    sample_faces,
    signed_volume,
    without_degenerate,
)  # fmt: skip
from vast_quarry.core.words import Said, say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
Chosen = NDArray[np.bool_]

#: density (g/cm3) of what is printed with (from memory, makers' data sheets; resin: common standard resin)
MATERIALS = {"PLA": 1.24, "PETG": 1.27, "ABS": 1.04, "resin": 1.15, "nylon": 1.01, "gypsum": 2.3}
#: places at which walls are measured, and rays at each
PLACES, RAYS = 20_000, 12
#: a face leans over when it looks down by more than this (cosine of 45 degrees)
_OVER = float(np.cos(np.radians(45)))


@dataclass(frozen=True)
class Printer:
    """What it can print, in mm: its room, and the thinnest wall that holds."""

    room: tuple[float, float, float] = (220.0, 220.0, 250.0)
    wall: float = 1.2


@dataclass
class Check:
    """What was found; lengths in mm.

    Attributes
    ----------
    closed, right_way_out, fits : bool
    crossings : int
        Edges that run through other faces.
    bodies : int
    size : (3,)
    volume, area : float
        mm3 and mm2; the volume is that of the closed mesh, 0 for an open one.
    thinnest : float
        The wall that only 1 of 100 places falls below; nothing (inf) where no ray comes out again.
    thin_percent, overhang_percent : float
        Share of the surface.
    islands : int
        Places where printing would begin in the air.
    findings : list of Said
    """

    closed: bool
    open_edges: int
    right_way_out: bool
    crossings: int
    bodies: int
    size: Array
    fits: bool
    volume: float
    area: float
    thinnest: float
    thin_percent: float
    overhang_percent: float
    islands: int
    findings: list[Said] = field(default_factory=list)

    def weights(self) -> dict[str, float]:
        """Grams of the whole body, solid, by material."""
        return {name: round(self.volume / 1000 * density, 2) for name, density in MATERIALS.items()}

    def record(self) -> dict[str, object]:
        """As reports tell it."""
        return {
            "printable": not self.findings, "closed": self.closed, "open_edges": self.open_edges,
            "right_way_out": self.right_way_out, "crossings": self.crossings, "bodies": self.bodies,
            "size_mm": [round(float(x), 3) for x in self.size], "fits": self.fits,
            "volume_mm3": round(self.volume, 3), "area_mm2": round(self.area, 3),
            "thinnest_wall_mm": None if not np.isfinite(self.thinnest) else round(self.thinnest, 3),
            "thin_percent": round(self.thin_percent, 2), "overhang_percent": round(self.overhang_percent, 2),
            "islands": self.islands, "weight_g": self.weights(), "findings": [str(f) for f in self.findings],
        }  # fmt: skip


def crossings(vertices: Array, faces: Faces, check: Callable[[], None] = lambda: None) -> NDArray[np.int64]:
    """Faces (K,) that an edge runs through which is none of theirs."""
    _, edges = edge_faces(faces)
    edges = np.unique(np.concatenate([edges, np.sort(open_edges(faces), axis=1)]), axis=0)
    scene = RayScene()
    middle = vertices.mean(0)
    scene.add(vertices - middle, faces)
    out = []
    for first in range(0, len(edges), 500_000):
        check()
        some = edges[first : first + 500_000]
        a, b = vertices[some[:, 0]] - middle, vertices[some[:, 1]] - middle
        ray, face, t = scene.all_hits(np.concatenate([a, b - a], 1).astype(np.float32))
        inner = (t > 1e-4) & (t < 1 - 1e-4)
        ray, face = ray[inner], face[inner]
        shares = (faces[face][:, :, None] == some[ray][:, None, :]).any((1, 2))
        out.append(face[~shares])
    return np.unique(np.concatenate(out)) if out else np.zeros(0, np.int64)


def overhanging(vertices: Array, faces: Faces, bed: float) -> Chosen:
    """Faces (M,) that lean over more than 45 degrees and do not lie on the bed."""
    normal, top = face_normals(vertices, faces)[:, 2], vertices[faces][..., 2].max(1)
    size = float(np.ptp(vertices, axis=0).max())
    return np.asarray((normal < -_OVER) & (top > bed + 1e-4 * size))


def islands(vertices: Array, faces: Faces, bed: float) -> Array:
    """Places (K, 3) that are lower than all about them but do not lie on the bed: printing would begin there in the air."""
    z = vertices[:, 2]
    lowest = np.full(len(vertices), np.inf)
    for k in range(3):
        a, b = faces[:, k], faces[:, (k + 1) % 3]
        np.minimum.at(lowest, a, z[b])
        np.minimum.at(lowest, b, z[a])
    size = float(np.ptp(vertices, axis=0).max())
    at = (z < lowest) & (z > bed + 1e-3 * size) & np.isfinite(lowest)
    # the bottom of a pit within the body is no island: there the surface looks up
    normal = np.zeros(len(vertices))
    n = face_normals(vertices, faces)[:, 2] * face_areas(vertices, faces)
    for k in range(3):
        np.add.at(normal, faces[:, k], n)
    return vertices[at & (normal < 0)]


def walls(vertices: Array, faces: Faces, most: float, seed: int = 0) -> NDArray[np.float32]:
    """Thickness (world units) at places spread evenly over the surface."""
    spacing = np.sqrt(face_areas(vertices, faces).sum() / min(PLACES, 4 * len(faces) + 1000))
    points, pick = sample_faces(vertices, faces, float(spacing), seed)
    middle = vertices.mean(0)
    scene = RayScene()
    scene.add(vertices - middle, faces)
    size = float(np.ptp(vertices, axis=0).max())
    return thickness(scene, points - middle, face_normals(vertices, faces[pick]), RAYS, 1e-5 * size, most)


def check(
    vertices: Array, faces: Faces, printer: Printer | None = None, to_mm: float = 1000.0, told: Callable[[], None] = lambda: None
) -> Check:  # fmt: skip
    """Look whether a mesh (N, 3), (M, 3) can be printed; ``to_mm`` is what one world unit is."""
    printer = printer or Printer()
    v = vertices * to_mm
    bed = float(v[:, 2].min())
    rim = len(open_edges(faces))
    signed = signed_volume(v, faces)
    size = np.ptp(v, axis=0)
    told()
    through = crossings(v, faces, told)
    wall = walls(v, faces, 10 * float(size.max())) if signed > 0 else np.full(1, np.inf, np.float32)
    area = face_areas(v, faces)
    found = Check(
        closed=rim == 0, open_edges=rim, right_way_out=signed > 0, crossings=len(through),
        bodies=int(components(faces).max(initial=-1)) + 1, size=size,
        fits=bool((np.sort(size[:2]) <= np.sort(printer.room[:2])).all() and size[2] <= printer.room[2]),
        volume=abs(signed) if rim == 0 else 0.0, area=float(area.sum()),
        thinnest=float(np.percentile(wall, 1)), thin_percent=100 * float((wall < printer.wall).mean()),
        overhang_percent=100 * float(area[overhanging(v, faces, bed)].sum() / area.sum()),
        islands=len(islands(v, faces, bed)),
    )  # fmt: skip
    found.findings = _findings(found, printer)
    return found


def _findings(c: Check, printer: Printer) -> list[Said]:
    out = []
    if not c.closed:
        out.append(say("The mesh is open: {n, plural, one {# edge has} other {# edges have}} a face on one side only. Close its holes.", n=c.open_edges))  # fmt: skip
    if not c.right_way_out:
        out.append(say("The mesh is inside out. Turn its faces round."))
    if c.crossings:
        out.append(say("{n, plural, one {# face is} other {# faces are}} crossed by others. Smooth or cut away what folds over itself.", n=c.crossings))  # fmt: skip
    if c.bodies > 1:
        out.append(say("There are {n} bodies that do not hang together. Keep the main one, or join them.", n=c.bodies))
    if not c.fits:
        room = " × ".join(f"{x:g}" for x in printer.room)
        size = " × ".join(f"{x:.1f}" for x in c.size)
        out.append(
            say("It measures {size} mm; the printer takes {room}. Scale it, or cut it in parts.", size=size, room=room)
        )
    if c.thin_percent > 1:
        out.append(say("{share} % of it is thinner than {wall} mm. Thicken it, or print it larger.", share=round(c.thin_percent, 1), wall=printer.wall))  # fmt: skip
    return out


def mended(vertices: Array, faces: Faces) -> tuple[Array, Faces]:
    """A mesh made fit for printing: sheets that touch taken apart, crumbs gone, holes closed, right way out."""
    v, f = cut_apart(vertices, without_degenerate(vertices, faces))
    label = components(f)
    size = np.bincount(label)
    v, f, _ = compacted(v, f[size[label] >= 0.01 * size.max()])
    for _ in range(3):
        holes = holes_of(v, f)
        if not holes:
            break
        v, f = filled(v, f, holes, "auto")
    if signed_volume(v, f) < 0:
        f = f[:, ::-1]
    return v, np.ascontiguousarray(f)
