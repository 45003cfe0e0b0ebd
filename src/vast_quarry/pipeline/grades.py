"""Grades: how far a computation goes, as settings of every step."""

from __future__ import annotations

from enum import StrEnum
from typing import Any


class Grade(StrEnum):
    """Rough (a look in a minute), Dressed (the normal one), Polished (everything the photos hold)."""

    ROUGH = "rough"
    DRESSED = "dressed"
    POLISHED = "polished"


#: what a grade sets; everything else keeps its default
GRADES: dict[Grade, dict[str, dict[str, Any]]] = {
    Grade.ROUGH: {
        "cameras": {"photo_scale": 0.5, "features": 3000, "partners": 10},
        "points": {"photo_scale": 0.25, "sources": 6, "keep": 3, "sweeps": [1, 3]},
        "surface": {"faces": 60_000, "refine": 0},
        "texture": {"photo_scale": 0.5, "largest": 2048},
    },
    # a coarser skin is enough where photos refine it: measured in docs/benchmarks.md
    Grade.DRESSED: {"cameras": {}, "points": {}, "surface": {"cell": 2.0}, "texture": {}},
    Grade.POLISHED: {
        "cameras": {"features": 12_000, "partners": 20},
        "points": {"photo_scale": 1.0, "largest_side": 4000, "sources": 10, "sweeps": [1, 2, 2, 6]},
        "surface": {"faces": 1_500_000, "cell": 1.25, "refine": 2},
        "texture": {"largest": 8192},
    },
}
