"""From depth maps to one oriented, coloured cloud.

A pixel's point counts when enough other photos have, at the place where it projects to, a point of their own that
comes back to within a pixel and a small share of the depth; about the silhouette of what a photo sees, most of those that could. The agreeing points are averaged (first pass: :func:`accept`).
Of the photos that accepted a spot only one gives the point: the one that stands first in one order of all photos, by how
closely and squarely it sees the spot, in coarse steps, then by number (second pass: :func:`give`). Both passes are units of
work of each photo: no memory of all is needed.

That the order is the same for all, and that only accepted points take a spot, matters where photos are close together: were
each merely to yield to a neighbour that is a little better, in a chain of photos every one would.

References
----------
Galliani, S., Lasinger, K., Schindler, K. (2015). Massively parallel multiview stereopsis by surface normal
diffusion. ICCV (fusion by consistency of depth and reprojection).
Merrell, P., et al. (2007). Real-time visibility-based fusion of depth maps. ICCV (points that other photos see through).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, fields

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense import fusion_kernels as kernels
from vast_quarry.core.dense.patchmatch import DepthMap

Array = NDArray[np.float64]
Pose = tuple[Camera, Array, Array]
#: how many photos agree on each pixel (0: none), and the photo's place in the order at it (H, W)
Stand = tuple[NDArray[np.uint8], NDArray[np.int16]]

#: the usual spread counts as much as so many photos more
USUAL = 4
#: photos are matched with the same windows and err alike: the mean is off by so many times what single ones are off each other, and
#: by so many pixels of the depth map where these agree. Set on 36 photos of the milestone at Rough, tried at Dressed and on others
SPREAD, IN_COMMON = 1.25, 0.065
#: one step in the order of photos at a spot: so much better is better (logarithm)
RANK_STEP = float(np.log(1.1))
#: and so many steps a photo stands back where the spot lies at a rim of what it sees: there its colour is not the spot's own
RIM = 30
#: greatest difference of depths that agree, as a share, and greatest cost of a pixel that counts
RELATIVE, MOST_COST = 0.003, 0.7
#: of the 24 pixels about one, how many have to lie on its surface; and how far off it, in greatest differences of depth
SUPPORT, OFF_PLANE = 6, 1.5
#: about the silhouette of what a photo sees windows hold the backdrop too, and take it along: so many pixels from the rim this share
#: of the photos that could see a point have to agree. Measured on 72 photos five degrees apart and on 48 thirty apart, share of points
#: over 8 GSD off: 0.65 to 0.13 % and 0.08 to 0.08 %, for a thousandth of what is covered
STRIP, SHARE = 4, 0.75
#: where so many photos could see a pixel at most, this one included, two that agree are enough if its cost is no more than that
FEW, SURE = 4, 0.35
#: a surface that lies so many greatest differences of depth behind is behind. Measured on 48 photos of the milestone, share of
#: points over 4 GSD off, with as many as agree seeing through: 1.8 % at 5, 1.2 % at 1; with half as many at 1: 0.9 %, and one point
#: of fifty less
BEHIND = 1.0


@dataclass
class Cloud:
    """Points (N, 3), unit normals (N, 3), colours (N, 3) uint8, photos that agree (N,), GSD in world units (N,), and the expected
    error along the normal, one standard deviation in world units (N,), NaN where it was never stated; the photo that each was
    given by (N,), -1 where that is not known; and which were filled in where windows say little (N,)."""

    points: Array
    normals: NDArray[np.float32]
    colors: NDArray[np.uint8]
    views: NDArray[np.int32]
    gsd: NDArray[np.float32]
    sigma: NDArray[np.float32] = field(default_factory=lambda: np.zeros(0, np.float32))
    photo: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    filled: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))

    def __post_init__(self) -> None:
        if len(self.filled) != len(self.points):
            self.filled = np.zeros(len(self.points), bool)
        if len(self.photo) != len(self.points):
            self.photo = np.full(len(self.points), -1, np.int32)
        if len(self.sigma) != len(self.points):
            self.sigma = np.full(len(self.points), np.nan, np.float32)

    def only(self, which: NDArray[np.bool_]) -> Cloud:
        """Those points alone for which ``which`` (N,) is true."""
        return Cloud(**{f.name: getattr(self, f.name)[which] for f in fields(self)})


@dataclass
class Accepted:
    """What a photo accepted: for each pixel the mean point (H, W, 3), its normal (H, W, 3), how many photos agree (H, W) uint8,
    0 for none, the place of the photo in the order of those that see the spot (H, W) int16, greater is better, the expected
    error of the point along its normal in world units (H, W), and which were filled in (H, W)."""

    points: NDArray[np.float32]
    normals: NDArray[np.float32]
    views: NDArray[np.uint8]
    rank: NDArray[np.int16]
    sigma: NDArray[np.float32]
    filled: NDArray[np.bool_] = field(default_factory=lambda: np.zeros((0, 0), bool))

    def __post_init__(self) -> None:
        if self.filled.shape != self.views.shape:
            self.filled = np.zeros(self.views.shape, bool)


def _intrinsics(camera: Camera) -> Array:
    return np.array([camera.fx, camera.fy, camera.cx, camera.cy])


def _stacked(poses: list[Pose]) -> tuple[Array, Array, Array]:
    if not poses:
        return np.zeros((0, 4)), np.zeros((0, 3, 3)), np.zeros((0, 3))
    return (
        np.stack([_intrinsics(c) for c, _, _ in poses]),
        np.stack([r for _, r, _ in poses]),
        np.stack([c for _, _, c in poses]),
    )


def _padded(maps: list[NDArray], shape: tuple[int, ...], kind: type) -> NDArray:
    """Maps of several sizes in one array, zeros where one has nothing; the list is emptied, so that there is room for both."""
    out: NDArray = np.zeros((len(maps), *shape), kind)
    while maps:
        m = maps.pop()
        out[len(maps), : m.shape[0], : m.shape[1]] = m
    return out


def on_one_surface(
    ref: DepthMap, pose: Pose, relative: float = RELATIVE, most_cost: float = MOST_COST
) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Pixels (H, W) of a depth map that lie on one surface with enough about them, and those at a rim of it."""
    camera, rotation, _ = pose
    on, rim = np.zeros(ref.depth.shape, bool), np.zeros(ref.depth.shape, bool)
    kernels.supported(
        ref.depth, ref.normal, ref.cost, _intrinsics(camera), rotation, OFF_PLANE * relative, most_cost, SUPPORT, on, rim
    )  # fmt: skip
    return on, rim


