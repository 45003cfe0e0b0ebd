"""What the page draws in the world: cameras, clouds, meshes, in compact binary form.

A cloud is little-endian: uint32 count, then float32 positions (count x 3), uint8 colours (count x 3), uint8 views
(count); a sparse one besides float32 errors in pixels (count; RMS over its photos) and float32 standard deviations in
units of the GSD (count; NaN where not known); a dense one float32 pixel sizes on the subject in world units (count), float32 expected
errors in units of these (count; NaN where not stated), int8 normals times 127 (count x 3) and int16 rows of the photos that gave them (count;
-1 where not known). A mesh is a GLB.
"""

from __future__ import annotations

import io
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import BaseModel

from vast_quarry.core.align.plausible import off_plan
from vast_quarry.core.finish.poster import poster_bytes
from vast_quarry.core.formats.atomic import array_shapes, atomic_write
from vast_quarry.core.formats.packed_glb import write_packed_glb
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.words import say
from vast_quarry.pipeline.atlas_files import texture_bytes
from vast_quarry.pipeline.atlas_maps import MapKind, atlas_map
from vast_quarry.pipeline.reuse import features_of, number_of
from vast_quarry.pipeline.solution import POSED, Solution, group_name, groups_in, load_solution, way_back
from vast_quarry.pipeline.standing import AS_FOUND
from vast_quarry.pipeline.steps.finish import load_textured
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.steps.surface import load_evidence, load_mesh
from vast_quarry.pipeline.steps.texture import HELD
from vast_quarry.pipeline.store import Version
from vast_quarry.server.services import nearby
from vast_quarry.server.services.folders import Folders, NotFound
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.shooting import shots_of
from vast_quarry.server.services.sizes import trim_cache

#: planned photos from which it is told how far each stands from its plan
PLANNED_AT_LEAST = 6


class CameraOut(BaseModel):
    """A camera in the world."""

    row: int
    photo: str
    state: str
    rotation: list[list[float]] | None
    center: list[float] | None
    width: int
    height: int
    focal: float
    ties: int
    #: usual error of its observations in pixels (RMS), and stated standard deviation of its centre in per cent of its distance
    error: float | None = None
    sigma_percent: float | None = None
    #: how far it stands from where it was planned, in per cent of how far the planned places spread; None where nothing was planned
    off_plan_percent: float | None = None
    #: group that it was placed in, 1 the largest; None where it was not placed
    group: int | None = None


class SceneOut(BaseModel):
    """Cameras and keep box of a version of Cameras."""

    cameras: list[CameraOut]
    box: dict[str, Any]
    ground: bool
    gsd: float
    #: from this frame to the one in which it was found, row by row (4 x 4): places that settings name are told there
    found: list[float]


def scene_of(folders: Folders, number: int | None) -> SceneOut:
    """Cameras and keep box."""
    version = version_of(folders, "cameras", number)
    folder = folders.store.folder(version)
    solution = load_solution(folder)
    photos_number = version.parents.get("photos")
    listed = read_photo_list(folders.store.folder(version_of(folders, "photos", photos_number)))
    path = {p.number: p.path for p in listed.photos}
    ties = np.bincount(solution.photo, minlength=len(solution.numbers))
    squares = np.bincount(solution.photo, solution.error.astype(float) ** 2, minlength=len(solution.numbers))
    sigma = solution.center_sigma_percent
    group = _groups(folders.store.folder(version), solution)
    beside = _off_plan(folders, solution, path)
    cameras = []
    for k, n in enumerate(solution.numbers):
        lens, placed = solution.lens(k), solution.states[k] in POSED
        cameras.append(
            CameraOut(
                row=k, photo=path.get(int(n), "?"), state=solution.states[k],
                rotation=solution.rotations[k].tolist() if placed else None,
                center=solution.centers[k].tolist() if placed else None,
                width=lens.width, height=lens.height, focal=lens.fx, ties=int(ties[k]),
                error=round(float(np.sqrt(squares[k] / ties[k])), 4) if placed and ties[k] else None,
                sigma_percent=float(f"{sigma[k]:.3g}") if placed and np.isfinite(sigma[k]) else None,
                group=group.get(int(n)), off_plan_percent=beside.get(k),
            )
        )  # fmt: skip
    return SceneOut(
        cameras=cameras, box=solution.box.as_dict(), ground=solution.ground, gsd=solution.gsd(),
        found=_as_found(folder, solution),
    )  # fmt: skip


