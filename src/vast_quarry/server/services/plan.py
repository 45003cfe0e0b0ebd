"""The plan of a project."""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import Path

import numpy as np
from pydantic import BaseModel, ValidationError

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import write_arrays, write_json
from vast_quarry.core.plan.planner import Plan, mend
from vast_quarry.core.plan.standin import StandIn, standin_from_mesh, standin_of
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.apart import read_mesh
from vast_quarry.pipeline.estimate import pace_of
from vast_quarry.pipeline.plan import PlanIn, PlanOut, told
from vast_quarry.pipeline.steps.surface import load_mesh
from vast_quarry.pipeline.store import Store
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import Folders

#: where a project keeps the mesh that stands in for its subject
MESH = "stand-in.npz"


class MendOut(BaseModel):
    """Further shots, what each brings to three photos (share of the surface), and the plan with them."""

    gains: list[float]
    request: PlanIn
    plan: PlanOut


def take_mesh(folders: Folders, file: Path, underside: bool) -> list[Said]:
    """Keep a mesh file as the project's stand-in; what there is to say about it."""
    standin, notes = standin_from_mesh(*read_mesh(file), underside)
    folders.make()
    write_arrays(folders.root / MESH, vertices=standin.vertices, faces=standin.faces)
    return notes


def mesh_of(folders: Folders, p: PlanIn) -> tuple[StandIn | None, list[Said]]:
    """The mesh a plan asks for: the file that was brought in, or a version of Surface (``surface 3``).

    Raises
    ------
    PlainError
        When it is not there.
    """
    if p.shape != "mesh":
        return None, []
    version = re.fullmatch(r"surface (\d+)", p.mesh)
    if version:
        found = next((v for v in folders.store.versions("surface") if v.number == int(version[1])), None)
        if found is None:
            raise PlainError(
                say("There is no version {version} of Surface.", version=version[1]), "Choose another stand-in."
            )
        return standin_from_mesh(*load_mesh(folders.store.folder(found)), p.underside)
    try:
        with np.load(folders.root / MESH) as stored:
            return standin_of(stored["vertices"], stored["faces"], p.underside), []
    except (OSError, ValueError, KeyError) as error:
        raise PlainError("There is no mesh to stand in.", "Bring one in, or choose another shape.") from error


def worked_out(folders: Folders, p: PlanIn) -> Plan:
    """A plan with the mesh that it asks for; one that was just worked out is not worked out again."""
    file = folders.root / MESH
    return _worked_out(folders, p.model_dump_json(), file.stat().st_mtime_ns if file.exists() else 0)


@lru_cache(maxsize=4)
def _worked_out(folders: Folders, request: str, mesh_changed: int) -> Plan:
    p = PlanIn.model_validate_json(request)
    mesh, notes = mesh_of(folders, p)
    plan = p.work_out(mesh)
    plan.findings.extend(notes)
    return plan


def mended(folders: Folders, request: PlanIn, shots: int) -> MendOut:
    """A plan with further shots that mend its worst patches."""
    found = mend(worked_out(folders, request), shots)
    extra = [*request.extra, *[(float(x), float(y), float(z)) for x, y, z in (m.station.center for m in found)]]
    after = request.model_copy(update={"extra": extra})
    return MendOut(
        gains=[round(m.gain, 5) for m in found], request=after, plan=told(worked_out(folders, after), after.colors)
    )


#: kept beside a plan, so that the projects page need not work it out: how many shots, and laps (elevation in degrees, shots)
TOLD = ("total", "drawn")


def saved_plan(project: Project) -> PlanIn:
    """The project's plan, or the usual one; of a plan of an older version what still fits."""
    return read_plan(project)[0]


def read_plan(project: Project) -> tuple[PlanIn, list[str]]:
    """The project's plan, and names of what in it no longer fits and is as usual instead."""
    known = {k: v for k, v in (project.plan or {}).items() if k in PlanIn.model_fields}
    misfits = sorted({*(project.plan or {})} - {*PlanIn.model_fields, *TOLD})
    while True:
        try:
            return PlanIn.model_validate(known), misfits
        except ValidationError as error:
            wrong = {str(e["loc"][0]) for e in error.errors() if e["loc"]} & set(known)
            if not wrong:  # it is the whole that does not fit together
                return PlanIn(), sorted({*misfits, *known})
            misfits = sorted({*misfits, *wrong})
            known = {k: v for k, v in known.items() if k not in wrong}


#: where a plan is kept of which something no longer fits
KEPT_PLAN = "plan-of-before.json"


def remarks_on(project: Project, folders: Folders) -> list[Said]:
    """What there is to say about the saved plan; one that no longer fits is kept in a file before anything changes it."""
    _, misfits = read_plan(project)
    if not misfits:
        return []
    file = folders.root / KEPT_PLAN
    folders.make()
    write_json(file, project.plan)
    return [
        say(
            "The plan is of another version of the program: {what} no longer fits and is as usual. It is kept in {file}.",
            what=", ".join(misfits),
            file=file,
        )
    ]


def save_plan(project: Project, request: PlanIn, out: PlanOut) -> None:
    """Keep a plan in the project's row, with how many shots it has and its laps."""
    drawn = [(round(w.rise_deg, 1), w.count) for w in out.laps] if request.kind in ("object", "area") else []
    project.plan = {**request.model_dump(mode="json"), "total": out.total, "drawn": drawn}


def pace_here(data: Path) -> float:
    """How this machine compares with the one the rates were measured on, from its projects."""
    projects = data / "projects"
    return pace_of(Store(f) for f in sorted(projects.iterdir())) if projects.is_dir() else 1.0
