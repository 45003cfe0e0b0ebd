"""Choosing points: held against plain numpy, and against shapes whose answer is known."""

from __future__ import annotations

import base64
import zlib

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from vast_quarry.core.dense.front import Front
from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.dense.selecting import (
    Cells,
    connected_part,
    fitted_plane,
    lab,
    near_plane,
    of_color,
    suggested_strays,
)
from vast_quarry.core.errors import PlainError
from vast_quarry.core.screen import in_outline, on_screen, under_brush

#: a plain screen: x and y as they are, whatever the depth
FLAT = np.eye(4)


def cloud_of(points: NDArray, spacing: float) -> Cloud:
    n = len(points)
    return Cloud(
        points, np.zeros((n, 3), np.float32), np.full((n, 3), 90, np.uint8), np.full(n, 4, np.int32),
        np.full(n, spacing, np.float32),
    )  # fmt: skip


def even_odd(points: NDArray, outline: NDArray) -> NDArray:
    """Which points (N, 2) lie in a polygon (K, 2): every edge of every point, as a twin of the kernel."""
    inside = np.zeros(len(points), bool)
    x, y = points.T
    for (x1, y1), (x2, y2) in zip(outline, np.roll(outline, -1, axis=0)):
        with np.errstate(divide="ignore", invalid="ignore"):
            inside ^= ((y1 > y) != (y2 > y)) & (x < (x2 - x1) * (y - y1) / (y2 - y1) + x1)
    return inside


corner = st.tuples(st.floats(-1.2, 1.2), st.floats(-1.2, 1.2))


@settings(max_examples=60)
@given(st.lists(corner, min_size=3, max_size=40))
def test_outlines_hold_what_they_hold_edge_by_edge(outline: list[tuple[float, float]]) -> None:
    xy = np.random.default_rng(3).uniform(-1.3, 1.3, (400, 2))
    points = np.column_stack([xy, np.zeros(len(xy))])
    assert (in_outline(points, np.array(outline), FLAT) == even_odd(xy, np.array(outline))).all()


def test_screens_show_what_is_in_front_and_not_what_is_behind() -> None:
    # looks along +x from the origin: y to the left, z up; an opening of 90 degrees
    matrix = np.array([[0, -1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 0], [1, 0, 0, 0]], float)
    points = np.array([[2, 1, 0.5], [-2, 1, 0.5], [4, 0, 4]], float)
    at = on_screen(points, matrix)
    assert at[0] == pytest.approx([-0.5, 0.25])
    assert np.isnan(at[1]).all()
    assert at[2] == pytest.approx([0, 1])
    whole = np.array([[-1, -1], [1, -1], [1, 1.1], [-1, 1.1]])
    assert in_outline(points, whole, matrix).tolist() == [True, False, True]
    assert under_brush(points, np.array([[-0.5, 0.25]]), 0.01, 1.0, matrix).tolist() == [True, False, False]


def test_a_brush_is_round_on_a_wide_screen(rng: np.random.Generator) -> None:
    xy = rng.uniform(-1, 1, (3000, 2))
    points = np.column_stack([xy, np.zeros(len(xy))])
    path = np.array([[-0.5, -0.2], [0.3, 0.1], [0.3, 0.6]])
    across = xy * [2, 1]
    nearest = np.full(len(xy), np.inf)
    for a, b in zip(path * [2, 1], (path * [2, 1])[1:]):
        t = np.clip(((across - a) @ (b - a)) / ((b - a) @ (b - a)), 0, 1)
        nearest = np.minimum(nearest, np.linalg.norm(across - a - t[:, None] * (b - a), axis=1))
    assert (under_brush(points, path, 0.15, 2.0, FLAT) == (nearest <= 0.15)).all()


def test_colours_differ_as_the_standard_says() -> None:
    # CIE 15:2004, the reference white and sRGB's primaries under D65; L*a*b* of pure red as published with IEC 61966-2-1's
    # primaries: 53.24, 80.09, 67.20 (from memory)
    assert lab(np.array([[255, 255, 255], [255, 0, 0]], np.uint8)) == pytest.approx(
        np.array([[100, 0, 0], [53.24, 80.09, 67.20]]), abs=0.1
    )
    colors = np.array([[120, 120, 120], [124, 120, 120], [200, 60, 60]], np.uint8)
    assert of_color(colors, (120, 120, 120), 4.0).tolist() == [True, True, False]
    assert of_color(np.zeros((0, 3), np.uint8), (0, 0, 0), 4.0).shape == (0,)


def test_a_plane_is_found_among_strays_and_keeps_its_sides(rng: np.random.Generator) -> None:
    flat = np.column_stack([rng.uniform(-1, 1, (4000, 2)), rng.normal(0, 0.002, 4000)])
    tilted = flat @ np.array([[1, 0, 0], [0, 0.96, 0.28], [0, -0.28, 0.96]])
    strays = rng.uniform(-1, 1, (1500, 3))
    point, normal, within = fitted_plane(np.concatenate([tilted, strays]), 0.004)
    assert abs(normal @ np.array([0, -0.28, 0.96])) > 0.9999
    assert normal[2] > 0
    assert 0.004 < within < 0.02
    assert near_plane(tilted, point, normal, within, "near").mean() > 0.99
    above = near_plane(strays, point, normal, 0.0, "above")
    below = near_plane(strays, point, normal, 0.0, "below")
    assert (above ^ below).all()
    with pytest.raises(PlainError, match="three points"):
        fitted_plane(tilted[:2], 0.004)


