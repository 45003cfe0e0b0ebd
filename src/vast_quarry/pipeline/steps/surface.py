"""Surface: a mesh through the cloud, trimmed, cut to the keep box, one main body, decimated."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.box import KeepBox
from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, write_arrays
from vast_quarry.core.surface.bodies import Dropped, wanted_bodies
from vast_quarry.core.surface.cut import cut_open, led_down
from vast_quarry.core.surface.decimate import decimate, without_doubles
from vast_quarry.core.surface.holes import close_holes
from vast_quarry.core.surface.mesh import components, cut_apart, edge_faces, face_normals, main_body
from vast_quarry.core.surface.poisson import median_spacing, near_points, trimmed
from vast_quarry.core.surface.sight import allowed as allowed_faces
from vast_quarry.core.surface.volume import Lattice, joined, tiles_of
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.figures import SurfaceFigures
from vast_quarry.pipeline.memory import give_back
from vast_quarry.pipeline.refining import refined
from vast_quarry.pipeline.skin import skin
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.step import Context, StepSettings, setting
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.units import sight as sights
from vast_quarry.pipeline.units import skin as skins
from vast_quarry.pipeline.units import volume as units

Mesh = tuple[NDArray[np.float64], NDArray[np.int64]]

#: faces above which triangles are made fewer by a worker
APART = 600_000
#: holes that are closed in any case, in spacings of the points
SMALL_HOLE = 12.0
#: cells of the lattice of distances, in those of the skin, and in spacings at most; tiles that one unit looks at; bytes that a tile takes, and a depth map
THIN_CELL, THIN_MOST, TILES, TILE_BYTES, MAP_BYTES = 0.75, 1.05, 128, 1.5e6, 1e8


class SurfaceSettings(StepSettings):
    """How to mesh."""

    came_later: ClassVar[frozenset[str]] = frozenset({"way", "refine", "bodies", "infer"})

    way: str = setting(
        "whole",
        "Way",
        "Whole: one smooth skin through the points, thin places bridged. Thin parts: out of the depth maps, what photos look through stays empty.",
        main=True, labels={"whole": "whole", "thin": "thin parts kept"}, pattern="^(whole|thin)$",
    )  # fmt: skip
    closed: bool = setting(
        False,
        "Close the surface",
        "Close it where nothing was seen, and at the bottom: solid, as for printing.",
        main=True,
    )
    refine: int = setting(
        1,
        "Refinement passes",
        "Each goes over the surface and moves it to where the photos agree best about it; 0 leaves it as the points have it.",
        main=True, usual=(0, 4), cost="Each takes about as long as a tenth of the depth maps.", ge=0, le=10,
    )  # fmt: skip
    faces: int = setting(
        400_000,
        "Triangles, at most",
        "A mesh with more is made simpler where it is flat.",
        main=True, usual=(50_000, 2_000_000), cost="Texture and later programs take longer.", ge=200, le=20_000_000,
    )  # fmt: skip
    infer: bool = setting(
        True,
        "Close plain sides",
        "Where there are no points, the surface stays where photos look at it and none looks through: marked as inferred.",
        cost="Some seconds.",
    )
    bodies: str = setting(
        "subject",
        "Bodies to keep",
        "Whatever stands in the keep box is kept; shreds, and what reaches in from beside, are not. Or only the largest, or all.",
        labels={"subject": "what the subject is", "largest": "the largest only", "all": "all, shreds too"},
        pattern="^(subject|largest|all)$",
    )  # fmt: skip
    cell: float = setting(
        1.4,
        "Finest detail",
        "Smallest step of the surface: less shows finer detail, and more of the noise.",
        main=True, unit="times point spacing", usual=(1, 3), cost="Half of it takes about four times as long.", gt=0.3,
        le=8,
    )  # fmt: skip
    reach: float = setting(
        5.0,
        "Trim surface beyond",
        "Surface farther than this from any point was not seen, and is trimmed off.",
        main=True, unit="times point spacing", usual=(3, 15), gt=1, le=50,
    )  # fmt: skip
    gap: float = setting(
        60.0,
        "Close gaps up to",
        "Gaps as wide as this, where the cloud is only thin, are bridged; wider ones stay open.",
        unit="times point spacing", usual=(0, 200), ge=0, le=1e6,
    )  # fmt: skip


def load_mesh(folder: Path) -> Mesh:
    """The mesh of a version of Surface."""
    with np.load(folder / "mesh.npz") as f:
        return f["vertices"], f["faces"]


def _cut(vertices: NDArray, faces: NDArray, box: KeepBox) -> Mesh:
    for origin, normal in box.planes():
        vertices, faces = cut_open(vertices, faces, origin, normal)
    return vertices, faces


def foot_height(box: KeepBox, rough: float, spacing: float) -> float:
    """Height at which a subject is cut off from the ground that it stands on, in world units.

    Just above the bumps of the ground, where the section shows nothing but the subject, and above the corner between the two, which
    a surface through points rounds off; never more than a small share of what is kept, so that something flat is not lost. From there
    it is led straight down: it stands flat on the ground plane.
    """
    return max(box.low[2], min(max(3.0 * rough, 2.0 * spacing), 0.04 * float(box.high[2])))


#: what a vertex rests on: photos show it; it was filled in where windows say little; there is no point near, it was inferred
SHOWN, FILLED, INFERRED = 0, 1, 2
#: a vertex farther than so many spacings from any point was inferred
FAR_FROM_POINTS = 3.0


def _evidence(context: Context, vertices: NDArray[np.float64], foot: float) -> NDArray[np.uint8]:
    """What each vertex (N,) rests on: :data:`SHOWN`, :data:`FILLED` or :data:`INFERRED`."""
    cloud = load_cloud(context.parents["points"])
    spacing = median_spacing(cloud.points)
    out = np.full(len(vertices), SHOWN, np.uint8)
    if cloud.filled.any():
        near_shown = near_points(vertices, cloud.points[~cloud.filled], FAR_FROM_POINTS * spacing)
        out[~near_shown] = FILLED
        near_any = near_shown | near_points(vertices, cloud.points[cloud.filled], FAR_FROM_POINTS * spacing)
    else:
        near_any = near_points(vertices, cloud.points, FAR_FROM_POINTS * spacing)
    out[~near_any | (vertices[:, 2] < foot)] = INFERRED
    return out


def load_evidence(folder: Path, count: int) -> NDArray[np.uint8]:
    """What each of ``count`` vertices of a version's mesh rests on; of an earlier program's all are taken to be shown."""
    with np.load(folder / "mesh.npz") as f:
        return f["evidence"] if "evidence" in f.files else np.full(count, SHOWN, np.uint8)


def load_foot(file: Path) -> float:
    """Height below which a mesh that was kept with it was not seen but led down to the ground; -inf where it was not."""
    with np.load(file) as f:
        return float(f["foot"]) if "foot" in f.files else -np.inf


def whole_surface(context: Context, cloud: Cloud, spacing: float, settings: SurfaceSettings) -> Mesh:
    """One skin through the points, trimmed where nothing was seen."""
    # points that all lie at one place have no spacing
    least = 1e-5 * float(np.ptp(cloud.points, axis=0).max()) if len(cloud.points) else 0.0
    v, f = skin(context, cloud, settings.cell * max(spacing, least, 1e-12))
    if settings.closed:
        return v, f
    allowed = partial(_in_sight, context) if settings.infer else None
    return trimmed(v, f, cloud.points, settings.reach * spacing, settings.gap * spacing, allowed)


def _in_sight(context: Context, vertices: NDArray[np.float64], faces: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which faces may be there by what photos see through and look at (M,)."""
    points = context.parents["points"]
    solution = load_solution(points)
    rows = [int(r) for r in solution.aligned if (points / "depth" / f"{int(r):05d}.npz").exists()]
    if not rows:
        return np.zeros(len(faces), bool)
    write_arrays(
        context.folder / sights.FACES_FILE, middles=vertices[faces].mean(1).astype(np.float32),
        normals=face_normals(vertices, faces).astype(np.float32),
    )  # fmt: skip
    masks = context.lineage.get("masks")
    masked = {r: masks is not None and mask_file(masks, int(solution.numbers[r])) is not None for r in rows}
    here = str(context.folder)
    found = context.each("Lines of sight", sights.sight_of_photo, [(str(points), here, r, masked[r]) for r in rows])
    (context.folder / sights.FACES_FILE).unlink()
    through, looks = np.zeros(len(faces), np.int32), np.zeros(len(faces), np.int32)
    for a, b in found:
        through += np.unpackbits(a, count=len(faces))
        looks += np.unpackbits(b, count=len(faces))
    return allowed_faces(through, looks)


