"""What there is to say about a plan, in plain sentences."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from vast_quarry.core.plan.advice import advice
from vast_quarry.core.plan.coverage import ENOUGH
from vast_quarry.core.plan.light import EXPOSURE
from vast_quarry.core.plan.optics import (
    Optics,
    airy_diameter,
    aperture_for,
    diffraction_limit,
    shutter_for,
    shutter_text,
)
from vast_quarry.core.plan.request import Request
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.words import Said, rounded, say


def shutter_of(p: Request) -> float:
    """Shutter time in s: as set, else what the light asks for."""
    return p.shutter_s or shutter_for(EXPOSURE[p.light.kind], p.f_number, p.iso)


def blur_px(p: Request, o: Optics) -> float:
    """Motion blur in pixels of the way the camera is held, at the shutter time."""
    shutter = shutter_of(p)
    if p.hold == "hand":
        return o.hand_blur_px(shutter)
    if p.hold == "table":
        return o.table_blur_px(shutter, p.table_deg_s, float(np.hypot(p.width, p.depth)) / 2)
    return 0.0


def best_aperture(p: Request, o: Optics) -> float:
    """F-number between what keeps the subject sharp from front to back and what diffraction allows.

    Where both can be had, half way between them in stops; else the one that is nearest to serving both.
    """
    reach = min(reach_radius(p), 0.9 * o.distance_m)
    limit = diffraction_limit(o.pitch_mm)
    if reach <= 0:
        return limit
    focus = o.distance_m * 1000
    need = aperture_for(p.focal_mm, focus, focus - 1000 * reach, focus + 1000 * reach, o.circle_mm)
    return math.sqrt(need * limit)


def optics_findings(p: Request, o: Optics, reach: float) -> list[Said]:
    """Detail, focus, diffraction, exposure and motion; ``reach`` is how far the subject extends from where it is focused."""
    out = []
    finest = 2 * max(o.gsd_mm, airy_diameter(p.f_number) / o.pitch_mm * o.gsd_mm / 2)
    if o.gsd_mm > p.detail_mm / 2 * 1.001:
        out.append(
            say(
                "Detail of {detail} mm needs a pixel size on the subject (GSD) of {needed} mm; from here it is {gsd} mm. {finest} mm is the finest that can be told apart. Go closer with more photos, or use a longer lens or more pixels.",
                detail=p.detail_mm,
                needed=rounded(p.detail_mm / 2, 2),
                gsd=rounded(o.gsd_mm, 2),
                finest=rounded(finest, 2),
            )
        )
    near, far = o.sharp_m()
    if near > o.distance_m - reach or far < o.distance_m + reach:
        out.append(Said("Not the whole depth of the subject is in focus. Close the aperture or step back."))
    limit = diffraction_limit(o.pitch_mm)
    if p.f_number > limit * 1.05:
        out.append(
            say(
                "Diffraction softens the picture beyond f/{limit} with pixels of {pitch} µm.",
                limit=round(limit),
                pitch=round(o.pitch_mm * 1000, 1),
            )
        )
    shutter = shutter_of(p)
    if p.hold == "hand" and shutter > 1.02 * o.longest_by_hand():
        longest = shutter_text(o.longest_by_hand())
        out.append(
            say(
                "The light asks for {time} at f/{f} and ISO {iso}; by hand {longest} is the longest. "
                "Use a tripod, more light, or a higher ISO.",
                time=shutter_text(shutter),
                f=p.f_number,
                iso=p.iso,
                longest=longest,
            )
            if not p.shutter_s
            else say(
                "{time} is too long by hand; {longest} is the longest.", time=shutter_text(shutter), longest=longest
            )
        )
    if p.hold == "table" and (b := blur_px(p, o)) > 0.5:
        out.append(
            say(
                "The table turns too fast: {px} pixels of motion blur. Turn slower, or open the shutter for less time.",
                px=round(b, 1),
            )
        )
    return out


def same_spot(stations: Sequence[Station], distance: float) -> list[tuple[int, int]]:
    """Pairs of following shots that stand on one spot."""
    return [
        (k, k + 1)
        for k, (a, b) in enumerate(pairwise(stations))
        if np.linalg.norm(a.center - b.center) < 0.02 * distance
    ]


def coverage_findings(p: Request, few: float, along: float, across: float, laps: int) -> list[Said]:
    """Overlap, and how much too few photos see."""
    out = []
    if along < 0.6:
        out.append(
            say(
                "Neighbouring photos share only {along} %; 60 % is the least that aligns well.",
                along=round(100 * along),
            )
        )
    if across < 0.4 and laps > 1:
        out.append(say("Neighbouring laps share only {across} %. Add a lap between them.", across=round(100 * across)))
    if few > 0.01:
        out.append(
            say(
                "{percent} % of the surface is seen by fewer than {enough} photos. Add shots that mend it.",
                percent=round(100 * few),
                enough=ENOUGH,
            )
        )
    return out


def subject_findings(p: Request) -> list[Said]:
    """What its nature asks for."""
    return advice(p.skin, p.way, p.holes, p.recesses, p.underside, p.turnable)


def spot_findings(stations: Sequence[Station], distance: float) -> list[Said]:
    """Shots from one spot: turning alone gives no depth."""
    pairs = same_spot(stations, distance)
    if not pairs:
        return []
    pattern = (
        "Shots {first} and {second}{more, plural, =0 {} one { and one further pair} other { and # further pairs}} are taken "
        "from one spot: tilting alone gives no depth. Take a step between them."
    )
    return [say(pattern, first=pairs[0][0] + 1, second=pairs[0][1] + 1, more=len(pairs) - 1)]


def reach_radius(p: Request) -> float:
    """How far the subject extends from where laps are focused (m)."""
    return 0.0 if p.in_strips else math.hypot(p.width, p.depth) / 2
