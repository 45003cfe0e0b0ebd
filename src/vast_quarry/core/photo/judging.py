"""What to do with each photo of a shoot: keep, doubtful, leave out, with the reason; and which photos belong together.

Figures are judged against the shoot's own median, since what is sharp or bright depends on camera and subject. Photos
belong together when they share features, whatever their zoom; what shares none with any other is odd.

Common practice, no source: by hand 1/120 s or faster and not slower than 1 / (35 mm equivalent); ISO 800 and above is high;
fixed exposure, white balance and zoom.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from vast_quarry.core.photo.blur import judge_blur, neighbours
from vast_quarry.core.photo.looks import SHARED, Look, Verdict
from vast_quarry.core.plan.optics import shutter_text
from vast_quarry.core.words import Said, rounded, say, together

#: stops off the set's median
STOPS = 0.8
#: stops of red over blue off the set's median
WARM = 0.35
#: fewer features than :data:`SHARED` with the best partner is with nobody, when the set's median is at least so many
USUAL = 45
#: bits of the hash that may differ, and least correlation, of the same view taken twice
HASH_BITS, SAME = 6, 0.985
#: difference of focal length that is another zoom
ZOOM = 0.08
#: ratio of focusing distances of one shoot that is told
FOCUSED = 1.1
#: shutter times (s) and ISO that are told
LONGEST, HIGH_ISO = 1 / 120, 800


def _offsets(values: NDArray[np.float64]) -> NDArray[np.float64]:
    return values - np.median(values)


def _spread(offsets: NDArray[np.float64]) -> float:
    return 1.4826 * float(np.median(np.abs(offsets)))


def twice(looks: Sequence[Look]) -> list[tuple[int, int]]:
    """Pairs that show the same view twice, each with the one that is to stay first: the sharper, then the larger."""
    pairs = []
    hashes = np.array([look.hash for look in looks], np.uint64)
    small = np.stack([look.small.ravel() for look in looks]) if looks else np.zeros((0, 1))
    for i in range(len(looks)):
        bits = np.bitwise_count(hashes[i] ^ hashes[i + 1 :])
        for j in (int(x) for x in i + 1 + np.flatnonzero(bits <= HASH_BITS)):
            if looks[i].sha == looks[j].sha or float(small[i] @ small[j]) / small.shape[1] > SAME:
                better = min(
                    i, j, key=lambda k: (looks[k].quality.sharpness_px, -looks[k].width, len(looks[k].path), k)
                )
                pairs.append((better, j if better == i else i))
    return pairs


def sets_of(count: int, shared: Mapping[tuple[int, int], int], looks: Sequence[Look]) -> NDArray[np.int64]:
    """Which set each photo belongs to (n,), numbered from one in order: linked by features, of one camera."""
    links = [(i, j) for (i, j), n in shared.items() if n >= SHARED]
    i, j = (np.array(x, int) for x in zip(*links)) if links else (np.zeros(0, int), np.zeros(0, int))
    _, label = connected_components(coo_matrix((np.ones(len(i)), (i, j)), shape=(count, count)), directed=False)
    keys = [(int(label[k]), look.exif.make, look.exif.model) for k, look in enumerate(looks)]
    order: dict[object, int] = {}
    return np.array([order.setdefault(k, len(order) + 1) for k in keys], np.int64)


def judge_set(
    looks: Sequence[Look], shared: Mapping[tuple[int, int], int], tones: NDArray[np.float64] | None = None
) -> list[Verdict]:
    """Verdicts on all photos of a shoot.

    Parameters
    ----------
    looks : sequence of Look
    shared : mapping
        Features that pairs of photos (i, j), i < j, share; pairs that were not compared are missing.
    tones : (n, 3), optional
        Offsets of red, green and blue in stops, from the subject itself; NaN, or nothing at all, where it is not known.
    """
    n = len(looks)
    out = [Verdict() for _ in looks]
    if not n:
        return out
    best = np.zeros(n, int)
    for (i, j), m in shared.items():
        best[i], best[j] = max(best[i], m), max(best[j], m)
    sets = sets_of(n, shared, looks)
    for k, v in enumerate(out):
        v.set, v.shared = int(sets[k]), int(best[k])
        v.limits["shared"] = float(SHARED)
    _unrelated(out, best, sets)
    near = neighbours(n, shared)
    # lone photos say nothing about what is usual
    for s in np.unique(sets):
        rows = np.flatnonzero(sets == s)
        everyone = rows if len(rows) >= 3 else np.arange(n)
        judge_blur(looks, out, rows, everyone, near)
        _exposure(looks, out, rows, everyone, tones)
        _zoom(looks, out, rows)
    for k, look in enumerate(looks):
        _settings(look, out[k])
    for stays, goes in _of_one_kind(looks, twice(looks)):
        twins = _twins(looks[stays], looks[goes])
        out[goes].duplicate_of = looks[stays].path
        kind = "twin" if twins else "duplicate"
        pattern = "is another version of the same shot as {photo}" if twins else "shows the same view as {photo}"
        out[goes].mark("leave out", kind, say(pattern, photo=looks[stays].path))
    return out


def _unrelated(out: list[Verdict], best: NDArray[np.int64], sets: NDArray[np.int64]) -> None:
    counts = np.bincount(sets)
    if len(best) < 4 or np.median(best) < USUAL:
        return
    for k, v in enumerate(out):
        if best[k] < SHARED and counts[sets[k]] == 1:
            v.mark("leave out", "unrelated", Said("shares nothing with any other photo"))


def _exposure(
    looks: Sequence[Look], out: list[Verdict], rows: NDArray[np.int64], everyone: NDArray[np.int64],
    tones: NDArray[np.float64] | None,
) -> None:  # fmt: skip
    middle = {
        f: float(np.median([getattr(looks[k].quality, f) for k in everyone])) for f in ("light_log2", "warm_log2")
    }
    high = float(np.median([looks[k].quality.clipped_high_percent for k in everyone]))
    dark = float(np.median([looks[k].quality.too_dark_percent for k in everyone]))
    spread = _spread(_offsets(np.array([looks[k].quality.light_log2 for k in everyone])))
    for k in (int(r) for r in rows):
        q, v = looks[k].quality, out[k]
        known = tones is not None and bool(np.isfinite(tones[k]).all())
        if known and tones is not None:
            ev, warm, limit = float(tones[k].mean()), float(tones[k, 0] - tones[k, 2]), STOPS
        else:
            # of the whole photo, which shows other things as well
            ev, warm = q.light_log2 - middle["light_log2"], q.warm_log2 - middle["warm_log2"]
            limit = max(1.5 * STOPS, 4.0 * spread)
        v.ev_offset, v.wb_offset = round(ev, 3), round(warm, 3)
        v.limits |= {"ev_offset": round(limit, 3), "clipped_high_percent": high + 15, "too_dark_percent": dark + 35}
        if known:
            v.limits["wb_offset"] = WARM
        off = round(abs(ev), 1)
        if ev > limit or q.clipped_high_percent > high + 15:
            worse, white = q.clipped_high_percent > 30, round(q.clipped_high_percent)
            pattern = (
                "is {stops} stops brighter than the others" if ev > 0 else "is {stops} stops darker than the others"
            )
            says = [say(pattern, stops=off)] if off else []
            says += [say("has {percent} % clipped white", percent=white)] if white else []
            v.mark("leave out" if worse else "doubtful", "overexposed", together(says, ", "))
        elif ev < -limit or q.too_dark_percent > dark + 35:
            worse, black = q.too_dark_percent > 85, round(q.too_dark_percent)
            says = [say("is {stops} stops darker than the others", stops=off)] if ev < 0 and off else []
            says += [say("has {percent} % too dark to hold features", percent=black)] if black else []
            v.mark("leave out" if worse else "doubtful", "underexposed", together(says, ", "))
        if known and abs(warm) > WARM:
            pattern = (
                "is warmer than the others by {stops} stops"
                if warm > 0
                else "is cooler than the others by {stops} stops"
            )
            v.mark("doubtful", "other white balance", say(pattern, stops=round(abs(warm), 1)))


def _zoom(looks: Sequence[Look], out: list[Verdict], rows: NDArray[np.int64]) -> None:
    share = np.array([looks[k].focal / float(np.hypot(looks[k].width, looks[k].height)) for k in rows])
    known = np.array([looks[k].focal_source != "guessed" for k in rows])
    if known.sum() >= 3:
        usual = float(np.median(share[known]))
        for k, s, sure in zip(rows, share, known):
            if sure and abs(np.log(s / usual)) > ZOOM:
                out[k].mark("doubtful", "other zoom", Said("was taken with another zoom; it gets a lens of its own"))
    for k, sure in zip(rows, known):
        if not sure:
            out[k].reasons.append("no focal length")
            out[k].notes.append(Said("says nothing of its focal length, which is guessed"))


def _settings(look: Look, v: Verdict) -> None:
    """What its EXIF says of shutter and ISO: told, but no reason to leave it out."""
    e = look.exif
    limit = min(LONGEST, 1.0 / e.focal35_mm) if e.focal35_mm else LONGEST
    if e.exposure_s and e.exposure_s > 1.02 * limit:
        v.reasons.append("slow shutter")
        v.notes.append(
            say(
                "was exposed for {time}; by hand {longest} is the longest",
                time=shutter_text(e.exposure_s),
                longest=shutter_text(limit),
            )
        )
    if e.iso and e.iso >= HIGH_ISO:
        v.reasons.append("high ISO")
        v.notes.append(say("was taken at ISO {iso}", iso=e.iso))


def _kind(look: Look) -> tuple[object, ...]:
    """What versions of shots have in common: folder, ending, size, and the name without its numbers."""
    path = Path(look.path)
    return str(path.parent), path.suffix.lower(), look.width, look.height, re.sub(r"\d+", "#", path.stem)


def _of_one_kind(looks: Sequence[Look], pairs: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Pairs of twins turned so that one kind stays in the whole set: a mixture of versions matches badly.

    The kind that stays is the one that is sharper, against its size, in most of the pairs.
    """
    votes: dict[frozenset[object], dict[object, int]] = {}
    for a, b in pairs:
        if _twins(looks[a], looks[b]):
            kinds = _kind(looks[a]), _kind(looks[b])
            tally = votes.setdefault(frozenset(kinds), {})
            tally[kinds[0]] = tally.get(kinds[0], 0) + 1
    out = []
    for a, b in pairs:
        mine = votes.get(frozenset((_kind(looks[a]), _kind(looks[b]))), {})
        turn = _twins(looks[a], looks[b]) and mine.get(_kind(looks[b]), 0) > mine.get(_kind(looks[a]), 0)
        out.append((b, a) if turn else (a, b))
    return out


