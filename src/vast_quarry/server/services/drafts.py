"""The open draft of a project: edits on the textured model that are not kept yet.

Edits are done by the worker, as jobs. What they make is a file for the page, named by the version of Texture and the
edits: an Undo finds the file of before. The worker remembers the latest states too, so that a further edit costs only
itself; forgetting them, or freeing the files, loses nothing.
"""

from __future__ import annotations

import hashlib
import json
import threading
from collections import OrderedDict
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from sqlalchemy import Engine
from sqlalchemy.orm.exc import StaleDataError
from sqlmodel import Session, col, select

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.edits import TexturedMesh, welded
from vast_quarry.core.finish.levels import recoloured
from vast_quarry.core.finish.operations import apply_edit
from vast_quarry.core.finish.selecting import Surface, choose
from vast_quarry.core.formats.atomic import atomic_write, read_json
from vast_quarry.core.formats.packed_glb import write_packed_glb
from vast_quarry.core.formats.pictures import as_jpeg
from vast_quarry.core.progress import Cancelled
from vast_quarry.pipeline.atlas_files import texture_bytes
from vast_quarry.pipeline.edits import edit_of
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.step import Reporter
from vast_quarry.pipeline.steps.finish import load_textured
from vast_quarry.pipeline.store import Version
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.jobs import add_job
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.world import mesh_file

#: states that the worker remembers, of all projects together
REMEMBERED = 4
#: files of states that are kept for a project
FILES = 12
#: texels a side of the picture in which an edited model is shown whose texture no longer fits
SHOWN = 2048
#: faces of a selection that the page tints at most: of more, every second, third and so on
TINTED = 400_000

_states: OrderedDict[str, TexturedMesh] = OrderedDict()
_lock = threading.Lock()
Edits = list[dict[str, Any]]


def _name(version: Version, edits: Edits) -> str:
    text = json.dumps([version.key, edits], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:20]


def texture_of(project: Project, folders: Folders) -> Version:
    """The version of Texture that the open draft stands on: the one its edits were made on, else the one in use.

    Raises
    ------
    NotFound
        When there is none.
    """
    return version_of(folders, "texture", project.draft_on if project.draft_done else None)


def _glb(folders: Folders, name: str) -> Path:
    return folders.cache / f"draft-{name}.glb"


def faces_of(project: Project, folders: Folders) -> int | None:
    """Triangles of the model as the draft has it; None while that is not made."""
    version, edits = texture_of(project, folders), project.draft[: project.draft_done]
    if not edits:
        return int(version.figures.get("triangles") or len(load_textured(folders.store.folder(version)).faces))
    glb = _glb(folders, _name(version, edits))
    faces = read_json(glb.with_suffix(".json")).get("faces") if glb.exists() else None
    return None if faces is None else int(faces)


def draft_file(project: Project, folders: Folders) -> Path | None:
    """The model as the draft has it, for the page; None while that is not made."""
    version, edits = texture_of(project, folders), project.draft[: project.draft_done]
    if not edits:
        return mesh_file(folders, "texture", version.number)
    glb = _glb(folders, _name(version, edits))
    return glb if glb.exists() else None


def being_made(session: Session, project: Project, folders: Folders) -> Job | None:
    """The job that makes the draft as it is now."""
    return _under_way(session, project, _params(project, folders))


def _under_way(session: Session, project: Project, params: dict[str, Any]) -> Job | None:
    """The job that does just that, if it is queued or runs."""
    alive = col(Job.state).in_(["queued", "running"])
    found = session.exec(select(Job).where(Job.project_id == project.id, Job.kind == "edit", alive)).all()
    return next((j for j in found if j.params == params and not j.cancel), None)


def carry_over(project: Project, folders: Folders) -> None:
    """Let the draft's edits stand on the version of Texture in use: they are kept by place, and done again there."""
    project.draft_on = version_of(folders, "texture", None).number


def forth(project: Project, folders: Folders) -> None:
    """Do the edit taken back last again."""
    if not project.draft_done and project.draft_on != texture_of(project, folders).number:
        project.draft = []  # they were edits of another texture
    project.draft_done = min(len(project.draft), project.draft_done + 1)


def have_made(session: Session, project: Project, folders: Folders) -> Job | None:
    """Queue what is needed to have the draft as it is now; None when it is there."""
    if faces_of(project, folders) is not None:
        return None
    assert project.id is not None
    going = being_made(session, project, folders)
    return going or add_job(session, project.id, "edit", _params(project, folders))


def _params(project: Project, folders: Folders) -> dict[str, Any]:
    return {"on": texture_of(project, folders).number, "edits": project.draft[: project.draft_done]}


def chosen_file(project: Project, folders: Folders, where: Edits) -> Path:
    """Where the faces lie that a selection names in the draft as it is now, once they were found."""
    version, edits = texture_of(project, folders), project.draft[: project.draft_done]
    return _chosen(folders, _name(version, edits), where)


def _chosen(folders: Folders, name: str, where: Edits) -> Path:
    tag = hashlib.sha256(json.dumps(where, sort_keys=True).encode()).hexdigest()[:16]
    return folders.cache / f"draft-{name}-{tag}.bin"


