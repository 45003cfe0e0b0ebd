"""The demo: the milestone of Nether Orrowby, finished, the same photos unprocessed, and a roof finial that is planned.

The photos are shipped; the finished project is computed from them once, when the demo is first set up (which also
compiles the heavy loops), and not again.
"""

from __future__ import annotations

import shutil
from pathlib import Path

from sqlalchemy import Engine
from sqlmodel import Session, select

from vast_quarry.pipeline.planning import PlanIn
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.step import Reporter
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.services.layers import places_of, recipe_of
from vast_quarry.server.services.world import make_ready

#: shipped in the package: the photos
SHIPPED = Path(__file__).parents[1] / "demo"
NAMES = ("Milestone, finished", "Milestone, to try")
#: the finial of the forge's roof, to be shot on a turntable
PLANNED = "Finial, planned"
FINIAL = {
    "shape": "cylinder", "width": 0.24, "depth": 0.24, "height": 0.38, "way": "turntable", "hold": "tripod", "step_deg": 15.0,
    "detail_mm": 0.8, "colors": ["#a0522d", "#6e3a26"], "light": {"kind": "lamps", "lamp_m": 1.2},
}  # fmt: skip


def add_demo(engine: Engine, data: Path, reporter: Reporter) -> None:
    """Add the demo projects that are not there, and finish the finished one."""
    with Session(engine) as session:
        there = {p.name for p in session.exec(select(Project)).all()}
        for name in reversed(NAMES):
            if name in there:
                continue
            project = Project(name=name, grade="dressed" if name == NAMES[0] else "rough")
            session.add(project)
            session.commit()
            session.refresh(project)
            folders = folders_of(data, project.id or 0)
            folders.make()
            shutil.copytree(SHIPPED / "photos", folders.photos, dirs_exist_ok=True)
        if PLANNED not in there:
            plan = PlanIn.model_validate(FINIAL)
            total = len(plan.work_out().stations)
            session.add(Project(name=PLANNED, plan={**plan.model_dump(mode="json"), "total": total}))
            session.commit()
        finished = session.exec(select(Project).where(Project.name == NAMES[0])).first()
        if finished is not None and "texture" not in folders_of(data, finished.id or 0).store.in_use():
            folders = folders_of(data, finished.id or 0)
            done = Runner(folders.store, reporter).run(recipe_of(finished), places_of(folders))
            for layer in done.versions:
                make_ready(folders, layer)
