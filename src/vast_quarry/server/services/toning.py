"""Evening out a project's photos: settings that are applied when photos are read; the files are never touched."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from PIL import Image
from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.reading import load_small
from vast_quarry.core.photo.tone import Tone, apply_tone
from vast_quarry.pipeline.steps.photos import ToneSettings
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import Folders, safe_path
from vast_quarry.server.services.judging import judged

#: bars of a histogram
BARS = 64


class ToneOut(BaseModel):
    """How photos are changed: the same for all, and how many of them are evened out one by one."""

    tone: ToneSettings
    evened: int
    #: spread (standard deviation over photos, stops) of exposure and of red over blue, before evening out
    spread_ev: float | None
    spread_wb: float | None


class Histogram(BaseModel):
    """Share of the pixels in each of 64 steps from black to white, before and after."""

    before: list[float]
    after: list[float]


def _settings(project: Project) -> dict[str, Any]:
    return dict(project.settings.get("photos", {}))


def _keep(project: Project, values: dict[str, Any]) -> None:
    project.settings = {**project.settings, "photos": values}


def tone_of(project: Project, folders: Folders) -> ToneOut:
    """What is set."""
    s = _settings(project)
    known = np.array([p.tone for p in judged(folders)[0].values() if p.tone])
    spread = (float(known.mean(1).std()), float((known[:, 0] - known[:, 2]).std())) if len(known) else (None, None)
    return ToneOut(
        tone=ToneSettings.model_validate(s.get("tone", {})), evened=len(s.get("gains", {})), spread_ev=spread[0], spread_wb=spread[1]
    )  # fmt: skip


def set_tone(project: Project, tone: ToneSettings) -> None:
    """Change how all photos are read."""
    s = _settings(project)
    s["tone"] = tone.model_dump()
    if tone == ToneSettings():
        del s["tone"]
    _keep(project, s)


def even_out(project: Project, folders: Folders, on: bool) -> None:
    """Pull exposure and white balance of all photos together, by what judging measured on the subject; or let them be.

    Raises
    ------
    PlainError
        When the photos were not judged, or share nothing.
    """
    s = _settings(project)
    s.pop("gains", None)
    if on:
        found = {path: p.tone for path, p in judged(folders)[0].items() if p.tone}
        if not found:
            raise PlainError("It is not known how the photos differ.", "Let them be judged first.")
        s["gains"] = {path: [-t for t in tone] for path, tone in found.items()}
    _keep(project, s)


def _tone(project: Project, path: str) -> Tone | None:
    s = _settings(project)
    r, g, b = s.get("gains", {}).get(path, (0.0, 0.0, 0.0))
    tone = Tone(red=r, green=g, blue=b, **ToneSettings.model_validate(s.get("tone", {})).model_dump())
    return None if tone == Tone() else tone


def toned_picture(project: Project, folders: Folders, path: str, side: int) -> bytes:
    """A small JPEG of a photo as it will be read."""
    rgb = apply_tone(load_small(safe_path(folders.photos, path), side), _tone(project, path))
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, format="JPEG", quality=88)
    return out.getvalue()


def histogram(project: Project, folders: Folders, path: str) -> Histogram:
    """Levels of a photo before and after."""
    rgb = load_small(safe_path(folders.photos, path), 480)

    def bars(picture: Any) -> list[float]:
        count = np.bincount((picture.mean(2) * BARS / 256).astype(int).ravel(), minlength=BARS)
        return [round(float(x), 5) for x in count / count.sum()]

    return Histogram(before=bars(rgb), after=bars(apply_tone(rgb, _tone(project, path))))
