"""``rig``: the practice rig, which photographs made-up scenes with known truth."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import numpy as np
import typer
from rich.console import Console
from rich.progress import track

from vast_quarry.cli.plan import read_plan
from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.optics import focal_pixels
from vast_quarry.core.plan.rings import Station, parse_ring_plan
from vast_quarry.core.rig.backdrops import BACKDROPS
from vast_quarry.core.rig.body import CAMERAS, FAULTS
from vast_quarry.core.rig.captures import CAPTURES, parse_capture
from vast_quarry.core.rig.catalogue import SCENES
from vast_quarry.core.rig.defects import parse_planted
from vast_quarry.core.rig.film import film
from vast_quarry.core.rig.shoot import DEFECTS, ShootSettings, shoot

app = typer.Typer(help="Practice rig: made-up scenes, photographed with known truth.", no_args_is_help=True)
console = Console()


def parse_size(text: str) -> tuple[int, int]:
    """``1200x900`` as width and height."""
    parts = text.lower().split("x")
    if len(parts) != 2 or not all(p.isdigit() and int(p) > 0 for p in parts):
        raise PlainError(f"A size is written like 1200x900, not {text!r}.")
    return int(parts[0]), int(parts[1])


def _names(text: str) -> frozenset[str]:
    return frozenset(x.strip() for x in text.split(",") if x.strip())


@app.command("shoot")
def shoot_command(
    out: Annotated[Path, typer.Option("--out", help="Folder for photos, masks and truth", show_default=False)],
    scene: Annotated[
        str, typer.Option(help="milestone, finial, well-head, yard, plate, hound, bare-hound, rack or chest")
    ] = "milestone",
    plan: Annotated[str, typer.Option(help="Rings and photos in each, like ring:3x12, or a plan.json")] = "ring:3x12",
    size: Annotated[str, typer.Option(help="Size of the photos in pixels")] = "1200x900",
    seed: Annotated[int, typer.Option(help="The same seed gives the same photos")] = 1,
    focal: Annotated[float, typer.Option(help="Focal length as 35 mm equivalent, in mm")] = 40.0,
    exif: Annotated[bool, typer.Option(help="Write EXIF")] = True,
    mat: Annotated[str, typer.Option(help="Paper of a marker mat that lies before the subject, like A3")] = "",
    plant: Annotated[
        str, typer.Option(help="Defects of single photos, like 3:motion:8,7:focus:6,9:ev:-1.5,12:warm:0.5")
    ] = "",
    off: Annotated[str, typer.Option(help=f"Defects to switch off, with commas between: {', '.join(DEFECTS)}")] = "",
    camera: Annotated[str, typer.Option(help=f"Kind of camera: {', '.join(CAMERAS)}")] = "kind",
    on: Annotated[
        str, typer.Option("--on", help=f"Faults of real cameras to switch on, with commas between: {', '.join(FAULTS)}")
    ] = "",
    backdrop: Annotated[
        str, typer.Option(help=f"What stands still behind a turntable: {', '.join(BACKDROPS)}")
    ] = "soft",
    capture: Annotated[
        str, typer.Option(help=f"A capture as people make them instead of rings, like clip:30: {', '.join(CAPTURES)}")
    ] = "",
    tip: Annotated[
        float, typer.Option(help="Degrees by which the subject on a turntable is tipped over before", min=-180, max=180)
    ] = 0.0,
) -> None:
    """Photograph a scene."""
    width, height = parse_size(size)
    planned = None
    try:
        if plan.endswith(".json"):
            file = read_plan(Path(plan))
            # what is shot from below is shot with the subject turned over: a set of its own
            upright = [s for s in file.result.stations if s.role != "underside"]
            planned = [Station(np.array(s.rotation), np.array(s.center), s.ring, s.role) for s in upright]
            width, height = file.request.pixels_wide, file.request.pixels_high
            focal = file.result.focal_px / focal_pixels(1.0, width, height)
            rings, per_ring = 1, len(planned)
        else:
            rings, per_ring = (1, parse_capture(capture)[1]) if capture else parse_ring_plan(plan)
        if camera not in CAMERAS:
            raise ValueError(f"no camera called {camera!r}; there are: {', '.join(CAMERAS)}")
        settings = ShootSettings(
            scene=scene, rings=rings, per_ring=per_ring, width=width, height=height, focal35=focal, seed=seed, exif=exif, mat=mat, planted=parse_planted(plant),
            off=_names(off), on=CAMERAS[camera] | _names(on), capture=capture, backdrop=backdrop, tipped=tip,
        )  # fmt: skip
        steps = iter(track(range(1000), "Shooting", console=console, disable=not console.is_terminal))
        reached = 0

        def progress(done: float, total: float) -> None:
            nonlocal reached
            while reached < int(1000 * done / total):
                next(steps, None)
                reached += 1

        shoot(settings, out, progress, planned)
    except ValueError as error:
        raise PlainError(f"{str(error)[0].upper()}{str(error)[1:]}.") from error
    except FileExistsError as error:
        raise PlainError(f"{error}, which is left alone.", "Give a new folder.") from error
    except OSError as error:
        raise PlainError(
            f"The folder {out} cannot be written ({error.strerror or error}).", "Choose another one."
        ) from error
    console.print(f"{rings * per_ring} photos in {out / 'photos'}", markup=False, highlight=False, soft_wrap=True)


@app.command("film")
def film_command(
    out: Annotated[Path, typer.Option("--out", help="MP4 file to write", show_default=False)],
    scene: Annotated[str, typer.Option(help="milestone, finial or well-head")] = "finial",
    laps: Annotated[int, typer.Option(help="Laps", min=1, max=6)] = 2,
    per_lap: Annotated[int, typer.Option(help="Frames of a whole turn", min=12, max=2000)] = 120,
    size: Annotated[str, typer.Option(help="Size of the film in pixels")] = "640x480",
    seed: Annotated[int, typer.Option(help="The same seed gives the same film")] = 1,
    bars: Annotated[int, typer.Option(help="Rows of black at the top and bottom", min=0)] = 0,
    shaken: Annotated[str, typer.Option(help="Frames in which the camera is shaken, like 200-260")] = "",
    camera: Annotated[str, typer.Option(help=f"Kind of camera: {', '.join(CAMERAS)}")] = "kind",
) -> None:
    """Film laps about a scene; the truth is written beside the film."""
    width, height = parse_size(size)
    if out.suffix.lower() != ".mp4" or out.exists():
        raise PlainError(f"{out} is there already, or does not end in .mp4.", "Name a new MP4 file with --out.")
    if width % 2 or height % 2 or scene in ("yard", "plate") or scene not in SCENES:
        raise PlainError(
            "A film has an even width and height, and an object in its middle.", "Choose another size or scene."
        )
    first, dash, last = shaken.partition("-")
    if camera not in CAMERAS or (shaken and not (dash and first.isdigit() and last.isdigit())):
        raise PlainError(
            f"There is no camera {camera!r}, or {shaken!r} is no stretch like 200-260.",
            f"Cameras: {', '.join(CAMERAS)}.",
        )
    out.parent.mkdir(parents=True, exist_ok=True)
    settings = ShootSettings(scene=scene, width=width, height=height, seed=seed, heldout=0, on=CAMERAS[camera])
    stretch = (int(first), int(last)) if shaken else None
    count = film(settings, out, laps, per_lap, bars=bars, shaken=stretch)
    console.print(f"{count} frames in {out}", markup=False, highlight=False, soft_wrap=True)


@app.command("serve")
def serve_command(
    scene: Annotated[str, typer.Option(help="milestone, finial, well-head or yard")] = "milestone",
    size: Annotated[str, typer.Option(help="Size of the photos in pixels")] = "1200x900",
    focal: Annotated[float, typer.Option(help="Focal length as 35 mm equivalent, in mm")] = 40.0,
    seed: Annotated[int, typer.Option(help="The same seed gives the same photos")] = 1,
    host: Annotated[str, typer.Option(help="Address to listen at")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port to listen at")] = 8770,
) -> None:
    """Camera, stand, turntable and lamps behind HTTP (docs/rig.md). Stop with Ctrl-C."""
    import uvicorn

    from vast_quarry.rig.app import make_rig_app

    width, height = parse_size(size)
    if scene not in SCENES:
        raise PlainError(f"There is no scene called {scene}.", f"Choose one of {', '.join(SCENES)}.")
    if not (64 <= width <= 8000 and 64 <= height <= 8000):
        raise PlainError("The rig's photos have 64 to 8000 pixels a side.")
    settings = ShootSettings(scene=scene, width=width, height=height, focal35=focal, seed=seed, heldout=0)
    console.print(f"The practice rig is at http://{host}:{port}/  (Ctrl-C stops it)", highlight=False)
    uvicorn.run(make_rig_app(settings), host=host, port=port, log_level="warning")
