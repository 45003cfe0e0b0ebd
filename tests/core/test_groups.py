"""Groups of photos: joined by what both show though no photo alone sees enough of the other, or kept apart and not lost."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.core.synthetic import LENS, cloud, seen_by

from vast_quarry.core.align import incremental
from vast_quarry.core.align.groups import similarity_between
from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.incremental import align
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.picked import join_by_places
from vast_quarry.core.camera import project
from vast_quarry.core.pose import Similarity, fit_similarity, look_at, rotation_from_vector


def ring(height: float, count: int = 8, sweep: float = 2.0) -> list[tuple[np.ndarray, np.ndarray]]:
    out = []
    for k in range(count):
        a = sweep * k / count
        center = 1.8 * np.array([np.sin(a), -np.cos(a), height])
        out.append((look_at(center, [0, 0, 0.25]), center))
    return out


def two_rings(rng: np.random.Generator, across: int) -> tuple[AlignInput, np.ndarray]:
    """Two rings of eight photos; photo k of one shares ``across`` places with photo k of the other, others at each k.

    Each of those places is followed by three photos of each ring, so that none sees more than three times ``across`` of the
    other ring's points.
    """
    points = cloud(rng, 700)
    poses = ring(0.4) + ring(1.5)
    # the second ring sees other places than the first but for those that tie them
    first = np.arange(len(points)) % 2 == 0
    tie = np.full(len(points), -1)
    tie[rng.permutation(np.flatnonzero(first & (points[:, 2] > 0.1)))[: 8 * across]] = np.tile(np.arange(8), across)
    data = seen_by(rng, points, poses, noise=0.2, lens=LENS, start=LENS)
    kept = [which_seen(points, p, x) for p, x in zip(poses, data.xy)]
    for (i, j), m in list(data.matches.items()):
        p = kept[i][m[:, 0]]
        if i < 8 <= j:
            use = (tie[p] == i) & (j - i == 8)
        else:
            of_ring = first[p] if i < 8 else ~first[p]
            near = (tie[p] == i % 8) | (tie[p] == j % 8)
            use = (of_ring & (tie[p] < 0)) | (near & (j - i == 1))
        data.matches[i, j] = m[use]
    return data, np.stack([c for _, c in poses])


def which_seen(points: np.ndarray, pose: tuple[np.ndarray, np.ndarray], xy: np.ndarray) -> np.ndarray:
    """Points behind the features of a photo."""
    px, z = project(LENS, *pose, points)
    inside = (z > 0) & (px > 2).all(1) & (px < [LENS.width - 3, LENS.height - 3]).all(1)
    assert inside.sum() == len(xy)
    return np.flatnonzero(inside)


def off(model: Model, truth: np.ndarray) -> float:
    """Largest error of a placed centre, in per cent of the distance."""
    placed = model.placed
    s = fit_similarity(model.centers[placed], truth[placed])
    return float(np.linalg.norm(s.points(model.centers[placed]) - truth[placed], axis=1).max() / 1.8 * 100)


def test_rings_that_no_photo_alone_ties_are_joined(rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch) -> None:
    data, truth = two_rings(rng, across=3)
    model = align(data)
    assert isinstance(model, Model)
    assert model.placed.all()
    assert not model.apart
    assert off(model, truth) < 0.3
    monkeypatch.setattr(incremental, "join", lambda *_: None)
    alone = align(data)
    assert isinstance(alone, Model)
    assert sorted([alone.placed.sum(), alone.apart[0].placed.sum()]) == [8, 8]


@pytest.fixture(scope="module")
def untied() -> tuple[AlignInput, np.ndarray, Model]:
    """Two rings that share nothing, and their alignment."""
    data, truth = two_rings(np.random.default_rng(11), across=0)
    model = align(data)
    assert isinstance(model, Model)
    return data, truth, model


def test_what_nothing_ties_stays_apart_and_is_kept(untied: tuple[AlignInput, np.ndarray, Model]) -> None:
    _, truth, model = untied
    (other,) = model.apart
    assert (model.placed ^ other.placed).all()
    assert {model.placed[:8].all(), model.placed[8:].all()} == {True, False}
    assert off(other, truth) < 0.3


def test_false_ties_do_not_join(rng: np.random.Generator) -> None:
    """Matches by chance across the rings: many, but no similarity that a good part of them obeys."""
    data, _ = two_rings(rng, across=6)
    for (i, j), m in data.matches.items():
        if i < 8 <= j:
            m[:, 1] = rng.choice(len(data.xy[j]), len(m), replace=False)
    model = align(data)
    assert isinstance(model, Model)
    assert model.placed.sum() == 8
    assert [m.placed.sum() for m in model.apart] == [8]


@pytest.mark.parametrize("false", [0.0, 0.5])
def test_similarity_between_groups(rng: np.random.Generator, false: float) -> None:
    true = Similarity(2.3, rotation_from_vector(np.array([0.3, -1.1, 0.4])), np.array([3.0, -1.0, 7.0]))
    b = rng.uniform(-1, 1, (60, 3))
    a = true.points(b) + rng.normal(0, 1e-4, (60, 3))
    wrong = rng.random(60) < false
    a[wrong] = rng.uniform(-3, 9, (int(wrong.sum()), 3))
    looks = np.full(60, 500.0)
    found = similarity_between(a, b, looks, 2.3 * looks)
    assert found is not None
    similarity, agree = found
    np.testing.assert_array_equal(agree, ~wrong)
    assert abs(similarity.scale - 2.3) < 1e-3
    np.testing.assert_allclose(similarity.rotation, true.rotation, atol=1e-3)


def marked(rng: np.random.Generator, places: np.ndarray, poses: list, photos: tuple[int, ...]) -> list[dict]:
    """Marks by hand of places (K, 3), seven tenths of a pixel off, in some photos."""
    out = []
    for p in places:
        marks = {}
        for n in photos:
            px, _ = project(LENS, *poses[n], p[None])
            at = px[0] + rng.normal(0, 0.7, 2)
            marks[n] = (float(at[0]), float(at[1]))
        out.append(marks)
    return out


PLACES = np.array([[0.15, 0.1, 0.3], [-0.15, 0.12, 0.25], [0.02, -0.16, 0.35], [0.1, 0.0, 0.45]])


POSES = ring(0.4) + ring(1.5)


def test_groups_that_nothing_ties_are_joined_by_three_places_picked_in_both(
    untied: tuple[AlignInput, np.ndarray, Model], rng: np.random.Generator
) -> None:
    data, truth, _ = untied
    model = align(replace(data, picked=marked(rng, PLACES[:3], POSES, (0, 4, 7, 8, 11, 15))))
    assert isinstance(model, Model)
    assert model.placed.all()
    assert not model.apart
    (joined,) = model.joins
    assert joined.points == 3
    # marks of 0.7 px over a third of a metre, seen from 1.8 m away: a per cent or two
    assert off(model, truth) < 4
    # each ring by itself is as good as before
    for part in (slice(0, 8), slice(8, 16)):
        s = fit_similarity(model.centers[part], truth[part])
        assert np.linalg.norm(s.points(model.centers[part]) - truth[part], axis=1).max() < 0.01


def test_places_that_are_too_few_on_a_line_or_seen_from_one_photo_do_not_join(
    untied: tuple[AlignInput, np.ndarray, Model], rng: np.random.Generator
) -> None:
    model = untied[2]
    (other,) = model.apart
    line = np.array([[0.15, 0.1, 0.3], [0.0, 0.0, 0.3], [-0.15, -0.1, 0.3]])
    for places, photos in ((PLACES[:2], (0, 4, 8, 12)), (line, (0, 4, 8, 12)), (PLACES, (0, 4, 8))):
        moved, miss = join_by_places(model, other, marked(rng, places, POSES, photos))
        assert moved is None
        assert not len(miss)
    moved, miss = join_by_places(model, other, marked(rng, PLACES, POSES, (0, 4, 8, 12)))
    assert moved is not None
    assert max(miss.values()) < 5


def test_places_that_do_not_fit_each_other_are_told_instead_of_joining(
    untied: tuple[AlignInput, np.ndarray, Model], rng: np.random.Generator
) -> None:
    """One place was picked wrong in one of the groups."""
    model = untied[2]
    picked = marked(rng, PLACES, POSES, (0, 4, 8, 12))
    elsewhere = PLACES[:1] + np.array([0.12, -0.1, 0.1])
    picked[0].update(marked(rng, elsewhere, POSES, (8, 12))[0])
    moved, miss = join_by_places(model, model.apart[0], picked)
    assert moved is None
    assert len(miss) == 4
    assert max(miss.values()) > 20
