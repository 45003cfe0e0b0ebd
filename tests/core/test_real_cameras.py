"""What real cameras do to pictures, as the rig does it, and captures as people make them."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from vast_quarry.core.camera import Camera, distort, undistort
from vast_quarry.core.rig.body import CAMERAS, FAULTS, demosaiced, finished, flared, fringed
from vast_quarry.core.rig.captures import CAPTURES, capture_stations, parse_capture
from vast_quarry.core.rig.render import Shot, rippled
from vast_quarry.core.rig.shoot import ShootSettings, rig_camera, true_lens

LENS = Camera.simple(160, 120, 190.0)


@pytest.fixture
def light(rng: np.random.Generator) -> np.ndarray:
    """A picture of soft blobs, brighter than white in one place."""
    out = cv2.GaussianBlur(rng.uniform(0, 0.8, (120, 160, 3)).astype(np.float32), (0, 0), 2.0)
    out *= np.array([1.2, 1.0, 0.7], np.float32)
    out[20:30, 20:30] = 6.0
    return out


def shot(**more) -> Shot:  # type: ignore[no-untyped-def]
    return Shot(LENS, np.eye(3), np.zeros(3), full_well=9000.0, read_noise=6.0, seed=3, **more)


@pytest.mark.parametrize(
    "fault", ["bayer", "sharpening", "smear", "fringes", "flare", "auto-exposure", "auto-balance", "grey"]
)
def test_each_fault_changes_the_picture_and_keeps_what_it_shows(light: np.ndarray, fault: str) -> None:
    plain, changed = finished(light, shot(), frozenset()), finished(light, shot(), frozenset({fault}))
    assert np.abs(plain.astype(int) - changed).mean() > 0.1
    grey = [
        cv2.GaussianBlur(cv2.cvtColor(p, cv2.COLOR_RGB2GRAY).astype(np.float32), (0, 0), 3)[40:]
        for p in (plain, changed)
    ]
    assert np.corrcoef(grey[0].ravel(), grey[1].ravel())[0, 1] > 0.9


def test_demosaicing_keeps_colours_in_their_places(light: np.ndarray) -> None:
    smooth = cv2.GaussianBlur(light.clip(0, 0.9), (0, 0), 6)
    np.testing.assert_allclose(demosaiced(smooth)[4:-4, 4:-4], smooth[4:-4, 4:-4], atol=0.02)


def test_sharpening_leaves_halos() -> None:
    edge = np.full((60, 80, 3), 0.2, np.float32)
    edge[:, 40:] = 0.5
    calm = Shot(LENS, np.eye(3), np.zeros(3))
    plain, sharp = finished(edge, calm, frozenset()), finished(edge, calm, frozenset({"sharpening"}))
    assert sharp.min() < plain.min() - 3
    assert sharp.max() > plain.max() + 3


def test_fringes_grow_towards_the_corners(light: np.ndarray) -> None:
    out = fringed(light, LENS)
    np.testing.assert_array_equal(out[..., 1], light[..., 1])
    off = np.abs(out[..., 0] - light[..., 0])
    assert off[50:70, 70:90].mean() < off[:20, 120:].mean()
    assert flared(light, LENS)[60:, 80:].mean() > 0.97 * light[60:, 80:].mean()


def test_exposure_follows_what_is_in_the_picture(light: np.ndarray) -> None:
    means = [finished(k * light, shot(), frozenset({"auto-exposure"}))[40:].mean() for k in (0.4, 1.0, 1.6)]
    assert max(means) - min(means) < 12


def test_the_lens_nearest_to_one_that_is_no_polynomial() -> None:
    """Waves of 0.18 % of the radius: the nearest polynomial is off by a fraction of a pixel, the one without them by more."""
    camera = rig_camera(ShootSettings(width=640, height=480))
    s = Shot(camera, np.eye(3), np.zeros(3), ripple=0.0018)
    near = true_lens(s)
    u, v = np.meshgrid(np.linspace(0, 639, 30), np.linspace(0, 479, 20))
    px = np.stack([u, v], -1).reshape(-1, 2)
    ideal = undistort(rippled(px, camera, s.ripple), camera)

    def off(lens: Camera) -> float:
        seen = distort(ideal, lens) * [lens.fx, lens.fy] + [lens.cx, lens.cy]
        return float(np.sqrt(((seen - px) ** 2).sum(1).mean()))

    assert 0.02 < off(near) < 0.7 * off(camera)
    assert true_lens(Shot(camera, np.eye(3), np.zeros(3))) == camera


def test_cameras_are_made_of_faults() -> None:
    assert all(on <= set(FAULTS) for on in CAMERAS.values())
    assert not CAMERAS["kind"]
    assert set(FAULTS) - CAMERAS["harsh"] == {"grey", "key-light", "lamps", "sun"}


def test_captures_are_read_or_refused() -> None:
    assert parse_capture("clip") == ("clip", 30)
    assert parse_capture("lap:24") == ("lap", 24)
    for wrong in ("dance", "clip:x", "clip:1", "lap:-3"):
        with pytest.raises(ValueError, match="capture is written like"):
            parse_capture(wrong)


@pytest.mark.parametrize("name", list(CAPTURES))
def test_captures_go_where_they_say(name: str) -> None:
    count = CAPTURES[name].count
    stations = capture_stations(name, count, np.array([0.0, 0.0, 0.3]), 2.0, seed=1)
    assert len(stations) == count
    for s in stations:
        np.testing.assert_allclose(s.rotation @ s.rotation.T, np.eye(3), atol=1e-9)
    centers = np.array([s.center for s in stations])
    turn = np.degrees(np.unwrap(np.arctan2(centers[:, 0], -centers[:, 1])))
    span = turn.max() - turn.min()
    if name in ("panorama", "tripod"):
        assert np.ptp(centers, axis=0).max() == 0
    elif name in ("clip", "arc"):
        assert span == pytest.approx(15, abs=1.5)
    elif name == "open":
        assert 250 < span < 275
    if name == "clip":
        assert (np.linalg.norm(np.diff(centers, axis=0), axis=1) == 0).sum() == 5
