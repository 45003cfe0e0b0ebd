"""``inspect``: what is wrong with photos, before hours are spent on them."""

from __future__ import annotations

import json
import sys
from collections import Counter
from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated

import typer
from rich.console import Console
from rich.progress import Progress as Bars
from rich.progress import TaskID

from vast_quarry.cli.language import told
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.photo.reading import find_photos
from vast_quarry.pipeline.executors import LazyExecutor
from vast_quarry.pipeline.judging import look_over
from vast_quarry.pipeline.steps.photos import clean_name

console = Console(soft_wrap=True)


def inspect_command(
    photos: Annotated[Path, typer.Argument(help="Folder with photos", show_default=False)],
    masks: Annotated[
        Path | None, typer.Option("--masks", help="Folder with masks named STEM.png: only the subject is judged")
    ] = None,
    json_file: Annotated[
        Path | None, typer.Option("--json", help="Write what is found to this file, or - for the screen")
    ] = None,
) -> None:
    """Judge photos: keep, doubtful or leave out, with the reason."""
    paths = [str(p.relative_to(photos)) for p in find_photos(photos)]
    if not paths:
        raise PlainError(f"There are no photos in {photos}.", "Give the folder that holds them.")
    with (
        closing(LazyExecutor()) as pool,
        TemporaryDirectory() as kept,
        Bars(console=console, disable=not console.is_terminal) as bars,
    ):
        shown: dict[str, TaskID] = {}

        def progress(text: str, done: float, total: float) -> None:
            if text not in shown:
                shown[text] = bars.add_task(text)
            bars.update(shown[text], completed=done + 1, total=total)

        found = look_over(photos, paths, masks, Path(kept), pool, progress)
    document = {"photos": [p.model_dump() for p in found.photos], "findings": found.findings}
    if json_file is not None and str(json_file) == "-":
        sys.stdout.write(json.dumps(document, indent=1) + "\n")
        return
    if json_file is not None:
        try:
            write_json(json_file, document)
        except OSError as error:
            raise PlainError(f"{json_file} cannot be written ({error.strerror}).", "Choose another place.") from error
    say = lambda text: console.print(text, markup=False, highlight=False)  # noqa: E731
    for p in found.photos:
        if p.proposal != "keep":
            say(f"{p.proposal}: {clean_name(p.photo)} {told(p.says).rstrip('.')}.")
    for finding in found.findings:
        say(told(finding))
    counts = Counter(p.proposal for p in found.photos)
    say(f"{counts['keep']} to keep, {counts['doubtful']} doubtful, {counts['leave out']} to leave out.")
