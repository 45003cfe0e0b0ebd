"""``optics``: what a camera and a lens give at a distance."""

from __future__ import annotations

import json
import math
from typing import Annotated

import typer
from rich.console import Console
from rich.table import Table

from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan import optics as core

console = Console()
#: how much of the frame's width a turning subject takes when its size is not given
FILL = 0.8


def pair(text: str, what: str, example: str) -> tuple[float, float]:
    """``23.5x15.6`` as two numbers."""
    parts = text.lower().split("x")
    try:
        a, b = (float(p) for p in parts)
    except ValueError as error:
        raise PlainError(f"The {what} is written like {example}, not {text!r}.") from error
    return a, b


def shutter_seconds(text: str) -> float:
    """``1/125`` or ``0.5`` in seconds."""
    top, _, bottom = text.partition("/")
    try:
        seconds = float(top) / float(bottom or 1)
    except (ValueError, ZeroDivisionError) as error:
        raise PlainError(f"The shutter time is written like 1/125 or 0.5, not {text!r}.") from error
    if not (math.isfinite(seconds) and seconds > 0):
        raise PlainError(f"The shutter time is {text}.", "It has to be more than nothing.")
    return seconds


def blur_of(o: core.Optics, shutter: float, hold: str, size_m: float | None) -> float:
    """Blur in pixels for a way of holding: ``hand``, ``tripod`` or ``table:DEG_PER_S``."""
    kind, _, speed = hold.partition(":")
    if kind == "tripod" and not speed:
        return 0.0
    if kind == "hand" and not speed:
        return o.hand_blur_px(shutter)
    try:
        degrees = float(speed)
        if kind != "table" or not math.isfinite(degrees):
            raise ValueError
    except ValueError as error:
        raise PlainError(f"How it is held is written hand, tripod or table:DEG_PER_S, not {hold!r}.") from error
    radius = (size_m if size_m is not None else FILL * o.frame_m[0]) / 2
    return o.table_blur_px(shutter, abs(degrees), min(radius, 0.9 * o.distance_m))


def optics(
    sensor: Annotated[str, typer.Option(help="Sensor in mm, like 23.5x15.6", show_default=False)],
    pixels: Annotated[str, typer.Option(help="Picture in pixels, like 6000x4000", show_default=False)],
    focal: Annotated[float, typer.Option(help="Real focal length (mm)", show_default=False)],
    aperture: Annotated[float, typer.Option(help="F-number", show_default=False)],
    distance: Annotated[float, typer.Option(help="Distance of what is in focus (m)", show_default=False)],
    shutter: Annotated[str | None, typer.Option(help="Shutter time, like 1/125")] = None,
    hold: Annotated[str, typer.Option(help="hand, tripod or table:DEG_PER_S")] = "hand",
    size: Annotated[
        float | None, typer.Option(help="Width of a turning subject (m) [default: 0.8 of the frame]")
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON")] = False,
) -> None:
    """Field of view, ground sample distance, depth of field, diffraction and blur."""
    width, height = pair(pixels, "picture", "6000x4000")
    if width != int(width) or height != int(height):
        raise PlainError(f"A picture has whole pixels, not {pixels}.")
    o = core.Optics(pair(sensor, "sensor", "23.5x15.6"), (int(width), int(height)), focal, aperture, distance)
    near, far = o.sharp_m()
    out: dict[str, float | None] = {
        "fov_deg": core.field_of_view(o.sensor_mm[0], focal),
        "fov_vertical_deg": core.field_of_view(o.sensor_mm[1], focal),
        "fov_diagonal_deg": core.field_of_view(math.hypot(*o.sensor_mm), focal),
        "frame_width_m": o.frame_m[0], "frame_height_m": o.frame_m[1], "focal_px": o.focal_px,
        "focal35_mm": o.focal35_mm, "gsd_mm": o.gsd_mm, "near_m": near, "far_m": far if math.isfinite(far) else None,
        "hyperfocal_m": core.hyperfocal(focal, aperture, o.circle_mm) / 1000,
        "airy_um": core.airy_diameter(aperture) * 1000, "pixel_um": o.pitch_mm * 1000, "coc_mm": o.circle_mm,
    }  # fmt: skip
    if shutter is not None:
        seconds = shutter_seconds(shutter)
        out["blur_px"] = blur_of(o, seconds, hold, size)
        out["shutter_s"] = seconds
    if as_json:
        typer.echo(json.dumps({k: None if v is None else float(f"{v:.6g}") for k, v in out.items()}, indent=1))
        return
    table = Table(show_header=False, box=None)
    for name, value in out.items():
        text, unit = name.rsplit("_", 1)
        table.add_row(text.replace("_", " "), "infinite" if value is None else f"{value:.4g} {unit}")
    console.print(table)
