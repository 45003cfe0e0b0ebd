"""What an alignment leaves over in each lens: where on the frame features miss their points, and how the lens bends."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel

from vast_quarry.core.camera import distort
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.layers import version_of

#: cells of the map along the longer side, and points of the curve from the middle to the corner
CELLS, CURVE = 16, 24


class LensCell(BaseModel):
    """A cell of the frame: its middle, mean of what features there miss by (all in pixels), and how many they are."""

    x: float
    y: float
    dx: float
    dy: float
    count: int


class LensMapOut(BaseModel):
    """A lens: its photos, focal length found and said (pixels), map of errors, and distortion outwards.

    ``curve`` holds pairs of the distance from the axis and by how much the lens moves a place there outwards (pixels).
    """

    photos: int
    width: int
    height: int
    focal: float
    said: float | None
    cells: list[LensCell]
    curve: list[tuple[float, float]]


def lens_maps(folders: Folders, number: int | None) -> list[LensMapOut]:
    """Each lens of an alignment, that of most photos first."""
    version = version_of(folders, "cameras", number)
    s = load_solution(folders.store.folder(version))
    listed = read_photo_list(folders.store.folder(version_of(folders, "photos", version.parents.get("photos"))))
    said = {p.number: p.focal for p in listed.photos if p.focal_source != "guessed"}
    miss = np.zeros((len(s.photo), 2))
    for row in s.aligned:
        seen_by, found = s.misses(int(row))
        miss[seen_by] = found
    out = []
    for lens in np.unique(s.lens_of[s.aligned]):
        rows = s.aligned[s.lens_of[s.aligned] == lens]
        camera = s.lenses[int(lens)]
        mine = np.isin(s.photo, rows)
        side = max(camera.width, camera.height) / CELLS
        wide, high = int(np.ceil(camera.width / side)), int(np.ceil(camera.height / side))
        at = np.floor(s.xy[mine] / side).astype(int).clip(0, [wide - 1, high - 1])
        cell = at[:, 1] * wide + at[:, 0]
        count = np.bincount(cell, minlength=wide * high)
        mean = (
            np.stack([np.bincount(cell, miss[mine, k], wide * high) for k in (0, 1)], 1) / np.maximum(count, 1)[:, None]
        )
        cells = [
            LensCell(
                x=(k % wide + 0.5) * side, y=(k // wide + 0.5) * side,
                dx=round(float(mean[k, 0]), 4), dy=round(float(mean[k, 1]), 4), count=int(count[k]),
            )
            for k in np.flatnonzero(count)
        ]  # fmt: skip
        corner = 0.5 * float(np.hypot(camera.width, camera.height)) / camera.fx
        radius = np.linspace(0, corner, CURVE)
        bent = distort(np.stack([radius, np.zeros(CURVE)], 1), camera)[:, 0] - radius
        out.append(
            LensMapOut(
                photos=len(rows), width=camera.width, height=camera.height, focal=round(camera.fx, 2),
                said=said.get(int(s.numbers[rows[0]])), cells=cells,
                curve=[(round(float(r * camera.fx), 1), round(float(d * camera.fx), 3)) for r, d in zip(radius, bent)],
            )
        )  # fmt: skip
    return sorted(out, key=lambda m: -m.photos)
