"""Marker mats: a sheet of coded markers at exactly known distances, printed at true size.

The markers are those of the AprilTag family 36h11 as OpenCV ships it. They stand around a free middle for the subject,
on a ground of random shapes that never repeat, which gives the matching something to hold on to. A ruler of 100 mm
tells whether the printer kept the scale.

References
----------
Olson, E. (2011). AprilTag: a robust and flexible visual fiducial system. ICRA.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Paper = Literal["A4", "A3", "Letter"]

#: width and height in mm: ISO 216; ANSI Letter is 8.5 x 11 inches
PAPERS: dict[str, tuple[float, float]] = {"A4": (210.0, 297.0), "A3": (297.0, 420.0), "Letter": (215.9, 279.4)}
#: printers leave this much of the edge white (mm)
MARGIN = 12.0
#: height of the strip for the ruler and the words (mm)
FOOT = 16.0
RULER = 100.0
FAMILY = "AprilTag 36h11"


@dataclass(frozen=True)
class Marker:
    """A marker: its number, its corners in mm (4, 2) and its cells, True is black.

    Corners run clockwise from the top left as printed; x to the right and y up from the middle of the mat.
    """

    number: int
    corners: Array
    cells: NDArray[np.bool_]


@dataclass(frozen=True)
class Mat:
    """A mat.

    Attributes
    ----------
    paper : (float, float)
        Width and height in mm.
    middle : (float, float)
        Of the mat, from the lower left corner of the paper, in mm.
    markers : list of Marker
    shapes : list of (Array, float)
        Corners of the ground's shapes in mm about the middle, and how dark each is (0 white, 1 black).
    free : float
        Radius in mm about the middle that is left for the subject.
    round_radius : float or None
        Radius of a round mat, to be cut out.
    """

    paper: tuple[float, float]
    middle: tuple[float, float]
    markers: list[Marker]
    shapes: list[tuple[Array, float]]
    free: float
    round_radius: float | None

    def as_dict(self) -> dict:
        """As written beside the PDF; schema in ``docs/formats.md``."""
        return {
            "mat": 1, "unit": "mm", "family": FAMILY, "paper_mm": list(self.paper), "middle_mm": list(self.middle),
            "free_radius_mm": self.free, "round_radius_mm": self.round_radius,
            "markers": [{"id": m.number, "corners": np.round(m.corners, 4).tolist()} for m in self.markers],
        }  # fmt: skip


def dictionary() -> cv2.aruco.Dictionary:
    """The family of markers."""
    return cv2.aruco.getPredefinedDictionary(cv2.aruco.DICT_APRILTAG_36h11)


def _marker(number: int, center: Array, side: float) -> Marker:
    cells = cv2.aruco.generateImageMarker(dictionary(), number, 8, borderBits=1) < 128
    h = side / 2
    return Marker(number, center + np.array([[-h, h], [h, h], [h, -h], [-h, -h]]), cells)


def _places(width: float, height: float, side: float, radius: float | None) -> list[Array]:
    """Middles of the markers: along the edges of the sheet, or on a circle."""
    gap = 1.5 * side
    if radius is not None:
        ring = radius - 0.75 * side * np.sqrt(2)
        n = int(2 * np.pi * ring / gap)
        turn = np.arange(n) * 2 * np.pi / n
        return [ring * np.array([np.cos(t), np.sin(t)]) for t in turn]
    x = np.linspace(-1, 1, max(2, int((width - side) / gap) + 1)) * (width - 1.25 * side) / 2
    y = np.linspace(-1, 1, max(2, int((height - side) / gap) + 1)) * (height - 1.25 * side) / 2
    edge = [np.array([a, b]) for b in (y[0], y[-1]) for a in x]
    return edge + [np.array([a, b]) for a in (x[0], x[-1]) for b in y[1:-1]]


def make_mat(paper: str = "A4", round_: bool = False, first: int = 0, seed: int = 1) -> Mat:
    """Lay out a mat.

    Parameters
    ----------
    paper : str
        ``"A4"``, ``"A3"`` or ``"Letter"``.
    round_ : bool
        A disc for a turntable, to be cut out.
    first : int
        Number of the first marker, so that two mats can lie in one scene.
    seed : int
        Another ground.

    Raises
    ------
    PlainError
        For an unknown paper, or when the family has too few markers.
    """
    if paper not in PAPERS:
        raise PlainError(
            say("There is no paper called {paper}.", paper=paper), say("There are {list}.", list=", ".join(PAPERS))
        )
    w, h = PAPERS[paper]
    width, height = w - 2 * MARGIN, h - 2 * MARGIN - FOOT
    middle = w / 2, MARGIN + FOOT + height / 2
    side = 0.12 * min(width, height)
    radius = min(width, height) / 2 if round_ else None
    places = _places(width, height, side, radius)
    family = len(dictionary().bytesList)
    if first < 0 or first + len(places) > family:
        raise PlainError(
            say("The family has markers 0 to {last}; this mat takes {count}.", last=family - 1, count=len(places)),
            "Begin lower.",
        )
    markers = [_marker(first + k, p, side) for k, p in enumerate(places)]
    inner = radius - 2 * side if radius else min(width, height) / 2 - 1.4 * side
    return Mat((w, h), middle, markers, _ground(width, height, markers, side, radius, seed), inner, radius)


def _ground(
    width: float, height: float, markers: list[Marker], side: float, radius: float | None, seed: int
) -> list[tuple[Array, float]]:
    """Random shapes of many sizes that keep clear of the markers."""
    rng = np.random.default_rng(seed)
    centers = np.array([m.corners.mean(0) for m in markers])
    clear = side / 2 + side / 8 * 1.5  # one and a half cells of white about each marker
    out = []
    for _ in range(int(width * height / 9)):
        size = float(np.exp(rng.uniform(np.log(0.7), np.log(4.5))))
        place = (rng.random(2) - 0.5) * [width - 2 * size, height - 2 * size]
        if radius is not None and np.hypot(*place) + size > radius:
            continue
        if (np.abs(centers - place).max(1) < clear + size).any():
            continue
        n = int(rng.integers(3, 8))
        turn = np.sort(rng.random(n)) * 2 * np.pi
        reach = size * rng.uniform(0.45, 1.0, n)
        shape = place + np.stack([np.cos(turn), np.sin(turn)], 1) * reach[:, None]
        out.append((shape, float(rng.uniform(0.15, 0.85))))
    return out
