"""How precisely the features of a set lie, measured from what is left after an adjustment.

The error of a feature grows with the scale it was found at: ``sigma^2 = a^2 + (b s)^2`` with ``s`` its diameter in pixels.
``a`` and ``b`` are fitted to the medians of bins of ``s``, so that a few per cent of false observations hardly matter; all
thresholds of the alignment are multiples of sigma.

References
----------
Zeisl, B., Georgel, P., Schweiger, F., Steinbach, E., Navab, N. (2009). Estimation of location uncertainty for scale
invariant feature points. BMVC.
Rousseeuw, P., Leroy, A. (1987). Robust regression and outlier detection (scale from the median).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import nnls

Array = NDArray[np.float64]
#: median length of a two-dimensional normal error of unit sigma (Rayleigh's distribution)
RAYLEIGH = float(np.sqrt(2 * np.log(2)))
#: no set is more precise than this (pixels)
FLOOR = 0.02


@dataclass(frozen=True)
class Noise:
    """``sigma = sqrt(a^2 + (b s)^2)`` pixels for a feature of diameter ``s``."""

    a: float
    b: float

    def sigma(self, scale: Array) -> Array:
        """Expected error in pixels along each axis, (M,)."""
        return np.hypot(self.a, self.b * scale)

    def times(self, factor: float) -> Noise:
        """The same, coarser or finer."""
        return Noise(self.a * factor, self.b * factor)


def first_guess(longest: float) -> Noise:
    """Before anything is known: lenses are not solved yet, so larger photos are off by more pixels."""
    return Noise(max(0.6, longest / 1000), 0.04)


def fit_noise(error: Array, scale: Array, redundancy: float, bins: int = 8) -> Noise | None:
    """Noise from residual lengths (M,) of features of diameter (M,); None when there are too few to tell.

    ``redundancy`` is the share of the observations that is not used up by unknowns: residuals are smaller than errors by
    its root.
    """
    good = np.isfinite(error)
    error, scale = error[good], scale[good]
    if len(error) < 40:
        return None
    bins = int(min(bins, max(1, len(error) // 40)))
    order = np.argsort(scale, kind="stable")
    parts = np.array_split(order, bins)
    s = np.array([np.median(scale[p]) for p in parts])
    sigma = np.array([np.median(error[p]) for p in parts]) / RAYLEIGH / np.sqrt(max(redundancy, 0.1))
    # relative errors of the bins alike
    w = 1.0 / np.maximum(sigma, FLOOR) ** 2
    answer, _ = nnls(np.stack([w, w * s**2], 1), w * sigma**2)
    a, b = np.sqrt(answer)
    return Noise(float(max(a, FLOOR)), float(b))
