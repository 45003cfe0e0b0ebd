"""False pairs that contradict the others, and cameras that stand where they can hardly stand."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from tests.core.synthetic import LENS, arc, cloud, seen_by

from vast_quarry.core.align.cycles import broken_share, contradicted
from vast_quarry.core.align.growth import AlignInput, lay_ground
from vast_quarry.core.align.incremental import align
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.noise import first_guess
from vast_quarry.core.align.plausible import agreement, doubts, off_path, off_plan
from vast_quarry.core.pose import Similarity, look_at


def lap(rng: np.random.Generator, count: int = 16) -> tuple[AlignInput, list]:
    poses = arc(200, count)
    return seen_by(rng, cloud(rng, 600), poses, reach=4, start=LENS), poses


def test_a_pair_that_repeats_a_pattern_breaks_the_loops_of_the_others(rng: np.random.Generator) -> None:
    data, _ = lap(rng)
    pairs, count, share = broken_share(data.xy, data.matches, 3.0)
    assert share[count > 0].max() == 0.0
    wrong = dict(data.matches)
    m = wrong[5, 7].copy()
    m[:, 1] = np.roll(m[:, 1], 1)
    wrong[5, 7] = m
    assert contradicted(data.xy, wrong, 3.0) == {(5, 7)}
    # the twin: loops counted one by one
    maps = {(i, j): dict(zip(m[:, 0].tolist(), m[:, 1].tolist())) for (i, j), m in wrong.items()}
    maps |= {(j, i): {b: a for a, b in one.items()} for (i, j), one in maps.items()}
    closed = broken = 0
    for k in range(len(data.xy)):
        if (5, k) not in maps or (k, 7) not in maps:
            continue
        for a, b in maps[5, 7].items():
            there = maps[5, k].get(a)
            back = next((x for x, y in maps[k, 7].items() if y == b), None)
            if there is not None and back is not None:
                far = np.abs(data.xy[k][there] - data.xy[k][back]).sum() > 3.0
                closed, broken = closed + (there == back), broken + (there != back and far)
    pairs, count, share = broken_share(data.xy, wrong, 3.0)
    at = pairs.index((5, 7))
    assert (count[at], share[at]) == (closed + broken, pytest.approx(broken / (closed + broken)))


def test_two_features_at_one_place_break_no_loop(rng: np.random.Generator) -> None:
    """A corner with two orientations has two features there: either may be matched."""
    data, _ = lap(rng, 6)
    xy = [np.concatenate([x, x + 0.5]) for x in data.xy]
    matches = dict(data.matches)
    m = matches[1, 2].copy()
    m[:, 1] += len(data.xy[2])
    matches[1, 2] = m
    assert contradicted(xy, matches, 3.0) == set()


def model_of(data: AlignInput, poses: list) -> Model:
    """A model with the cameras as they truly stand."""
    ground = lay_ground(data)
    n = len(poses)
    return Model(
        ground.tracks, ground.xy, ground.scale, first_guess(640), data.lens_of, [LENS], ground.prior,
        np.stack([r for r, _ in poses]), np.stack([c for _, c in poses]), np.ones(n, bool),
    )  # fmt: skip


def test_a_camera_on_the_wrong_side_is_doubted_and_none_else(rng: np.random.Generator) -> None:
    data, poses = lap(rng)
    order = np.arange(len(poses))
    right = model_of(data, poses)
    assert min(agreement(right, data.xy, data.matches).values()) > 0.95
    assert doubts(right, data.xy, data.matches, order) == []
    astray = list(poses)
    astray[6] = poses[13]
    found = doubts(model_of(data, astray), data.xy, data.matches, order)
    assert [d.photo for d in found] == [6]
    assert found[0].off_path
    assert found[0].denied > 0.9
    assert set(found[0].against) <= {2, 3, 4, 5, 7, 8, 9, 10}


def test_leaving_the_path_alone_is_no_reason(rng: np.random.Generator) -> None:
    """A detail shot from close by, between two of a walk round, matches what it shows."""
    poses = arc(200, 16)
    r, c = poses[8]
    poses[8] = (r, np.array([0, 0, 0.25]) + 3.0 * (c - [0, 0, 0.25]))
    data = seen_by(rng, cloud(rng, 600), poses, reach=4, start=LENS)
    model = model_of(data, poses)
    assert np.flatnonzero(off_path(model, np.arange(16))).tolist() == [8]
    assert doubts(model, data.xy, data.matches, np.arange(16)) == []


def test_where_half_of_what_is_matched_stands_still_none_is_doubted(rng: np.random.Generator) -> None:
    """A subject on a turntable before a backdrop: the backdrop's matches deny every photo alike."""
    data, poses = lap(rng)
    still = rng.uniform(10, 470, (900, 2)).astype(np.float32)
    xy = [np.concatenate([x, still + rng.normal(0, 0.1, still.shape).astype(np.float32)]) for x in data.xy]
    same = np.arange(900)
    matches = {
        (i, j): np.concatenate([m, np.stack([same + len(data.xy[i]), same + len(data.xy[j])], 1)]).astype(np.int32)
        for (i, j), m in data.matches.items()
    }
    assert doubts(model_of(data, poses), xy, matches, np.arange(len(poses))) == []


