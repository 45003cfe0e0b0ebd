"""What most photos say of a point's colour, so that the one that says something else can be told.

Somebody who walks through, a highlight, a reflection, a leaf before the lens: what one photo shows there and the others do not is
no colour of the surface, and averaged in it leaves a ghost. Of each point the best photos are asked; their weighted median is
what they agree about, and how far they commonly are off it says how far one may be.

References
----------
Hampel, F. (1974). The influence curve and its role in robust estimation. JASA 69(346) (median absolute deviation).
Sinha, S., Steedly, D., Szeliski, R., Agrawala, M., Pollefeys, M. (2008). Interactive 3D architectural modeling from unordered
photo collections. ACM TOG 27(5) (photos that disagree about a texel are left out).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.texture.coloring import ANY, Said

#: photos that are needed before one of them can be contradicted
FEWEST = 3
#: levels of 255 that photos may be off each other in any case, and the same as a share of the colour
LEVELS, SHARE = 4.0, 0.03
#: spreads of what is common by which a photo may be off before it counts less
WITHIN = 2.0


def weighted_median(values: NDArray, weights: NDArray) -> NDArray:
    """Weighted medians (N,) of rows (N, K); the lower one where two halves weigh the same."""
    order = np.argsort(values, axis=1)
    heavy = np.cumsum(np.take_along_axis(weights, order, 1), axis=1)
    middle = (heavy < 0.5 * heavy[:, -1:]).sum(1, keepdims=True)
    return np.take_along_axis(values, np.take_along_axis(order, np.minimum(middle, values.shape[1] - 1), 1), 1)[:, 0]


def agreed(said: Said) -> NDArray[np.float32]:
    """Colours that most photos agree about and how far one may be off them (N, 4); :data:`ANY` where fewer than three see a point.

    Photos weigh by the root of what they count in the colour: one from near must not outvote all others.
    """
    weights = np.sqrt(said.weights)
    out = np.zeros((len(weights), 4), np.float32)
    for k in range(3):
        out[:, k] = weighted_median(said.colors[:, :, k], weights)
    off = np.sqrt(((said.colors - out[:, None, :3]) ** 2).sum(2))
    common = 1.4826 * weighted_median(off, weights)
    least = LEVELS + SHARE * out[:, :3].mean(1)
    out[:, 3] = np.where((weights > 0).sum(1) >= FEWEST, WITHIN * np.maximum(common, least), ANY)
    return out


def contradicted(said: Said, expected: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Whether what a photo says of a point (N, K) is thrown out: it counts less than a tenth of what it would."""
    off = ((said.colors - expected[:, None, :3]) ** 2).sum(2)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray((said.weights > 0) & (off > 2 * np.log(10.0) * expected[:, 3:] ** 2))
