"""Names that come from outside: cleaned first, then looked at, and never of anything beyond the folder they are meant for."""

from __future__ import annotations

from pathlib import Path

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say

#: bytes of a name without its ending: file systems take 255 in all, and writing needs a few more for a moment
STEM_BYTES = 200
#: longest ending
ENDING = 10


def clean_name(name: str, instead: str = "file") -> str:
    """A file name that any file system takes and no folder hides or climbs by; ``instead`` stands for nothing at all.

    What cannot be shown goes, and so do dots and spaces in front and spaces at the end; the ending stays as it is.
    """
    shown = "".join(c for c in name.replace("\\", "/").rsplit("/", 1)[-1] if c.isprintable())
    shown = shown.encode("utf-8", "ignore").decode("utf-8").lstrip(". ").rstrip()
    path = Path(shown or instead)
    ending = path.suffix if len(path.suffix) <= ENDING else ""
    stem = path.name[: len(path.name) - len(ending)]
    return stem.encode("utf-8")[:STEM_BYTES].decode("utf-8", "ignore").rstrip() + ending


def clean_path(name: str, deepest: int = 3) -> Path:
    """A name with the folders before it, the last ``deepest`` parts, each cleaned; parts that say nothing are left out."""
    parts = [p for p in name.replace("\\", "/").split("/") if "".join(c for c in p if c.isprintable()).strip(". ")]
    return Path(*[clean_name(p) for p in parts[-deepest:]]) if parts else Path("file")


def within(folder: Path, name: str | Path) -> Path:
    """The file of a name below a folder, which it does not leave, by links either.

    Raises
    ------
    PlainError
        When it does.
    """
    file, root = folder / name, folder.resolve()
    # the file itself may be a link of ours to where a photo lies; the way to it may not lead out
    if (
        ".." in file.parts[len(folder.parts) :]
        or file.name in ("", ".", "..")
        or not file.parent.resolve().is_relative_to(root)
    ):
        raise PlainError(say("{name} leads out of its folder.", name=str(name)), "Give it another name.")
    return file
