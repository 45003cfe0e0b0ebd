"""A whole shoot with the practice rig: photos with EXIF, exact masks, and the truth.

Everything that can go wrong in a photo is a named defect that can be switched off.
"""

from __future__ import annotations

import io
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from PIL.TiffImagePlugin import IFDRational
from scipy.optimize import least_squares

from vast_quarry.core.camera import Camera, distort, undistort
from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.formats.ply import PlyData, write_ply
from vast_quarry.core.plan.mats import make_mat
from vast_quarry.core.plan.optics import focal_pixels
from vast_quarry.core.plan.planner import make_plan
from vast_quarry.core.plan.request import Request
from vast_quarry.core.plan.rings import Station, fitting_distance, ring_elevations, rings
from vast_quarry.core.pose import look_at
from vast_quarry.core.progress import Progress, silent
from vast_quarry.core.rig.backdrops import BACKDROPS, make_backdrop
from vast_quarry.core.rig.body import FAULTS, finished
from vast_quarry.core.rig.captures import CAPTURES, capture_stations, parse_capture
from vast_quarry.core.rig.catalogue import SIZES, build_scene
from vast_quarry.core.rig.defects import Planted, plant
from vast_quarry.core.rig.light import bake_light, ray_scene
from vast_quarry.core.rig.render import Shot, Studio, rippled, to_srgb8
from vast_quarry.core.rig.scenes import Scene, lay_sheet, tip_over
from vast_quarry.core.rig.truth import camera_entry, count_views, set_info, truth_folder

#: what can be switched off with ``--off``
DEFECTS = ("distortion", "blur", "vignetting", "noise", "drift", "shake", "jitter")
#: our made-up camera: sensor width and height of the 4:3 body in millimetres
SENSOR = (17.3, 13.0)
#: what of the yard's corner is wanted: width, depth, height (m)
YARD = (2.9, 2.3, 1.7)


@dataclass(frozen=True)
class ShootSettings:
    """What to shoot.

    ``focal35`` is the focal length in millimetres for a 36 x 24 mm frame (by diagonal).
    """

    scene: str = "milestone"
    rings: int = 3
    per_ring: int = 12
    width: int = 1200
    height: int = 900
    focal35: float = 40.0
    seed: int = 1
    fill: float = 0.85
    heldout: int = 6
    exif: bool = True
    quality: int = 93
    #: paper of a marker mat that lies beside the subject; none when empty
    mat: str = ""
    planted: tuple[Planted, ...] = ()
    off: frozenset[str] = field(default_factory=frozenset)
    #: faults of a real camera that are on (see body.FAULTS)
    on: frozenset[str] = field(default_factory=frozenset)
    #: a capture such as ``clip:30`` instead of rings
    capture: str = ""
    #: what stands behind a turntable (see backdrops.BACKDROPS)
    backdrop: str = "soft"
    #: degrees by which a subject on a turntable is tipped over before it is shot
    tipped: float = 0.0

    def has(self, defect: str) -> bool:
        """Whether a defect is on."""
        return defect not in self.off


@dataclass(frozen=True)
class Exposure:
    """How the made-up camera was set, for its EXIF."""

    shutter_s: float = 1 / 125
    f_number: float = 8.0
    iso: float = 200


def rig_camera(settings: ShootSettings) -> Camera:
    """The simulated camera; a mild barrel distortion and a slightly off-centre axis unless switched off."""
    f = focal_pixels(settings.focal35, settings.width, settings.height) * 1.013  # EXIF is never quite right
    w, h = settings.width, settings.height
    if not settings.has("distortion"):
        return Camera.simple(w, h, f)
    cx, cy = (w - 1) / 2 + 0.006 * w, (h - 1) / 2 - 0.004 * w
    return Camera(w, h, f, f, cx, cy, k1=-0.085, k2=0.045, k3=0.0, p1=0.0006, p2=-0.0004)


def stations_for(scene: Scene, camera: Camera, settings: ShootSettings) -> list[Station]:
    """The stations of a shoot: rings about the middle of the subject, exact on a turntable, unsteady by hand."""
    if scene.name == "yard" and not settings.capture:
        w, d, h = YARD
        wanted = Request(
            kind="corner", width=w, depth=d, height=h, pixels_wide=camera.width, pixels_high=camera.height,
            focal_mm=camera.fx, sensor_mm=camera.width, rings=2, detail_mm=1e4 / camera.width, overlap=0.7,
        )  # fmt: skip
        return make_plan(wanted, 1500).stations
    target = np.array([0.0, 0.0, scene.size[2] * 0.47])
    distance = fitting_distance(scene.size, camera, settings.fill)
    if settings.capture:
        return capture_stations(*parse_capture(settings.capture), target, distance, settings.seed)
    jitter = 0.0 if scene.turntable or not settings.has("jitter") else 0.02
    stood = rings(target, distance, ring_elevations(settings.rings), settings.per_ring, jitter, settings.seed)
    return _in_subject(scene, stood)


