"""What each layer's step tells in figures: written into ``version.json`` and ``report.json``, and told by the API.

A version of an earlier program may lack some of them.
"""

from __future__ import annotations

from typing import Literal

from typing_extensions import TypedDict


class PhotosFigures(TypedDict, total=False):
    """Photos."""

    photos: int
    usable: int
    megapixels: float
    #: photos whose focal length neither EXIF nor the recipe tells
    focal_guessed: int


class MasksFigures(TypedDict, total=False):
    """Masks."""

    masked: int
    kept_percent: float | None
    #: the way that was taken (of several, the one that was suggested)
    way: str
    #: masks that should be looked at, and those that were mended by hand
    unsure: int
    edited: int
    #: versions whose model was projected
    made_from: dict[str, int]


class LensFigures(TypedDict, total=False):
    """One lens of an alignment: its photos, what was solved and what was held."""

    photos: int
    focal_px: float
    focal_from: str | None
    #: what the photos say of it, where they do
    focal_said_px: float | None
    size: list[int]
    solved: list[str]
    held: list[str]


class BoxFigures(TypedDict, total=False):
    """A keep box: its lowest and highest corner before it is turned about the upright, and by how many radians it is."""

    low: list[float]
    high: list[float]
    turn: float


class BarFigures(TypedDict, total=False):
    """A measured distance: how long it is, and in the model; how far marks of its ends miss."""

    name: str
    length_mm: float
    found_mm: float
    miss_mm: float
    miss_percent: float
    checks: bool
    marks_miss_px: float


class ScaleFigures(TypedDict, total=False):
    """Where the scale came from, how sure it is (one standard deviation), and each measured distance."""

    scale_from: Literal["mat", "bars", "height", "nothing"]
    scale_sigma_percent: float
    bars: list[BarFigures]


class CamerasFigures(ScaleFigures, total=False):
    """Cameras."""

    photos: int
    placed: int
    weak: int
    loose: int
    implausible: int
    #: photos of each group that hangs together, the largest first; one in most cases
    groups: list[int]
    #: photos that stand in other groups than the one that is used
    apart: int
    #: which group is used, 1 the largest
    group: int
    #: share of all features that masks left out, where they were obeyed
    features_left_out_percent: float
    #: share of what photos have in common that stands still behind the subject, where a backdrop does
    standing_still_percent: float
    pairs_tried: int
    pairs_verified: int
    points: int
    observations: int
    reprojection_error_px: float | None
    feature_noise_px: float | None
    #: stated standard deviation of camera centres, in per cent of their distance (median)
    center_sigma_percent: float | None
    lenses: list[LensFigures]
    #: what told which way is up
    upright_by: str
    #: the same, before it was levelled by hand
    upright_found_by: str
    #: how sure that is: sure, likely, a guess
    upright_sure: str
    keep_box: BoxFigures
    mat_corners: int
    mat_residual_mm: float


class PointsFigures(TypedDict, total=False):
    """Points."""

    points: int
    depth_maps: int
    views_median: float
    #: median, in the world's unit to a pixel
    gsd: float
    #: points that were cleared away by hand
    cleared: int
    #: share of the points that were filled in where windows say little
    filled_percent: float


class SurfaceFigures(TypedDict, total=False):
    """Surface."""

    triangles: int
    vertices: int
    triangles_before_decimation: int
    #: share of the vertices that no point lies near, and of those that were filled in where windows say little
    inferred_percent: float
    filled_percent: float
    #: bodies that the mesh falls into
    bodies: int
    open_edges: int
    #: how photos agree about the surface (mean correlation) before each turn of refining by them, and at the end
    photos_agree: list[float]
    size: list[float]


class HeldOut(TypedDict, total=False):
    """A photo that was kept back, held against the model: row in the alignment, likeness within the subject, share that was compared."""

    row: int
    photo: str
    psnr_db: float
    ssim: float
    compared_percent: float


class TextureFigures(TypedDict, total=False):
    """Texture."""

    atlas: int
    texels_per_photo_pixel: float
    atlas_fill_percent: float
    unseen_percent: float
    gain_spread_percent: float
    #: how much more colours change where another photo takes over than right beside that
    seam_visibility: float
    #: how far a photo lies off what the others show of the surface, in its pixels, and how many were moved for that
    misfit_px: float
    photos_moved: int
    #: share of what photos show of the surface that the others contradict
    contradicted_percent: float
    #: photos that were kept back to check by, and the middle of their likenesses
    held_out: list[HeldOut]
    psnr_db: float
    ssim: float


class FinishFigures(TextureFigures, total=False):
    """Finish: of a model that was textured again, those of its texture too."""

    triangles: int
    edits: int
    open_edges: int
    #: share of the texture that was carried over from the model before the edits; the rest was coloured from the photos
    carried_percent: float


Figures = (
    PhotosFigures | MasksFigures | CamerasFigures | PointsFigures | SurfaceFigures | TextureFigures | FinishFigures
)
LayerName = Literal["photos", "masks", "cameras", "points", "surface", "texture", "finish"]
