"""Versions on disk: every result an immutable folder with its settings, its parents and its figures.

Layout below the root::

    versions/<layer>/<number>/version.json   and the step's files
    versions/<layer>/<key>.partial/          a run under way; found again by its key after a kill
    versions/in-use.json                     which version of each layer feeds the layers below it
    versions/numbers.json                    highest numbers of layers of which versions were removed
    versions/.lock                           held by whoever makes versions here

A version comes into being by one rename, after everything in it is on the disk, and lists its files with their sizes: it
is whole, or it is not there.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json, sync, write_json
from vast_quarry.core.formats.documents import changed
from vast_quarry.core.formats.lock import Taken, lock
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.sentence import Sentence

#: raised when a change of the code makes earlier results of the same settings differ
FORMAT = 1
#: what a version's folder says about it
NOTES = "version.json"
#: the highest number that each layer had when some of its versions were removed
GONE = "numbers.json"


class Version(BaseModel):
    """One saved result of a layer."""

    layer: str
    number: int
    key: str
    settings: dict[str, Any]
    parents: dict[str, int]
    figures: dict[str, Any]
    findings: list[Sentence]
    seconds: float
    made: str
    #: seconds of each stage, in order
    stages: dict[str, float] = {}
    #: bytes of each file of the version; none in versions made before this was noted
    files: dict[str, int] | None = None

    @property
    def name(self) -> str:
        """Like ``points 3``."""
        return f"{self.layer} {self.number}"


def version_key(layer: str, settings: dict[str, Any], parents: dict[str, str], extra: str = "") -> str:
    """Identity of a result before it is made: layer, settings and the keys of its parents."""
    text = json.dumps([FORMAT, layer, settings, parents, extra], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:20]


class Store:
    """The versions of one project."""

    def __init__(self, root: Path) -> None:
        self.root = root / "versions"

    def prepare(self) -> None:
        """Make the folder.

        Raises
        ------
        PlainError
            When it cannot be made or written.
        """
        try:
            self.root.mkdir(parents=True, exist_ok=True)
            probe = self.root / f".probe.{os.getpid()}"
            probe.write_bytes(b"")
            probe.unlink()
        except OSError as error:
            raise PlainError(
                say(
                    "The folder {parent} cannot be written ({why}).",
                    parent=self.root.parent,
                    why=error.strerror or error,
                ),
                "Choose another one.",
            ) from error

    @contextmanager
    def making(self) -> Iterator[None]:
        """Be the only one that makes versions here.

        Raises
        ------
        PlainError
            When somebody else does.
        """
        try:
            with lock(self.root / ".lock"):
                yield
        except Taken as error:
            raise PlainError(
                say("Another run is at work in {parent}{whose}.", parent=self.root.parent, whose=error.whose),
                "Wait until it is done, or stop it.",
            ) from error

    def versions(self, layer: str) -> list[Version]:
        """All versions of a layer, oldest first; damaged ones are passed over."""
        out = []
        folder = self.root / layer
        if folder.is_dir():
            for entry in folder.iterdir():
                if entry.name.isdecimal() and (version := _read(entry)) is not None:
                    out.append(version)
        return sorted(out, key=lambda v: v.number)

    def find(self, layer: str, key: str) -> Version | None:
        """The newest version of a layer with this key, if it was made."""
        return next((v for v in reversed(self.versions(layer)) if v.key == key), None)

    def folder(self, version: Version) -> Path:
        """Where a version's files are."""
        return self.root / version.layer / str(version.number)

    def partial(self, layer: str, key: str) -> Path:
        """Folder of a run under way, kept from an earlier attempt or made afresh."""
        path = self.root / layer / f"{key}.partial"
        path.mkdir(parents=True, exist_ok=True)
        return path

    def finish(
        self,
        layer: str,
        key: str,
        settings: dict,
        parents: dict[str, int],
        figures: Mapping[str, Any],
        findings: Sequence[Said],
        seconds: float,
        stages: dict[str, float] | None = None,
    ) -> Version:
        """Turn a partial run into a version.

        Raises
        ------
        PlainError
            When its folder is gone: somebody removed it meanwhile.
        """
        folder = self.root / layer / f"{key}.partial"
        if not folder.is_dir():
            raise PlainError(
                say("The folder of the run, {folder}, was removed while it ran.", folder=folder), "Run it again."
            )
        for left in folder.rglob(".*.partial"):  # what a killed unit was writing
            left.unlink(missing_ok=True)
        files = {str(p.relative_to(folder)): p.stat().st_size for p in sorted(folder.rglob("*")) if p.is_file()}
        files.pop(NOTES, None)
        for inside in {folder / k for k in files} | {p for p in folder.rglob("*") if p.is_dir()}:
            sync(inside)
        version = Version(
            layer=layer, number=self._highest(layer) + 1, key=key, settings=settings, parents=parents, figures=dict(figures),
            findings=list(findings), seconds=seconds, made=datetime.now(UTC).isoformat(timespec="seconds"),
            stages={k: round(v, 2) for k, v in (stages or {}).items()}, files=files,
        )  # fmt: skip
        write_json(folder / NOTES, version.model_dump(mode="json"))
        os.replace(folder, self.folder(version))
        sync(self.root / layer)
        self.use(version)
        return version

    def _highest(self, layer: str) -> int:
        """The highest number that a version of a layer has, or had before it was removed."""
        there = [int(p.name) for p in (self.root / layer).iterdir() if p.name.isdecimal()]
        return max([*there, int(read_json(self.root / GONE).get(layer, 0))])

    def never_again(self, layer: str) -> None:
        """Before versions are removed: their numbers are not given to others, for pictures and notes go by them."""
        with changed(self.root / GONE) as numbers:
            numbers[layer] = self._highest(layer)

    def use(self, version: Version) -> None:
        """Put a version in use.

        Raises
        ------
        PlainError
            When it is no longer whole.
        """
        if not whole(self.folder(version), version):
            raise PlainError(say("Files of {name} are missing or cut.", name=version.name), "Run the layer again.")
        with changed(self.root / "in-use.json") as now:
            now[version.layer] = version.number

    def in_use(self) -> dict[str, int]:
        """Number of the version in use of each layer.

        Raises
        ------
        PlainError
            When the file is there and cannot be read.
        """
        return {str(k): int(v) for k, v in read_json(self.root / "in-use.json").items()}

    def out_of_date(self) -> list[str]:
        """Layers whose version in use was made from something other than what is now in use."""
        now = self.in_use()
        out: list[str] = []
        for layer, number in now.items():
            mine = next((v for v in self.versions(layer) if v.number == number), None)
            if mine and any(not self.still_good(mine, p, now.get(p)) for p in mine.parents):
                out.append(layer)
        return out

    def lineage(self, versions: Iterable[Version]) -> dict[str, Path]:
        """Folders of what versions were made from, and that from again, by layer; those that are gone are passed over."""
        out: dict[str, Path] = {}
        todo = list(versions)
        while todo:
            one = todo.pop()
            for layer, number in one.parents.items():
                found = next((v for v in self.versions(layer) if v.number == number), None)
                if found is not None and layer not in out:
                    out[layer] = self.folder(found)
                    todo.append(found)
        return out

    def still_good(self, version: Version, parent: str, number: int | None) -> bool:
        """Whether a version still holds with another version of a parent: with the one it was made from, with one that holds
        the same, and with one that was itself made from this version (masks projected from a model do not make that model
        out of date)."""
        if version.parents.get(parent) == number:
            return True
        by_number = {v.number: v for v in self.versions(parent)}
        other, mine = by_number.get(number or 0), by_number.get(version.parents.get(parent, 0))
        if other is not None and mine is not None and other.key == mine.key:
            return True
        return other is not None and (other.figures.get("made_from") or {}).get(version.layer) == version.number


#: versions that were read and found whole, by folder and the time of the last change in it
_known: dict[tuple[str, int], Version] = {}


def _read(folder: Path) -> Version | None:
    """The version in a folder, if it is whole; looked at once, and again when something in the folder changed."""
    try:
        name = (str(folder), max(folder.stat().st_mtime_ns, (folder / NOTES).stat().st_mtime_ns))
        if name in _known:
            return _known[name]
        version = Version.model_validate_json((folder / NOTES).read_bytes())
    except (OSError, ValueError):
        return None
    if not whole(folder, version):
        return None
    if len(_known) > 5000:
        _known.clear()
    _known[name] = version
    return version


def whole(folder: Path, version: Version) -> bool:
    """Whether all files of a version are there, as long as they were."""
    try:
        return all((folder / name).stat().st_size == size for name, size in (version.files or {}).items())
    except OSError:
        return False
