"""Looking through a folder of photos: figures, proposals, sets."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import poselib
from numpy.typing import NDArray
from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.mask.files import mask_at
from vast_quarry.core.match.features import find_features
from vast_quarry.core.match.matching import coarse_subset, match_mutual, unit_descriptors
from vast_quarry.core.photo.exif import focus_mode
from vast_quarry.core.photo.falloff import estimate_falloff, far_from_middle, stops_at
from vast_quarry.core.photo.judging import (
    SHARED,
    Look,
    Verdict,
    automatic,
    gaps,
    judge_set,
    picture_hash,
    small_picture,
)
from vast_quarry.core.photo.quality import SIDE, judge
from vast_quarry.core.photo.reading import load_rgb, read_facts, resized
from vast_quarry.core.photo.srgb import linear
from vast_quarry.core.photo.tone import exposure_stops, fill_by_exposure, tone_offsets
from vast_quarry.core.progress import Progress, silent
from vast_quarry.pipeline.steps.masks import load_mask

#: longer side at which photos are compared with each other, and features of each that are
COMPARED, FEATURES = 900, 900
#: what the lens darkens is seen on patches so wide (standard deviation, share of the longer side): a feature is brighter or
#: darker than what is about it by how finely it is seen, which depends on the distance
WIDE = 0.011
#: a match's distance over that of the second best, at most
RATIO = 0.8
#: so many matches are no chance
SURE = 60
#: pairs, and features of each, that are used to see what the lens darkens; darker corners than this (stops) are told
LOOKED_AT, SAMPLED, DARKENED = 1500, 150, 0.15
#: photos up to which all pairs are compared; beyond, neighbours and those that look alike
ALL_PAIRS, NEIGHBOURS, ALIKE = 70, 4, 8


class Inspected(BaseModel):
    """What is found about one photo."""

    photo: str
    proposal: str
    reasons: list[str]
    says: str
    sharpness_px: float | None = None
    widest_px: float | None = None
    motion_deg: float | None = None
    clipped_high_percent: float | None = None
    clipped_low_percent: float | None = None
    too_dark_percent: float | None = None
    noise: float | None = None
    ev_offset: float | None = None
    wb_offset: float | None = None
    duplicate_of: str | None = None
    #: stops that red, green and blue of its subject are off the set's median, from features it shares with others, or else from
    #: how it was exposed; None where nothing says so
    tone: list[float] | None = None
    #: what its lens darkens (stops by r^2, r^4, r^6), measured over all photos of that lens; None where it does not show
    falloff: list[float] | None = None
    focal_source: str | None = None
    set: str | None = None
    shared: int | None = None


class Inspection(BaseModel):
    """What is found about all photos."""

    photos: list[Inspected]
    findings: list[str]


class Glance(BaseModel):
    """One photo looked at: facts for :class:`Look`, and its features; kept between looks."""

    model_config = {"arbitrary_types_allowed": True}
    look: Any = None
    descriptors: Any = None
    colors: Any = None
    xy: Any = None
    #: how far the features lie from the middle, and how bright it is about them (log2)
    far: Any = None
    wide: Any = None
    problem: str | None = None


def glance(folder: Path, path: str, masks: Path | None = None) -> Glance:
    """Read and measure one photo; on its subject only, where ``masks`` holds ``STEM.png`` for it."""
    file = folder / path
    try:
        facts = read_facts(file)
        rgb = load_rgb(file)
    except PlainError as error:
        return Glance(problem=str(error))
    except (OSError, MemoryError) as error:
        return Glance(problem=f"cannot be read ({error}).")
    scale = min(1.0, SIDE / max(rgb.shape[:2]))
    small = resized(rgb, scale)
    shown = resized(small, min(1.0, COMPARED / max(small.shape[:2])))
    gray = np.asarray(cv2.cvtColor(shown, cv2.COLOR_RGB2GRAY), np.uint8)
    found = find_features(cv2.cvtColor(gray, cv2.COLOR_GRAY2RGB), gray.shape[1], 3 * FEATURES, None)
    pick = coarse_subset(found.scale, FEATURES)
    look = Look(
        path=path, quality=judge(small, _subject(masks, file.stem, small), scale), exif=facts.exif, width=facts.width, height=facts.height,
        focal=facts.focal, focal_source=facts.focal_source, sha=hashlib.sha256(file.read_bytes()).hexdigest()[:24],
        hash=picture_hash(gray), small=small_picture(gray), focus=focus_mode(file),
    )  # fmt: skip
    xy = found.xy[pick]
    far = far_from_middle(xy, gray.shape[1], gray.shape[0])
    light = linear(shown)
    wide = np.log2(np.maximum(_patches(light, xy, WIDE * max(gray.shape)), 2e-3)).mean(1)
    colors = _patches(light, xy, 3.0)  # a single pixel is noise and detail
    return Glance(look=look, descriptors=found.descriptors[pick], colors=colors, xy=xy, far=far, wide=wide)


def _subject(masks: Path | None, stem: str, picture: NDArray[np.uint8]) -> NDArray[np.bool_] | None:
    file = masks / f"{stem}.png" if masks is not None else None
    if file is None or not file.is_file():
        return None
    try:
        kept = load_mask(file)
    except OSError:
        return None
    return None if kept is None else mask_at(kept, picture.shape[1], picture.shape[0])


def _patches(light: NDArray[np.float32], xy: NDArray[np.float32], sigma: float) -> NDArray[np.float32]:
    """Linear light (K, 3) of patches of a picture (H, W, 3) about places (K, 2)."""
    smooth = cv2.GaussianBlur(light, (0, 0), sigma)
    x = np.clip(np.round(xy[:, 0]).astype(int), 0, light.shape[1] - 1)
    y = np.clip(np.round(xy[:, 1]).astype(int), 0, light.shape[0] - 1)
    return np.asarray(smooth[y, x])


def _candidates(descriptors: Sequence[NDArray]) -> list[tuple[int, int]]:
    """Pairs worth comparing."""
    n = len(descriptors)
    if n <= ALL_PAIRS:
        return [(i, j) for i in range(n) for j in range(i + 1, n)]
    rng = np.random.default_rng(0)
    sample = np.concatenate([d[rng.choice(len(d), min(60, len(d)), replace=False)] for d in descriptors if len(d)])
    words = 128
    _, _, centers = cv2.kmeans(
        sample.astype(np.float32), words, np.zeros(0), (cv2.TERM_CRITERIA_MAX_ITER, 12, 0), 1, cv2.KMEANS_PP_CENTERS
    )
    # histograms of the commonest kinds of features, rare kinds counting more
    counts = np.zeros((n, words))
    for k, d in enumerate(descriptors):
        if len(d):
            nearest = np.argmin((centers**2).sum(1)[None] - 2 * d.astype(np.float32) @ centers.T, axis=1)
            counts[k] = np.bincount(nearest, minlength=words)
    weight = np.log(n / np.maximum((counts > 0).sum(0), 1))
    h = np.sqrt(counts / np.maximum(counts.sum(1, keepdims=True), 1)) * (0.2 + weight)
    h /= np.maximum(np.linalg.norm(h, axis=1, keepdims=True), 1e-9)
    pairs = {(i, j) for i in range(n) for j in range(i + 1, min(n, i + 1 + NEIGHBOURS))}
    alike = h @ h.T
    for i in range(n):
        for j in np.argsort(-alike[i])[1 : 1 + ALIKE]:
            pairs.add((min(i, int(j)), max(i, int(j))))
    return sorted(pairs)


@dataclass
class Shared:
    """What pairs (i, j) of photos have in common.

    Attributes
    ----------
    count : dict
        Features they share.
    brighter : dict
        Stops that i has them brighter than j, median of each channel (3,).
    each, far : dict
        The same for single features (K,), and how far each lies from the middle of i and j (K, 2).
    """

    count: dict[tuple[int, int], int] = field(default_factory=dict)
    brighter: dict[tuple[int, int], NDArray[np.float64]] = field(default_factory=dict)
    each: dict[tuple[int, int], NDArray[np.float64]] = field(default_factory=dict)
    far: dict[tuple[int, int], NDArray[np.float64]] = field(default_factory=dict)


def shared_features(glances: Sequence[Glance], progress: Progress = silent) -> Shared:
    """Features that pairs of photos share, and how bright each has them."""
    descriptors = [g.descriptors for g in glances]
    unit = [unit_descriptors(d) for d in descriptors]
    light = [np.log2(np.maximum(g.colors, 2e-3)) for g in glances]
    pairs = _candidates(descriptors)
    out = Shared()
    apart = max(1, len(pairs) // LOOKED_AT)
    for k, (i, j) in enumerate(pairs):
        progress(k, len(pairs))
        if not len(unit[i]) or not len(unit[j]):
            continue
        m = match_mutual(unit[i], unit[j], RATIO)
        # few matches may be chance: only those count that two views of one thing allow
        fits = None if len(m) >= SURE else _possible(glances[i].xy[m[:, 0]], glances[j].xy[m[:, 1]])
        if fits is not None:
            m = m[fits]
        a, b = m[:, 0], m[:, 1]
        out.count[i, j] = len(m)
        if len(m) < SHARED:
            continue
        differ = light[i][a] - light[j][b]
        out.brighter[i, j] = np.median(differ, axis=0)
        if k % apart == 0:
            # a wrong match says that being near the middle or far from it makes no difference
            true = np.ones(len(m), bool) if fits is not None else _possible(glances[i].xy[a], glances[j].xy[b])
            out.each[i, j] = (glances[i].wide[a] - glances[j].wide[b])[true][:SAMPLED]
            out.far[i, j] = np.stack([glances[i].far[a], glances[j].far[b]], axis=1)[true][:SAMPLED]
    progress(len(pairs), len(pairs))
    return out


def _falloffs(looks: Sequence[Look], shared: Shared) -> tuple[dict[int, list[float]], list[str]]:
    """What the lens of each photo darkens, by row, where it shows; and sentences about it."""
    lens = [(x.exif.make, x.exif.model, x.exif.lens, x.exif.focal_mm, x.width > x.height) for x in looks]
    found: dict[int, list[float]] = {}
    says = []
    for key in dict.fromkeys(lens):
        pairs = [(i, j) for i, j in shared.each if lens[i] == lens[j] == key]
        told = estimate_falloff(pairs, shared.each, shared.far)
        if told is None:
            continue
        corner = float(stops_at(told.falloff, np.ones(1))[0])
        if corner < max(DARKENED, 4 * told.error):
            continue
        found |= {k: [round(c, 4) for c in told.falloff] for k in range(len(looks)) if lens[k] == key}
        says.append(f"The lens darkens the corners by {corner:.1f} stops: evening out can give that back.")
    return found, says


def _possible(a: NDArray[np.float32], b: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Which matches (K, 2) fit one geometry of two views: a fundamental matrix."""
    if len(a) < 9:
        return np.zeros(len(a), bool)
    diagonal = float(np.ptp(a, axis=0).max() + 1)
    error = 0.003 * diagonal
    _, info = poselib.estimate_fundamental(
        a.astype(np.float64), b.astype(np.float64), {"max_epipolar_error": error, "max_iterations": 2000}, {}
    )
    return np.asarray(info["inliers"], bool)


