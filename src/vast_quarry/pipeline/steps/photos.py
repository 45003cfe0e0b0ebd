"""Photos: what is there, what of it can be used, and with which lens it was taken."""

from __future__ import annotations

import hashlib
import json
import os
from concurrent.futures import BrokenExecutor
from pathlib import Path
from typing import Any, ClassVar, Literal

import cv2
from pydantic import BaseModel, ConfigDict, Field, field_validator

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import is_whole, write_json
from vast_quarry.core.photo.exif import Exif
from vast_quarry.core.photo.reading import find_photos, load_rgb, read_facts, sharpness
from vast_quarry.core.photo.tone import Tone
from vast_quarry.core.plan.optics import focal_pixels
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.apart import apart
from vast_quarry.pipeline.contents import content_of
from vast_quarry.pipeline.figures import PhotosFigures
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.pipeline.step import Context, StepSettings, setting

#: time in which at least one photo is read, before they are read one by one (s); a large one takes a few
PATIENCE = 60.0


class ToneSettings(BaseModel):
    """How all photos are changed when they are read; see :class:`vast_quarry.core.photo.tone.Tone`."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    brightness: float = Field(0.0, ge=-4, le=4)
    shadows: float = Field(0.0, ge=0, le=1)
    contrast: float = Field(0.0, ge=-1, le=1)
    saturation: float = Field(0.0, ge=-1, le=1)
    black: float = Field(0.0, ge=0, le=0.4)
    white: float = Field(1.0, ge=0.6, le=1)
    corners: float = Field(0.0, ge=-2, le=2)
    denoise: float = Field(0.0, ge=0, le=1)


class PhotosSettings(StepSettings):
    """Which photos."""

    folder: str = Field(description="Folder that holds the photos")
    frames: str | None = Field(None, description="Folder with frames of videos that lie among the photos")
    more: str | None = Field(None, description="Folder with further sets of photos, each in a folder of its name")
    leave_out: tuple[str, ...] = Field((), description="Photos not to be used, by their paths below the folder")
    focal_as_35_mm: float | None = setting(
        None,
        "Focal length where photos do not say",
        "For photos without one in their data, as it would be on a 35 mm camera. Empty: it is guessed, then solved.",
        main=True, unit="mm", usual=(18, 200), gt=0, le=3000,
    )  # fmt: skip
    focals: dict[str, float] = Field(
        default_factory=dict, description="Focal length of single photos as on a 35 mm camera (mm), by path"
    )
    judged_out: tuple[str, ...] = Field(
        (), description="The same for photos that judging proposes to leave out, where nobody has decided"
    )
    gains: dict[str, tuple[float, float, float]] = Field(
        default_factory=dict, description="Stops that red, green and blue of photos are made brighter by, by path"
    )
    tone: ToneSettings = Field(
        default_factory=ToneSettings, description="How all photos are changed when they are read"
    )
    tones: dict[str, ToneSettings] = Field(
        default_factory=dict, description="The same for photos that have settings of their own, by path"
    )
    falloff: dict[str, tuple[float, float, float]] = Field(
        default_factory=dict, description="Stops by r^2, r^4, r^6 that lenses take from the corners (r = 1), by path"
    )
    falloff_from: Literal["nothing", "database", "photos"] = Field(
        "nothing", description="Where the falloff comes from"
    )

    @field_validator("focal_as_35_mm", mode="before")
    @classmethod
    def _none_was_0(cls, value: Any) -> Any:
        return value or None


def photo_folders(settings: PhotosSettings) -> list[Path]:
    """Folders in which the photos lie."""
    return [Path(f) for f in (settings.folder, settings.frames, settings.more) if f]


def tone_of_photo(settings: PhotosSettings, path: str) -> Tone | None:
    """How a photo is changed when it is read; None when it is left as it is."""
    r, g, b = settings.gains.get(path, (0.0, 0.0, 0.0))
    f2, f4, f6 = settings.falloff.get(path, (0.0, 0.0, 0.0))
    own = settings.tones.get(path, settings.tone).model_dump()
    tone = Tone(red=r, green=g, blue=b, fall2=f2, fall4=f4, fall6=f6, **own)
    return None if tone == Tone() else tone


class Photo(BaseModel):
    """One photo of a set; ``number`` is its place in the list and its name in units of work."""

    number: int
    path: str
    #: folder that its path begins in, where that is not the folder of the photos
    base: str | None = None
    sha: str = ""
    width: int | None = None
    height: int | None = None
    focal: float | None = None
    focal_source: str | None = None
    lens_key: str = ""
    #: where the lens looks on the photo (pixels), when that is not its middle: frames that were cropped
    center: tuple[float, float] | None = None
    #: number and time (s) of a frame of a video
    frame: int | None = None
    time: float | None = None
    #: how it is changed when it is read
    tone: dict[str, float] | None = None
    orientation: int = 1
    taken: str | None = None
    sharpness: float | None = None
    usable: bool = True
    problem: Sentence | None = None


class PhotoList(BaseModel):
    """All photos of a version, readable or not.

    Folders below the project's own are kept as seen from the version, so that all can be moved together.
    """

    folder: str
    photos: list[Photo]

    @property
    def usable(self) -> list[Photo]:
        """Those that can be used."""
        return [p for p in self.photos if p.usable]

    def file(self, photo: Photo) -> Path:
        """Where a photo lies."""
        return Path(photo.base or self.folder) / photo.path


def read_photo_list(folder: Path) -> PhotoList:
    """The list that a version of Photos holds."""
    listed = PhotoList.model_validate_json((folder / "photos.json").read_bytes())
    there = lambda kept: os.path.normpath(folder.resolve() / kept)  # noqa: E731
    listed.folder = there(listed.folder)
    for photo in listed.photos:
        photo.base = None if photo.base is None else there(photo.base)
    return listed


def _as_kept(folder: Path, version: Path) -> str:
    """A folder as a list keeps it: one below the project's (the version lies two levels below) as seen from there."""
    folder, version = folder.resolve(), version.resolve()
    return os.path.relpath(folder, version) if folder.is_relative_to(version.parents[2]) else str(folder)


