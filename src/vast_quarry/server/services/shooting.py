"""Shooting a plan with the practice rig."""

from __future__ import annotations

import json
import shutil
import tempfile
import threading
from pathlib import Path
from typing import Any

from pydantic import BaseModel, Field

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.progress import Cancelled
from vast_quarry.core.rig.shoot import ShootSettings, focal_pixels, shoot
from vast_quarry.pipeline.planning import PlanIn
from vast_quarry.pipeline.step import Reporter
from vast_quarry.server.services.folders import Folders

#: where a project keeps the planned positions of its photos
SHOTS = "shots.json"


class ShootIn(BaseModel):
    """What the practice rig is to photograph, as planned."""

    scene: str = Field("milestone", pattern="^(milestone|finial)$")
    seed: int = Field(1, ge=0, le=10**6)
    plan: PlanIn = Field(default_factory=PlanIn)


def focal35_of(p: PlanIn) -> float:
    """35 mm equivalent (by the diagonal) of a plan's lens."""
    focal = p.focal_mm / p.sensor_mm * p.pixels_wide
    return focal / focal_pixels(1.0, p.pixels_wide, p.pixels_high)


def shoot_project(folders: Folders, params: dict[str, Any], reporter: Reporter, cancelled: threading.Event) -> None:
    """Photograph a scene into a project; photos appear only when all are taken."""
    wanted = ShootIn.model_validate(params)
    plan = wanted.plan.work_out()
    p = wanted.plan
    if p.pixels_wide > 8000 or p.pixels_high > 8000:
        raise PlainError("The practice rig makes photos of up to 8000 pixels a side.", "Plan with fewer pixels.")
    settings = ShootSettings(
        scene=wanted.scene,
        width=p.pixels_wide,
        height=p.pixels_high,
        focal35=focal35_of(p),
        seed=wanted.seed,
        heldout=0,
    )
    reporter.begin("plan", "Shooting with the practice rig")

    def progress(done: float, total: float) -> None:
        if cancelled.is_set():
            raise Cancelled
        reporter.stage("plan", "Shooting", done, total)

    folders.make()
    with tempfile.TemporaryDirectory(dir=folders.root) as temporary:
        out = Path(temporary) / "set"
        shoot(settings, out, progress, plan.stations)
        before = _free_prefix(folders, wanted.scene)
        known = shots_of(folders)
        for photo, station in zip(sorted((out / "photos").iterdir()), plan.stations):
            shutil.move(photo, folders.photos / f"{before}{photo.name}")
            known[f"{before}{photo.name}"] = {"center": station.center.tolist(), "rotation": station.rotation.tolist()}
        if wanted.scene == "finial":  # a turntable needs its masks; the rig knows them
            for mask in sorted((out / "masks").iterdir()):
                shutil.move(mask, folders.masks / f"{before}{mask.name}")
        write_json(folders.root / SHOTS, known)


def shots_of(folders: Folders) -> dict[str, Any]:
    """Planned positions of photos that were shot to a plan, by path."""
    try:
        return dict(json.loads((folders.root / SHOTS).read_bytes()))
    except (OSError, ValueError):
        return {}


def _free_prefix(folders: Folders, scene: str) -> str:
    """What goes before the names of a further shoot, so that no photo is overwritten."""
    k = 1
    while list(folders.photos.glob(f"{f'lap{k}_' if k > 1 else ''}{scene}_*")):
        k += 1
    return f"lap{k}_" if k > 1 else ""