def have_chosen(session: Session, project: Project, folders: Folders, where: Edits) -> Job | None:
    """Queue the finding of a selection; None when it is there."""
    if chosen_file(project, folders, where).exists():
        return None
    assert project.id is not None
    params = _params(project, folders) | {"where": where}
    return _under_way(session, project, params) or add_job(session, project.id, "edit", params)


def _write_chosen(target: Path, mesh: TexturedMesh, where: Edits) -> None:
    """Corners of chosen faces as numbers, for the page to tint: how many there are, then x, y, z of each corner."""
    chosen = np.flatnonzero(choose(Surface(*welded(mesh)), where))
    shown = chosen[:: max(1, -(-len(chosen) // TINTED))]
    with atomic_write(target) as out:
        out.write(np.array([len(chosen)], "<u4").tobytes())
        out.write(np.ascontiguousarray(mesh.vertices[mesh.faces[shown]], "<f4").tobytes())


def make_draft(engine: Engine, folders: Folders, job: Job, reporter: Reporter, cancelled: threading.Event) -> None:
    """Do the edits of a job, and write the model for the page. An edit that cannot be done is taken out of the draft.

    Raises
    ------
    PlainError
        When an edit is unknown or leaves nothing.
    Cancelled
        When it was stopped; the edit under way is taken out of the draft.
    """
    version, edits = version_of(folders, "texture", int(job.params["on"])), list(job.params["edits"])
    names = [_name(version, edits[:n]) for n in range(len(edits) + 1)]
    with _lock:
        n = next((k for k in range(len(edits), -1, -1) if names[k] in _states), None)
        mesh = None if n is None else _states[names[n]]
    if mesh is None or n is None:
        reporter.stage("finish", "Reading the model", 0, len(edits) + 1)
        n, mesh = 0, load_textured(folders.store.folder(version))
    if n < len(edits):
        box = load_solution(folders.store.folder(version_of(folders, "cameras", version.parents.get("cameras")))).box
    for k in range(n, len(edits)):
        reporter.stage("finish", "Editing", k, len(edits) + 1)
        try:
            mesh = apply_edit(mesh, edit_of(edits[k]).model_dump(), box)
            if cancelled.is_set():
                raise Cancelled
        except (PlainError, Cancelled):
            _take_out(engine, job.project_id, edits[: k + 1])
            raise
        with _lock:
            _states[names[k + 1]] = mesh
            _states.move_to_end(names[k + 1])
            while len(_states) > REMEMBERED:
                _states.popitem(last=False)
    folders.make()
    if "where" in job.params:
        where = list(job.params["where"])
        reporter.stage("finish", "Selecting", len(edits), len(edits) + 1)
        _write_chosen(_chosen(folders, names[-1], where), mesh, where)
        _forget(folders, "draft-*.bin")
        return
    reporter.stage("finish", "Writing the model", len(edits), len(edits) + 1)
    target = _glb(folders, names[-1])
    image = texture_bytes(folders.store.folder(version))
    if mesh.retexture:
        reporter.stage("finish", "Carrying colours over", len(edits), len(edits) + 1)
        mesh, image = with_colors(mesh, load_textured(folders.store.folder(version)), image)
    with atomic_write(target.with_suffix(".json")) as out:
        out.write(json.dumps({"faces": len(mesh.faces)}).encode())
    write_packed_glb(target, mesh.vertices, mesh.normals, mesh.uv, mesh.faces, image)
    _forget(folders, "draft-*.glb")


def _forget(folders: Folders, which: str) -> None:
    """Drop the oldest files of states."""
    for old in sorted(folders.cache.glob(which), key=lambda p: p.stat().st_mtime)[:-FILES]:
        old.unlink(missing_ok=True)
        old.with_suffix(".json").unlink(missing_ok=True)


def with_colors(mesh: TexturedMesh, before: TexturedMesh, image: bytes) -> tuple[TexturedMesh, bytes]:
    """An edited model whose texture no longer fits, with the colours it had: to look at, so in a smaller picture."""
    old = cv2.imdecode(np.frombuffer(image, np.uint8), cv2.IMREAD_COLOR)
    assert old is not None
    side = min(SHOWN, len(old))
    old = cv2.resize(old, (side, side), interpolation=cv2.INTER_AREA)
    shown, picture = recoloured(*welded(mesh.back()), before, old)
    if mesh.placed is not None:
        shown = shown.moved(mesh.placed)
    return shown, as_jpeg(picture, 90)


def _take_out(engine: Engine, project_id: int, edits: Edits) -> None:
    """Let the draft end before the last of some edits, if it still begins with them."""
    while True:
        with Session(engine) as session:
            project = session.get(Project, project_id)
            if project is None or project.draft[: len(edits)] != edits or project.draft_done < len(edits):
                return
            project.draft = project.draft[: len(edits) - 1]
            project.draft_done = len(project.draft)
            session.add(project)
            try:
                session.commit()
                return
            except StaleDataError:
                continue  # somebody has just written the project: look again
