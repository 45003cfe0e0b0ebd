"""``save``, ``print-check``, ``picture``, ``film``, ``view``, ``archive`` and ``restore``: a model on its way to the next program."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import cv2
import numpy as np
import typer

from vast_quarry.cli.telling import AsJson, ModelPath, tell, tell_either
from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.picturing import LOOKS, Film, Look, Studio, View, frames
from vast_quarry.core.finish.printing import Printer, check, mended
from vast_quarry.core.formats.atomic import atomic_write, no_such_format
from vast_quarry.core.formats.clouds import WRITERS as CLOUD_WRITERS
from vast_quarry.core.formats.clouds import Cloud, save_cloud
from vast_quarry.core.formats.films import write_film
from vast_quarry.core.formats.models import Model, read_model
from vast_quarry.core.formats.ply import read_ply
from vast_quarry.core.formats.saving import WRITERS, save_model
from vast_quarry.core.surface.mesh import joined, vertex_normals
from vast_quarry.core.words import say
from vast_quarry.pipeline.archive import pack, unpack
from vast_quarry.pipeline.destinations import DESTINATIONS, destination, save_for
from vast_quarry.pipeline.measures import has_scale
from vast_quarry.pipeline.viewer import write_viewer

FORMATS = [k[1:] for k in WRITERS]
CLOUDS = [k[1:] for k in CLOUD_WRITERS if k != ".ply"]


def save(
    model: ModelPath,
    out: Annotated[Path, typer.Option("--out", help="File to write", show_default=False)],
    format: Annotated[
        str, typer.Option(help="One of " + ", ".join([*FORMATS, *CLOUDS]) + "; by the file's ending when left out")
    ] = "",
    to: Annotated[str, typer.Option("--destination", help="Where it goes: " + ", ".join(DESTINATIONS))] = "",
    cloud: Annotated[bool, typer.Option("--cloud", help="The dense cloud of a build instead of its mesh")] = False,
    as_json: AsJson = False,
) -> None:
    """Save a model, or the dense cloud of a build, in an open format or as a destination takes it."""
    goes = destination(to) if to else None
    kind = format.lower().lstrip(".") or out.suffix.lower().lstrip(".") or (goes.format if goes else "")
    if kind not in FORMATS + CLOUDS:
        raise no_such_format(kind or out.name, FORMATS + CLOUDS)
    if out.suffix.lower() != f".{kind}":
        out = out.with_name(f"{out.name}.{kind}")
    facts: dict[str, Any] = {}
    if cloud or kind in CLOUDS:
        made = _cloud_of(model)
        save_cloud(out, made)
        facts = {"points": len(made.points)}
    elif goes is not None:
        facts = save_for(read_model(model), goes, out)
    else:
        given = read_model(model)
        save_model(out, given)
        facts = {"triangles": len(given.faces)}
    facts |= {"file": str(out), "bytes": out.stat().st_size}
    sentences = [say("{file}: {size} MB.", file=out.name, size=f"{facts['bytes'] / 1e6:.2f}")]
    if facts.get("heavy"):
        sentences.append(say("That is more than opens well there. Take fewer triangles or a smaller texture."))
    tell_either(facts, as_json, *sentences)


def _cloud_of(source: Path) -> Cloud:
    """The dense cloud of a folder that a build wrote, or of a PLY file."""
    path = source / "dense.ply" if source.is_dir() else source
    if not path.is_file() or path.suffix.lower() != ".ply":
        raise PlainError(
            say("There is no dense cloud in {path}.", path=source),
            "Give a folder that build wrote up to Points, or a PLY.",
        )
    data = read_ply(path)
    extra = data.extra or {}
    return Cloud(data.points, data.colors, data.normals, extra.get("views"), extra.get("sigma"), extra.get("filled"))


def print_check(
    model: ModelPath,
    room: Annotated[str, typer.Option(help="What the printer takes, in mm, as WIDTHxDEPTHxHEIGHT")] = "220x220x250",
    wall: Annotated[float, typer.Option(help="Thinnest wall that holds, in mm")] = 1.2,
    scale: Annotated[float, typer.Option(help="Print it so many times as large")] = 1.0,
    mend: Annotated[Path | None, typer.Option(help="Write it mended for printing: .3mf or .stl")] = None,
    as_json: AsJson = False,
) -> None:
    """Say whether a model can be printed, and what stands against it."""
    try:
        sides = [float(x) for x in room.lower().split("x")]
        if len(sides) != 3 or not all(np.isfinite(s) and s > 0 for s in sides):
            raise ValueError
    except ValueError as error:
        raise PlainError(say("“{text}” is no room of a printer.", text=room), "Write it as 220x220x250.") from error
    if not (np.isfinite(wall) and wall > 0 and np.isfinite(scale) and scale > 0):
        raise PlainError("The wall and the scale have to be above 0.")
    given = read_model(model)
    v, f = joined(given.vertices * scale, given.faces)
    if mend is not None:
        v, f = mended(v, f)
        save_model(mend, Model(v, vertex_normals(v, f), f))
    found = check(v, f, Printer((sides[0], sides[1], sides[2]), wall))
    sentences = [
        say("It can be printed.") if not found.findings else say("It cannot be printed as it is."),
        *found.findings,
    ]
    if found.volume:
        grams = ", ".join(f"{name} {w:g} g" for name, w in found.weights().items())
        sentences.append(say("Solid it weighs: {list}.", list=grams))
    tell_either(found.record(), as_json, *sentences)


def _look(name: str) -> Look:
    if name not in LOOKS:
        raise PlainError(
            say("There is no look called “{name}”.", name=name), say("Use one of {list}.", list=", ".join(LOOKS))
        )
    return name  # type: ignore[return-value]


def _sides(width: int, height: int) -> None:
    for name, value in (("--width", width), ("--height", height)):
        if not 16 <= value <= 16384:
            raise PlainError(say("{name} has to lie between {low} and {high}.", name=name, low=16, high=16384))


def picture(
    model: ModelPath,
    out: Annotated[Path, typer.Option("--out", help="PNG file to write", show_default=False)],
    width: Annotated[int, typer.Option(help="Pixels")] = 1600,
    height: Annotated[int, typer.Option(help="Pixels")] = 1200,
    turn: Annotated[float, typer.Option(help="From where, in degrees about the model")] = 30.0,
    rise: Annotated[float, typer.Option(help="How high, in degrees over the horizon")] = 18.0,
    look: Annotated[str, typer.Option(help="One of " + ", ".join(LOOKS))] = "textured",
) -> None:
    """Take a picture of a model, clear where nothing is."""
    _sides(width, height)
    image = Studio(read_model(model)).picture_of(View(turn, rise), width, height, _look(look), samples=2)
    ok, data = cv2.imencode(".png", image)
    assert ok
    out.parent.mkdir(parents=True, exist_ok=True)
    with atomic_write(out) as f:
        f.write(data.tobytes())


def film(
    model: ModelPath,
    out: Annotated[Path, typer.Option("--out", help="Film to write: .mp4, .webm or .gif", show_default=False)],
    seconds: Annotated[float, typer.Option(help="How long")] = 10.0,
    width: Annotated[int, typer.Option(help="Pixels")] = 1280,
    height: Annotated[int, typer.Option(help="Pixels")] = 720,
    rate: Annotated[int, typer.Option(help="Pictures a second")] = 25,
    turns: Annotated[float, typer.Option(help="Turns of the model")] = 1.0,
    rise: Annotated[float, typer.Option(help="How high it is looked from, in degrees")] = 18.0,
    look: Annotated[
        str, typer.Option(help="One after the other, with commas between: " + ", ".join(LOOKS))
    ] = "textured",
    split: Annotated[bool, typer.Option("--split", help="Looks side by side along a line instead")] = False,
) -> None:
    """Make a film of a turning model."""
    _sides(width, height)
    if not (np.isfinite(seconds) and 0 < seconds <= 600 and 1 <= rate <= 120):
        raise PlainError("A film lasts up to 600 seconds, at 1 to 120 pictures a second.")
    looks = tuple(_look(n.strip()) for n in look.split(",") if n.strip()) or ("textured",)
    wanted = Film(width, height, seconds, rate, turns, rise, looks, split=split)  # type: ignore[arg-type]
    write_film(out, frames(Studio(read_model(model)), wanted), rate)
    tell(say("{file}: {size} MB.", file=out.name, size=f"{out.stat().st_size / 1e6:.2f}"))


def view(
    model: ModelPath,
    out: Annotated[Path, typer.Option("--out", help="HTML file to write", show_default=False)],
    title: Annotated[str, typer.Option(help="What stands above the model")] = "",
) -> None:
    """Put a model into one HTML file that shows it in any browser, without a network."""
    name = title or (model.stem if model.is_file() else model.resolve().name)
    write_viewer(out, read_model(model), name, has_scale(model) is not False)
    tell(say("{file}: {size} MB.", file=out.name, size=f"{out.stat().st_size / 1e6:.2f}"))


def archive(
    project: Annotated[
        Path, typer.Argument(help="Folder that build wrote, or number of a project of the page", show_default=False)
    ],
    out: Annotated[Path, typer.Option("--out", help="Zip to write", show_default=False)],
    partial: Annotated[bool, typer.Option("--partial", help="Without what can be made again")] = False,
    data: Annotated[Path | None, typer.Option(help="Where the page keeps its projects")] = None,
) -> None:
    """Put a project into one zip, with checksums."""
    if str(project).isdecimal() and not project.exists():
        from vast_quarry.server.services.archives import pack_project

        manifest = pack_project(_data(data), int(str(project)), out, partial)
    else:
        manifest = pack(project, out, partial=partial)
    tell(
        say(
            "{n, plural, one {# file} other {# files}}, {size} MB.",
            n=len(manifest["files"]),
            size=f"{out.stat().st_size / 1e6:.1f}",
        )
    )


def _data(given: Path | None) -> Path:
    from vast_quarry.cli.serve import default_data

    return given or default_data()


def restore(
    file: Annotated[Path, typer.Argument(help="Zip that archive wrote", show_default=False)],
    out: Annotated[
        Path | None, typer.Option("--out", help="New folder for what a build wrote", show_default=False)
    ] = None,
    data: Annotated[Path | None, typer.Option(help="Where the page keeps its projects")] = None,
) -> None:
    """Unpack an archive: into a folder, or as a project of the page."""
    if out is not None:
        manifest = unpack(file, out)
        tell(
            say(
                "{n, plural, one {# file} other {# files}}, {size} MB.",
                n=len(manifest["files"]),
                size=f"{manifest['bytes'] / 1e6:.1f}",
            )
        )
        return
    from vast_quarry.server.services.archives import unpack_project

    number, name = unpack_project(_data(data), file)
    tell(say("Project {number}: {name}.", number=number, name=name))
