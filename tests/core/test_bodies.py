"""Bodies of a surface: which stay, and what is told of those that go."""

from __future__ import annotations

import numpy as np
import trimesh
from numpy.typing import NDArray

from vast_quarry.core.box import KeepBox
from vast_quarry.core.surface.bodies import wanted_bodies
from vast_quarry.core.surface.cut import cut_open
from vast_quarry.core.surface.mesh import components

BOX = KeepBox((-1.0, -1.0, 0.0), (1.0, 1.0, 1.0))


def ball(at: tuple[float, float, float], radius: float, finer: int = 3) -> tuple[NDArray, NDArray]:
    m = trimesh.creation.icosphere(finer, radius)
    return np.asarray(m.vertices) + at, np.asarray(m.faces, np.int64)


def together(*meshes: tuple[NDArray, NDArray]) -> tuple[NDArray, NDArray]:
    starts = np.cumsum([0, *(len(v) for v, _ in meshes)])
    return np.concatenate([v for v, _ in meshes]), np.concatenate([f + n for (_, f), n in zip(meshes, starts)])


def test_two_balls_of_nearly_one_size_both_stay() -> None:
    """The second of 3,000 and 2,800 points was gone, and nothing was said."""
    v, f = together(ball((-0.4, 0, 0.5), 0.25), ball((0.4, 0, 0.5), 0.24))
    _, kept, dropped = wanted_bodies(v, f, BOX)
    assert len(kept) == len(f)
    assert not dropped


def test_a_thin_leg_that_hangs_loose_stays_and_crumbs_go() -> None:
    leg = trimesh.creation.cylinder(0.02, 0.3)
    crumb = ball((0.7, 0.7, 0.8), 0.006, 1)
    v, f = together(ball((0, 0, 0.6), 0.3), (leg.vertices + np.array([0, 0, 0.16]), np.asarray(leg.faces)), crumb)
    _, kept, dropped = wanted_bodies(v, f, BOX)
    assert components(kept).max() == 1
    assert [d.why for d in dropped] == ["crumb"]


def test_what_reaches_in_through_a_side_goes_and_is_told() -> None:
    v, f = together(ball((0, 0, 0.5), 0.3), ball((1.02, 0.3, 0.4), 0.2))
    for origin, normal in BOX.planes():
        v, f = cut_open(v, f, origin, normal)
    _, kept, dropped = wanted_bodies(v, f, BOX)
    assert components(kept).max() == 0
    assert [d.why for d in dropped] == ["cut"]
    assert 0.05 < dropped[0].share < 0.4
    # a subject that fills the box and is cut by it on all sides stays
    v, f = ball((0, 0, 0.5), 1.2)
    for origin, normal in BOX.planes():
        v, f = cut_open(v, f, origin, normal)
    assert len(wanted_bodies(v, f, BOX)[1]) == len(f)


def test_shreds_of_the_ground_go_however_large() -> None:
    """The table was larger than the box that stood on it, so the box went."""
    sheet = trimesh.creation.box((1.6, 1.6, 0.01)).subdivide().subdivide().subdivide()
    v, f = together(ball((0, 0, 0.5), 0.2), (sheet.vertices + np.array([0, 0, 0.03]), np.asarray(sheet.faces)))
    kept_v, _, dropped = wanted_bodies(v, f, BOX, foot=0.025)
    assert kept_v[:, 2].min() > 0.25
    assert [d.why for d in dropped] == ["flat"]


def test_something_is_always_left() -> None:
    v, f = ball((0, 0, 0.02), 0.01)
    assert len(wanted_bodies(v, f, BOX, foot=0.02)[1]) == len(f)
