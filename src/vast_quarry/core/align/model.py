"""The growing reconstruction: cameras, tracks and points as plain arrays, and the work done on them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.bundle import BundleProblem, BundleReport, adjust, reduced, residuals_of
from vast_quarry.core.align.lens import LENS_UNKNOWNS, LensPrior, decided, independent_share, lens_information
from vast_quarry.core.align.noise import Noise, fit_noise
from vast_quarry.core.align.precision import precision_of
from vast_quarry.core.align.tracks import Tracks, some_tracks, split_tracks
from vast_quarry.core.align.triangulate import triangulate
from vast_quarry.core.camera import Camera, undistort

Array = NDArray[np.float64]
Bools = NDArray[np.bool_]
#: observations that each photo has at least in an adjustment by some of the tracks
STAND_FOR_ALL = 640
#: what is stated of precision is so many times what residuals show: the same corner of the subject leans the same way in all
#: photos from one side, which no residual tells. Measured on sets of the practice rig with a kind camera (quality of errors
#: over stated sigmas, docs/benchmarks.md); cameras whose lens or shutter no model fits are off by three times as much again
FEATURES_LEAN = 2.0


@dataclass(frozen=True)
class Join:
    """How photos (K,) that were aligned by themselves came to a model: points that both saw then, and the RMS error in
    pixels of what is seen of such points when they were laid together, and once all cameras were solved afresh."""

    photos: NDArray[np.int64]
    points: int
    laid_px: float
    solved_px: float


@dataclass
class Model:
    """A reconstruction.

    Attributes
    ----------
    tracks : Tracks
    xy : (M, 2)
        Pixel of each observation.
    scale : (M,)
        Diameter of its feature in pixels.
    noise : Noise
        How precisely features lie.
    lens_of : (n,) int
        Lens of each photo.
    lenses : list of Camera
    prior : LensPrior
        What was known of the lenses beforehand.
    rotations : (n, 3, 3), centers : (n, 3)
    placed : (n,) bool
    points : (T, 3), good : (T,) bool
    inlier : (M,) bool
        Observations that agree with the point of their track.
    free : (g, 8) bool
        Lens unknowns that were solved, not held where they were expected.
    apart : list of Model
        What hangs together by itself and could not be joined to this, largest first, each in a frame of its own.
    refocused : list of Refocused
        Photos whose focal length turned out to be another than was said (:mod:`.zoom`).
    joins : list of Join
        How parts that were aligned by themselves were joined to it.
    misfits : list of (int, float)
        Places picked by hand that would not join groups, and by how much they miss (thousandths of a photo).
    doubted : list of Doubt
        Photos that have a pose but are not placed, since they can hardly stand there (:mod:`.plausible`).
    """

    tracks: Tracks
    xy: Array
    scale: Array
    noise: Noise
    lens_of: NDArray[np.int64]
    lenses: list[Camera]
    prior: LensPrior
    rotations: Array
    centers: Array
    placed: Bools
    points: Array = field(init=False)
    good: Bools = field(init=False)
    inlier: Bools = field(init=False)
    free: Bools = field(init=False)
    check: Callable[[], None] = lambda: None
    apart: list[Model] = field(default_factory=list)
    refocused: list[Any] = field(default_factory=list)
    doubted: list[Any] = field(default_factory=list)
    joins: list[Join] = field(default_factory=list)
    misfits: list[tuple[int, float]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.points = np.zeros((len(self.tracks), 3))
        self.good = np.zeros(len(self.tracks), bool)
        self.inlier = np.zeros(len(self.xy), bool)
        self.free = np.zeros((len(self.lenses), 8), bool)
        self._index()

    def _index(self) -> None:
        """Which observations a track and a photo have."""
        self.track_of = self.tracks.track_of
        self._normalised: Array | None = None
        self._by_photo = np.argsort(self.tracks.photo, kind="stable")
        self._photo_start = np.searchsorted(self.tracks.photo[self._by_photo], np.arange(len(self.placed) + 1))

    def observations_of(self, photo: int) -> NDArray[np.int64]:
        """Observations of a photo."""
        return self._by_photo[self._photo_start[photo] : self._photo_start[photo + 1]]

    @property
    def sizes(self) -> NDArray[np.int64]:
        """Width and height of each photo (n, 2)."""
        return np.array([(c.width, c.height) for c in self.lenses])[self.lens_of]

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

    def triangulate(self, threshold: float, smallest_angle_deg: float, which: NDArray[np.int64] | None = None) -> int:
        """Triangulate tracks afresh from all placed photos, with a threshold in sigmas. Returns the number of points."""
        unit = self.focal[self.tracks.photo] / self.noise.sigma(self.scale)
        points, good, inlier = triangulate(
            self.rotations, self.centers, unit, self.tracks.start, self.tracks.photo, self.placed[self.tracks.photo],
            self.normalised(), threshold, smallest_angle_deg, which, (self.points, self.good),
        )  # fmt: skip
        if which is None:
            self.points, self.good, self.inlier = points, good, inlier
        else:
            self.points[which], self.good[which] = points[which], good[which]
            rows = _rows(self.tracks.start, which)
            self.inlier[rows] = inlier[rows]
        return int(self.good.sum())

    def problem(
        self, use: Bools, free: Bools
    ) -> tuple[BundleProblem, NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """The adjustment of everything placed by the observations ``use`` (M,).

        Returns
        -------
        problem : BundleProblem
        cams, kept, groups : int arrays
            Which photos, tracks and lenses its rows are.
        """
        cams = np.flatnonzero(self.placed)
        new_cam = np.full(len(self.placed), -1)
        new_cam[cams] = np.arange(len(cams))
        use = use & self.placed[self.tracks.photo] & self.good[self.track_of]
        per_track = np.bincount(self.track_of[use], minlength=len(self.tracks))
        use &= per_track[self.track_of] >= 2
        kept = np.flatnonzero(per_track >= 2)
        groups = np.unique(self.lens_of[cams])
        new_lens = np.full(len(self.lenses), -1)
        new_lens[groups] = np.arange(len(groups))
        problem = BundleProblem(
            self.rotations[cams],
            self.centers[cams],
            np.stack([self.lenses[g].vector for g in groups]),
            new_lens[self.lens_of[cams]],
            self.points[kept],
            np.concatenate([[0], np.cumsum(per_track[kept])]).astype(np.int64),
            new_cam[self.tracks.photo[use]],
            self.xy[use],
            1.0 / self.noise.sigma(self.scale[use]) ** 2,
            free[groups],
            LensPrior(self.prior.at[groups], self.prior.sigma[groups]),
        )
        return problem, cams, kept, groups

    def adjust(
        self, loss: float, iterations: int = 25, tolerance: float = 1e-5, use: Bools | None = None, still: float = 0.0
    ) -> BundleReport:
        """Bundle adjustment over everything placed, with the lens unknowns :attr:`free`.

        Parameters
        ----------
        loss : float
            Scale of the robust loss in sigmas.
        use : (M,) bool, optional
            Observations to use; those that agree without it.
        iterations, tolerance, still
            When it ends (:func:`.bundle.adjust`).
        """
        problem, cams, kept, groups = self.problem(self.inlier if use is None else use, self.free)
        if len(kept) < 4:
            return BundleReport(0, 0.0, 0.0, 0.0)
        share = self._share(problem, cams)
        report = adjust(problem, loss, iterations, tolerance, prior_weight=1.0 / share, check=self.check, still=still)
        self.rotations[cams], self.centers[cams] = problem.rotations, problem.centers
        self.points[kept] = problem.points
        for row, g in enumerate(groups):
            self.lenses[g] = self.lenses[g].with_vector(problem.lenses[row])
        self._normalised = None
        return report

    def adjust_by_some(
        self, loss: float, iterations: int, tolerance: float, threshold: float, smallest_angle_deg: float
    ) -> None:
        """Adjust by tracks that stand for all, and triangulate the others again.

        Where photos hold thousands of points each, some hundred place them within little of where all would: as long as
        more is to come that is enough, at a fraction of the time.
        """
        use = self.inlier & self.some()
        self.adjust(loss, iterations, tolerance, use)
        if use.sum() < self.inlier.sum():
            self.triangulate(threshold, smallest_angle_deg)

    def some(self) -> Bools:
        """Observations (M,) of tracks that stand for all."""
        use = self.inlier & self.placed[self.tracks.photo]
        return some_tracks(self.tracks, self.xy, self.sizes, use, STAND_FOR_ALL)[self.track_of]

    def _share(self, problem: BundleProblem, cams: NDArray[np.int64]) -> float:
        """Share of a problem's observations that counts as independent."""
        white = residuals_of(problem) * np.sqrt(problem.weight)[:, None]
        return independent_share(problem.cam, problem.lens_of, problem.xy, self.sizes[cams], problem.point_of, white)

    def precision(self, loss: float) -> tuple[Array, Array]:
        """One standard deviation along an axis of each placed centre (n,) and good point (T,); nan elsewhere.

        In the datum in which all centres together do not move; ``loss`` is that of the last adjustment, in sigmas.
        """
        problem, cams, kept, _ = self.problem(self.inlier, self.free)
        centers, points = np.full(len(self.placed), np.nan), np.full(len(self.tracks), np.nan)
        if len(cams) >= 3 and len(kept) >= 4:
            share = self._share(problem, cams)
            found = precision_of(problem, loss, 1.0 / share)
            lean = FEATURES_LEAN / np.sqrt(share)
            centers[cams], points[kept] = lean * found.center_sigma, lean * found.point_sigma
        return centers, points

    def decide(self, loss: float = 2.0, use: Bools | None = None) -> Bools:
        """Lens unknowns (g, 8) that the photos placed so far determine better than what was known beforehand, by observations
        ``use`` (M,), or by all that agree."""
        problem, cams, kept, groups = self.problem(self.inlier if use is None else use, self.free)
        out = np.zeros_like(self.free)
        if len(cams) < 3 or len(kept) < 20:
            return out
        information = lens_information(reduced(problem, loss), 6 * len(cams)) * self._share(problem, cams)
        assert problem.prior is not None
        out[groups] = decided(information, problem.prior.sigma, self.free[groups])
        return out

    def hold_but(self, free: Bools) -> None:
        """Solve these lens unknowns (g, 8) from now on; the others go back to where they were expected."""
        for g, camera in enumerate(self.lenses):
            vector = camera.vector
            back = np.flatnonzero(self.free[g] & ~free[g])
            if 0 in back:
                vector[:2] *= self.prior.at[g, 0] / vector[0]
            vector[back[back > 0] + 1] = self.prior.at[g, back[back > 0]]
            self.lenses[g] = camera.with_vector(vector)
        self.free = free
        self._normalised = None

    def state(self) -> tuple[Any, ...]:
        """What an adjustment and a triangulation change, to go back to."""
        kept = (self.rotations, self.centers, self.points, self.good, self.inlier, self.free)
        return (*(x.copy() for x in kept), list(self.lenses), self.noise)

    def go_back(self, state: tuple[Any, ...]) -> None:
        """Take a state again."""
        *kept, lenses, self.noise = state
        self.rotations, self.centers, self.points, self.good, self.inlier, self.free = (x.copy() for x in kept)
        self.lenses, self._normalised = list(lenses), None

    def refocus(self, lens: int, factor: float) -> None:
        """Another focal length of a lens, with its photos as far away as that makes them."""
        c = self.lenses[lens]
        self.lenses[lens] = c.with_vector(c.vector * np.array([factor, factor, 1, 1, 1, 1, 1, 1, 1]))
        mine = self.placed & (self.lens_of == lens)
        middle = np.median(self.points[self.good], axis=0)
        self.centers[mine] = middle + factor * (self.centers[mine] - middle)
        self._normalised = None

    def bounded_cost(self, bound: float) -> float:
        """Squared errors in sigmas of all observations of placed photos, none counting more than ``bound``; as much where
        there is no point."""
        e = self.errors()[self.placed[self.tracks.photo]] / self.noise.sigma(self.scale[self.placed[self.tracks.photo]])
        return float((np.minimum(e, bound) ** 2).sum())

    def relative_sigma(self) -> Array:
        """Expected error of each observation (M,), in thousandths of its photo's longer side."""
        return np.asarray(1000 * self.noise.sigma(self.scale) / self.sizes[self.tracks.photo].max(1))

    def grain(self) -> Array:
        """Length of a pixel at each point (T,), seen from the nearest photo that agrees about it; inf without one."""
        use = np.flatnonzero(self.inlier & self.placed[self.tracks.photo])
        photo = self.tracks.photo[use]
        far = np.linalg.norm(self.points[self.track_of[use]] - self.centers[photo], axis=1) / self.focal[photo]
        out = np.full(len(self.tracks), np.inf)
        np.minimum.at(out, self.track_of[use], far)
        return out

    def errors(self) -> Array:
        """Reprojection error in pixels of every observation (M,) against its track's point; inf without one."""
        n = self.normalised()
        photo = self.tracks.photo
        p = self.points[self.track_of] - self.centers[photo]
        c = np.einsum("mij,mj->mi", self.rotations[photo], p)
        z = np.where(c[:, 2] > 1e-9, c[:, 2], np.nan)
        e = np.hypot(c[:, 0] / z - n[:, 0], c[:, 1] / z - n[:, 1]) * self.focal[photo]
        ok = self.placed[photo] & self.good[self.track_of] & np.isfinite(e)
        return np.where(ok, e, np.inf)

    def measure_noise(self, gate: float) -> None:
        """Take the noise from what is left now, of observations within ``gate`` sigmas as they were."""
        e = self.errors()
        near = e < gate * self.noise.sigma(self.scale)
        near &= np.bincount(self.track_of[near], minlength=len(self.tracks))[self.track_of] >= 3
        if near.sum() < 100:
            return
        unknown = 6 * self.placed.sum() + 3 * len(np.unique(self.track_of[near]))
        found = fit_noise(e[near], self.scale[near], 1 - unknown / (2 * near.sum()))
        if found is not None:
            self.noise = found

    def split(self, threshold: float) -> None:
        """Observations of placed photos that lie off their track's point become tracks of their own."""
        off = self.placed[self.tracks.photo] & self.good[self.track_of] & ~self.inlier
        off &= self.errors() > threshold * self.noise.sigma(self.scale)
        tracks, origin = split_tracks(self.tracks, off)
        track = self.track_of[origin]
        first = tracks.start[:-1]
        fresh = off[origin[first]] if len(origin) else np.zeros(0, bool)
        points, good = self.points[track[first]], self.good[track[first]] & ~fresh
        self.xy, self.scale, self.inlier = self.xy[origin], self.scale[origin], self.inlier[origin] & ~off[origin]
        self.tracks, self.points, self.good = tracks, points, good
        self._index()

    def observations_per_photo(self) -> NDArray[np.int64]:
        """Agreeing observations of each placed photo (n,)."""
        agree = self.inlier & self.placed[self.tracks.photo]
        return np.bincount(self.tracks.photo[agree], minlength=len(self.placed))

    def lens_words(self) -> list[dict[str, list[str]]]:
        """Of each lens, what was solved and what was held where it was expected."""
        return [
            {"solved": [n for n, f in zip(LENS_UNKNOWNS, row) if f], "held": [n for n, f in zip(LENS_UNKNOWNS, row) if not f]}
            for row in self.free
        ]  # fmt: skip


def _rows(start: NDArray[np.int64], which: NDArray[np.int64]) -> NDArray[np.int64]:
    """Observations of some tracks, one after the other."""
    length = start[which + 1] - start[which]
    first = np.concatenate([[0], np.cumsum(length)])[:-1]
    return np.arange(int(length.sum())) + np.repeat(start[which] - first, length)