def test_a_photo_tied_to_a_place_that_looks_alike_is_taken_out_of_the_alignment(rng: np.random.Generator) -> None:
    """Photo 6 shows a sign that also stands on the other side: it has most features of 13's neighbours there."""
    data, _ = lap(rng)
    # what photo 6 sees is, by a repeated sign, also matched to what photo 13 sees: more of it than to its neighbours
    twin = data.xy[13] + rng.normal(0, 0.1, data.xy[13].shape).astype(np.float32)
    xy = list(data.xy)
    first = len(xy[6])
    xy[6] = np.concatenate([xy[6], twin])
    matches = dict(data.matches)
    for other, m in data.matches.items():
        if 13 in other and 6 not in other:
            k = other[0] if other[1] == 13 else other[1]
            a, b = (m[:, 1], m[:, 0]) if other[1] == 13 else (m[:, 0], m[:, 1])
            pair = np.stack([a + first, b], 1) if k > 6 else np.stack([b, a + first], 1)
            key = (min(6, k), max(6, k))
            matches[key] = np.concatenate([matches[key], pair]) if key in matches else pair.astype(np.int32)
    matches[6, 13] = np.stack([np.arange(len(twin)) + first, np.arange(len(twin))], 1).astype(np.int32)
    # its own side is matched by less
    for key in itertools.product(range(17), repeat=2):
        if key in data.matches and 6 in key and key in matches:
            matches[key] = matches[key][:40] if len(matches[key]) > 40 else matches[key]
    model = align(replace(data, xy=xy, scale=[np.full(len(x), 4.0, np.float32) for x in xy], matches=matches))
    assert isinstance(model, Model)
    assert [d.photo for d in model.doubted] == [6]
    assert model.doubted[0].off_path
    assert np.flatnonzero(~model.placed).tolist() == [6]
    # what is told of it is true: it was put where 13 stands, and the others miss by next to nothing
    assert np.linalg.norm(model.centers[6] - model.centers[13]) < 0.1 * np.linalg.norm(
        model.centers[6] - model.centers[5]
    )
    assert np.sqrt((model.errors()[model.inlier] ** 2).mean()) < 0.3


def test_photos_off_the_plan_are_told_from_those_that_keep_to_it(rng: np.random.Generator) -> None:
    """By hand nobody stands just where it was planned: a few per cent; two that stand elsewhere do not move what the rest says."""
    angle = np.linspace(0, 2 * np.pi, 20, endpoint=False)
    planned = np.stack([2 * np.cos(angle), 2 * np.sin(angle), 0.5 + 0.2 * np.sin(3 * angle)], 1)
    stood = planned + rng.normal(0, 0.03, planned.shape)
    stood[4] += [0, 0.9, 0]
    stood[11] = planned[2]
    turned = Similarity(0.37, look_at([1, 2, 3], [0, 0, 0]), np.array([5.0, -2.0, 1.0])).points(stood)
    off = off_plan(turned, planned)
    assert off[4] == pytest.approx(0.45, abs=0.06)
    assert off[11] > 1
    assert np.delete(off, [4, 11]).max() < 0.07
