"""The practice rig: what it photographs is what its truth says."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from PIL import Image
from tests.conftest import RigSet, camera_of

from vast_quarry.core.camera import Camera, project
from vast_quarry.core.photo.reading import read_facts
from vast_quarry.core.pose import look_at
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.rig import paint
from vast_quarry.core.rig.light import bake_light, hemisphere, ray_scene
from vast_quarry.core.rig.noise import fbm_many
from vast_quarry.core.rig.plain_scenes import RODS, chest, hound, rack
from vast_quarry.core.rig.render import FILL_LIGHT, Shot, Studio, develop, to_srgb8
from vast_quarry.core.rig.scenes import GROOVE_DEPTH, GROOVES, finial, milestone, plate
from vast_quarry.core.rig.shoot import ShootSettings, rig_camera
from vast_quarry.core.surface.mesh import components, edge_faces, vertex_normals
from vast_quarry.core.texture.coloring import pixel_rays


@pytest.mark.parametrize("make", [milestone, finial])
def test_subject_is_one_closed_body_facing_outwards(make) -> None:  # type: ignore[no-untyped-def]
    scene = make(cell=0.006, fine=False)
    v, f = scene.subject.vertices, scene.subject.faces
    pairs, _ = edge_faces(f)
    assert 2 * len(pairs) == 3 * len(f)
    assert components(f).max() == 0
    volume = np.einsum("ij,ij->i", v[f[:, 0]], np.cross(v[f[:, 1]], v[f[:, 2]])).sum() / 6
    assert volume > 0
    rays = ray_scene(scene)
    bake_light(scene, rays, 8)
    assert 0.2 < np.median(scene.subject.light) < 0.95
    assert scene.subject.light.std() > 0.05


def test_grooves_of_the_plate_are_as_wide_and_deep_as_they_are_said_to_be() -> None:
    body = plate().subject
    pairs, _ = edge_faces(body.faces)
    assert 2 * len(pairs) == 3 * len(body.faces)
    scene = RayScene()
    scene.add(body.vertices, body.faces)
    for at, wide in GROOVES:
        across = np.linspace(-wide, wide, 81)
        rays = np.zeros((81, 6), np.float32)
        rays[:, 0], rays[:, 1], rays[:, 2], rays[:, 4] = at + across, -1.0, 0.0801, 1.0
        back = np.asarray(scene.cast(rays)["t"]).ravel() - 1 + 0.015
        # noise of the stone is a tenth of that
        expected = GROOVE_DEPTH * np.maximum(1 - np.abs(across) / (wide / 2), 0)
        np.testing.assert_allclose(back, expected, atol=0.0002)


def test_masks_show_the_projected_subject(milestone_set: RigSet) -> None:
    mesh = milestone_set.mesh
    for entry in milestone_set.cameras[::7]:
        mask = np.asarray(Image.open(milestone_set.masks / entry["photo"].replace(".jpg", ".png"))) > 0
        px, _ = project(
            camera_of(entry),
            np.array(entry["rotation"]),
            np.array(entry["center"]),
            mesh.points[mesh.points[:, 2] > 0.02],
        )
        ij = np.round(px).astype(int)
        assert mask[ij[:, 1], ij[:, 0]].mean() > 0.96
        top, bottom = np.flatnonzero(mask.any(1))[[0, -1]]
        assert abs(top - px[:, 1].min()) < 2
        assert bottom >= px[:, 1].max() - 2


def test_visibility_counts_photos(milestone_set: RigSet) -> None:
    count = np.load(milestone_set.folder / "truth" / "visibility.npz")["count"]
    assert count.max() <= 24
    z = milestone_set.mesh.points[:, 2]
    assert np.median(count[z > 0.3]) >= 5
    assert (count[z < -0.03] == 0).mean() > 0.9


def test_exif_tells_the_focal_length_nearly(milestone_set: RigSet) -> None:
    facts = read_facts(milestone_set.photos / "milestone_001.jpg")
    assert facts.focal_source == "35 mm equivalent"
    assert facts.focal == pytest.approx(camera_of(milestone_set.cameras[0]).fx, rel=0.03)


def test_defects_can_be_switched_off() -> None:
    assert rig_camera(ShootSettings(off=frozenset({"distortion"}))) == Camera.simple(
        1200, 900, rig_camera(ShootSettings()).fx
    )
    flat = np.full((40, 60, 3), 0.4, np.float32)
    cam = Camera.simple(60, 40, 50.0)
    clean = develop(flat, Shot(cam, np.eye(3), np.zeros(3)))
    assert np.ptp(clean) == 0
    assert clean[0, 0, 0] == to_srgb8(np.array([0.4]))[0]
    noisy = develop(flat, Shot(cam, np.eye(3), np.zeros(3), full_well=2000, read_noise=5))
    # shot noise: standard deviation of the linear signal is sqrt(800) of 2000 electrons
    assert 1.0 < noisy.std() < 8.0
    dark = develop(flat, Shot(cam, np.eye(3), np.zeros(3), vignetting=0.8))
    assert dark[0, 0, 0] < dark[20, 30, 0]


def test_srgb_of_middle_grey() -> None:
    """IEC 61966-2-1: linear 0.2140 is sRGB 0.5."""
    assert to_srgb8(np.array([0.2140]))[0] == pytest.approx(127.5, abs=1)


def test_noise_is_smooth_and_the_same_every_time(rng: np.random.Generator) -> None:
    p = rng.uniform(-3, 3, (500, 3))
    a = fbm_many(p, 1.0, 3, 0.5, 7)
    np.testing.assert_array_equal(a, fbm_many(p, 1.0, 3, 0.5, 7))
    assert np.abs(a - fbm_many(p + 1e-5, 1.0, 3, 0.5, 7)).max() < 1e-3
    assert np.abs(a - fbm_many(p, 1.0, 3, 0.5, 8)).max() > 0.1


def test_hemisphere_is_cosine_weighted() -> None:
    d = hemisphere(4000, 0)
    np.testing.assert_allclose(np.linalg.norm(d, axis=1), 1, atol=1e-12)
    assert d[:, 2].mean() == pytest.approx(2 / 3, abs=0.01)  # mean of cos under a cosine weight


def test_heldout_views_are_free_of_noise_and_distortion(milestone_set: RigSet) -> None:
    import json

    views = json.loads((milestone_set.folder / "truth" / "heldout.json").read_text())["cameras"]
    assert len(views) == 2
    assert all(c["k1"] == 0 for c in views)
    picture = cv2.imread(str(milestone_set.folder / "truth" / "heldout" / views[0]["photo"]))
    assert picture.shape == (360, 480, 3)
    scene = RayScene()
    scene.add(milestone_set.mesh.points, milestone_set.mesh.faces)
    mask = cv2.imread(str(milestone_set.folder / "truth" / "heldout" / views[0]["mask"]), 0)
    assert 0.02 < (mask > 0).mean() < 0.6


def test_a_key_light_stays_in_the_room_while_the_subject_turns() -> None:
    scene = finial(cell=0.012, fine=False)
    rays = ray_scene(scene)
    bake_light(scene, rays, 8)
    lit, even = Studio(scene, rays, 0.001, key=True), Studio(scene, rays, 0.001)
    lens = Camera.simple(120, 90, 160.0)
    sides = []
    for azimuth in (0.0, 1.3, 4.0):
        center = np.array([0.9 * np.cos(azimuth), 0.9 * np.sin(azimuth), 0.2])
        shot = Shot(lens, look_at(center, [0, 0, 0.18]), center, focus=0.9)
        bright, cover = lit.radiance(shot)
        plain, _ = even.radiance(shot)
        share = np.where(cover > 0.9, bright.mean(2) / plain.mean(2), np.nan)
        assert np.nanmin(share) == pytest.approx(FILL_LIGHT, abs=0.02)
        assert np.nanmax(share) < 2 - FILL_LIGHT + 1e-3
        sides.append([np.nanmean(share[:, :60]), np.nanmean(share[:, 60:])])
    # from each side the same half of the picture is the bright one: it stands beside the camera, to the right
    for left, right in sides:
        assert right > 1.2 * left
    np.testing.assert_allclose(sides[1], sides[0], rtol=0.08)


def test_light_and_gloss_are_what_plain_numpy_says() -> None:
    scene = finial(cell=0.012, fine=False)
    rays = ray_scene(scene)
    bake_light(scene, rays, 8)
    lens, center = Camera.simple(160, 120, 200.0), np.array([0.5, -0.6, 0.3])
    shot = Shot(lens, look_at(center, [0, 0, 0.18]), center, focus=0.8)
    studio = Studio(scene, rays, 0.001, gloss=1.0, key=True)
    seen, cover = studio.radiance(shot)
    even, _ = Studio(scene, rays, 0.001).radiance(shot)
    line = pixel_rays(lens, shot.rotation, center)
    hit = rays.cast(line)
    mine = (cover.ravel() > 0.99) & (hit["mesh"] == 0)
    body, uv = scene.subject, hit["uv"][mine]
    corner = body.faces[hit["face"][mine].astype(int)]
    n = vertex_normals(body.vertices, body.faces)[corner]
    n = n[:, 0] * (1 - uv.sum(1))[:, None] + n[:, 1] * uv[:, :1] + n[:, 2] * uv[:, 1:]
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    direction = line[mine, 3:] / np.linalg.norm(line[mine, 3:], axis=1, keepdims=True)
    told = studio.lit(even.reshape(-1, 3)[mine].astype(float), n, direction, center)
    # four rays a pixel against one in its middle
    off = np.abs(told - seen.reshape(-1, 3)[mine]).max(1)
    assert np.median(off) < 0.003
    assert np.percentile(off, 90) < 0.03
    assert np.median(np.abs(told - even.reshape(-1, 3)[mine])) > 0.02


@pytest.mark.parametrize(
    ("material", "at", "least", "most"),
    [
        (paint.PAINTED, (0.05, 0.05, 0.2), 0.02, 0.06),
        (paint.BARE, (0.05, 0.05, 0.2), 0.0, 1e-9),
        (paint.CHEST, (-0.1, 0.1, 0.08), 0.01, 0.04),
        (paint.CHEST, (0.18, 0.05, 0.1), 0.08, 0.6),
        (paint.SANDSTONE, (0.05, 0.05, 0.2), 0.08, 0.6),
    ],
)
def test_plain_paint_has_as_little_contrast_as_is_said(
    rng: np.random.Generator, material: int, at: tuple[float, float, float], least: float, most: float
) -> None:
    """Standard deviation over mean, within some centimetres."""
    places = np.array(at) + rng.uniform(-0.04, 0.04, (1500, 3))
    seen = np.array([paint.albedo(material, *p, 0.0008, 11)[0] for p in places])
    assert least <= seen.std() / seen.mean() <= most


def test_rods_of_the_rack_are_as_thick_as_they_are_said_to_be() -> None:
    scene = RayScene()
    body = rack(cell=0.004).subject
    scene.add(body.vertices, body.faces)
    for (x, y), radius, height in RODS:
        along = np.linspace(-2 * radius, 2 * radius, 401)
        rays = np.zeros((401, 6), np.float32)
        # from so near that no other rod stands between
        rays[:, 0], rays[:, 1], rays[:, 2], rays[:, 4] = x + along, y - 0.02, 0.03 + 0.7 * height, 1.0
        hit = np.asarray(scene.cast(rays)["t"]).ravel() < 0.03
        assert abs(hit.mean() * 4 * radius - 2 * radius) < 0.1 * radius


def test_the_hound_is_one_body_on_four_legs_and_the_chest_stands_beside_the_jar() -> None:
    body = hound(cell=0.005).subject
    assert components(body.faces).max() == 0
    feet = body.vertices[np.abs(body.vertices[:, 2] - 0.02) < 0.004]
    corners = {(bool(x > 0), bool(y > 0)) for x, y, _ in feet}
    assert len(corners) == 4
    two = chest(cell=0.006).subject
    label = components(two.faces)
    assert label.max() == 1
    gap = [two.vertices[two.faces[label == k]].reshape(-1, 3) for k in (0, 1)]
    low, high = sorted(gap, key=lambda p: p[:, 0].mean())
    assert high[:, 0].min() - low[:, 0].max() > 0.08
