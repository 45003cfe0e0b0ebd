"""How far a whole run is: which of its layers is being made, and the time that all of them still take."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from vast_quarry.pipeline.forecast import SteadyLeft
from vast_quarry.pipeline.step import Reporter


class Ahead:
    """A reporter that knows which layers are to be made, and tells the time left of all of them.

    Parameters
    ----------
    reporter : Reporter
        Who is told.
    layers : sequence of str
        Those that are to be made, in order.
    seconds_of : callable
        How long a layer is likely to take; asked when the layer before it begins, since how quick a machine is shows by and by.
    """

    def __init__(self, reporter: Reporter, layers: Sequence[str], seconds_of: Callable[[str], float]) -> None:
        self._reporter, self._layers, self._seconds_of = reporter, list(layers), seconds_of
        self._steady = SteadyLeft()
        self._later = 0.0

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None:
        """A layer begins, be it made or taken as it is."""
        made = self._layers.index(layer) if layer in self._layers else 0
        self._later = sum(self._seconds_of(later) for later in self._layers[made + 1 :])
        self._reporter.begin(layer, title, made + 1, max(1, len(self._layers)))

    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None:
        """Progress of a layer that is made; ``left`` are seconds of the layer."""
        whole = None if left is None else self._steady.told(left + self._later)
        self._reporter.stage(layer, text, done, total, whole)

    def end(self, layer: str, seconds: float, reused: bool) -> None:
        """A layer is done."""
        self._reporter.end(layer, seconds, reused)

    def say(self, text: str) -> None:
        """A finding."""
        self._reporter.say(text)
