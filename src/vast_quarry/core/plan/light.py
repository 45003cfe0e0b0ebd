"""Light on a stand-in by ray casting: how evenly it is lit, what stays dark, whose shadow falls where, what looks into it.

Illuminance at a patch is summed over a few hundred directions or lamps that nothing blocks. The overcast sky is brighter
overhead than at the horizon by a factor of three; the ground gives back a fifth of what falls on it.

References
----------
Moon, P., Spencer, D. (1942). Illumination from a non-uniform sky; the CIE standard overcast sky (ISO 15469:2004, type 16)
``L = Lz (1 + 2 sin e) / 3``. As remembered.
Common practice, no source: what is two stops darker than the rest holds no features; at f/16 in the sun the shutter time is
one over the ISO (exposure value 15), an overcast sky takes three stops, lamps and a window seven.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import project
from vast_quarry.core.directions import even_directions
from vast_quarry.core.plan.coverage import Watcher
from vast_quarry.core.plan.request import DOME, Light, Request
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.words import Said, say

Array = NDArray[np.float64]

#: stops below the median at which a patch counts as dark
DARK = -2.0
#: share of light that the ground gives back
GROUND = 0.2
#: share of the open sky's light beside the sun's (a clear day)
SKY_BESIDE_SUN = 0.2
#: exposure values at ISO 100
EXPOSURE = {"sun": 15.0, "overcast": 12.0, "lamps": 8.0, "window": 8.0}
#: who takes the photos: height and half width of a standing figure (m)
FIGURE = 1.75, 0.25
#: turns of a turntable that the light of lamps is averaged over
TURNS = 8


@dataclass(frozen=True)
class Lit:
    """Light on patches.

    Attributes
    ----------
    stops : (P,)
        Stops above or below the median of what is wanted.
    spread : float
        Stops between the tenth and the ninetieth hundredth of the wanted area.
    dark : float
        Share of the wanted area two stops or more below the median.
    """

    stops: Array
    spread: float
    dark: float


def toward(turn_deg: float, rise_deg: float) -> Array:
    """Unit vector towards a turn (0 before the front, anticlockwise from above) and a rise, in degrees (3,)."""
    a, e = math.radians(turn_deg), math.radians(rise_deg)
    return np.array([math.sin(a) * math.cos(e), -math.cos(a) * math.cos(e), math.sin(e)])


def sky_luminance(rise_sine: Array) -> Array:
    """Luminance of the standard overcast sky against its zenith's; below the horizon what the ground gives back."""
    up = (1 + 2 * np.maximum(rise_sine, 0)) / 3
    # a ground under an overcast sky receives pi 7/9 of the zenith's luminance, and gives a fifth back evenly
    return np.where(rise_sine > 0, up, GROUND * 7 / 9)


def _from_directions(watcher: Watcher, directions: Array, power: Array, far: float) -> Array:
    """Illuminance (P,) from directions (D, 3) of a power each, where nothing blocks within ``far`` metres."""
    points, normals = watcher.lifted, watcher.standin.normals
    total = np.zeros(len(points))
    for d, w in zip(directions, power):
        cosine = normals @ d
        face = np.flatnonzero(cosine > 0)
        if w > 0 and len(face):
            rays = np.empty((len(face), 6), np.float32)
            rays[:, :3], rays[:, 3:] = points[face], d
            total[face] += w * cosine[face] * ~watcher.scene.blocked(rays, 0.0, far)
    return total


def _from_lamps(watcher: Watcher, places: Array, power: Array) -> Array:
    """Illuminance (P,) from lamps at places (L, 3), falling off with the square of the distance."""
    points, normals = watcher.lifted, watcher.standin.normals
    total = np.zeros(len(points))
    for c, w in zip(places, power):
        to = c - points
        distance = np.linalg.norm(to, axis=1)
        cosine = (to * normals).sum(1) / np.maximum(distance, 1e-9)
        face = np.flatnonzero(cosine > 0)
        rays = np.concatenate([points[face], to[face]], 1).astype(np.float32)
        clear = ~watcher.scene.blocked(rays, 0.0, 1.0)
        total[face] += w * cosine[face] / distance[face] ** 2 * clear
    return total


def sources(light: Light, middle: Array, distance: float) -> Array:
    """Places of lamps, of the pieces of a window (1 x 1.2 m), or of the sun far away (L, 3); none for an overcast sky."""
    if light.kind == "overcast":
        return np.zeros((0, 3))
    if light.kind == "sun":
        return (middle + 1e4 * toward(light.turn_deg, light.rise_deg))[None]
    if light.kind == "lamps":
        spots = [d for name in light.lamps for d in DOME[name]]
        return np.array([middle + light.lamp_m * toward(*d) for d in spots]).reshape(-1, 3)
    away = toward(light.turn_deg, 0.0)
    side = np.array([-away[1], away[0], 0.0])
    center = middle + light.lamp_m * away + [0, 0, 0.4]
    return np.array([center + side * a + np.array([0, 0, b]) for a in (-0.4, 0, 0.4) for b in (-0.5, 0, 0.5)])


