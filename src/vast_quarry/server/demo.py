"""The demo: the milestone of Nether Orrowby, finished, the same photos unprocessed, some of them spoilt to be
judged, a roof finial that is planned, a film of it, and photos of it on a turntable, to be masked.

The photos are shipped, and the finished project too (``scripts/demo.py`` makes both); judging and looking through the film
are queued as jobs, which the worker does once while the page is open.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
from PIL import Image
from sqlalchemy import Engine
from sqlmodel import Session, select

from vast_quarry.core.photo.tone import Tone, apply_tone
from vast_quarry.core.rig.defects import disc_kernel, motion_kernel
from vast_quarry.pipeline.packed import unpack
from vast_quarry.pipeline.plan import PlanIn, told
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import Folders, folders_of
from vast_quarry.server.services.jobs import add_job
from vast_quarry.server.services.plan import save_plan
from vast_quarry.server.services.videos import take_video

#: shipped in the package: the photos, and what was made of them
SHIPPED = Path(__file__).parents[1] / "demo"
FINISHED = "milestone-finished.zip"
#: when the shipped photos count as last changed (nanoseconds since 1970)
CHANGED = 1_790_000_000_000_000_000
#: a marker mat lies before the milestone
MAT = {"cameras": {"mat": "A3"}}
NAMES = ("Milestone, finished", "Milestone, to try")
#: the finial of the forge's roof, to be shot on a turntable
PLANNED = "Finial, planned"
#: the milestone's photos, some of them spoilt: number to kind of blur and its size in pixels, or stops
SPOILT = "Milestone, spoilt photos"
DEFECTS: dict[int, tuple[str, float]] = {4: ("motion", 9), 11: ("focus", 7), 17: ("light", -2.4), 23: ("light", 1.5)}
#: two laps of the finial
FILMED = "Finial, filmed"
FILM = "finial-two-laps.mp4"
#: the finial turned before a curtain, from two heights
TURNED = "Finial, on the turntable"
FINIAL = {
    "shape": "cylinder", "width": 0.24, "depth": 0.24, "height": 0.38, "way": "turntable", "hold": "tripod", "step_deg": 15.0,
    "laps": [{"rise_deg": 8, "count": 24}, {"rise_deg": 24, "count": 24}, {"rise_deg": 42, "count": 20}], "detail_mm": 1.4, "colors": ["#a0522d", "#6e3a26"], "light": {"kind": "lamps", "lamp_m": 1.2},
}  # fmt: skip


def add_demo(engine: Engine, data: Path) -> None:
    """Add the demo projects that are not there, and queue what is to be made of their photos."""
    with Session(engine) as session:
        there = {p.name for p in session.exec(select(Project)).all()}
        if NAMES[1] not in there:
            _add(session, data, Project(name=NAMES[1], grade="rough", settings=MAT), _photos)
        if NAMES[0] not in there:
            add_finished(session, data)
        if PLANNED not in there:
            plan = PlanIn.model_validate(FINIAL)
            project = Project(name=PLANNED)
            save_plan(project, plan, told(plan.work_out()))
            session.add(project)
            session.commit()
        for name, fill, kind, params in (
            (SPOILT, _spoil, "judge", {}),
            (FILMED, _film, "look", {"name": FILM}),
            (TURNED, _turn, None, {}),
        ):
            if name in there:
                continue
            project = Project(name=name)
            _add(session, data, project, fill)
            if kind:
                add_job(session, project.id or 0, kind, params)


def add_finished(session: Session, data: Path, unpacked: bool = True) -> int:
    """Add the finished project, or with its photos only; its number."""

    def fill(folders: Folders) -> None:
        _photos(folders)
        if unpacked:
            unpack(SHIPPED / FINISHED, folders.root)

    project = Project(name=NAMES[0], grade="dressed", settings=MAT)
    _add(session, data, project, fill)
    assert project.id is not None
    return project.id


def _add(session: Session, data: Path, project: Project, fill: Callable[[Folders], object]) -> None:
    """Add a project with its files: both are there, or neither is, whenever this is broken off."""
    session.add(project)
    session.flush()
    folders = folders_of(data, project.id or 0)
    shutil.rmtree(folders.root, ignore_errors=True)
    folders.make()
    try:
        fill(folders)
    except BaseException:
        session.rollback()
        shutil.rmtree(folders.root, ignore_errors=True)
        raise
    session.commit()


def _photos(folders: Folders) -> None:
    """The shipped photos of the milestone.

    What was made of photos goes by when they were last changed; a clone has them changed when it was made.
    """
    shutil.copytree(SHIPPED / "photos", folders.photos, dirs_exist_ok=True)
    for file in folders.photos.iterdir():
        os.utime(file, ns=(CHANGED, CHANGED))


def _spoil(folders: Folders) -> None:
    """Copies of the shipped photos with defects, one of them twice."""
    files = sorted((SHIPPED / "photos").iterdir())
    for k, file in enumerate(files, 1):
        target = folders.photos / file.name
        shutil.copy(file, target)
        if k not in DEFECTS:
            continue
        kind, amount = DEFECTS[k]
        with Image.open(file) as image:
            exif, rgb = image.getexif(), np.asarray(image.convert("RGB"))
        if kind == "light":
            rgb = apply_tone(rgb, Tone(brightness=amount))
        else:
            kernel = motion_kernel(amount, 15.0) if kind == "motion" else disc_kernel(amount)
            rgb = np.asarray(cv2.filter2D(rgb, -1, kernel), np.uint8)
        Image.fromarray(rgb).save(target, quality=93, subsampling=0, exif=exif)
    shutil.copy(files[7], folders.photos / f"again_{files[7].name}")


def _turn(folders: Folders) -> None:
    """The shipped photos of the finial on its turntable."""
    shutil.copytree(SHIPPED / "turntable", folders.photos, dirs_exist_ok=True)


def _film(folders: Folders) -> None:
    """The shipped film."""
    with (SHIPPED / FILM).open("rb") as file:
        take_video(folders, FILM, file)
