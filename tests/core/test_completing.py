"""What a depth map would say where it says nothing."""

from __future__ import annotations

import numpy as np

from vast_quarry.core.dense.completing import PIECE, completed, trusted


def wall_and_post() -> np.ndarray:
    """A wall 2 away with a post 1 away before it, whose left side hides 8 pixels of the wall from others."""
    depth = np.full((60, 90), 2.0, np.float32)
    depth[:, 40:50] = 1.0
    depth[:, 32:40] = 0
    return depth


def test_what_is_hidden_from_the_others_belongs_to_what_lies_behind() -> None:
    depth = wall_and_post()
    found, sides = completed(depth, depth > 0)
    np.testing.assert_allclose(found[:, 32:40], 2.0)
    np.testing.assert_allclose(found[depth > 0], depth[depth > 0])
    # nothing is known above and below a gap that runs through
    assert (sides[:, 34] == 2).all()


def test_a_hole_is_surrounded_and_a_corner_of_the_picture_is_not() -> None:
    depth = np.full((60, 90), 2.0, np.float32)
    depth[20:30, 40:50] = 0
    depth[:10, :10] = 0
    found, sides = completed(depth, depth > 0)
    assert (sides[20:30, 40:50] == 4).all()
    assert (sides[:10, :10] == 2).all()
    assert (found == 2.0).all()


def test_small_pieces_are_taken_for_chance_and_even_slopes_are_not() -> None:
    depth = np.broadcast_to(np.linspace(1, 2, 90, dtype=np.float32), (60, 90)).copy()
    side = int(PIECE**0.5) - 2
    depth[20 : 20 + side, 40 : 40 + side] = 0.7
    kept = trusted(depth, np.ones(depth.shape, bool))
    assert not kept[20 : 20 + side, 40 : 40 + side].any()
    assert kept.sum() == kept.size - side**2
    found, _ = completed(depth, np.ones(depth.shape, bool))
    assert (found[20 : 20 + side, 40 : 40 + side] > 1.4).all()


def test_nothing_known_stays_nothing() -> None:
    found, sides = completed(np.zeros((20, 30), np.float32), np.zeros((20, 30), bool))
    assert not found.any()
    assert not sides.any()
