"""Plans, and shooting them with the practice rig."""

from __future__ import annotations

import shutil
import tempfile
import threading
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, Field

from vast_quarry.core.camera import Camera
from vast_quarry.core.plan.optics import depth_of_field, ground_sample
from vast_quarry.core.plan.rings import fitting_distance, photos_per_ring, ring_elevations, rings
from vast_quarry.core.progress import Cancelled
from vast_quarry.core.rig.shoot import ShootSettings, focal_pixels, shoot
from vast_quarry.pipeline.step import Reporter
from vast_quarry.server.services.folders import Folders


class PlanIn(BaseModel):
    """What is to be photographed, with what; lengths in metres unless said otherwise."""

    shape: str = Field("box", pattern="^(box|cylinder|sphere)$")
    width: float = Field(0.34, gt=0.001, le=1000)
    depth: float = Field(0.21, gt=0.001, le=1000)
    height: float = Field(0.62, gt=0.001, le=1000)
    pixels_wide: int = Field(1200, ge=64, le=40_000)
    pixels_high: int = Field(900, ge=64, le=40_000)
    sensor_mm: float = Field(17.3, gt=0.5, le=200)
    focal_mm: float = Field(20.0, gt=0.5, le=3000)
    f_number: float = Field(8.0, gt=0.5, le=128)
    detail_mm: float = Field(1.0, gt=0.001, le=1000)
    overlap: float = Field(0.75, ge=0.3, le=0.95)
    rings: int = Field(3, ge=1, le=8)


class StationOut(BaseModel):
    """A planned camera."""

    rotation: list[list[float]]
    center: list[float]
    ring: int


class PlanOut(BaseModel):
    """A shooting plan."""

    distance: float
    gsd_mm: float
    fine_enough: bool
    near: float
    far: float
    whole_subject_sharp: bool
    per_ring: int
    elevations: list[float]
    total: int
    focal_px: float
    stations: list[StationOut]
    findings: list[str]


def make_plan(p: PlanIn) -> PlanOut:
    """Rings about the subject at the distance where it fills the frame."""
    focal = p.focal_mm / p.sensor_mm * p.pixels_wide
    camera = Camera.simple(p.pixels_wide, p.pixels_high, focal)
    extent = np.array([p.width, p.depth, p.height])
    distance = fitting_distance(extent, camera)
    radius = float(np.hypot(p.width, p.depth)) / 2
    per_ring = photos_per_ring(radius, distance, camera, p.overlap)
    elevations = ring_elevations(p.rings)
    pixel_mm = p.sensor_mm / p.pixels_wide
    near, far = depth_of_field(p.focal_mm, p.f_number, distance * 1000, circle_mm=1.5 * pixel_mm)
    gsd = ground_sample(distance, focal) * 1000
    sharp = near / 1000 < distance - radius and far / 1000 > distance + radius
    findings = []
    if gsd > p.detail_mm / 2:
        findings.append(
            f"Detail of {p.detail_mm:g} mm needs a GSD of {p.detail_mm / 2:.2g} mm; from here it is {gsd:.2g} mm. "
            "Go closer with more photos, or use a longer lens or more pixels."
        )
    if not sharp:
        findings.append("Not the whole depth of the subject is in focus. Close the aperture or step back.")
    if p.f_number > 16:
        findings.append("Diffraction softens the picture at such a small aperture.")
    stations = rings([0, 0, p.height * 0.47], distance, elevations, per_ring)
    return PlanOut(
        distance=distance, gsd_mm=gsd, fine_enough=gsd <= p.detail_mm / 2, near=near / 1000, far=min(far / 1000, 1e6),
        whole_subject_sharp=sharp, per_ring=per_ring, elevations=elevations, total=per_ring * p.rings, focal_px=focal,
        stations=[StationOut(rotation=s.rotation.tolist(), center=s.center.tolist(), ring=s.ring) for s in stations],
        findings=findings,
    )  # fmt: skip


class ShootIn(BaseModel):
    """What the practice rig is to photograph."""

    scene: str = Field("milestone", pattern="^(milestone|finial)$")
    rings: int = Field(3, ge=1, le=8)
    per_ring: int = Field(12, ge=1, le=200)
    width: int = Field(1200, ge=64, le=8000)
    height: int = Field(900, ge=64, le=8000)
    focal35: float = Field(40.0, gt=8, le=600)
    seed: int = Field(1, ge=0, le=10**6)


def focal35_of(p: PlanIn) -> float:
    """35 mm equivalent (by the diagonal) of a plan's lens."""
    focal = p.focal_mm / p.sensor_mm * p.pixels_wide
    return focal / focal_pixels(1.0, p.pixels_wide, p.pixels_high)


def shoot_project(folders: Folders, params: dict[str, Any], reporter: Reporter, cancelled: threading.Event) -> None:
    """Photograph a scene into a project; photos appear only when all are taken."""
    wanted = ShootIn.model_validate(params)
    settings = ShootSettings(
        scene=wanted.scene, rings=wanted.rings, per_ring=wanted.per_ring, width=wanted.width, height=wanted.height,
        focal35=wanted.focal35, seed=wanted.seed, heldout=0,
    )  # fmt: skip
    reporter.begin("plan", "Shooting with the practice rig")

    def progress(done: float, total: float) -> None:
        if cancelled.is_set():
            raise Cancelled
        reporter.stage("plan", "Shooting", done, total)

    folders.make()
    with tempfile.TemporaryDirectory(dir=folders.root) as temporary:
        out = Path(temporary) / "set"
        shoot(settings, out, progress)
        for p in sorted((out / "photos").iterdir()):
            shutil.move(p, folders.photos / p.name)
        if wanted.scene == "finial":  # a turntable needs its masks; the rig knows them
            for p in sorted((out / "masks").iterdir()):
                shutil.move(p, folders.masks / p.name)
