"""Evening out a project's photos: settings that are applied when photos are read; the files are never touched."""

from __future__ import annotations

import io
from collections.abc import Iterable
from typing import Any, Literal

import numpy as np
from PIL import Image
from pydantic import BaseModel
from sqlmodel import Session, select

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.falloff import Falloff, stops_at
from vast_quarry.core.photo.lensdb import falloff_of
from vast_quarry.core.photo.reading import find_photos
from vast_quarry.core.photo.tone import Tone, apply_tone
from vast_quarry.core.words import say
from vast_quarry.pipeline.apart import load_small, read_facts
from vast_quarry.pipeline.steps.photos import PhotosSettings, ToneSettings, tone_of_photo
from vast_quarry.server.models import Project, TonePreset
from vast_quarry.server.services.folders import Folders, NotFound, safe_path
from vast_quarry.server.services.judging import judged

#: bars of a histogram
BARS = 64
#: most presets that are kept
PRESETS = 200

FalloffFrom = Literal["nothing", "database", "photos"]


class ToneOut(BaseModel):
    """How photos are changed: all alike, unless they have their own; and how many of them are evened out one by one."""

    tone: ToneSettings
    #: photos that have their own settings
    own: dict[str, ToneSettings]
    evened: int
    #: spread (standard deviation over photos, stops) of exposure and of red over blue, before evening out
    spread_ev: float | None
    spread_wb: float | None
    #: stops that the lens takes from the corners and that are given back, largest over all photos; 0 when left alone
    corner_stops: float
    falloff_from: FalloffFrom


class Histogram(BaseModel):
    """Share of the pixels in each of 64 steps from black to white, before and after."""

    before: list[float]
    after: list[float]


def _settings(project: Project) -> dict[str, Any]:
    return dict(project.settings.get("photos", {}))


def _keep(project: Project, values: dict[str, Any]) -> None:
    project.settings = {**project.settings, "photos": {k: v for k, v in values.items() if v != {}}}


def tone_of(project: Project, folders: Folders) -> ToneOut:
    """What is set."""
    s = _of_photos(project)
    known = np.array([p.tone for p in judged(folders)[0].values() if p.tone])
    spread = (float(known.mean(1).std()), float((known[:, 0] - known[:, 2]).std())) if len(known) else (None, None)
    corners = [float(stops_at(f, np.ones(1))[0]) for f in s.falloff.values()]
    return ToneOut(
        tone=s.tone, own=s.tones, evened=len(s.gains), spread_ev=spread[0], spread_wb=spread[1],
        corner_stops=round(max(corners, default=0.0), 2), falloff_from=s.falloff_from if corners else "nothing",
    )  # fmt: skip


def _of_photos(project: Project) -> PhotosSettings:
    """What the Photos layer is told of how photos are read."""
    told = ("tone", "tones", "gains", "falloff", "falloff_from")
    return PhotosSettings(folder="", **{k: v for k, v in _settings(project).items() if k in told})


def set_tone(project: Project, tone: ToneSettings, paths: list[str] | None = None) -> None:
    """Change how photos are read: those given, which then have settings of their own; without any, all of them alike."""
    s = _settings(project)
    if paths is None:
        s["tone"] = tone.model_dump() if tone != ToneSettings() else {}
        s["tones"] = {}
    else:
        own = dict(s.get("tones", {}))
        common = ToneSettings.model_validate(s.get("tone", {}))
        for path in paths:
            own.pop(path, None)
            if tone != common:
                own[path] = tone.model_dump()
        s["tones"] = own
    _keep(project, s)


def even_out(project: Project, folders: Folders, on: bool) -> None:
    """Pull exposure and white balance of all photos together, by what judging measured on the subject; or let them be.

    Raises
    ------
    PlainError
        When the photos were not judged, or share nothing.
    """
    s = _settings(project)
    s["gains"] = {}
    if on:
        found = {path: p.tone for path, p in judged(folders)[0].items() if p.tone}
        if not found:
            raise PlainError("It is not known how the photos differ.", "Let them be judged first.")
        s["gains"] = {path: [-t for t in tone] for path, tone in found.items()}
    _keep(project, s)


