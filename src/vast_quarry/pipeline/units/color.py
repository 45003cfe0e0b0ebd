"""Units of the Texture step: the atlas laid out, photos made ready to colour from, and colours of vertices and of bands of texels.

All that a unit needs lies as files in one folder, and what it makes is written there: any number of processes gives the same
picture, and memory is bounded by the size of a photo and of a band, not by that of the atlas.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.core.formats.atomic import atomic_write, is_whole, write_arrays
from vast_quarry.core.mask.files import mask_at
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.texture import laying
from vast_quarry.core.texture.agreement import agreed, contradicted
from vast_quarry.core.texture.charts import make_charts
from vast_quarry.core.texture.coloring import ColorSum, PhotoView, Said, crisper, grain, prepare_photo, softened
from vast_quarry.core.texture.held_out import MIDDLE, Model, about, difference, drawn, likeness
from vast_quarry.core.texture.light import Light, find_light, sunlit, transfers, unlit
from vast_quarry.core.texture.packing import Atlas, unwrap
from vast_quarry.core.texture.texels import band_of_texels
from vast_quarry.pipeline.figures import HeldOut
from vast_quarry.pipeline.orders import PhotoOrder
from vast_quarry.pipeline.steps.masks import load_mask
from vast_quarry.pipeline.steps.surface import load_foot
from vast_quarry.pipeline.units.kept import keep_pictures, mapped_picture, picture_file, toned_photo

#: what a texel of a band is: between charts, coloured from its surroundings, seen by photos
BETWEEN, GUESSED, SEEN = 0, 1, 2


@dataclass(frozen=True)
class AtlasOrder:
    """How large the atlas is to be, and into how many pictures along each side it is cut."""

    size: int
    density: float
    largest: int
    tiles: int = 1


@lru_cache(1)
def _mesh(folder: str) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.float64]]:
    with np.load(Path(folder) / "mesh.npz") as f:
        vertices, faces = f["vertices"], f["faces"]
    return vertices, faces, vertex_normals(vertices, faces)


def _seen_above(folder: str, points: NDArray, vertices: NDArray) -> NDArray[np.bool_]:
    """Which points (K, 3) photos may show: below the foot they show the ground before the subject."""
    near = 1e-5 * float(np.ptp(vertices, axis=0).max())
    return np.asarray(points[:, 2] >= load_foot(Path(folder) / "mesh.npz") - near)


@lru_cache(1)
def _scene(folder: str) -> RayScene:
    scene = RayScene()
    scene.add(*_mesh(folder)[:2])
    return scene


@lru_cache(1)
def load_atlas(folder: str) -> Atlas:
    """The atlas that a unit laid out."""
    with np.load(Path(folder) / "atlas.npz") as f:
        return Atlas(f["uv"], f["wedge_vertex"], f["faces"], int(f["size"]), float(f["density"]))


@dataclass(frozen=True)
class Reading:
    """How photos are read: how much of what drawing makes soft is put back, whether they will be laid onto the surface by what all show,
    and whether in 16 bits."""

    crisp: float = 0.0
    lay: bool = False
    deep: bool = False


def prepare(
    folder: str,
    order: PhotoOrder | AtlasOrder,
    unit: float,
    picked: int,
    reading: Reading = Reading(),
) -> None:
    """Lay the atlas out, or make a photo ready; both need nothing but the mesh.

    Parameters
    ----------
    unit : float
        Pixels per world unit, about.
    picked : int
        Vertices whose colours are taken to compare photos by.
    """
    if isinstance(order, AtlasOrder):
        _lay_out(folder, order)
    else:
        _make_ready(folder, order, unit, picked, reading)


def _lay_out(folder: str, order: AtlasOrder) -> None:
    target = Path(folder) / "atlas.npz"
    if is_whole(target):
        return
    vertices, faces, _ = _mesh(folder)
    charts = make_charts(vertices, faces)
    atlas = unwrap(vertices, faces, charts, order.size, order.density, largest=order.largest, tiles=order.tiles)
    write_arrays(
        target, uv=atlas.uv, wedge_vertex=atlas.wedge_vertex, faces=atlas.faces, size=atlas.size, density=atlas.density
    )


def picked_vertices(count: int, picked: int) -> NDArray[np.int64]:
    """Numbers of the vertices that photos are compared by."""
    return np.random.default_rng(0).choice(count, min(picked, count), replace=False)


#: what is kept of a photo to colour from
KINDS = ("photo", "soft", "depth", "ramp")


def _photo_file(folder: str, row: int) -> Path:
    """What a photo shows of the vertices that photos are compared by; written last."""
    return Path(folder) / f"photo-{row:05d}.npz"


def _soft_width(order: PhotoOrder) -> float:
    """Width in pixels of what counts as soft in a photo."""
    return max(2.0, 0.005 * order.camera.width)


def _make_ready(folder: str, order: PhotoOrder, unit: float, picked: int, reading: Reading) -> None:
    target = _photo_file(folder, order.row)
    if is_whole(target):
        return
    vertices, _, normals = _mesh(folder)
    view = prepare_photo(
        crisper(toned_photo(order, reading.deep), reading.crisp), order.camera, order.rotation, order.center, _scene(folder), load_mask(order.mask),
        blur=_soft_width(order),
    )  # fmt: skip
    if reading.lay:
        by = laying.asked(len(vertices))
        write_arrays(_shown_file(folder, order.row, 0), **vars(laying.samples(view, vertices[by], normals[by], unit)))
    pick = picked_vertices(len(vertices), picked)
    one = ColorSum(vertices[pick], normals[pick], unit)
    one.add(view)
    colors, seen = one.colors()
    usable = seen & (colors.min(1) > 4) & (colors.max(1) < 250)
    keep_pictures(folder, order.row, {kind: getattr(view, kind) for kind in KINDS})
    write_arrays(target, index=np.flatnonzero(usable), colors=colors[usable])


def sampled_colors(folder: str, row: int) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """Which of the picked vertices a photo shows, and in what colours."""
    with np.load(_photo_file(folder, row)) as f:
        return f["index"], f["colors"]


def _shown_file(folder: str, row: int, turn: int) -> Path:
    return Path(folder) / f"shown-{turn}-{row:05d}.npz"


#: a photo that was laid onto the surface, in place of the one that was made ready
LAID = {"photo": "laid", "soft": "laid-soft"}


def _shown(folder: str, row: int, turn: int) -> laying.Samples:
    # one that was not moved shows what it did
    mine = _shown_file(folder, row, turn)
    with np.load(mine if mine.exists() else _shown_file(folder, row, 0)) as f:
        return laying.Samples(**{name: f[name] for name in f.files})


@dataclass(frozen=True)
class Voice:
    """A photo's say in the colours: its gain in each channel, and how sharp it is against the others."""

    order: PhotoOrder
    gain: NDArray[np.float64]
    sharp: float

    @property
    def brightness(self) -> float:
        """Its gain in brightness."""
        return float(self.gain @ laying.BRIGHTNESS)


