"""How long a step still takes, told from its stages and how long they took before.

A step goes through named stages. An earlier run says how the time divides among them; how much slower or quicker
this run is shows in the stages that are over. A stage that has gone some way foretells itself.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

#: seconds of the stages of each layer, 28 photos of 0.75 megapixels at grade Dressed on two cores: how time divides
#: where nothing was run before
TYPICAL: dict[str, dict[str, float]] = {
    "photos": {"Reading photos": 3},
    "masks": {"Looking at photos": 2, "Learning the backdrop": 6, "Making masks": 8},
    "cameras": {
        "Finding features": 15.7, "Looking for overlap": 2.3, "Matching photos": 63, "Placing cameras": 15.7,
        "Standing the model up": 0.3,
    },
    "points": {"Undistorting photos": 0.7, "Depth maps": 33.5, "Agreement between photos": 1.5, "Fusing": 1},
    "surface": {
        "Surface through the points": 10.2, "Cutting": 1.2, "Main body": 0.2, "Making photos ready": 1.5,
        "Refining by the photos": 8, "Fewer triangles": 0.4,
    },
    "texture": {
        "Unwrapping and reading photos": 3.3, "Weighing colours": 0.3, "Colouring vertices": 0.4, "Colouring": 2, "Filling the atlas": 0.3,
    },
    "finish": {"Editing": 5},
}  # fmt: skip

#: seconds, and share of the whole, over which what is foretold anew comes into what is told
SLOWLY, SHARE = 5.0, 0.15
#: share of the whole until which what is foretold is told as it is
EARLY = 0.1

#: share of a stage after which its own pace counts more than what it took before
OWN_PACE = 0.08
#: weight of the earlier run at the beginning, as a share of the whole step; gone when this share of it is seen: one short
#: stage that ran quicker than usual says little about the rest
PRIOR = 0.1
TRUSTED = 0.3


@dataclass
class StageClock:
    """Times the stages of one step as they go by.

    Attributes
    ----------
    plan : mapping
        Seconds of the stages in an earlier run, in order.
    took : dict
        Seconds of the stages of this run so far.
    """

    plan: Mapping[str, float]
    now: Callable[[], float] = time.monotonic
    took: dict[str, float] = field(default_factory=dict)
    _stage: str | None = None
    _began: float = 0.0

    def note(self, stage: str, done: float, total: float) -> float | None:
        """A stage has come so far; returns the seconds that the step still takes, None when nothing can be said."""
        clock = self.now()
        if stage != self._stage:
            self.end()
            self._stage, self._began = stage, clock
        spent, share = clock - self._began, min(1.0, done / total) if total > 0 else 0.0
        names = list(self.plan)
        position = names.index(stage) if stage in self.plan else -1
        later = sum(s for n, s in self.plan.items() if names.index(n) > position and n not in self.took)
        mine = self.plan.get(stage, 0.0)
        if share < OWN_PACE:
            share = max(share, min(0.95, spent / (2 * mine)) * 0.5) if mine else share
            own = None
        else:
            own = spent * (1 - share) / share
        seen, ran = mine * share, spent
        if own is not None:  # a stage that foretells itself counts as a whole for the pace of those to come
            seen, ran = mine, spent / share
        known = sum(self.plan.get(n, 0.0) for n in self.took) + seen
        whole = sum(self.plan.values())
        prior = PRIOR * max(0.0, whole - known / TRUSTED)
        if known + prior <= 0:
            return own
        pace = (sum(self.took.values()) + ran + prior) / (known + prior)
        return (mine * (1 - share) * pace if own is None else own) + later * pace

    def end(self) -> None:
        """The stage under way is over."""
        if self._stage is not None:
            self.took[self._stage] = self.took.get(self._stage, 0.0) + self.now() - self._began
            self._stage = None


@dataclass
class SteadyLeft:
    """The time left of a whole run as it is told: it runs down with the clock, and what is foretold anew comes in slowly."""

    now: Callable[[], float] = time.monotonic
    _began: float | None = None
    _at: float = 0.0
    _told: float = 0.0

    def told(self, foretold: float) -> float:
        """Seconds to tell, when so many are foretold."""
        clock = self.now()
        if self._began is None:
            self._began, self._at, self._told = clock, clock, foretold
            return foretold
        elapsed, since = clock - self._began, clock - self._at
        running_down = max(self._told - since, 0.0)
        if elapsed < EARLY * (elapsed + running_down):
            weight = 1.0
        else:
            weight = min(1.0, since / max(SLOWLY, SHARE * (elapsed + running_down)))
        self._at, self._told = clock, running_down + weight * (foretold - running_down)
        return self._told
