"""An alignment as later layers take it: cameras, lenses, sparse points and their observations, keep box."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.level import set_down, turn_matrix
from vast_quarry.core.box import KeepBox
from vast_quarry.core.camera import Camera, project
from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.core.pose import Similarity, fit_similarity

Array = NDArray[np.float64]


#: states of photos that stand in the frame of a solution
ALIGNED = ("placed", "weak")
#: and of those that have a pose to be seen, though nothing is built on it
POSED = (*ALIGNED, "implausible")


@dataclass
class Solution:
    """Aligned photos in the upright world frame.

    Attributes
    ----------
    numbers : (n,) int
        Number of each photo in the list of photos; what follows is in this order.
    states : list of str
        ``"placed"`` or ``"weak"`` (:data:`ALIGNED`); ``"implausible"`` with a pose that can hardly be right; ``"apart"`` in
        another group, ``"loose"`` in none.
    rotations : (n, 3, 3), centers : (n, 3)
    lens_of : (n,) int, lenses : list of Camera
    points : (P, 3), colors : (P, 3) uint8
    start : (P + 1,), photo : (M,), xy : (M, 2), error : (M,)
        Observations sorted by point: row of the photo, pixel, residual in pixels.
    box : KeepBox
    ground : bool
        Whether a ground plane was found (it lies at z = 0).
    rough : float
        Spread of the ground about that plane, in world units.
    """

    numbers: NDArray[np.int64]
    states: list[str]
    rotations: Array
    centers: Array
    lens_of: NDArray[np.int64]
    lenses: list[Camera]
    points: Array
    colors: NDArray[np.uint8]
    start: NDArray[np.int64]
    photo: NDArray[np.int64]
    xy: NDArray[np.float32]
    error: NDArray[np.float32]
    box: KeepBox
    ground: bool
    rough: float = 0.0
    #: what the scale came from: a marker mat, measured bars, a rough height, or nothing yet
    scale_from: str = "nothing"
    #: stated standard deviation of each point (P,) and centre (n,), in world units; nan where it is not known
    sigma: NDArray[np.float32] = field(default_factory=lambda: np.zeros(0, np.float32))
    center_sigma: NDArray[np.float32] = field(default_factory=lambda: np.zeros(0, np.float32))

    def __post_init__(self) -> None:
        if len(self.sigma) != len(self.points):
            self.sigma = np.full(len(self.points), np.nan, np.float32)
        if len(self.center_sigma) != len(self.numbers):
            self.center_sigma = np.full(len(self.numbers), np.nan, np.float32)

    @property
    def metric(self) -> bool:
        """Whether lengths are metres, not roughly."""
        return self.scale_from in ("mat", "bars")

    @property
    def aligned(self) -> NDArray[np.int64]:
        """Rows of photos that are placed, weakly or well."""
        return np.flatnonzero([s in ALIGNED for s in self.states])

    def lens(self, row: int) -> Camera:
        """Lens of a photo."""
        return self.lenses[int(self.lens_of[row])]

    @property
    def center_sigma_percent(self) -> Array:
        """Stated standard deviation of each centre in per cent of its distance to the middle of the box (n,)."""
        return np.asarray(100 * self.center_sigma / np.linalg.norm(self.centers - self.box.middle, axis=1))

    def misses(self, row: int) -> tuple[NDArray[np.int64], Array]:
        """Observations of a photo (K,), and from each where its point is seen (K, 2), in pixels."""
        mine, points = _observed(self, row)
        seen, _ = project(self.lens(row), self.rotations[row], self.centers[row], points)
        return mine, seen - self.xy[mine]

    def distance(self, row: int) -> float:
        """Distance from a photo to what it shows: the median over its points; without any, to the middle of the box."""
        _, points = _observed(self, row)
        if not len(points):
            points = self.box.middle[None]
        return float(np.median(np.linalg.norm(points - self.centers[row], axis=1)))

    def gsd(self) -> float:
        """Ground sample distance in world units per pixel at full size: median over aligned photos."""
        each = [np.linalg.norm(self.centers[k] - self.box.middle) / self.lens(int(k)).fx for k in self.aligned]
        return float(np.median(each))


def _observed(s: Solution, row: int) -> tuple[NDArray[np.int64], Array]:
    """Observations of a photo (K,), and their points (K, 3)."""
    mine = np.flatnonzero(s.photo == row)
    return mine, s.points[np.searchsorted(s.start, mine, side="right") - 1]


def turned(
    s: Solution, steps: Sequence[tuple[str, float]], center: tuple[float, float, float] | None = None
) -> Solution:
    """The same alignment levelled by hand, and with a place of it (as it was before) over the origin."""
    transform, box, ground = set_down(turn_matrix(steps), s.points, s.box, s.ground)
    if center is not None:
        shift = -transform.points(np.array([center]))[0] * (1, 1, 0)
        transform, box = Similarity(1.0, np.eye(3), shift).after(transform), box.moved(shift)
    rotations, centers = np.empty_like(s.rotations), np.empty_like(s.centers)
    for n in range(len(s.numbers)):
        rotations[n], centers[n] = transform.pose(s.rotations[n], s.centers[n])
    points = transform.points(s.points)
    return replace(s, rotations=rotations, centers=centers, points=points, box=box, ground=ground)


def way_back(now: Solution, found: Solution) -> Similarity:
    """From the frame of an alignment to the one in which it was found; both are of the same photos."""
    rows = now.aligned
    return fit_similarity(
        np.concatenate([now.centers[rows], now.points]), np.concatenate([found.centers[rows], found.points])
    )


def save_solution(folder: Path, s: Solution, name: str = "solution") -> None:
    """Write ``solution.npz``."""
    write_arrays(
        folder / f"{name}.npz",
        numbers=s.numbers, states=np.array(s.states), rotations=s.rotations, centers=s.centers, lens_of=s.lens_of,
        lenses=np.stack([c.vector for c in s.lenses]), sizes=np.array([(c.width, c.height) for c in s.lenses]),
        points=s.points, colors=s.colors, start=s.start, photo=s.photo, xy=s.xy, error=s.error,
        box=np.array([*s.box.low, *s.box.high, s.box.turn]), ground=s.ground, rough=s.rough, scale_from=s.scale_from, sigma=s.sigma, center_sigma=s.center_sigma,
    )  # fmt: skip


def group_name(group: int) -> str:
    """What the solution of a group of photos is called, 1 the largest; there are none where all hang together."""
    return f"group-{group}"


def groups_in(folder: Path) -> int:
    """How many groups of photos a version of Cameras holds, each with a frame of its own."""
    return max(1, len(list(folder.glob("group-*.npz"))))


def _scale_from(f: Mapping[str, NDArray]) -> str:
    """Where the scale came from; versions of earlier programs only say whether there was a mat."""
    if "scale_from" in f:
        return str(f["scale_from"])
    return "mat" if "metric" in f and bool(f["metric"]) else "nothing"


def load_solution(folder: Path, name: str = "solution") -> Solution:
    """Read ``solution.npz``."""
    with np.load(folder / f"{name}.npz") as f:
        lenses = [Camera.simple(int(w), int(h), 1.0).with_vector(v) for v, (w, h) in zip(f["lenses"], f["sizes"])]
        b = f["box"]
        return Solution(
            f["numbers"], [str(s) for s in f["states"]], f["rotations"], f["centers"], f["lens_of"], lenses, f["points"],
            f["colors"], f["start"], f["photo"], f["xy"], f["error"],
            KeepBox.from_dict({"low": b[:3].tolist(), "high": b[3:6].tolist(), "turn": b[6]}), bool(f["ground"]), float(f["rough"]),
            _scale_from(f),
            *(f[name] if name in f else np.zeros(0, np.float32) for name in ("sigma", "center_sigma")),
        )  # fmt: skip
