"""Wavefront OBJ with MTL (1992 specification): one mesh, named matt materials, the texture beside it, in one picture or several. Y up."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.formats.gltf import y_up
from vast_quarry.core.formats.pictures import ending_of
from vast_quarry.core.formats.tiles import cut_apart


def write_obj(
    path: Path,
    vertices: NDArray,
    normals: NDArray,
    uv: NDArray,
    faces: NDArray,
    image: bytes,
    tiles: int = 1,
) -> list[Path]:
    """Write ``path`` with its ``.mtl`` and texture of the same stem beside it; the files come back.

    Parameters
    ----------
    vertices, normals : (W, 3)
        In the world frame (Z up); written Y up.
    uv : (W, 2)
        Origin at the top left; OBJ's is at the bottom left.
    faces : (M, 3)
    image : bytes
        The encoded texture, JPEG or PNG.
    tiles : int
        The texture is cut into so many pictures along each side, numbered as UDIM has it (:mod:`.tiles`), each with a material of its
        own; coordinates go on from tile to tile, as UDIM has it too, and programs that only repeat pictures show the same.
    """
    stem = path.stem
    _, parts = cut_apart(uv, faces, image, tiles)
    files, mtl = [path, path.with_suffix(".mtl")], ""
    names = [stem if tiles == 1 else f"{stem}.{p.number}" for p in parts]
    for name, part in zip(names, parts):
        texture = path.with_name(name + ending_of(part.image))
        with atomic_write(texture) as out:
            out.write(part.image)
        files.append(texture)
        mtl += f"newmtl {name}\nKa 1 1 1\nKd 1 1 1\nKs 0 0 0\nNs 0\nPm 0\nPr 1\nillum 1\nmap_Kd {texture.name}\n"
    with atomic_write(path.with_suffix(".mtl")) as out:
        out.write(mtl.encode())
    with atomic_write(path) as out:
        out.write(f"# Y up\nmtllib {stem}.mtl\no {stem}\n".encode())
        np.savetxt(out, y_up(vertices), fmt="v %.7g %.7g %.7g")
        np.savetxt(out, np.stack([uv[:, 0], 1 - uv[:, 1]], 1) * tiles, fmt="vt %.7g %.7g")
        np.savetxt(out, y_up(normals), fmt="vn %.4f %.4f %.4f")
        for name, part in zip(names, parts):
            out.write(f"usemtl {name}\ns 1\n".encode())
            np.savetxt(out, np.repeat(part.faces + 1, 3, axis=1), fmt="f %d/%d/%d %d/%d/%d %d/%d/%d")
    return files
