"""The rig's scenes by name, and how finely each is built."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from vast_quarry.core.rig.plain_scenes import bare_hound, chest, hound, rack
from vast_quarry.core.rig.scenes import Scene, finial, milestone, plate, well_head, yard

SCENES: dict[str, Callable[..., Scene]] = {
    "milestone": milestone, "finial": finial, "well-head": well_head, "yard": yard, "plate": plate, "hound": hound, "rack": rack,
    "chest": chest, "bare-hound": bare_hound,
}  # fmt: skip
#: side of a cell of the finest mesh, and about how large the subject is (m)
CELLS = {
    "milestone": 0.002, "finial": 0.0012, "well-head": 0.005, "yard": 0.010, "plate": 0.00025, "hound": 0.0016, "rack": 0.0016,
    "chest": 0.0018, "bare-hound": 0.0016,
}  # fmt: skip
SIZES = {
    "milestone": 0.6, "finial": 0.38, "well-head": 0.8, "yard": 2.2, "plate": 0.2, "hound": 0.4, "rack": 0.3, "chest": 0.45, "bare-hound": 0.4,
}  # fmt: skip


def build_scene(name: str, seed: int, ground_sample: float) -> Scene:
    """A scene with relief fine enough for photos of the given GSD (metres per pixel)."""
    if name not in SCENES:
        raise ValueError(f"no scene called {name!r}; there are: {', '.join(SCENES)}")
    base = CELLS[name]
    cell = base * float(np.clip(ground_sample / (base * 0.35), 1.0, 3.0))
    return SCENES[name](seed=seed, cell=cell, fine=cell < base * 1.5)
