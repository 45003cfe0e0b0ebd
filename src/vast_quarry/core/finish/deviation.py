"""How far two surfaces lie apart: distances both ways, from places spread evenly over each.

References
----------
Cignoni, P., Rocchini, C., Scopigno, R. (1998). Metro: measuring error on simplified surfaces. Computer Graphics Forum 17(2).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import sample_surface

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
#: places on each surface
SAMPLES = 200_000


@dataclass(frozen=True)
class Deviation:
    """Distances between two surfaces, in world units.

    Attributes
    ----------
    mean : float
        Of both ways together.
    most_of_it : float
        95 of 100 places lie nearer.
    largest : float
        The symmetric Hausdorff distance, as far as the places show.
    """

    mean: float
    most_of_it: float
    largest: float

    def record(self, to_mm: float = 1000.0) -> dict[str, float]:
        """In millimetres, as reports tell it; ``to_mm`` is what one world unit is."""
        return {
            "mean_mm": self.mean * to_mm,
            "within_95_percent_mm": self.most_of_it * to_mm,
            "largest_mm": self.largest * to_mm,
        }


class Measured:
    """A surface against which others are measured: its places are chosen once."""

    def __init__(self, vertices: Array, faces: Faces, samples: int = SAMPLES) -> None:
        self.samples = samples
        self.scene = RayScene()
        # single precision is that of the tree: about the surface's own middle, places far from the origin lose nothing
        self.middle = vertices.mean(0)
        self.scene.add(vertices - self.middle, faces)
        self.places = sample_surface(vertices, faces, samples)

    def distance(self, points: Array) -> NDArray[np.float32]:
        """Of points (N, 3) to the surface."""
        return self.scene.distance(points - self.middle)

    def against(self, vertices: Array, faces: Faces) -> Deviation:
        """Of another surface, both ways."""
        other = RayScene()
        other.add(vertices - self.middle, faces)
        there = self.distance(np.concatenate([sample_surface(vertices, faces, self.samples, 1), vertices]))
        here = other.distance(self.places - self.middle)
        # vertices count for the largest alone: they are not spread evenly
        both = np.concatenate([there[: self.samples], here])
        return Deviation(float(both.mean()), float(np.percentile(both, 95)), float(max(there.max(), here.max())))
