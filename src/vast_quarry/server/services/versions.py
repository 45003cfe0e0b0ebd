"""Versions as things of their own: what each says of itself, names and notes, removing them, and what could go."""

from __future__ import annotations

import shutil
from collections.abc import Iterable
from functools import lru_cache
from typing import Any

from pydantic import BaseModel, Field

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json
from vast_quarry.core.formats.documents import changed
from vast_quarry.core.words import say
from vast_quarry.pipeline.grades import GRADES, Grade
from vast_quarry.pipeline.registry import STEPS, step_of
from vast_quarry.pipeline.settings import settings_of
from vast_quarry.pipeline.store import Version
from vast_quarry.server.models import Project
from vast_quarry.server.services import trash
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.sizes import bytes_of, size_of, sizes_of, trim_cache

#: where names and notes of versions are
LABELS = "version-labels.json"


class Label(BaseModel):
    """What somebody calls a version, and what they noted of it."""

    name: str = Field("", max_length=60)
    note: str = Field("", max_length=2000)


class Changed(BaseModel):
    """A setting that is not as its grade has it."""

    name: str
    title: str
    value: Any


def labels_of(folders: Folders) -> dict[str, Label]:
    """Labels by ``layer number``."""
    return {k: Label.model_validate(v) for k, v in read_json(folders.root / LABELS).items()}


def set_label(folders: Folders, version: Version, label: Label) -> None:
    """Call a version something; an empty name and note take that back.

    Raises
    ------
    PlainError
        When the name cannot be shown.
    """
    if not label.name.isprintable():
        raise PlainError("The name of a version has up to 60 letters.", "Choose a shorter one.")
    with changed(folders.root / LABELS) as labels:
        labels.pop(version.name, None)
        if label.name.strip() or label.note.strip():
            labels[version.name] = label.model_dump()


def grade_and_changes(version: Version) -> tuple[Grade, list[Changed]]:
    """The grade whose settings a version's are nearest to, and those that are others."""
    # of grades that are equally near the everyday one
    options = {grade: _differing(version, grade) for grade in sorted(Grade, key=lambda g: g is not Grade.DRESSED)}
    grade = min(options, key=lambda g: len(options[g]))
    return grade, options[grade]


def _differing(version: Version, grade: Grade) -> list[Changed]:
    usual = _usual(version.layer, grade)
    return [
        Changed(name=name, title=title, value=version.settings[name])
        for name, (title, value) in usual.items()
        if name in version.settings and version.settings[name] != value
    ]


@lru_cache(maxsize=64)
def _usual(layer: str, grade: Grade) -> dict[str, tuple[str, Any]]:
    """Title and value of each setting that people see, as a grade has them."""
    preset = GRADES[grade].get(layer, {})
    return {i.name: (i.title, preset.get(i.name, i.default)) for i in settings_of(step_of(layer))}


def made_from(folders: Folders, version: Version) -> list[Version]:
    """The versions that were made from one, and those made from these, in the order of layers."""
    every = [v for s in STEPS for v in folders.store.versions(s.layer)]
    names, out = {version.name}, []
    for v in every:
        if any(f"{layer} {number}" in names for layer, number in v.parents.items()):
            names.add(v.name)
            out.append(v)
    return out


def remove(folders: Folders, project: Project, versions: Iterable[Version]) -> trash.Removed:
    """Move versions into the trash; where they were in use nothing of their layer is.

    Raises
    ------
    PlainError
        When a run is at work, or an open draft or clearing was begun on one of them: then nothing is moved.
    """
    gone = list(versions)
    names = {v.name for v in gone}
    for layer, open_on in (
        ("texture", project.draft_on if project.draft else None),
        ("points", (project.clearing or {}).get("on")),
    ):
        if open_on is not None and f"{layer} {open_on}" in names:
            raise PlainError(
                say("{name} has edits that are not kept yet.", name=f"{layer} {open_on}"),
                "Keep them or throw them away first.",
            )
    store = folders.store
    with store.making():
        for layer in {v.layer for v in gone}:
            store.never_again(layer)
        used = {v.layer: v.number for v in gone if store.in_use().get(v.layer) == v.number}
        with changed(store.root / "in-use.json") as now:
            for layer in used:
                now.pop(layer, None)
        return trash.put_away(folders, "versions", [v.name for v in gone], [store.folder(v) for v in gone], used)


def bring_back(folders: Folders, item: trash.Removed) -> None:
    """Put versions that were brought back in use where nothing else of their layer is by now."""
    with changed(folders.store.root / "in-use.json") as now:
        for layer, number in item.in_use.items():
            now.setdefault(layer, number)


def unused(folders: Folders) -> list[Version]:
    """Versions that nothing in use was made from."""
    store = folders.store
    now = store.in_use()
    used = [v for layer, number in now.items() for v in store.versions(layer) if v.number == number]
    kept = {v.name for v in used}
    todo = list(used)
    while todo:
        for layer, number in todo.pop().parents.items():
            for v in store.versions(layer):
                if v.number == number and v.name not in kept:
                    kept.add(v.name)
                    todo.append(v)
    return [v for s in STEPS for v in store.versions(s.layer) if v.name not in kept]


class SpaceOut(BaseModel):
    """What of a project could go, in bytes."""

    total: int
    #: made again when it is asked for: thumbnails, tiles, meshes as the page loads them, parcels
    cache: int
    #: runs that were stopped and not gone on with
    runs: int
    #: versions that nothing in use was made from, and how many
    versions: int
    version_names: list[str]
    trash: int


def _stopped_runs(folders: Folders) -> list[Any]:
    root = folders.store.root
    return [p for s in STEPS if (root / s.layer).is_dir() for p in (root / s.layer).glob("*.partial") if p.is_dir()]


def space_of(folders: Folders) -> SpaceOut:
    """Count what could go."""
    sizes, idle, bin_ = sizes_of(folders), unused(folders), trash.trash_of(folders).bytes
    runs = sum(size_of(p) for p in _stopped_runs(folders))
    return SpaceOut(
        total=sizes.total + runs, cache=sizes.cache, runs=runs, versions=sum(bytes_of(folders, v) for v in idle),
        version_names=[v.name for v in idle], trash=bin_,
    )  # fmt: skip


def free(folders: Folders, project: Project, what: Iterable[str]) -> int:
    """Let things go: ``cache``, ``runs``, ``versions`` (into the trash) and ``trash``, in this order; bytes freed.

    Raises
    ------
    PlainError
        When a run is at work.
    """
    wanted, freed = set(what), 0
    if "cache" in wanted:
        freed += trim_cache(folders, 0)
    if "runs" in wanted and _stopped_runs(folders):
        with folders.store.making():
            for folder in _stopped_runs(folders):
                freed += size_of(folder)
                shutil.rmtree(folder)
    if "versions" in wanted and (idle := unused(folders)):
        remove(folders, project, idle)
    if "trash" in wanted:
        freed += trash.empty(folders)
    return freed
