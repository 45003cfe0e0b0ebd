"""Plans and shooting."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Annotated, Literal

from fastapi import Query, Request, Response, UploadFile
from fastapi.responses import JSONResponse

from vast_quarry.core.formats.pdf import mat_pdf, step_marks_pdf
from vast_quarry.core.plan.mats import Paper, make_mat
from vast_quarry.core.plan.planner import Plan
from vast_quarry.core.plan.shots import planned_glb, shot_list, shot_sheet
from vast_quarry.pipeline.estimate import Expected, expected
from vast_quarry.pipeline.plan import PatchesOut, PlanFile, PlanIn, PlanOut, patches_of, told
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import jobs, shooting
from vast_quarry.server.services import plan as plans
from vast_quarry.server.services.folders import Folders, editing, folders_of, get_project

Spoken = Literal["en", "de"]
router = strict.router("/api/v1/projects/{project_id}/plan", "plan")


def _folders(request: Request, project_id: int) -> Folders:
    return folders_of(request.app.state.data, project_id)


def _worked(request: Request, project_id: int, session: Db) -> Plan:
    """The saved plan, worked out."""
    return plans.worked_out(_folders(request, project_id), plans.saved_plan(get_project(session, project_id)))


@router.get("")
def read(project_id: int, session: Db) -> PlanIn:
    """The project's plan."""
    return plans.saved_plan(get_project(session, project_id))


@router.get("/remarks")
def remarks(request: Request, project_id: int, session: Db) -> list[Sentence]:
    """What there is to say about the saved plan: that something in it no longer fits."""
    return plans.remarks_on(get_project(session, project_id), _folders(request, project_id))


@router.put("")
def change(request: Request, project_id: int, body: PlanIn, session: Db, keep: bool = True) -> PlanOut:
    """Change the plan; what follows from it comes back. Without ``keep`` nothing is saved."""
    get_project(session, project_id)
    out = told(plans.worked_out(_folders(request, project_id), body), body.colors)
    if not keep:
        return out
    with editing(session, project_id) as project:
        plans.save_plan(project, body, out)
    return out


@router.get("/patches")
def patches(request: Request, project_id: int, session: Db) -> PatchesOut:
    """The stand-in with what the planned photos see of it."""
    return patches_of(_worked(request, project_id, session))


@router.post("/mend")
def mend(
    request: Request, project_id: int, session: Db, shots: Annotated[int, Query(ge=1, le=50)] = 6
) -> plans.MendOut:
    """Add shots that mend the worst patches."""
    project = get_project(session, project_id)
    out = plans.mended(_folders(request, project_id), plans.saved_plan(project), shots)
    with editing(session, project_id) as project:
        plans.save_plan(project, out.request, out.plan)
    return out


@router.get("/shots.csv", response_class=Response)
def shots(request: Request, project_id: int, session: Db) -> Response:
    """The shot list."""
    text = shot_list(_worked(request, project_id, session))
    return Response(text, media_type="text/csv", headers={"Content-Disposition": 'attachment; filename="shots.csv"'})


@router.get("/shots.pdf", response_class=Response)
def shots_to_print(request: Request, project_id: int, session: Db, language: Spoken = "en") -> Response:
    """The shot list as a sheet to print."""
    project = get_project(session, project_id)
    return Response(
        shot_sheet(_worked(request, project_id, session), project.name, language), media_type="application/pdf"
    )


@router.get("/mat.pdf", response_class=Response)
def mat_to_print(paper: Paper = "A4", round: bool = False, language: Spoken = "en") -> Response:
    """A marker mat to print at true size."""
    return Response(mat_pdf(make_mat(paper, round), language), media_type="application/pdf")


@router.get("/mat.json", response_class=JSONResponse)
def mat_places(paper: Paper = "A4", round: bool = False) -> JSONResponse:
    """Where the markers of a mat are."""
    return JSONResponse(make_mat(paper, round).as_dict())


@router.get("/plan.json")
def plan_file(request: Request, project_id: int, session: Db) -> PlanFile:
    """The plan as a file."""
    saved = plans.saved_plan(get_project(session, project_id))
    return PlanFile(request=saved, result=told(plans.worked_out(_folders(request, project_id), saved), saved.colors))


@router.get("/cameras.glb", response_class=Response)
def planned_cameras(request: Request, project_id: int, session: Db) -> Response:
    """The planned cameras about the stand-in, as glTF."""
    glb = planned_glb(_worked(request, project_id, session))
    headers = {"Content-Disposition": 'attachment; filename="planned.glb"'}
    return Response(glb, media_type="model/gltf-binary", headers=headers)


@router.get("/marks.pdf", response_class=Response)
def marks_to_print(
    request: Request,
    project_id: int,
    session: Db,
    stops: Annotated[int, Query(ge=4, le=90)] = 24,
    language: Spoken = "en",
) -> Response:
    """Step marks for a table turned by hand, and the elevations of the laps, to print at true size."""
    plan = _worked(request, project_id, session)
    rises = [] if plan.request.in_strips else plan.elevations
    return Response(step_marks_pdf(stops, rises, language), media_type="application/pdf")


@router.post("/mesh")
def bring_mesh(request: Request, project_id: int, session: Db, file: UploadFile) -> list[Sentence]:
    """Bring in a mesh that stands in for the subject; what there is to say about it comes back."""
    project = get_project(session, project_id)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"mesh{Path(file.filename or '').suffix.lower()[:8]}"
        with path.open("wb") as out:
            while part := file.file.read(1 << 20):
                out.write(part)
        notes = plans.take_mesh(_folders(request, project_id), path, plans.saved_plan(project).underside)
    return notes


@router.get("/expected")
def expected_work(request: Request, project_id: int, session: Db) -> list[Expected]:
    """Time and memory that a build of the planned photos takes on this machine, by grade."""
    saved = plans.saved_plan(get_project(session, project_id))
    total = int((get_project(session, project_id).plan or {}).get("total", 0))
    return expected(total, saved.pixels_wide * saved.pixels_high / 1e6, plans.pace_here(request.app.state.data))


@router.post("/shoot", status_code=202)
def shoot(project_id: int, body: shooting.ShootIn, session: Db) -> JobOut:
    """Shoot with the practice rig, as a job."""
    get_project(session, project_id)
    return JobOut.of(jobs.add_job(session, project_id, "shoot", body.model_dump(mode="json")))