def give_back_corners(project: Project, folders: Folders, by: FalloffFrom) -> None:
    """Give back what lenses take from the corners: as the lens database says, as judging measured, or not at all.

    Raises
    ------
    PlainError
        When neither knows.
    """
    s = _settings(project)
    falloff: dict[str, Falloff] = {}
    if by == "photos":
        known = judged(folders)[0]
        falloff = {path: (p.falloff[0], p.falloff[1], p.falloff[2]) for path, p in known.items() if p.falloff}
        if not known:
            raise PlainError("It is not known how dark the corners are.", "Let the photos be judged first.")
        if not falloff:
            raise PlainError("These photos do not show their corners to be darker.", "Leave them as they were shot.")
    elif by == "database":
        falloff = _by_database(folders)
        if not falloff:
            raise PlainError(
                "The lens database does not know how these lenses darken the corners.", "Take it from the photos."
            )
    s["falloff"] = {path: [round(c, 4) for c in f] for path, f in falloff.items()}
    s["falloff_from"] = by
    if by == "nothing":
        del s["falloff_from"]
    _keep(project, s)


def _by_database(folders: Folders) -> dict[str, Falloff]:
    out = {}
    for file in find_photos(folders.photos) if folders.photos.is_dir() else ():
        try:
            e = read_facts(file).exif
        except (PlainError, OSError):
            continue
        if e.make and e.model and e.focal_mm and e.f_number:
            far = float(e.extra.get("distance_m") or 2.0)
            found = falloff_of(e.make, e.model, e.lens, e.focal_mm, e.f_number, far)
            if found is not None:
                out[str(file.relative_to(folders.photos))] = found
    return out


def tone_for(project: Project, path: str) -> Tone | None:
    """How a photo is changed when it is read; nothing where it stays as it is."""
    return tone_of_photo(_of_photos(project), path)


def toned_picture(project: Project, folders: Folders, path: str, side: int) -> bytes:
    """A small JPEG of a photo as it will be read."""
    tone = tone_of_photo(_of_photos(project), path)
    rgb = apply_tone(load_small(safe_path(folders.photos, path), side), tone)
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, format="JPEG", quality=88)
    return out.getvalue()


def histogram(project: Project, folders: Folders, path: str) -> Histogram:
    """Levels of a photo before and after."""
    rgb = load_small(safe_path(folders.photos, path), 480)
    tone = tone_of_photo(_of_photos(project), path)

    def bars(picture: Any) -> list[float]:
        count = np.bincount((picture.mean(2) * BARS / 256).astype(int).ravel(), minlength=BARS)
        return [round(float(x), 5) for x in count / count.sum()]

    return Histogram(before=bars(rgb), after=bars(apply_tone(rgb, tone)))


def presets(session: Session) -> Iterable[TonePreset]:
    """Settings that were kept under a name, for all projects."""
    return session.exec(select(TonePreset).order_by(TonePreset.name)).all()


def keep_preset(session: Session, name: str, tone: ToneSettings) -> None:
    """Keep settings under a name; one of that name is replaced.

    Raises
    ------
    PlainError
        When the name is none, or there are too many.
    """
    clean = name.strip()
    if not 0 < len(clean) <= 60 or not clean.isprintable():
        raise PlainError("The name of kept settings has 1 to 60 letters.", "Choose another one.")
    known = session.get(TonePreset, clean)
    if known is None and len(list(presets(session))) >= PRESETS:
        raise PlainError(say("{most} settings are kept already.", most=PRESETS), "Forget some of them.")
    preset = known or TonePreset(name=clean)
    preset.tone = tone.model_dump()
    session.add(preset)
    session.commit()


def forget_preset(session: Session, name: str) -> None:
    """Forget kept settings.

    Raises
    ------
    NotFound
        When there are none of that name.
    """
    known = session.get(TonePreset, name)
    if known is None:
        raise NotFound("There are no kept settings of that name.")
    session.delete(known)
    session.commit()