def _as_found(folder: Path, solution: Solution) -> list[float]:
    """The way back to where an alignment was found, before it was levelled and scaled by hand (4 x 4, row by row)."""
    matrix = np.eye(4)
    if (folder / f"{AS_FOUND}.npz").exists():
        back = way_back(solution, load_solution(folder, AS_FOUND))
        matrix[:3, :3], matrix[:3, 3] = back.scale * back.rotation, back.shift
    return [float(x) for x in matrix.ravel()]


def _off_plan(folders: Folders, solution: Solution, path: dict[int, str]) -> dict[int, float]:
    """How far placed photos stand from where they were planned, in per cent, by row; nothing where too few were planned."""
    shots = shots_of(folders)
    rows = [k for k in solution.aligned.tolist() if path.get(int(solution.numbers[k])) in shots]
    if len(rows) < PLANNED_AT_LEAST:
        return {}
    planned = np.array([shots[path[int(solution.numbers[k])]]["center"] for k in rows], float)
    return {k: round(100 * float(x), 2) for k, x in zip(rows, off_plan(solution.centers[rows], planned))}


def _groups(folder: Path, solution: Solution) -> dict[int, int]:
    """Group that photos were placed in, by their numbers."""
    count = groups_in(folder)
    each = [solution] if count == 1 else [load_solution(folder, group_name(g)) for g in range(1, count + 1)]
    return {int(n): g for g, s in enumerate(each, 1) for n, state in zip(s.numbers, s.states) if state in POSED}


class LiveOut(BaseModel):
    """A model that is still growing, in its own frame; and before that, which photos were read and found each other."""

    cameras: list[CameraOut]
    points: list[list[float]]
    #: numbers of photos whose features are found
    read: list[int]
    #: pairs that found each other: numbers of both, and how many places they share
    matched: list[tuple[int, int, int]]


def live_scene(folders: Folders) -> LiveOut:
    """The alignment under way; empty when none is."""
    try:
        under_way = [p for p in folders.store.root.glob("cameras/*.partial") if p.is_dir()]
        folder = max(under_way, key=lambda p: p.stat().st_mtime)
        cameras, points = _placed_so_far(folder / "live.npz")
        read = sorted({number_of(p) for p in folder.glob("features/*.npz")})
        matched = [] if cameras else [m for p in sorted(folder.glob("matches/*.npz")) for m in _pairs_of(p)]
    except (OSError, ValueError):  # none is, or it was just finished and has another name now
        return LiveOut(cameras=[], points=[], read=[], matched=[])
    return LiveOut(cameras=cameras, points=points, read=read, matched=matched)


def _placed_so_far(file: Path) -> tuple[list[CameraOut], list[list[float]]]:
    try:
        with np.load(file) as f:
            cameras = [
                CameraOut(
                    row=k, photo=str(f["paths"][k]), state="placed", rotation=f["rotations"][k].tolist(),
                    center=f["centers"][k].tolist(), width=int(f["sizes"][k][0]), height=int(f["sizes"][k][1]),
                    focal=float(f["focal"][k]), ties=0,
                )
                for k in np.flatnonzero(f["placed"])
            ]  # fmt: skip
            return cameras, np.round(f["points"], 4).tolist()
    except (OSError, ValueError):  # not there yet, or just being replaced
        return [], []


@lru_cache(maxsize=20_000)
def _pairs_of(file: Path) -> tuple[tuple[int, int, int], ...]:
    """Pairs of a bundle that was matched; such a file is never changed."""
    first = number_of(file)
    return tuple((first, int(other), shape[0]) for other, shape in array_shapes(file).items())


