"""A project as one zip, with its row, and back as a new project."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

from sqlmodel import Session

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say
from vast_quarry.pipeline.archive import pack, read_manifest, unpack
from vast_quarry.server.database import open_database
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import folders_of

#: what of a project's row goes along
TAKEN = (
    "name",
    "made",
    "grade",
    "notes",
    "settings",
    "plan",
    "left_out",
    "draft",
    "draft_done",
    "draft_on",
    "clearing",
)


def facts_of(project: Project) -> dict[str, Any]:
    """What the manifest says of a project."""
    return {"project": {name: getattr(project, name) for name in TAKEN}}


def pack_project(
    data: Path, number: int, out: Path, partial: bool = False, told: Callable[[float], None] = lambda share: None
) -> dict[str, Any]:
    """Write a project of a data folder as an archive; its manifest.

    Raises
    ------
    PlainError
        When there is no such project, or it cannot be written.
    """
    with Session(open_database(data)) as session:
        project = session.get(Project, number)
        if project is None:
            raise PlainError(
                say("There is no project {number}.", number=number), "Look at the page for those there are."
            )
        facts = facts_of(project)
    return pack(folders_of(data, number).root, out, facts, partial, told)


def unpack_project(data: Path, file: Path, told: Callable[[float], None] = lambda share: None) -> tuple[int, str]:
    """Add a project from an archive to a data folder; its number and name. Row and files are both there, or neither is.

    Raises
    ------
    PlainError
        When it is no archive of a project, or not whole.
    """
    data.mkdir(parents=True, exist_ok=True)
    with Session(open_database(data)) as session:
        return add_from(session, data, file, told)


def add_from(
    session: Session, data: Path, file: Path, told: Callable[[float], None] = lambda share: None
) -> tuple[int, str]:
    """The same within an open session."""
    manifest = read_manifest(file)
    row = manifest.get("project")
    if not isinstance(row, dict) or not isinstance(row.get("name"), str):
        raise PlainError(
            say("{name} holds what a build wrote, no project of the page.", name=file.name),
            "Unpack it into a folder with --out.",
        )
    try:
        kept = {name: row[name] for name in TAKEN if name in row}
        # what is of another kind than the row wants is refused before anything is unpacked
        project = Project.model_validate(kept)
    except ValueError as error:
        raise PlainError(
            say("{name} is damaged: what it says of its project cannot be read.", name=file.name)
        ) from error
    project.name = project.name[:200] or "project"
    session.add(project)
    session.flush()
    assert project.id is not None
    root = folders_of(data, project.id).root
    shutil.rmtree(root, ignore_errors=True)
    try:
        unpack(file, root, told)
        folders_of(data, project.id).make()
        session.commit()
    except BaseException:
        session.rollback()
        shutil.rmtree(root, ignore_errors=True)
        raise
    return project.id, project.name
