"""The shots of a plan as a list to work through."""

from __future__ import annotations

import csv
import io
import math

import numpy as np

from vast_quarry.core.plan.planner import Plan


def shot_list(plan: Plan) -> str:
    """The shots in order as CSV: number, lap, where to stand, how to aim."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(["shot", "lap", "turn_deg", "camera_height_m", "distance_m", "tilt_deg", "x_m", "y_m", "z_m"])
    for n, s in enumerate(plan.stations, 1):
        x, y, z = (float(v) for v in s.center)
        turn = math.degrees(math.atan2(x, -y)) % 360
        tilt = -math.degrees(math.asin(float(np.clip(-s.rotation[2, 2], -1, 1))))
        rows.writerow(
            [
                n,
                s.ring + 1,
                f"{turn:.0f}",
                f"{z:.2f}",
                f"{math.hypot(x, y):.2f}",
                f"{tilt:.0f}",
                f"{x:.3f}",
                f"{y:.3f}",
                f"{z:.3f}",
            ]
        )
    return out.getvalue()
