"""Ways to masks, on pictures drawn here whose masks are known, and against published colour differences."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from numpy.typing import NDArray

from vast_quarry.core.mask import carry, focus, keying, still
from vast_quarry.core.mask.difference import ciede2000
from vast_quarry.core.mask.edges import guided, snapped
from vast_quarry.core.mask.measures import overlap, rim_error
from vast_quarry.core.mask.outline import filled, grown
from vast_quarry.core.mask.stands import find_stands
from vast_quarry.core.mask.suggest import suggest

WIDE, HIGH = 320, 240
#: L*a*b* pairs and their difference: Sharma, Wu & Dalal 2005, table 1 (values from memory)
PAIRS = [
    ((50, 2.6772, -79.7751), (50, 0, -82.7485), 2.0425),
    ((50, -1.3802, -84.2814), (50, 0, -82.7485), 1.0000),
    ((50, 2.5, 0), (50, 0, -2.5), 4.3065),
    ((50, 2.5, 0), (73, 25, -18), 27.1492),
    ((50, 2.5, 0), (61, -5, 29), 22.8977),
    ((50, 2.5, 0), (56, -27, -3), 31.9030),
    ((50, 2.5, 0), (58, 24, 15), 19.4535),
    ((60.2574, -34.0099, 36.2677), (60.4626, -34.1751, 39.4387), 1.2644),
    ((6.7747, -0.2908, -2.4247), (5.8714, -0.0985, -2.2286), 0.6377),
    ((2.0776, 0.0795, -1.1350), (0.9033, -0.0636, -0.5514), 0.9082),
]


def texture(rng: np.random.Generator, sigma: float, mean: tuple[int, int, int], swing: float) -> NDArray[np.float32]:
    """A picture of a texture, twice as large as a photo."""
    noise = cv2.GaussianBlur(rng.normal(0, 1, (2 * HIGH, 2 * WIDE, 3)).astype(np.float32), (0, 0), sigma)
    return np.asarray(mean, np.float32) + swing * noise / noise.std()


def blob(turn: float, hole: bool = False) -> NDArray[np.bool_]:
    """A bumpy outline that turns; with a hole through it if asked for."""
    y, x = np.mgrid[:HIGH, :WIDE]
    angle = np.arctan2(y - HIGH / 2, x - WIDE / 2)
    far = np.hypot(y - HIGH / 2, x - WIDE / 2)
    mask = far < 62 + 10 * np.cos(3 * (angle - turn)) + 5 * np.sin(5 * (angle - turn))
    if hole:
        mask &= np.hypot(y - HIGH / 2 - 25 * np.sin(turn), x - WIDE / 2 - 25 * np.cos(turn)) > 12
    return mask


def turning(
    rng: np.random.Generator,
    count: int = 14,
    backdrop: NDArray | None = None,
    hole: bool = False,
    grey: bool = False,
    step: float = 0.45,
) -> tuple[NDArray[np.uint8], list[NDArray[np.bool_]]]:
    """Frames of a textured subject that turns before a still backdrop, with noise and a light that drifts."""
    skin = texture(rng, 2.0, (150, 95, 60), 22)
    behind = texture(rng, 3.0, (110, 120, 130), 30)[:HIGH, :WIDE] if backdrop is None else backdrop
    frames, masks = [], []
    for k in range(count):
        turn = step * k
        at = cv2.getRotationMatrix2D((WIDE, HIGH), np.degrees(turn), 1.0)
        at[:, 2] -= [WIDE / 2, HIGH / 2]
        front = cv2.warpAffine(skin, at, (WIDE, HIGH), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
        mask = blob(turn, hole)
        soft = cv2.GaussianBlur(mask.astype(np.float32), (0, 0), 0.6)[..., None]
        light = 1 + 0.1 * np.sin(k / 4)
        frame = (soft * front + (1 - soft) * behind) * light + rng.normal(0, 2.0, (HIGH, WIDE, 3))
        if grey:
            frame = np.repeat(frame.mean(2, keepdims=True), 3, 2)
        frames.append(frame.clip(0, 255).astype(np.uint8))
        masks.append(mask)
    return np.stack(frames), masks


@pytest.mark.parametrize(("one", "other", "difference"), PAIRS)
def test_colour_differences_as_published(one: tuple, other: tuple, difference: float) -> None:
    assert float(ciede2000(one, other)) == pytest.approx(difference, abs=5e-5)
    assert float(ciede2000(other, one)) == pytest.approx(difference, abs=5e-5)


@pytest.mark.parametrize(("grey", "usual", "worst"), [(False, 0.98, 0.97), (True, 0.9, 0.88)])
def test_what_moves_before_a_still_backdrop(rng: np.random.Generator, grey: bool, usual: float, worst: float) -> None:
    """In grey the subject is as bright as the backdrop and its texture as coarse: all that tells them apart is movement."""
    frames, masks = turning(rng, grey=grey)
    learnt = still.study(frames)
    scores = [overlap(still.mask_of(f, learnt)[0], m) for f, m in zip(frames, masks)]
    assert np.median(scores) > usual
    assert min(scores) > worst
    again = still.Study.from_arrays(learnt.arrays())
    assert overlap(still.mask_of(frames[3], again)[0], masks[3]) > worst


def test_a_hole_through_the_subject_stays_a_hole(rng: np.random.Generator) -> None:
    frames, masks = turning(rng, hole=True)
    learnt = still.study(frames)
    mask = still.mask_of(frames[5], learnt)[0]
    assert overlap(mask, masks[5]) > 0.94
    hole = blob(0.45 * 5) & ~masks[5]
    assert (mask & hole).mean() < 0.3 * hole.mean()


def test_modes_are_those_of_plain_numpy(rng: np.random.Generator) -> None:
    stack = rng.normal(50, 12, (9, 200, 3)).astype(np.float32)
    stack[:5, ::2] = stack[:1, ::2] + rng.normal(0, 0.5, (5, 100, 3)).astype(np.float32)
    color, support, spread, alone = still.modes(stack, 4.0)
    far = np.linalg.norm(stack[:, None] - stack[None], axis=3)
    count = (far < 4.0).sum(1)
    at = count.argmax(0)
    for p in range(200):
        near = far[at[p], :, p]
        crowd = stack[near < 4.0, p]
        assert support[p] == pytest.approx(len(crowd) / 9)
        assert np.allclose(color[p], crowd.mean(0), atol=1e-3)
        assert spread[p] == pytest.approx(np.sqrt(((crowd - crowd.mean(0)) ** 2).sum(1).mean()), abs=2e-3)
        assert alone[p] == pytest.approx(len(crowd) / (near < 12.0).sum())


def small(frames: NDArray[np.uint8]) -> NDArray[np.uint8]:
    return np.stack([cv2.resize(f, (240, 180), interpolation=cv2.INTER_AREA) for f in frames])


def test_stands_of_the_camera(rng: np.random.Generator) -> None:
    one, _ = turning(rng, 8)
    other, _ = turning(np.random.default_rng(77), 8)
    found = find_stands(small(np.concatenate([one, other])))
    assert found.numbers.tolist() == [0] * 8 + [1] * 8
    assert found.still
    assert found.told.all()
    # each photo of a walk shows another part of the surroundings
    wide = texture(rng, 1.5, (90, 120, 70), 30)
    walk = np.stack([wide[20 * k : 20 * k + HIGH, 17 * k : 17 * k + WIDE].clip(0, 255) for k in range(10)]).astype(
        np.uint8
    )
    assert not find_stands(small(walk)).still
    # frames of a tripod before a subject that does not move: nothing to find
    tripod = (one[:1].astype(int) + rng.integers(-3, 4, (8, HIGH, WIDE, 3))).clip(0, 255).astype(np.uint8)
    assert not find_stands(small(tripod)).still
    # a camera that moves slowly all the time stands nowhere
    slow = np.stack([wide[2 * k : 2 * k + HIGH, 3 * k : 3 * k + WIDE].clip(0, 255) for k in range(24)]).astype(np.uint8)
    assert not find_stands(small(slow)).still


def graded(height: int = HIGH, width: int = WIDE) -> NDArray[np.float32]:
    """A backdrop that falls off and turns in hue."""
    v, u = np.mgrid[:height, :width].astype(np.float32) / height
    return np.stack([190 - 90 * v, 188 - 80 * v + 6 * u, 182 - 55 * v], -1)


def test_a_graded_backdrop_is_keyed_out_by_itself(rng: np.random.Generator) -> None:
    frames, masks = turning(rng, 3, graded())
    field = keying.border_field(frames[1])
    assert field is not None
    assert field[1] < 2.0
    mask = keying.key_field(frames[1], field[0], 12.0)
    assert overlap(mask, masks[1]) > 0.97
    assert rim_error(mask, masks[1]) <= 1.0
    busy, _ = turning(rng, 1)
    assert keying.border_field(busy[0]) is None
    # a subject of the backdrop's own colour cannot be told from it
    same = (graded() + rng.normal(0, 1.5, (HIGH, WIDE, 3))).clip(0, 255).astype(np.uint8)
    assert not keying.key_field(same, field[0], 12.0).any() or keying.key_field(same, field[0], 12.0).mean() < 0.5


def test_colours_of_a_border_with_their_shares() -> None:
    photo = np.full((HIGH, WIDE, 3), (200, 60, 40), np.uint8)
    photo[:, : WIDE // 4] = (30, 60, 160)
    (first, most), (second, least) = keying.border_colors(photo)[:2]
    assert np.abs(np.subtract(first, (200, 60, 40))).max() <= 2
    assert np.abs(np.subtract(second, (30, 60, 160))).max() <= 2
    assert most > 0.6 > 0.4 > least > 0.2


def test_grown_from_a_box_a_lasso_and_scribbles(rng: np.random.Generator) -> None:
    frames, masks = turning(rng, 2, graded())
    box = [[0.22, 0.12], [0.78, 0.12], [0.78, 0.9], [0.22, 0.9]]
    assert overlap(grown(frames[0], filled(box, HIGH, WIDE)), masks[0]) > 0.96
    lasso = cv2.dilate(masks[0].astype(np.uint8), np.ones((17, 17), np.uint8)) > 0
    assert overlap(grown(frames[0], lasso), masks[0]) > 0.96
    line = [[0.45, 0.4], [0.5, 0.5], [0.55, 0.6]]
    around = [[0.03, 0.03], [0.97, 0.03], [0.97, 0.97], [0.03, 0.97]]
    assert overlap(grown(frames[0], None, [line], [around]), masks[0]) > 0.96


def test_carried_to_the_next_photo_and_not_to_another_subject(rng: np.random.Generator) -> None:
    behind = texture(rng, 9.0, (110, 120, 130), 12)[:HIGH, :WIDE]
    frames, masks = turning(rng, 2, behind, step=0.2)
    mask, sure = carry.carried(frames[0], masks[0], frames[1])
    assert overlap(mask, masks[1]) > 0.9
    assert sure > carry.ENOUGH
    other = texture(rng, 2.0, (60, 120, 90), 30)[:HIGH, :WIDE].clip(0, 255).astype(np.uint8)
    assert carry.carried(frames[0], masks[0], other)[1] < carry.ENOUGH


def test_what_is_in_focus(rng: np.random.Generator) -> None:
    behind = cv2.GaussianBlur(texture(rng, 3.0, (110, 120, 130), 40)[:HIGH, :WIDE], (0, 0), 9)
    frames, masks = turning(rng, 1, behind)
    mask, ratio, blurred = focus.in_focus(frames[0])
    assert blurred
    assert overlap(mask, masks[0]) > 0.93
    assert ratio > focus.CLEAR
    sharp, _ = turning(rng, 1)
    assert focus.in_focus(sharp[0])[1] < focus.CLEAR


def test_rims_move_to_edges(rng: np.random.Generator) -> None:
    frames, masks = turning(rng, 1, graded())
    off = cv2.dilate(masks[0].astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    assert rim_error(off, masks[0]) > 1.5
    assert rim_error(snapped(frames[0], off), masks[0]) <= 1.0


def test_a_guided_filter_leaves_what_is_even_and_keeps_edges() -> None:
    guide = np.zeros((40, 60, 3), np.uint8)
    guide[:, 30:] = 200
    step = (np.arange(60) >= 30).astype(np.float32)[None].repeat(40, 0)
    assert np.abs(guided(guide, step, 5) - step).max() < 0.05
    assert np.allclose(guided(guide, np.full((40, 60), 0.3, np.float32), 5), 0.3, atol=1e-5)


def test_the_way_that_suits(rng: np.random.Generator) -> None:
    before, _ = turning(rng, 8)
    wide = texture(rng, 1.5, (90, 120, 70), 30)
    walk = np.stack([wide[20 * k : 20 * k + HIGH, 17 * k : 17 * k + WIDE].clip(0, 255) for k in range(8)]).astype(
        np.uint8
    )
    turns, walks = find_stands(small(before)), find_stands(small(walk))
    assert suggest(turns, [False] * 8, [1.0], True)[0] == "still"
    assert suggest(walks, [True] * 8, [1.0], True)[0] == "colour"
    assert suggest(walks, [False] * 8, [1.0], True)[0] == "model"
    assert suggest(walks, [False] * 8, [40.0], False)[0] == "focus"
    assert suggest(walks, [False] * 8, [1.0], False)[0] == "none"
