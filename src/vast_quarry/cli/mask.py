"""``mask``: what of each photo is the subject."""

from __future__ import annotations

import json
import shutil
from enum import StrEnum
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

import typer
from rich.console import Console

from vast_quarry.cli.report import make_reporter
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json, write_json
from vast_quarry.core.photo.reading import find_photos, read_facts
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.output import claim_output
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import Store

console = Console()


class Way(StrEnum):
    """Ways to masks."""

    SUGGEST = "suggest"
    COLOUR = "colour"
    STILL = "still"
    OUTLINE = "outline"
    CARRY = "carry"
    MODEL = "model"
    FOCUS = "focus"
    FILES = "files"
    NETWORK = "network"


def mask(
    photos: Annotated[Path, typer.Argument(help="Folder with the photos", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for the masks", show_default=False)],
    way: Annotated[Way, typer.Option(help="How masks are found")] = Way.SUGGEST,
    colour: Annotated[
        list[str] | None, typer.Option(help="A colour of the backdrop, like #2a6fb0; may be given often")
    ] = None,
    outline: Annotated[
        Path | None,
        typer.Option(
            help="JSON: rough outlines by name of photo, as lists of [x, y] in pixels, or in shares of 0 to 1"
        ),
    ] = None,
    source: Annotated[
        Path | None, typer.Option("--from", help="Folder that `build` or `align` wrote, whose model is projected")
    ] = None,
    masks: Annotated[
        Path | None, typer.Option(help="Folder with masks that are there already; they are kept, or carried over")
    ] = None,
    network: Annotated[
        Path | None, typer.Option(help="ONNX file of a segmentation network of your own (docs/masks.md)")
    ] = None,
    black_keeps: Annotated[bool, typer.Option("--black-keeps", help="In mask files black is kept, not white")] = False,
    margin: Annotated[
        float, typer.Option(help="Pixels by which masks that were found are grown, or shrunk below 0")
    ] = 0.0,
    tolerance: Annotated[float, typer.Option(help="Colour difference (Delta E 2000) that is still backdrop")] = 12.0,
) -> None:
    """Find masks and write them as STEM.png, white is kept, with masks.json."""
    if way is Way.MODEL and (source is None or not (source / "versions").is_dir()):
        raise PlainError(
            "There is no alignment whose model could be projected.",
            "Give the folder that build or align wrote with --from.",
        )
    if way is Way.OUTLINE and outline is None:
        raise PlainError("There is no outline to grow from.", "Give a JSON file of outlines with --outline.")
    claim_output(out, photos)
    colors = [_color(c) for c in colour or ()]
    chosen = "files" if way is Way.OUTLINE else str(way)
    changes: dict[str, Any] = {
        "black_keeps": black_keeps,
        "way": chosen,
        "key_colors": colors,
        "margin_px": margin,
        "tolerance": tolerance,
    }
    with TemporaryDirectory(dir=out, prefix=".work") as work, make_reporter(console) as reporter:
        edits = _edits(outline, photos, Path(work)) if outline else None
        store = Store(Path(work))
        places: dict[str, dict[str, Any]] = {
            "photos": {"folder": str(photos.resolve())},
            "masks": {
                "folder": str(masks.resolve()) if masks else None,
                "model": str(source.resolve()) if source else None,
                "network": str(network.resolve()) if network else None,
                "edits": str(edits) if edits else None,
            },
        }
        result = Runner(store, reporter).run(recipe_for(Grade.DRESSED, {"masks": changes}), places, until="masks")
        version = result.versions["masks"]
        folder = store.folder(version)
        found_of = read_json(folder / "masks.json")
        listed = read_photo_list(store.folder(result.versions["photos"]))
        written = 0
        for photo in listed.usable:
            found = mask_file(folder, photo.number)
            if found is not None:
                target = out / Path(photo.path).with_suffix(".png")
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(found, target)
                written += 1
    rows = [
        {"photo": path, "way": row["way"] or None, "confidence": row["sure"], "area": row["share"]}
        for path, row in found_of["photos"].items()
    ]
    write_json(out / "masks.json", {"way": found_of["way"], "why": found_of["why"], "photos": rows})
    console.print(
        f"{written} of {len(rows)} photos have a mask (by {found_of['way']}): {out}",
        markup=False, highlight=False, soft_wrap=True,
    )  # fmt: skip


def _color(text: str) -> tuple[int, int, int]:
    """``#2a6fb0`` as red, green, blue."""
    digits = text.removeprefix("#")
    try:
        if len(digits) != 6:
            raise ValueError
        value = int(digits, 16)
    except ValueError as error:
        raise PlainError(f"{text} is no colour.", "Write it like #2a6fb0.") from error
    return value >> 16, value >> 8 & 255, value & 255


def _edits(outline: Path, photos: Path, work: Path) -> Path:
    """The outlines of a file as edits that grow the subject from them."""
    try:
        found_of = json.loads(outline.read_text("utf-8"))
        if not isinstance(found_of, dict):
            raise TypeError
    except (OSError, ValueError, TypeError) as error:
        raise PlainError(
            f"{outline} holds no outlines.", 'It is JSON like {"photo.jpg": [[120, 80], [400, 90], [260, 500]]}.'
        ) from error
    files = find_photos(photos)
    named = {key: p for p in reversed(files) for key in (p.stem, p.name, str(p.relative_to(photos)))}
    steps = []
    for name, points in found_of.items():
        if name not in named:
            raise PlainError(
                f"{outline.name} has an outline for {name}, but there is no such photo.", "Check the name."
            )
        path = named[name]
        try:
            xy = [(float(x), float(y)) for x, y in points]
            if max(max(abs(x), abs(y)) for x, y in xy) > 1.0:
                facts = read_facts(path)
                xy = [((x + 0.5) / facts.width, (y + 0.5) / facts.height) for x, y in xy]
        except (TypeError, ValueError) as error:
            raise PlainError(f"The outline of {name} is no list of places.", "It is a list of [x, y].") from error
        steps.append({"paths": [str(path.relative_to(photos))], "edit": {"kind": "grow", "points": xy}})
    target = work / "edits.json"
    write_json(target, {"steps": steps})
    return target
