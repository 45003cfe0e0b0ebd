"""Scale and level from a marker mat: markers in a picture, corners in space, the mat laid over them."""

from __future__ import annotations

import numpy as np
import pytest

from vast_quarry.core.align.frame import world_frame
from vast_quarry.core.align.mat import FoundMarkers, corners_in_space, find_markers, lay_mat
from vast_quarry.core.camera import Camera, project
from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.mats import make_mat
from vast_quarry.core.plan.rings import rings
from vast_quarry.core.pose import Similarity, rotation_from_vector
from vast_quarry.core.rig.scenes import SHEET_PER_MM, Scene, lay_sheet

MAT = make_mat("A3")
MARKERS = {m.number: m.corners for m in MAT.markers}
#: the model lies askew and at a scale of its own
ASKEW = Similarity(3.7, rotation_from_vector([0.4, -0.3, 0.8]), np.array([1.0, -2.0, 0.5]))


def seen(noise: float, wrong: int = 0) -> tuple[list[FoundMarkers], list[Camera], np.ndarray, np.ndarray]:
    """Markers as twelve cameras about the mat would find them, in a model that lies askew."""
    rng = np.random.default_rng(3)
    lens = Camera(1200, 900, 1300.0, 1300.0, 601.0, 447.0, k1=-0.08, k2=0.04, k3=0.0, p1=0.0005, p2=-0.0003)
    found, rotations, centers = [], [], []
    for s in rings([0, 0, 0.1], 1.2, [20.0, 50.0], 6):
        corners = np.stack([np.concatenate([c / 1000, np.zeros((4, 1))], 1) for c in MARKERS.values()])
        px = project(lens, s.rotation, s.center, corners.reshape(-1, 3))[0].reshape(-1, 4, 2)
        px += rng.normal(0, noise, px.shape)
        px[:wrong] += 40.0
        found.append(FoundMarkers(np.array(list(MARKERS)), px))
        r, c = ASKEW.pose(s.rotation, s.center)
        rotations.append(r)
        centers.append(c)
    return found, [lens] * len(found), np.stack(rotations), np.stack(centers)


def test_markers_are_found_where_they_are_printed() -> None:
    scene = Scene("empty", [], False, 1, 0.0, (1, 1, 1))
    lay_sheet(scene, MAT, (0.0, 0.0))
    gray = (255 * (scene.sheet / 0.8) ** (1 / 2.2)).astype(np.uint8)
    found = find_markers(np.pad(gray, 30, constant_values=235))
    assert set(found.numbers) == set(MARKERS)
    for number, four in zip(found.numbers, found.corners):
        x = MAT.middle[0] + MARKERS[int(number)][:, 0]
        y = MAT.paper[1] - MAT.middle[1] - MARKERS[int(number)][:, 1]
        np.testing.assert_allclose(four, np.stack([x, y], 1) * SHEET_PER_MM - 0.5 + 30, atol=0.4)
    assert len(find_markers(np.full((200, 300), 90, np.uint8)).numbers) == 0


def test_the_mat_gives_scale_and_level_whatever_lies_askew() -> None:
    found, lenses, rotations, centers = seen(0.2, wrong=1)
    laid = lay_mat(MARKERS, corners_in_space(found, lenses, rotations, centers))
    assert laid.corners >= 4 * (len(MARKERS) - 1)
    assert laid.residual_mm < 0.3
    back = laid.into.after(ASKEW)  # from the world to the mat: nothing is left over
    assert back.scale == pytest.approx(1.0, abs=5e-4)
    np.testing.assert_allclose(back.rotation, np.eye(3), atol=2e-3)
    np.testing.assert_allclose(back.shift, 0, atol=1e-3)
    box = np.random.default_rng(1).uniform([-0.05, -0.05, 0.0], [0.05, 0.05, 0.3], (600, 3))
    standing = world_frame(rotations, centers, ASKEW.points(box), mat=laid.into)
    assert standing.witness == "marker mat"
    assert standing.ground
    up = standing.transform.points(ASKEW.points(np.array([[0, 0, 0.0], [0, 0, 0.3]])))
    assert up[1, 2] - up[0, 2] == pytest.approx(0.3, abs=1e-3)
    assert up[0, 2] == pytest.approx(0.0, abs=1e-3)
    assert standing.box.size[2] == pytest.approx(0.3, abs=0.06)


def test_too_little_or_another_mat_is_told() -> None:
    found, lenses, rotations, centers = seen(0.2)
    space = corners_in_space(found, lenses, rotations, centers)
    with pytest.raises(PlainError, match="Too little"):
        lay_mat({n: c for n, c in MARKERS.items() if n < 1}, space)
    other = {m.number: m.corners for m in make_mat("A3", round_=True).markers}
    with pytest.raises(PlainError, match="not this mat"):
        lay_mat(other, space)
    one = corners_in_space(found[:1], lenses[:1], rotations[:1], centers[:1])
    assert one == {}
