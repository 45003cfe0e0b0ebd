"""``frames``: photos out of a video."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console
from rich.progress import Progress as Bar

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.frames import By
from vast_quarry.pipeline.output import claim_output
from vast_quarry.pipeline.video import Choice, frames_of

console = Console(soft_wrap=True)


def parse_time(text: str) -> float:
    """``1:02.5`` or ``62.5`` as seconds."""
    try:
        total = 0.0
        for part in text.strip().split(":"):
            total = 60 * total + float(part)
    except ValueError:
        raise PlainError(f"{text} is no time.", "Write it like 0:14 or 14.5.") from None
    return total


def parse_ranges(text: str) -> tuple[tuple[float, float], ...]:
    """``0:02-0:14,0:20-0:31`` as pairs of seconds."""
    out = []
    for part in (p for p in text.split(",") if p.strip()):
        begin, dash, end = part.partition("-")
        pair = parse_time(begin), parse_time(end) if dash else 0.0
        if pair[1] <= pair[0]:
            raise PlainError(f"{part} is no range.", "Write it like 0:02-0:14, its begin before its end.")
        out.append(pair)
    return tuple(out)


def parse_crop(text: str) -> tuple[int, int, int, int]:
    """``l,t,r,b`` as pixels."""
    parts = text.split(",")
    if len(parts) != 4 or not all(p.strip().isdigit() for p in parts):
        raise PlainError(f"{text} is no crop.", "Write pixels at the left, top, right and bottom edge, like 0,40,0,40.")
    left, top, right, bottom = (int(p) for p in parts)
    return left, top, right, bottom


def frames(
    video: Annotated[Path, typer.Argument(help="Video file", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for the frames", show_default=False)],
    by: Annotated[str, typer.Option(help="motion, step, rate or count")] = "motion",
    degrees: Annotated[
        float, typer.Option(help="By motion: most degrees about the subject between neighbours", min=0.5, max=60)
    ] = 10.0,
    step: Annotated[int, typer.Option(help="By step: every n-th frame", min=1)] = 10,
    rate: Annotated[float, typer.Option(help="By rate: frames a second", min=0.01)] = 2.0,
    count: Annotated[int, typer.Option(help="By count: so many", min=2)] = 60,
    keep: Annotated[str, typer.Option(help="Ranges to keep, like 0:02-0:14,0:20-0:31")] = "",
    crop: Annotated[str, typer.Option(help="Pixels to cut off: left,top,right,bottom")] = "0,0,0,0",
    scale: Annotated[float, typer.Option(help="Make frames smaller by this", min=0.1, max=1.0)] = 1.0,
    laps: Annotated[bool, typer.Option("--laps", help="Find laps and cut each at exactly one turn")] = False,
) -> None:
    """Take frames from a video: JPEGs, and frames.json."""
    ways: dict[str, By] = {"motion": "motion", "step": "step", "rate": "rate", "count": "count"}
    if by not in ways:
        raise PlainError(f"Frames cannot be chosen by {by}.", f"Choose {', '.join(ways)}.")
    choice = Choice(ways[by], degrees, step, rate, count, parse_ranges(keep), parse_crop(crop), laps, scale=scale)
    claim_output(out)
    with Bar(console=console, disable=not console.is_terminal) as bar:
        task = bar.add_task("Looking through the video", total=1.0)
        rows = frames_of(video, out, choice, lambda done, total: bar.update(task, completed=done / total))
    console.print(f"{len(rows)} frames in {out}", markup=False, highlight=False)
