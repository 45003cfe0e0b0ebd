"""How photos are joined: features, which photos look alike, matches; and why some match nothing."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.core.camera import Camera
from vast_quarry.core.formats.atomic import atomic_write, is_whole, write_arrays
from vast_quarry.core.match.backdrop import find_backdrop, without_backdrop
from vast_quarry.core.match.likeness import FEW, candidates
from vast_quarry.core.match.pairs import choose_pairs
from vast_quarry.pipeline.reuse import Earlier, feature_key, made_of, write_made
from vast_quarry.pipeline.solution import Solution
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


def _lenses(photos: list[Photo]) -> tuple[NDArray[np.int64], NDArray[np.int64], list[Camera], list[bool]]:
    """Photos of one camera, lens, zoom, size and orientation share a lens.

    Those that say nothing of theirs are lent that of most photos of the same size that do, to begin with.

    Returns
    -------
    lens_of, own : (n,) int
        Lens to begin with, and lens of its own, of each photo.
    lenses : list of Camera
    guessed : list of bool
    """
    keys = [p.lens_key for p in photos]
    groups = sorted(set(keys), key=keys.index)
    lens_of = np.array([groups.index(k) for k in keys], np.int64)
    lenses, guessed = [], []
    for g in range(len(groups)):
        p = photos[int(np.flatnonzero(lens_of == g)[0])]
        lens = Camera.simple(int(p.width or 1), int(p.height or 1), float(p.focal or 1.0))
        lenses.append(replace(lens, cx=p.center[0], cy=p.center[1]) if p.center else lens)
        guessed.append(p.focal_source == "guessed")
    lent = lens_of.copy()
    used = np.bincount(lens_of, minlength=len(groups))
    for g in np.flatnonzero(guessed).tolist():
        alike = [
            k for k, c in enumerate(lenses)
            if not guessed[k] and (c.width, c.height, c.cx, c.cy) == (lenses[g].width, lenses[g].height, lenses[g].cx, lenses[g].cy)
        ]  # fmt: skip
        if alike:
            lent[lens_of == g] = max(alike, key=lambda k: used[k])
    return lent, lens_of, lenses, guessed


def photo_scale(photo: Photo, scale: float, largest_side: int) -> float:
    """Scale at which a photo is used: the grade's, less for very large photos, more for very small ones."""
    longest = max(photo.width or 1, photo.height or 1)
    return min(1.0, largest_side / longest, max(scale, SMALLEST_USEFUL / longest))


def find_features(context: Context, listed: PhotoList, photos: list[Photo], obey: bool, effort: Effort = PLAIN) -> int:
    """Find features of all photos, only inside their masks where they ``obey``; how many photos that was.

    Those that another version found are taken.
    """
    settings = context.settings
    lifted = effort.lifted or settings.local_contrast
    count = settings.features * (2 if effort.lifted and not settings.local_contrast else 1)
    (context.folder / "features").mkdir(exist_ok=True)
    earlier = Earlier(context.folder)
    jobs, keys, memory = [], {}, []
    masked = 0
    for p in photos:
        mask = mask_file(context.parents["masks"], p.number) if obey else None
        masked += mask is not None
        scale = photo_scale(p, settings.photo_scale, settings.largest_side)
        keys[p.number] = feature_key(p, mask, scale, count, lifted, effort.tilts)
        target = context.folder / "features" / f"{p.number:05d}.npz"
        if not is_whole(target) and earlier.take_features(keys[p.number], target):
            continue
        jobs.append(
            (str(listed.file(p)), str(mask) if mask else None, scale, count, (p.width, p.height),
             str(target), p.tone, lifted, effort.tilts)
        )  # fmt: skip
        memory.append((FEATURE_BYTES * scale**2 + DECODED_BYTES) * (p.width or 1) * (p.height or 1))
    context.each("Finding features", match_units.features, jobs, memory=memory)
    write_made(context.folder, keys, settings.ratio, ())
    return masked


def share_left_out(context: Context, photos: list[Photo]) -> float | None:
    """Share of all features that masks left out; None where no mask was obeyed."""
    total = np.zeros(2)
    for p in photos:
        with np.load(context.folder / "features" / f"{p.number:05d}.npz") as f:
            total += f["counts"] if "counts" in f.files else 0
    return float(total[0] / total[1]) if total[0] else None


#: kinds of subject that are walked along
ALONG_KINDS = ("facade", "interior", "strip")


def pairs_to_match(
    context: Context, photos: list[Photo], fresh: set[int] | None = None, widely: bool = False
) -> list[tuple[int, int]]:
    """Pairs worth matching in full: of those that may show the same, those whose coarsest features match best.

    With ``fresh`` only pairs of which one is such a row; ``widely`` with twice as many partners as the settings say.
    """
    files = [str(context.folder / "features" / f"{p.number:05d}.npz") for p in photos]
    coarse = context.folder / "coarse.npy"
    count = 1200 if len(photos) <= 150 else 700
    context.stage("Looking for overlap", 0, len(photos) - 1)
    if not is_whole(coarse):
        match_units.gather_coarse(files, count, coarse)
    table = np.load(coarse, mmap_mode="r")
    with atomic_write(context.folder / "mean.npy") as target:
        np.save(target, match_units.mean_descriptor(table))
    worth: dict[int, list[int]] = {}
    for i, j in candidates(match_units.vectors(table, FEW), _orders(photos)):
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
    along = _orders(photos)[-1:] if context.settings.kind in ALONG_KINDS else []
    return choose_pairs(likeness, partners=partners, choosing=fresh if fresh is None else sorted(fresh), along=along)


