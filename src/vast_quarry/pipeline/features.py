"""Features of all photos of an alignment: sought, or taken from another version that found them."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import is_whole
from vast_quarry.pipeline.reuse import Earlier, Made, feature_key, features_file, write_made
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import Photo, PhotoList
from vast_quarry.pipeline.units import match as match_units

#: photos are not made smaller than this for features (longer side in pixels): too little would be left to tell apart
SMALLEST_USEFUL = 900
#: memory that features take of each pixel in which they are sought, and that a photo takes of each of its own to be read
FEATURE_BYTES, DECODED_BYTES = 170, 12


@dataclass(frozen=True)
class Effort:
    """How features are sought: besides in views tilted so (factors of the height), and with contrast lifted in flat areas,
    then twice as many of them."""

    tilts: tuple[float, ...] = ()
    lifted: bool = False


PLAIN = Effort()


@dataclass(frozen=True)
class Features:
    """Features of some photos, in their order: the files they lie in, and what each was made from.

    Attributes
    ----------
    files : list of Path
    keys : list of str
        See :func:`.reuse.feature_key`: files of one key hold the same.
    masked : int
        How many obeyed a mask.
    effort : Effort
        How they were sought.
    """

    files: list[Path]
    keys: list[str]
    masked: int
    effort: Effort

    @property
    def key(self) -> str:
        """What all of them, in this order, are made from."""
        return hashlib.sha256(" ".join(self.keys).encode()).hexdigest()[:16]

    def places(self) -> tuple[list[NDArray[np.float32]], list[NDArray[np.float32]]]:
        """Pixels (k, 2) and diameters (k,) of the features of each photo."""
        xy, scale = [], []
        for file in self.files:
            with np.load(file) as f:
                xy.append(f["xy"])
                scale.append(f["scale"])
        return xy, scale

    def share_left_out(self) -> float | None:
        """Share of all features that masks left out; None where no mask was obeyed."""
        total = np.zeros(2)
        for file in self.files:
            with np.load(file) as f:
                total += f["counts"] if "counts" in f.files else 0
        return float(total[0] / total[1]) if total[0] else None


def photo_scale(photo: Photo, scale: float, largest_side: int) -> float:
    """Scale at which a photo is used: the grade's, less for very large photos, more for very small ones."""
    longest = max(photo.width or 1, photo.height or 1)
    return min(1.0, largest_side / longest, max(scale, SMALLEST_USEFUL / longest))


def keys_of(context: Context, photos: list[Photo], obey: bool, effort: Effort) -> list[str]:
    """What features of all photos would be made from, see :func:`.reuse.feature_key`."""
    return [_wanted(context, p, obey, effort)[2] for p in photos]


def _wanted(context: Context, photo: Photo, obey: bool, effort: Effort) -> tuple[Path | None, float, str]:
    """The mask that the features of a photo obey, the scale at which they are sought, and what they are made from."""
    settings = context.settings
    mask = mask_file(context.parents["masks"], photo.number) if obey else None
    scale = photo_scale(photo, settings.photo_scale, settings.largest_side)
    lifted, count = _lifted(settings, effort)
    return mask, scale, feature_key(photo, mask, scale, count, lifted, effort.tilts)


def _lifted(settings: Any, effort: Effort) -> tuple[bool, int]:
    """Whether contrast is lifted, and how many features are sought then."""
    count = settings.features * (2 if effort.lifted and not settings.local_contrast else 1)
    return effort.lifted or settings.local_contrast, count


def find_features(
    context: Context, listed: PhotoList, photos: list[Photo], obey: bool, effort: Effort = PLAIN
) -> Features:
    """Find features of all photos, only inside their masks where they ``obey``.

    Those that another version found are taken. A file is named by what it was made from, so that those of another attempt
    in the same folder are never taken for these.
    """
    lifted, count = _lifted(context.settings, effort)
    (context.folder / "features").mkdir(exist_ok=True)
    earlier = Earlier(context.folder)
    jobs, memory = [], []
    files, keys = [], []
    masked = 0
    for p in photos:
        mask, scale, key = _wanted(context, p, obey, effort)
        masked += mask is not None
        keys.append(key)
        target = features_file(context.folder, p.number, keys[-1])
        files.append(target)
        if is_whole(target) or earlier.take_features(keys[-1], target):
            continue
        jobs.append(
            (str(listed.file(p)), str(mask) if mask else None, scale, count, (p.width, p.height),
             str(target), p.tone, lifted, effort.tilts)
        )  # fmt: skip
        memory.append((FEATURE_BYTES * scale**2 + DECODED_BYTES) * (p.width or 1) * (p.height or 1))
    context.each("Finding features", match_units.features, jobs, memory=memory)
    found = Features(files, keys, masked, effort)
    write_made(context.folder, made_from(found, photos, context.settings.ratio, []))
    return found


def made_from(found: Features, photos: list[Photo], ratio: float, pairs: list[tuple[int, int]]) -> Made:
    """What a version is noted to be made from: features, how they were sought, and pairs of photos (rows) compared."""
    return Made(
        {p.number: key for p, key in zip(photos, found.keys)},
        ratio,
        [(photos[i].number, photos[j].number) for i, j in pairs],
        found.effort.tilts,
        found.effort.lifted,
    )
