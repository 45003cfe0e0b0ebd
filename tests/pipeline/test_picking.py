"""Groups of photos that nothing ties, joined by places picked in photos of both: by the settings, from photos to cameras."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from tests.conftest import SMALL, RigSet, camera_of
from tests.pipeline.test_run import Silent, places

import vast_quarry.pipeline.attempts as attempts
from vast_quarry.core.align.mat import FoundMarkers
from vast_quarry.core.camera import project
from vast_quarry.core.pose import fit_similarity
from vast_quarry.core.raycast import RayScene, visible_from
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.picking import corners_as_places
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.solution import groups_in, load_solution
from vast_quarry.pipeline.store import Store
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.world import scene_of


def marks_of(rig: RigSet, rows: tuple[int, ...], count: int = 4) -> list[dict]:
    """Places of the true mesh that all these photos show, far apart, marked to three tenths of a pixel."""
    rng = np.random.default_rng(2)
    mesh, cams = rig.mesh, [rig.cameras[k] for k in rows]
    scene = RayScene()
    scene.add(mesh.points, mesh.faces)
    normals = vertex_normals(mesh.points, mesh.faces)
    pick = rng.choice(len(mesh.points), 3000, replace=False)
    points, n = mesh.points[pick], normals[pick]
    good = np.ones(len(points), bool)
    pixels = []
    for c in cams:
        px, _ = project(camera_of(c), np.array(c["rotation"]), np.array(c["center"]), points)
        good &= visible_from(scene, points, n, c["center"], 1e-3) & (px > 5).all(1) & (px < [474, 354]).all(1)
        pixels.append(px)
    left = np.flatnonzero(good)
    chosen = [int(left[0])]
    while len(chosen) < count:  # the farthest from those that were chosen
        far = np.linalg.norm(points[left][:, None] - points[chosen][None], axis=2).min(1)
        chosen.append(int(left[far.argmax()]))
    return [
        {
            "name": str(k + 1),
            "marks": {c["photo"]: tuple(px[p] + rng.normal(0, 0.3, 2)) for c, px in zip(cams, pixels)},
        }
        for k, p in enumerate(chosen)
    ]


def test_halves_that_share_no_match_are_joined_by_places(
    milestone_set: RigSet, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One half of the walk round, low and high, and the other half: no photo of one is matched with one of the other."""
    ours = attempts.pairs_to_match
    monkeypatch.setattr(
        attempts, "pairs_to_match", lambda *a, **k: [p for p in ours(*a, **k) if (p[0] % 12 < 6) == (p[1] % 12 < 6)]
    )
    store = Store(tmp_path)
    folders = Folders(tmp_path)

    def aligned(**cameras: object) -> int:
        settings = {**SMALL["cameras"], "tilted_views": "never", "second_try": "never", **cameras}
        recipe = recipe_for(Grade.ROUGH, {"cameras": settings})
        return Runner(store, Silent()).run(recipe, places(milestone_set.photos), "cameras").versions["cameras"].number

    first = aligned()
    assert groups_in(store.root / "cameras" / str(first)) == 2
    assert sorted({c.group for c in scene_of(folders, first).cameras}) == [1, 2]  # type: ignore[type-var]
    second = aligned(places=marks_of(milestone_set, (4, 5, 17, 6, 7, 18)))
    folder = store.root / "cameras" / str(second)
    assert groups_in(folder) == 1
    solution = load_solution(folder)
    assert solution.states.count("placed") == 24
    true = np.array([c["center"] for c in milestone_set.cameras])
    s = fit_similarity(solution.centers, true)
    off = np.linalg.norm(s.points(solution.centers) - true, axis=1)
    assert off.max() < 0.02 * np.linalg.norm(true, axis=1).mean()
    assert {c.group for c in scene_of(folders, second).cameras} == {1}

    # the other group tells of itself
    other = aligned(group=2)
    by_number = {v.number: v for v in store.versions("cameras")}
    told = by_number[other]
    assert told.figures["placed"] == 24 - by_number[first].figures["placed"]
    assert any("as group 1" in f for f in told.findings)
    assert not any("as group 2" in f for f in told.findings)
    assert told.figures["points"] == len(load_solution(store.root / "cameras" / str(other)).points)

    # and four places that are the corners of a marker tie them as well
    row = {c["photo"]: n for n, c in enumerate(milestone_set.cameras)}
    corners = [{row[p]: at for p, at in m["marks"].items()} for m in marks_of(milestone_set, (4, 5, 17, 6, 7, 18))]
    monkeypatch.setattr(attempts, "markers_in", lambda *a: corners)
    third = store.root / "cameras" / str(aligned(mat="A4"))
    assert load_solution(third).states.count("placed") == 24


def test_corners_of_markers_are_places() -> None:
    """One that a photo shows twice says nothing there, one that a single photo shows nothing at all."""
    square = np.array([(0.0, 0.0), (9.0, 0.0), (9.0, 9.0), (0.0, 9.0)])
    one = FoundMarkers(np.array([3, 5, 5]), np.stack([square, square + 20, square + 40]))
    two = FoundMarkers(np.array([3, 5]), np.stack([square + 1, square + 21]))
    three = FoundMarkers(np.array([5, 8]), np.stack([square + 2, square + 60])).only({5})
    found = corners_as_places([4, 6, 9], [one, two, three])
    assert found == [
        *({4: tuple(c), 6: tuple(c + 1)} for c in square),
        *({6: tuple(c + 21), 9: tuple(c + 2)} for c in square),
    ]
