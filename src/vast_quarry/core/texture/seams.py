"""How visible seams of a texture are: where another photo takes over, colours should change no more than right beside it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

#: texels to either side of a seam with which it is compared; and seams that are needed to say anything
BESIDE, FEWEST = 3, 200


def seam_visibility(image: NDArray, source: NDArray[np.uint16], rows: int = 1024) -> float | None:
    """Mean step of colour across seams, over that between texels a little beside them; None with hardly any seams.

    Parameters
    ----------
    image : (H, W, 3) uint8 or uint16
    source : (H, W) uint16
        Which photo counts most for each texel, 0 for none. A seam lies between two neighbours of different photos.
    rows : int
        So many at a time, to bound memory.
    """
    total = np.zeros(4)
    for first in range(0, len(image), rows):
        a, b = image[first : first + rows], source[first : first + rows]
        total += _steps(a, b)
        total += _steps(a.transpose(1, 0, 2), b.T)
    across, crossings, beside, neighbours = total
    if crossings < FEWEST or not beside:
        return None
    return float(across / crossings / (beside / neighbours))


def _steps(image: NDArray, source: NDArray[np.uint16]) -> NDArray[np.float64]:
    """Sums and counts along rows: steps of colour across seams, and of those ``BESIDE`` to either side within one photo's part."""
    seam = (source[:, 1:] != source[:, :-1]) & (source[:, 1:] > 0) & (source[:, :-1] > 0)
    row, column = np.nonzero(seam)
    inside = (column >= BESIDE) & (column + 1 + BESIDE < image.shape[1])
    row, column = row[inside], column[inside]
    left, right = source[row, column], source[row, column + 1]
    # one photo alone on either side, as far as is looked
    alone = (source[row, column - BESIDE] == left) & (source[row, column + 1 + BESIDE] == right)
    row, column = row[alone], column[alone]
    step = lambda x, y: np.abs(x.astype(float) - y).mean(1).sum()  # noqa: E731
    at = lambda k: image[row, column + k].astype(float)  # noqa: E731
    beside = step(at(-BESIDE), at(1 - BESIDE)) + step(at(BESIDE), at(1 + BESIDE))
    return np.array([step(at(0), at(1)), len(row), beside, 2 * len(row)])
