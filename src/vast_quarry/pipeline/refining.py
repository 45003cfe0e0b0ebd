"""The refinement of a surface by the photos: turn after turn while photos agree better."""

from __future__ import annotations

import shutil

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.core.surface.mesh import midpoints
from vast_quarry.core.surface.refine import edge_length, facing, spread
from vast_quarry.core.words import say
from vast_quarry.pipeline.orders import PhotoOrder, photo_orders
from vast_quarry.pipeline.solution import Solution
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.units import refine as units

Mesh = tuple[NDArray[np.float64], NDArray[np.int64]]

#: photos with a longer side are made smaller before they are asked
LARGEST_SIDE = 9000
#: vertices of one unit; by how many it is told whether photos agree better; bytes that a vertex of a unit takes at most, and a
#: pixel of a photo that is made ready
VERTICES, MEASURED, UNIT_BYTES, PHOTO_BYTES = 40_000, 40_000, 1.5e8, 24.0
#: share of what photos disagree by that a turn has to take away to be kept
BETTER = 0.02
#: edges longer than so many pixels are halved once, while no more triangles than so many come of it
COARSE, MOST_FACES = 2.5, 8_000_000
#: faces from which on workers that only hold them are let go
MANY_FACES = 600_000


def refined(context: Context, mesh: Mesh, solution: Solution, turns: int, foot: float) -> tuple[Mesh, list[float]]:
    """A mesh whose vertices went where the photos agree best, and how they agreed before each turn that was kept and at the end (mean correlation).

    What lies at or below ``foot`` stays: photos show the ground there. A turn after which photos agree no better is taken back.
    """
    folder = context.folder / "refined"
    folder.mkdir(exist_ok=True)
    here = str(folder)

    def scale_of(_: int, lens: Camera) -> float:
        return min(1.0, LARGEST_SIDE / max(lens.width, lens.height))

    orders = photo_orders(context.lineage, solution, scale_of)
    vertices, faces = mesh
    write_arrays(folder / units.FIRST, vertices=vertices, faces=faces)
    context.each(
        "Making photos ready", units.make_ready, [(here, o) for o in orders],
        memory=[PHOTO_BYTES * o.camera.width * o.camera.height for o in orders],
    )  # fmt: skip
    if len(faces) > MANY_FACES:
        # they hold what tells which faces a photo sees, which is known now
        context.executor.rest()
    agreed: list[float] = []
    before = mesh
    some = _some(len(vertices))
    among = np.concatenate([np.arange(a, b) for a, b in some])
    for turn in range(turns + 1):
        last = turn == turns
        if (
            turn == 1
            and not last
            and edge_length(vertices, faces) > COARSE * solution.gsd()
            and 4 * len(faces) <= MOST_FACES
        ):
            vertices, faces = midpoints(vertices, faces)
        normals = facing(vertices, faces, solution.gsd())
        write_arrays(folder / units.mesh_name(turn), vertices=vertices, normals=normals)
        parts = some if last else [(a, min(a + VERTICES, len(vertices))) for a in range(0, len(vertices), VERTICES)]
        shift, sure, step, now = _asked(context, here, turn, parts, orders)
        now = now if last else now[among]
        agreed.append(float(np.nanmean(now)) if np.isfinite(now).any() else 0.0)
        # less than that is noise that photos have in common
        if turn and 1 - agreed[-1] > (1 - BETTER) * (1 - agreed[-2]):
            vertices, faces = before
            agreed.pop()
            break
        if last or not (sure > 0).any():
            break
        before = vertices, faces
        shift = spread(shift, sure, step, edge_length(vertices, faces), faces)
        shift[vertices[:, 2] <= foot] = 0
        vertices = vertices + shift[:, None].astype(float) * normals
    shutil.rmtree(folder, ignore_errors=True)
    if len(agreed) < 2:
        context.found(say("Photos agreed no better after the surface was refined by them: it stays as it was."))
    else:
        better, then = round(agreed[-1], 3), round(agreed[0], 3)
        context.found(
            say(
                "Photo agreement rose from {then} to {now} (1 = identical).",
                now=better,
                then=then,
            )
        )
    return (vertices, faces), agreed


def _some(count: int) -> list[tuple[int, int]]:
    """Stretches of the vertices by which it is told whether photos agree better, :data:`MEASURED` at most."""
    starts = range(0, count, VERTICES)
    each = max(1, MEASURED // max(len(starts), 1))
    return [(a, min(a + each, count)) for a in starts]


def _asked(
    context: Context, folder: str, turn: int, parts: list[tuple[int, int]], orders: list[PhotoOrder]
) -> tuple[NDArray, NDArray, NDArray, NDArray]:
    """What the photos say of stretches of the vertices."""
    jobs = [(folder, turn, a, b, orders) for a, b in parts]
    context.each("Refining by the photos", units.ask, jobs, memory=[UNIT_BYTES] * len(jobs))
    found = []
    for a, _ in parts:
        with np.load(units.said_file(folder, turn, a)) as f:
            found.append([f[name] for name in ("shift", "sure", "step", "now")])
    shift, sure, step, now = (np.concatenate(x) for x in zip(*found))
    return shift, sure, step, now