def _twins(a: Look, b: Look) -> bool:
    """Whether two pictures of one view are versions of one shot: taken at the same moment, and not the same file."""
    return a.sha != b.sha and a.exif.taken is not None and a.exif.taken == b.exif.taken


def gaps(shared: Mapping[tuple[int, int], int], sets: Sequence[int], gone: Sequence[int]) -> list[list[int]]:
    """Photos that no longer hang together with the main part of their set when some are left out.

    Returns lists of rows, one for each part that is cut off.
    """
    left = set(range(len(sets))) - set(gone)
    out = []
    for s in sorted(set(sets)):
        rows = [k for k in range(len(sets)) if sets[k] == s and k in left]
        if len(rows) < 2:
            continue
        index = {k: n for n, k in enumerate(rows)}
        links = [(index[i], index[j]) for (i, j), m in shared.items() if m >= SHARED and i in index and j in index]
        i, j = (np.array(x, int) for x in zip(*links)) if links else (np.zeros(0, int), np.zeros(0, int))
        count, label = connected_components(
            coo_matrix((np.ones(len(i)), (i, j)), shape=(len(rows), len(rows))), directed=False
        )
        main = int(np.argmax(np.bincount(label)))
        out += [[rows[n] for n in np.flatnonzero(label == c)] for c in range(count) if c != main]
    return out


