"""Versions on disk: every result an immutable folder with its settings, its parents and its figures.

Layout below the root::

    versions/<layer>/<number>/version.json   and the step's files
    versions/<layer>/<key>.partial/          a run under way; found again by its key after a kill
    versions/in-use.json                     which version of each layer feeds the layers below it
"""

from __future__ import annotations

import hashlib
import json
import os
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import write_json

#: raised when a change of the code makes earlier results of the same settings differ
FORMAT = 1


class Version(BaseModel):
    """One saved result of a layer."""

    layer: str
    number: int
    key: str
    settings: dict[str, Any]
    parents: dict[str, int]
    figures: dict[str, Any]
    findings: list[str]
    seconds: float
    made: str
    #: seconds of each stage, in order
    stages: dict[str, float] = {}

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
                f"The folder {self.root.parent} cannot be written ({error.strerror or error}).", "Choose another one."
            ) from error

    def versions(self, layer: str) -> list[Version]:
        """All versions of a layer, oldest first; damaged ones are passed over."""
        out = []
        folder = self.root / layer
        if folder.is_dir():
            for entry in folder.iterdir():
                if entry.name.isdecimal():
                    try:
                        out.append(Version.model_validate_json((entry / "version.json").read_bytes()))
                    except (OSError, ValueError):
                        continue
        return sorted(out, key=lambda v: v.number)

    def find(self, layer: str, key: str) -> Version | None:
        """The version of a layer with this key, if it was made."""
        return next((v for v in self.versions(layer) if v.key == key), None)

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
        figures: dict,
        findings: list[str],
        seconds: float,
        stages: dict[str, float] | None = None,
    ) -> Version:
        """Turn a partial run into a version."""
        folder = self.partial(layer, key)
        taken = [int(p.name) for p in (self.root / layer).iterdir() if p.name.isdecimal()]
        version = Version(
            layer=layer, number=max(taken, default=0) + 1, key=key, settings=settings, parents=parents, figures=figures,
            findings=findings, seconds=seconds, made=datetime.now(UTC).isoformat(timespec="seconds"),
            stages={k: round(v, 2) for k, v in (stages or {}).items()},
        )  # fmt: skip
        write_json(folder / "version.json", version.model_dump())
        os.replace(folder, self.folder(version))
        self.use(version)
        return version

    def use(self, version: Version) -> None:
        """Put a version in use."""
        now = self.in_use()
        now[version.layer] = version.number
        write_json(self.root / "in-use.json", now)

    def in_use(self) -> dict[str, int]:
        """Number of the version in use of each layer."""
        try:
            return {str(k): int(v) for k, v in json.loads((self.root / "in-use.json").read_bytes()).items()}
        except (OSError, ValueError):
            return {}

    def out_of_date(self) -> list[str]:
        """Layers whose version in use was made from something other than what is now in use."""
        now = self.in_use()
        out: list[str] = []
        for layer, number in now.items():
            mine = next((v for v in self.versions(layer) if v.number == number), None)
            if mine and any(now.get(p) != n for p, n in mine.parents.items()):
                out.append(layer)
        return out
