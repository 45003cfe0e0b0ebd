"""PatchMatch and fusion against plain numpy and against the rig's truth."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from tests.conftest import RigSet, camera_of

from vast_quarry.core.box import KeepBox
from vast_quarry.core.camera import Camera, undistort_maps
from vast_quarry.core.dense import patchmatch_kernels as kernels
from vast_quarry.core.dense import polish as polishing
from vast_quarry.core.dense import views, window_kernels
from vast_quarry.core.dense.fusion import accept, give
from vast_quarry.core.dense.patchmatch import DepthMap, PatchMatchSettings, estimate_depth, plane_normals
from vast_quarry.core.dense.sources import Sources, View, disparity_step
from vast_quarry.core.photo.reading import load_rgb
from vast_quarry.core.pose import look_at
from vast_quarry.core.raycast import RayScene


def bilinear(image: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    i, j = x.astype(int), y.astype(int)
    fx, fy = x - i, y - j
    top = image[j, i] * (1 - fx) + image[j, i + 1] * fx
    return top * (1 - fy) + (image[j + 1, i] * (1 - fx) + image[j + 1, i + 1] * fx) * fy


def plain_weights(o: np.ndarray, values: np.ndarray, middle: float, sigma: float) -> np.ndarray:
    """What samples (32,) at offsets (32, 2) count in a window."""
    w = 1 / ((1 + 0.02 * (o**2).sum(1)) * (1 + (values - middle) ** 2 / sigma**2) ** 2)
    return w / w.sum()


def plain_cost(ref: View, src: View, i: int, j: int, plane: np.ndarray, sigma: float, smallest_var: float) -> float:
    """The cost in a few lines of numpy, with the exact homography instead of its derivative."""
    o = window_kernels.OFFSETS.astype(float)
    r = ref.gray[j + o[:, 1].astype(int), i + o[:, 0].astype(int)].astype(float)
    w = plain_weights(o, r, float(ref.gray[j, i]), sigma)
    inverse_depth = plane[0] + o @ plane[1:]
    rays = np.stack(
        [(i + o[:, 0] - ref.camera.cx) / ref.camera.fx, (j + o[:, 1] - ref.camera.cy) / ref.camera.fy, np.ones(32)], 1
    )
    x = (rays / inverse_depth[:, None]) @ ref.rotation + ref.center
    y = (x - src.center) @ src.rotation.T
    s = bilinear(
        src.gray.astype(float),
        y[:, 0] / y[:, 2] * src.camera.fx + src.camera.cx,
        y[:, 1] / y[:, 2] * src.camera.fy + src.camera.cy,
    )
    r, s = r - w @ r, s - w @ s
    return float(1 - (w @ (r * s)) / np.sqrt(max(w @ (r * r), smallest_var) * (w @ (s * s))))


def textured_plane_views(rng: np.random.Generator) -> tuple[list[View], np.ndarray]:
    """Three cameras before a slanted textured plane; and the true depth in the first."""
    cam = Camera.simple(160, 120, 170.0)
    texture = cv2.GaussianBlur(rng.random((600, 600)).astype(np.float32), (0, 0), 2.0)
    texture = ((texture - texture.min()) / np.ptp(texture) * 255).astype(np.float32)
    normal = np.array([0.25, 0.1, -1.0])
    normal /= np.linalg.norm(normal)
    views, first = [], None
    for c in ([0, 0, 0], [0.25, 0, 0], [-0.1, 0.2, 0]):
        center = np.array(c, float)
        rotation = look_at(center, [0, 0, 2.0], up=(0, -1, 0))
        u, v = np.meshgrid(np.arange(160), np.arange(120))
        d = np.stack([(u - cam.cx) / cam.fx, (v - cam.cy) / cam.fy, np.ones(u.shape)], -1) @ rotation
        t = (normal @ (np.array([0, 0, 2.0]) - center)) / (d @ normal)
        p = center + d * t[..., None]
        gray = cv2.remap(
            texture,
            (p[..., 0] * 150 + 300).astype(np.float32),
            (p[..., 1] * 150 + 300).astype(np.float32),
            cv2.INTER_LINEAR,
        )
        views.append(View(gray.astype(np.uint8), cam, rotation, center))
        first = t if first is None else first
    assert first is not None
    return views, first


def test_kernel_cost_equals_plain_numpy(rng: np.random.Generator) -> None:
    (ref, src, _), depth = textured_plane_views(rng)
    h, w = ref.gray.shape
    plane = np.zeros((h, w, 3), np.float32)
    plane[..., 0] = 1 / depth + rng.normal(0, 0.004, depth.shape)
    plane[..., 1:] = rng.normal(0, 2e-4, (h, w, 2))
    s = Sources(ref, [src])
    cost, chosen = np.zeros((h, w), np.float32), np.zeros((h, w, 1), np.int8)
    kernels.score(
        ref.gray,
        np.ones((h, w), bool),
        plane,
        cost,
        chosen,
        s.tex,
        s.bases,
        s.sw,
        s.sh,
        s.A,
        s.b,
        1,
        1,
        14.0,
        np.float32(0.02),
        3.0,
        False,
    )
    for i, j in rng.integers([40, 30], [120, 90], (40, 2)):
        if cost[j, i] < 1.4:
            assert cost[j, i] == pytest.approx(
                plain_cost(ref, src, i, j, plane[j, i].astype(float), 14.0, 3.0), abs=0.02
            )


def seen_through(ref: View, src: View, i: int, j: int, plane: np.ndarray) -> np.ndarray:
    """What a source shows at the samples of a window under a plane, with the exact homography."""
    o = window_kernels.OFFSETS.astype(float)
    u, v = i + o[:, 0], j + o[:, 1]
    rays = np.stack([(u - ref.camera.cx) / ref.camera.fx, (v - ref.camera.cy) / ref.camera.fy, np.ones(32)], 1)
    y = ((rays / (plane[0] + o @ plane[1:])[:, None]) @ ref.rotation + ref.center - src.center) @ src.rotation.T
    x = y[:, :2] / y[:, 2:] * [src.camera.fx, src.camera.fy] + [src.camera.cx, src.camera.cy]
    return bilinear(src.gray.astype(float), x[:, 0], x[:, 1])


def scratch() -> list[np.ndarray]:
    return [np.zeros(32, np.int32), *(np.zeros(32, np.float32) for _ in range(4))]


def test_normal_equations_of_a_plane_equal_those_of_plain_numpy(rng: np.random.Generator) -> None:
    """Derivatives by differences of what the source shows; mean and gain taken out by projection."""
    (ref, src, _), depth = textured_plane_views(rng)
    s = Sources(ref, [src])
    o = window_kernels.OFFSETS
    for i, j in rng.integers([40, 30], [120, 90], (20, 2)):
        plane = np.array([1 / depth[j, i] + 0.002, 4e-4, -3e-4])
        r = ref.gray[j + o[:, 1].astype(int), i + o[:, 0].astype(int)].astype(float)
        w = plain_weights(o, r, float(ref.gray[j, i]), 14.0)
        r = r - w @ r
        told = np.zeros(9, np.float32)
        window_kernels._told(
            s.tex, s.bases[0], s.sw[0], s.sh[0], s.A, s.b, 0, np.float32(i), np.float32(j), *plane.astype(np.float32),
            r.astype(np.float32), w.astype(np.float32), o[:, 0].copy(), o[:, 1].copy(), *scratch(), told,
        )  # fmt: skip
        seen = seen_through(ref, src, i, j, plane)
        step = np.array([2e-4, 4e-5, 4e-5])
        slope = [
            (seen_through(ref, src, i, j, plane + d) - seen_through(ref, src, i, j, plane - d)) / (2 * d.sum())
            for d in np.diag(step)
        ]
        free = np.stack([np.ones(32), seen], 1) * np.sqrt(w)[:, None]
        q, _ = np.linalg.qr(free)
        seen_less = seen - w @ seen
        gain = (w @ (seen_less * r)) / (w @ seen_less**2)
        jac = np.stack(slope, 1) * np.sqrt(w)[:, None]
        jac = gain * (jac - q @ (q.T @ jac))
        normal = jac.T @ jac
        expected = np.concatenate([normal[np.triu_indices(3)], jac.T @ (np.sqrt(w) * (r - gain * seen_less))])
        scale = np.sqrt(np.diag(normal))
        size = np.concatenate([np.outer(scale, scale)[np.triu_indices(3)], scale * np.sqrt(w @ r**2)])
        np.testing.assert_allclose(told / size, expected / size, atol=0.08)


def test_a_plane_a_third_of_a_pixel_off_is_put_right_by_larger_photos(
    rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The least squares of one window find what random changes would take many tries for; in bands, each with the part of the other
    photos that it needs, they find the same."""
    (ref, *sources), depth = textured_plane_views(rng)
    h, w = depth.shape
    step = float(disparity_step(ref, sources, 1.0))
    off = step / 3
    plane = np.zeros((h // 2, w // 2, 3), np.float32)
    inverse = cv2.resize((1 / depth).astype(np.float32), (w // 2, h // 2), interpolation=cv2.INTER_AREA)
    plane[..., 0] = inverse + off
    plane[..., 1:] = np.stack([np.gradient(inverse, axis=1), np.gradient(inverse, axis=0)], -1)
    chosen = np.broadcast_to(np.arange(2, dtype=np.int8), (h // 2, w // 2, 2)).copy()
    active = np.zeros(inverse.shape, bool)
    active[15:45, 20:60] = True

    def moved() -> np.ndarray:
        out = plane.copy()
        polishing.polish(out, chosen, active, lambda: (ref, iter(sources)), 2 * step, 14.0, 3.0)
        return out

    whole = moved()
    left = np.abs(whole[..., 0] - inverse)
    assert np.median(left[active]) < 0.1 * off
    np.testing.assert_allclose(left[~active], off, rtol=1e-3)

    monkeypatch.setattr(polishing, "LINES", 10)
    monkeypatch.setattr(polishing, "PIXELS", h * w // 2)
    monkeypatch.setattr(polishing, "MARGIN", 16)
    read = []
    packed = polishing.Sources.__init__

    def noted(self: Sources, *args: object) -> None:
        packed(self, *args)  # type: ignore[arg-type]
        read.append(len(self.tex))

    monkeypatch.setattr(polishing.Sources, "__init__", noted)
    bands = moved()
    assert len(read) == 3
    assert max(read) < 0.5 * 2 * h * w
    assert np.median(np.abs(bands - whole)[active][:, 0]) < 1e-3 * off


def test_slanted_plane_is_found(rng: np.random.Generator) -> None:
    views, depth = textured_plane_views(rng)
    shape = depth.shape
    near, far = np.full(shape, 1.0, np.float32), np.full(shape, 4.0, np.float32)
    active = np.ones(shape, bool)
    active[:20] = False
    d = estimate_depth(views[0], views[1:], near, far, active, PatchMatchSettings(keep=1))
    inner = np.zeros(shape, bool)
    inner[30:90, 40:120] = True
    error = np.abs(d.depth - depth)[inner] / depth[inner]
    assert np.median(error) < 0.002
    assert (d.depth[:20] == 0).all()
    n = d.normal[inner].mean(0)
    assert n @ np.array([0.25, 0.1, -1.0]) / np.linalg.norm([0.25, 0.1, -1.0]) > 0.97


def test_plane_normals_of_a_frontal_plane() -> None:
    cam = Camera.simple(20, 10, 30.0)
    plane = np.zeros((10, 20, 3), np.float32)
    plane[..., 0] = 0.5
    n = plane_normals(plane, cam, np.eye(3))
    np.testing.assert_allclose(n, np.broadcast_to([0, 0, -1.0], n.shape), atol=1e-6)


def test_no_source_is_an_error(rng: np.random.Generator) -> None:
    (ref, *_), depth = textured_plane_views(rng)
    one = np.ones(depth.shape, np.float32)
    with pytest.raises(ValueError, match="at least one source"):
        estimate_depth(ref, [], one, one * 2, one > 0, PatchMatchSettings())


def rig_views(rig: RigSet, numbers: list[int]) -> list[View]:
    out = []
    for n in numbers:
        e = rig.cameras[n]
        cam = camera_of(e)
        gray = cv2.cvtColor(load_rgb(rig.photos / e["photo"]), cv2.COLOR_RGB2GRAY)
        flat = cv2.remap(gray, *undistort_maps(cam, cam.pinhole()), cv2.INTER_CUBIC)
        out.append(View(flat, cam.pinhole(), np.array(e["rotation"]), np.array(e["center"])))
    return out


def test_depth_and_fusion_on_the_rig(milestone_set: RigSet) -> None:
    """Fused points lie on the true surface: median under 0.6, nine tenths under 2.5 GSD."""
    mesh, info = milestone_set.mesh, milestone_set.info
    scene = RayScene()
    scene.add(mesh.points, mesh.faces)
    views = rig_views(milestone_set, [0, 1, 11, 12, 13])
    middle, size = np.array(info["object_center"]), info["object_size"]
    maps = []
    for k, v in enumerate(views):
        distance = np.linalg.norm(v.center - middle)
        near = np.full(v.gray.shape, distance - 0.6 * size, np.float32)
        far = np.full(v.gray.shape, distance + 0.6 * size, np.float32)
        others = [o for m, o in enumerate(views) if m != k]
        maps.append(estimate_depth(v, others, near, far, near > 0, PatchMatchSettings(keep=2)))
    poses = [(v.camera, v.rotation, v.center) for v in views]
    color = np.repeat(views[0].gray[..., None], 3, 2)
    taken = [accept(m, p, [(maps[k], poses[k]) for k in range(5) if poses[k] is not p]) for m, p in zip(maps, poses)]
    others = [(k, (taken[k].views, taken[k].rank), maps[k].depth, poses[k]) for k in range(1, 5)]
    cloud, agree = give(0, taken[0], maps[0].depth, poses[0], color, others), taken[0].views
    assert agree.shape == views[0].gray.shape
    low, high = np.array(info["bbox_min"]), np.array(info["bbox_max"])
    on = ((cloud.points > low) & (cloud.points < high)).all(1) & (cloud.points[:, 2] > info["z_cut"])
    assert on.sum() > 300
    error = scene.distance(cloud.points[on]) / info["gsd"]
    assert np.median(error) < 0.6
    assert np.percentile(error, 90) < 2.5
    toward = views[0].center - cloud.points
    assert ((toward * cloud.normals).sum(1) > 0).mean() > 0.98


def test_fusion_needs_agreement() -> None:
    cam = Camera.simple(20, 16, 25.0)
    flat = DepthMap(
        np.full((16, 20), 2.0, np.float32), np.tile(np.float32([0, 0, -1]), (16, 20, 1)), np.zeros((16, 20), np.float32)
    )
    off = DepthMap(flat.depth * 1.1, flat.normal, flat.cost)
    color = np.zeros((16, 20, 3), np.uint8)
    pose, aside = (cam, np.eye(3), np.zeros(3)), (cam, np.eye(3), np.array([0.1, 0, 0]))
    first, second = accept(flat, pose, [(flat, aside)], 2), accept(flat, aside, [(flat, pose)], 2)
    assert (first.views == 2).sum() > 100
    assert not accept(flat, pose, [(off, aside)], 2).views.any()
    # the same spots seen from the other photo are not given twice
    one = give(0, first, flat.depth, pose, color, [(1, (second.views, second.rank), flat.depth, aside)])
    two = give(1, second, flat.depth, aside, color, [(0, (first.views, first.rank), flat.depth, pose)])
    assert len(one.points) + len(two.points) < 1.2 * (first.views > 0).sum()


def test_bounds_of_depth_are_the_same_however_many_lines_are_taken_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    box = KeepBox((-0.2, -0.3, -0.1), (0.3, 0.2, 0.4))
    camera, center = Camera.simple(90, 70, 100.0), np.array([0.4, -1.2, 0.3])
    rotation = look_at(center, [0, 0, 0.1], [0, 0, 1])
    whole = views.box_bounds(box, camera, rotation, center, 0.01)
    assert 0.05 < whole[2].mean() < 0.95
    assert (whole[1] > whole[0])[whole[2]].all()
    monkeypatch.setattr(views, "LINES", 9)
    for one, other in zip(whole, views.box_bounds(box, camera, rotation, center, 0.01), strict=True):
        np.testing.assert_array_equal(one, other)
