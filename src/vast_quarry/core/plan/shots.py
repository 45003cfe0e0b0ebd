"""The shots of a plan as a list to work through."""

from __future__ import annotations

import csv
import io
import math

import numpy as np

from vast_quarry.core.formats.gltf import cameras_glb
from vast_quarry.core.formats.pdf import shot_list_pdf
from vast_quarry.core.plan.findings import blur_px, shutter_of
from vast_quarry.core.plan.optics import shutter_text
from vast_quarry.core.plan.planner import Plan
from vast_quarry.core.words import Said, in_language, rounded, say

HEADING = ["shot", "lap", "turn_deg", "camera_height_m", "distance_m", "tilt_deg", "x_m", "y_m", "z_m", "for"]


def shot_rows(plan: Plan) -> list[list[str]]:
    """The shots in order: number, lap, where to stand, how to aim."""
    rows = []
    for n, s in enumerate(plan.stations, 1):
        x, y, z = (float(v) for v in s.center)
        turn = math.degrees(math.atan2(x, -y)) % 360
        tilt = math.degrees(math.asin(float(np.clip(s.rotation[2, 2], -1, 1))))
        rows.append(
            [str(n), str(s.ring + 1), f"{turn:.0f}", f"{z:.2f}", f"{math.hypot(x, y):.2f}", f"{tilt:.0f}"]
            + [f"{v:.3f}" for v in (x, y, z)]
            + [s.role]
        )
    return rows


def shot_list(plan: Plan) -> str:
    """The shots as CSV."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(HEADING)
    writer.writerows(shot_rows(plan))
    return out.getvalue()


#: heading of the printed sheet
SHORT = [Said(w) for w in ("shot", "lap", "for", "turn", "camera height", "distance", "tilt")]


def shot_sheet(plan: Plan, title: str, language: str = "en") -> bytes:
    """The shots as a sheet to print, with a map and boxes to tick."""
    p, o = plan.request, plan.request.optics(plan.distance)
    near, far = o.sharp_m()
    count, away = len(plan.stations), round(plan.distance, 2)
    facts = [
        say("{count} shots from about {distance} m, focused there; sharp from {near} m to infinity.",
            count=count, distance=away, near=round(near, 2))
        if math.isinf(far)
        else say("{count} shots from about {distance} m, focused there; sharp from {near} m to {far} m.",
                 count=count, distance=away, near=round(near, 2), far=round(far, 2)),
        say("{focal} mm, f/{f}, ISO {iso}, {time}; by hand not slower than {longest}. "
            "Fix focus, zoom, exposure and white balance.",
            focal=p.focal_mm, f=p.f_number, iso=p.iso, time=shutter_text(shutter_of(p)),
            longest=shutter_text(o.longest_by_hand())),
        *([say("{px} pixels of motion blur.", px=round(blur_px(p, o), 1))] if p.hold != "tripod" else []),
        say("One pixel is {gsd} mm on the subject; depth to about {precision} mm.",
            gsd=rounded(o.gsd_mm, 2), precision=rounded(1000 * plan.precision, 2)),
        *plan.findings,
    ]  # fmt: skip
    short = [
        [r[0], r[1], in_language(r[9], language), f"{r[2]}\u00b0", f"{r[3]} m", f"{r[4]} m", f"{r[5]}\u00b0"]
        for r in shot_rows(plan)
    ]
    places = [(float(s.center[0]), float(s.center[1])) for s in plan.stations]
    return shot_list_pdf(title, facts, [list(SHORT), *short], places, float(max(plan.standin.size[:2])) / 2, language)


def planned_glb(plan: Plan) -> bytes:
    """The planned cameras about the stand-in, as GLB."""
    p = plan.request
    named = [(f"shot {n}, lap {s.ring + 1}", s.rotation, s.center) for n, s in enumerate(plan.stations, 1)]
    yfov = 2 * math.atan(p.pixels_high / 2 / p.camera.fy)
    return cameras_glb(named, yfov, p.pixels_wide / p.pixels_high, plan.standin.vertices, plan.standin.faces)
