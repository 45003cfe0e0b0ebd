"""Cameras and lenses by name."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from pydantic import BaseModel

from vast_quarry.core.photo.lensdb import find_cameras, find_lenses
from vast_quarry.server import strict

router = strict.router("/api/v1/cameras", "cameras")


class CameraBodyOut(BaseModel):
    """A camera: crop factor, sensor in mm; of a phone's class also its lens."""

    name: str
    crop: float
    sensor_mm: tuple[float, float]
    focal_mm: float | None
    f_number: float | None


class LensOut(BaseModel):
    """A lens: focal lengths in mm, widest aperture."""

    name: str
    shortest_mm: float
    longest_mm: float
    widest: float | None


@router.get("")
def cameras(
    words: Annotated[str, Query(max_length=100)] = "", aspect: Annotated[float, Query(gt=0.2, lt=5)] = 1.5
) -> list[CameraBodyOut]:
    """Cameras whose names hold all words."""
    return [CameraBodyOut(**c.__dict__) for c in find_cameras(words, aspect)]


@router.get("/lenses")
def lenses(
    camera: Annotated[str, Query(max_length=200)], words: Annotated[str, Query(max_length=100)] = ""
) -> list[LensOut]:
    """Lenses that fit a camera."""
    return [LensOut(**x.__dict__) for x in find_lenses(camera, words)]
