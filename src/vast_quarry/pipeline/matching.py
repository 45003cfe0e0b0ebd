"""Matches of pairs of photos, what alignment starts from; and why some photos match nothing."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.core.camera import Camera
from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.core.match.backdrop import find_backdrop, without_backdrop
from vast_quarry.pipeline.features import Features, made_from
from vast_quarry.pipeline.pairs import mean_file, orders
from vast_quarry.pipeline.reuse import WAY, Earlier, matches_in, write_made
from vast_quarry.pipeline.solution import Solution
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import Photo
from vast_quarry.pipeline.units import match as match_units


@dataclass(frozen=True)
class Matched:
    """What alignment starts from, and the files in which its matches lie."""

    data: AlignInput
    files: list[Path]


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


#: pairs of a photo that one unit matches: small bundles, so that all processors stay busy to the end
BUNDLE = 4


def match_all(context: Context, photos: list[Photo], features: Features, pairs: list[tuple[int, int]]) -> Matched:
    """Match pairs of photos (rows), but for those that another version matched; what alignment starts from."""
    (context.folder / "matches").mkdir(exist_ok=True)
    folder, ratio, keys = context.folder, context.settings.ratio, features.keys
    earlier, mean = Earlier(folder), mean_file(folder, features)
    unknown: dict[int, list[int]] = {}
    known: dict[int, dict[int, NDArray[np.int32]]] = {}
    for i, j in pairs:
        m = earlier.matches(keys[i], keys[j], ratio)
        if m is None:
            unknown.setdefault(i, []).append(j)
        else:
            known.setdefault(i, {})[j] = m
    jobs, files = [], []
    for i, with_others in known.items():
        files.append(_bundle(folder, photos, features, i, list(with_others), "known", ratio))
        match_units.write_matches(files[-1], {photos[j].number: m for j, m in with_others.items()})
    for i, others in unknown.items():
        for k in range(0, len(others), BUNDLE):
            part = others[k : k + BUNDLE]
            files.append(_bundle(folder, photos, features, i, part, mean.stem, ratio))
            sizes = [(photos[n].width, photos[n].height) for n in (i, *part)]
            jobs.append(
                (
                    str(features.files[i]),
                    [str(features.files[j]) for j in part],
                    str(mean),
                    ratio,
                    sizes,
                    str(files[-1]),
                )
            )
    context.each("Matching photos", match_units.match_photo, jobs)
    index = {p.number: n for n, p in enumerate(photos)}
    matches: dict[tuple[int, int], NDArray[np.int32]] = {}
    for file in files:
        for (a, b), m in matches_in(file).items():
            matches[index[a], index[b]] = m
    write_made(folder, made_from(features, photos, ratio, pairs))
    xy, scale = features.places()
    lens_of, own, lenses, guessed = _lenses(photos)
    matches = _of_what_moves(context, photos, xy, dict(sorted(matches.items())))
    behind = share_standing_still(context.folder) is not None
    data = AlignInput(xy, scale, matches, lens_of, lenses, guessed, own, orders(photos)[-1], before_still=behind)
    return Matched(data, files)


def _bundle(
    folder: Path, photos: list[Photo], features: Features, first: int, others: list[int], how: str, ratio: float
) -> Path:
    """Where matches of a photo (row) with some others lie, by all that they are made from."""
    text = json.dumps([WAY, *(features.keys[n] for n in (first, *others)), *others, how, ratio])
    return folder / "matches" / f"{photos[first].number:05d}-{hashlib.sha256(text.encode()).hexdigest()[:24]}.npz"


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


def still_backdrop(context: Context, photos: list[Photo], features: Features, most: int = 12) -> Trouble | None:
    """The trouble that a subject moves before a still backdrop, where neighbours show that."""
    pick = np.unique(np.linspace(0, len(photos) - 2, min(most, len(photos) - 1)).astype(int)).tolist()
    jobs = [
        (
            str(features.files[k]),
            str(features.files[k + 1]),
            max(photos[k].width or 1, photos[k].height or 1),
        )
        for k in pick
    ]
    found = context.each("Looking for a still backdrop", match_units.moves_before_still, jobs)
    shown = [k for k, moves in zip(pick, found) if moves]
    return Trouble("still backdrop", tuple(shown)) if len(shown) >= max(2, len(jobs) // 4) else None


def mirrored(
    context: Context, photos: list[Photo], solution: Solution, data: AlignInput, features: Features, most: int = 6
) -> list[int]:
    """Rows of photos that match nothing as they are, but do when they are flipped."""
    partners = np.bincount(np.array(list(data.matches)).reshape(-1), minlength=len(photos))
    alone = [n for n, s in enumerate(solution.states) if s == "loose" and not partners[n]][:most]
    placed = [n for n, s in enumerate(solution.states) if s == "placed"]
    jobs = []
    for n in alone:
        near = sorted(placed, key=lambda k, n=n: abs(k - n))[:4] + placed[:: max(1, len(placed) // 6)]  # type: ignore[misc]
        others = [str(features.files[k]) for k in dict.fromkeys(near)]
        size = max(photos[n].width or 1, photos[n].height or 1)
        jobs.append((str(features.files[n]), photos[n].width, others, size))
    found = context.each("Looking at photos that match nothing", match_units.matches_flipped, jobs)
    return [n for n, flipped in zip(alone, found) if flipped]
