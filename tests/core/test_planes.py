"""Plain flat sides filled by planes from what is known about their rims, against scenes that are worked out by hand."""

from __future__ import annotations

import numpy as np
import pytest

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.planes import Side, plane_filled, plane_in, segments, shared, side_of

H, W, F = 480, 640, 600.0


def depth_of(normal: tuple[float, float, float], offset: float) -> np.ndarray:
    """Depth (H, W) at which rays of a pinhole meet a plane ``normal . x = offset`` (camera: x right, y down, z ahead)."""
    v, u = np.meshgrid(np.arange(H), np.arange(W), indexing="ij")
    ray = np.stack([(u - W / 2) / F, (v - H / 2) / F, np.ones((H, W))], -1)
    across = ray @ np.array(normal, float)
    return np.where(across > 1e-6, offset / np.maximum(across, 1e-6), np.inf)


@pytest.fixture
def box() -> dict[str, np.ndarray]:
    """A plain side, seen from above, that leans away to the right: its lid above, ground below, the ground far behind at its sides."""
    ground = depth_of((0.0, 1.0, 0.35), 1.1)
    side = depth_of((0.25, 0.0, 1.0), 2.0)
    lid = depth_of((0.0, 1.0, 0.35), 0.6)
    u = np.arange(W)[None]
    # a ray enters a convex body where it has passed all planes that face it
    on_side = (u > 60) & (u < 580) & (side < ground) & (side >= lid)
    on_lid = (u > 60) & (u < 580) & (lid > side) & (lid < 2.9)
    depth = np.where(on_side, side, np.where(on_lid, lid, ground))
    gray = np.where(on_side, 60, np.where(on_lid, 150, 110)).astype(np.uint8)
    return {"depth": depth, "side": on_side, "gray": gray, "ground": ground}