def thin_surface(context: Context, cloud: Cloud, spacing: float, settings: SurfaceSettings) -> Mesh:
    """What the depth maps agree about, by tiles; pieces that are no more than noise left out.

    Raises
    ------
    PlainError
        When the depth maps are of a version that did not keep what is needed.
    """
    folder = context.folder / "tiles"
    folder.mkdir(exist_ok=True)
    here, points = str(folder), str(context.parents["points"])
    lattice = Lattice(tuple(cloud.points.min(0).tolist()), spacing * min(settings.cell * THIN_CELL, THIN_MOST))
    if not (folder / units.PLACES).exists():
        with atomic_write(folder / units.PLACES) as out:
            np.save(out, cloud.points.astype(np.float32))
    tiles = tiles_of(cloud.points, lattice)
    # the same cut on any machine: a run that was broken off may go on on another
    parts = [(first, tiles[first : first + TILES]) for first in range(0, len(tiles), TILES)]
    context.each(
        "Distances in the depth maps", units.band_of_tiles, [(points, here, a, t, lattice) for a, t in parts],
        memory=[TILE_BYTES * len(t) + MAP_BYTES for _, t in parts],
    )  # fmt: skip
    v, f = joined([p for a, t in parts for p in units.load_tiles(here, a, t)], lattice)
    shutil.rmtree(folder, ignore_errors=True)
    if not len(f):
        raise PlainError("The depth maps say nothing of a surface.", "Run Points again, or choose the way “whole”.")
    f = without_doubles(v, f)
    v, f = close_holes(v, f, SMALL_HOLE * spacing)
    return v, without_doubles(v, f)


