"""How deep grooves of known width and depth are in what comes of photos of them.

    vast-quarry rig shoot --scene plate --plan ring:2x16 --size 1200x900 --seed 4 --out SET
    vast-quarry build SET/photos --out OUT
    python -m benchmarks.grooves SET OUT

Of each groove: the median, over its length, of its middle's depth below the face beside it, in parts of what the true mesh has there.
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path

import numpy as np
from benchmarks.truth import alignment
from numpy.typing import NDArray

from vast_quarry.core.formats.ply import read_ply
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.rig.scenes import GROOVE_DEPTH, GROOVES

Array = NDArray[np.float64]


def front(scene: RayScene, x: Array, z: Array) -> Array:
    """How far back (y) the face of a mesh lies at places of it (N,); nan where there is none."""
    rays = np.column_stack([x, np.full(len(x), -1.0), z, np.zeros(len(x)), np.ones(len(x)), np.zeros(len(x))])
    t = np.asarray(scene.cast(rays.astype(np.float32))["t"], float).ravel()
    return np.where(np.isfinite(t) & (t < 1.01), t - 1.0, np.nan)


def depth_of_groove(scene: RayScene, at: float, wide: float) -> float:
    """Median depth of a groove below the face on both sides of it (m)."""
    z = np.linspace(0.03, 0.13, 400)
    middle = front(scene, np.full(400, at), z)
    beside = [front(scene, np.full(400, at + side * (wide / 2 + 0.0015)), z) for side in (-1, 1)]
    return float(np.nanmedian(middle - np.mean(beside, axis=0)))


def main() -> None:
    """Print a line for each groove."""
    ask = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ask.add_argument("set", type=Path)
    ask.add_argument("out", type=Path)
    given = ask.parse_args()
    similarity = alignment(given.set, given.out).similarity
    assert similarity is not None
    gsd = json.loads((given.set / "truth" / "info.json").read_text())["gsd"]
    scenes = []
    for file, moved in ((given.set / "truth" / "mesh.ply", lambda p: p), (given.out / "mesh.ply", similarity.points)):
        mesh = read_ply(file)
        scene = RayScene()
        scene.add(moved(mesh.points), mesh.faces)
        scenes.append(scene)
    print(f"GSD {1000 * gsd:.2f} mm, grooves {1000 * GROOVE_DEPTH:.1f} mm deep")
    for at, wide in GROOVES:
        true, ours = (depth_of_groove(s, at, wide) for s in scenes)
        kept = 100 * ours / true
        print(
            f"{1000 * wide:4.0f} mm wide ({wide / gsd:4.1f} GSD): {1000 * true:.2f} mm, ours {1000 * ours:.2f} ({kept:.0f} %)"
        )


if __name__ == "__main__":
    main()