def filled(box: dict[str, np.ndarray], rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    noise = 1 + 3e-4 * rng.standard_normal((H, W))
    known = ~box["side"]
    inverse = np.where(known, noise / box["depth"], 0).astype(np.float32)
    gray = np.clip(box["gray"] + rng.normal(0, 1.0, (H, W)), 0, 255).astype(np.uint8)
    return plane_filled(inverse, known, np.ones((H, W), bool), gray)[:2]


def test_a_plain_side_is_the_plane_through_lid_and_foot(box: dict[str, np.ndarray], rng: np.random.Generator) -> None:
    inverse, flat = filled(box, rng)
    mine = box["side"] & flat
    assert mine.sum() > 0.9 * box["side"].sum()
    off = np.abs(inverse[mine] * box["depth"][mine] - 1)
    # other photos judge what is left of it: about the rims the lid and the ground are nearly on the plane too, and tilt it
    assert np.quantile(off, 0.95) < 0.012
    # it is no continuation of the ground, which bounds it on three sides
    assert np.median(np.abs(inverse[mine] * box["ground"][mine] - 1)) > 0.05
    # what was known is left alone
    known = ~box["side"]
    assert not (flat & known).any()


def test_a_plain_patch_with_something_known_on_one_side_only_is_left_alone(
    box: dict[str, np.ndarray], rng: np.random.Generator
) -> None:
    """A sky above a ridge: nothing says how far it is."""
    known = np.arange(H)[:, None] > 280
    inverse = np.where(known, 1 / box["ground"], 0).astype(np.float32)
    gray = np.where(known, rng.integers(60, 180, (H, W)), 230).astype(np.uint8)
    out, flat, _, _ = plane_filled(inverse, np.broadcast_to(known, (H, W)).copy(), np.ones((H, W), bool), gray)
    assert not flat.any()
    assert np.array_equal(out, inverse)


def test_a_plain_ball_is_no_plane() -> None:
    v, u = np.meshgrid(np.arange(H) - H / 2, np.arange(W) - W / 2, indexing="ij")
    r = np.hypot(u, v)
    depth = 2.0 - 0.5 * np.sqrt(np.clip(1 - (r / 200) ** 2, 0, 1))
    known = r > 100
    tilted = depth * (1 + 0.0005 * u)  # its rim is on no plane either
    inverse = np.where(known, 1 / tilted, 0).astype(np.float32)
    out, flat, _, _ = plane_filled(inverse, known, np.ones((H, W), bool), np.full((H, W), 120, np.uint8))
    if flat.any():  # a cap is flat within what photos agree about, or it is not filled
        assert np.abs(out[flat] * tilted[flat] - 1).max() < 0.06


def test_segments_end_where_brightness_changes() -> None:
    gray = np.full((H, W), 80, np.uint8)
    gray[:, 320:] = 100
    label, where = segments(np.ones((H, W), bool), gray)
    assert len(where) == 2
    assert label[240, 80] != label[240, 560]
    assert label[240, 80] > 0


def test_two_sides_without_an_edge_between_them_take_planes_that_other_photos_found(rng: np.random.Generator) -> None:
    ground, lid = depth_of((0.0, 1.0, 1.0), 2.5), depth_of((0.0, 1.0, 1.0), 1.6)
    left, right = depth_of((0.6, 0.0, 1.0), 2.0), depth_of((-0.6, 0.0, 1.0), 2.0)
    body = np.maximum(np.maximum(left, right), lid)  # entered where a ray has passed all planes that face it
    there = (body < ground) & (np.abs(np.arange(W)[None] - W / 2) < 220) & (body < 2.6)
    plain = there & (body > lid)
    depth = np.where(there, body, ground)
    known = ~plain
    inverse = np.where(known, (1 + 3e-4 * rng.standard_normal((H, W))) / depth, 0).astype(np.float32)
    gray = np.where(plain, 60, np.where(there, 150, 110)).astype(np.uint8)
    pinhole = lambda n, h: np.array([n[0] / F, n[1] / F, n[2] - n[0] * W / 2 / F - n[1] * H / 2 / F]) / h  # noqa: E731
    offered = np.array([pinhole((0.6, 0.0, 1.0), 2.0), pinhole((-0.6, 0.0, 1.0), 2.0), pinhole((0.0, 1.0, 1.0), 2.5)])
    out, flat, lent, _ = plane_filled(inverse, known, np.ones((H, W), bool), gray, offered)
    # who was given a plane is no witness of it
    assert lent.any()
    assert not lent[~flat].any()
    assert (flat & plain).sum() > 0.9 * plain.sum()
    off = np.abs(out[flat & plain] * depth[flat & plain] - 1)
    assert np.quantile(off, 0.99) < 0.003
    # a plane that is not there changes nothing
    alone, *_ = plane_filled(inverse, known, np.ones((H, W), bool), gray, offered[2:])
    wrong = np.abs(alone[plain] * depth[plain] - 1) if (alone[plain] > 0).any() else np.zeros(1)
    assert np.quantile(off, 0.5) <= np.quantile(wrong, 0.5) + 1e-6


def test_a_side_is_the_same_plane_in_every_photo_that_it_faces(rng: np.random.Generator) -> None:
    camera = Camera(W, H, F, F, W / 2, H / 2)
    normal, offset = np.array([0.0, 0.6, 0.8]), 3.0
    seen, planes = [], []
    for x in (-0.4, 0.0, 0.3):
        center, rotation = np.array([x, 0.1, 0.2]), np.eye(3)
        plane = plane_in(normal, offset, camera, rotation, center)
        assert plane is not None
        u, v = rng.uniform(0, W, 5), rng.uniform(0, H, 5)
        ray = np.stack([(u - W / 2) / F, (v - H / 2) / F, np.ones(5)], 1)
        depth = (offset - normal @ center) / (ray @ normal)
        assert np.allclose(1 / depth, plane[0] * u + plane[1] * v + plane[2])
        side = side_of(plane, (u[0], v[0]), camera, rotation, center)
        assert np.allclose(side.normal, normal)
        assert side.offset == pytest.approx(offset)
        assert side.middle @ normal == pytest.approx(offset)
        planes.append([side])
        seen.append(plane)
    (one,) = shared(planes)
    assert np.allclose(one, [*normal, offset])
    # two photos are too few, and one that looks at its back is none
    assert shared(planes[:2]).shape == (0, 4)
    assert plane_in(-normal, -offset, camera, np.eye(3), np.zeros(3)) is None
    twice = Side(normal, offset, planes[0][0].middle, 1.0)
    assert shared([[twice, twice, twice]]).shape == (0, 4)
