"""A result of ``vast-quarry build`` or ``align`` against the truth of a rig set, in figures that do not depend on the scene."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from vast_quarry.core.camera import INTRINSICS, Camera, project
from vast_quarry.core.formats.ply import read_ply
from vast_quarry.core.pose import Similarity, rotation_from_vector
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import sample_surface

Array = NDArray[np.float64]


def lens(entry: dict) -> Camera:
    """The lens of an entry of a cameras.json."""
    return Camera(entry["width"], entry["height"], *[entry[n] for n in INTRINSICS])


@dataclass
class Alignment:
    """Placed of all; discrepancy in pixels, median and worst photo; focal error; the similarity to the truth."""

    placed: int
    of: int
    median_px: float
    worst_px: float
    focal_percent: float
    similarity: Similarity | None
    #: 95th percentile over photos
    p95_px: float = np.nan


def _pixels(cams: list[dict], points: Array, s: Similarity | None = None) -> list[Array]:
    out = []
    for c in cams:
        r, center = np.array(c["rotation"]), np.array(c["center"])
        if s is not None:
            r, center = s.pose(r, center)
        out.append(project(lens(c), r, center, points)[0])
    return out


def start_similarity(ours: list[dict], theirs: list[dict]) -> Similarity:
    """Similarity by rotations (they say it even of a short arc), then centres."""
    turn = sum(np.array(t["rotation"]).T @ np.array(o["rotation"]) for o, t in zip(ours, theirs))
    u, _, vt = np.linalg.svd(turn)
    r = u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt
    a, b = np.array([o["center"] for o in ours]) @ r.T, np.array([t["center"] for t in theirs])
    p, q = a - np.median(a, axis=0), b - np.median(b, axis=0)
    scale = float((p * q).sum() / max((p * p).sum(), 1e-30))
    return Similarity(scale, r, np.median(b, axis=0) - scale * np.median(a, axis=0))


def alignment(folder: Path, out: Path, samples: int = 400) -> Alignment:
    """Cameras of a result against the truth: RMS pixel difference of true surface points per photo, after the similarity
    that makes it least."""
    true = {c["photo"]: c for c in json.loads((folder / "truth" / "cameras.json").read_text())["cameras"]}
    file = out / "cameras.json"
    listed = json.loads(file.read_text())["cameras"] if file.exists() else []
    ours = [c for c in listed if c["aligned"] and c["photo"] in true]
    if len(ours) < 3:
        return Alignment(len(ours), len(true), np.nan, np.nan, np.nan, None)
    theirs = [true[c["photo"]] for c in ours]
    mesh = read_ply(folder / "truth" / "mesh.ply")
    points = sample_surface(mesh.points, mesh.faces, samples)
    target = _pixels(theirs, points)
    # what lies beside the photo says nothing of it
    inside = [((p > 0) & (p < [t["width"], t["height"]])).all(1) for p, t in zip(target, theirs)]
    s = start_similarity(ours, theirs)

    def moved(x: Array) -> Similarity:
        r = rotation_from_vector(x[:3]) @ s.rotation
        return Similarity(s.scale * np.exp(x[6]), r, s.shift + x[3:6])

    def off(x: Array) -> Array:
        seen = _pixels(ours, points, moved(x))
        return np.concatenate([(a - b)[i].ravel() for a, b, i in zip(seen, target, inside)]).clip(-200, 200)

    best = moved(least_squares(off, np.zeros(7), loss="soft_l1", f_scale=1.0, x_scale="jac", max_nfev=60).x)
    each = [
        np.sqrt(((a - b)[i] ** 2).sum(1).mean())
        for a, b, i in zip(_pixels(ours, points, best), target, inside)
        if i.any()
    ]
    focal = np.median([abs(o["fx"] / t["fx"] - 1) for o, t in zip(ours, theirs)]) * 100
    return Alignment(
        len(ours),
        len(true),
        float(np.median(each)),
        float(max(each)),
        float(focal),
        best,
        float(np.quantile(each, 0.95)),
    )


def surface(folder: Path, out: Path, s: Similarity) -> tuple[float, float]:
    """Median distance of a result's mesh from the true surface in GSD, and holes: share of what at least three photos see
    that is farther than 8 GSD from the mesh, in %."""
    info = json.loads((folder / "truth" / "info.json").read_text())
    true, ours = read_ply(folder / "truth" / "mesh.ply"), read_ply(out / "mesh.ply")
    p = s.points(sample_surface(ours.points, ours.faces, 20_000))
    low, high = np.array(info["bbox_min"]), np.array(info["bbox_max"])
    grow = 0.05 * (high - low).max()
    inside = ((p > low - grow) & (p < high + grow)).all(1) & (p[:, 2] > info["z_cut"])
    scene = RayScene()
    scene.add(true.points, true.faces)
    median = float(np.median(scene.distance(p[inside]))) / info["gsd"] if inside.any() else np.nan
    seen = np.load(folder / "truth" / "visibility.npz")["count"] >= 3
    v = true.points[seen & (true.points[:, 2] > info["z_cut"])]
    v = v[np.random.default_rng(0).permutation(len(v))[:20_000]]
    back = RayScene()
    back.add(s.points(ours.points), ours.faces)
    return median, float((back.distance(v) > 8 * info["gsd"]).mean() * 100)


__all__ = ["Alignment", "alignment", "lens", "surface"]
