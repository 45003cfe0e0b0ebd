"""Edits of masks as they are sent and kept: JSON that is checked."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

from pydantic import Field, TypeAdapter, ValidationError

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json
from vast_quarry.core.mask.edits import Edit
from vast_quarry.core.words import say

AnyEdit = Annotated[Edit, Field(discriminator="kind")]
one: TypeAdapter[Edit] = TypeAdapter(AnyEdit)
several: TypeAdapter[list[Edit]] = TypeAdapter(list[AnyEdit])


def edits_made(folder: Path) -> dict[str, Any]:
    """The edits that a version of Masks was made with, by photo."""
    file = folder / "edits.json"
    return read_json(file) if file.exists() else {}


def edits_by_photo(file: str | None) -> dict[str, list[dict[str, Any]]]:
    """Edits of each photo by its path, from a file of steps, in their order.

    Raises
    ------
    PlainError
        When the file cannot be read.
    """
    if file is None:
        return {}
    try:
        out: dict[str, list[dict[str, Any]]] = {}
        for step in read_json(Path(file)).get("steps", []):
            one.validate_python(step["edit"])
            for path in step["paths"]:
                out.setdefault(str(path), []).append(step["edit"])
        return out
    except (OSError, ValueError, KeyError, TypeError, ValidationError) as error:
        raise PlainError(
            say("What was mended by hand ({name}) cannot be read.", name=Path(file).name),
            "It is JSON: a list of steps, each with paths of photos and an edit.",
        ) from error
