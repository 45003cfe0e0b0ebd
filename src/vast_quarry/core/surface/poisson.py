"""A surface through an oriented cloud: screened Poisson (Open3D's build of the authors' code), trimmed where nothing was seen.

References
----------
Kazhdan, M., Hoppe, H. (2013). Screened Poisson surface reconstruction. ACM TOG 32(3).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from vast_quarry.core.errors import PlainError
from vast_quarry.core.surface.mesh import compacted, components, face_areas, without_degenerate, without_short_edges
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]

#: how many times as wide as the points the cube is at least
ROOM = 1.1
#: points up to which all are looked at for their spacing, and slices of larger clouds
WHOLE, SLICES = 2_000_000, 4


def median_spacing(points: Array, sample: int = 4000, seed: int = 0) -> float:
    """Median distance from a point (N, 3) to its nearest neighbour.

    Of a large cloud some slices are looked at, each far thicker than points lie apart.
    """
    if len(points) < 2:
        return 0.0
    rng = np.random.default_rng(seed)
    if len(points) <= WHOLE:
        pick = rng.choice(len(points), min(sample, len(points)), replace=False)
        distance, _ = cKDTree(points).query(points[pick], k=2)
        return float(np.median(distance[:, 1]))
    along = points[:, int(np.ptp(points, axis=0).argmax())]
    ends = np.quantile(along[:: max(1, len(along) // WHOLE)], (np.arange(SLICES)[:, None] + [0.35, 0.65]) / SLICES)
    distances = []
    for low, high in ends:
        here = points[(along >= low) & (along <= high)]
        pick = rng.choice(len(here), min(sample // SLICES, len(here)), replace=False)
        distance, _ = cKDTree(here).query(here[pick], k=2)
        distances.append(distance[:, 1])
    found = np.concatenate(distances)
    return float(np.median(found[np.isfinite(found)]))


def octree(extent: float, cell: float, least: int = 5, most: int = 14) -> tuple[int, float]:
    """Depth of an octree whose finest cells are ``cell`` wide, and how many times as wide as ``extent`` its cube then is."""
    depth = int(np.clip(np.ceil(np.log2(max(ROOM * extent / cell, 1.0))), least, most))
    return depth, max(ROOM, cell * 2**depth / extent)


def poisson_surface(points: Array, normals: NDArray, cell: float) -> tuple[Array, Faces]:
    """Closed surface through points (N, 3) with outward normals (N, 3); ``cell`` is the width of the finest cells of the octree.

    On one thread: several add up in an order of chance, and the same recipe would not give the same figures.

    Raises
    ------
    PlainError
        When there are too few points.
    """
    extent = float(np.ptp(points, axis=0).max()) if len(points) else 0.0
    if len(points) < 100 or not extent:
        raise PlainError(
            say("Only {count} points were found: too few for a surface.", count=len(points)),
            "Take more photos that overlap by 70 % or more.",
        )
    import open3d as o3d  # heavy to load: only when a surface is made

    depth, scale = octree(extent, cell)
    cloud = o3d.geometry.PointCloud()
    cloud.points = o3d.utility.Vector3dVector(points)
    cloud.normals = o3d.utility.Vector3dVector(np.asarray(normals, float))
    with o3d.utility.VerbosityContextManager(o3d.utility.VerbosityLevel.Error):
        mesh, _ = o3d.geometry.TriangleMesh.create_from_point_cloud_poisson(
            cloud, depth=depth, scale=scale, linear_fit=False, n_threads=1
        )
    # corners that fall together leave pinholes: faces between them are left out, their edges are not
    return without_short_edges(np.asarray(mesh.vertices), np.asarray(mesh.triangles).astype(np.int64), 1e-3 * cell)


def near_points(vertices: Array, points: Array, reach: float, at_once: int = 2_000_000) -> NDArray[np.bool_]:
    """Which vertices (N, 3) lie within ``reach`` of a point (P, 3): of a large cloud one part after the other."""
    axis = int(np.ptp(points, axis=0).argmax())
    parts = max(1, -(-len(points) // at_once))
    ends = np.quantile(points[:, axis], np.linspace(0, 1, parts + 1)[1:-1]) if parts > 1 else np.zeros(0)
    part = np.searchsorted(ends, vertices[:, axis])
    near = np.zeros(len(vertices), bool)
    for k in range(parts):
        here = np.flatnonzero(part == k)
        if not len(here):
            continue
        low, high = (ends[k - 1] if k else -np.inf), (ends[k] if k < parts - 1 else np.inf)
        along = points[:, axis]
        some = points[(along >= low - reach) & (along <= high + reach)] if parts > 1 else points
        distance, _ = cKDTree(some).query(vertices[here], k=1, distance_upper_bound=reach, workers=-1)
        near[here] = np.isfinite(distance)
    return near


def trimmed(
    vertices: Array, faces: Faces, points: Array, reach: float, largest_gap: float,
    allowed: Callable[[Array, Faces], NDArray[np.bool_]] | None = None,
) -> tuple[Array, Faces]:  # fmt: skip
    """The part of a surface that lies within ``reach`` of the points (P, 3) it was made from.

    Gaps no larger than a disc of diameter ``largest_gap``, and no longer than twice that, stay closed: there the cloud is only
    thin, and the surface bridges it well. How many faces a gap has says nothing: where there are no points they are few and large.
    Of larger gaps those faces stay that are ``allowed`` (given vertices and faces: (M,) bool).
    """
    keep: NDArray[np.bool_] = np.all(near_points(vertices, points, reach)[faces], axis=1)
    gone = np.flatnonzero(~keep)
    if len(gone):
        label = components(faces[gone])
        area = np.bincount(label, face_areas(vertices, faces[gone]))
        corners = vertices[faces[gone]]
        low, high = np.full((len(area), 3), np.inf), np.full((len(area), 3), -np.inf)
        np.minimum.at(low, label, corners.min(1))
        np.maximum.at(high, label, corners.max(1))
        small = (area <= np.pi / 4 * largest_gap**2) & (np.linalg.norm(high - low, axis=1) <= 2 * largest_gap)
        keep[gone[small[label]]] = True
        open_ = gone[~small[label]]
        if allowed is not None and len(open_):
            keep[open_[allowed(vertices, faces[open_])]] = True
    v, f, _ = compacted(vertices, faces[keep])
    return v, without_degenerate(v, f)