def _in_subject(scene: Scene, stations: list[Station]) -> list[Station]:
    """Stations in the room, as the subject has them."""
    back = scene.room.inverse()
    poses = [back.pose(s.rotation, s.center) for s in stations]
    return [replace(s, rotation=r, center=c) for s, (r, c) in zip(stations, poses)]


def shoot(
    settings: ShootSettings, out: Path, progress: Progress = silent, planned: list[Station] | None = None
) -> None:
    """Photograph a scene into ``out``: ``photos/``, ``masks/``, ``truth/``.

    Stations that were planned are taken as they are; without them rings are made from the settings.

    Raises
    ------
    ValueError
        For an unknown scene or impossible settings.
    FileExistsError
        When ``out`` already holds photos.
    """
    if settings.width < 64 or settings.height < 64:
        raise ValueError("the rig's photos are at least 64 x 64 pixels")
    if strange := settings.on - set(FAULTS):
        raise ValueError(f"no fault called {', '.join(sorted(strange))}; there are: {', '.join(FAULTS)}")
    if "sun" in settings.on and settings.scene == "finial":
        raise ValueError("a sun stands still: it is not for what turns on a table")
    if "key-light" in settings.on and settings.scene != "finial":
        raise ValueError("a key light that stays in the room is for what turns on a table: the finial")
    if settings.backdrop not in BACKDROPS:
        raise ValueError(f"no backdrop called {settings.backdrop!r}; there are: {', '.join(BACKDROPS)}")
    if settings.tipped and settings.scene != "finial":
        raise ValueError("only what stands on a turntable can be tipped over: the finial")
    unknown = settings.off - set(DEFECTS)
    if unknown:
        raise ValueError(f"no defect called {', '.join(sorted(unknown))}; there are: {', '.join(DEFECTS)}")
    if (out / "photos").exists():
        raise FileExistsError(f"{out} already holds a shoot")
    studio = Set(settings, progress)
    scene, rays, camera = studio.scene, studio.rays, studio.camera
    stations = planned or stations_for(scene, camera, settings)
    total = len(stations) + settings.heldout + 3
    for folder in ("photos", "masks"):
        (out / folder).mkdir(parents=True)
    truth = truth_folder(out)
    names, entries, views = [], [], []
    for i, station in enumerate(stations):
        shot = studio.shot(station, i)
        photo, cover = studio.expose(shot, i)
        lens = true_lens(shot)
        stem = f"{settings.scene}_{i + 1:03d}"
        (out / "photos" / f"{stem}.jpg").write_bytes(jpeg_photo(photo, settings, i))
        (out / "masks" / f"{stem}.png").write_bytes(png_mask(cover))
        names.append(f"{stem}.jpg")
        entries.append(camera_entry(f"{stem}.jpg", lens, station.rotation, station.center))
        views.append((lens, station.rotation, station.center))
        progress(4 + i, total)
    write_json(truth / "cameras.json", {"cameras": entries})
    write_ply(truth / "mesh.ply", PlyData(scene.subject.vertices, faces=scene.subject.faces))
    np.savez_compressed(truth / "visibility.npz", count=count_views(scene, rays, views))
    shape = settings.capture.replace(":", "") or f"{settings.rings}x{settings.per_ring}"
    shape = f"planned_{len(stations)}" if planned else shape
    name = f"{settings.scene}_{shape}_s{settings.seed}"
    write_json(
        truth / "info.json",
        set_info(scene, name, views, names, {d.photo: f"{d.kind} {d.amount:g}" for d in settings.planted}),
    )
    write_json(truth / "heldout.json", {"cameras": _heldout(studio, stations, truth, progress, total)})
    progress(total, total)


