"""The growing reconstruction: cameras, tracks and points as plain arrays, and the work done on them."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.bundle import BundleProblem, BundleReport, adjust
from vast_quarry.core.align.tracks import Tracks
from vast_quarry.core.align.triangulate import triangulate
from vast_quarry.core.camera import Camera, undistort

Array = NDArray[np.float64]

#: lens unknowns set free as more photos are placed (see bundle.LENS_UNKNOWNS)
_STAGES = {
    0: (),
    1: ("f",),
    2: ("f", "k1", "k2"),
    3: ("f", "cx", "cy", "k1", "k2", "p1", "p2"),
    4: ("f", "cx", "cy", "k1", "k2", "k3", "p1", "p2"),
}


@dataclass
class Model:
    """A reconstruction.

    Attributes
    ----------
    tracks : Tracks
    xy : (M, 2)
        Pixel of each observation.
    sigma : (M,)
        Expected error of each observation in pixels (features of coarse scale are less sharply placed).
    lens_of : (n,) int
        Lens of each photo.
    lenses : list of Camera
    rotations : (n, 3, 3), centers : (n, 3)
    placed : (n,) bool
    points : (T, 3), good : (T,) bool
    inlier : (M,) bool
        Observations that agree with the point of their track.
    """

    tracks: Tracks
    xy: Array
    sigma: Array
    lens_of: NDArray[np.int64]
    lenses: list[Camera]
    rotations: Array
    centers: Array
    placed: NDArray[np.bool_]
    points: Array = field(init=False)
    good: NDArray[np.bool_] = field(init=False)
    inlier: NDArray[np.bool_] = field(init=False)

    def __post_init__(self) -> None:
        self.points = np.zeros((len(self.tracks), 3))
        self.good = np.zeros(len(self.tracks), bool)
        self.inlier = np.zeros(len(self.xy), bool)
        self._track_of = self.tracks.track_of
        self._normalised: Array | None = None

    def normalised(self) -> Array:
        """Undistorted normalised coordinates of all observations (M, 2) under the present lenses."""
        if self._normalised is None:
            out = np.empty_like(self.xy)
            lens = self.lens_of[self.tracks.photo]
            for k, camera in enumerate(self.lenses):
                pick = lens == k
                out[pick] = undistort(self.xy[pick], camera)
            self._normalised = out
        return self._normalised

    @property
    def focal(self) -> Array:
        """Focal length in pixels of each photo (n,)."""
        return np.array([c.fx for c in self.lenses])[self.lens_of]

    def pixel_scale(self) -> Array:
        """Pixels per thousandth of the longer side, for each photo (n,): thresholds follow it."""
        return np.array([max(c.width, c.height) / 1000.0 for c in self.lenses])[self.lens_of]

    def open_tracks(self, threshold: float, smallest_angle_deg: float, only: NDArray[np.bool_] | None = None) -> int:
        """Triangulate tracks afresh from all placed photos; ``only`` (T,) limits which. Returns the number of points."""
        usable = self.placed[self.tracks.photo]
        if only is not None:
            usable = usable & only[self._track_of]
        points, good, inlier = triangulate(
            self.rotations, self.centers, self.focal, self.tracks.start, self.tracks.photo, usable, self.normalised(),
            threshold, smallest_angle_deg,
        )  # fmt: skip
        if only is None:
            self.points, self.good, self.inlier = points, good, inlier
        else:
            self.points[only], self.good[only] = points[only], good[only]
            at = only[self._track_of]
            self.inlier[at] = inlier[at]
        return int(self.good.sum())

    def adjust(self, stage: int, loss: float, iterations: int = 25, tolerance: float = 1e-5) -> BundleReport:
        """Bundle adjustment over everything placed, with the lens unknowns of a stage (0 to 4) free."""
        cams = np.flatnonzero(self.placed)
        new_cam = np.full(len(self.placed), -1)
        new_cam[cams] = np.arange(len(cams))
        use = self.inlier & self.placed[self.tracks.photo] & self.good[self._track_of]
        per_track = np.bincount(self._track_of[use], minlength=len(self.tracks))
        use &= per_track[self._track_of] >= 2
        kept = np.flatnonzero(per_track >= 2)
        groups = np.unique(self.lens_of[cams])
        new_lens = np.full(len(self.lenses), -1)
        new_lens[groups] = np.arange(len(groups))
        seen = np.bincount(self.lens_of[cams], minlength=len(self.lenses))[groups]
        free = np.zeros((len(groups), 8), bool)
        for row, count in enumerate(seen):
            mine = min(stage, 0 if count < 2 else 2 if count < 5 else 4)
            free[row] = [name in _STAGES[mine] for name in ("f", "cx", "cy", "k1", "k2", "k3", "p1", "p2")]
        problem = BundleProblem(
            self.rotations[cams],
            self.centers[cams],
            np.stack([self.lenses[g].vector for g in groups]),
            new_lens[self.lens_of[cams]],
            self.points[kept],
            np.concatenate([[0], np.cumsum(per_track[kept])]).astype(np.int64),
            new_cam[self.tracks.photo[use]],
            self.xy[use],
            1.0 / self.sigma[use] ** 2,
            free,
        )
        report = adjust(problem, loss=loss, iterations=iterations, tolerance=tolerance)
        self.rotations[cams], self.centers[cams] = problem.rotations, problem.centers
        self.points[kept] = problem.points
        for row, g in enumerate(groups):
            self.lenses[g] = self.lenses[g].with_vector(problem.lenses[row])
        self._normalised = None
        return report

    def errors(self) -> Array:
        """Reprojection error in pixels of every observation (M,) against its track's point; inf without one."""
        n = self.normalised()
        photo = self.tracks.photo
        p = self.points[self._track_of] - self.centers[photo]
        c = np.einsum("mij,mj->mi", self.rotations[photo], p)
        z = np.where(c[:, 2] > 1e-9, c[:, 2], np.nan)
        e = np.hypot(c[:, 0] / z - n[:, 0], c[:, 1] / z - n[:, 1]) * self.focal[photo]
        ok = self.placed[photo] & self.good[self._track_of] & np.isfinite(e)
        return np.where(ok, e, np.inf)

    def observations_per_photo(self) -> NDArray[np.int64]:
        """Agreeing observations of each photo (n,)."""
        return np.bincount(self.tracks.photo[self.inlier], minlength=len(self.placed))
