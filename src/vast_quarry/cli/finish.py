"""``finish`` and ``measure``: edits replayed on a model, and measures of it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer

from vast_quarry.cli.telling import AsJson, ModelPath, console, tell_either
from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, write_json
from vast_quarry.core.formats.models import read_model
from vast_quarry.core.formats.saving import save_model
from vast_quarry.core.words import say
from vast_quarry.pipeline.editing import box_of, edit_report, edited, read_edits
from vast_quarry.pipeline.measures import measures, parse_box, parse_places, section_files
from vast_quarry.pipeline.output import claim_output


def finish(
    model: ModelPath,
    edits: Annotated[
        Path,
        typer.Option("--edits", help="JSON of edits, as the page saves them (docs/formats.md)", show_default=False),
    ],
    out: Annotated[Path, typer.Option("--out", help="Folder for the edited model and report.json", show_default=False)],
    as_json: AsJson = False,
) -> None:
    """Do edits to a model: cut, close, smooth, place and more, step by step."""
    steps = read_edits(edits)
    given = read_model(model)
    claim_output(out)
    made, done = edited(given, steps, box_of(model, given))
    save_model(out / "model.glb", made)
    save_model(out / "model.obj", made)
    save_model(out / "mesh.ply", made)
    report = edit_report(made, done)
    write_json(out / "report.json", report)
    sentence = say(
        "{n, plural, one {# edit} other {# edits}} done: {count, plural, one {# triangle} other {# triangles}}, {open, plural, =0 {closed} one {# open edge} other {# open edges}}.",
        n=len(done), count=report["triangles"], open=report["open_edges"],
    )  # fmt: skip
    tell_either(report, as_json, sentence)


def measure(
    model: ModelPath,
    distance: Annotated[
        str, typer.Option(help="Places along a chain, as X,Y,Z:X,Y,Z[:…] in the model's unit (metres)")
    ] = "",
    angle: Annotated[str, typer.Option(help="Angle at the middle one of three places, as X,Y,Z:X,Y,Z:X,Y,Z")] = "",
    section: Annotated[str, typer.Option(help="Cut by a plane, as POINT:NORMAL, such as 0,0,0.2:0,0,1")] = "",
    svg: Annotated[Path | None, typer.Option(help="Write the section as SVG, in mm")] = None,
    dxf: Annotated[Path | None, typer.Option(help="Write the section as DXF, in mm")] = None,
    fit: Annotated[str, typer.Option(help="Fit a plane, circle, cylinder or sphere")] = "",
    within: Annotated[str, typer.Option(help="Only what lies in a box, as X,Y,Z:X,Y,Z (two corners)")] = "",
    volume: Annotated[bool, typer.Option("--volume", help="Volume: of a closed model, or over --over")] = False,
    over: Annotated[float | None, typer.Option(help="Volume over this height instead (model's unit)")] = None,
    rough: Annotated[bool, typer.Option("--roughness", help="Roughness of what lies within the box")] = False,
    as_json: AsJson = False,
) -> None:
    """Measure a model: size, area, volume, distances, angles, sections, fitted bodies, roughness."""
    given = read_model(model)
    box: KeepBox | None = parse_box(within) if within else None
    wanted: dict[str, Any] = {
        "distance": parse_places(distance, 2, "--distance") if distance else None,
        "angle": parse_places(angle, 3, "--angle", 3) if angle else None,
        "section": parse_places(section, 2, "--section", 2) if section else None,
        "fit": fit, "volume": volume or over is not None, "over": over, "roughness": rough,
    }  # fmt: skip
    if (svg or dxf) and wanted["section"] is None:
        raise PlainError("There is no section to draw.", "Say where with --section POINT:NORMAL.")
    facts, cut = measures(given, model, box, wanted)
    if cut is not None:
        for path, data in section_files(cut, svg, dxf):
            with atomic_write(path) as out:
                out.write(data)
    if as_json:
        typer.echo(json.dumps(facts, indent=1))
        return
    for name, value in facts.items():
        if isinstance(value, dict):
            inner = ", ".join(f"{k.replace('_', ' ')} {_short(v)}" for k, v in value.items())
            console.print(f"{name}: {inner}", markup=False, highlight=False)
        else:
            console.print(f"{name.replace('_', ' ')}: {_short(value)}", markup=False, highlight=False)


def _short(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, list):
        return " × ".join(_short(v) for v in np.asarray(value).tolist()) if value else "none"
    return str(value)
