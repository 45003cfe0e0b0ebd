"""The files of a result folder, all in one world frame."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry import __version__
from vast_quarry.core.formats.atomic import atomic_write, write_json
from vast_quarry.core.formats.gltf import write_glb
from vast_quarry.core.formats.obj import write_obj
from vast_quarry.core.formats.ply import PlyData, write_ply
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.pipeline.aligned import cameras_document
from vast_quarry.pipeline.atlas_files import SEEN_MAP, deepest_texture
from vast_quarry.pipeline.levels import levels_of
from vast_quarry.pipeline.recipe import Recipe, write_recipe
from vast_quarry.pipeline.run import RunResult
from vast_quarry.pipeline.solution import ALIGNED, Solution, group_name, groups_in, load_solution
from vast_quarry.pipeline.steps.photos import clean_name, read_photo_list
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.steps.surface import load_evidence, load_mesh
from vast_quarry.pipeline.store import Store

#: why a photo has no place in the result, by its state
_WHY = {
    "loose": "belongs to nothing else: it could not be placed.",
    "implausible": "can hardly stand where it was placed.",
    "apart": "belongs to another group of photos, which nothing ties to this one.",
}


def _copy(source: Path, target: Path) -> None:
    with open(source, "rb") as f, atomic_write(target) as out:
        shutil.copyfileobj(f, out)


def write_cameras(store: Store, result: RunResult, out: Path) -> None:
    """``cameras.json`` and ``sparse.ply``; where photos fall apart, the same of each group."""
    folder = store.folder(result.versions["cameras"])
    _copy(folder / "cameras.json", out / "cameras.json")
    write_sparse(out / "sparse.ply", load_solution(folder))
    groups = groups_in(folder)
    for group in range(1, groups + 1) if groups > 1 else ():
        solution = load_solution(folder, group_name(group))
        write_sparse(out / f"{group_name(group)}.ply", solution)
        listed = read_photo_list(store.folder(result.versions["photos"]))
        write_json(out / f"{group_name(group)}.json", cameras_document(listed, solution))


def write_sparse(file: Path, solution: Solution) -> None:
    """The sparse cloud of an alignment, with the number of photos that see each point."""
    views = np.diff(solution.start).astype(np.float32)
    write_ply(file, PlyData(solution.points, colors=solution.colors, extra={"views": views, "sigma": solution.sigma}))


def write_cloud(store: Store, result: RunResult, out: Path) -> None:
    """``dense.ply``."""
    cloud = load_cloud(store.folder(result.versions["points"]))
    write_ply(
        out / "dense.ply",
        PlyData(
            cloud.points,
            cloud.normals,
            cloud.colors,
            extra={
                "views": cloud.views.astype(np.float32),
                "sigma": cloud.sigma,
                "filled": cloud.filled.astype(np.float32),
            },
        ),
    )


def write_mesh(store: Store, result: RunResult, out: Path) -> None:
    """``mesh.ply`` without colours, when there is no texture to take them from."""
    vertices, faces = load_mesh(store.folder(result.versions["surface"]))
    normals = vertex_normals(vertices, faces).astype(np.float32)
    write_ply(out / "mesh.ply", PlyData(vertices, normals, faces=faces, extra=_evidence(store, result, len(vertices))))


def _evidence(store: Store, result: RunResult, count: int) -> dict[str, NDArray[np.float32]]:
    """What each vertex of the surface rests on, as a property of the PLY: 0 photos show it, 1 filled in, 2 inferred."""
    found = load_evidence(store.folder(result.versions["surface"]), count)
    return {"evidence": found.astype(np.float32)} if len(found) == count else {}


def write_model(store: Store, result: RunResult, out: Path, levels: int = 0) -> None:
    """``mesh.ply``, ``model.glb``, ``model.obj`` with material and texture, ``seen.png``; and of each simpler level a ``model-levelN``."""
    folder = store.folder(result.versions["texture"])
    if (folder / SEEN_MAP).exists():
        _copy(folder / SEEN_MAP, out / SEEN_MAP)
    with np.load(folder / "model.npz") as m:
        write_ply(
            out / "mesh.ply",
            PlyData(
                m["mesh_vertices"],
                m["mesh_normals"].astype(np.float32),
                m["mesh_colors"],
                m["mesh_faces"],
                _evidence(store, result, len(m["mesh_vertices"])),
            ),
        )
    for ending, mesh, image in levels_of(folder, levels):
        parts = (mesh.vertices, mesh.normals, mesh.uv, mesh.faces)
        write_glb(out / f"model{ending}.glb", *parts, image, tiles=mesh.tiles)
        # most programs that read glTF take its pictures in 8 bits
        deep = None if ending else deepest_texture(folder)
        write_obj(out / f"model{ending}.obj", *parts, deep or image, tiles=mesh.tiles)


def left_out(store: Store, result: RunResult) -> list[dict[str, str]]:
    """Photos that the result does without, each with the reason: ``{"photo", "why"}``."""
    listed = read_photo_list(store.folder(result.versions["photos"]))
    out = [{"photo": clean_name(p.path), "why": p.problem or "cannot be used."} for p in listed.photos if not p.usable]
    if "cameras" in result.versions:
        solution = load_solution(store.folder(result.versions["cameras"]))
        names = {p.number: clean_name(p.path) for p in listed.photos}
        for n, state in zip(solution.numbers, solution.states):
            if state not in ALIGNED:
                out.append({"photo": names[int(n)], "why": _WHY[state]})
    return sorted(out, key=lambda row: row["photo"])


def report(
    result: RunResult, recipe: Recipe, without: list[dict[str, str]], failed: dict[str, str] | None = None
) -> dict[str, Any]:
    """``report.json``; schema in ``docs/formats.md``."""
    photos = result.versions["photos"].figures if "photos" in result.versions else {}
    megapixels = max(float(photos.get("megapixels") or 0), 1e-9)
    return {
        "made_with": f"Vast Quarry {__version__}",
        "grade": recipe.grade.value,
        "seconds": round(result.seconds, 2),
        "seconds_per_megapixel": round(result.seconds / megapixels, 3),
        "peak_memory_mb": round(result.peak_bytes / 1e6),
        "steps": result.steps,
        "left_out": without,
        "findings": result.findings,
    } | ({"failed": failed} if failed else {})


def write_results(
    store: Store, result: RunResult, recipe: Recipe, out: Path, failed: dict[str, str] | None = None, levels: int = 0
) -> list[dict[str, str]]:
    """Everything that the run made, as files of open formats; returns what it did without, see :func:`left_out`.

    ``failed`` says which layer could not be made, and why: what the layers before made is written all the same.
    """
    for layer, write in (("cameras", write_cameras), ("points", write_cloud)):
        if layer in result.versions:
            write(store, result, out)
    if "texture" in result.versions:
        write_model(store, result, out, levels)
    if "surface" in result.versions and "texture" not in result.versions:
        write_mesh(store, result, out)
    write_recipe(out / "recipe.json", recipe, result.settings)
    without = left_out(store, result) if "photos" in result.versions else []
    write_json(out / "report.json", report(result, recipe, without, failed))
    return without