def clean_name(path: str) -> str:
    """A file name fit to be shown: control characters replaced."""
    return "".join(c if c.isprintable() else "\N{REPLACEMENT CHARACTER}" for c in path)


def _crop(exif: Exif) -> list[int] | None:
    source = exif.extra.get("source")
    return list(source["crop"]) if source and any(source["crop"]) else None


def _center(exif: Exif) -> tuple[float, float] | None:
    """Where the lens looks on a cropped frame: the middle of the whole one."""
    crop = _crop(exif)
    if crop is None:
        return None
    w, h = exif.extra["source"]["full"]
    return (w - 1) / 2 - crop[0], (h - 1) / 2 - crop[1]


def _moment(exif: Exif) -> dict[str, Any]:
    source = exif.extra.get("source")
    return {"frame": source["frame"], "time": source["time"]} if source else {}


def inspect_photo(number: int, folder: str, path: str, unit: str) -> dict[str, Any]:
    """Unit of work: facts of one photo, decoded once to be sure that it is whole."""
    done = Path(unit)
    if is_whole(done):
        return json.loads(done.read_bytes())
    photo = Photo(number=number, path=path)
    try:
        path.encode("utf-8")
    except UnicodeEncodeError:
        plain = path.encode("utf-8", "replace").decode()
        photo = Photo(
            number=number, path=plain, usable=False, problem=Said("has a name that is no proper text; rename it.")
        )
        write_json(done, photo.model_dump(mode="json"), durable=False)
        return photo.model_dump(mode="json")
    try:
        file = Path(folder) / path
        facts = read_facts(file)
        photo = Photo(
            number=number, path=path, sha=content_of(file), width=facts.width, height=facts.height, focal=facts.focal,
            focal_source=facts.focal_source, orientation=facts.exif.orientation, taken=facts.exif.taken,
            lens_key="|".join(
                str(x)
                for x in (
                    facts.exif.make, facts.exif.model, facts.exif.lens, facts.exif.focal_mm, facts.exif.focal35_mm,
                    facts.exif.orientation, facts.width, facts.height, *(_crop(facts.exif) or ()),
                )
            ),
            center=_center(facts.exif), **_moment(facts.exif),
        )  # fmt: skip
        rgb = load_rgb(file)
        photo.sharpness = sharpness(cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY))
    except PlainError as error:
        photo.usable, photo.problem = False, error.said
    except (OSError, MemoryError) as error:
        photo.usable, photo.problem = False, say("cannot be read ({why}).", why=error)
    write_json(done, photo.model_dump(mode="json"), durable=False)
    return photo.model_dump(mode="json")