class Set:
    """A scene that is built and lit, with the camera before it."""

    def __init__(self, settings: ShootSettings, progress: Progress = silent) -> None:
        self.settings, self.camera = settings, rig_camera(settings)
        gsd = SIZES.get(settings.scene, 0.5) / (settings.fill * min(settings.width, settings.height))
        self.scene = build_scene(settings.scene, settings.seed, gsd)
        if settings.tipped:
            tip_over(self.scene, settings.tipped)
        if settings.mat:
            paper, _, shape = settings.mat.partition(" ")
            size = self.scene.size
            lay_sheet(self.scene, make_mat(paper, shape == "round"), (0.0, -float(size[1]) / 2 - 0.20))
        progress(1, 100)
        pushed = bool(settings.capture) and CAPTURES[parse_capture(settings.capture)[0]].pushed
        if pushed:
            # a hand pushes the subject alone: what it stands on stays
            del self.scene.bodies[1:]
        self.rays = ray_scene(self.scene)
        bake_light(self.scene, self.rays, sun="sun" in settings.on)
        progress(3, 100)
        on = settings.on
        self.studio = Studio(
            self.scene, self.rays, gsd, 1.0 if "gloss" in on else self.scene.gloss, 0.85 if "bald" in on else 0.0, "window" in on,
            "key-light" in on,
        )  # fmt: skip
        self._behind = "desk" if pushed else settings.backdrop if self.scene.turntable else ""
        self._backdrops: dict[int, NDArray[np.float32]] = {}
        self._rng = np.random.default_rng(settings.seed + 77)

    def take(
        self, station: Station, i: int, focus_error: float = 0.0, light: float = 1.0
    ) -> tuple[NDArray[np.uint8], NDArray]:
        """A photo (height, width, 3) from a station with all defects that are on, and the subject's share of each pixel.

        ``focus_error`` is a share of the distance, ``light`` a factor on the exposure.
        """
        return self.expose(self.shot(station, i, focus_error, light), i)

    def shot(self, station: Station, i: int, focus_error: float = 0.0, light: float = 1.0) -> Shot:
        """The exposure that would be made at a station, with all that goes wrong in it."""
        shot = _shot(self.camera, station, self.settings, self._rng, i, self._distance(station))
        shot.level = station.ring
        shot.focus *= 1 + focus_error
        shot.exposure *= light
        return shot

    def expose(self, shot: Shot, i: int) -> tuple[NDArray[np.uint8], NDArray]:
        """Make an exposure: photo and the subject's share of each pixel."""
        radiance, cover = self.studio.radiance(shot, self._backdrop(shot.level))
        mine = [d for d in self.settings.planted if d.photo == i + 1]
        return finished(plant(radiance, shot, mine), shot, self.settings.on), cover

    def _backdrop(self, level: int) -> NDArray[np.float32] | None:
        """What is seen behind the scene from one height of the camera."""
        if self._behind and level not in self._backdrops:
            wide, high = self.camera.width, self.camera.height
            self._backdrops[level] = make_backdrop(self.scene, wide, high, self._behind, level)
        return self._backdrops.get(level)

    def _distance(self, station: Station) -> float:
        """How far away what is focused on is: the middle of an object; of a place what the camera points at."""
        if self.scene.name != "yard":
            return float(np.linalg.norm(self.scene.room.points(station.center[None])))
        ray = np.concatenate([station.center, station.rotation[2]])[None].astype(np.float32)
        t = float(self.rays.cast(ray)["t"][0])
        return t if np.isfinite(t) else 3.0


def _shot(
    camera: Camera, station: Station, settings: ShootSettings, rng: np.random.Generator, i: int, distance: float
) -> Shot:
    """One exposure at a station; random numbers are drawn whether or not a defect is on, so that it alone changes."""
    drift, balance, shake = rng.normal(0, 0.05), rng.normal(0, 0.012, 3), rng.normal(0, 1, 3)
    shot = Shot(
        camera, station.rotation, station.center, focus=distance * 0.97, exposure=1.25, seed=settings.seed * 1000 + i
    )
    if settings.has("blur"):
        shot.opening = 0.0022 * distance
    if settings.has("vignetting"):
        shot.vignetting = 0.7
    if settings.has("noise"):
        shot.full_well, shot.read_noise = 9000.0, 6.0
    if settings.has("drift"):
        shot.exposure *= float(np.exp(drift))
        shot.balance = (float(np.exp(balance[0])), 1.0, float(np.exp(balance[2])))
    if settings.has("shake"):
        shot.shake = shake * 0.25 / camera.fx
    if "lamps" in settings.on:
        # lamps that warm up and a cloud that passes: slow, over dozens of photos
        shot.exposure *= 1 + 0.12 * float(np.sin(i / 9.0 + settings.seed))
        warm = 1 + 0.04 * float(np.sin(i / 14.0))
        shot.balance = (shot.balance[0] * warm, 1.0, shot.balance[2] / warm)
    more = np.random.default_rng((settings.seed, 901, i)).normal(0, 1, 7)
    if "breathing" in settings.on:
        f = camera.fx * (1 + 0.003 * more[0])
        shot.camera = replace(camera, fx=f, fy=f)
    if "odd-lens" in settings.on:
        shot.ripple = 0.0018
    if "rolling" in settings.on:
        # a hand moves by about a pixel or two while the rows are read out
        shot.row_turn, shot.row_move = more[1:4] * 1.0 / camera.fx, more[4:7] * 4e-4 * distance
    return shot


