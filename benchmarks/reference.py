"""Depth of ours against semi-global matching, on the same photos in the same run, fused in the same way.

For every photo the reference matches its two nearest neighbours that lie beside it, rectified (OpenCV's SGBM, 8 paths, 5 x 5, left and
right checked), and takes their mean where they agree; agreement of photos, fusing and strays are those of the product. Both clouds
are laid over the truth by their cameras.

    python -m benchmarks.reference SET OUT [--grade dressed]

SET is a set of the rig with its truth, OUT the folder of a finished ``vast-quarry build`` or ``align`` of it; two versions of Points are
added there.

Hirschmueller, H. (2008). Stereo processing by semiglobal matching and mutual information. IEEE TPAMI 30(2).
"""

from __future__ import annotations

import argparse
import json
import time
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from benchmarks.truth import alignment
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.dense.patchmatch import DepthMap
from vast_quarry.core.dense.views import box_bounds
from vast_quarry.core.formats.atomic import is_whole
from vast_quarry.core.formats.ply import read_ply
from vast_quarry.core.raycast import RayScene
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import read_recipe, recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps import points as step
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.store import Store, Version
from vast_quarry.pipeline.units import depth as units

Floats = NDArray[np.float32]
#: both neighbours of a photo say the same when their depths differ by no more than this share
ALIKE = 0.01


def matched(view: Any, other: Any, near: float, far: float) -> Floats:
    """Depth (H, W) of a view from one neighbour, 0 where there is none."""
    h, w = view.gray.shape
    K = [np.array([[v.camera.fx, 0, v.camera.cx], [0, v.camera.fy, v.camera.cy], [0, 0, 1]]) for v in (view, other)]
    R = other.rotation @ view.rotation.T
    t = other.rotation @ (view.center - other.center)
    none = np.zeros((5, 1))
    R1, R2, P1, P2, *_ = cv2.stereoRectify(K[0], none, K[1], none, (w, h), R, t.reshape(3, 1), flags=0, alpha=-1)
    maps = [
        cv2.initUndistortRectifyMap(k, none, r, p, (w, h), cv2.CV_32FC1) for k, r, p in ((K[0], R1, P1), (K[1], R2, P2))
    ]
    left, right = (cv2.remap(v.gray, *m, cv2.INTER_CUBIC) for v, m in zip((view, other), maps))
    apart = P1[0, 2] - P2[0, 2]
    reach = sorted(apart - P2[0, 3] / np.array([near, far]))
    low = int(np.floor(reach[0])) - 2
    count = 16 * int(np.ceil((reach[1] + 2 - low) / 16))
    finder = cv2.StereoSGBM_create(
        minDisparity=low, numDisparities=count, blockSize=5, P1=8 * 25, P2=32 * 25, disp12MaxDiff=1, uniquenessRatio=10,
        speckleWindowSize=60, speckleRange=2, mode=cv2.STEREO_SGBM_MODE_HH,
    )  # fmt: skip
    d = finder.compute(left, right).astype(np.float32) / 16
    d[d < low] = np.nan
    # each pixel of the view lies on the same ray in its rectified form
    u, v = np.meshgrid(np.arange(w, dtype=float), np.arange(h, dtype=float))
    rays = np.stack([(u - K[0][0, 2]) / K[0][0, 0], (v - K[0][1, 2]) / K[0][1, 1], np.ones((h, w))], -1)
    turned = rays @ R1.T
    x = P1[0, 0] * turned[..., 0] / turned[..., 2] + P1[0, 2]
    y = P1[1, 1] * turned[..., 1] / turned[..., 2] + P1[1, 2]
    there = cv2.remap(d, x.astype(np.float32), y.astype(np.float32), cv2.INTER_NEAREST, borderValue=float("nan"))
    z = -P2[0, 3] / (there - apart) / turned[..., 2]
    return np.where(np.isfinite(z) & (z > near) & (z < far), z, 0).astype(np.float32)


def slopes(depth: Floats, view: Any) -> Floats:
    """Normals (H, W, 3) in the world from a depth map: over a plane its inverse changes evenly."""
    known = (depth > 0).astype(np.float32)
    weight = np.maximum(cv2.GaussianBlur(known, (0, 0), 1.5), 1e-6)
    w = cv2.GaussianBlur(known / np.maximum(depth, 1e-9), (0, 0), 1.5) / weight
    down, right = np.gradient(w)
    c = view.camera
    u, v = np.meshgrid(np.arange(c.width) - c.cx, np.arange(c.height) - c.cy)
    n = np.stack([-c.fx * right, -c.fy * down, u * right + v * down - w], -1)
    n /= np.maximum(np.linalg.norm(n, axis=-1, keepdims=True), 1e-12)
    return (n @ view.rotation).astype(np.float32)


