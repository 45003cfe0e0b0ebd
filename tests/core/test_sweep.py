"""The plane sweep: against plain numpy, on a slanted plane whose middle is bare, and through a step."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense import sweep_kernels as kernels
from vast_quarry.core.dense.sources import Sources, View
from vast_quarry.core.dense.sweep import SweepSettings, sweep_depth, swept_depths
from vast_quarry.core.pose import look_at

WIDE, HIGH, FOCAL = 160, 120, 180.0


def texture(rng: np.random.Generator) -> NDArray:
    fine = cv2.GaussianBlur(rng.normal(0, 1, (1200, 1600)).astype(np.float32), (0, 0), 5.0)
    return np.clip(128 + 55 * fine / fine.std(), 0, 255)


def drawn(picture: NDArray, center: NDArray, bare: float, rng: np.random.Generator) -> View:
    """A camera that sees the plane z = 0.3 x, painted, with a bare square in the middle (half side ``bare``)."""
    camera = Camera.simple(WIDE, HIGH, FOCAL)
    rotation = look_at(center, [0, 0, 0], up=(0, 1, 0))
    v, u = np.meshgrid(np.arange(HIGH), np.arange(WIDE), indexing="ij")
    rays = np.stack([(u - camera.cx) / camera.fx, (v - camera.cy) / camera.fy, np.ones(u.shape)], -1) @ rotation
    normal = np.array([-0.3, 0.0, 1.0])
    t = -(normal @ center) / (rays @ normal)
    at = center + t[..., None] * rays
    gray = cv2.remap(picture.astype(np.float32), (800 + 500 * at[..., 0]).astype(np.float32), (600 + 500 * at[..., 1]).astype(np.float32), cv2.INTER_LINEAR)  # fmt: skip
    gray = np.where(np.abs(at[..., :2]).max(-1) < bare, 120.0, gray) + rng.normal(0, 1.0, gray.shape)
    return View(np.clip(np.round(gray), 0, 255).astype(np.uint8), camera, rotation, center)


def views(rng: np.random.Generator, bare: float) -> list[View]:
    picture = texture(rng)
    return [
        drawn(picture, np.array([x, y, 2.0]), bare, rng)
        for x, y in ((0, 0), (0.25, 0), (-0.25, 0), (0, 0.25), (0, -0.25))
    ]


def true_depth(view: View) -> NDArray:
    v, u = np.meshgrid(np.arange(HIGH), np.arange(WIDE), indexing="ij")
    c = view.camera
    rays = np.stack([(u - c.cx) / c.fx, (v - c.cy) / c.fy, np.ones(u.shape)], -1) @ view.rotation
    return -(np.array([-0.3, 0, 1.0]) @ view.center) / (rays @ np.array([-0.3, 0, 1.0]))


def test_a_bare_square_takes_its_depth_from_about_it(rng: np.random.Generator) -> None:
    ref, *others = views(rng, 0.22)
    found = sweep_depth(ref, others, 1.2, 3.5, np.ones((HIGH, WIDE), bool))
    truth = true_depth(ref)
    off = np.abs(found.depth - truth) / truth
    known = found.depth > 0
    assert known.mean() > 0.97
    assert np.median(off[known]) < 0.004
    bare = np.zeros((HIGH, WIDE), bool)
    bare[50:70, 70:90] = True
    # windows there hold noise alone: their cost says so
    assert np.median(found.cost[bare]) > 0.6
    assert np.median(off[bare]) < 0.02
    assert (off[bare] < 0.04).mean() > 0.95
    normal = np.array([-0.3, 0, 1.0]) / np.hypot(0.3, 1)
    inner = found.normal[20:-20, 20:-20].reshape(-1, 3)
    assert np.degrees(np.arccos(np.median(inner @ normal))) < 12


def test_the_kernel_agrees_with_numpy(rng: np.random.Generator) -> None:
    ref, *others = views(rng, 0.1)
    depths = np.array([1 / 2.4, 1 / 2.0, 1 / 1.7], np.float32)
    noise = np.float32(4.0)
    src = Sources(ref, others)
    gray = ref.gray.astype(np.float32) - 128
    cost = np.empty((HIGH, WIDE, 3), np.uint8)
    kernels.volume(
        gray, *kernels.moments(gray, noise), src.tex, src.bases, src.sw, src.sh, src.A, src.b, depths, noise, cost
    )

    v, u = np.meshgrid(np.arange(HIGH), np.arange(WIDE), indexing="ij")
    p = np.stack([u, v, np.ones(u.shape)], -1).astype(float)

    def mean(a: NDArray) -> NDArray:
        count = cv2.boxFilter(np.ones_like(a), -1, (7, 7), normalize=False, borderType=cv2.BORDER_CONSTANT)
        return cv2.boxFilter(a, -1, (7, 7), normalize=False, borderType=cv2.BORDER_CONSTANT) / count

    for d, w in enumerate(depths):
        each = []
        for s, view in enumerate(others):
            q = p @ src.A[s].reshape(3, 3).T.astype(float) + w * src.b[s]
            x, y = q[..., 0] / q[..., 2], q[..., 1] / q[..., 2]
            inside = (x >= 0) & (y >= 0) & (x <= WIDE - 1.001) & (y <= HIGH - 1.001)
            i, j = np.clip(x, 0, WIDE - 1.001).astype(int), np.clip(y, 0, HIGH - 1.001).astype(int)
            a, b = np.clip(x, 0, WIDE - 1.001) - i, np.clip(y, 0, HIGH - 1.001) - j
            g = view.gray.astype(float) - 128
            warped = (g[j, i] * (1 - a) + g[j, i + 1] * a) * (1 - b) + (g[j + 1, i] * (1 - a) + g[j + 1, i + 1] * a) * b
            one, two = mean(gray.astype(float)), mean(warped)
            spread = (mean(gray.astype(float) ** 2) - one**2 + 4) * (mean(warped**2) - two**2 + 4)
            c = 1 - (mean(gray * warped) - one * two) / np.sqrt(spread)
            each.append(np.where(inside, c, np.nan))
        ranked = np.sort(np.array(each), axis=0)
        known = np.isfinite(ranked).sum(0)
        half = np.maximum((known + 1) // 2, 1)
        rank = np.arange(len(others))[:, None, None] < half
        with np.errstate(invalid="ignore"):
            plain = np.where(known > 0, np.where(rank, np.nan_to_num(ranked), 0).sum(0) / half, 1.0)
        apart = np.abs(cost[..., d].astype(float) - np.floor(np.clip(plain, 0, 2) * 127))
        assert np.quantile(apart, 0.99) <= 1
        assert (apart <= 2).mean() > 0.995


def test_costs_go_along_paths_as_the_formula_has_it(rng: np.random.Generator) -> None:
    """One line of pixels: two paths count, the other six are what the cost itself is (Hirschmueller 2008, formula 13)."""
    cost = rng.integers(0, 255, (1, 9, 7)).astype(np.uint8)
    gray = np.full((1, 9), 100, np.uint8)
    small, large = 10.0, 40.0
    total = np.zeros(cost.shape, np.float32)
    kernels.carried(cost, gray, np.float32(small), np.float32(large), np.float32(12.0), total)
    c = cost[0].astype(float)

    def path(order: range) -> NDArray:
        out = np.zeros_like(c)
        before = None
        for x in order:
            if before is None:
                out[x] = c[x]
            else:
                least = before.min()
                wider = np.pad(before, 1, constant_values=np.inf)
                out[x] = (
                    c[x] + np.min([before, wider[:-2] + small, wider[2:] + small, np.full(7, least + large)], 0) - least
                )
            before = out[x]
        return out

    expected = path(range(9)) + path(range(8, -1, -1)) + 6 * c
    assert np.allclose(total[0], expected, atol=1e-2)


def test_depths_are_a_step_apart_in_other_photos(rng: np.random.Generator) -> None:
    ref, *others = views(rng, 0.1)
    w = swept_depths(ref, others, 1.2, 3.5, SweepSettings(step=1.0, least=4, most=500))
    # 0.25 aside at a focal length of 180 pixels: 45 pixels for each unit of inverse depth
    assert np.diff(w)[0] * 45 < 1.05
    assert np.diff(w)[0] * 45 > 0.7
