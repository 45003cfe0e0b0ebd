"""Captures as people make them: where to begin, lenses that may not run away, false matches, and reasons when it fails."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.core.synthetic import LENS, arc, cloud, seen_by, turned_in_place

from vast_quarry.core.align.growth import lay_ground
from vast_quarry.core.align.incremental import align
from vast_quarry.core.align.lens import LENS_UNKNOWNS, decided, independent_share, prior_of
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.noise import Noise, fit_noise
from vast_quarry.core.align.start import best_rotation, first_pairs
from vast_quarry.core.align.tracks import build_tracks, split_tracks
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.core.camera import Camera
from vast_quarry.core.match.pairs import choose_pairs
from vast_quarry.core.pose import rotation_angle_deg, rotation_from_vector


def aligned(data) -> Model:  # type: ignore[no-untyped-def]
    model = align(data)
    assert isinstance(model, Model), model
    return model


def test_a_close_spaced_arc_that_stands_still_at_first_is_placed_whole(rng: np.random.Generator) -> None:
    """15 degrees in 30 frames, five standing still, focal length guessed 20 % off: neighbours show no depth."""
    data = seen_by(rng, cloud(rng, 300), arc(15, 30, still=5), reach=7)
    model = aligned(data)
    assert model.placed.all()
    assert model.lenses[0].fx == pytest.approx(LENS.fx, rel=0.02)
    errors = model.errors()[model.inlier]
    assert np.sqrt((errors**2).mean()) < 0.3


def test_first_pairs_are_far_apart_where_neighbours_share_most(rng: np.random.Generator) -> None:
    data = seen_by(rng, cloud(rng), arc(15, 30), reach=7)
    ground = lay_ground(data)
    best = first_pairs(ground.sharing, ground.xy, data.lens_of, ground.lenses, 1.0)[0]
    assert best.pair.j - best.pair.i > 12
    assert best.parallax_deg > 1.0


@pytest.mark.parametrize("false", [0.04, 0.12])
def test_false_matches_cost_few_observations(rng: np.random.Generator, false: float) -> None:
    """With 4 % false matches nine tenths of the observations of a clean set live on (joined tracks used to drop 69 %)."""
    points, poses = cloud(rng), arc(90, 16)
    clean = seen_by(np.random.default_rng(1), points, poses, reach=5)
    dirty = seen_by(np.random.default_rng(1), points, poses, false=false, reach=5)
    counts = [len(x) for x in clean.xy]
    whole, kept = build_tracks(counts, clean.matches), build_tracks(counts, dirty.matches)
    for t in range(0, len(kept), 7):
        photos = kept.photo[kept.start[t] : kept.start[t + 1]]
        assert len(set(photos.tolist())) == len(photos)
    model = aligned(dirty)
    assert model.placed.all()
    assert model.inlier.sum() > 0.9 * len(whole.photo)
    errors = model.errors()[model.inlier]
    assert np.sqrt((errors**2).mean()) < 0.3


def test_a_lens_does_not_run_away_on_a_short_arc(rng: np.random.Generator) -> None:
    """Five degrees of arc, coarse noise and false matches: what the photos cannot tell stays where it was expected."""
    start = Camera.simple(640, 480, 745.0)
    data = seen_by(rng, cloud(rng, 300), arc(5, 8), noise=0.5, false=0.03, start=start)
    model = aligned(data)
    assert model.placed.all()
    lens = model.lenses[0]
    corner = 0.25 * (640**2 + 480**2) / lens.fx**2
    assert abs(lens.k1 * corner + lens.k2 * corner**2) < 0.06
    assert abs(lens.cx - 319.5) < 15
    assert lens.fx == pytest.approx(745, rel=0.06)
    words = model.lens_words()[0]
    assert set(words["solved"]) | set(words["held"]) == set(LENS_UNKNOWNS)
    assert {"k3", "p1"} <= set(words["held"])


def test_a_wide_walk_determines_the_lens(rng: np.random.Generator) -> None:
    model = aligned(seen_by(rng, cloud(rng, 600), arc(160, 14), noise=0.1))
    assert {"f", "k1", "cx", "cy"} <= set(model.lens_words()[0]["solved"])
    assert model.lenses[0].fx == pytest.approx(LENS.fx, rel=2e-3)
    assert model.lenses[0].cx == pytest.approx(LENS.cx, abs=0.5)


def test_noise_is_measured(rng: np.random.Generator) -> None:
    scale = rng.uniform(2, 30, 20_000)
    sigma = np.hypot(0.2, 0.03 * scale)
    error = np.linalg.norm(rng.normal(0, 1, (20_000, 2)) * sigma[:, None], axis=1)
    error[::20] = rng.uniform(0, 40, 1000)
    found = fit_noise(error, scale, 1.0)
    assert found is not None
    np.testing.assert_allclose(
        found.sigma(np.array([3.0, 25.0])), np.hypot(0.2, 0.03 * np.array([3.0, 25.0])), rtol=0.12
    )
    assert fit_noise(error[:20], scale[:20], 1.0) is None
    assert Noise(1.0, 0.1).times(2).sigma(np.array([0.0]))[0] == 2.0


def test_residuals_that_lean_together_count_as_fewer(rng: np.random.Generator) -> None:
    n = 4000
    cam, xy = rng.integers(0, 10, n), rng.uniform(0, 640, (n, 2))
    white, sizes = rng.normal(0, 1, (n, 2)), np.tile([640, 640], (10, 1))
    one, track = np.zeros(10, np.int64), np.arange(n) // 3
    free = independent_share(cam, one, xy, sizes, track, white)
    leaning = independent_share(cam, one, xy, sizes, track, white + 0.5 * np.sin(xy / 100))
    assert free > 0.5
    assert leaning < free / 5


def test_only_what_is_known_better_than_before_is_solved() -> None:
    prior = prior_of([LENS], [True])
    sure, unsure = 1 / (0.1 * prior.sigma.ravel()) ** 2, 1 / (3 * prior.sigma.ravel()) ** 2
    assert decided(np.diag(sure), prior.sigma).all()
    assert not decided(np.diag(unsure), prior.sigma).any()
    # f known, and k1 only together with it: one of the two cannot be told
    both = np.diag(unsure)
    s = prior.sigma[0, [0, 3]]
    both[np.ix_([0, 3], [0, 3])] = np.array([[400.0, 399.9], [399.9, 400.0]]) / np.outer(s, s)
    assert decided(both, prior.sigma)[0].tolist() == [True] + [False] * 7


def test_rotation_is_taken_out_against_outliers(rng: np.random.Generator) -> None:
    d = rng.normal(0, 1, (200, 3)) * [0.3, 0.3, 0.05] + [0, 0, 1]
    d /= np.linalg.norm(d, axis=1, keepdims=True)
    r = rotation_from_vector([0.05, -0.1, 0.02])
    q = d @ r.T
    q[:30] = d[:30]
    assert rotation_angle_deg(best_rotation(d, q, 8) @ r.T) < 0.2


def test_observations_astray_get_a_track_of_their_own() -> None:
    tracks = build_tracks([2] * 5, {(i, j): np.array([[0, 0]], np.int32) for i in range(5) for j in range(i + 1, 5)})
    assert len(tracks) == 1
    split, origin = split_tracks(tracks, np.array([False, True, False, True, False]))
    assert sorted(np.diff(split.start).tolist()) == [2, 3]
    assert sorted(origin.tolist()) == [0, 1, 2, 3, 4]
    alone, _ = split_tracks(tracks, np.array([False, True, False, False, False]))
    assert np.diff(alone.start).tolist() == [4]


def test_partners_reach_further_where_photos_follow_closely() -> None:
    gap = np.abs(np.subtract.outer(np.arange(40), np.arange(40)))
    likeness = np.triu((900 * 0.95**gap).astype(int), 1)
    apart = [j - i for i, j in choose_pairs(likeness)]
    assert max(apart) > 25
    # in a walk with wide steps they stay with the nearest
    wide = np.triu(np.where(gap <= 3, 300 // np.maximum(gap, 1) ** 2, 9), 1)
    near = sum(j - i <= 3 for i, j in choose_pairs(wide, partners=6))
    assert near >= 110


@pytest.mark.parametrize(
    ("make", "cause"),
    [
        (lambda rng: seen_by(rng, cloud(rng), turned_in_place(16, 8)), "turned on the spot"),
        (lambda rng: seen_by(rng, cloud(rng), arc(0.0, 8)), "nothing moves"),
        (lambda rng: seen_by(rng, cloud(rng, 18), arc(40, 8)), "too few matches"),
    ],
)
def test_the_true_reason_is_told(rng: np.random.Generator, make, cause: str) -> None:  # type: ignore[no-untyped-def]
    answer = align(make(rng))
    assert isinstance(answer, Trouble)
    assert answer.cause == cause


def test_a_still_backdrop_is_told(rng: np.random.Generator) -> None:
    """The subject turns before a desk that stands still: two scenes, of which the still one says that nothing moved."""
    subject = cloud(rng, 160)[:80] * 0.5
    moving = seen_by(rng, subject, arc(70, 8))
    desk = seen_by(rng, rng.uniform([-1.2, 1.0, -0.6], [1.2, 2.0, 1.2], (400, 3)), arc(0.0, 8), noise=0.05)
    for k in range(8):
        shift = len(moving.xy[k])
        moving.xy[k] = np.concatenate([moving.xy[k], desk.xy[k]])
        moving.scale[k] = np.full(len(moving.xy[k]), 4.0, np.float32)
        for (i, j), m in desk.matches.items():
            if i == k:
                a = moving.matches[i, j]
                moving.matches[i, j] = np.concatenate([a, m + np.array([shift, 0])]).astype(np.int32)
    lengths = [len(seen_by(np.random.default_rng(0), subject, arc(70, 8)).xy[k]) for k in range(8)]
    for (i, j), m in moving.matches.items():
        own = len(m) - len(desk.matches[i, j])
        m[own:, 1] += lengths[j]
    answer = align(moving)
    if isinstance(answer, Model):
        # what was built must be the subject that turned, not a heap on one spot
        assert answer.placed.sum() == 8
        spread = np.linalg.norm(answer.centers - answer.centers.mean(0), axis=1)
        assert spread.min() > 0.05 * spread.max()
    else:
        assert answer.cause == "still backdrop"


@pytest.mark.parametrize("other", [1.0, 1.5])
def test_photos_that_say_nothing_share_a_lens_only_if_it_fits(rng: np.random.Generator, other: float) -> None:
    """Half of the photos know their lens; the others are lent it, and get one of their own where they were zoomed."""
    true = Camera.simple(640, 480, 745.0)
    zoomed = Camera.simple(640, 480, 745.0 * other)
    data = seen_by(rng, cloud(rng, 700), arc(120, 16), noise=0.1, lens=[true, zoomed] * 8, start=true)
    own = np.arange(16) % 2
    mixed = replace(
        data, lenses=[true, Camera.simple(640, 480, 592.0)], guessed=[False, True], own_lens=own,
    )  # fmt: skip
    model = aligned(mixed)
    assert model.placed.all()
    if other == 1.0:
        assert (model.lens_of == 0).all()
    else:
        assert (model.lens_of == own).all()
        assert model.lenses[1].fx == pytest.approx(745 * other, rel=0.02)
    assert np.median(model.errors()[model.inlier]) < 0.25
