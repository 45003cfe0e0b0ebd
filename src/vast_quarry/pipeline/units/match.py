"""Units of the Cameras step: features of a photo, likeness and matches of pairs."""

from __future__ import annotations

import functools
from pathlib import Path
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.mat import FoundMarkers, find_markers
from vast_quarry.core.formats.atomic import atomic_write, is_whole, write_arrays
from vast_quarry.core.mask.files import mask_at
from vast_quarry.core.match.backdrop import still_and_moving
from vast_quarry.core.match.features import find_features
from vast_quarry.core.match.guided import match_guided
from vast_quarry.core.match.hashing import Codes, codes_of, match_hashed
from vast_quarry.core.match.likeness import vector_of, vocabulary
from vast_quarry.core.match.matching import coarse_subset, flipped, match_mutual, unit_descriptors
from vast_quarry.core.match.twoview import FEWEST, verify
from vast_quarry.core.photo.reading import load_rgb
from vast_quarry.core.photo.tone import Tone, apply_tone, local_contrast
from vast_quarry.pipeline.reuse import number_of
from vast_quarry.pipeline.steps.masks import load_mask

#: pairs with fewer verified matches at the first, quick pass are compared exactly
QUICK_ENOUGH = 40
#: features of either photo that are compared exactly then, the largest
EXACTLY = 5000
#: greatest ratio at the quick pass: a geometry is found sooner among few that are right, and brings the others back
QUICK_RATIO = 0.8
#: photos whose features a process keeps at hand
AT_HAND = 24
#: what moves before a still backdrop moves so far (thousandths of the longer side); what moves further is matched by chance
MOVING = (6.0, 250.0)


def features(
    photo: str, mask: str | None, scale: float, limit: int, full_size: tuple[int, int], target: str,
    tone: dict[str, float] | None = None, evened: bool = False, tilts: tuple[float, ...] = (),
) -> None:  # fmt: skip
    """Find and save the features of one photo, read with its tone; ``evened`` with local contrast, besides in views by ``tilts``."""
    if is_whole(Path(target)):
        return
    rgb = apply_tone(load_rgb(Path(photo), scale), Tone.from_dict(tone))
    if evened:
        rgb = local_contrast(rgb)
    kept = load_mask(mask)
    if kept is not None:
        kept = mask_at(kept, rgb.shape[1], rgb.shape[0])
    f = find_features(rgb, full_size, limit, kept, tilts)
    counts = np.array([f.left_out, f.found])
    write_arrays(Path(target), xy=f.xy, scale=f.scale, descriptors=f.descriptors, colors=f.colors, counts=counts)


def markers(photo: str) -> FoundMarkers:
    """Coded markers in one photo."""
    return find_markers(np.asarray(cv2.cvtColor(load_rgb(Path(photo), 1.0), cv2.COLOR_RGB2GRAY), np.uint8))


def gather_coarse(files: list[str], count: int, target: Path) -> None:
    """The coarsest descriptors of every photo in one file (N, count, 128) uint8, zeros where a photo has fewer."""
    out = np.zeros((len(files), count, 128), np.uint8)
    for n, file in enumerate(files):
        with np.load(file) as f:
            pick = coarse_subset(f["scale"], count)
            out[n, : len(pick)] = f["descriptors"][pick]
    with atomic_write(target) as t:
        np.save(t, out)


def _coarse(table: NDArray[np.uint8], i: int) -> NDArray[np.float32]:
    rows = table[i]
    return unit_descriptors(rows[rows.any(1)])


