"""What earlier versions of Cameras found of the same photos, so that it is not found again: features and matches.

Every version keeps in ``made.json`` what its features were made from (the photo's content, its tone, its mask, the settings),
and which pairs it compared. Where another version needs the same, it takes the files.
"""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Collection
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import is_whole, link_or_copy, read_json, write_json
from vast_quarry.pipeline.steps.photos import Photo

Matches = NDArray[np.int32]
MADE = "made.json"
#: rises whenever features or matches are found in another way
WAY = 2
#: what keys of photos begin with whose content is not known (lists of photos of earlier programs): no other version takes them
BY_PATH = "path-"


def feature_key(photo: Photo, mask: Path | None, *settings: Any) -> str:
    """What the features of a photo are made from; of a photo whose content is not known, good within one version only."""
    kept = hashlib.sha256(mask.read_bytes()).hexdigest() if mask else None
    content = photo.sha or photo.path
    text = json.dumps([WAY, content, photo.width, photo.height, photo.tone, kept, *settings], sort_keys=True)
    return ("" if photo.sha else BY_PATH) + hashlib.sha256(text.encode()).hexdigest()[:24]


def features_file(folder: Path, number: int, key: str) -> Path:
    """Where features made from that are kept by a version, by number of the photo."""
    return folder / "features" / f"{number:05d}-{key}.npz"


def features_of(folder: Path, number: int) -> Path:
    """Where the features of a photo are in a finished version; earlier programs named them by its number alone."""
    return next(iter((folder / "features").glob(f"{number:05d}-*.npz")), folder / "features" / f"{number:05d}.npz")


def number_of(file: Path) -> int:
    """Number of the photo that a file of features, or of matches, begins with."""
    return int(file.stem.split("-")[0])


def keep_only(folder: Path, files: Collection[Path]) -> None:
    """Forget features and matches that the result was not made from: those of other attempts; and what was gathered of them."""
    shutil.rmtree(folder / "units", ignore_errors=True)
    for part in ("features", "matches"):
        for file in (folder / part).glob("*.npz"):
            if file not in files:
                file.unlink()


@dataclass(frozen=True)
class Made:
    """What a version is made from: keys of features by number of the photo, and how they were sought; pairs compared."""

    keys: dict[int, str] = field(default_factory=dict)
    ratio: float = 0.0
    pairs: list[tuple[int, int]] = field(default_factory=list)
    tilts: tuple[float, ...] = ()
    lifted: bool = False


def write_made(folder: Path, made: Made) -> None:
    """Note what a version is made from."""
    write_json(
        folder / MADE,
        {
            "features": {str(n): k for n, k in made.keys.items()},
            "ratio": made.ratio,
            "pairs": [list(p) for p in made.pairs],
            "tilts": list(made.tilts),
            "lifted": made.lifted,
        },
    )


def made_of(folder: Path) -> Made:
    """What :func:`write_made` noted; nothing where there is none."""
    try:
        made = read_json(folder / MADE)
        return Made(
            {int(n): str(k) for n, k in made["features"].items() if k and not k.startswith(BY_PATH)},
            float(made["ratio"]),
            [(int(a), int(b)) for a, b in made["pairs"]],
            tuple(float(t) for t in made.get("tilts", ())),
            bool(made.get("lifted", False)),
        )
    except (OSError, ValueError, KeyError, TypeError, PlainError):
        return Made()


class Earlier:
    """Features and matches of the versions beside one that is being made."""

    def __init__(self, making: Path) -> None:
        self._versions = sorted(
            (p for p in making.parent.iterdir() if p.name.isdecimal() and (p / MADE).exists()),
            key=lambda p: -int(p.name),
        )

    @cached_property
    def _features(self) -> dict[str, Path]:
        out: dict[str, Path] = {}
        for folder in self._versions:
            for number, key in made_of(folder).keys.items():
                out.setdefault(key, features_of(folder, number))
        return out

    @cached_property
    def _pairs(self) -> dict[tuple[str, str, float], tuple[Path, int, int]]:
        out: dict[tuple[str, str, float], tuple[Path, int, int]] = {}
        for folder in self._versions:
            made = made_of(folder)
            for a, b in made.pairs:
                if a in made.keys and b in made.keys:
                    out.setdefault((made.keys[a], made.keys[b], made.ratio), (folder, a, b))
        return out

    @cached_property
    def _stored(self) -> dict[Path, dict[tuple[int, int], Matches]]:
        return {}

    def take_features(self, key: str, target: Path) -> bool:
        """Put features made from the same there; whether there were any."""
        source = self._features.get(key)
        if source is None or not is_whole(source):
            return False
        link_or_copy(source, target)
        return True

    def matches(self, key: str, other: str, ratio: float) -> Matches | None:
        """Matches (K, 2) of two photos, none of them where they were compared in vain; None where they were not."""
        found = self._pairs.get((key, other, ratio))
        if found:
            return self._of(found[0], found[1], found[2])
        turned = self._pairs.get((other, key, ratio))
        m = self._of(turned[0], turned[1], turned[2]) if turned else None
        return None if m is None else np.ascontiguousarray(m[:, ::-1])

    def _of(self, folder: Path, a: int, b: int) -> Matches | None:
        if folder not in self._stored:
            self._stored[folder] = all_matches(folder)
        if not (folder / "matches").is_dir():
            return None
        return self._stored[folder].get((a, b), np.zeros((0, 2), np.int32))


def all_matches(folder: Path) -> dict[tuple[int, int], Matches]:
    """All verified matches that a version holds, by numbers of the photos."""
    out: dict[tuple[int, int], Matches] = {}
    for file in sorted((folder / "matches").glob("*.npz")):
        out |= matches_in(file)
    return out


def matches_in(file: Path) -> dict[tuple[int, int], Matches]:
    """Matches of a bundle of pairs, by numbers of the photos."""
    with np.load(file) as f:
        return {(number_of(file), int(other)): f[other] for other in f.files}
