"""Points that several photos give of one spot, as one."""

from __future__ import annotations

import numpy as np
import pytest

from vast_quarry.core.dense import merging
from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.dense.merging import merged_by_weight

GSD = 0.01


def sheet(photo: int, noise: float, rng: np.random.Generator, sigma: float = 0.002, size: int = 60) -> Cloud:
    """A level sheet as one photo gives it: a point a pixel, off by some noise."""
    x, y = (q.ravel() * GSD for q in np.meshgrid(np.arange(size) + rng.random(), np.arange(size) + rng.random()))
    n = len(x)
    return Cloud(
        np.stack([x, y, rng.normal(0, noise, n)], 1), np.tile(np.float32([0, 0, 1]), (n, 1)), np.full((n, 3), 10 * photo, np.uint8),
        np.full(n, 3, np.int32), np.full(n, GSD, np.float32), np.full(n, sigma, np.float32), np.full(n, photo, np.int32),
    )  # fmt: skip


def test_what_one_photo_gives_stays_as_it_is(rng: np.random.Generator) -> None:
    one = sheet(1, 0.001, rng)
    kept = merged_by_weight([one])
    for name in ("points", "normals", "colors", "views", "gsd", "sigma", "photo"):
        np.testing.assert_array_equal(getattr(kept, name), getattr(one, name))


def test_many_photos_of_one_sheet_do_not_pile_up_and_their_mean_is_nearer(
    rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch
) -> None:
    photos = [sheet(k, 0.0015, rng) for k in range(1, 21)]
    for photo in photos:
        photo.points[:, 2] += 0.003  # in the middle of its cells
    found = merged_by_weight(photos)
    assert len(found.points) < 4 * 3600  # of 72,000
    assert np.median(np.abs(found.points[:, 2] - 0.003)) < 0.6 * 0.67 * 0.0015
    assert np.allclose(np.linalg.norm(found.normals, axis=1), 1, atol=1e-5)
    assert set(found.photo.tolist()) <= set(range(1, 21))
    assert found.views.max() == 3
    # taken in by small parts it comes to about the same
    monkeypatch.setattr(merging, "BATCH", 5000)
    again = merged_by_weight(iter(photos))
    assert len(again.points) == pytest.approx(len(found.points), rel=0.1)
    assert np.median(np.abs(again.points[:, 2] - 0.003)) < 0.6 * 0.67 * 0.0015


def test_who_is_surer_counts_more(rng: np.random.Generator) -> None:
    sure, unsure = sheet(1, 0.0, rng, sigma=0.001), sheet(2, 0.0, rng, sigma=0.01)
    unsure.points[:, 2] += 0.001
    found = merged_by_weight([sure, unsure])
    both = found.points[(found.colors[:, 0] > 10) & (found.colors[:, 0] < 20) | (found.points[:, 2] > 0)]
    mixed = found.points[(found.points[:, 2] > 0) & (found.points[:, 2] < 0.001)]
    assert len(both)
    np.testing.assert_allclose(mixed[:, 2], 0.001 / 101, rtol=0.6)


def test_close_ups_keep_their_detail_beside_photos_from_afar(rng: np.random.Generator) -> None:
    near, far = sheet(1, 0.0, rng), sheet(2, 0.0, rng, size=15)
    far.points[:, :2] *= 4
    far.gsd[:] *= 4
    found = merged_by_weight([near, far])
    assert (found.gsd < 1.5 * GSD).sum() == len(near.points)


def test_a_cloud_too_wide_to_be_numbered_stays(rng: np.random.Generator) -> None:
    one, two = sheet(1, 0.0, rng), sheet(2, 0.0, rng)
    one.points[0] = 1e5
    assert len(merged_by_weight([one, two]).points) == len(one.points) + len(two.points)
