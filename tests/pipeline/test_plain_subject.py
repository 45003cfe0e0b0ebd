"""A plain painted subject on a floor, with printed blocks about: the subject is built, and whole."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
from tests.conftest import SMALL, RigSet, moved
from tests.pipeline.test_run import Silent, places

from vast_quarry.core.formats.ply import read_ply
from vast_quarry.core.pose import fit_similarity
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import sample_surface
from vast_quarry.pipeline.export import write_cameras, write_cloud, write_mesh
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.looking import other_boxes
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner, RunResult
from vast_quarry.pipeline.store import Store


def test_the_figure_is_built_and_not_the_printed_block_beside_it(
    plain_set: RigSet, plain_data: Path, tmp_path: Path
) -> None:
    """The keep box settled on a block at the edge of the pictures, and nothing was said."""
    store = Store(moved(plain_data, tmp_path / "data") / "projects" / "1")
    made = {layer: v for layer in ("photos", "masks", "cameras", "points", "surface") for v in store.versions(layer)}
    result = RunResult(versions=made)
    (tmp_path / "out").mkdir()
    for write in (write_cameras, write_cloud, write_mesh):
        write(store, result, tmp_path / "out")
    told = json.loads((tmp_path / "out" / "cameras.json").read_text())["cameras"]
    placed = {c["photo"]: np.array(c["center"]) for c in told if c["aligned"]}
    assert len(placed) >= 18
    truth = {c["photo"]: np.array(c["center"]) for c in plain_set.cameras}
    back = fit_similarity(np.array(list(placed.values())), np.array([truth[n] for n in placed]))
    info, true = plain_set.info, plain_set.mesh
    mesh = read_ply(tmp_path / "out" / "mesh.ply")
    points = back.points(mesh.points)
    # all of the hound lies in the mesh's bounds, and no block beside it: the nearest is 0.14 m away
    low, high = np.array(info["bbox_min"]), np.array(info["bbox_max"])
    assert np.abs(points.min(0) - low)[:2].max() < 0.08
    assert np.abs(points.max(0) - high).max() < 0.08
    ours = RayScene()
    ours.add(points, mesh.faces)
    seen = np.load(plain_set.folder / "truth" / "visibility.npz")["count"] >= 3
    wanted = true.points[seen & (true.points[:, 2] > 0.03)]
    assert (ours.distance(wanted[:: max(1, len(wanted) // 5000)]) < 8 * info["gsd"]).mean() > 0.9
    theirs = RayScene()
    theirs.add(true.points, true.faces)
    on = sample_surface(points, mesh.faces, 5000)
    assert np.median(theirs.distance(on[on[:, 2] > 0.03])) < 1.5 * info["gsd"]
    # what a place rests on is told of each vertex and each point
    assert mesh.extra is not None
    assert set(np.unique(mesh.extra["evidence"])) <= {0.0, 1.0, 2.0}
    cloud = read_ply(tmp_path / "out" / "dense.ply")
    assert cloud.extra is not None
    assert 0 < cloud.extra["filled"].mean() < 0.5
    # the blocks about may be chosen instead
    folder = store.folder(result.versions["cameras"])
    boxes = other_boxes(folder, 1)
    if boxes:
        changed = recipe_for(Grade.ROUGH, {**SMALL, "cameras": {**SMALL["cameras"], "subject": 2}})
        other = Runner(store, Silent()).run(changed, places(plain_set.photos), "cameras").versions["cameras"]
        assert np.allclose(other.figures["keep_box"]["low"], boxes[0].low)
