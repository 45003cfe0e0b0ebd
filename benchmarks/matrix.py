"""Captures by cameras: what the whole pipeline makes of what people shoot, on the practice rig. Writes a table.

    .venv/bin/python benchmarks/matrix.py WORK [--captures clip arc ...] [--cameras kind harsh ...] [--until align]
                                          [--grade dressed] [--code DIR]

``--code`` runs another checkout's code (its ``src``) on the same sets, for a comparison before and after.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

from benchmarks.truth import alignment, surface

from vast_quarry.core.rig.body import CAMERAS
from vast_quarry.core.rig.captures import CAPTURES
from vast_quarry.core.rig.shoot import ShootSettings, shoot

#: scene, width and height of each capture: odd sizes as old cameras and phones have them
SHAPES = {
    "ring": ("milestone", 640, 480), "clip": ("milestone", 640, 480), "arc": ("milestone", 384, 299), "open": ("milestone", 640, 480),
    "lap": ("well-head", 480, 360), "mixed": ("milestone", 640, 480), "pushed": ("finial", 640, 480),
    "panorama": ("milestone", 480, 360), "tripod": ("milestone", 480, 360),
    # subjects that are hard by themselves, walked round in two laps of eighteen
    "hound": ("hound", 960, 720), "bare-hound": ("bare-hound", 960, 720), "rack": ("rack", 960, 720), "chest": ("chest", 960, 720),
}  # fmt: skip
#: photos of a lap where a subject is walked round
PER_RING = {"ring": 12}


def shot(work: Path, capture: str, camera: str) -> Path:
    """The set of a capture with a camera, shot once."""
    folder = work / f"{capture}-{camera}"
    if not (folder / "truth" / "heldout.json").exists():
        shutil.rmtree(folder, ignore_errors=True)
        scene, width, height = SHAPES[capture]
        settings = ShootSettings(
            scene=scene, rings=2, per_ring=PER_RING.get(capture, 18), width=width, height=height, heldout=1, seed=7, exif=False, on=CAMERAS[camera],
            capture=capture if capture in CAPTURES else "",
        )  # fmt: skip
        shoot(settings, folder)
    return folder


def run(folder: Path, out: Path, until: str, grade: str, masks: bool, code: Path | None) -> tuple[float, str]:
    """Build afresh; seconds, and what was said last when it failed."""
    shutil.rmtree(out, ignore_errors=True)
    command = [
        sys.executable,
        "-m",
        "vast_quarry.cli.main",
        until,
        str(folder / "photos"),
        "--out",
        str(out),
        "--grade",
        grade,
    ]
    if masks:
        command += ["--masks", str(folder / "masks")]
    env = os.environ | ({"PYTHONPATH": str(code / "src")} if code else {})
    began = time.monotonic()
    done = subprocess.run(command, env=env, capture_output=True, text=True)
    said = " ".join((done.stdout + done.stderr).split("\n")[-6:])[-300:] if done.returncode else ""
    return time.monotonic() - began, said


def main() -> None:
    """Run and print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--captures", nargs="+", default=list(SHAPES), choices=list(SHAPES))
    parser.add_argument("--cameras", nargs="+", default=["kind", "phone", "grabber", "harsh"], choices=list(CAMERAS))
    parser.add_argument("--until", default="align", choices=["align", "build"])
    parser.add_argument("--grade", default="dressed")
    parser.add_argument("--code", type=Path)
    a = parser.parse_args()
    print(
        "| capture, camera | placed | px, median / worst | focal, % off | mesh, GSD; holes, % | s | said |", flush=True
    )
    print("|---|---|---|---|---|---|---|", flush=True)
    for capture in a.captures:
        for camera in a.cameras:
            folder = shot(a.work, capture, camera)
            out = a.work / f"out-{capture}-{camera}-{a.until}{'-before' if a.code else ''}"
            seconds, said = run(folder, out, a.until, a.grade, capture == "pushed", a.code)
            found = alignment(folder, out)
            mesh = "-"
            if found.similarity is not None and (out / "mesh.ply").exists():
                mesh = "{:.2f}; {:.1f}".format(*surface(folder, out, found.similarity))
            must = CAPTURES[capture].fails if capture in CAPTURES else ""
            words = f"({must}) {said}" if must else said
            print(
                f"| {capture}, {camera} | {found.placed} of {found.of} | {found.median_px:.3f} / {found.worst_px:.3f} | "
                f"{found.focal_percent:.1f} | {mesh} | {seconds:.0f} | {words} |",
                flush=True,
            )
    (a.work / "done.json").write_text(json.dumps({"until": a.until, "grade": a.grade}))


if __name__ == "__main__":
    main()
