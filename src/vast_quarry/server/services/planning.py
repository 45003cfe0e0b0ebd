"""The plan of a project."""

from __future__ import annotations

from pydantic import BaseModel, ValidationError

from vast_quarry.core.plan.planner import mend
from vast_quarry.pipeline.planning import PlanIn, PlanOut, told
from vast_quarry.server.models import Project


class MendOut(BaseModel):
    """Further shots, what each brings to three photos (share of the surface), and the plan with them."""

    gains: list[float]
    request: PlanIn
    plan: PlanOut


def mended(request: PlanIn, shots: int) -> MendOut:
    """A plan with further shots that mend its worst patches."""
    found = mend(request.work_out(), shots)
    extra = [*request.extra, *[(float(x), float(y), float(z)) for x, y, z in (m.station.center for m in found)]]
    after = request.model_copy(update={"extra": extra})
    return MendOut(gains=[round(m.gain, 5) for m in found], request=after, plan=told(after.work_out()))


def saved_plan(project: Project) -> PlanIn:
    """The project's plan, or the usual one."""
    known = {k: v for k, v in (project.plan or {}).items() if k in PlanIn.model_fields}
    try:
        return PlanIn.model_validate(known)
    except ValidationError:  # of an older version
        return PlanIn()


def save_plan(project: Project, request: PlanIn, total: int) -> None:
    """Keep a plan in the project's row, with how many shots it has."""
    project.plan = {**request.model_dump(mode="json"), "total": total}