def mean_descriptor(table: NDArray[np.uint8]) -> NDArray[np.float32]:
    """Mean (128,) of the coarse descriptors of a set, the middle of all codes."""
    some = table[:: max(1, len(table) // 40)].reshape(-1, 128)
    some = some[some.any(1)]
    return np.asarray(unit_descriptors(some).mean(0) if len(some) else np.zeros(128), np.float32)


def vectors(table: NDArray[np.uint8], few: int) -> NDArray[np.float32]:
    """One vector of each photo, from its coarse descriptors; of ``few`` photos none are needed."""
    n = len(table)
    if n <= few:
        return np.zeros((n, 1), np.float32)
    some = np.concatenate([_coarse(table, i) for i in range(0, n, max(1, n // 40))])
    if not len(some):
        return np.zeros((n, 1), np.float32)
    words = vocabulary(some)
    return np.stack([vector_of(_coarse(table, i), words) for i in range(n)])


def likeness_row(coarse: str, i: int, others: list[int]) -> list[int]:
    """Coarse matches of photo ``i`` with others."""
    table = np.load(coarse, mmap_mode="r")
    mine = _coarse(table, i)
    return [len(match_mutual(mine, _coarse(table, j))) for j in others]


def _load(file: str) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    with np.load(file) as f:
        return f["xy"], unit_descriptors(f["descriptors"])


class _Coded(NamedTuple):
    """Features of one photo ready to be matched: pixels, diameters, unit descriptors and their codes."""

    xy: NDArray[np.float32]
    scale: NDArray[np.float32]
    unit: NDArray[np.float32]
    codes: Codes


@functools.lru_cache(AT_HAND)
def _load_coded(file: str, mean: str) -> _Coded:
    """Features of one photo; files are named by what they hold, so that a name always means the same."""
    with np.load(file) as f:
        unit = unit_descriptors(f["descriptors"])
        return _Coded(f["xy"], f["scale"], unit, codes_of(unit, np.load(mean)))


def match_photo(
    first: str, others: list[str], mean: str, ratio: float, sizes: list[tuple[int, int]], target: str
) -> None:
    """Match one photo with some others (files of features), verify, match again along epipolar lines, save.

    The quick pass finds most of what is to be found, and the lines the rest; where it finds too little all are compared.
    """
    cv2.setNumThreads(1)
    if is_whole(Path(target)):
        return
    xy, scale, mine, codes = _load_coded(first, mean)
    found: dict[str, NDArray] = {}
    for other, size in zip(others, sizes[1:]):
        their_xy, their_scale, theirs, their_codes = _load_coded(other, mean)
        longest = max(*sizes[0], *size)
        threshold = 2.0 * longest / 1000
        for every in (2, 1):
            quick = _quick(mine, codes, theirs, their_codes, min(ratio, QUICK_RATIO), every)
            quick, still = _apart_from_still(quick, xy, their_xy, longest)
            m, fundamental = _verified(quick, xy, their_xy, threshold)
            if len(m) >= every * QUICK_ENOUGH:
                break
        else:
            exact, still = _apart_from_still(_exact(mine, scale, theirs, their_scale, ratio), xy, their_xy, longest)
            m, fundamental = _verified(exact, xy, their_xy, threshold)
        if len(m):
            more = match_guided(mine, theirs, xy, their_xy, fundamental, threshold / 2)
            m = more if len(more) > len(m) else m
        if len(m) or len(still):
            found[str(number_of(Path(other)))] = np.concatenate(
                [m, still[~np.isin(still[:, 0], m[:, 0]) & ~np.isin(still[:, 1], m[:, 1])]]
            )
    write_arrays(Path(target), **found)


def _exact(
    a: NDArray[np.float32], scale: NDArray[np.float32], b: NDArray[np.float32], their_scale: NDArray[np.float32],
    ratio: float,
) -> NDArray[np.int32]:  # fmt: skip
    """Matches of the largest features compared all with all: the finest are seen again from near by only."""
    mine, theirs = (np.sort(coarse_subset(s, EXACTLY)) for s in (scale, their_scale))
    m = match_mutual(a[mine], b[theirs], ratio)
    return np.stack([mine[m[:, 0]], theirs[m[:, 1]]], 1).astype(np.int32)


def _quick(
    a: NDArray[np.float32], codes: Codes, b: NDArray[np.float32], their_codes: Codes, ratio: float, every: int
) -> NDArray[np.int32]:
    """Matches of the quick pass, of ``every`` so manyth feature of the first photo: most pairs need no more for a geometry."""
    some = Codes(codes.long[::every].copy(), codes.short[:, ::every].copy()) if every > 1 else codes
    m = match_hashed(np.ascontiguousarray(a[::every]), some, b, their_codes, ratio)
    m[:, 0] *= every
    return m


def _apart_from_still(
    m: NDArray[np.int32], xy: NDArray[np.float32], their_xy: NDArray[np.float32], longest: float
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Matches of what moves, and of what stands still where that may be a backdrop: two motions have no one geometry."""
    still, _, heaped = still_and_moving(xy[m[:, 0]], their_xy[m[:, 1]], longest)
    return (m[~still], m[still]) if heaped else (m, m[:0])


def _verified(
    m: NDArray[np.int32], xy: NDArray[np.float32], their_xy: NDArray[np.float32], threshold: float
) -> tuple[NDArray[np.int32], NDArray]:
    """Matches that obey one fundamental matrix, and that matrix."""
    ok, fundamental = verify(xy[m[:, 0]], their_xy[m[:, 1]], threshold)
    return m[ok], fundamental


def write_matches(target: Path, others: dict[int, NDArray[np.int32]]) -> None:
    """Write matches of a bundle of pairs that are known already, by number of the other photo."""
    if not is_whole(target):
        write_arrays(target, **{str(k): m for k, m in others.items() if len(m)})


def matches_flipped(file: str, width: int, others: list[str], longest: int) -> bool:
    """Whether a photo matches others once it is flipped left to right (files of features)."""
    xy, mine = _load(file)
    xy, mine = np.stack([width - 1 - xy[:, 0], xy[:, 1]], 1), flipped(mine)
    for other in others:
        their_xy, theirs = _load(other)
        m = match_mutual(mine, theirs)
        if len(m) >= FEWEST and verify(xy[m[:, 0]], their_xy[m[:, 1]], 2.0 * longest / 1000)[0].sum() >= 2 * FEWEST:
            return True
    return False


def moves_before_still(first: str, other: str, longest: int) -> bool:
    """Whether something moves in one piece between two photos (files of features) of which much stands exactly still."""
    (xy, mine), (their_xy, theirs) = _load(first), _load(other)
    m = match_mutual(mine, theirs)
    x1, x2 = xy[m[:, 0]], their_xy[m[:, 1]]
    far = np.linalg.norm(x2 - x1, axis=1) / longest * 1000
    moving = (far > MOVING[0]) & (far < MOVING[1])
    if (far < 2).sum() < max(20, 0.3 * len(far)) or moving.sum() < FEWEST:
        return False
    return bool(verify(x1[moving], x2[moving], 2.0 * longest / 1000)[0].sum() >= FEWEST)
