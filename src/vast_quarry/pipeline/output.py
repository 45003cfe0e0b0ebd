"""Claiming an output folder without ever touching what somebody else put there."""

from __future__ import annotations

import json
from pathlib import Path

from vast_quarry import __version__
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.words import say

MARK = "vast-quarry.json"


def _check_photos(out: Path, photos: Path) -> None:
    if not photos.exists():
        raise PlainError(say("There is no folder {photos}.", photos=photos), "Check the path.")
    if photos.is_file():
        raise PlainError(say("{photos} is a file.", photos=photos), "Give the folder that holds the photos.")
    here, there = out.resolve(), photos.resolve()
    if here == there or here in there.parents or there in here.parents:
        raise PlainError(
            "The photos and the results would lie in one another's folder.",
            "Give a folder beside the photos for --out.",
        )


def claim_output(out: Path, photos: Path | None = None) -> None:
    """Make sure that ``out`` is ours: new, empty, or made by us before.

    Raises
    ------
    PlainError
        When it is a file, holds other things, cannot be written, or holds the photos.
    """
    if out.exists() and not out.is_dir():
        raise PlainError(say("{out} is a file.", out=out), "Give a folder for the results.")
    if photos is not None:
        _check_photos(out, photos)
    mark = out / MARK
    try:
        if out.is_dir() and not mark.exists() and any(out.iterdir()):
            raise PlainError(
                say("{out} already holds other files, which are left alone.", out=out), "Give a new or an empty folder."
            )
        out.mkdir(parents=True, exist_ok=True)
        if not mark.exists():
            write_json(mark, {"made_with": f"Vast Quarry {__version__}"})
        else:
            json.loads(mark.read_bytes())
            write_json(mark, {"made_with": f"Vast Quarry {__version__}"})
    except OSError as error:
        raise PlainError(
            say("The folder {out} cannot be written ({why}).", out=out, why=error.strerror or error),
            "Choose another one for --out.",
        ) from error
    except ValueError as error:
        raise PlainError(
            say("{mark} is damaged, so {out} may not be ours to write to.", mark=mark, out=out), "Give a new folder."
        ) from error
