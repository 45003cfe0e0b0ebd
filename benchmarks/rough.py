"""A rough set, as evenings give them, aligned from start to end: figures against its truth.

32 photos of the milestone with drifting exposure and colour and a side without texture; two moved, one out of focus, one overexposed
by 1.8 stops; two of them there twice, a photo of another subject, three without EXIF, and something dark that walks through every
photo.

    .venv/bin/python -m benchmarks.rough WORK [--size 1200x900] [--grade dressed]
"""

from __future__ import annotations

import argparse
import json
import shutil
import subprocess
import sys
import time
from pathlib import Path

import cv2
import numpy as np
from benchmarks.truth import alignment
from PIL import Image

from vast_quarry.core.rig.defects import parse_planted
from vast_quarry.core.rig.shoot import ShootSettings, shoot

PLANTED = "5:motion:9,14:motion:6,20:focus:7,26:ev:1.8"
TWICE, WITHOUT_EXIF = (3, 11), (7, 8, 22)


def rough_set(folder: Path, width: int, height: int) -> None:
    """Shoot the set, once."""
    if (folder / "done").exists():
        return
    shutil.rmtree(folder, ignore_errors=True)
    on = frozenset({"bald", "auto-exposure", "auto-balance"})
    settings = ShootSettings(
        rings=2, per_ring=16, width=width, height=height, seed=31, heldout=0, on=on, planted=parse_planted(PLANTED)
    )
    shoot(settings, folder)
    shoot(
        ShootSettings(scene="finial", rings=1, per_ring=8, width=width, height=height, seed=5, heldout=0),
        folder / "other",
    )
    photos = sorted((folder / "photos").iterdir())
    rng = np.random.default_rng(3)
    for k, photo in enumerate(photos):
        with Image.open(photo) as picture:
            exif, rgb = picture.getexif(), np.asarray(picture.convert("RGB")).copy()
        at = (int(rng.uniform(0.1, 0.9) * width), int(rng.uniform(0.55, 0.8) * height))
        cv2.ellipse(rgb, at, (width // 22, height // 7), 0, 0, 360, (38, 35, 44), -1, cv2.LINE_AA)
        more = {} if k in WITHOUT_EXIF else {"exif": exif}
        Image.fromarray(rgb).save(photo, quality=93, **more)
    for k in TWICE:
        shutil.copy(photos[k], photos[k].with_name(f"{photos[k].stem}_again.jpg"))
    shutil.copy(sorted((folder / "other" / "photos").iterdir())[2], folder / "photos" / "other_subject.jpg")
    (folder / "done").touch()


def main() -> None:
    """Print the figures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--size", default="1200x900")
    parser.add_argument("--grade", default="dressed")
    args = parser.parse_args()
    width, height = (int(x) for x in args.size.split("x"))
    folder, out = args.work / "rough", args.work / "rough-out"
    rough_set(folder, width, height)
    shutil.rmtree(out, ignore_errors=True)
    start = time.monotonic()
    command = [sys.executable, "-m", "vast_quarry.cli.main", "align", str(folder / "photos"), "--out", str(out), "--grade", args.grade]  # fmt: skip
    done = subprocess.run(command, capture_output=True, text=True)
    print(done.stdout[-1500:] if done.returncode == 0 else done.stderr)
    cameras = json.loads((out / "cameras.json").read_text("utf-8"))["cameras"]
    print(f"{time.monotonic() - start:.0f} s; not placed:", [c["photo"] for c in cameras if not c["aligned"]])
    a = alignment(folder, out)
    print(
        f"{a.placed} of {a.of} shot; discrepancy {a.median_px:.3f} px median, {a.p95_px:.3f} 95th percentile, "
        f"{a.worst_px:.3f} worst; focal length {a.focal_percent:.3f} % off"
    )


if __name__ == "__main__":
    main()