def accept(
    ref: DepthMap,
    pose: Pose,
    sources: Iterable[tuple[DepthMap, Pose]],
    least_views: int = 3,
    reprojection: float = 1.0,
    relative: float = RELATIVE,
    most_cost: float = MOST_COST,
    wanted: NDArray[np.bool_] | None = None,
) -> Accepted:
    """Pixels of one photo that enough others agree about; only those that are ``wanted`` (H, W), where that is given.

    Parameters
    ----------
    ref : DepthMap
    pose : (Camera, rotation (3, 3), centre (3,))
    sources : iterable of (DepthMap, pose)
        Each is let go before the next is asked for.
    least_views : int
        Photos that have to agree, this one included.
    reprojection : float
        Greatest way back in pixels.
    relative : float
        Greatest difference of depth as a share of it.
    """
    camera, rotation, center = pose
    shape = ref.depth.shape
    on, rim = on_one_surface(ref, pose, relative, most_cost)
    if wanted is not None:
        on &= wanted
    maps, upright, poses = [], [], []
    for d, p in sources:
        # where there is none at all nothing stands; a depth that is not sure says nothing
        unsure = np.where(d.cost <= most_cost, -d.depth, -np.inf)
        maps.append(np.where((d.cost <= SURE) | (d.depth <= 0), d.depth, unsure).astype(np.float32))
        # an eighth of a degree is enough of others' normals, and takes a quarter of the memory
        upright.append(d.normal if d.normal.dtype == np.int8 else np.round(127 * d.normal).astype(np.int8))
        poses.append(p)
    size = tuple(np.max([m.shape for m in maps], axis=0)) if maps else (1, 1)
    depths, normals = _padded(maps, size, np.float32), _padded(upright, (*size, 3), np.int8)
    doubtful = cv2.dilate(rim.astype(np.uint8), np.ones((2 * STRIP + 1, 2 * STRIP + 1), np.uint8)) > 0
    out = Accepted(
        np.zeros((*shape, 3), np.float32), np.zeros((*shape, 3), np.float32), np.zeros(shape, np.uint8),
        np.zeros(shape, np.int16), np.zeros(shape, np.float32),
    )  # fmt: skip
    kernels.agree(
        ref.depth, ref.normal, ref.cost, on, rim, _intrinsics(camera), rotation, center, depths, normals,
        *_stacked(poses), reprojection, relative, most_cost, least_views, out.points, out.normals, out.views,
        out.rank, out.sigma, RANK_STEP, RIM, doubtful, SHARE, FEW, SURE,
    )  # fmt: skip
    out.sigma = expected_error(out.sigma, out.views, len(poses) + 1, ref.depth / camera.fx)
    return out