def illuminance(watcher: Watcher, light: Light, turns: bool) -> Array:
    """Illuminance of patches (P,), in a unit of its own; ``turns`` when the subject turns under lamps that stand still."""
    s = watcher.standin
    middle = s.middle
    places = sources(light, middle, light.lamp_m)
    if light.kind in ("overcast", "sun"):
        sky = even_directions(160)
        bright = sky_luminance(sky[:, 2])
        # a level open place gets one
        from_sky = _from_directions(watcher, sky, bright * 4 * np.pi / len(sky) / (np.pi * 7 / 9), np.inf)
        if light.kind == "overcast":
            return from_sky
        sun = toward(light.turn_deg, light.rise_deg)
        straight = _from_directions(watcher, sun[None], np.ones(1), np.inf) / max(sun[2], 0.2)
        return straight + SKY_BESIDE_SUN * from_sky
    size = float(np.linalg.norm(s.size))
    fall = np.full(len(places), light.lamp_m**2 / max(len(places), 1))
    total = np.zeros(len(s.centers))
    rounds = TURNS if turns else 1
    for k in range(rounds):
        a = 2 * np.pi * k / rounds
        turn = np.array([[math.cos(a), -math.sin(a), 0], [math.sin(a), math.cos(a), 0], [0, 0, 1.0]])
        total += _from_lamps(watcher, middle + (places - middle) @ turn.T, fall) / rounds
    # walls and table give back a little everywhere
    bounce = _from_directions(watcher, even_directions(60), np.full(60, 0.08 * 4 / 60), 2 * size)
    return total + bounce


def lit(watcher: Watcher, light: Light, turns: bool = False) -> Lit:
    """How a stand-in is lit."""
    s = watcher.standin
    e = illuminance(watcher, light, turns)
    area = np.where(s.wanted, s.areas, 0.0)
    order = np.argsort(e)
    share = np.cumsum(area[order]) / max(area.sum(), 1e-30)
    at = [float(e[order][min(int(np.searchsorted(share, q)), len(e) - 1)]) for q in (0.1, 0.5, 0.9)]
    stops = np.log2(np.maximum(e, 1e-6) / max(at[1], 1e-6))
    spread = math.log2(max(at[2], 1e-6) / max(at[0], 1e-6))
    return Lit(np.clip(stops, -8, 8), spread, float(area[stops < DARK].sum() / max(area.sum(), 1e-30)))


def own_shadow(watcher: Watcher, light: Light, stations: Sequence[Station]) -> list[int]:
    """Which stations put the photographer's shadow on the subject (more than a hundredth of what it sees)."""
    if light.kind == "overcast":
        return []
    s = watcher.standin
    places = sources(light, s.middle, light.lamp_m)[:1] if light.kind == "sun" else sources(light, s.middle, 0)
    seen, _, _ = watcher.look(stations)
    out = []
    for k, station in enumerate(stations):
        shaded = np.zeros(len(s.centers), bool)
        for c in places:
            shaded |= _behind_figure(watcher.lifted, c, station.center)
        if s.areas[shaded & seen[k]].sum() > 0.01 * max(s.areas[seen[k]].sum(), 1e-30):
            out.append(k)
    return out


def _behind_figure(points: Array, lamp: Array, stands: Array) -> NDArray[np.bool_]:
    """Whether the line from each point (P, 3) to a lamp passes through whoever stands behind the camera."""
    tall, half = FIGURE
    back = stands[:2] + 0.3 * stands[:2] / max(float(np.linalg.norm(stands[:2])), 1e-9)
    d = lamp - points
    flat = d[:, :2]
    t = np.clip(((back - points[:, :2]) * flat).sum(1) / np.maximum((flat**2).sum(1), 1e-12), 0, 1)
    near = np.linalg.norm(points[:, :2] + t[:, None] * flat - back, axis=1)
    height = points[:, 2] + t * d[:, 2]
    return (near < half) & (height < max(tall, float(stands[2]))) & (height > 0) & (t > 0) & (t < 1)


def into_light(watcher: Watcher, light: Light, stations: Sequence[Station]) -> list[int]:
    """Which stations have a lamp, the window or the sun in their picture, with nothing before it."""
    places = sources(light, watcher.standin.middle, light.lamp_m)
    out = []
    for k, s in enumerate(stations):
        if not len(places):
            break
        px, depth = project(watcher.camera, s.rotation, s.center, places)
        c = watcher.camera
        inside = (depth > 0) & (px > 0).all(1) & (px < [c.width - 1, c.height - 1]).all(1)
        if inside.any():
            rays = np.concatenate([np.repeat(s.center[None], inside.sum(), 0), places[inside] - s.center], 1)
            if not watcher.scene.blocked(rays.astype(np.float32), 0.0, 1.0).all():
                out.append(k)
    return out


def light_findings(p: Request, watcher: Watcher, light: Lit, stations: Sequence[Station]) -> list[Said]:
    """What there is to say about the light of a plan."""
    out = []
    if light.dark > 0.01:
        pattern = "{percent} % of the surface is two stops or more darker than the rest. " + (
            "Add lamps near the camera and from below."
            if p.light.kind == "lamps"
            else "Lighten it with a white board or a lamp."
        )
        out.append(say(pattern, percent=round(100 * light.dark)))
    if light.spread > 3:
        out.append(
            say(
                "The light differs by {stops} stops over the surface. Wait for an overcast sky, or add like lamps.",
                stops=round(light.spread, 1),
            )
        )
    taken = [s for s in stations if s.role != "overhead"]
    if p.hold == "hand" and p.kind not in ("room", "flown") and (own := own_shadow(watcher, p.light, taken)):
        out.append(
            say(
                "In {count, plural, one {# shot} other {# shots}} your own shadow falls on the subject. Stand further back with a longer lens.",
                count=len(own),
            )
        )
    if into := into_light(watcher, p.light, stations):
        out.append(
            say(
                "{count, plural, one {# shot looks} other {# shots look}} into the light. Move it, or leave them out.",
                count=len(into),
            )
        )
    if p.second_light:
        out.append(Said("What is lit anew for undersides is a set of its own: shoot it apart, and join the two sets."))
    return out
