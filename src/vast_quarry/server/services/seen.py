"""Which photos see a spot of a mesh."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.texture.sights import normal_about, sights
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps.finish import load_textured
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.steps.surface import load_mesh
from vast_quarry.pipeline.store import Version
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.world import mesh_version

#: side of the patch that is shown, in pixels of a photo at the subject's distance
PATCH = 40


class SightOut(BaseModel):
    """A photo that sees the spot, and where (pixels at full size)."""

    photo: str
    row: int
    at: tuple[float, float]
    outline: list[tuple[float, float]]
    angle_deg: float
    #: size of a pixel there, in world units
    gsd: float
    #: share of the patch that nothing hides, and how good the photo is against the best
    clear: float
    weight: float


class SpotOut(BaseModel):
    """Photos that see a spot, best first, and how many there are in all; where the patch stands and its side, in world units."""

    photos: list[SightOut]
    of: int
    normal: tuple[float, float, float]
    side: float


def seen_by(folders: Folders, layer: str, spot: tuple[float, float, float], number: int | None = None) -> SpotOut:
    """Which photos see a spot of a version of Surface, Texture or Finish."""
    version = mesh_version(folders, layer, number)
    cameras = version_of(folders, "cameras", _cameras_of(folders, version))
    solution = load_solution(folders.store.folder(cameras))
    listed = read_photo_list(folders.store.folder(version_of(folders, "photos", cameras.parents.get("photos"))))
    name = {p.number: p.path for p in listed.photos}
    scene, vertices, normals = _surface(folders.store.folder(version), layer)
    side = PATCH * solution.gsd()
    at = np.array(spot)
    rows = [int(k) for k in solution.aligned]
    normal = normal_about(at, vertices, normals, side / 2)
    found = sights(
        at, normal, side, scene, rows, [solution.lens(k) for k in rows],
        solution.rotations[rows], solution.centers[rows],
    )  # fmt: skip
    pixel = lambda p: (round(float(p[0]), 2), round(float(p[1]), 2))  # noqa: E731
    photos = [
        SightOut(
            photo=name[int(solution.numbers[s.row])], row=s.row, at=pixel(s.at), outline=[pixel(p) for p in s.outline],
            angle_deg=round(s.angle, 1), gsd=s.gsd, clear=round(s.clear, 2), weight=round(s.weight, 3),
        )
        for s in found
    ]  # fmt: skip
    x, y, z = (float(v) for v in normal)
    return SpotOut(photos=photos, of=len(rows), normal=(x, y, z), side=side)


def _cameras_of(folders: Folders, version: Version) -> int | None:
    """The version of Cameras that a mesh goes back to."""
    while "cameras" not in version.parents and version.parents:
        layer, number = next(iter(version.parents.items()))
        version = version_of(folders, layer, number)
    return version.parents.get("cameras")


@lru_cache(maxsize=1)
def _surface(folder: Path, layer: str) -> tuple[RayScene, NDArray[np.float64], NDArray[np.float64]]:
    """A mesh to cast rays at, with its vertices and their normals; that of the last one asked about is kept."""
    if layer == "surface":
        vertices, faces = load_mesh(folder)
        normals = vertex_normals(vertices, faces)
    else:
        m = load_textured(folder)
        vertices, faces, normals = m.vertices, m.faces, m.normals
    scene = RayScene()
    scene.add(vertices, faces)
    return scene, vertices, normals