def _view(folder: str, v: Voice, laid: bool = True) -> PhotoView:
    """A photo made ready, as it was ``laid`` onto the surface if it was."""
    o = v.order
    laid = laid and picture_file(folder, o.row, LAID["soft"]).exists()
    photo, soft, depth, ramp = (mapped_picture(folder, o.row, LAID.get(k, k) if laid else k) for k in KINDS)
    return PhotoView(o.camera, o.rotation, o.center, photo, soft, depth, ramp, v.gain)


def _views(folder: str, voices: list[Voice]) -> Iterator[tuple[Voice, PhotoView]]:
    """The photos, one at a time in memory."""
    for v in voices:
        yield v, _view(folder, v)


#: turns of laying photos, if any is moved in the first
TURNS = 2


def _told_file(folder: str, turn: int) -> Path:
    return Path(folder) / f"told-{turn}.npz"


def _fit_file(folder: str, row: int, turn: int) -> Path:
    return Path(folder) / f"fit-{turn}-{row:05d}.npz"


def sum_shown(folder: str, voices: list[Voice], count: int, turn: int) -> None:
    """Write what all photos together show at the vertices, of ``count``, that they are laid by."""
    if is_whole(_told_file(folder, turn)):
        return
    told = laying.Told.of(len(laying.asked(count)))
    for v in voices:
        told.add(_shown(folder, v.order.row, turn), v.brightness)
    write_arrays(_told_file(folder, turn), **vars(told))


