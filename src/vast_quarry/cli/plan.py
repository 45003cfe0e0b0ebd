"""``plan``: a shooting plan from a file that says what is wanted."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer
from pydantic import ValidationError
from rich.console import Console

from vast_quarry.cli.language import spoken
from vast_quarry.cli.language import told as in_words
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, write_json
from vast_quarry.core.formats.meshes import read_mesh
from vast_quarry.core.formats.pdf import mat_pdf, step_marks_pdf
from vast_quarry.core.plan.mats import PAPERS, make_mat
from vast_quarry.core.plan.shots import planned_glb, shot_list, shot_sheet
from vast_quarry.core.plan.standin import StandIn, standin_from_mesh
from vast_quarry.core.words import Said
from vast_quarry.pipeline.estimate import expected
from vast_quarry.pipeline.output import claim_output
from vast_quarry.pipeline.plan import PlanFile, PlanIn, patches_of, told
from vast_quarry.pipeline.recipe import first_misfit

console = Console(soft_wrap=True)


def read_subject(path: Path) -> PlanIn:
    """What is wanted, from a JSON file.

    Raises
    ------
    PlainError
        When it cannot be read or a value does not fit.
    """
    try:
        return PlanIn.model_validate(json.loads(path.read_text("utf-8")))
    except OSError as error:
        raise PlainError(f"{path} cannot be read ({error.strerror}).", "Check the path.") from error
    except ValidationError as error:
        where, why = first_misfit(error)
        raise PlainError(f"{where} in {path.name} does not fit: {why}.", "docs/formats.md says what fits.") from error
    except ValueError as error:
        raise PlainError(f"{path.name} is no JSON file.", "docs/formats.md shows one.") from error


def read_plan(path: Path) -> PlanFile:
    """A plan that was written before.

    Raises
    ------
    PlainError
        When it is none.
    """
    try:
        return PlanFile.model_validate_json(path.read_text("utf-8"))
    except OSError as error:
        raise PlainError(f"The plan {path} cannot be read ({error.strerror}).", "Check the path.") from error
    except ValueError as error:
        raise PlainError(
            f"{path.name} is not a plan.", "A plan is the plan.json that `vast-quarry plan` writes."
        ) from error


def plan(
    subject: Annotated[Path, typer.Argument(help="JSON file with subject, camera and wish", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for the plan", show_default=False)],
) -> None:
    """Work out a shooting plan: plan.json, shots.csv, shots.pdf, cameras.glb, coverage.json."""
    request = read_subject(subject)
    mesh, notes = _mesh_of(request, subject.parent)
    worked = request.work_out(mesh)
    worked.findings.extend(notes)
    result = told(worked, request.colors)
    claim_output(out)
    write_json(out / "plan.json", PlanFile(request=request, result=result).model_dump())
    with atomic_write(out / "shots.csv") as f:
        f.write(shot_list(worked).encode())
    with atomic_write(out / "shots.pdf") as f:
        f.write(shot_sheet(worked, subject.stem, spoken()))
    with atomic_write(out / "cameras.glb") as f:
        f.write(planned_glb(worked))
    write_json(out / "coverage.json", patches_of(worked).model_dump(mode="json"))
    say = lambda text: console.print(text, markup=False, highlight=False)  # noqa: E731
    say(f"{result.total} shots from {result.distance:.2f} m, GSD {result.gsd_mm:.2g} mm, in {out}")
    say(f"{100 * result.seen_by_three:.1f} % of the surface is seen by three photos or more.")
    for e in expected(result.total, request.pixels_wide * request.pixels_high / 1e6):
        say(
            f"{e.grade.value.capitalize()}: about {max(1, round(e.seconds / 60))} min and {e.memory_mb / 1000:.1f} GB of memory."
        )
    for finding in result.findings:
        say(in_words(finding))


def _mesh_of(request: PlanIn, folder: Path) -> tuple[StandIn | None, list[Said]]:
    """The mesh that stands in, where one is asked for; its path is taken from the subject file's folder."""
    if request.shape != "mesh":
        return None, []
    if not request.mesh:
        raise PlainError("The shape is a mesh, but no mesh is named.", "Name a file with the key mesh.")
    return standin_from_mesh(*read_mesh(folder / request.mesh), request.underside)


def _save_pdf(out: Path, data: bytes, beside: dict[str, Any] | None = None) -> None:
    """Write a PDF, and what is to lie beside it as JSON."""
    if out.suffix.lower() != ".pdf":
        raise PlainError(f"{out.name} does not end in .pdf.", "Name a PDF file with --out.")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        with atomic_write(out) as f:
            f.write(data)
        if beside is not None:
            write_json(out.with_suffix(".json"), beside)
    except OSError as error:
        raise PlainError(f"{out} cannot be written ({error.strerror}).", "Choose another place.") from error


def marks(
    out: Annotated[Path, typer.Option("--out", help="PDF file to write", show_default=False)],
    stops: Annotated[int, typer.Option(help="Marks of a turn: 12, 18, 20, 24 or 36", min=4, max=90)] = 24,
    elevations: Annotated[str, typer.Option(help="Elevations in degrees, with commas between")] = "10,30,50",
) -> None:
    """Step marks for a table turned by hand, and elevation stops, to print at true size."""
    try:
        rises = [float(x) for x in elevations.split(",") if x.strip()]
    except ValueError:
        raise PlainError(f"{elevations} are no elevations.", "Write them like 10,30,50.") from None
    _save_pdf(out, step_marks_pdf(stops, rises, spoken()))
    console.print(f"{stops} stops. Print at 100 %, and measure the line.", markup=False)


def mat(
    out: Annotated[Path, typer.Option("--out", help="PDF file to write", show_default=False)],
    paper: Annotated[str, typer.Option(help=f"{', '.join(PAPERS)}")] = "A4",
    round_: Annotated[bool, typer.Option("--round", help="A disc for a turntable, to be cut out")] = False,
    first: Annotated[int, typer.Option(help="Number of the first marker")] = 0,
) -> None:
    """A marker mat to print at true size; where its markers are is written beside it as JSON."""
    sheet = make_mat(paper, round_, first)
    _save_pdf(out, mat_pdf(sheet, spoken()), sheet.as_dict())
    console.print(f"{len(sheet.markers)} markers on {paper}. Print at 100 %, and measure the ruler.", markup=False)
