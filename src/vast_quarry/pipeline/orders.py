"""Photos as units of work take them: their files, how they are read, and where they stand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.photo.reading import scaled_size
from vast_quarry.pipeline.solution import Solution
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import read_photo_list


@dataclass(frozen=True)
class PhotoOrder:
    """A photo: its files, how it is read, how sharp it is (as it was judged), and where it stands."""

    row: int
    file: str
    mask: str | None
    tone: dict[str, float] | None
    scale: float
    sharpness: float
    camera: Camera
    rotation: NDArray[np.float64]
    center: NDArray[np.float64]


def photo_orders(
    layers: dict[str, Path], solution: Solution, scale_of: Callable[[int, Camera], float], obey_masks: bool = True
) -> list[PhotoOrder]:
    """The aligned photos, each read at the share of its sides that ``scale_of`` (row, lens) says.

    ``layers`` are the folders of the versions of Photos and Masks.
    """
    listed = read_photo_list(layers["photos"])
    by_number = {p.number: p for p in listed.photos}
    out = []
    for row in solution.aligned.tolist():
        photo, lens = by_number[int(solution.numbers[row])], solution.lens(row)
        scale = scale_of(row, lens)
        mask = mask_file(layers["masks"], photo.number) if obey_masks else None
        out.append(
            PhotoOrder(
                row, str(listed.file(photo)), str(mask) if mask else None, photo.tone, scale, photo.sharpness or 1.0,
                lens.scaled(*scaled_size(lens.width, lens.height, scale)), solution.rotations[row], solution.centers[row],
            )
        )  # fmt: skip
    return out