@dataclass(frozen=True)
class Laid:
    """How far a photo lies off what the others show of the surface, in its pixels, in the middle, NaN where that is not told; and
    how far it is moved at most, 0 where it is not."""

    off: float
    moved: float


def lay(folder: str, voice: Voice, turn: int) -> Laid:
    """Find how a photo is moved to where it shows what the others do, and after the last turn move it, in ``laid-ROW.npy``."""
    row = voice.order.row
    target = _fit_file(folder, row, turn)
    if not is_whole(target):
        start = None
        if turn:
            with np.load(_fit_file(folder, row, turn - 1)) as f:
                start = f["move"]
        with np.load(_told_file(folder, turn)) as f:
            told = laying.Told(f["total"], f["weight"], f["photos"])
        mine, view = _shown(folder, row, turn), _view(folder, voice, laid=False)
        field, sure = laying.shifts(view, mine, told.others(mine, voice.brightness), start)
        move = laying.taken_up(field, sure)
        if move.any() and turn < TURNS - 1:
            write_arrays(_shown_file(folder, row, turn + 1), **vars(laying.moved(view, mine, move)))
        elif move.any():
            photo = laying.laid(view.photo, move)
            soft = softened(photo, view.ramp, _soft_width(voice.order))
            keep_pictures(folder, row, {LAID["photo"]: photo, LAID["soft"]: soft})
        off = np.linalg.norm(field, axis=-1)[sure]
        write_arrays(target, move=move, off=float(np.median(off)) if len(off) else float("nan"))
    with np.load(target) as f:
        return Laid(float(f["off"]), float(np.linalg.norm(f["move"], axis=-1).max(initial=0.0)))


def _summed(
    folder: str, voices: list[Voice], points: NDArray, normals: NDArray, unit: float, expected: NDArray | None
) -> ColorSum:
    """Colours of points from all photos."""
    total = ColorSum(points, normals, unit, expected)
    for v, view in _views(folder, voices):
        total.add(view, v.sharp)
    return total


def color_vertices(
    folder: str, first: int, last: int, voices: list[Voice], unit: float, agree: bool
) -> dict[int, tuple[int, int]]:
    """Colours of some vertices, in ``vertices-FIRST.npz``, and where photos should ``agree`` what most say of them.

    Returns of each photo (by its row) how many of them it was asked for, and at how many the others contradict it.
    """
    target = Path(folder) / f"vertices-{first:09d}.npz"
    if not is_whole(target):
        vertices, _, normals = _mesh(folder)
        points, n = vertices[first:last], normals[first:last]
        more: dict[str, NDArray] = {}
        if agree:
            said = Said(points, n, unit)
            for v, view in _views(folder, voices):
                said.add(view, v.sharp)
            more["expected"] = agreed(said)
            more["asked"], more["against"] = said.counts(contradicted(said, more["expected"]), len(voices))
        colors, seen = _summed(folder, voices, points, n, unit, more.get("expected")).colors()
        seen &= _seen_above(folder, points, vertices)
        write_arrays(target, colors=colors, seen=seen, **more)
    if not agree:
        return {}
    with np.load(target) as f:
        return {v.order.row: (int(a), int(b)) for v, a, b in zip(voices, f["asked"], f["against"])}


#: where the light of each vertex by the sky alone lies; rays begin so many edges off the surface; rays to the sun of a texel
SKY_LIGHT, LIFT, SUN_RAYS = "vertex-sky.npy", 1.5, 4


def _lift(folder: str) -> float:
    vertices, faces, _ = _mesh(folder)
    return LIFT * float(np.linalg.norm(vertices[faces[:, 0]] - vertices[faces[:, 1]], axis=1).mean())


def light_of(folder: str, picked: int) -> Light:
    """How the subject was lit, by the colours of some of its vertices that photos saw."""
    vertices, _, normals = _mesh(folder)
    pick = picked_vertices(len(vertices), picked)
    pick = pick[_seen_above(folder, vertices[pick], vertices)]
    colors = np.load(Path(folder) / "vertex-colors.npy", mmap_mode="r")[pick]
    return find_light(_scene(folder), vertices[pick], normals[pick], colors, _lift(folder))


def sky_light(folder: str, first: int, last: int, light: Light) -> NDArray[np.float32]:
    """Light of some vertices by the sky alone, against the middle of all."""
    vertices, _, normals = _mesh(folder)
    parts = transfers(_scene(folder), vertices[first:last], normals[first:last], _lift(folder))
    return np.asarray(parts @ light.sky / light.middle, np.float32)