def _inspect_apart(number: int, folder: str, path: str, unit: str) -> dict[str, Any]:
    """The same in a process of its own: a photo that takes that down is told like any other that cannot be read."""
    try:
        return apart(inspect_photo, patience=PATIENCE)(number, folder, path, unit)
    except PlainError as error:
        photo = Photo(number=number, path=path, usable=False, problem=error.said)
        write_json(Path(unit), photo.model_dump(mode="json"), durable=False)
        return photo.model_dump(mode="json")


class PhotosStep:
    """Finds and checks photos."""

    layer: ClassVar[str] = "photos"
    title: ClassVar[str] = "Photos"
    parents: ClassVar[tuple[str, ...]] = ()
    settings_model: ClassVar[type[StepSettings]] = PhotosSettings

    def run(self, context: Context) -> PhotosFigures:
        """Write ``photos.json``."""
        settings: PhotosSettings = context.settings
        folder = Path(settings.folder)
        paths = [(base, str(p.relative_to(base))) for base in photo_folders(settings) for p in find_photos(base)]
        if not paths:
            raise PlainError(
                say("There are no photos in {folder}.", folder=folder),
                "Photos are JPEG, PNG, TIFF, WebP, TGA, BMP, HEIC or camera raw files, or videos.",
            )
        units = context.folder / "units"
        units.mkdir(exist_ok=True)
        # a unit belongs to a file as it is now: name, size and time of change
        jobs = []
        for n, (base, path) in enumerate(paths):
            stat = (base / path).stat()
            tag = hashlib.sha256(f"{path}|{stat.st_size}|{stat.st_mtime_ns}".encode("utf-8", "replace")).hexdigest()[
                :16
            ]
            jobs.append((n, str(base), path, str(units / f"{n:05d}-{tag}.json")))
        try:
            read = context.each("Reading photos", inspect_photo, jobs, patience=PATIENCE)
        except BrokenExecutor:  # one of them took its process down, or holds it: which one, shows one by one
            read = []
            for k, job in enumerate(jobs):
                context.stage("Reading photos one by one", k, len(jobs))
                read.append(_inspect_apart(*job))
        photos = [Photo.model_validate(d) for d in read]
        for photo, (base, _) in zip(photos, paths):
            photo.base = _as_kept(base, context.folder) if base != folder else None
        first_of: dict[str, str] = {}
        for photo in photos:
            if photo.usable and photo.path in settings.leave_out:
                photo.usable, photo.problem = False, Said("was left out by you.")
            if photo.usable and photo.path in settings.judged_out:
                photo.usable, photo.problem = False, Said("was left out, as judging proposes.")
            if photo.usable and photo.sha in first_of:
                photo.usable = False
                photo.problem = say("is the same file as {photo}.", photo=clean_name(first_of[photo.sha]))
            elif photo.usable:
                first_of[photo.sha] = photo.path
            if photo.problem:
                context.found(say("{name} {problem}", name=clean_name(photo.path), problem=photo.problem))
        for photo in photos:
            if (own := settings.focals.get(photo.path)) and photo.width and photo.height:
                photo.focal = focal_pixels(own, photo.width, photo.height)
                photo.focal_source = "typed in"
            elif settings.focal_as_35_mm and photo.focal_source == "guessed" and photo.width and photo.height:
                photo.focal = focal_pixels(settings.focal_as_35_mm, photo.width, photo.height)
                photo.focal_source = "typed in"
            tone = tone_of_photo(settings, photo.path)
            photo.tone = tone.as_dict() if tone else None
        listed = PhotoList(folder=_as_kept(folder, context.folder), photos=photos)
        usable = listed.usable
        if len(usable) < 2:
            raise PlainError(
                "Only one photo can be used; a model needs at least two, better 20 or more, that overlap."
                if usable
                else "None of the photos can be used; a model needs at least two, better 20 or more, that overlap.",
                "Add photos of the same subject from other places.",
            )
        write_json(context.folder / "photos.json", listed.model_dump(mode="json"))
        return {
            "photos": len(photos),
            "usable": len(usable),
            "megapixels": round(sum((p.width or 0) * (p.height or 0) for p in usable) / 1e6, 2),
            "focal_guessed": sum(p.focal_source == "guessed" for p in usable),
        }
