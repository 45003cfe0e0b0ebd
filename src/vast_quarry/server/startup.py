"""What is seen to when a server starts over a data folder that was left in a hurry."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import Engine
from sqlmodel import Session, select

from vast_quarry.server.models import Project
from vast_quarry.server.services import jobs, trash, uploads
from vast_quarry.server.services.folders import folders_of


def take_in_what_came(engine: Engine, data: Path) -> int:
    """Take in uploads whose last byte had come before the server ended, and empty trash that is old.

    Returns
    -------
    int
        How many videos are to be looked through.
    """
    count = 0
    with Session(engine) as session:
        for project in session.exec(select(Project)).all():
            assert project.id is not None
            trash.empty_old(folders_of(data, project.id))
            for name in uploads.finish_all(folders_of(data, project.id)):
                jobs.add_job(session, project.id, "look", {"name": name})
                count += 1
    return count
