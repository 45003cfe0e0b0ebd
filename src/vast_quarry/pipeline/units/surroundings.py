"""Unit: do the surroundings of a masked subject move with it, as on a walk round it, or not, as before a turntable?"""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.mask.files import depth_inside, mask_at
from vast_quarry.core.match.features import Features, find_features
from vast_quarry.core.match.matching import match_mutual, unit_descriptors
from vast_quarry.core.match.twoview import verify
from vast_quarry.core.photo.reading import load_small
from vast_quarry.pipeline.steps.masks import load_mask

#: longer side at which photos are looked at (pixels), features in each, and matches inside and outside of masks that tell anything
SIDE, LIMIT, FEWEST = 1000, 3000, 20


def _seen(photo: str, mask: str) -> tuple[Features, NDArray[np.bool_], int]:
    rgb = load_small(Path(photo), SIDE)
    h, w = rgb.shape[:2]
    kept = load_mask(mask)
    assert kept is not None
    f = find_features(rgb, (w, h), LIMIT)
    deep = depth_inside(mask_at(kept, w, h))
    at = np.round(f.xy).astype(int).clip(0, [w - 1, h - 1])
    return f, deep[at[:, 1], at[:, 0]] > 2.0, max(h, w)


def surroundings_agree(one: str, mask: str, other: str, other_mask: str) -> float | None:
    """Share of what two photos have in common, inside and outside of their masks, that moved as one piece: of both the lesser.

    None where too little is shared, inside or outside, to tell.
    """
    cv2.setNumThreads(1)
    (a, a_in, size), (b, b_in, _) = _seen(one, mask), _seen(other, other_mask)
    m = match_mutual(unit_descriptors(a.descriptors), unit_descriptors(b.descriptors))
    if len(m) < 2 * FEWEST:
        return None
    inside, outside = a_in[m[:, 0]] & b_in[m[:, 1]], ~a_in[m[:, 0]] & ~b_in[m[:, 1]]
    x1, x2 = a.xy[m[:, 0]].astype(np.float64), b.xy[m[:, 1]].astype(np.float64)
    if inside.sum() < FEWEST or outside.sum() < FEWEST:
        return None
    # one geometry for both: a flat side of a subject alone would leave it open, and what moves apart finds no common one
    ok, _ = verify(x1, x2, 2.0 * size / 1000)
    far = np.linalg.norm(x2 - x1, axis=1)
    # what stands still while the subject moves may lie on its epipolar line by chance
    stands = (far < 1.5) & (np.median(far[inside]) > 6.0)
    return float(min(ok[inside].mean(), (ok & ~stands)[outside].mean()))
