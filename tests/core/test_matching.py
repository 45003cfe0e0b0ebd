"""Features and matching: kernels against plain numpy, and real overlap against none."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from tests.conftest import RigSet, camera_of

from vast_quarry.core.match.features import find_features, root_normalised
from vast_quarry.core.match.guided import match_guided
from vast_quarry.core.match.hashing import Codes, codes_of, match_hashed
from vast_quarry.core.match.likeness import candidates, vector_of, vocabulary
from vast_quarry.core.match.matching import (
    coarse_subset,
    flipped,
    match_mutual,
    match_plain,
    unit_descriptors,
)
from vast_quarry.core.match.pairs import choose_pairs
from vast_quarry.core.match.twoview import relative_pose, sampson, verify
from vast_quarry.core.photo.reading import load_rgb
from vast_quarry.core.pose import rotation_angle_deg


def random_descriptors(rng: np.random.Generator, n: int) -> np.ndarray:
    return unit_descriptors((rng.random((n, 128)) ** 4 * 255).astype(np.uint8))


def size_of(rgb: np.ndarray) -> tuple[int, int]:
    return rgb.shape[1], rgb.shape[0]


@pytest.mark.parametrize(("n", "m"), [(700, 500), (1500, 90), (3, 2)])
def test_kernel_equals_plain_numpy(rng: np.random.Generator, n: int, m: int) -> None:
    a, b = random_descriptors(rng, n), random_descriptors(rng, m)
    k = min(n, m) // 2
    b[:k] = unit_descriptors(((a[:k] + rng.normal(0, 0.01, (k, 128))).clip(0) * 255).astype(np.uint8))
    ours, plain = match_mutual(a, b), match_plain(a, b)
    np.testing.assert_array_equal(ours, plain)
    assert len(ours) >= k * 0.9


def test_nothing_to_match() -> None:
    one, five = np.zeros((1, 128), np.float32), np.zeros((5, 128), np.float32)
    assert match_mutual(one, five).shape == (0, 2)
    mean = np.zeros(128, np.float32)
    assert match_hashed(one, codes_of(one, mean), five, codes_of(five, mean)).shape == (0, 2)
    assert match_guided(one, five, np.zeros((1, 2)), np.zeros((5, 2)), np.eye(3), 1.0).shape == (0, 2)


def test_codes_are_the_sides_of_planes(rng: np.random.Generator) -> None:
    """Bits that differ say the angle between two vectors (Charikar 2002, section 3): a share of angle / pi."""
    a = rng.standard_normal((200, 128)).astype(np.float32)
    b = a + rng.standard_normal((200, 128)).astype(np.float32)
    zero = np.zeros(128, np.float32)
    codes: list[Codes] = [codes_of(x, zero) for x in (a, b)]
    bits = [np.unpackbits(c.long.view(np.uint8), axis=1) for c in codes]
    angle = np.arccos((a * b).sum(1) / np.linalg.norm(a, axis=1) / np.linalg.norm(b, axis=1))
    assert abs(np.mean(bits[0] != bits[1]) - np.mean(angle) / np.pi) < 0.01
    assert codes[0].short.shape == (6, 200)


@pytest.mark.parametrize(("n", "m"), [(1500, 1100), (900, 400)])
def test_the_quick_pass_finds_what_comparing_all_finds(rng: np.random.Generator, n: int, m: int) -> None:
    a, b = random_descriptors(rng, n), random_descriptors(rng, m)
    k = min(n, m) // 2
    b[:k] = unit_descriptors(((a[:k] + rng.normal(0, 0.02, (k, 128))).clip(0) * 255).astype(np.uint8))
    mean = a.mean(0)
    found = {tuple(p) for p in match_hashed(a, codes_of(a, mean), b, codes_of(b, mean)).tolist()}
    sure = {tuple(p) for p in match_plain(a, b).tolist()}
    assert len(found & sure) > 0.9 * len(sure)
    assert len(found - sure) < 0.02 * len(sure)


@pytest.mark.parametrize("turn", [0.0, 0.7, 1.57, 2.5])
def test_matches_along_lines_are_those_of_plain_numpy(rng: np.random.Generator, turn: float) -> None:
    """Lines of any direction, features at the rim of the grid, several that lie on one place."""
    a, b = random_descriptors(rng, 300), random_descriptors(rng, 260)
    b[:200] = unit_descriptors(((a[:200] + rng.normal(0, 0.02, (200, 128))).clip(0) * 255).astype(np.uint8))
    c, s = np.cos(turn), np.sin(turn)
    xy_a, xy_b = rng.uniform(0, 800, (300, 2)), rng.uniform(0, 800, (260, 2))
    xy_b[:20] = xy_b[0]
    # all lines run in one direction, through the place of the same number for most of them
    xy_b[20:200] = xy_a[20:200] + rng.uniform(-100, 100, (180, 1)) * [c, s] + rng.normal(0, 0.5, (180, 2))
    fundamental = np.array([[0, 0, -s], [0, 0, c], [s, -c, 0]])
    found = match_guided(a, b, xy_a, xy_b, fundamental, 2.0)
    far = np.abs((xy_b[None] - xy_a[:, None]) @ [-s, c])
    like = np.where(far <= 2.0, a @ b.T, -1.0)
    order = np.argsort(-like, axis=1, kind="stable")
    first, second = (np.take_along_axis(like, order[:, k : k + 1], 1)[:, 0] for k in (0, 1))
    rows = np.arange(300)
    keep = (first > -1) & (like.argmax(0)[order[:, 0]] == rows)
    keep &= (1 - first) < 0.8**2 * (1 - np.maximum(second, 0.88))
    np.testing.assert_array_equal(found, np.stack([rows[keep], order[keep, 0]], 1))
    assert len(found) > 100


def test_photos_worth_a_look_grow_with_their_number(rng: np.random.Generator) -> None:
    """A walk of many photos, each sharing much with its neighbours: they are found, and not all pairs are looked at."""
    kinds = random_descriptors(rng, 2000)
    photos = [kinds[12 * k : 12 * k + 200] for k in range(120)]
    words = vocabulary(np.concatenate(photos[::4]))
    vectors = np.stack([vector_of(p, words) for p in photos])
    found = candidates(vectors)
    assert len(found) < 120 * 37
    near = {(i, j) for i in range(120) for j in range(i + 1, min(120, i + 6))}
    assert len(near & set(found)) > 0.95 * len(near)
    assert len(candidates(vectors[:10])) == 45
    order = rng.permutation(120)
    assert {tuple(sorted(p)) for p in zip(order[:-1].tolist(), order[1:].tolist())} <= set(candidates(vectors, [order]))
    assert len(vector_of(np.zeros((0, 128), np.float32), words)) == len(words) * 128


def test_distance_from_a_geometry(rng: np.random.Generator) -> None:
    """For two photos side by side the epipolar lines are the rows: a match that is off by d rows is d / sqrt(2) away."""
    x1 = rng.uniform(0, 500, (50, 2))
    x2 = x1 + np.stack([rng.uniform(-90, 90, 50), np.arange(50.0)], 1)
    np.testing.assert_allclose(
        sampson(x1, x2, np.array([[0, 0, 0], [0, 0, -1], [0, 1, 0.0]])), np.arange(50) / np.sqrt(2)
    )


def test_root_normalised_has_unit_length(rng: np.random.Generator) -> None:
    d = root_normalised(rng.random((10, 128)).astype(np.float32) * 100)
    np.testing.assert_allclose((d**2).sum(1), 1, atol=1e-5)


def test_coarse_subset_takes_the_largest() -> None:
    assert set(coarse_subset(np.array([1, 9, 3, 7], np.float32), 2)) == {1, 3}


def test_choose_pairs_prefers_alike_photos() -> None:
    likeness = np.zeros((6, 6), int)
    for i in range(5):
        likeness[i, i + 1] = 50
    assert choose_pairs(likeness) == [(i, i + 1) for i in range(5)]
    assert choose_pairs(np.zeros((4, 4), int)) == []
    # along a wall those who follow each other are looked at, however little alike; of new photos only theirs
    order = np.array([2, 0, 3, 1])
    assert choose_pairs(np.zeros((4, 4), int), along=[order]) == [(0, 1), (0, 2), (0, 3), (1, 3), (2, 3)]
    assert choose_pairs(np.zeros((4, 4), int), along=[order], choosing=[1]) == [(0, 1), (1, 3)]


def test_features_obey_mask_and_scale(milestone_set: RigSet) -> None:
    rgb = load_rgb(milestone_set.photos / "milestone_001.jpg")
    mask = np.zeros(rgb.shape[:2], bool)
    mask[100:250, 150:330] = True
    f = find_features(rgb, size_of(rgb), 500, mask)
    assert 20 < len(f) <= 500
    ij = np.round(f.xy).astype(int)
    assert mask[ij[:, 1], ij[:, 0]].all()
    half = find_features(rgb[::2, ::2].copy(), size_of(rgb), 500)
    assert half.xy[:, 0].max() > rgb.shape[1] * 0.6  # positions are those of the full photo


def test_plain_picture_has_no_features() -> None:
    assert len(find_features(np.full((200, 200, 3), 128, np.uint8), (200, 200), 100)) == 0


def test_matches_of_neighbours_obey_the_true_geometry(milestone_set: RigSet) -> None:
    entries = milestone_set.cameras[:2]
    found = [
        find_features(load_rgb(milestone_set.photos / e["photo"]), (e["width"], e["height"]), 4000) for e in entries
    ]
    m = match_mutual(*[unit_descriptors(f.descriptors) for f in found])
    x1, x2 = found[0].xy[m[:, 0]].astype(float), found[1].xy[m[:, 1]].astype(float)
    ok, fundamental = verify(x1, x2, 1.5)
    assert ok.sum() > 60
    guided = match_guided(*[unit_descriptors(f.descriptors) for f in found], found[0].xy, found[1].xy, fundamental, 1.5)
    assert len(guided) > ok.sum()
    again, _ = verify(found[0].xy[guided[:, 0]], found[1].xy[guided[:, 1]], 1.5)
    assert again.mean() > 0.9
    cams = [camera_of(e) for e in entries]
    pose = relative_pose(x1[ok], x2[ok], *cams, 1.0)
    assert pose is not None
    r = np.array(entries[1]["rotation"]) @ np.array(entries[0]["rotation"]).T
    assert rotation_angle_deg(pose.rotation @ r.T) < 1.0


def test_chance_matches_are_refused(rng: np.random.Generator) -> None:
    assert not verify(rng.random((60, 2)) * 800, rng.random((60, 2)) * 800, 1.5)[0].any()
    assert not verify(rng.random((5, 2)), rng.random((5, 2)), 1.5)[0].any()


def test_descriptors_of_a_flipped_photo(milestone_set: RigSet) -> None:
    """Descriptors flipped by themselves match those of the flipped picture nearly as well as the picture matches itself."""
    rgb = load_rgb(milestone_set.photos / "milestone_001.jpg")
    a = unit_descriptors(find_features(rgb, size_of(rgb), 1500).descriptors)
    b = unit_descriptors(find_features(rgb[:, ::-1].copy(), size_of(rgb), 1500).descriptors)
    assert len(match_mutual(a, flipped(b))) > 0.6 * len(a)
    assert len(match_mutual(a, b)) < 0.2 * len(a)
    np.testing.assert_array_equal(flipped(flipped(a)), a)


def test_places_are_exact_though_a_side_is_not_made_smaller_to_whole_pixels() -> None:
    # 301 x 2000 at 0.35 is 105 x 700: the factors of the sides differ by 0.3 %, 6 pixels at the foot of the photo
    places = [(x, y) for y in range(100, 1950, 120) for x in (70, 150, 230)]
    gray = np.full((2000, 301), 60, np.uint8)
    for x, y in places:
        cv2.circle(gray, (x, y), 12, 210, -1, cv2.LINE_AA)
    rgb = cv2.cvtColor(cv2.GaussianBlur(gray, (0, 0), 2), cv2.COLOR_GRAY2RGB)
    found = find_features(cv2.resize(rgb, (105, 700), interpolation=cv2.INTER_AREA), (301, 2000), 2000)
    off = [np.linalg.norm(found.xy - np.array(p), axis=1).min() for p in places]
    assert max(off) < 0.8


def test_the_silhouette_is_no_feature() -> None:
    rng = np.random.default_rng(3)
    gray = cv2.resize(rng.integers(0, 255, (60, 80), np.uint8), (640, 480), interpolation=cv2.INTER_CUBIC)
    mask = cv2.circle(np.zeros((480, 640), np.uint8), (320, 240), 150, 1, -1) > 0
    f = find_features(cv2.cvtColor(gray, cv2.COLOR_GRAY2RGB), (640, 480), 3000, mask)
    inside = 150 - np.linalg.norm(f.xy - (320, 240), axis=1)
    assert len(f) > 50
    assert (inside > f.scale / 2 - 1.5).all()  # the whole blob, small or large
    assert inside.min() < 12  # and no more than that is given away
    assert len(find_features(cv2.cvtColor(gray, cv2.COLOR_GRAY2RGB), (640, 480), 3000, np.zeros((480, 640), bool))) == 0


def test_tilted_views_tie_what_is_seen_from_heights_far_apart() -> None:
    """A floor seen from 30 and from 80 degrees above: lower by half against the width, and each feature where it is."""
    rng = np.random.default_rng(7)
    soft = cv2.GaussianBlur(rng.random((480, 640)).astype(np.float32), (0, 0), 2.0)
    gray = np.clip(128 + 900 * (soft - soft.mean()), 0, 255).astype(np.uint8)
    floor = cv2.cvtColor(gray, cv2.COLOR_GRAY2RGB)
    flat = cv2.resize(
        cv2.GaussianBlur(floor, (0, 0), sigmaX=0.01, sigmaY=1.4), (640, 240), interpolation=cv2.INTER_AREA
    )

    def right(tilts: tuple[float, ...]) -> int:
        a, b = find_features(floor, (640, 480), 4000, None, tilts), find_features(flat, (640, 240), 4000)
        m = match_mutual(unit_descriptors(a.descriptors), unit_descriptors(b.descriptors), 0.8)
        x, y = a.xy[m[:, 0]], b.xy[m[:, 1]]
        return int((np.linalg.norm((x + 0.5) * [1, 0.5] - 0.5 - y, axis=1) < 1.0).sum())

    assert right((0.7, 0.5)) > 3 * right(())
    assert right((0.7, 0.5)) > 100
    mask = np.zeros((480, 640), bool)
    mask[100:300, 200:500] = True
    inside = find_features(floor, (640, 480), 4000, mask, (0.5,))
    ij = np.round(inside.xy).astype(int)
    assert mask[ij[:, 1], ij[:, 0]].all()
