"""The demo: the milestone of Nether Orrowby, finished, and the same photos unprocessed."""

from __future__ import annotations

import shutil
from pathlib import Path

from sqlalchemy import Engine
from sqlmodel import Session, select

from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import folders_of

#: shipped in the package: photos, and the versions of the finished project
SHIPPED = Path(__file__).parents[1] / "demo"
NAMES = ("Milestone, finished", "Milestone, to try")


def add_demo(engine: Engine, data: Path) -> None:
    """Add the demo projects that are not there."""
    with Session(engine) as session:
        there = {p.name for p in session.exec(select(Project)).all()}
        for name in reversed(NAMES):
            if name in there:
                continue
            project = Project(name=name, grade="rough")
            session.add(project)
            session.commit()
            session.refresh(project)
            folders = folders_of(data, project.id or 0)
            folders.make()
            shutil.copytree(SHIPPED / "photos", folders.photos, dirs_exist_ok=True)
            if name == NAMES[0] and (SHIPPED / "versions").is_dir():
                shutil.copytree(SHIPPED / "versions", folders.root / "versions", dirs_exist_ok=True)
