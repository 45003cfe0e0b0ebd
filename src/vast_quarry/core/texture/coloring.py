"""Colour of surface points from all photos that see them well, without seams.

Every photo is split into a soft part (blurred within the subject) and the fine rest. The soft parts of all photos are
averaged with weights that change slowly over the surface, so that no seam shows; of the fine rests those of the best
photos dominate (fourth power of the weight), so that nothing is smeared. Before, one gain per photo and channel evens
out exposure and white balance.

A photo's weight at a point: square of the cosine of the viewing angle, square of the resolution there, falling to
zero towards edges of what it sees (frame, mask, things in front). The fine rest is taken between the photo's pixels by a cubic:
by lines it would lose as much sharpness as a blur of 0.4 pixels takes.

References
----------
Burt, P., Adelson, E. (1983). A multiresolution spline with application to image mosaics. ACM TOG 2(4).
Waechter, M., Moehrle, N., Goesele, M. (2014). Let there be color! Large-scale texturing of 3D reconstructions. ECCV.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, undistort, view_limit
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.texture.coloring_kernels import accumulate, said_by, turned

Floats = NDArray[np.float32]
Array = NDArray[np.float64]
#: width in pixels (standard deviation) of what is finest in a photo
PIXEL = 0.7


@dataclass
class PhotoView:
    """A photo ready to colour from.

    Attributes
    ----------
    photo : (H, W, 3) uint8 or uint16
        The photo as it is, with its distortion.
    soft : (a, b, 3) float32
        The same, 0 to 255, blurred within the subject, at a smaller size; what is left of the photo without it is fine.
    depth : (h, w) float32
        Depth of the mesh, perhaps at a smaller size; inf where it is not seen.
    ramp : (h, w) float32
        0 at edges of what the photo sees to 1 well inside.
    gain : (3,)
        Factors that even out its colours.
    """

    camera: Camera
    rotation: Array
    center: Array
    photo: NDArray
    soft: Floats
    depth: Floats
    ramp: Floats
    gain: Array = field(default_factory=lambda: np.ones(3))


def grain(picture: NDArray) -> np.float32:
    """What one step of a picture's values is in 0 to 255: of 16 bits a 257th."""
    return np.float32(255 / np.iinfo(picture.dtype).max)


@lru_cache(1)
def _ideal(camera: Camera) -> Floats:
    """Ideal coordinates (H W, 2) of the pixels of a camera, row by row: most photos of a set are of one."""
    u, v = np.meshgrid(np.arange(camera.width, dtype=float), np.arange(camera.height, dtype=float))
    return undistort(np.stack([u, v], -1).reshape(-1, 2), camera).astype(np.float32)


def pixel_rays(camera: Camera, rotation: Array, center: Array) -> Floats:
    """Rays (H W, 6) along every pixel of a (distorted) camera, row by row, of depth one a unit of their direction."""
    xy = _ideal(camera)
    rays = np.empty((len(xy), 6), np.float32)
    turned(xy, np.asarray(rotation, float), np.asarray(center, float), rays)
    return rays


def mesh_depth(scene: RayScene, camera: Camera, rotation: Array, center: Array) -> Floats:
    """Depth (H, W) of the meshes along every pixel of a (distorted) camera; inf for none."""
    return scene.cast(pixel_rays(camera, rotation, center))["t"].reshape(camera.height, camera.width)


def edge_ramp(depth: Floats, keep: NDArray[np.bool_] | None, reach: float, jump: float = 0.02) -> Floats:
    """0 at jumps of depth, at the mask's rim and at the frame, rising to 1 over ``reach`` pixels."""
    seen = np.isfinite(depth)
    if keep is not None:
        seen = seen & keep
    filled = np.where(np.isfinite(depth), depth, 0).astype(np.float32)
    high = cv2.dilate(filled, np.ones((3, 3), np.uint8))
    low = cv2.erode(np.where(np.isfinite(depth), depth, np.float32(1e30)), np.ones((3, 3), np.uint8))
    smooth = seen & (high - low < jump * np.maximum(low, 1e-9))
    padded = np.pad(smooth.astype(np.uint8), 1)
    distance = cv2.distanceTransform(padded, cv2.DIST_L2, 3)[1:-1, 1:-1]
    return np.clip((distance - 1.0) / reach, 0, 1).astype(np.float32)


