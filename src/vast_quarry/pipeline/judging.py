"""Looking through a folder of photos: figures, proposals, sets."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import BrokenExecutor, Executor, Future
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from pydantic import BaseModel

from vast_quarry.core.photo.common import names_of_sets, said_once
from vast_quarry.core.photo.falloff import estimate_falloff, stops_at
from vast_quarry.core.photo.judging import automatic, gaps, judge_set
from vast_quarry.core.photo.looks import Look, Verdict
from vast_quarry.core.photo.tone import exposure_stops, fill_by_exposure, tone_offsets
from vast_quarry.core.words import Said, say, together
from vast_quarry.pipeline.glances import Glance, keep_glance, keep_glance_apart, load_glance
from vast_quarry.pipeline.sentence import Sentence, sentence
from vast_quarry.pipeline.shared import PIECE, Compare, Pairs, Shared, compare_kept, shared_features

T = TypeVar("T")
#: told the stage, what is done, and how much there is
Told = Callable[[str, float, float], None]
#: what was seen of photos is told early once in so many seconds
EARLY_EVERY = 1.0
#: darker corners than this (stops) are told
DARKENED = 0.15


class Inspected(BaseModel):
    """What is found about one photo."""

    photo: str
    proposal: str
    reasons: list[str]
    says: Sentence
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
    #: of figures, what is remarked on beyond
    limits: dict[str, float] = {}


class Inspection(BaseModel):
    """What is found about all photos."""

    photos: list[Inspected]
    findings: list[Sentence]


def _falloffs(looks: Sequence[Look], shared: Shared) -> tuple[dict[int, list[float]], list[Said]]:
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
        says.append(
            say(
                "The lens darkens the corners by {stops} stops: evening out can give that back.",
                stops=round(corner, 1),
            )
        )
    return found, says


def look_over(
    folder: Path,
    paths: Sequence[str],
    masks: Path | None,
    kept: Path,
    pool: Callable[[], Executor],
    progress: Told,
    early: Callable[[list[Inspected]], None] = lambda seen: None,
) -> Inspection:
    """Look at photos and judge them; what was seen of each is kept in ``kept`` and not looked at again until it changes.

    ``progress`` is told the stage, what is done and how much there is; what it raises ends the work. ``early`` is handed
    about once a second what has been seen of single photos so far: their figures, and no judgement yet.
    """
    kept.mkdir(parents=True, exist_ok=True)
    try:
        looking = [pool().submit(keep_glance, folder, path, masks, kept) for path in paths]
        files, glances = _looked_at(paths, _each(looking, "Looking at photos", progress), early)
    except BrokenExecutor:  # one of them took its process down: which one, shows one by one
        files = []
        for k, path in enumerate(paths):
            progress("Looking at photos one by one", k, len(paths))
            files.append(keep_glance_apart(folder, path, masks, kept))
        glances = [load_glance(f) for f in files]
    good = [k for k, g in enumerate(glances) if g.problem is None]

    def work(pairs: Pairs, looked: Pairs) -> Iterable[Shared]:
        marked = set(looked)
        pieces = [pairs[k : k + PIECE] for k in range(0, len(pairs), PIECE)]
        waiting = []
        for piece in pieces:
            mine = {k: files[good[k]] for pair in piece for k in pair}
            waiting.append(pool().submit(compare_kept, piece, mine, marked & set(piece)))
        return _each(waiting, "Comparing photos", progress)

    return inspect(paths, glances, work)


def _looked_at(
    paths: Sequence[str], files: Iterable[Path], early: Callable[[list[Inspected]], None]
) -> tuple[list[Path], list[Glance]]:
    """The files of all glances, and these, while those that are there already are told early."""
    out: list[Path] = []
    glances: list[Glance] = []
    told = time.monotonic()
    for file in files:
        out.append(file)
        glances.append(load_glance(file))
        if time.monotonic() - told > EARLY_EVERY:
            early([_alone(p, g) for p, g in zip(paths, glances)])
            told = time.monotonic()
    return out, glances


def _alone(path: str, g: Glance) -> Inspected:
    """What one photo shows by itself."""
    if g.problem is not None:
        return Inspected(photo=path, proposal="leave out", reasons=["unreadable"], says=sentence(g.problem))
    return Inspected(photo=path, proposal="keep", reasons=[], says=sentence(""), **_figures(g.look))


def _figures(look: Look) -> dict[str, Any]:
    q = look.quality
    return {
        "sharpness_px": _known(q.sharpness_px), "widest_px": _known(q.widest_px), "clipped_high_percent": q.clipped_high_percent,
        "clipped_low_percent": q.clipped_low_percent, "too_dark_percent": q.too_dark_percent, "noise": q.noise,
        "focal_source": look.focal_source,
    }  # fmt: skip


def _each(waiting: Sequence[Future[T]], text: str, progress: Told) -> Iterator[T]:
    try:
        for k, future in enumerate(waiting):
            progress(text, k, len(waiting))
            yield future.result()
    finally:
        for future in waiting:
            future.cancel()


def inspect(paths: Sequence[str], glances: Sequence[Glance], work: Compare | None = None) -> Inspection:
    """Judge photos that were looked at; ``work`` compares pairs of them (see :func:`.shared.shared_features`)."""
    good = [k for k, g in enumerate(glances) if g.problem is None]
    looks = [glances[k].look for k in good]
    common = shared_features([glances[k] for k in good], work)
    shared = common.count
    seen = tone_offsets(len(good), common.brighter, shared)
    exposures = np.array([exposure_stops(x.exif.exposure_s, x.exif.f_number, x.exif.iso) for x in looks])
    tones = fill_by_exposure(seen, exposures)
    falloffs, darkened = _falloffs(looks, common)
    verdicts = judge_set(looks, shared, seen)
    once, names = said_once(verdicts), names_of_sets(looks, verdicts)
    by_row = dict(zip(good, zip(looks, verdicts)))
    tone_of = dict(zip(good, tones))
    falloff_of = {good[k]: f for k, f in falloffs.items()}
    photos = []
    for k, path in enumerate(paths):
        if k not in by_row:
            photos.append(_alone(path, glances[k]))
        else:
            told = _told(*by_row[k], names)
            r, g, b = (round(float(x), 4) for x in tone_of[k])
            told.tone = [r, g, b] if np.isfinite([r, g, b]).all() else None
            told.falloff = falloff_of.get(k)
            photos.append(told)
    findings = once + automatic(looks, seen) + darkened
    gone = [n for n, v in enumerate(verdicts) if v.proposal == "leave out"]
    for part in gaps(shared, [v.set for v in verdicts], gone):
        pattern = (
            "Leaving out what is proposed leaves a gap: {photos}{more, plural, =0 {} other { and # more}} no longer "
            "{all, plural, one {hangs} other {hang}} together with the rest."
        )
        shown = [looks[n].path for n in part[:4]]
        findings.append(say(pattern, photos=", ".join(shown), more=len(part) - len(shown), all=len(part)))
    return Inspection(photos=photos, findings=findings)


def _told(look: Look, v: Verdict, sets: Mapping[int, str]) -> Inspected:
    return Inspected(
        photo=look.path, proposal=v.proposal, reasons=v.reasons, says=together(v.notes, "; "),
        motion_deg=look.quality.motion_deg if "motion blur" in v.reasons else None, ev_offset=v.ev_offset, wb_offset=v.wb_offset,
        duplicate_of=v.duplicate_of, set=sets[v.set], shared=v.shared, limits=v.limits, **_figures(look),
    )  # fmt: skip


def _known(x: float) -> float | None:
    return float(x) if np.isfinite(x) else None
