"""What earlier versions of Cameras found of the same photos, so that it is not found again: features and matches.

Every version keeps in ``made.json`` what its features were made from (the photo's content, its tone, its mask, the settings),
and which pairs it compared. Where another version needs the same, it takes the files.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import is_whole, link_or_copy, read_json, write_json
from vast_quarry.pipeline.steps.photos import Photo

Matches = NDArray[np.int32]
MADE = "made.json"
#: rises whenever features or matches are found in another way
WAY = 2


def feature_key(photo: Photo, mask: Path | None, *settings: Any) -> str:
    """What the features of a photo are made from; empty where its content is not known."""
    if not photo.sha:
        return ""
    kept = hashlib.sha256(mask.read_bytes()).hexdigest() if mask else None
    text = json.dumps([WAY, photo.sha, photo.width, photo.height, photo.tone, kept, *settings], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:24]


def write_made(folder: Path, keys: dict[int, str], ratio: float, pairs: Iterable[tuple[int, int]]) -> None:
    """Note what a version's features are made from, by number of the photo, and which pairs were compared."""
    write_json(
        folder / MADE, {"features": {str(n): k for n, k in keys.items()}, "ratio": ratio, "pairs": [list(p) for p in pairs]}
    )  # fmt: skip


def made_of(folder: Path) -> tuple[dict[int, str], float, list[tuple[int, int]]]:
    """What :func:`write_made` noted; nothing where there is none."""
    try:
        made = read_json(folder / MADE)
        keys = {int(n): str(k) for n, k in made["features"].items() if k}
        return keys, float(made["ratio"]), [(int(a), int(b)) for a, b in made["pairs"]]
    except (OSError, ValueError, KeyError, TypeError):
        return {}, 0.0, []


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
            for number, key in made_of(folder)[0].items():
                out.setdefault(key, folder / "features" / f"{number:05d}.npz")
        return out

    @cached_property
    def _pairs(self) -> dict[tuple[str, str, float], tuple[Path, int, int]]:
        out: dict[tuple[str, str, float], tuple[Path, int, int]] = {}
        for folder in self._versions:
            keys, ratio, pairs = made_of(folder)
            for a, b in pairs:
                if a in keys and b in keys:
                    out.setdefault((keys[a], keys[b], ratio), (folder, a, b))
        return out

    @cached_property
    def _stored(self) -> dict[Path, dict[tuple[int, int], Matches]]:
        return {}

    def take_features(self, key: str, target: Path) -> bool:
        """Put features made from the same there; whether there were any."""
        source = self._features.get(key)
        if not key or source is None or not is_whole(source):
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
        first = int(file.name[:5])
        with np.load(file) as f:
            out |= {(first, int(other)): f[other] for other in f.files}
    return out
