"""Which way to masks suits a set of photos, and why."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np

from vast_quarry.core.mask.focus import CLEAR
from vast_quarry.core.mask.stands import Stands
from vast_quarry.core.words import Said

Way = Literal["still", "colour", "focus", "model", "none"]


def suggest(stands: Stands, plain: Sequence[bool], focus: Sequence[float], aligned: bool) -> tuple[Way, Said]:
    """The way to take, and why.

    Parameters
    ----------
    stands : Stands
        What :func:`.stands.find_stands` found.
    plain : (n,) of bool
        Whether the border of each photo is of one smooth backdrop.
    focus : (k,) of float
        How many times sharper than the rest some photos are where they are sharp.
    aligned : bool
        Whether there is an alignment whose model could be projected.
    """
    if stands.still:
        return "still", Said("The camera stood still while the subject moved: what does not move is left out.")
    if np.mean(plain) > 0.8:
        return "colour", Said("The subject stands before a plain backdrop, whose colour is left out.")
    if aligned:
        return "model", Said("The photos are aligned already: the model is projected into them.")
    if len(focus) and np.median(focus) > CLEAR**2:
        return "focus", Said("The background is far out of focus: what is sharp is kept.")
    return "none", Said(
        "The surroundings move with the subject, as on a walk round it: they help to align, and masks can be made from the "
        "model afterwards."
    )
