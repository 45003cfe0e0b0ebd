"""Plans and shooting."""

from __future__ import annotations

from fastapi import APIRouter

from vast_quarry.server.models import Job
from vast_quarry.server.routers.projects import Db
from vast_quarry.server.services import jobs, shooting
from vast_quarry.server.services.folders import get_project

router = APIRouter(prefix="/api/projects/{project_id}/plan", tags=["plan"])


@router.get("")
def read(project_id: int, session: Db) -> shooting.PlanIn:
    """The project's plan."""
    return shooting.PlanIn.model_validate(get_project(session, project_id).plan or {})


@router.put("")
def change(project_id: int, body: shooting.PlanIn, session: Db) -> shooting.PlanOut:
    """Change the plan; what follows from it comes back."""
    project = get_project(session, project_id)
    project.plan = body.model_dump()
    session.add(project)
    session.commit()
    return shooting.make_plan(body)


@router.post("/shoot", status_code=202)
def shoot(project_id: int, body: shooting.ShootIn, session: Db) -> Job:
    """Shoot with the practice rig, as a job."""
    get_project(session, project_id)
    return jobs.add_job(session, project_id, "shoot", body.model_dump())
