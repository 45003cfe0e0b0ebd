"""Speed, memory and growth on the practice rig: writes a table.

    .venv/bin/python benchmarks/run.py WORK [--photos 12 24 36] [--size 800x600] [--grade rough]

Every set is shot once and built afresh; speed is also given as a ratio to a reference (a matrix product) timed in the
same run, because machines differ. Growth is the slope of log(time) over log(number of photos).
"""

from __future__ import annotations

import argparse
import json
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

from vast_quarry.cli.rig import parse_size
from vast_quarry.core.rig.shoot import ShootSettings, shoot


def reference_seconds() -> float:
    """A product of two 3000 x 3000 matrices, best of three."""
    a = np.random.default_rng(0).random((3000, 3000), dtype=np.float32)
    best = np.inf
    for _ in range(3):
        began = time.perf_counter()
        a @ a
        best = min(best, time.perf_counter() - began)
    return float(best)


def main() -> None:
    """Run and print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--photos", type=int, nargs="+", default=[12, 24, 36])
    parser.add_argument("--size", default="800x600")
    parser.add_argument("--grade", default="rough")
    parser.add_argument("--scene", default="milestone")
    a = parser.parse_args()
    width, height = parse_size(a.size)
    reference = reference_seconds()
    rows = []
    for n in a.photos:
        folder = a.work / f"{a.scene}-{n}-{a.size}"
        if not (folder / "truth" / "heldout.json").exists():
            shutil.rmtree(folder, ignore_errors=True)
            rings = max(1, n // 12)
            shoot(ShootSettings(scene=a.scene, rings=rings, per_ring=n // rings, width=width, height=height), folder)
        out = a.work / f"out-{a.scene}-{n}-{a.size}-{a.grade}"
        shutil.rmtree(out, ignore_errors=True)
        command = [
            sys.executable,
            "-m",
            "vast_quarry.cli.main",
            "build",
            str(folder / "photos"),
            "--out",
            str(out),
            "--grade",
            a.grade,
        ]
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
        rows.append((n, json.loads((out / "report.json").read_text())))
    print(
        f"| photos ({a.size}, {a.grade}) | s | s per megapixel | over reference ({reference:.3f} s) | peak MB | slowest layers |"
    )
    print("|---|---|---|---|---|---|")
    for n, r in rows:
        slow = sorted(r["steps"], key=lambda s: -s["seconds"])[:3]
        names = ", ".join(f"{s['layer']} {s['seconds']:.0f}" for s in slow)
        print(
            f"| {n} | {r['seconds']:.0f} | {r['seconds_per_megapixel']:.2f} | {r['seconds'] / reference:.0f} | {r['peak_memory_mb']} | {names} |"
        )
    if len(rows) > 1:
        for key, name in (("seconds", "time"), ("peak_memory_mb", "memory")):
            slope = np.polyfit(np.log([n for n, _ in rows]), np.log([r[key] for _, r in rows]), 1)[0]
            print(f"\n{name} grows as photos^{slope:.2f} over {', '.join(str(n) for n, _ in rows)} photos")


if __name__ == "__main__":
    main()