def main_surface(
    cloud: Cloud,
    box: KeepBox,
    rough: float | None,
    stage: Callable[[str, int], None],
    make: Callable[[float], Mesh],
    bodies: str = "subject",
) -> tuple[Mesh, float, list[Dropped]]:
    """The surface of a cloud within the keep box; the height that it was cut off its ground at, -inf where it was not; and bodies that
    were left out.

    ``rough`` is the spread of the ground that the subject stands on, None where there is none. ``make`` makes the surface, given the
    spacing of the cloud.
    """
    spacing = median_spacing(cloud.points)
    stage("Surface through the points", 0)
    v, f = make(spacing)
    stage("Cutting", 1)
    foot, base = -np.inf, float(box.low[2])
    if rough is not None and base >= 0:
        # along the ground itself the edge would follow each of its bumps, with shreds of them hanging on
        foot = foot_height(box, rough, spacing)
        box = KeepBox((box.low[0], box.low[1], foot), box.high, box.turn)
    v, f = _cut(v, f, box)
    stage("Bodies", 2)
    if not len(f):
        raise PlainError("Nothing of the surface lies in the keep box.", "Make the keep box larger.")
    v, f, dropped = _bodies(bodies, v, f, box, foot if foot > base else -np.inf)
    if foot > base:
        v, f = led_down(v, f, foot, base)
    return (v, f), foot if foot > base else -np.inf, dropped


def _bodies(which: str, v: NDArray, f: NDArray, box: KeepBox, foot: float) -> tuple[NDArray, NDArray, list[Dropped]]:
    """Bodies of a mesh as the settings want them, and what was left out."""
    if which == "all":
        return v, f, []
    if which == "largest":
        return *main_body(v, f), []
    return wanted_bodies(v, f, box, foot)


#: of bodies that were left out, those are told that have this share of the surface
WORTH_TELLING = 0.01