def expected_error(
    variance: NDArray[np.float32], views: NDArray[np.integer], asked: int, gsd: NDArray[np.float32]
) -> NDArray[np.float32]:
    """Standard deviation along the normal of means of what photos say of pixels (H, W), in world units.

    Parameters
    ----------
    variance : (H, W)
        Of what single photos say, from as few as agree: taken together with what is usual in this photo.
    views : (H, W)
        How many agree; 0 where there is no point.
    asked : int
        How many could have: where few of them agree, those that lie too far off are not among them, and the rest spread too little.
    gsd : (H, W)
        World units per pixel.
    """
    there = views >= 2
    if not there.any():
        return np.zeros(views.shape, np.float32)
    n = np.maximum(views, 1).astype(np.float32)
    in_pixels = variance / np.maximum(gsd, 1e-12) ** 2
    # the median of variances of few lies below their mean (Wilson and Hilferty 1931)
    below = (1 - 2 / (9 * np.maximum(n[there] - 1, 1))) ** 3
    usual = float(np.median(in_pixels[there] / below))
    pooled = ((n - 1) * in_pixels + USUAL * usual) / (n - 1 + USUAL)
    # two photos alone may err alike: nobody tells
    sigma = gsd * np.sqrt((SPREAD * asked / n) ** 2 * pooled + (IN_COMMON * np.maximum(1, 3 / n)) ** 2)
    return np.where(views > 0, sigma, 0).astype(np.float32)


def give(
    number: int,
    mine: Accepted,
    depth: NDArray[np.float32],
    pose: Pose,
    colors: NDArray[np.uint8],
    others: list[tuple[int, Stand, NDArray[np.float32], Pose]],
    reprojection: float = 1.0,
    relative: float = RELATIVE,
) -> Cloud:
    """Points that one photo gives to the cloud.

    Parameters
    ----------
    number : int
        Number of the photo.
    mine : Accepted
    depth : (H, W)
        Its depth map.
    pose : (Camera, rotation (3, 3), centre (3,))
    colors : (H, W, 3) uint8
        The undistorted photo.
    others : list of (number, (views, rank), depth map, pose)
        Photos that may have accepted the same spots.
    """
    camera, rotation, center = pose
    size = tuple(np.max([a[0].shape for _, a, _, _ in others], axis=0)) if others else (1, 1)
    out = np.zeros(mine.views.shape, np.uint8)
    kernels.give_way(
        mine.points, mine.views, mine.rank, _intrinsics(camera), rotation, center,
        _padded([a[0] for _, a, _, _ in others], size, np.uint8),
        _padded([a[1] for _, a, _, _ in others], size, np.int16),
        _padded([d for _, _, d, _ in others], size, np.float32),
        *_stacked([p for _, _, _, p in others]), np.array([n < number for n, *_ in others], bool),
        reprojection, relative, BEHIND * relative, out,
    )  # fmt: skip
    pick = out == 1
    gsd = (depth[pick] / camera.fx).astype(np.float32)
    return Cloud(
        mine.points[pick].astype(float), mine.normals[pick], colors[pick], mine.views[pick].astype(np.int32), gsd,
        mine.sigma[pick], np.full(int(pick.sum()), number, np.int32), mine.filled[pick],
    )  # fmt: skip


def merged(clouds: list[Cloud]) -> Cloud:
    """Several clouds as one."""
    return Cloud(**{f.name: np.concatenate([getattr(c, f.name) for c in clouds]) for f in fields(Cloud)})
