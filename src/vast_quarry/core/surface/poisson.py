"""A surface through an oriented cloud: screened Poisson (Open3D's build of the authors' code), trimmed where nothing was seen.

References
----------
Kazhdan, M., Hoppe, H. (2013). Screened Poisson surface reconstruction. ACM TOG 32(3).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from vast_quarry.core.errors import PlainError
from vast_quarry.core.surface.mesh import compacted, components, face_areas, without_degenerate
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


def median_spacing(points: Array, sample: int = 4000, seed: int = 0) -> float:
    """Median distance from a point (N, 3) to its nearest neighbour."""
    if len(points) < 2:
        return 0.0
    rng = np.random.default_rng(seed)
    pick = rng.choice(len(points), min(sample, len(points)), replace=False)
    distance, _ = cKDTree(points).query(points[pick], k=2)
    return float(np.median(distance[:, 1]))


def poisson_depth(points: Array, cell_in_spacings: float = 1.25, least: int = 6, most: int = 11) -> int:
    """Octree depth at which a cell is about ``cell_in_spacings`` point spacings wide."""
    extent = float(np.ptp(points, axis=0).max()) * 1.1
    spacing = max(median_spacing(points), extent * 1e-5)
    return int(np.clip(round(np.log2(extent / (spacing * cell_in_spacings))), least, most))


def poisson_surface(points: Array, normals: NDArray, depth: int) -> tuple[Array, Faces]:
    """Closed surface through points (N, 3) with outward normals (N, 3).

    On one thread: several add up in an order of chance, and the same recipe would not give the same figures.

    Raises
    ------
    PlainError
        When there are too few points.
    """
    if len(points) < 100:
        raise PlainError(
            say("Only {count} points were found: too few for a surface.", count=len(points)),
            "Take more photos that overlap by 70 % or more.",
        )
    import open3d as o3d  # heavy to load: only when a surface is made

    cloud = o3d.geometry.PointCloud()
    cloud.points = o3d.utility.Vector3dVector(points)
    cloud.normals = o3d.utility.Vector3dVector(np.asarray(normals, float))
    with o3d.utility.VerbosityContextManager(o3d.utility.VerbosityLevel.Error):
        mesh, _ = o3d.geometry.TriangleMesh.create_from_point_cloud_poisson(
            cloud, depth=depth, scale=1.1, linear_fit=False, n_threads=1
        )
    return np.asarray(mesh.vertices).copy(), np.asarray(mesh.triangles).astype(np.int64)


def trimmed(vertices: Array, faces: Faces, points: Array, reach: float, largest_gap: float) -> tuple[Array, Faces]:
    """The part of a surface that lies within ``reach`` of the points (N, 3) it was made from.

    Gaps no larger than a disc of diameter ``largest_gap``, and no longer than twice that, stay closed: there the cloud is only
    thin, and the surface bridges it well. How many faces a gap has says nothing: where there are no points they are few and large.
    """
    distance, _ = cKDTree(points).query(vertices, k=1, distance_upper_bound=reach, workers=-1)
    keep = np.isfinite(distance)[faces].all(1)
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
    v, f, _ = compacted(vertices, faces[keep])
    return v, without_degenerate(v, f)
