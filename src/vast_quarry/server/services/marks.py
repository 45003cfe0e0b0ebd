"""Marking a place in photos: where it must lie in the next one."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from vast_quarry.core.align.scale import place_from_marks
from vast_quarry.core.camera import project, undistort
from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.pipeline.solution import ALIGNED, Solution, load_solution
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.server.services.folders import Folders, NotFound
from vast_quarry.server.services.layers import version_of

#: places along the ray of a single mark that are shown in the other photo, and how far about the subject's distance
STEPS, NEAR, FAR = 60, 0.3, 3.0


class MarkHelpIn(BaseModel):
    """Marks of one place (path of the photo to pixel at full size), and the photo in which it is sought."""

    model_config = ConfigDict(allow_inf_nan=False)
    marks: dict[str, tuple[float, float]] = Field(min_length=1, max_length=200)
    photo: str


class MarkHelpOut(BaseModel):
    """Where the place lies: on a line (pixels) for one mark, at a pixel for more; how far marks miss that at most."""

    line: list[tuple[float, float]]
    at: tuple[float, float] | None
    miss_px: float | None
    problem: Sentence | None = None


def help_of(folders: Folders, body: MarkHelpIn) -> MarkHelpOut:
    """Where in a photo a place lies that is marked in others.

    Raises
    ------
    NotFound
        When the photo is not placed.
    """
    version = version_of(folders, "cameras", None)
    solution = load_solution(folders.store.folder(version))
    listed = read_photo_list(folders.store.folder(version_of(folders, "photos", version.parents.get("photos"))))
    number = {p.path: p.number for p in listed.photos}
    row_of = {int(n): k for k, n in enumerate(solution.numbers)}
    rows = {path: row_of[number[path]] for path in {*body.marks, body.photo} if number.get(path) in row_of}
    placed = {path: row for path, row in rows.items() if solution.states[row] in ALIGNED}
    if body.photo not in placed:
        raise NotFound("This photo is not placed.")
    index = [placed[p] for p in body.marks if p in placed]
    pixels = np.array([px for p, px in body.marks.items() if p in placed], float).reshape(-1, 2)
    target = placed[body.photo]
    if len(index) < 2:
        return MarkHelpOut(line=_line(solution, index[0], pixels[0], target) if index else [], at=None, miss_px=None)
    try:
        place = place_from_marks(
            pixels, [solution.lens(k) for k in index], solution.rotations[index], solution.centers[index]
        )
    except PlainError as error:
        return MarkHelpOut(line=_line(solution, index[0], pixels[0], target), at=None, miss_px=None, problem=error.said)
    seen, depth = project(solution.lens(target), solution.rotations[target], solution.centers[target], place.at[None])
    at = (float(seen[0, 0]), float(seen[0, 1])) if depth[0] > 0 else None
    return MarkHelpOut(line=[], at=at, miss_px=round(place.miss_px, 2))


def _line(s: Solution, row: int, pixel: np.ndarray, target: int) -> list[tuple[float, float]]:
    """The ray of a mark as another photo shows it, within that photo."""
    ray = np.append(undistort(pixel[None], s.lens(row))[0], 1.0) @ s.rotations[row]
    reach = float(np.linalg.norm(s.centers[row] - s.box.middle))
    points = s.centers[row] + ray * (reach * np.geomspace(NEAR, FAR, STEPS))[:, None]
    lens = s.lens(target)
    seen, depth = project(lens, s.rotations[target], s.centers[target], points)
    inside = (depth > 0) & (np.abs(seen - [lens.width / 2, lens.height / 2]) < [lens.width, lens.height]).all(1)
    return [(round(float(x), 1), round(float(y), 1)) for x, y in seen[inside]]
