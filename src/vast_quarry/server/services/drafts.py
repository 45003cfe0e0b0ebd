"""The open draft of a project: edits on the textured model that are not kept yet.

Edits are replayed on the version in use. The latest states are remembered, so that a further edit costs only itself and
taking one back costs nothing; forgetting them loses nothing.
"""

from __future__ import annotations

import hashlib
import json
import threading
from collections import OrderedDict, defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlmodel import Session

from vast_quarry.core.finish.edits import TexturedMesh, apply_edit
from vast_quarry.core.formats.gltf import write_glb
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps.finish import load_textured
from vast_quarry.pipeline.steps.texture import texture_bytes
from vast_quarry.pipeline.store import Version
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import Folders, get_project
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.world import plain_image

#: states that are remembered, of all projects together
REMEMBERED = 6

_states: OrderedDict[str, TexturedMesh] = OrderedDict()
_lock = threading.Lock()


def _name(version: Version, edits: list[dict[str, Any]]) -> str:
    text = json.dumps([version.key, edits], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:20]


#: one edit of a project after the other
_editing: defaultdict[int, threading.Lock] = defaultdict(threading.Lock)


@contextmanager
def editing(session: Session, project_id: int) -> Iterator[Project]:
    """The project's row, to change its draft, while nobody else does: an Undo waits for the edit it is to take back."""
    with _editing[project_id]:
        session.expire_all()
        yield get_project(session, project_id)


def texture_of(project: Project, folders: Folders) -> Version:
    """The version of Texture that the open draft stands on: the one its edits were made on, else the one in use.

    Raises
    ------
    NotFound
        When there is none.
    """
    return version_of(folders, "texture", project.draft_on if project.draft_done else None)


def draft_mesh(project: Project, folders: Folders) -> TexturedMesh:
    """The model as the open draft has it.

    Raises
    ------
    PlainError
        When an edit is unknown or leaves nothing.
    """
    version = texture_of(project, folders)
    edits = project.draft[: project.draft_done]
    names = [_name(version, edits[:n]) for n in range(len(edits) + 1)]
    with _lock:
        n = next((k for k in range(len(edits), -1, -1) if names[k] in _states), None)
        mesh = None if n is None else _states[names[n]]
    if mesh is None or n is None:
        n, mesh = 0, load_textured(folders.store.folder(version))
    if n < len(edits):
        solution = load_solution(folders.store.folder(version_of(folders, "cameras", version.parents.get("cameras"))))
        for edit in edits[n:]:
            mesh = apply_edit(mesh, edit, solution.box)
    with _lock:
        _states[names[-1]] = mesh
        _states.move_to_end(names[-1])
        while len(_states) > REMEMBERED:
            _states.popitem(last=False)
    return mesh


def draft_file(project: Project, folders: Folders) -> Path:
    """A GLB of the open draft."""
    version = texture_of(project, folders)
    target = folders.cache / f"draft-{_name(version, project.draft[: project.draft_done])}.glb"
    if not target.exists():
        folders.make()
        mesh = draft_mesh(project, folders)
        image = plain_image() if mesh.retexture else texture_bytes(folders.store.folder(version))
        write_glb(target, mesh.vertices, mesh.normals, mesh.uv, mesh.faces, image)
        for old in sorted(folders.cache.glob("draft-*.glb"), key=lambda p: p.stat().st_mtime)[:-REMEMBERED]:
            old.unlink(missing_ok=True)
    return target
