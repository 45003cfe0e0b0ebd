"""Which pairs of photos are worth matching in full."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_write, is_whole, write_arrays
from vast_quarry.core.match.likeness import FEW, candidates
from vast_quarry.core.match.pairs import choose_pairs
from vast_quarry.pipeline.features import Features
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import Photo
from vast_quarry.pipeline.units import match as match_units


def _coarse_file(folder: Path, features: Features) -> Path:
    """Where the coarsest descriptors of these photos lie; gathered if they are not there yet."""
    file = folder / "units" / f"coarse-{features.key}.npy"
    if not is_whole(file):
        file.parent.mkdir(exist_ok=True)
        count = 1200 if len(features.files) <= 150 else 700
        match_units.gather_coarse([str(f) for f in features.files], count, file)
    return file


def mean_file(folder: Path, features: Features) -> Path:
    """Where the mean of their descriptors lies, the middle of all codes; reckoned if it is not there yet."""
    file = folder / "units" / f"mean-{features.key}.npy"
    if not is_whole(file):
        table = np.load(_coarse_file(folder, features), mmap_mode="r")
        with atomic_write(file) as target:
            np.save(target, match_units.mean_descriptor(table))
    return file


#: kinds of subject that are walked along
ALONG_KINDS = ("facade", "interior", "strip")


def pairs_to_match(
    context: Context, photos: list[Photo], features: Features, fresh: set[int] | None = None, widely: bool = False
) -> list[tuple[int, int]]:
    """Pairs worth matching in full: of those that may show the same, those whose coarsest features match best.

    With ``fresh`` only pairs of which one is such a row; ``widely`` with twice as many partners as the settings say.
    """
    context.stage("Looking for overlap", 0, len(photos) - 1)
    coarse = _coarse_file(context.folder, features)
    table = np.load(coarse, mmap_mode="r")
    worth: dict[int, list[int]] = {}
    for i, j in candidates(match_units.vectors(table, FEW), orders(photos)):
        if fresh is None or i in fresh or j in fresh:
            worth.setdefault(i, []).append(j)
    rows = context.each(
        "Looking for overlap", match_units.likeness_row, [(str(coarse), i, others) for i, others in worth.items()]
    )
    likeness = np.zeros((len(photos), len(photos)), np.int64)
    for (i, others), row in zip(worth.items(), rows):
        likeness[i, others] = row
    write_arrays(context.folder / "likeness.npz", likeness=likeness)
    partners = context.settings.partners * (2 if widely else 1)
    # whoever walks along a wall, a strip or through rooms moves on from photo to photo; round an object likeness says it better
    along = orders(photos)[-1:] if context.settings.kind in ALONG_KINDS else []
    return choose_pairs(likeness, partners=partners, choosing=fresh if fresh is None else sorted(fresh), along=along)


def orders(photos: list[Photo]) -> list[NDArray[np.int64]]:
    """Photos in the order of their names, and of when they were taken."""
    orders = [np.arange(len(photos))]
    if sum(p.taken is not None for p in photos) > len(photos) / 2:
        orders.append(np.array(sorted(range(len(photos)), key=lambda n: (photos[n].taken or "", n))))
    return orders
