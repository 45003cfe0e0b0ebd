"""Which photos were shot together: as named by hand, as judging proposes, or as they were shot."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json
from vast_quarry.core.formats.documents import changed
from vast_quarry.pipeline.judging import Inspected
from vast_quarry.server.services.folders import Folders

#: where names given by hand are kept
SETS = "sets.json"


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
