"""Units of the Masks step: a small look at a photo, what stands still before one stand of the camera, the mask of one photo."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.core.camera import Camera
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, is_whole, write_arrays
from vast_quarry.core.mask import carry, focus, keying, projected, still
from vast_quarry.core.mask.edits import edited, moved_rim
from vast_quarry.core.mask.files import read_mask
from vast_quarry.core.mask.network import by_network
from vast_quarry.core.mask.stands import SIDE as TINY
from vast_quarry.core.photo.reading import load_alpha, load_rgb, load_small, resized
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.words import Said
from vast_quarry.pipeline import mask_edits

Mask = NDArray[np.bool_]
#: a mask before edits, the way it was made, how sure it is, and what went wrong
Found = tuple[Mask | None, str, float | None, Said | None]
#: longer side at which what stands still is learnt (pixels)
STUDIED = 800


@dataclass(frozen=True)
class Glimpse:
    """A small look at one photo."""

    tiny: NDArray[np.uint8]
    #: whether its border is of one smooth backdrop, and how many times sharper than the rest is what is sharp; None: not looked at
    plain: bool | None
    focus: float | None


def glimpse(photo: str, closely: bool) -> Glimpse:
    """Look at a photo small; ``closely`` also at its backdrop and at what is in focus."""
    path = Path(photo)
    if not closely:
        return Glimpse(load_small(path, TINY), None, None)
    small = load_small(path, focus.SIDE)
    tiny = resized(small, TINY / max(small.shape[:2]))
    _, ratio, blurred = focus.in_focus(small)
    return Glimpse(tiny, keying.border_field(small) is not None, ratio if blurred else 1.0)


def study_stand(photos: list[str], target: str) -> None:
    """Learn what stands still in photos of one stand of the camera."""
    if is_whole(Path(target)):
        return
    frames = [load_small(Path(p), STUDIED) for p in photos]
    shape = frames[0].shape
    alike = np.stack([f for f in frames if f.shape == shape])
    write_arrays(Path(target), **still.study(alike).arrays())


@lru_cache(maxsize=2)
def _study(file: str) -> still.Study:
    with np.load(file) as f:
        return still.Study.from_arrays(dict(f))


@lru_cache(maxsize=1)
def _surface(file: str) -> RayScene:
    scene = RayScene()
    with np.load(file) as f:
        scene.add(f["vertices"], f["faces"])
    return scene


@lru_cache(maxsize=1)
def _points(file: str) -> tuple[NDArray[np.float64], float]:
    with np.load(file) as f:
        return f["points"], float(f["reach"])


@dataclass(frozen=True)
class Seat:
    """Where a photo was taken from, and what the model is: a surface, or points with how far they spread."""

    lens: Camera
    rotation: NDArray[np.float64]
    center: NDArray[np.float64]
    file: str
    surface: bool
    margin: float


@dataclass(frozen=True)
class Order:
    """What to do for one photo: ``way`` with what it needs, edits (as JSON) over it, and where the masks go."""

    photo: str
    width: int
    height: int
    target: str
    base: str
    way: str
    file: str | None = None
    black_keeps: bool = False
    alpha: bool = True
    colors: tuple[tuple[int, int, int], ...] = ()
    tolerance: float = 12.0
    softness: float = 0.0
    study: str | None = None
    network: str | None = None
    seat: Seat | None = None
    margin_px: float = 0.0
    edits: str = "[]"
    #: what an earlier version found of the same: way and sureness, where ``base`` is there
    known: tuple[str, float | None] | None = None


@dataclass(frozen=True)
class Made:
    """What came of one photo: the way its mask was made (empty without one), the share it keeps, how sure it is (0 to 1), and
    what went wrong."""

    way: str = ""
    share: float | None = None
    sure: float | None = None
    problem: Said | None = None
    edited: bool = False


def make_mask(order: Order) -> Made:
    """Make and save the mask of one photo."""
    target, kept_base = Path(order.target), Path(order.base)
    edits = mask_edits.several.validate_json(order.edits)
    try:
        found: Found
        if order.known is not None:
            found = (_kept(kept_base) if is_whole(kept_base) else None, *order.known, None)
        else:
            found = _found(order)
            if edits and found[0] is not None:
                _save(kept_base, found[0])
        base, way, sure, problem = found
        mask = edited(base, edits, order.width, order.height, lambda: load_rgb(Path(order.photo)))
    except PlainError as error:
        return Made(problem=error.said)
    if mask is None:
        return Made(problem=problem)
    _save(target, mask)
    if problem is None and not mask.any():
        problem = Said("The mask keeps nothing, so nothing of this photo counts.")
    return Made(way or "hand", float(mask.mean()), sure, problem, bool(edits))


def _save(path: Path, mask: Mask) -> None:
    with atomic_write(path) as f:
        Image.fromarray((mask * 255).astype(np.uint8)).save(f, format="PNG", compress_level=1)


def _kept(path: Path) -> Mask:
    return np.asarray(Image.open(path).convert("L")) > 127


def _found(order: Order) -> Found:
    """The mask before edits: what the photo brought itself goes before what can be found."""
    photo = Path(order.photo)
    if order.file:
        return read_mask(Path(order.file), order.width, order.height, order.black_keeps), "files", None, None
    alpha = load_alpha(photo) if order.alpha else None
    if alpha is not None:
        return alpha, "files", None, None
    mask, sure, problem = _by_way(order, photo)
    if mask is not None and order.margin_px:
        mask = moved_rim(mask, order.margin_px)
    return mask, order.way if mask is not None else "", sure, problem


def _by_way(order: Order, photo: Path) -> tuple[Mask | None, float | None, Said | None]:
    if order.colors and order.way in ("files", "colour"):
        return keying.key_out(load_rgb(photo), list(order.colors), order.tolerance, order.softness), None, None
    if order.way == "colour":
        return _backdrop(load_rgb(photo), order)
    if order.way == "still" and order.study:
        mask, sure = still.mask_of(load_rgb(photo), _study(order.study))
        return mask, sure, None if mask.any() else Said("Nothing in it differs from the backdrop, so it has no mask.")
    if order.way == "focus":
        mask, ratio, _ = focus.in_focus(load_rgb(photo))
        if ratio < focus.CLEAR:
            return None, None, Said("Subject and background are about as sharp, so it has no mask.")
        return mask, min(1.0, ratio / focus.CLEAR**3), None
    if order.way == "network" and order.network:
        mask, sure = by_network(load_rgb(photo), Path(order.network))
        return mask, sure, None if mask.any() else Said("The network finds nothing in it, so it has no mask.")
    if order.way == "model" and order.seat:
        return _projected(order.seat, load_rgb(photo))
    return None, None, None


def _backdrop(rgb: NDArray[np.uint8], order: Order) -> tuple[Mask | None, float | None, Said | None]:
    field = keying.border_field(rgb)
    if field is None:
        return None, None, Said("Its border shows no plain backdrop, so it has no mask.")
    mask = keying.key_field(rgb, field[0], order.tolerance, order.softness)
    if not mask.any():
        return None, None, Said("Nothing in it differs from the colour of the backdrop, so it has no mask.")
    # sure as far as the subject's colours differ clearly from the backdrop's
    return mask, field[2], None


def _projected(seat: Seat, rgb: NDArray[np.uint8]) -> tuple[Mask | None, float | None, Said | None]:
    lens = projected.small_lens(seat.lens)
    if seat.surface:
        shape = projected.surface_seen(_surface(seat.file), lens, seat.rotation, seat.center)
    else:
        points, reach = _points(seat.file)
        shape = projected.points_seen(points, lens, seat.rotation, seat.center, reach)
    mask, sure = projected.set_to_edges(rgb, shape, seat.margin)
    if not mask.any():
        return None, None, Said("Nothing of the model is seen from it, so it has no mask.")
    return mask, sure, None


def carry_chain(source: str, mask: str, orders: list[Order]) -> list[Made]:
    """Carry a finished mask from photo to photo, as far as it is sure."""
    rgb, kept = load_rgb(Path(source)), _kept(Path(mask))
    out: list[Made] = []
    for order in orders:
        try:
            target = load_rgb(Path(order.photo))
            kept, sure = carry.carried(rgb, kept, target)
        except PlainError as error:
            out.append(Made(problem=error.said))
            break
        if sure < carry.ENOUGH or not kept.any():
            break
        _save(Path(order.target), kept)
        out.append(Made("carry", float(kept.mean()), sure))
        rgb = target
    return out + [Made() for _ in range(len(orders) - len(out))]