def sun_light(folder: str, points: NDArray, normals: NDArray, light: Light) -> NDArray[np.float32]:
    """Light of places by the sun alone, against the middle of all; shadows are sharp."""
    if light.sun is None:
        return np.zeros(len(points), np.float32)
    lit = sunlit(_scene(folder), points, normals, light.sun, _lift(folder), SUN_RAYS)
    return np.asarray(light.sun_strength * lit / light.middle, np.float32)


@dataclass(frozen=True)
class Unlit:
    """The light that is to be taken out of the colours, and how much of it."""

    light: Light
    amount: float


def color_band(
    folder: str,
    first: int,
    last: int,
    voices: list[Voice],
    unit: float,
    out_of: Unlit | None = None,
    deep: bool = False,
) -> None:
    """Rows ``first`` to ``last`` of the atlas, in ``band-FIRST.npz``: the picture in 8 or 16 bits, and what each texel is."""
    target = Path(folder) / f"band-{first:06d}.npz"
    if is_whole(target):
        return
    vertices, _, normals = _mesh(folder)
    atlas = load_atlas(folder)
    texels = band_of_texels(atlas, first, last)
    corner = atlas.wedge_vertex[atlas.faces]
    points, n = texels.mix(vertices, corner), texels.mix(normals, corner)
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-9)
    expected = Path(folder) / "vertex-expected.npy"
    told = texels.mix(np.asarray(np.load(expected, mmap_mode="r")), corner) if expected.exists() else None
    total = _summed(folder, voices, points, n, unit, told)
    colors, seen = total.colors()
    seen &= _seen_above(folder, points, vertices)
    guessed = np.load(Path(folder) / "vertex-colors.npy", mmap_mode="r")
    colors[~seen] = np.clip(texels.mix(np.asarray(guessed), corner)[~seen], 0, 255)
    if out_of is not None:
        sky = np.load(Path(folder) / SKY_LIGHT, mmap_mode="r")
        lit = texels.mix(np.asarray(sky)[:, None], corner)[:, 0] + sun_light(folder, points, n, out_of.light)
        colors = unlit(colors, lit, out_of.amount)
    picture = np.zeros((last - first, atlas.size, 3), np.uint16 if deep else np.uint8)
    kind = np.full((last - first, atlas.size), BETWEEN, np.uint8)
    source = np.zeros((last - first, atlas.size), np.uint16)
    picture[texels.row, texels.column] = (colors / grain(picture) + 0.5).astype(picture.dtype)
    kind[texels.row, texels.column] = np.where(seen, SEEN, GUESSED)
    rows = np.array([v.order.row + 1 for v in voices] or [0], np.uint16)
    source[texels.row, texels.column] = np.where(seen, rows[total.who], 0)
    write_arrays(target, picture=picture, kind=kind, source=source)


def check_photo(folder: str, texture: str, order: PhotoOrder, target: str) -> HeldOut | None:
    """Hold a photo that gave no colour against the model: ``TARGET-photo.jpg``, ``-model.jpg`` and ``-off.jpg``, and figures.

    None where it shows nothing of the model.
    """
    atlas = load_atlas(folder)
    with Image.open(texture) as picture:
        model = Model(_scene(folder), atlas.uv, atlas.faces, np.asarray(picture.convert("RGB")))
    photo = toned_photo(order)
    mask = load_mask(order.mask)
    if mask is not None:
        mask = mask_at(mask, photo.shape[1], photo.shape[0])
    made, share = drawn(model, order.camera, order.rotation, order.center)
    alike = likeness(photo, made, share, mask)
    if alike is None:
        return None
    part = about(share > 0)
    model_alone = np.where(share[..., None] > 0, alike.evened, np.uint8(MIDDLE))
    for name, image in (("photo", photo), ("model", model_alone), ("off", difference(photo, alike))):
        with atomic_write(Path(f"{target}-{name}.jpg")) as out:
            Image.fromarray(image[part]).save(out, format="JPEG", quality=90)
    return {
        "row": order.row, "psnr_db": round(alike.psnr, 2), "ssim": round(alike.ssim, 4),
        "compared_percent": round(100 * alike.share, 1),
    }  # fmt: skip