def seen_of_mesh(
    scene: RayScene, camera: Camera, rotation: Array, center: Array, keep: NDArray[np.bool_] | None
) -> tuple[Floats, Floats]:
    """Depth of the mesh, and how far inside of what a photo sees each pixel lies, both at half its size; ``keep`` is its mask at that size."""
    small = camera.scaled(max(camera.width // 2, 1), max(camera.height // 2, 1))
    depth = mesh_depth(scene, small, rotation, center)
    return depth, edge_ramp(depth, keep, reach=max(3.0, 0.006 * small.width))


def prepare_photo(
    rgb: NDArray,
    camera: Camera,
    rotation: Array,
    center: Array,
    scene: RayScene,
    mask: NDArray[np.bool_] | None,
    blur: float,
) -> PhotoView:
    """A photo made ready to colour from.

    Parameters
    ----------
    rgb : (H, W, 3) uint8 or uint16
        The photo as it is (with its distortion).
    mask : (H, W) bool, optional
    blur : float
        Width in pixels of what counts as soft.
    """
    keep = None
    if mask is not None:
        size = (max(camera.width // 2, 1), max(camera.height // 2, 1))
        keep = cv2.resize(mask.astype(np.float32), size, interpolation=cv2.INTER_AREA) > 0.99
    depth, ramp = seen_of_mesh(scene, camera, rotation, center, keep)
    return PhotoView(camera, rotation, center, rgb, softened(rgb, ramp, blur), depth, ramp)


def crisper(rgb: NDArray, amount: float) -> NDArray:
    """A photo (H, W, 3) whose finest detail is made stronger (unsharp mask), to make up for what drawing a model takes from it.

    A pixel averages over its own area. A photo of a texture out of photos has that twice: :data:`PIXEL` is about the width of
    both, and an ``amount`` of a half makes up for one.
    """
    if amount <= 0:
        return rgb
    return np.asarray(cv2.addWeighted(rgb, 1 + amount, cv2.GaussianBlur(rgb, (0, 0), PIXEL), -amount, 0), rgb.dtype)


def softened(rgb: NDArray, ramp: Floats, blur: float) -> Floats:
    """A photo (H, W, 3) or its brightness (H, W), 0 to 255, blurred within what counts (``ramp`` above 0), at the size that such a blur needs."""
    height, width = rgb.shape[:2]
    # a Gaussian two samples wide is drawn well by lines between its samples
    step = max(1, int(blur / 2))
    size = (max(1, width // step), max(1, height // step))
    inside = cv2.resize((ramp > 0).astype(np.uint8), (width, height), interpolation=cv2.INTER_NEAREST)
    mine = cv2.resize(cv2.bitwise_and(rgb, rgb, mask=inside).astype(np.float32), size, interpolation=cv2.INTER_AREA)
    share = cv2.resize(inside.astype(np.float32), size, interpolation=cv2.INTER_AREA)
    whole = cv2.resize(rgb, size, interpolation=cv2.INTER_AREA).astype(np.float32)
    sigma = blur * size[0] / width
    weight = cv2.GaussianBlur(share, (0, 0), sigma) + 1e-4
    if rgb.ndim == 3:
        weight = weight[..., None]
    return np.asarray(grain(rgb) * (cv2.GaussianBlur(mine, (0, 0), sigma) + 1e-4 * whole) / weight, np.float32)


#: how far off what is expected a photo may be where nothing is known: as far as it likes
ANY = 1e6
#: photos that are asked for the colour of a point, the best
ASKED = 12


class ColorSum:
    """Sums of the colours of points over photos.

    Parameters
    ----------
    points, normals : (N, 3)
    scale : float
        Typical pixels per world unit, to keep weights near one.
    expected : (N, 4), optional
        Colours that most photos agree about, and how far off them one may be (:func:`.agreement.agreed`): what is farther off counts less.
    """

    def __init__(self, points: NDArray, normals: NDArray, scale: float, expected: NDArray | None = None) -> None:
        self.points = np.ascontiguousarray(points, np.float32)
        self.normals = np.ascontiguousarray(normals, np.float32)
        n = len(points)
        self.expected = (
            np.zeros((n, 3), np.float32) if expected is None else np.ascontiguousarray(expected[:, :3], np.float32)
        )
        self.spread = (
            np.full(n, ANY, np.float32) if expected is None else np.ascontiguousarray(expected[:, 3], np.float32)
        )
        self.low, self.high = np.zeros((n, 3), np.float32), np.zeros((n, 3), np.float32)
        self.low_weight, self.high_weight = np.zeros(n, np.float32), np.zeros(n, np.float32)
        #: which of the photos, in the order they were added, counts most for the fine part of each colour; -1 for none
        self.who = np.full(n, -1, np.int32)
        self._best, self._photos = np.zeros(n, np.float32), 0
        self._unit = 1.0 / max(scale, 1e-12) ** 2

    def add(self, view: PhotoView, sharpness: float = 1.0, tolerance: float = 0.004, power: int = 4) -> None:
        """Add what a photo says, weighed by its ``sharpness`` against the set's."""
        accumulate(
            self.points, self.normals, view.rotation, view.center, view.camera.vector, view_limit(view.camera), view.photo,
            grain(view.photo), view.soft, view.depth, view.ramp, view.gain, sharpness * self._unit, tolerance, power, self.expected, self.spread,
            self._photos, self.low, self.low_weight, self.high, self.high_weight, self._best, self.who,
        )  # fmt: skip
        self._photos += 1

    def colors(self) -> tuple[Floats, NDArray[np.bool_]]:
        """Colours (N, 3) in 0..255, and which points any photo saw."""
        seen = self.low_weight > 1e-12
        low = self.low / np.maximum(self.low_weight, 1e-12)[:, None]
        high = self.high / np.maximum(self.high_weight, 1e-30)[:, None]
        return np.clip(low + np.where(self.high_weight[:, None] > 1e-30, high, 0), 0, 255), seen


class Said:
    """Soft colours that the best :data:`ASKED` photos give each of some points (N, 3)."""

    def __init__(self, points: NDArray, normals: NDArray, scale: float) -> None:
        self.points = np.ascontiguousarray(points, np.float32)
        self.normals = np.ascontiguousarray(normals, np.float32)
        self.colors = np.zeros((len(points), ASKED, 3), np.float32)
        self.weights = np.zeros((len(points), ASKED), np.float32)
        self.who = np.full((len(points), ASKED), -1, np.int32)
        self._photos = 0
        self._unit = 1.0 / max(scale, 1e-12) ** 2

    def add(self, view: PhotoView, sharpness: float = 1.0, tolerance: float = 0.004) -> None:
        """Ask a photo."""
        said_by(
            self.points, self.normals, view.rotation, view.center, view.camera.vector, view_limit(view.camera),
            view.photo.shape[:2], view.soft, view.depth, view.ramp, view.gain, sharpness * self._unit, tolerance, self._photos,
            self.colors, self.weights, self.who,
        )  # fmt: skip
        self._photos += 1

    def counts(self, marked: NDArray[np.bool_], photos: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Of each of the photos, in the order they were asked: points it was asked for, and those of them that are marked (N, ASKED)."""
        asked = self.who >= 0
        return (
            np.bincount(self.who[asked], minlength=photos),
            np.bincount(self.who[asked & marked], minlength=photos),
        )


def even_gains(samples: list[tuple[NDArray[np.int64], Floats]], points: int, photos: int, rounds: int = 8) -> Array:
    """Gains (photos, 3) that bring the photos' colours of shared points together (logarithms, robust, mean gain one).

    ``samples`` holds for each photo the numbers of points it sees and their colours (K, 3), 1..255.
    """
    gain = np.zeros((photos, 3))
    for _ in range(rounds):
        total, count = np.zeros((points, 3)), np.zeros(points)
        for k, (index, color) in enumerate(samples):
            total[index] += np.log(np.maximum(color, 1.0)) + gain[k]
            count[index] += 1
        mean = total / np.maximum(count, 1)[:, None]
        for k, (index, color) in enumerate(samples):
            shared = count[index] >= 2
            if shared.sum() >= 20:
                gain[k] = np.median(mean[index[shared]] - np.log(np.maximum(color[shared], 1.0)), axis=0)
        gain -= gain.mean(0)
    return np.exp(gain)


def spread_over_mesh(colors: Floats, seen: NDArray[np.bool_], faces: NDArray[np.int64], rounds: int = 400) -> Floats:
    """Colours (N, 3) of vertices no photo saw, spread from their neighbours over the mesh."""
    if seen.all() or not seen.any():
        return colors
    out, known = colors.copy(), seen.copy()
    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    edges = np.concatenate([edges, edges[:, ::-1]])
    for _ in range(rounds):
        if known.all():
            break
        use = known[edges[:, 0]] & ~known[edges[:, 1]]
        if not use.any():
            break
        to = edges[use, 1]
        count = np.bincount(to, minlength=len(out))
        new = count > 0
        for k in range(3):
            out[new, k] = np.bincount(to, weights=out[edges[use, 0], k], minlength=len(out))[new] / count[new]
        known |= new
    out[~known] = colors[seen].mean(0)
    return out