def _orders(photos: list[Photo]) -> list[NDArray[np.int64]]:
    """Photos in the order of their names, and of when they were taken."""
    orders = [np.arange(len(photos))]
    if sum(p.taken is not None for p in photos) > len(photos) / 2:
        orders.append(np.array(sorted(range(len(photos)), key=lambda n: (photos[n].taken or "", n))))
    return orders


def match_all(context: Context, photos: list[Photo], pairs: list[tuple[int, int]]) -> AlignInput:
    """Match pairs of photos (rows), but for those that another version matched; what alignment starts from."""
    (context.folder / "matches").mkdir(exist_ok=True)
    folder, ratio = context.folder, context.settings.ratio
    earlier, (keys, _, _) = Earlier(folder), made_of(folder)
    by_first: dict[int, list[int]] = {}
    known: dict[int, dict[int, NDArray[np.int32]]] = {}
    for i, j in pairs:
        a, b = photos[i].number, photos[j].number
        m = earlier.matches(keys[a], keys[b], ratio) if a in keys and b in keys else None
        if m is None:
            by_first.setdefault(i, []).append(j)
        else:
            known.setdefault(a, {})[b] = m
    for a, with_others in known.items():
        match_units.write_matches(folder, a, with_others)
    # small bundles, so that both processors stay busy to the end
    jobs = []
    for i, others in by_first.items():
        for k in range(0, len(others), 4):
            part = others[k : k + 4]
            jobs.append(
                (str(folder), photos[i].number, [photos[j].number for j in part], ratio,
                 [(p.width, p.height) for p in [photos[i], *[photos[j] for j in part]]])
            )  # fmt: skip
    context.each("Matching photos", match_units.match_photo, jobs)
    index = {p.number: n for n, p in enumerate(photos)}
    bundles = [(job[1], job[2]) for job in jobs] + [(a, list(found)) for a, found in known.items()]
    matches: dict[tuple[int, int], NDArray[np.int32]] = {}
    for first, numbers in bundles:
        for (a, b), m in match_units.read_matches(folder, first, numbers).items():
            matches[index[a], index[b]] = m
    write_made(folder, keys, ratio, [(photos[i].number, photos[j].number) for i, j in pairs])
    xy, scale = [], []
    for p in photos:
        with np.load(folder / "features" / f"{p.number:05d}.npz") as f:
            xy.append(f["xy"])
            scale.append(f["scale"])
    lens_of, own, lenses, guessed = _lenses(photos)
    matches = _of_what_moves(context, photos, xy, dict(sorted(matches.items())))
    behind = share_standing_still(context.folder) is not None
    return AlignInput(xy, scale, matches, lens_of, lenses, guessed, own, _orders(photos)[-1], before_still=behind)


#: where it is kept which features are of a still backdrop: one array of yes and no for each photo, by its number
BACKDROP = "backdrop.npz"


def _of_what_moves(
    context: Context,
    photos: list[Photo],
    xy: list[NDArray[np.float32]],
    matches: dict[tuple[int, int], NDArray[np.int32]],
) -> dict[tuple[int, int], NDArray[np.int32]]:
    """Matches without those of a backdrop that stands still while the subject moves before it, masked or not."""
    longest = [float(max(p.width or 1, p.height or 1)) for p in photos]
    found = find_backdrop(xy, matches, longest)
    (context.folder / BACKDROP).unlink(missing_ok=True)
    if found is None:
        return matches
    write_arrays(
        context.folder / BACKDROP, share=found.share, **{str(p.number): f for p, f in zip(photos, found.features)}
    )
    return without_backdrop(xy, matches, longest, found)


def share_standing_still(folder: Path) -> float | None:
    """Share of what photos have in common that stands still behind the subject; None where nothing does."""
    if not (folder / BACKDROP).exists():
        return None
    with np.load(folder / BACKDROP) as f:
        return float(f["share"])


def still_backdrop(context: Context, photos: list[Photo], most: int = 12) -> Trouble | None:
    """The trouble that a subject moves before a still backdrop, where neighbours show that."""
    pick = np.unique(np.linspace(0, len(photos) - 2, min(most, len(photos) - 1)).astype(int)).tolist()
    jobs = [
        (
            str(context.folder),
            photos[k].number,
            photos[k + 1].number,
            max(photos[k].width or 1, photos[k].height or 1),
        )
        for k in pick
    ]
    found = context.each("Looking for a still backdrop", match_units.moves_before_still, jobs)
    shown = [k for k, moves in zip(pick, found) if moves]
    return Trouble("still backdrop", tuple(shown)) if len(shown) >= max(2, len(jobs) // 4) else None


def mirrored(context: Context, photos: list[Photo], solution: Solution, data: AlignInput, most: int = 6) -> list[int]:
    """Rows of photos that match nothing as they are, but do when they are flipped."""
    partners = np.bincount(np.array(list(data.matches)).reshape(-1), minlength=len(photos))
    alone = [n for n, s in enumerate(solution.states) if s == "loose" and not partners[n]][:most]
    placed = [n for n, s in enumerate(solution.states) if s == "placed"]
    jobs = []
    for n in alone:
        near = sorted(placed, key=lambda k, n=n: abs(k - n))[:4] + placed[:: max(1, len(placed) // 6)]  # type: ignore[misc]
        others = [photos[k].number for k in dict.fromkeys(near)]
        size = max(photos[n].width or 1, photos[n].height or 1)
        jobs.append((str(context.folder), photos[n].number, photos[n].width, others, size))
    found = context.each("Looking at photos that match nothing", match_units.matches_flipped, jobs)
    return [n for n, flipped in zip(alone, found) if flipped]
