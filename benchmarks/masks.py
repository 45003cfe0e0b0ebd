"""Masks against truth: every way on sets of the practice rig; overlap, rims, seconds a photo.

``python benchmarks/masks.py WORK`` shoots the sets into WORK (once) and prints a table; ``--size 1600x1200 --laps 3 --per-lap 20`` are those of docs/masks.md.
"""

from __future__ import annotations

import argparse
import shutil
import time
from pathlib import Path
from typing import Any

import numpy as np

from vast_quarry.core.mask.files import read_mask
from vast_quarry.core.mask.measures import overlap, rim_error
from vast_quarry.core.photo.reading import read_facts
from vast_quarry.core.rig.shoot import ShootSettings, shoot
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import Store


class Quiet:
    """Says nothing."""

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None: ...
    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None: ...
    def end(self, layer: str, seconds: float, reused: bool) -> None: ...
    def say(self, text: str) -> None: ...


def measured(name: str, photos: Path, truth: Path, work: Path, way: str, **places: Any) -> None:
    """One line of the table."""
    shutil.rmtree(work, ignore_errors=True)
    store = Store(work)
    where = {"photos": {"folder": str(photos)}, "masks": {"folder": None, **places}}
    runner = Runner(store, Quiet())
    runner.run(recipe_for(Grade.ROUGH), where, until="photos")
    began = time.perf_counter()
    result = runner.run(recipe_for(Grade.ROUGH, {"masks": {"way": way}}), where, until="masks")
    seconds = time.perf_counter() - began
    made = result.versions["masks"]
    listed = read_photo_list(store.folder(result.versions["photos"])).usable
    rows = []
    for p in listed:
        file = mask_file(store.folder(made), p.number)
        if file is not None:
            f = read_facts(photos / p.path)
            mask, true = (read_mask(x, f.width, f.height) for x in (file, truth / f"{Path(p.path).stem}.png"))
            rows.append((overlap(mask, true), rim_error(mask, true)))
    share, rims = np.array(rows).T if rows else (np.zeros(1), np.zeros(1))
    print(
        f"{name:34s} {made.figures['way']:7s} {len(rows):3d} of {len(listed):3d}  IoU {np.median(share):.4f} worst {share.min():.4f}  "
        f"rim {np.median(rims):.2f} px  {seconds / len(listed):.2f} s a photo",
        flush=True,
    )


def main() -> None:
    """Shoot what is not there, and measure."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--size", default="800x600")
    parser.add_argument("--laps", type=int, default=3)
    parser.add_argument("--per-lap", type=int, default=12)
    args = parser.parse_args()
    width, height = (int(x) for x in args.size.split("x"))
    common = {"width": width, "height": height, "heldout": 0, "seed": 3}
    turn = {"scene": "finial", "rings": args.laps, "per_ring": args.per_lap, "exif": False, "on": frozenset({"lamps"})}
    sets: dict[str, dict[str, Any]] = {k: {**common, **turn, "backdrop": k} for k in ("plain", "graded", "patterned")}
    sets["pushed"] = {
        "scene": "milestone", "capture": "pushed:36", "width": 320, "height": 240, "heldout": 0, "seed": 3, "exif": False,
        "on": frozenset({"grey", "jpeg"}),
    }  # fmt: skip
    sets["lap"] = {**common, "scene": "milestone", "capture": "lap:36"}
    for name, settings in sets.items():
        folder = args.work / f"{name}-{settings['width']}"
        if not (folder / "truth" / "info.json").exists():
            shutil.rmtree(folder, ignore_errors=True)
            shoot(ShootSettings(**settings), folder)
        if name != "lap":
            measured(f"{folder.name}, suggested", folder / "photos", folder / "masks", args.work / "run", "suggest")
            continue
        few = args.work / "few"
        shutil.rmtree(few, ignore_errors=True)
        few.mkdir()
        for mask in sorted((folder / "masks").iterdir())[4::10]:
            shutil.copy(mask, few / mask.name)
        measured(
            f"{folder.name}, one in ten carried",
            folder / "photos",
            folder / "masks",
            args.work / "run",
            "carry",
            folder=str(few),
        )
        build = args.work / "build"
        where = {"photos": {"folder": str(folder / "photos")}, "masks": {"folder": None}}
        Runner(Store(build), Quiet()).run(recipe_for(Grade.ROUGH), where, until="surface")
        measured(
            f"{folder.name}, from the model",
            folder / "photos",
            folder / "masks",
            args.work / "run",
            "model",
            model=str(build),
        )


if __name__ == "__main__":
    main()
