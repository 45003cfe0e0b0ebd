"""Wavefront OBJ with MTL (1992 specification): one mesh, one named matt material, the texture beside it. Y up."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.formats.gltf import y_up


def write_obj(
    path: Path,
    vertices: NDArray,
    normals: NDArray,
    uv: NDArray,
    faces: NDArray,
    image: bytes,
    image_ending: str = ".jpg",
) -> None:
    """Write ``path`` with its ``.mtl`` and texture of the same stem beside it.

    Parameters
    ----------
    vertices, normals : (W, 3)
        In the world frame (Z up); written Y up.
    uv : (W, 2)
        Origin at the top left; OBJ's is at the bottom left.
    faces : (M, 3)
    image : bytes
        The encoded texture.
    """
    stem = path.stem
    texture = path.with_suffix(image_ending)
    with atomic_write(texture) as out:
        out.write(image)
    mtl = f"newmtl {stem}\nKa 1 1 1\nKd 1 1 1\nKs 0 0 0\nNs 0\nPm 0\nPr 1\nillum 1\nmap_Kd {texture.name}\n"
    with atomic_write(path.with_suffix(".mtl")) as out:
        out.write(mtl.encode())
    with atomic_write(path) as out:
        out.write(f"# Y up\nmtllib {stem}.mtl\no {stem}\n".encode())
        np.savetxt(out, y_up(vertices), fmt="v %.7g %.7g %.7g")
        np.savetxt(out, np.stack([uv[:, 0], 1 - uv[:, 1]], 1), fmt="vt %.7g %.7g")
        np.savetxt(out, y_up(normals), fmt="vn %.4f %.4f %.4f")
        out.write(f"usemtl {stem}\ns 1\n".encode())
        one = np.repeat(faces + 1, 3, axis=1)
        np.savetxt(out, one, fmt="f %d/%d/%d %d/%d/%d %d/%d/%d")