def semi_global(
    cameras: str, folder: str, row: int, sources: list[int], scales: dict[int, float], keep: int, sweeps: list[int]
) -> None:
    """The reference's depth map of one photo, in place of :func:`.units.depth.depth_of_photo`."""
    target = Path(folder) / "depth" / f"{row:05d}.npz"
    if is_whole(target):
        return
    solution = load_solution(Path(cameras))
    view = units._view(Path(folder), solution, row, scales[row])
    near, far, hit = box_bounds(
        solution.box, view.camera, view.rotation, view.center, 0.01 * float(solution.box.size.max())
    )
    beside = []
    for s in sources:
        off = solution.rotations[row] @ (solution.centers[s] - solution.centers[row])
        if abs(off[0]) > 1.5 * abs(off[1]):
            beside.append((float(np.linalg.norm(off)), s))
    found = [
        matched(view, units._view(Path(folder), solution, s, scales[s]), float(near[hit].min()), float(far[hit].max()))
        for _, s in sorted(beside)[:2]
    ]
    depth = np.zeros(view.gray.shape, np.float32)
    if len(found) == 2:
        a, b = found
        alike = (a > 0) & (b > 0) & (np.abs(a - b) < ALIKE * a)
        depth = np.where(alike, (a + b) / 2, np.where(b > 0, np.where(a > 0, 0, b), a)).astype(np.float32)
    elif found:
        depth = found[0]
    depth[~hit] = 0
    units._save_depth(target, DepthMap(depth, slopes(depth, view), np.where(depth > 0, 0.3, 2).astype(np.float32)))


def figures(folder: Path, out: Path, cloud: Cloud) -> str:
    """How far a cloud lies from the true surface, and how much of it that three photos see it covers, in GSD of the photos."""
    s = alignment(folder, out).similarity
    assert s is not None
    info = json.loads((folder / "truth" / "info.json").read_text())
    true = read_ply(folder / "truth" / "mesh.ply")
    p, n = s.points(cloud.points), cloud.normals @ s.rotation.T
    low, high = np.array(info["bbox_min"]), np.array(info["bbox_max"])
    grow = 0.05 * float((high - low).max())
    body = ((p > low - grow) & (p < high + grow)).all(1) & (p[:, 2] > info["z_cut"])
    p, n = p[body], n[body]
    scene = RayScene()
    scene.add(true.points, true.faces)
    some = p[np.random.default_rng(0).permutation(len(p))[:200_000]]
    off = scene.distance(some) / info["gsd"]
    seen = np.load(folder / "truth" / "visibility.npz")["count"] >= 3
    v = true.points[seen & (true.points[:, 2] > info["z_cut"])]
    near, which = cKDTree(p).query(v)
    near /= info["gsd"]
    cover = " / ".join(f"{100 * np.mean(near < r):.1f}" for r in (1, 2, 4))
    # points lie one or two GSD apart: how near the surface is that they stand for, their planes say
    aside = np.abs(((v - p[which]) * n[which]).sum(1)) / info["gsd"]
    planes = " / ".join(f"{100 * np.mean((near < 4) & (aside < r)):.1f}" for r in (0.1, 0.2, 0.4))
    return (
        f"{len(p):8d} points, off by {np.median(off):.3f} (median) {np.quantile(off, 0.9):.2f} (90 %), over 8: {100 * np.mean(off > 8):.2f} %; "
        f"covered within 1 / 2 / 4: {cover} %, by planes within 0.1 / 0.2 / 0.4: {planes} %"
    )


def main() -> None:
    """Run both, print both."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("set", type=Path)
    parser.add_argument("out", type=Path)
    parser.add_argument("--grade", default="dressed")
    args = parser.parse_args()
    store = Store(args.out)
    photos = args.set / "photos"

    class Said:
        def begin(self, *_: object) -> None: ...
        def stage(self, *_: object) -> None: ...
        def end(self, *_: object) -> None: ...
        def say(self, *_: object) -> None: ...

    def points(mark: float) -> Version:
        """Points by the grade; the mark only makes it a version of its own."""
        made_with = read_recipe(args.out / "recipe.json")
        recipe = recipe_for(Grade(args.grade), {"cameras": made_with.layers["cameras"]})
        recipe.layers["points"]["largest_side"] = 1600 + int(mark)
        where = {"photos": {"folder": str(photos)}, "masks": {"folder": None}}
        return Runner(store, Said()).run(recipe, where, until="points").versions["points"]

    for name, unit, mark in (("ours", units.depth_of_photo, 1), ("semi-global", semi_global, 2)):
        step.units.depth_of_photo = unit
        began = time.perf_counter()
        version = points(mark)
        maps = version.stages.get("Depth maps", float("nan"))
        print(f"{name:12s} {figures(args.set, args.out, load_cloud(store.folder(version)))}")
        print(
            f"{'':12s} {maps / version.figures['depth_maps']:.2f} s a photo for depth, {time.perf_counter() - began:.0f} s in all"
        )


if __name__ == "__main__":
    main()
