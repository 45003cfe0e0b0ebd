"""Earlier versions of the layer being made that differ from it only in some settings: what is alike need not be made again."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.store import NOTES, Version


def versions_alike(context: Context, besides: Collection[str]) -> list[tuple[Path, Version]]:
    """Versions of the layer that differ from the one being made only in some settings and in what they stand on; the newest first."""
    leave = set(besides)
    mine = context.settings.model_dump(mode="json", exclude=leave)
    out = []
    for file in context.folder.parent.glob(f"*/{NOTES}"):
        try:
            other = Version.model_validate_json(file.read_bytes())
            # settings of another version of the program may not be read any more
            theirs = type(context.settings).model_validate(other.settings).model_dump(mode="json", exclude=leave)
        except (OSError, ValueError):
            continue
        if theirs == mine and file.parent.name.isdecimal():
            out.append((file.parent, other))
    return sorted(out, key=lambda found: -int(found[0].name))


def made_before(context: Context, besides: Collection[str]) -> Path | None:
    """Folder of the oldest version that stands on the same and differs only in some settings."""
    parents = {layer: int(folder.name) for layer, folder in context.parents.items()}
    alike = versions_alike(context, besides)
    return next((folder for folder, other in reversed(alike) if other.parents == parents), None)
