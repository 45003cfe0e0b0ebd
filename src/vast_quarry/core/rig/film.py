"""The rig films: a subject on its turntable (or walked round), lap after lap, with a pause and a move of the camera between.

The truth beside the film says for every frame where the camera stood and which lap it belongs to.
"""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, ImageDraw

from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.plan.rings import Station, fitting_distance
from vast_quarry.core.pose import look_at, rotation_from_vector
from vast_quarry.core.progress import Progress, silent
from vast_quarry.core.rig.shoot import Set, ShootSettings
from vast_quarry.core.rig.truth import camera_entry

#: frames in which nothing moves, and in which the camera moves, between laps
PAUSE, MOVE = 8, 14


def film(
    settings: ShootSettings,
    out: Path,
    laps: int,
    per_lap: int,
    rate: int = 25,
    bars: int = 0,
    progress: Progress = silent,
    shaken: tuple[int, int] | None = None,
) -> int:
    """Film laps into a video file (MPEG-4 part 2); the number of frames comes back.

    Parameters
    ----------
    settings : ShootSettings
    out : Path
        The file; ``<name>.json`` beside it holds the truth.
    laps, per_lap : int
        Each lap goes on a tenth beyond a whole turn.
    rate : int
        Frames a second.
    bars : int
        Rows of black at the top and bottom edge, with a mark in them that stands still.
    shaken : (int, int), optional
        First and last frame of a stretch in which the camera is shaken, so that everything is blurred.
    """
    import av

    studio = Set(settings)
    target = np.array([0.0, 0.0, studio.scene.size[2] * 0.47])
    distance = fitting_distance(studio.scene.size, studio.camera, settings.fill)
    stations, lap_of = _path(target, distance, laps, per_lap)
    truth: list[dict[str, Any]] = []
    rng = np.random.default_rng(settings.seed + 5)
    container = av.open(str(out), "w")
    stream: Any = container.add_stream("mpeg4", rate=rate)
    stream.width, stream.height, stream.pix_fmt = settings.width, settings.height, "yuv420p"
    stream.bit_rate = settings.width * settings.height * 12
    stream.time_base = Fraction(1, rate)
    for k, (station, lap) in enumerate(zip(stations, lap_of)):
        progress(k, len(stations))
        rough = shaken is not None and shaken[0] <= k <= shaken[1]
        if rough:
            # a hand shakes some eight times a second, by a few degrees
            wave = 2 * np.pi * 8 * k / rate
            jolt = np.radians(1.6) * np.array([np.sin(wave), np.sin(1.3 * wave + 1), 0.3 * np.sin(0.7 * wave)])
            station = Station(rotation_from_vector(jolt) @ station.rotation, station.center, station.ring)
        shot = studio.shot(station, k)
        if rough:
            shot.shake = 14.0 / studio.camera.fx * rng.normal(0, 1, 3) * [1, 1, 0.3]
        photo, _ = studio.expose(shot, k)
        frame = av.VideoFrame.from_ndarray(_barred(photo, bars), format="rgb24")
        frame.pts, frame.time_base = k, Fraction(1, rate)
        for packet in stream.encode(frame):
            container.mux(packet)
        entry = camera_entry(f"frame_{k:06d}", studio.camera, station.rotation, station.center)
        truth.append(entry | {"frame": k, "time": k / rate, "lap": lap, "shaken": rough})
    for packet in stream.encode():
        container.mux(packet)
    container.close()
    write_json(out.with_suffix(".json"), {"frames": truth, "per_lap": per_lap})
    progress(len(stations), len(stations))
    return len(stations)


def _path(target: np.ndarray, distance: float, laps: int, per_lap: int) -> tuple[list[Station], list[int]]:
    """Stations frame by frame, and the lap of each (-1 between laps)."""
    out: list[Station] = []
    lap_of: list[int] = []

    def at(turn: float, rise: float, near: float, lap: int) -> None:
        e = np.radians(rise)
        d = near * distance
        center = target + d * np.array([np.sin(turn) * np.cos(e), -np.cos(turn) * np.cos(e), np.sin(e)])
        out.append(Station(look_at(center, target), center, max(lap, 0)))
        lap_of.append(lap)

    turn = 0.0
    for lap in range(laps):
        rise = 15.0 + 25.0 * lap
        count = per_lap + per_lap // 10
        for k in range(count):
            at(turn + 2 * np.pi * k / per_lap, rise, 1.0, lap)
        turn += 2 * np.pi * (count - 1) / per_lap
        if lap + 1 < laps:
            for _ in range(PAUSE):
                at(turn, rise, 1.0, -1)
            for k in range(MOVE):  # up, and in and out again
                t = (k + 1) / MOVE
                at(turn, rise + 25.0 * t, 1.0 - 0.25 * np.sin(np.pi * t), -1)
    return out, lap_of


def _barred(photo: np.ndarray, bars: int) -> np.ndarray:
    if not bars:
        return photo
    image = Image.fromarray(photo)
    draw = ImageDraw.Draw(image)
    w, h = image.size
    draw.rectangle((0, 0, w, bars - 1), fill=(0, 0, 0))
    draw.rectangle((0, h - bars, w, h), fill=(0, 0, 0))
    draw.rectangle((w // 3, 2, w // 3 + bars, bars - 3), fill=(220, 220, 220))
    return np.asarray(image)
