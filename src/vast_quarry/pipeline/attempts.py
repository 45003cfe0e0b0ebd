"""Attempts at an alignment: as the settings say, and where photos are left over with other features, that which helps kept."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.incremental import align
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.core.words import Said, say
from vast_quarry.core.words import pattern as as_pattern
from vast_quarry.pipeline.features import PLAIN, Effort, Features, find_features
from vast_quarry.pipeline.matching import match_all
from vast_quarry.pipeline.pairs import pairs_to_match
from vast_quarry.pipeline.picking import corners_as_places, picked_in
from vast_quarry.pipeline.standing import Live, mat_markers
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import Photo, PhotoList
from vast_quarry.pipeline.units import match as match_units

#: what the height of a photo is made lower by in views that are simulated: a wall seen from 45 and 60 degrees above
TILTS = (0.7, 0.5)
#: photos left over, and the share of all, from which another attempt is worth its time
LEFT_OVER, LEFT_OVER_SHARE = 3, 0.1
#: share of the features that were wanted below which there are few: contrast is lifted before anything else is tried
SCARCE = 0.3


@dataclass
class Attempt:
    """What an attempt gave: features, pairs, matches and the files that hold them, and the model or the trouble."""

    features: Features
    pairs: list[tuple[int, int]]
    data: AlignInput
    model: Model | Trouble
    files: list[Path]

    @property
    def placed(self) -> int:
        """Photos of the largest group."""
        return int(self.model.placed.sum()) if isinstance(self.model, Model) else 0


def attempt(context: Context, listed: PhotoList, photos: list[Photo], obey: bool, effort: Effort = PLAIN) -> Attempt:
    """Features, matches and alignment, once."""
    features = find_features(context, listed, photos, obey, effort)
    pairs = pairs_to_match(context, photos, features, widely=effort.lifted)
    matched = match_all(context, photos, features, pairs)
    data = replace(matched.data, picked=picked_in(photos, context.settings.places))
    model = _aligned(context, photos, data)
    if isinstance(model, Model) and model.apart and not obey:
        # what masks leave out stands still with the subject here, and so does a mat that lies in it
        corners = markers_in(context, listed, photos, np.any([m.placed for m in (model, *model.apart)], axis=0))
        if corners:
            joined = _aligned(context, photos, replace(data, picked=[*data.picked, *corners]))
            if isinstance(joined, Model) and joined.placed.sum() > model.placed.sum():
                model = joined
                context.found(Said("Groups that shared too little were joined by the markers of the mat."))
    return Attempt(features, pairs, data, model, matched.files)


def _aligned(context: Context, photos: list[Photo], data: AlignInput) -> Model | Trouble:
    context.stage("Placing cameras", 0, len(photos))
    context.executor.rest()
    return align(
        data, context.progress("Placing cameras"), on_step=Live(context, photos), parts=_parts(context, photos)
    )


def markers_in(
    context: Context, listed: PhotoList, photos: list[Photo], placed: NDArray[np.bool_]
) -> list[dict[int, tuple[float, float]]]:
    """Corners of the mat's markers in placed photos; none where no mat is asked for."""
    wanted = mat_markers(context.settings)
    if wanted is None:
        return []
    rows = np.flatnonzero(placed).tolist()
    found = context.each("Finding the marker mat", match_units.markers, [(str(listed.file(photos[n])),) for n in rows])
    return corners_as_places(rows, [f.only(wanted) for f in found])


def _parts(context: Context, photos: list[Photo]) -> list[NDArray[np.bool_]]:
    """Photos of each set (n,), where sets are aligned by themselves."""
    if not context.settings.sets_apart:
        return []
    names = np.array([context.settings.sets.get(p.path, "") for p in photos])
    return [names == name for name in dict.fromkeys(names.tolist())]


def best_attempt(
    context: Context, listed: PhotoList, photos: list[Photo], obey: bool,
    judged: Callable[[Model | Trouble], Model | Trouble],
) -> Attempt:  # fmt: skip
    """The attempt that placed most photos, and what helped, said as a finding.

    ``judged`` says what is the matter with a model that only seems to be one: that is not mended by other features.
    """
    settings = context.settings
    always = Effort(TILTS if settings.tilted_views == "always" else (), settings.local_contrast)
    best = attempt(context, listed, photos, obey, always)
    best.model = judged(best.model)
    for effort, pattern in _others(context, best, always):
        if not _worth_more(best, len(photos), effort):
            continue
        other = attempt(context, listed, photos, obey, effort)
        other.model = judged(other.model)
        more = other.placed - best.placed
        if more > 0:
            context.found(say(pattern, count=more))
            best = other
    return best


_TILTED = as_pattern(
    "{count, plural, one {# photo more was} other {# photos more were}} placed by features of tilted views."
)
_LIFTED = as_pattern(
    "{count, plural, one {# photo more was} other {# photos more were}} placed once contrast was lifted in flat areas, with "
    "more features and more partners."
)


def _others(context: Context, first: Attempt, always: Effort) -> list[tuple[Effort, str]]:
    """What else may be tried, that which is likelier to help first, and what is said when it did."""
    settings = context.settings
    tilted = (Effort(TILTS, always.lifted), _TILTED)
    lifted = (Effort(always.tilts, True), _LIFTED)
    out = [tilted] if settings.tilted_views == "auto" else []
    if settings.second_try == "auto" and not always.lifted:
        found = float(np.median([len(x) for x in first.data.xy]))
        out.insert(0 if found < SCARCE * settings.features else len(out), lifted)
    return out


def _worth_more(best: Attempt, photos: int, effort: Effort) -> bool:
    """Whether enough is left over that other features may place: not what forms no scene at all.

    What stands by itself may be tied by tilted views; it does not lack contrast.
    """
    left = photos - best.placed
    if isinstance(best.model, Trouble):
        if best.model.cause != "too few matches":
            return False
    elif effort.lifted:
        left -= sum(int(m.placed.sum()) for m in best.model.apart)
    return left >= max(LEFT_OVER, LEFT_OVER_SHARE * photos)
