"""Is a plan kept? Shoots plans with the practice rig, builds them, and compares what was foretold with what was got.

    .venv/bin/python benchmarks/plan_proof.py WORK [--size 800x600] [--grade dressed]

Photos a patch, foretold: lines of sight from the planned stations to patches of the true surface. Measured: photos whose
estimated depth map agrees with the patch's depth within half a percent, met under 60 degrees. GSD, measured: from the
poses and focal length that the alignment found. Precision, measured: 1.4826 times the median distance of the true patches
from the built mesh, along the line to the nearest place.
"""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np

from vast_quarry.cli.rig import parse_size
from vast_quarry.core.formats.ply import read_ply
from vast_quarry.core.plan.coverage import Watcher
from vast_quarry.core.plan.planner import make_plan
from vast_quarry.core.plan.request import Request
from vast_quarry.core.plan.standin import StandIn, standin_of
from vast_quarry.core.pose import fit_similarity
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.rig.shoot import ShootSettings, focal_pixels, shoot
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import Store
from vast_quarry.pipeline.units.depth import dense_camera, load_depth

PLANS = {
    "milestone": Request(width=0.34, depth=0.21, height=0.62, rings=3),
    "finial": Request(shape="cylinder", width=0.24, depth=0.24, height=0.38, rings=3),
}


def measured(store: Store, stations: list, standin: StandIn, names: list[str]) -> tuple[np.ndarray, np.ndarray]:
    """Photos a patch and finest GSD (in the plan's metres), from the build."""
    use = store.in_use()
    points = store.root / "points" / str(use["points"])
    s = load_solution(store.root / "cameras" / str(use["cameras"]))
    listed = read_photo_list(store.root / "photos" / str(use["photos"]))
    at = {p.number: names.index(p.path) for p in listed.photos if p.path in names}
    rows = [int(k) for k in s.aligned if int(s.numbers[k]) in at]
    truth = np.stack([stations[at[int(s.numbers[k])]].center for k in rows])
    into = fit_similarity(truth, s.centers[rows])
    center, normal = into.points(standin.centers), into.directions(standin.normals)
    count = np.zeros(len(center), int)
    gsd = np.full(len(center), np.inf)
    for k in rows:
        depth = load_depth(points, k).depth
        lens = dense_camera(s, k, depth.shape[1] / s.lens(k).width)
        local = (center - s.centers[k]) @ s.rotations[k].T
        z = np.maximum(local[:, 2], 1e-9)
        u = np.round(lens.fx * local[:, 0] / z + lens.cx).astype(int)
        v = np.round(lens.fy * local[:, 1] / z + lens.cy).astype(int)
        inside = (u >= 0) & (v >= 0) & (u < depth.shape[1]) & (v < depth.shape[0]) & (local[:, 2] > 0)
        d = np.where(inside, depth[np.clip(v, 0, depth.shape[0] - 1), np.clip(u, 0, depth.shape[1] - 1)], 0.0)
        to = s.centers[k] - center
        distance = np.linalg.norm(to, axis=1)
        seen = (np.abs(d - z) < 0.005 * z) & ((to * normal).sum(1) / distance > 0.5)
        count += seen
        gsd = np.where(seen, np.minimum(gsd, distance / into.scale / s.lens(k).fx), gsd)
    return count, gsd


def prove(scene: str, work: Path, size: tuple[int, int], grade: str) -> str:
    """Shoot, build and compare one plan; a row of the table."""
    p = PLANS[scene]
    p = type(p)(**{**p.__dict__, "pixels_wide": size[0], "pixels_high": size[1]})
    plan = make_plan(p)
    focal35 = p.camera.fx / focal_pixels(1.0, *size)
    photos, out = work / f"{scene}-plan", work / f"{scene}-built"
    for folder in (photos, out):
        shutil.rmtree(folder, ignore_errors=True)
    shoot(
        ShootSettings(scene=scene, width=size[0], height=size[1], focal35=focal35, heldout=0),
        photos,
        planned=plan.stations,
    )
    command = [
        sys.executable,
        "-m",
        "vast_quarry.cli.main",
        "build",
        str(photos / "photos"),
        "--out",
        str(out),
        "--grade",
        grade,
    ]
    if scene == "finial":
        command += ["--masks", str(photos / "masks")]
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    true = read_ply(photos / "truth" / "mesh.ply")
    standin = standin_of(*decimate(np.asarray(true.points, float), np.asarray(true.faces), 6000))
    foretold = Watcher(standin, p.camera).coverage(plan.stations)
    names = sorted(f.name for f in (photos / "photos").iterdir())
    count, gsd = measured(Store(out), plan.stations, standin, names)
    judged = standin.wanted & (foretold.count >= 3)
    close = np.abs(count - foretold.count) <= np.maximum(0.1 * foretold.count, 1.0)
    ratio = (gsd / foretold.gsd)[judged & np.isfinite(gsd)]
    mesh = read_ply(out / "mesh.ply")
    ray = RayScene()
    assert mesh.faces is not None
    solution = load_solution(Store(out).root / "cameras" / str(Store(out).in_use()["cameras"]))
    ray.add(mesh.points, mesh.faces)
    into = fit_similarity(np.stack([s.center for s in plan.stations])[: len(solution.centers)], solution.centers)
    off = ray.distance(into.points(standin.centers[judged])) / into.scale * 1000
    precise = 1.4826 * float(np.median(off))
    return (
        f"| {scene} | {len(plan.stations)} | {np.median(foretold.count[judged]):.0f} / {np.median(count[judged]):.0f} | "
        f"{100 * close[judged].mean():.0f} % | {np.median(ratio):.3f} (90 %: {np.percentile(ratio, 5):.3f} to {np.percentile(ratio, 95):.3f}) | "
        f"{1000 * plan.precision:.3f} | {precise:.3f} |"
    )


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--size", default="800x600")
    parser.add_argument("--grade", default="dressed")
    parser.add_argument("--scenes", nargs="+", default=list(PLANS))
    a = parser.parse_args()
    a.work.mkdir(parents=True, exist_ok=True)
    print(
        "| scene | shots | photos a patch, median, foretold / measured | patches within 10 % (or one photo) | GSD measured over foretold | precision foretold, mm | measured, mm |"
    )
    print("|---|---|---|---|---|---|---|")
    for scene in a.scenes:
        print(prove(scene, a.work, parse_size(a.size), a.grade), flush=True)


if __name__ == "__main__":
    main()
