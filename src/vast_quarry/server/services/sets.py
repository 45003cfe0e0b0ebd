"""Which photos were shot together: as named by hand, as judging proposes, or as they were shot."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, Field

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json
from vast_quarry.core.formats.documents import changed
from vast_quarry.pipeline.judging import Inspected
from vast_quarry.server.services.folders import Folders

#: where names given by hand are kept, and colours and notes of sets
SETS, MARKS = "sets.json", "set-marks.json"


class Mark(BaseModel):
    """Colour and note of a set."""

    color: str = Field("", pattern="^(#[0-9a-f]{6})?$", description="As #rrggbb; empty for none")
    note: str = Field("", max_length=2000)


class SetOut(Mark):
    """A set of photos."""

    name: str
    count: int


def told(folders: Folders, of_photos: Mapping[str, str]) -> list[SetOut]:
    """Sets by the names of photos' sets, the largest first."""
    marks = read_json(folders.root / MARKS)
    counted = Counter(of_photos.values()).most_common()
    return [SetOut(name=n, count=c, **Mark.model_validate(marks.get(n, {})).model_dump()) for n, c in counted]


def mark(folders: Folders, name: str, mark: Mark) -> None:
    """Give a set a colour and a note; without either it has none."""
    with changed(folders.root / MARKS) as marks:
        marks.pop(name, None)
        if mark.color or mark.note.strip():
            marks[name] = mark.model_dump()


def by_hand(folders: Folders) -> dict[str, str]:
    """Names of sets given by hand, by path."""
    return {str(k): str(v) for k, v in read_json(folders.root / SETS).items()}


def name_set(folders: Folders, paths: list[str], name: str) -> None:
    """Put photos into a set of a name: a new name splits them off, a known one merges, an empty one undoes it.

    Raises
    ------
    PlainError
        When the name is too long or not printable.
    """
    clean = name.strip()
    if len(clean) > 60 or not clean.isprintable():
        raise PlainError("The name of a set has up to 60 letters.", "Choose a shorter one.")
    with changed(folders.root / SETS) as names:
        for path in paths:
            if clean:
                names[path] = clean
            else:
                names.pop(path, None)


def set_of(path: str, names: Mapping[str, str], found: Mapping[str, Inspected], shots: Mapping[str, Any]) -> str | None:
    """The set of a photo; None where nothing is known."""
    if path in names:
        return names[path]
    if path in found and found[path].set:
        return found[path].set
    shoot = shots.get(path, {}).get("shoot")
    return f"shoot {shoot}" if shoot is not None else None
