"""Judging the photos of a project as a job; what was found is kept beside the photos until they change."""

from __future__ import annotations

import json
import threading
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json, write_json
from vast_quarry.core.formats.documents import changed
from vast_quarry.core.photo.reading import find_photos
from vast_quarry.core.progress import Cancelled
from vast_quarry.core.words import Said
from vast_quarry.pipeline.executors import LazyExecutor
from vast_quarry.pipeline.judging import Inspected, look_over
from vast_quarry.pipeline.sentence import as_data, sentence
from vast_quarry.pipeline.step import Reporter
from vast_quarry.server.services.folders import Folders

#: where it is kept; and while photos are looked at for the first time, what their figures are so far
JUDGED = "judged.json"
SO_FAR = "judged-so-far.json"
#: photos about which somebody has decided
DECIDED = "decided.json"


def _tag(file: Path) -> str:
    stat = file.stat()
    return f"{stat.st_size}|{stat.st_mtime_ns}"


def judge_project(folders: Folders, reporter: Reporter, cancelled: threading.Event) -> tuple[int, int]:
    """Look at all photos and write what is proposed; how many there are, and on how many something is remarked.

    Raises
    ------
    PlainError
        When there are none.
    """
    reporter.begin("photos", "Judging photos")
    files = find_photos(folders.photos) if folders.photos.is_dir() else []
    if not files:
        raise PlainError("There are no photos to judge.", "Bring some in first.")
    paths = [str(f.relative_to(folders.photos)) for f in files]

    def progress(text: str, done: float, total: float) -> None:
        if cancelled.is_set():
            raise Cancelled
        reporter.stage("photos", text, done, total)

    def rows(photos: list[Inspected]) -> list[dict[str, Any]]:
        return [{**p.model_dump(mode="json"), "tag": tags[p.photo]} for p in photos]

    def early(seen: list[Inspected]) -> None:
        write_json(folders.root / SO_FAR, {"photos": rows(seen)}, durable=False)

    tags = {path: _tag(f) for path, f in zip(paths, files)}
    pool = LazyExecutor()
    try:
        found = look_over(folders.photos, paths, folders.masks, folders.cache, pool, progress, early)
        write_json(folders.root / JUDGED, {"photos": rows(found.photos), "findings": as_data(found.findings)})
    finally:
        pool.close(at_once=True)
        (folders.root / SO_FAR).unlink(missing_ok=True)
    for finding in found.findings:
        reporter.say(finding)
    return len(files), sum(p.proposal != "keep" for p in found.photos)


def decide(folders: Folders, paths: list[str]) -> None:
    """Note that somebody has decided about the proposals on some photos, whichever way."""
    with changed(folders.root / DECIDED, list) as known:
        known[:] = sorted({*known, *paths})


def decided(folders: Folders) -> list[str]:
    """Photos about whose proposals somebody has decided."""
    return [str(p) for p in read_json(folders.root / DECIDED, list)]


def proposed_out(folders: Folders, left_out: list[str]) -> list[str]:
    """Photos that judging proposes to leave out and nobody has decided about: a run of everything leaves them out."""
    done = {*decided(folders), *left_out}
    return sorted(path for path, p in judged(folders)[0].items() if p.proposal == "leave out" and path not in done)


def judged(folders: Folders) -> tuple[dict[str, Inspected], list[Said]]:
    """What was found of photos that have not changed since, by path; and findings about all.

    Of photos that are judged for the first time just now: what there is so far.
    """
    document = _document(folders.root / JUDGED) or _document(folders.root / SO_FAR)
    out = {}
    for row in document.get("photos", []):
        file = folders.photos / row["photo"]
        if file.is_file() and _tag(file) == row.pop("tag", None):
            try:
                out[row["photo"]] = Inspected.model_validate(row)
            except ValidationError:  # of another version of the program: judged again when it is wanted
                continue
    return out, [sentence(x) for x in document.get("findings", [])]


def _document(file: Path) -> dict[str, Any]:
    try:
        return dict(json.loads(file.read_bytes()))
    except (OSError, ValueError):
        return {}
