"""``remesh`` and ``bake``: a model of another size, and what the fine one knows as maps of the coarse one."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import numpy as np
import typer

from vast_quarry.cli.telling import MODEL, AsJson, ModelPath, tell_either
from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.maps import KINDS, Request
from vast_quarry.core.formats.models import read_model
from vast_quarry.core.formats.saving import save_model
from vast_quarry.core.words import say
from vast_quarry.pipeline.assets import Size, baked_to, coloured, lighter
from vast_quarry.pipeline.output import claim_output


class Way(StrEnum):
    """Ways of unwrapping."""

    BEST = "best"
    OURS = "ours"
    XATLAS = "xatlas"


def remesh(
    model: ModelPath,
    out: Annotated[Path, typer.Option("--out", help="File to write: .glb, .obj, .ply or .stl", show_default=False)],
    triangles: Annotated[int, typer.Option(help="About so many triangles")] = 0,
    error: Annotated[float, typer.Option(help="As few as keep 95 of 100 places within so many mm")] = 0.0,
    edge: Annotated[float, typer.Option(help="Even triangles with edges so many mm long")] = 0.0,
    even: Annotated[bool, typer.Option("--even", help="Even triangles, also for a count")] = False,
    adaptive: Annotated[
        bool, typer.Option("--adaptive", help="Even triangles, smaller where the surface bends")
    ] = False,
    sharp: Annotated[
        float, typer.Option(help="Keep edges that bend by more than so many degrees (even triangles)")
    ] = 180.0,
    plain: Annotated[bool, typer.Option("--plain", help="Leave colours out")] = False,
    as_json: AsJson = False,
) -> None:
    """Make a mesh of fewer or of even triangles, in the colours of the model, and say how far it lies off."""
    if not 0 < sharp <= 180:
        raise PlainError("An edge bends by 0 to 180 degrees.", "Say --sharp 40, for instance.")
    fine = read_model(model)
    size = Size(triangles, error / 1000, edge / 1000, even, adaptive, float(np.radians(sharp)))
    light, found = lighter(fine, size)
    how = None
    if not plain and out.suffix.lower() != ".stl":
        light, how = coloured(fine, light)
    save_model(out, light)
    facts = {"triangles_before": len(fine.faces), "triangles": len(light.faces), **found.record()}
    if how is not None:
        facts["unwrapped"] = how.record()  # type: ignore[assignment]
    mean, most, largest = (f"{v * 1000:.3g}" for v in (found.mean, found.most_of_it, found.largest))
    sentence = say(
        "{n, plural, one {# triangle} other {# triangles}}; it lies off by {mean} mm on average, 95 % of it by no more than {most} mm, by {largest} mm at most.",
        n=len(light.faces), mean=mean, most=most, largest=largest,
    )  # fmt: skip
    tell_either(facts, as_json, sentence)


def bake_command(
    fine: Annotated[Path, typer.Option("--from", help="The fine model: " + MODEL, show_default=False)],
    coarse: Annotated[Path, typer.Option("--onto", help="The coarse model: " + MODEL, show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for maps, model.glb and report.json", show_default=False)],
    maps: Annotated[
        str, typer.Option(help="Which, with commas between: " + ", ".join(KINDS))
    ] = "color,normal,occlusion",
    size: Annotated[int, typer.Option(help="Pixels a side")] = 2048,
    samples: Annotated[int, typer.Option(help="Each pixel is the mean of so many times so many, 1 to 4")] = 2,
    reach: Annotated[float, typer.Option(help="How far the fine model is looked for, in mm; 0 finds it")] = 0.0,
    reach_in: Annotated[float, typer.Option(help="The same inwards, in mm; 0 is as --reach")] = 0.0,
    rays: Annotated[int, typer.Option(help="Rays for occlusion and thickness at each place")] = 64,
    occluded_within: Annotated[
        float, typer.Option(help="What lies farther away hides nothing, in mm; 0 for no bound")
    ] = 0.0,
    green_down: Annotated[bool, typer.Option("--green-down", help="The normal map's green grows downwards")] = False,
    unwrap: Annotated[Way | None, typer.Option(help="Make new texture coordinates, in this way")] = None,
    as_json: AsJson = False,
) -> None:
    """Bake colour, normals, occlusion and more of a fine model onto a coarse one."""
    wanted = tuple(m.strip() for m in maps.split(",") if m.strip())
    if not wanted:
        raise PlainError("No map is asked for.", say("Use one of {list}.", list=", ".join(KINDS)))
    for name, value, low, high in (
        ("--size", size, 16, 16384),
        ("--samples", samples, 1, 4),
        ("--rays", rays, 1, 4096),
    ):
        if not low <= value <= high:
            raise PlainError(say("{name} has to lie between {low} and {high}.", name=name, low=low, high=high))
    for name, length in (("--reach", reach), ("--reach-in", reach_in), ("--occluded-within", occluded_within)):
        if not (np.isfinite(length) and length >= 0):
            raise PlainError(say("{name} has to be a length of 0 or more.", name=name))
    request = Request(
        wanted, size, samples, reach / 1000, (reach_in or reach) / 1000, rays, occluded_within / 1000, not green_down
    )
    model, onto = read_model(fine), read_model(coarse)
    claim_output(out)
    way = "" if unwrap is None else str(unwrap)
    if unwrap is Way.BEST:
        onto, way = type(onto)(onto.vertices, onto.normals, onto.faces), ""
    report = baked_to(model, onto, request, out, way)
    sentence = say(
        "{n, plural, one {# map} other {# maps}} of {size} pixels a side in {seconds} s; {missed} % of it did not meet the fine model.",
        n=len(wanted), size=size, seconds=report["seconds"], missed=report["missed_percent"],
    )  # fmt: skip
    tell_either(report, as_json, sentence)