def test_a_part_that_hangs_together_and_cells_as_text(rng: np.random.Generator) -> None:
    spacing = 0.01
    grid = np.stack(np.meshgrid(np.arange(80), np.arange(80), [0]), -1).reshape(-1, 3) * spacing
    other = grid[:900] + np.array([0, 0, 0.3])
    cloud = cloud_of(np.concatenate([grid, other]), spacing)
    part = connected_part(cloud, np.array([0.1, 0.05, 0.31]))
    again = Cells.unpacked(part.low, part.side, part.packed())
    mine = again.hold(cloud.points)
    assert mine.tolist() == [False] * len(grid) + [True] * len(other)
    # the same region holds the same part of a finer cloud, and nothing of the other
    finer = np.concatenate(
        [grid + rng.uniform(0, spacing, grid.shape), other + rng.uniform(0, spacing / 2, other.shape)]
    )
    held = again.hold(finer)
    assert not held[: len(grid)].any()
    assert held[len(grid) :].mean() > 0.97
    huge = base64.b64encode(np.array([0, 0, 0, 1 << 40, 1 << 40, 2], "<i8").tobytes() + zlib.compress(b"")).decode()
    for broken in ("", "no cells", part.packed()[:-9], huge):
        with pytest.raises(PlainError, match="damaged"):
            Cells.unpacked(part.low, part.side, broken)


def test_strays_that_are_suggested_leave_the_subject(rng: np.random.Generator) -> None:
    spacing = 0.01
    grid = np.stack(np.meshgrid(np.arange(120), np.arange(120), [0]), -1).reshape(-1, 3) * spacing
    clump = rng.normal(0, 0.015, (60, 3)) + np.array([0.5, 0.5, 0.6])
    single = rng.uniform(0, 1.2, (200, 3)) + np.array([0, 0, 0.2])
    cloud = cloud_of(np.concatenate([grid, clump, single]), spacing)
    mine = suggested_strays(cloud).hold(cloud.points)
    assert not mine[: len(grid)].any()
    assert mine[len(grid) :].all()
    assert not suggested_strays(cloud_of(grid[:5], spacing)).hold(grid[:5]).any()


def a_wall_before_another(side: float, spacing: float) -> NDArray:
    """Two square walls across the view along x: one at 2, rough by a tenth of a spacing, and one twice as large at 3."""
    across = np.arange(-side, side, spacing)
    y, z = (a.ravel() for a in np.meshgrid(across, across))
    rough = 2 + 0.1 * spacing * np.sin(40 * y) * np.cos(30 * z)
    return np.concatenate([np.column_stack([rough, y, z]), np.column_stack([3 + 0 * y, 2 * y, 2 * z])])


#: looks along +x from the origin: y to the left, z up; an opening of 90 degrees
ALONG_X = np.array([[0, -1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 0], [1, 0, 0, 0]], float)


def test_only_what_is_in_front_of_what_is_behind_is_chosen() -> None:
    points = a_wall_before_another(0.5, 0.01)
    front = Front.of(points, ALONG_X, 0.01)
    held = front.holds(points, ALONG_X)
    first = points[:, 0] < 2.5
    assert held[first].all()
    # of the wall behind all that the first one hides; what looks past it is in front itself
    seen = np.abs(points[:, 1:] / points[:, :1]).max(1)
    hidden = ~first & (seen < 0.24)
    assert hidden.sum() > 1000
    assert not held[hidden].any()
    assert held[~first & (seen > 0.28)].all()


def test_a_slanted_surface_is_in_front_all_over_and_a_finer_cloud_too(rng: np.random.Generator) -> None:
    """A region is kept as squares of the screen: points that came later are answered for as those were."""
    y, z = rng.uniform(-0.4, 0.4, (2, 20_000))
    slanted = np.column_stack([2 + 1.5 * y, y, z])
    behind = slanted + np.array([0.4, 0, 0])
    front = Front.of(np.concatenate([slanted[::4], behind[::4]]), ALONG_X, 0.012)
    again = Front.unpacked(front.low, front.side, front.packed())
    np.testing.assert_array_equal(again.limit, front.limit)
    inner = (np.abs(y) < 0.3) & (np.abs(z) < 0.3)
    assert again.holds(slanted, ALONG_X)[inner].mean() > 0.999
    assert again.holds(behind, ALONG_X)[inner].mean() < 0.001


def test_no_front_without_points_and_none_of_damaged_squares() -> None:
    with pytest.raises(PlainError, match="no point left"):
        Front.of(np.zeros((0, 3)), ALONG_X, 0.01)
    with pytest.raises(PlainError, match="damaged"):
        Front.unpacked((0.0, 0.0), (1.0, 1.0), base64.b64encode(zlib.compress(b"\x05\0\0\0\x05\0\0\0abc")).decode())
