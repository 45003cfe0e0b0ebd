"""Mending masks by hand: what each edit does, and what is refused."""

from __future__ import annotations

import numpy as np
import pytest
from pydantic import ValidationError

from vast_quarry.core.mask.edits import Brush, Edit, Grow, Outline, Whole, edited
from vast_quarry.pipeline.mask_edits import one

WIDE, HIGH = 200, 100
SQUARE = [(0.25, 0.2), (0.75, 0.2), (0.75, 0.8), (0.25, 0.8)]


def picture() -> np.ndarray:
    """A red square on grey, a little inside of SQUARE."""
    rgb = np.full((HIGH, WIDE, 3), 120, np.uint8)
    rgb[22:78, 52:148] = (190, 40, 30)
    return rgb


def done(edits: list[Edit], base: np.ndarray | None = None, scale: float = 1.0) -> np.ndarray:
    mask = edited(base, edits, WIDE, HIGH, picture, scale)
    assert mask is not None
    return mask


def none() -> np.ndarray:
    return np.zeros((HIGH, WIDE), bool)


def test_no_edit_changes_nothing() -> None:
    base = none()
    assert edited(base, [], WIDE, HIGH, picture) is base
    assert edited(None, [], WIDE, HIGH, picture) is None


def test_outlines_add_and_take_away() -> None:
    mask = done([Outline(SQUARE)], none())
    assert mask.sum() == pytest.approx(100 * 60, rel=0.03)
    assert mask[50, 100]
    assert not mask[10, 10]
    mask = done([Outline(SQUARE), Outline([(0.4, 0.4), (0.6, 0.4), (0.6, 0.6), (0.4, 0.6)], add=False)], none())
    assert not mask[50, 100]
    assert mask[50, 60]
    # of a photo that counts whole, what is taken away alone is missing
    assert done([Outline(SQUARE, add=False)]).sum() == pytest.approx(WIDE * HIGH - 6000, rel=0.02)
    near = [(0.27, 0.23), (0.73, 0.23), (0.73, 0.77), (0.27, 0.77)]
    off, snapped = (abs(int(done([Outline(near, snap=s)], none()).sum()) - 96 * 56) for s in (False, True))
    assert snapped < 0.3 * off


def test_a_brush_of_a_size() -> None:
    mask = done([Brush([(0.1, 0.5), (0.9, 0.5)], radius=0.02)], none())
    assert mask[50].sum() == pytest.approx(160 + 8, abs=4)
    assert mask[:, 100].sum() == pytest.approx(8, abs=1.5)
    assert done([Brush([(0.5, 0.5)], radius=0.1)], none()).sum() == pytest.approx(np.pi * 20**2, rel=0.05)
    assert not done([Brush([(0.5, 0.5)], radius=0.1, add=False)])[50, 100]


def test_what_is_to_be_ignored_stays_so_whatever_comes_after() -> None:
    ignored = Outline([(0.4, 0.4), (0.6, 0.4), (0.6, 0.6), (0.4, 0.6)], part="ignore")
    mask = done([ignored, Whole("everything")], none())
    assert not mask[50, 100]
    assert mask[10, 10]


def test_changes_of_the_whole_mask() -> None:
    base = none()
    base[20:80, 40:160] = True
    base[48:52, 98:102] = False
    base[5:9, 5:9] = True
    filled = done([Whole("fill holes")], base)
    assert filled[50, 100]
    assert filled[6, 6]
    assert not done([Whole("drop islands")], base)[6, 6]
    assert done([Whole("invert")], base).sum() == WIDE * HIGH - base.sum()
    assert done([Whole("everything")], base).all()
    assert not done([Whole("nothing")], base).any()
    wider = done([Whole("margin", 3)], done([Whole("fill holes"), Whole("drop islands")], base))
    assert wider[17, 100]
    assert not wider[16, 100]
    narrower = done([Whole("margin", -3)], done([Whole("fill holes"), Whole("drop islands")], base))
    assert not narrower[22, 100]
    assert narrower[23, 100]
    # margins are in pixels of the photo itself
    assert not done([Whole("margin", 3)], done([Whole("drop islands")], base), 1 / 3)[17, 100]
    # the frame of the photo is no rim
    assert done([Whole("margin", -3)]).all()


def test_the_subject_grown_inside_an_outline() -> None:
    mask = done([Grow(points=[(0.2, 0.1), (0.8, 0.1), (0.8, 0.9), (0.2, 0.9)])])
    assert np.count_nonzero(mask ^ (picture()[..., 0] > 150)) < 0.03 * mask.sum()


def test_edits_come_back_from_json_and_others_are_refused() -> None:
    for edit in (
        Outline(SQUARE, part="ignore"),
        Brush([(0.1, 0.2)], 0.05, add=False),
        Grow(points=SQUARE),
        Whole("margin", -2),
    ):
        assert one.validate_json(one.dump_json(edit)) == edit
    for wrong in (
        {"kind": "melt"}, {"kind": "brush", "points": [], "radius": 0.1}, {"kind": "brush", "points": [[0, 0]], "radius": 9},
        {"kind": "outline", "points": [[0, 0], [1, 1]]}, {"kind": "outline", "points": [[0, 0], [1, 1], [7, 0]]},
        {"kind": "margin", "amount": float("nan")}, {"kind": "invert", "amount": 0, "more": 1},
    ):  # fmt: skip
        with pytest.raises(ValidationError):
            one.validate_python(wrong)