def automatic(looks: Sequence[Look], tones: NDArray[np.float64] | None = None) -> list[Said]:
    """Advice for the next shoot: what was left on automatic, by EXIF and by how the subject's colours drift."""
    out = []
    exposures = {(e.exposure_s, e.f_number, e.iso) for e in (x.exif for x in looks) if e.exposure_s}
    if len(exposures) > 1:
        out.append(Said("Exposure was left on automatic: set shutter, aperture and ISO by hand."))
    if any(x.exif.extra.get("white_balance") == 0 for x in looks):
        out.append(Said("White balance was left on automatic: fix it, so that colours can be compared."))
    known = tones[np.isfinite(tones).all(1)] if tones is not None else np.zeros((0, 3))
    warm = _spread(_offsets(known[:, 0] - known[:, 2])) if len(known) else 0.0
    if warm > 0.12 and len(out) < 2:
        out.append(Said("Colours drift from photo to photo: fix the white balance."))
    if any(x.focus == "automatic" for x in looks):
        out.append(Said("Focus was left on automatic: focus once, then switch the lens to focusing by hand."))
    elif len(near := [d for x in looks if (d := x.exif.extra.get("distance_m"))]) > 2 and max(near) > FOCUSED * min(
        near
    ):
        out.append(
            say(
                "Focus moved between {nearest} and {farthest} m: focus once and leave it.",
                nearest=rounded(min(near), 2),
                farthest=rounded(max(near), 2),
            )
        )
    focals = {round(x.exif.focal_mm, 1) for x in looks if x.exif.focal_mm}
    if len(focals) > 1:
        out.append(Said("The zoom was changed: leave it where it is."))
    return out