def ties_of(folders: Folders, row: int, most: int = 3000) -> dict[str, list[list[float]]]:
    """Tied features of a photo with what they miss their points by (pixels: x, y, dx, dy), and untied ones (x, y)."""
    folder = folders.store.folder(version_of(folders, "cameras", None))
    solution = load_solution(folder)
    if not 0 <= row < len(solution.numbers):
        raise NotFound("There is no such photo in the alignment.")
    mine, miss = solution.misses(row)
    tied = solution.xy[mine]
    try:
        with np.load(features_of(folder, int(solution.numbers[row]))) as f:
            every = f["xy"]
    except OSError:
        every = tied
    known = {tuple(x) for x in np.round(tied, 1).tolist()}
    loose = np.array([x for x in every if tuple(np.round(x, 1).tolist()) not in known], np.float32).reshape(-1, 2)
    thin = lambda a, digits: a[:: max(1, len(a) // most)].astype(float).round(digits).tolist()  # noqa: E731
    return {"tied": thin(np.concatenate([tied, miss], 1), 3), "untied": thin(loose, 1)}


@lru_cache(maxsize=2)
def drawn_points(count: int, budget: int) -> NDArray[np.int64]:
    """Which points of a cloud the page draws, in its order: at random, so that any first part of it is an even thinning."""
    return np.random.default_rng(0).permutation(count)[:budget]


def _packed(points: NDArray, colors: NDArray, views: NDArray, budget: int, more: tuple[NDArray, ...] = ()) -> bytes:
    pick = drawn_points(len(points), budget)
    points, colors, views = points[pick], colors[pick], views[pick]
    parts = (
        np.uint32(len(points)).tobytes(),
        points.astype("<f4").tobytes(),
        colors.astype(np.uint8).tobytes(),
        np.clip(views, 0, 255).astype(np.uint8).tobytes(),
        *(values[pick].tobytes() for values in more),
    )
    return b"".join(parts)


def _errors(s: Solution) -> NDArray:
    """RMS error of each sparse point in pixels (P,)."""
    return np.sqrt(np.add.reduceat(s.error.astype(float) ** 2, s.start[:-1]) / np.diff(s.start))


#: points of a cloud that the page asks for unless it is told otherwise
USUAL_BUDGET = 400_000
#: points of the dense cloud that it draws; where one looks it asks for more (:mod:`.nearby`)
POINTS_BUDGET = 2_000_000


def cloud_file(folders: Folders, layer: str, number: int | None, budget: int = USUAL_BUDGET) -> Path:
    """The sparse (cameras) or dense (points) cloud, thinned to a budget and put in random order, made once."""
    version = version_of(folders, layer, number)
    target = folders.cache / f"cloud4-{layer}-{version.key}-{budget}.bin"
    if target.exists():
        return target
    folder = folders.store.folder(version)
    if layer == "cameras":
        s: Solution = load_solution(folder)
        more = (_errors(s).astype("<f4"), (s.sigma / s.gsd()).astype("<f4")) if len(s.points) else ()
        body = _packed(s.points, s.colors, np.diff(s.start), budget, more)
    else:
        cloud = load_cloud(folder)
        facing = np.round(127 * np.asarray(cloud.normals, float)).clip(-127, 127).astype(np.int8)
        body = _packed(
            cloud.points,
            cloud.colors,
            cloud.views,
            budget,
            (cloud.gsd.astype("<f4"), (cloud.sigma / cloud.gsd).astype("<f4"), facing, cloud.photo.astype("<i2")),
        )
    folders.make()
    trim_cache(folders)
    with atomic_write(target) as out:
        out.write(body)
    return target


#: what a surface rests on, as it is painted: photos show it, filled in where it is plain, inferred (sRGB)
EVIDENCE = ((205, 198, 184), (201, 138, 33), (14, 124, 123))


def evidence_image() -> bytes:
    """Colours by what a surface rests on: filled in to the right, inferred below, what photos show in the first corner."""
    picture = np.empty((16, 16, 3), np.uint8)
    picture[:] = EVIDENCE[0]
    picture[:8, 8:], picture[8:] = EVIDENCE[1], EVIDENCE[2]
    out = io.BytesIO()
    Image.fromarray(picture).save(out, "JPEG", quality=95, subsampling=0)
    return out.getvalue()


def evidence_places(evidence: NDArray[np.uint8]) -> NDArray[np.float32]:
    """Where in :func:`evidence_image` what vertices (N,) rest on has its colour (N, 2)."""
    return np.array([[0.2, 0.2], [0.8, 0.2], [0.2, 0.8]], np.float32)[evidence]


#: layers whose versions are meshes
MESHES = ("surface", "texture", "finish")


def mesh_version(folders: Folders, layer: str, number: int | None) -> Version:
    """A version of a layer that has a mesh.

    Raises
    ------
    NotFound
        When it has none.
    """
    if layer not in MESHES:
        raise NotFound(say("The layer {layer} has no mesh.", layer=layer))
    return version_of(folders, layer, number)


def mesh_file(folders: Folders, layer: str, number: int | None) -> Path:
    """A GLB for display of a version of Surface, Texture or Finish, made once."""
    version = mesh_version(folders, layer, number)
    target = folders.cache / f"{layer}-{version.key}.glb"
    if target.exists():
        return target
    folders.make()
    trim_cache(folders)
    folder = folders.store.folder(version)
    if layer == "surface":
        v, f = load_mesh(folder)
        at = evidence_places(load_evidence(folder, len(v)))
        write_packed_glb(target, v, vertex_normals(v, f), at, f, evidence_image())
    else:
        m = load_textured(folder)
        write_packed_glb(target, m.vertices, m.normals, m.uv, m.faces, texture_bytes(folder))
    return target


def poster_file(folders: Folders, layer: str, number: int | None) -> Path:
    """A still picture of a version of Surface, Texture or Finish, made once."""
    version = mesh_version(folders, layer, number)
    target = folders.cache / f"poster-{layer}-{version.key}.webp"
    if target.exists():
        return target
    folder = folders.store.folder(version)
    if layer == "surface":
        data = poster_bytes(*load_mesh(folder))
    else:
        m = load_textured(folder)
        data = poster_bytes(m.vertices, m.faces, m.uv, texture_bytes(folder))
    folders.make()
    with atomic_write(target) as out:
        out.write(data)
    return target


def make_ready(folders: Folders, layer: str) -> None:
    """Make what the page asks for first of a version just made, so that nobody waits for it."""
    if layer in MESHES:
        poster_file(folders, layer, None)
        mesh_file(folders, layer, None)
    elif layer in ("cameras", "points"):
        cloud_file(folders, layer, None, POINTS_BUDGET if layer == "points" else USUAL_BUDGET)
    if layer == "points" and version_of(folders, layer, None).figures.get("points", 0) > POINTS_BUDGET:
        nearby.make_ready(folders)


def map_of_atlas(folders: Folders, layer: str, number: int | None, kind: MapKind) -> bytes:
    """What no photo saw, which photo each part is from, or how stretched charts are, to be laid over the texture."""
    data = atlas_map(folders.store.folder(version_of(folders, layer, number)), kind)
    if data is None:
        raise NotFound("This texture was made before that was written down. Run Texture again.")
    return data


def held_out_picture(folders: Folders, number: int | None, row: int, shows: str) -> Path:
    """A photo that was kept back from a version of Texture, the model drawn from there, or the difference between the two."""
    file = folders.store.folder(version_of(folders, "texture", number)) / HELD / f"{row:05d}-{shows}.jpg"
    if not file.exists():
        raise NotFound("This photo was not kept back.")
    return file


def atlas_file(folders: Folders, layer: str, number: int | None) -> Path:
    """The texture of a version of Texture or Finish."""
    return folders.store.folder(version_of(folders, layer, number)) / "texture.jpg"
