"""Plans and shooting."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response
from fastapi.responses import JSONResponse

from vast_quarry.core.formats.pdf import mat_pdf
from vast_quarry.core.plan.mats import Paper, make_mat
from vast_quarry.core.plan.shots import shot_list, shot_sheet
from vast_quarry.pipeline.planning import PatchesOut, PlanFile, PlanIn, PlanOut, patches_of, told
from vast_quarry.server.models import Job
from vast_quarry.server.routers.projects import Db
from vast_quarry.server.services import jobs, planning, shooting
from vast_quarry.server.services.folders import get_project

router = APIRouter(prefix="/api/projects/{project_id}/plan", tags=["plan"])


@router.get("")
def read(project_id: int, session: Db) -> PlanIn:
    """The project's plan."""
    return planning.saved_plan(get_project(session, project_id))


@router.put("")
def change(project_id: int, body: PlanIn, session: Db) -> PlanOut:
    """Change the plan; what follows from it comes back."""
    project = get_project(session, project_id)
    out = told(body.work_out())
    planning.save_plan(project, body, out.total)
    session.add(project)
    session.commit()
    return out


@router.get("/patches")
def patches(project_id: int, session: Db) -> PatchesOut:
    """The stand-in with what the planned photos see of it."""
    return patches_of(planning.saved_plan(get_project(session, project_id)).work_out())


@router.post("/mend")
def mend(project_id: int, session: Db, shots: Annotated[int, Query(ge=1, le=50)] = 6) -> planning.MendOut:
    """Add shots that mend the worst patches."""
    project = get_project(session, project_id)
    out = planning.mended(planning.saved_plan(project), shots)
    planning.save_plan(project, out.request, out.plan.total)
    session.add(project)
    session.commit()
    return out


@router.get("/shots.csv", response_class=Response)
def shots(project_id: int, session: Db) -> Response:
    """The shot list."""
    text = shot_list(planning.saved_plan(get_project(session, project_id)).work_out())
    return Response(text, media_type="text/csv", headers={"Content-Disposition": 'attachment; filename="shots.csv"'})


@router.get("/shots.pdf", response_class=Response)
def shots_to_print(project_id: int, session: Db) -> Response:
    """The shot list as a sheet to print."""
    project = get_project(session, project_id)
    return Response(shot_sheet(planning.saved_plan(project).work_out(), project.name), media_type="application/pdf")


@router.get("/mat.pdf", response_class=Response)
def mat_to_print(paper: Paper = "A4", round: bool = False) -> Response:
    """A marker mat to print at true size."""
    return Response(mat_pdf(make_mat(paper, round)), media_type="application/pdf")


@router.get("/mat.json", response_class=JSONResponse)
def mat_places(paper: Paper = "A4", round: bool = False) -> JSONResponse:
    """Where the markers of a mat are."""
    return JSONResponse(make_mat(paper, round).as_dict())


@router.get("/plan.json")
def plan_file(project_id: int, session: Db) -> PlanFile:
    """The plan as a file."""
    request = planning.saved_plan(get_project(session, project_id))
    return PlanFile(request=request, result=told(request.work_out()))


@router.post("/shoot", status_code=202)
def shoot(project_id: int, body: shooting.ShootIn, session: Db) -> Job:
    """Shoot with the practice rig, as a job."""
    get_project(session, project_id)
    return jobs.add_job(session, project_id, "shoot", body.model_dump(mode="json"))
