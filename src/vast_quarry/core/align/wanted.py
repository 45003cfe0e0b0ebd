"""What is photographed, out of all that the cameras see: bodies that stand on the ground, and which of them are the subject.

Points of a coarse look at everything (plain surfaces too, which sparse points miss) fall into bodies that hang together from cell to
cell. A person who photographs something walks round it and keeps it in the frame: of each body it is told how near the middle of the
frames it keeps, how much of it stays within them, and how large it is there. The body that does best is the subject, and with it
count those that do nearly as well, and whatever hangs on it.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from vast_quarry.core.camera import Camera, project
from vast_quarry.core.dense.strays import cell_keys, company, piece_of_cells

Array = NDArray[np.float64]

#: side of a cell, of the usual distance of the cameras
CELL = 0.014
#: a cell counts that holds so many points; a body of so many cells at least
FEWEST, LEAST_CELLS = 2, 4
#: share of the frame to each side that is its rim
RIM = 0.04
#: distance from the middle of the frame (half diagonals) at which a body counts exp(-1/2)
MIDDLE = 0.40
#: a body belongs to the subject that keeps so well to the frames, of what the subject does, and so near the middle, and is so large
AS_WELL, AS_CENTRAL, AS_LARGE = 0.85, 0.45, 0.05
#: what hangs on the subject: gap of cells, and how well it keeps to the frames
HANGS, HANGS_AS_WELL = 2, 0.7
#: what is seen over the place where the subject stands belongs to it: room about that place, and points that keep each other company
FOOTPRINT, COMPANY = 0.03, 4


@dataclass(frozen=True)
class Frame:
    """A photo that was placed: pinhole or lens, rotation (3, 3) and centre (3,) in the frame of the points."""

    camera: Camera
    rotation: Array
    center: Array


@dataclass(eq=False)
class Body:
    """Points that hang together.

    ``cells`` (K, 3) they fill; ``framed`` how much of them lies within frames, ``central`` how near the middle of frames they
    keep, ``large`` the share of frames that they fill, each between 0 and 1 as the median over photos.
    """

    points: Array
    cells: NDArray[np.int64]
    framed: float
    central: float
    large: float

    @property
    def score(self) -> float:
        """How much it looks like what the photos are about."""
        return self.framed**2 * self.central * float(np.sqrt(self.large))


@dataclass
class Wanted:
    """The subject: bodies that are it, points of theirs (N, 3); other bodies, the best first; and how sure that is.

    ``doubt`` is the score of the best other body of some size over the subject's.
    """

    bodies: list[Body]
    others: list[Body] = field(default_factory=list)

    @property
    def points(self) -> Array:
        return np.concatenate([b.points for b in self.bodies])

    @property
    def doubt(self) -> float:
        return self.others[0].score / max(self.bodies[0].score, 1e-12) if self.others else 0.0


def bodies_of(points: Array, frames: list[Frame], cell: float) -> list[Body]:
    """Bodies of points (N, 3), the best first; strays are none."""
    index = np.floor((points - points.min(0)) / cell).astype(np.int64)
    _, first, of, count = np.unique(cell_keys(index)[0], return_index=True, return_inverse=True, return_counts=True)
    cells = index[first]
    full = count >= FEWEST
    if not full.any():
        return []
    piece = np.full(len(cells), -1)
    piece[full] = piece_of_cells(cells[full])
    out = []
    for k in np.flatnonzero(np.bincount(piece[full]) >= LEAST_CELLS):
        mine = points[piece[of] == k]
        out.append(Body(mine, cells[piece == k], *_seen(mine, frames)))
    return sorted(out, key=lambda b: -b.score)


def _seen(points: Array, frames: list[Frame], most: int = 400) -> tuple[float, float, float]:
    """How points (N, 3) keep to frames: share within, nearness to the middle, share of the frame; medians over photos."""
    some = points[:: max(1, len(points) // most)]
    told = []
    for f in frames:
        px, depth = project(f.camera, f.rotation, f.center, some)
        size = np.array([f.camera.width, f.camera.height], float)
        inside = (depth > 0) & ((px > RIM * size) & (px < (1 - RIM) * size)).all(1)
        if not (depth > 0).any():
            told.append((0.0, 0.0, 0.0))
            continue
        at = px[depth > 0]
        off = np.linalg.norm(np.median(at, axis=0) - size / 2) / (np.linalg.norm(size) / 2)
        low, high = np.clip(at.min(0), 0, size), np.clip(at.max(0), 0, size)
        told.append(
            (float(inside.mean()), float(np.exp(-0.5 * (off / MIDDLE) ** 2)), float(np.prod((high - low) / size)))
        )
    framed, central, large = np.median(np.array(told), axis=0)
    return float(framed), float(central), float(large)


def find_wanted(points: Array, frames: list[Frame], reach: float) -> Wanted | None:
    """The subject among points (N, 3) without the ground; None where there is none to be told.

    Parameters
    ----------
    reach : float
        Usual distance of the cameras from what they look at.
    """
    if len(points) < 30 or not frames:
        return None
    bodies = bodies_of(points, frames, CELL * reach)
    if not bodies:
        return None
    main, *rest = bodies
    chosen, others = [main], list[Body]()
    for b in rest:
        alike = b.framed >= AS_WELL * main.framed and b.central >= AS_CENTRAL * main.central
        (chosen if alike and b.large >= AS_LARGE * main.large else others).append(b)
    # whatever hangs on one that is chosen belongs to it, and so on
    last = chosen
    while last and others:
        tree = cKDTree(np.concatenate([b.cells for b in last]))
        near = [
            b.framed >= HANGS_AS_WELL * main.framed
            and bool(np.isfinite(tree.query(b.cells, distance_upper_bound=HANGS + 1.5, p=np.inf)[0]).any())
            for b in others
        ]
        last = [b for b, hangs in zip(others, near) if hangs]
        others = [b for b, hangs in zip(others, near) if not hangs]
        chosen = chosen + last
    over = _over(points, chosen, CELL * reach)
    if len(over):
        box = np.concatenate([b.points for b in chosen])
        low, high = box.min(0), np.maximum(box.max(0), over.max(0))
        others = [b for b in others if not ((b.points > low) & (b.points < high)).all(1).mean() > 0.5]
        chosen = [*chosen, Body(over, np.zeros((0, 3), np.int64), *_seen(over, frames))]
    return Wanted(chosen, others)


def _over(points: Array, bodies: list[Body], cell: float) -> Array:
    """Points (K, 3) over the ground that bodies stand on which are not theirs, and are no strays.

    Nothing hangs in the air: what is seen there, if only in crumbs, is held by the bodies below it.
    """
    held = np.concatenate([b.points for b in bodies])
    low, high = held[:, :2].min(0), held[:, :2].max(0)
    room = FOOTPRINT * (high - low)
    over = points[((points[:, :2] > low - room) & (points[:, :2] < high + room)).all(1)]
    if not len(over):
        return over
    index = np.floor((over - over.min(0)) / cell).astype(np.int64)
    _, first, of, count = np.unique(cell_keys(index)[0], return_index=True, return_inverse=True, return_counts=True)
    enough = company(index[first], count) >= COMPANY
    return over[enough[of]]