def _told_of(dropped: list[Dropped]) -> list[Said]:
    """What is said of bodies that were left out; crumbs are not worth a word."""
    out = []
    flat = [d.share for d in dropped if d.why == "flat" and d.share > WORTH_TELLING]
    cut = [d.share for d in dropped if d.why == "cut" and d.share > WORTH_TELLING]
    if flat:
        out.append(
            say(
                "{count, plural, one {A body that lies flat on the ground was} other {# bodies that lie flat on the ground were}} "
                "left out ({percent} % of the surface). “Bodies to keep” brings that back.",
                count=len(flat), percent=round(100 * sum(flat)),
            )
        )  # fmt: skip
    if cut:
        out.append(
            say(
                "{count, plural, one {A body that reaches in through the side of the keep box was} other {# bodies that reach in "
                "through the sides of the keep box were}} left out ({percent} % of the surface). If that belongs to the subject, "
                "make the box larger, or choose all under “Bodies to keep”.",
                count=len(cut), percent=round(100 * sum(cut)),
            )
        )  # fmt: skip
    return out


def _fewer(context: Context, v: NDArray[np.float64], f: NDArray[np.int64]) -> Mesh:
    """A mesh of no more faces than are wanted; a large one by a worker that then goes, for the library keeps its memory."""
    if len(f) <= max(context.settings.faces, APART):
        return decimate(v, f, context.settings.faces)
    context.executor.rest()
    here = str(context.folder)
    write_arrays(context.folder / skins.MANY_FILE, vertices=v, faces=f)
    del v, f
    context.each("Fewer triangles", skins.fewer, [(here, context.settings.faces)])
    context.executor.rest()
    with np.load(context.folder / skins.FEWER_FILE) as made:
        mesh = made["vertices"], made["faces"]
    for name in (skins.MANY_FILE, skins.FEWER_FILE):
        (context.folder / name).unlink(missing_ok=True)
    return mesh


class SurfaceStep:
    """Meshes the cloud."""

    layer: ClassVar[str] = "surface"
    title: ClassVar[str] = "Surface"
    parents: ClassVar[tuple[str, ...]] = ("points",)
    settings_model: ClassVar[type[StepSettings]] = SurfaceSettings

    def run(self, context: Context) -> SurfaceFigures:
        """Write ``mesh.npz``."""
        settings: SurfaceSettings = context.settings
        cloud = load_cloud(context.parents["points"])
        solution = load_solution(context.parents["points"])
        rough = solution.rough if solution.ground else None
        way = whole_surface if settings.way == "whole" else thin_surface
        make = partial(way, context, cloud, settings=settings)
        (v, f), foot, dropped = main_surface(
            cloud, solution.box, rough, lambda text, n: context.stage(text, n, 4), make, settings.bodies
        )
        for sentence in _told_of(dropped):
            context.found(sentence)
        del cloud, make
        give_back()
        agreed: list[float] = []
        if settings.refine:
            (v, f), agreed = refined(context, (v, f), solution, settings.refine, foot)
        full = len(f)
        context.stage("Fewer triangles", 3, 4)
        v, f = _fewer(context, v, f)
        v, f, _ = _bodies(settings.bodies, *cut_apart(v, f), solution.box, foot)
        if settings.closed:
            v, f = close_holes(v, f)
        if len(f) < 20:
            raise PlainError("Hardly any surface is left inside the keep box.", "Make the keep box larger.")
        evidence = _evidence(context, v, foot)
        write_arrays(context.folder / "mesh.npz", vertices=v, faces=f, foot=foot, evidence=evidence)
        pairs, _ = edge_faces(f)
        context.stage("Done", 4, 4)
        told: SurfaceFigures = {"photos_agree": [round(a, 4) for a in agreed]} if agreed else {}
        return {
            **told,
            "triangles": len(f),
            "vertices": len(v),
            "triangles_before_decimation": full,
            "inferred_percent": round(100 * float((evidence == INFERRED).mean()), 2),
            "filled_percent": round(100 * float((evidence == FILLED).mean()), 2),
            "bodies": int(components(f).max()) + 1,
            "open_edges": int(3 * len(f) - 2 * len(pairs)),
            "size": [round(float(x), 6) for x in np.ptp(v, axis=0)],
        }