def true_lens(shot: Shot) -> Camera:
    """The Brown polynomial that comes closest to the lens of a shot."""
    c = shot.camera
    if not shot.ripple:
        return c
    u, v = np.meshgrid(np.linspace(0, c.width - 1, 24), np.linspace(0, c.height - 1, 18))
    px = np.stack([u, v], -1).reshape(-1, 2)
    ideal = undistort(rippled(px, c, shot.ripple), c)

    def off(x: NDArray) -> NDArray:
        lens = c.with_vector([x[0] * c.fx, x[0] * c.fy, c.cx + x[1], c.cy + x[2], *x[3:6], *x[6:]])
        return np.asarray((distort(ideal, lens) * [lens.fx, lens.fy] + [lens.cx, lens.cy] - px).ravel())

    found = least_squares(off, [1, 0, 0, c.k1, c.k2, c.k3, c.p1, c.p2], x_scale="jac").x
    return c.with_vector([found[0] * c.fx, found[0] * c.fy, c.cx + found[1], c.cy + found[2], *found[3:]])


def _between(studio: Set, stations: list[Station]) -> list[Station]:
    """Stations of held-out views: between those of the rings; of a place, half way between neighbours."""
    n = studio.settings.heldout
    if studio.scene.name == "yard":
        out = []
        for k in np.linspace(1, len(stations) - 2, n).astype(int):
            a, b = stations[k], stations[k + 1]
            center = 0.6 * a.center + 0.4 * b.center
            out.append(Station(look_at(center, center + a.rotation[2] + 0.5 * b.rotation[2]), center, 0))
        return out
    target = np.array([0.0, 0.0, studio.scene.size[2] * 0.47])
    distance = fitting_distance(studio.scene.size, studio.camera, studio.settings.fill)
    between = [rings(target, distance, [18.0 + 22.0 * (i % 2)], 2 * n + 1)[(2 * i + 1)] for i in range(n)]
    return _in_subject(studio.scene, between)


def _heldout(studio: Set, stations: list[Station], truth: Path, progress: Progress, total: int) -> list[dict]:
    """Noise-free undistorted views between the stations, with exact masks."""
    lens = studio.camera.pinhole()
    out = []
    for i, station in enumerate(_between(studio, stations)):
        focus = float(np.linalg.norm(studio.scene.room.points(station.center[None])))
        linear, cover = studio.studio.radiance(Shot(lens, station.rotation, station.center, focus=focus, exposure=1.0))
        photo, mask = f"view_{i + 1:02d}.png", f"view_{i + 1:02d}_mask.png"
        Image.fromarray(to_srgb8(linear * 1.25)).save(truth / "heldout" / photo)
        (truth / "heldout" / mask).write_bytes(png_mask(cover))
        out.append(camera_entry(photo, lens, station.rotation, station.center, mask=mask))
        progress(total - studio.settings.heldout + i, total)
    return out


def png_mask(cover: NDArray) -> bytes:
    """The exact mask of a photo as PNG."""
    out = io.BytesIO()
    Image.fromarray(((cover > 0.5) * 255).astype(np.uint8)).save(out, format="PNG")
    return out.getvalue()


def jpeg_photo(photo: NDArray[np.uint8], settings: ShootSettings, i: int, exposure: Exposure | None = None) -> bytes:
    """JPEG with the EXIF of the made-up camera; ``exposure`` says how it was set."""
    e = exposure or Exposure()
    exif = Image.Exif()
    if settings.exif:
        moment = datetime(2031, 5, 4, 10, 0) + timedelta(seconds=7 * i)
        stamp = moment.strftime("%Y:%m:%d %H:%M:%S")
        diagonal = float(np.hypot(*SENSOR))
        exif[0x010F], exif[0x0110], exif[0x0131] = "Hollowmere", "Hollowmere P4", "practice rig"
        exif[0x0132], exif[0x0112] = stamp, 1
        sub = exif.get_ifd(0x8769)
        sub[0x829A] = IFDRational(1, round(1 / e.shutter_s))
        sub[0x829D], sub[0x8827] = IFDRational(round(10 * e.f_number), 10), round(e.iso)
        sub[0x9003] = sub[0x9004] = stamp
        sub[0x920A] = IFDRational(round(settings.focal35 * diagonal / float(np.hypot(36, 24)) * 10), 10)
        sub[0xA405] = round(settings.focal35)
        sub[0xA002], sub[0xA003] = settings.width, settings.height
    out = io.BytesIO()
    quality, colors = (75, 2) if "jpeg" in settings.on else (settings.quality, 0)
    Image.fromarray(photo).save(out, format="JPEG", quality=quality, subsampling=colors, exif=exif)
    return out.getvalue()
