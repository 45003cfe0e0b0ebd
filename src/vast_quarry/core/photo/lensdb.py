"""Cameras and lenses by name: sensor sizes, focal lengths, apertures, from the open lens database that lensfunpy carries.

The database gives the crop factor ``36 x 24 diagonal / sensor diagonal``; the sensor's sides follow from the aspect of its
pictures. Phones are given as classes by sensor size, since their makers seldom publish more.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from vast_quarry.core.photo.falloff import Falloff, far_from_middle, fit_falloff
from vast_quarry.core.plan.optics import FRAME35

#: phones by the nominal size of their sensor: width and height in mm, real focal length of the main lens (as remembered)
PHONES: dict[str, tuple[float, float, float, float]] = {
    'phone, 1/3" sensor': (4.8, 3.6, 3.9, 2.2),
    'phone, 1/2.55" sensor': (5.6, 4.2, 4.3, 1.8),
    'phone, 1/1.7" sensor': (7.6, 5.7, 5.6, 1.8),
    'phone, 1/1.3" sensor': (9.8, 7.3, 6.9, 1.8),
    'phone, 1" sensor': (13.2, 8.8, 8.7, 1.9),
}


@dataclass(frozen=True)
class CameraBody:
    """A camera of the database; sensor in mm for pictures of 3:2 unless its class says otherwise."""

    name: str
    crop: float
    sensor_mm: tuple[float, float]
    focal_mm: float | None = None
    f_number: float | None = None


@dataclass(frozen=True)
class LensModel:
    """A lens: focal lengths and the widest aperture (None where not known)."""

    name: str
    shortest_mm: float
    longest_mm: float
    widest: float | None


@lru_cache(maxsize=1)
def _database() -> Any:
    import lensfunpy  # loads its database: only for those who look something up

    return lensfunpy.Database()


def sensor_of(crop: float, aspect: float = 1.5) -> tuple[float, float]:
    """Width and height of a sensor in mm from its crop factor and aspect."""
    diagonal = FRAME35 / crop
    height = diagonal / math.hypot(aspect, 1.0)
    return round(aspect * height, 2), round(height, 2)


def _named(maker: str, model: str) -> str:
    return model if model.lower().startswith(maker.lower().split()[0]) else f"{maker} {model}"


def _phones() -> list[CameraBody]:
    return [CameraBody(n, FRAME35 / math.hypot(w, h), (w, h), f, a) for n, (w, h, f, a) in PHONES.items()]


def find_cameras(words: str, aspect: float = 1.5, most: int = 30) -> list[CameraBody]:
    """Cameras whose names hold all words; phones as classes."""
    wanted = words.lower().split()
    out = [p for p in _phones() if all(w in p.name.lower() for w in wanted)]
    seen = set()
    for c in _database().cameras:
        name = _named(c.maker, c.model)
        if name not in seen and c.crop_factor > 0 and all(w in name.lower() for w in wanted):
            seen.add(name)
            out.append(CameraBody(name, float(c.crop_factor), sensor_of(float(c.crop_factor), aspect)))
    return out[:most]


@lru_cache(maxsize=256)
def crop_of(maker: str, model: str) -> float | None:
    """Crop factor of a camera as its EXIF names it; None when it is not in the database."""
    found = [c for c in _database().find_cameras(maker, model, loose_search=True) if c.crop_factor > 0]
    return float(found[0].crop_factor) if found else None


@lru_cache(maxsize=256)
def falloff_of(
    maker: str, model: str, lens: str | None, focal_mm: float, f_number: float, distance_m: float = 2.0
) -> Falloff | None:
    """How a lens darkens the corners at a focal length, aperture and distance; None where the database does not know.

    A camera whose lens cannot be changed needs no ``lens``.
    """
    import lensfunpy

    for body in _database().find_cameras(maker, model, loose_search=False)[:1]:
        found = _database().find_lenses(body, None, lens) if lens else _database().find_lenses(body)
        # without a name only a lens that is built in is sure
        if not found or (lens is None and len(found) > 1):
            continue
        size = 61, 41
        modifier = lensfunpy.Modifier(found[0], body.crop_factor, *size)
        modifier.initialize(
            focal_mm, f_number, distance_m, pixel_format=np.float32, flags=lensfunpy.ModifyFlags.VIGNETTING
        )
        gain = np.ones((size[1], size[0], 3), np.float32)
        if modifier.apply_color_modification(gain):
            v, u = np.mgrid[: size[1], : size[0]]
            r = far_from_middle(np.stack([u.ravel(), v.ravel()], axis=1).astype(np.float32), *size)
            return fit_falloff(r.astype(float), 1.0 / gain[..., 1].ravel().astype(float))
    return None


def find_lenses(camera: str, words: str = "", most: int = 60) -> list[LensModel]:
    """Lenses that fit a camera of the database."""
    body = next((c for c in _database().cameras if _named(c.maker, c.model) == camera), None)
    if body is None:
        return []
    wanted = words.lower().split()
    found = {}
    for lens in _database().find_lenses(body):
        name = _named(lens.maker, lens.model)
        if lens.min_focal and all(w in name.lower() for w in wanted):
            widest = float(lens.min_aperture) if lens.min_aperture else None
            found[name] = LensModel(name, float(lens.min_focal), float(lens.max_focal or lens.min_focal), widest)
    return list(found.values())[:most]
