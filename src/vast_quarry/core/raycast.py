"""Rays against triangle meshes, by Open3D's scene (which drives the Embree ray-tracing kernels)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

MISS = 0xFFFFFFFF


def _tensor(array: Any) -> Any:
    """An array as Open3D wants it, not copied."""
    import open3d  # heavy to load: only by those who cast rays

    make: Any = open3d.core.Tensor.from_numpy
    return make(array)


class RayScene:
    """One or several triangle meshes to cast rays at."""

    def __init__(self) -> None:
        import open3d

        self._scene = open3d.t.geometry.RaycastingScene(nthreads=0)

    def add(self, vertices: ArrayLike, faces: ArrayLike) -> int:
        """Add a mesh, vertices (N, 3), faces (M, 3); its number comes back."""
        v = np.ascontiguousarray(vertices, dtype=np.float32)
        f = np.ascontiguousarray(faces, dtype=np.uint32)
        return int(self._scene.add_triangles(_tensor(v), _tensor(f)))

    def cast(self, rays: NDArray[np.float32]) -> dict[str, NDArray]:
        """First hits of rays (N, 6): origin and direction.

        Returns
        -------
        dict with ``t`` (N,) in units of the direction (inf for a miss), ``mesh`` (N,), ``face`` (N,) (MISS for a miss)
        and ``uv`` (N, 2): the weights of the face's second and third corner.
        """
        answer = self._scene.cast_rays(_tensor(np.ascontiguousarray(rays, dtype=np.float32)))
        return {
            "t": answer["t_hit"].numpy(),
            "mesh": answer["geometry_ids"].numpy(),
            "face": answer["primitive_ids"].numpy(),
            "uv": answer["primitive_uvs"].numpy(),
        }

    def blocked(self, rays: NDArray[np.float32], near: float = 0.0, far: float = np.inf) -> NDArray[np.bool_]:
        """Whether anything lies on each ray (N, 6) between ``near`` and ``far`` (in units of its direction)."""
        tensor = _tensor(np.ascontiguousarray(rays, dtype=np.float32))
        return self._scene.test_occlusions(tensor, tnear=near, tfar=far).numpy()

    def all_hits(self, rays: NDArray[np.float32]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float32]]:
        """Every hit of rays (N, 6): the ray, the face and how far along (K each)."""
        found = self._scene.list_intersections(_tensor(np.ascontiguousarray(rays, dtype=np.float32)))
        ray, face = (found[k].numpy().astype(np.int64) for k in ("ray_ids", "primitive_ids"))
        return ray, face, found["t_hit"].numpy()

    def nearest(self, points: ArrayLike) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
        """Of points (N, 3): the face (N,) that is nearest, and where on it, as weights (N, 2) of its second and third corner."""
        found = self._scene.compute_closest_points(_tensor(np.ascontiguousarray(points, dtype=np.float32)))
        return found["primitive_ids"].numpy().astype(np.int64), found["primitive_uvs"].numpy()

    def distance(self, points: ArrayLike) -> NDArray[np.float32]:
        """Distance of points (N, 3) to the nearest surface."""
        return self._scene.compute_distance(_tensor(np.ascontiguousarray(points, dtype=np.float32))).numpy()


def visible_from(
    scene: RayScene, points: NDArray[np.float64], normals: NDArray[np.float64], center: ArrayLike, offset: float
) -> NDArray[np.bool_]:
    """Whether points (N, 3) of a surface are seen from ``center``.

    ``offset`` lifts the points off their own surface along the normals.
    """
    target = points + normals * offset
    direction = np.asarray(center, dtype=float) - target
    rays = np.concatenate([target, direction], axis=1).astype(np.float32)
    return ~scene.blocked(rays, near=0.0, far=1.0)