def inspect(paths: Sequence[str], glances: Sequence[Glance], progress: Progress = silent) -> Inspection:
    """Judge photos that were looked at."""
    good = [k for k, g in enumerate(glances) if g.problem is None]
    looks = [glances[k].look for k in good]
    common = shared_features([glances[k] for k in good], progress)
    shared = common.count
    seen = tone_offsets(len(good), common.brighter, shared)
    exposures = np.array([exposure_stops(x.exif.exposure_s, x.exif.f_number, x.exif.iso) for x in looks])
    tones = fill_by_exposure(seen, exposures)
    falloffs, darkened = _falloffs(looks, common)
    verdicts = judge_set(looks, shared, seen)
    by_row = dict(zip(good, zip(looks, verdicts)))
    tone_of = dict(zip(good, tones))
    falloff_of = {good[k]: f for k, f in falloffs.items()}
    photos = []
    for k, path in enumerate(paths):
        if k not in by_row:
            photos.append(
                Inspected(photo=path, proposal="leave out", reasons=["unreadable"], says=str(glances[k].problem))
            )
        else:
            told = _told(*by_row[k])
            r, g, b = (round(float(x), 4) for x in tone_of[k])
            told.tone = [r, g, b] if np.isfinite([r, g, b]).all() else None
            told.falloff = falloff_of.get(k)
            photos.append(told)
    findings = automatic(looks, seen) + darkened
    gone = [n for n, v in enumerate(verdicts) if v.proposal == "leave out"]
    for part in gaps(shared, [v.set for v in verdicts], gone):
        names = ", ".join(looks[n].path for n in part[:4]) + (" and more" if len(part) > 4 else "")
        findings.append(f"Leaving out what is proposed leaves a gap: {names} no longer hang together with the rest.")
    return Inspection(photos=photos, findings=findings)


def _told(look: Look, v: Verdict) -> Inspected:
    q = look.quality
    return Inspected(
        photo=look.path, proposal=v.proposal, reasons=v.reasons, says="; ".join(v.notes), sharpness_px=_known(q.sharpness_px),
        widest_px=_known(q.widest_px), motion_deg=q.motion_deg if "motion blur" in v.reasons else None,
        clipped_high_percent=q.clipped_high_percent, clipped_low_percent=q.clipped_low_percent,
        too_dark_percent=q.too_dark_percent, noise=q.noise, ev_offset=v.ev_offset, wb_offset=v.wb_offset,
        duplicate_of=v.duplicate_of, focal_source=look.focal_source, set=f"set {v.set}", shared=v.shared,
    )  # fmt: skip


def _known(x: float) -> float | None:
    return float(x) if np.isfinite(x) else None
