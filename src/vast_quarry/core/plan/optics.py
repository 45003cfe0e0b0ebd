"""Optics of a planned photo: field of view, ground sample, depth of field, diffraction, motion blur, depth precision.

Thin lens of focal length ``f`` at f-number ``N``, focused at ``s`` measured from the lens. With the circle of
confusion ``c`` and the hyperfocal distance ``H = f^2 / (N c) + f``::

    near = s (H - f) / (H + s - 2 f),   far = s (H - f) / (H - s)   (infinite for s >= H)

The first dark ring of the Airy disc has the diameter ``2.44 lambda N``. Two rays from stations ``B`` apart that are
matched to ``e`` pixels meet with an uncertainty of ``Z^2 e / (B f)`` along the line of sight (``f`` in pixels).

References
----------
Ray, S. (2002). Applied Photographic Optics, 3rd ed., ch. 22 (depth of field) and 5 (resolution). As remembered.
Luhmann, T. et al. (2014). Close-Range Photogrammetry and 3D Imaging, 2nd ed., sec. 3.3.1 (GSD) and 4.3.6 (normal
case). As remembered.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import rounded, say

#: diagonal of a 36 x 24 mm frame
FRAME35 = math.hypot(36.0, 24.0)
#: the circle of confusion is this part of the sensor's diagonal (common practice, no source: 0.029 mm for 36 x 24)
CONFUSION = 1500.0
#: wavelength in the middle of what the eye sees (mm)
WAVELENGTH = 550e-6
#: uncertainty of a match in pixels that depth precision is told for
MATCH_PX = 0.3
#: the longest shutter time by hand (s), whatever the lens (common practice, no source)
BY_HAND = 1.0 / 120.0


def focal_pixels(focal35: float, width: int, height: int) -> float:
    """Focal length in pixels of a 35 mm equivalent (mm), by the diagonal (43.27 mm)."""
    return float(focal35 / FRAME35 * math.hypot(width, height))


def shutter_text(seconds: float) -> str:
    """A shutter time as it is written on cameras."""
    return f"1/{1 / seconds:.0f} s" if seconds < 0.5 else f"{seconds:.1f} s"


def ground_sample(distance: float, focal_px: float) -> float:
    """Metres on the subject per pixel, at a distance in metres and a focal length in pixels."""
    return distance / focal_px


def hyperfocal(focal_mm: float, f_number: float, circle_mm: float) -> float:
    """Hyperfocal distance in mm for a circle of confusion in mm."""
    return focal_mm**2 / (f_number * circle_mm) + focal_mm


def depth_of_field(focal_mm: float, f_number: float, focus_mm: float, circle_mm: float) -> tuple[float, float]:
    """Nearest and farthest sharp distance in mm (the latter may be infinite).

    Examples
    --------
    >>> near, far = depth_of_field(50.0, 8.0, 3000.0, 0.03)
    >>> round(near), round(far)
    (2338, 4185)
    """
    h = hyperfocal(focal_mm, f_number, circle_mm)
    near = focus_mm * (h - focal_mm) / (h + focus_mm - 2 * focal_mm)
    far = focus_mm * (h - focal_mm) / (h - focus_mm) if focus_mm < h else math.inf
    return near, far


def field_of_view(side_mm: float, focal_mm: float) -> float:
    """Angle of view in degrees across a side of the sensor, focused far away."""
    return math.degrees(2 * math.atan(side_mm / (2 * focal_mm)))


def airy_diameter(f_number: float) -> float:
    """Diameter of the Airy disc in mm, to its first dark ring, in green light."""
    return 2.44 * WAVELENGTH * f_number


def diffraction_limit(pitch_mm: float) -> float:
    """F-number at which the Airy disc is two pixels wide: closing further loses detail."""
    return 2 * pitch_mm / (2.44 * WAVELENGTH)


def exposure_value(f_number: float, shutter_s: float, iso: float = 100.0) -> float:
    """Exposure value at ISO 100 of the light that these settings suit (ISO 2720: ``N^2 / t = 2^EV``)."""
    return math.log2(f_number**2 / shutter_s * 100.0 / iso)


def shutter_for(ev100: float, f_number: float, iso: float) -> float:
    """Shutter time in s for light of an exposure value (at ISO 100)."""
    return f_number**2 / 2**ev100 * 100.0 / iso


def depth_precision(distance: float, base: float, focal_px: float, match_px: float = MATCH_PX) -> float:
    """Uncertainty along the line of sight, in the unit of distance and base."""
    if base <= 0:
        return math.inf
    return distance**2 * match_px / (base * focal_px)


def aperture_for(focal_mm: float, focus_mm: float, near_mm: float, far_mm: float, circle_mm: float) -> float:
    """The f-number that keeps ``near_mm`` to ``far_mm`` sharp when focused at ``focus_mm``."""
    # a point at u makes a blur of f^2 |u - s| / (N u (s - f)); solved for N where it is the circle of confusion
    need = max(abs(u - focus_mm) / u for u in (near_mm, far_mm))
    return focal_mm**2 * need / (circle_mm * (focus_mm - focal_mm))


@dataclass(frozen=True)
class Optics:
    """A camera with its lens set for a shoot.

    Attributes
    ----------
    sensor_mm : (float, float)
        Width and height.
    pixels : (int, int)
    focal_mm : float
        Real focal length.
    f_number : float
    distance_m : float
        From the lens to where it is focused.
    """

    sensor_mm: tuple[float, float]
    pixels: tuple[int, int]
    focal_mm: float
    f_number: float
    distance_m: float

    def __post_init__(self) -> None:
        for pattern, value in (
            ("The sensor's width is {value} mm.", self.sensor_mm[0]),
            ("The sensor's height is {value} mm.", self.sensor_mm[1]),
            ("The picture's width is {value} pixels.", self.pixels[0]),
            ("The picture's height is {value} pixels.", self.pixels[1]),
            ("The focal length is {value} mm.", self.focal_mm),
            ("The aperture is {value}.", self.f_number),
            ("The distance is {value} m.", self.distance_m),
        ):
            if not (math.isfinite(value) and value > 0):
                raise PlainError(say(pattern, value=value), "It has to be more than nothing.")
        if self.distance_m * 1000 <= self.focal_mm:
            raise PlainError(
                say(
                    "A lens of {focal} mm cannot focus at {distance} mm.",
                    focal=self.focal_mm,
                    distance=rounded(self.distance_m * 1000, 6),
                ),
                "Go further away.",
            )

    @property
    def pitch_mm(self) -> float:
        """Width of a pixel on the sensor."""
        return self.sensor_mm[0] / self.pixels[0]

    @property
    def focal_px(self) -> float:
        """Focal length in pixels."""
        return self.focal_mm / self.pitch_mm

    @property
    def focal35_mm(self) -> float:
        """35 mm equivalent by the diagonal."""
        return self.focal_mm * FRAME35 / math.hypot(*self.sensor_mm)

    @property
    def circle_mm(self) -> float:
        """Circle of confusion from the sensor."""
        return math.hypot(*self.sensor_mm) / CONFUSION

    @property
    def gsd_mm(self) -> float:
        """Ground sample distance where it is focused."""
        return ground_sample(self.distance_m * 1000, self.focal_px)

    @property
    def frame_m(self) -> tuple[float, float]:
        """Width and height of what the frame holds where it is focused."""
        return self.pixels[0] * self.gsd_mm / 1000, self.pixels[1] * self.gsd_mm / 1000

    def sharp_m(self) -> tuple[float, float]:
        """Nearest and farthest sharp distance; the latter may be infinite."""
        near, far = depth_of_field(self.focal_mm, self.f_number, self.distance_m * 1000, self.circle_mm)
        return near / 1000, far / 1000

    def hand_blur_px(self, shutter_s: float) -> float:
        """Blur of a steady hand in pixels.

        Common practice, no source: at 1 / (35 mm equivalent) of a second a hand moves the picture by about one circle of
        confusion; blur grows with the time.
        """
        return shutter_s * self.focal35_mm * self.circle_mm / self.pitch_mm

    def table_blur_px(self, shutter_s: float, degrees_per_s: float, radius_m: float) -> float:
        """Blur in pixels of the rim of a turning subject that faces the camera."""
        moved_mm = math.radians(degrees_per_s) * shutter_s * radius_m * 1000
        near_m = max(self.distance_m - radius_m, 1e-9)
        return moved_mm / ground_sample(near_m * 1000, self.focal_px)

    def longest_by_hand(self) -> float:
        """Longest shutter time by hand in s: 1 / (35 mm equivalent), and 1/120 (common practice, no source)."""
        return min(1.0 / self.focal35_mm, BY_HAND)
