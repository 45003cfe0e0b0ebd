"""Reading textured models from files of open formats, by trimesh: GLB, glTF, OBJ, PLY, STL, OFF; 3MF by lib3mf.

What is read lies in the world frame, Z up: formats whose standard says Y up (glTF 2.0) are turned, and so is OBJ, which says
neither and is Y up by custom; PLY, STL, OFF and 3MF are Z up. ``up`` says otherwise.
"""

from __future__ import annotations

import io
from dataclasses import dataclass, replace
from hashlib import blake2b
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.meshes import size_of
from vast_quarry.core.formats.pictures import eight_bits
from vast_quarry.core.formats.threemf import read_3mf
from vast_quarry.core.surface.mesh import normalised, vertex_normals, without_degenerate
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
KINDS = (".glb", ".gltf", ".obj", ".ply", ".stl", ".off", ".3mf")
#: kinds that are Y up when nobody says otherwise
Y_UP = (".glb", ".gltf", ".obj")
#: files larger, and meshes of more triangles, are refused; pictures of more pixels too
MOST_BYTES, MOST_FACES, MOST_PIXELS = 4_000_000_000, 50_000_000, 16_384**2


@dataclass(frozen=True)
class Model:
    """A mesh with what colours it.

    Attributes
    ----------
    vertices, normals : (W, 3)
        World frame, Z up.
    faces : (M, 3) int
    uv : (W, 2), optional
        Origin at the top left.
    picture : (H, W, 3) uint8 or uint16, optional
        Blue, green, red.
    colors : (W, 3) uint8, optional
        Of vertices; red, green, blue.
    extra : dict
        More numbers for each vertex, as PLY has them.
    """

    vertices: Array
    normals: Array
    faces: Faces
    uv: Array | None = None
    picture: NDArray | None = None
    colors: NDArray[np.uint8] | None = None
    extra: dict[str, NDArray] | None = None

    @property
    def size(self) -> float:
        """The longest side of the box about it."""
        return float(np.ptp(self.vertices, axis=0).max())


def z_up(v: NDArray) -> NDArray:
    """(x, y, z), Y up, to the world's (x, -z, y), Z up: a turn of 90 degrees about X."""
    return np.stack([v[:, 0], -v[:, 2], v[:, 1]], axis=1)


def model_file(path: Path) -> Path:
    """The file of a model: itself, or what a folder that a build wrote holds.

    Raises
    ------
    PlainError
        When a folder holds no model.
    """
    if not path.is_dir():
        return path
    for name in ("model.glb", "mesh.ply"):
        if (path / name).is_file():
            return path / name
    raise PlainError(
        say("There is no model in {path}.", path=path), "Give a file, or a folder that build wrote up to Surface."
    )


def read_model(path: Path, up: str = "") -> Model:
    """A model from a file, or from a folder that a build wrote.

    Parameters
    ----------
    path : Path
    up : str
        "y" or "z": which axis points up in the file; by its kind when empty.

    Raises
    ------
    PlainError
        When there is none, or it cannot be used; says why.
    """
    path = model_file(path)
    if size_of(path, KINDS) > MOST_BYTES:
        raise PlainError(say("{name} is larger than 4 GB.", name=path.name), "Make it lighter first.")
    parts = _loaded(path)
    model = _joined(parts, path.name)
    if (up or ("y" if path.suffix.lower() in Y_UP else "z")) == "y":
        model = replace(model, vertices=z_up(model.vertices), normals=z_up(model.normals))
    return model


def _loaded(path: Path) -> list[Any]:
    """The meshes of a file, each in its place."""
    import trimesh

    try:
        if path.suffix.lower() == ".3mf":
            v, f = read_3mf(path)
            return [trimesh.Trimesh(v, f, process=False)] if len(f) else _nothing(path)
        # vertices and faces as they are: who needs them joined joins them
        scene = trimesh.load_scene(path, process=False, maintain_order=True)
        parts = [g for g in scene.dump() if isinstance(g, trimesh.Trimesh) and len(g.faces)]
    except PlainError:
        raise
    except (MemoryError, RecursionError) as error:
        raise PlainError(say("{name} is too large for this machine.", name=path.name)) from error
    except Exception as error:
        # readers of formats fail in as many ways as files are broken
        raise PlainError(
            say("{name} is damaged, or not what its ending says.", name=path.name), "Save it anew where it came from."
        ) from error
    return parts or _nothing(path)


def _nothing(path: Path) -> list[Any]:
    raise PlainError(say("{name} holds no usable faces.", name=path.name), "Export it as triangles and try again.")


def _joined(parts: list[Any], name: str) -> Model:
    faces, vertices, normals, count = [], [], [], 0
    for part in parts:
        v, f = np.asarray(part.vertices, float), np.asarray(part.faces, np.int64)
        if not np.isfinite(v).all() or f.min() < 0 or f.max() >= len(v):
            raise PlainError(
                say("{name} has places that are no numbers, or corners that are not there.", name=name),
                "Save it anew where it came from.",
            )
        f = without_degenerate(v, f)
        own = part._cache.cache.get("vertex_normals")
        if own is None or len(own) != len(v) or not np.isfinite(own).all():
            own = vertex_normals(v, f) if len(f) else np.zeros_like(v)
        vertices.append(v)
        normals.append(normalised(np.asarray(own, float)))
        faces.append(f + count)
        count += len(v)
    f = np.concatenate(faces)
    if not len(f):
        raise PlainError(say("{name} holds no usable faces.", name=name), "Export it as triangles and try again.")
    if len(f) > MOST_FACES:
        raise PlainError(
            say("{name} has more than 50 million triangles.", name=name), "Make it lighter first, or cut it in parts."
        )
    uv, picture = _colouring(parts)
    return Model(
        np.concatenate(vertices), np.concatenate(normals), f, uv, picture, _vertex_colors(parts), _numbers(parts)
    )


def _colouring(parts: list[Any]) -> tuple[Array | None, NDArray | None]:
    """Texture coordinates and picture of all parts; several pictures lie in one, as squares of a grid."""
    coordinates = [getattr(p.visual, "uv", None) for p in parts]
    if any(c is None or len(c) != len(p.vertices) for c, p in zip(coordinates, parts)):
        return None, None
    flat = [np.stack([c[:, 0], 1 - c[:, 1]], 1).astype(float) for c in coordinates if c is not None]
    if not all(np.isfinite(c).all() for c in flat):
        return None, None
    pictures = [_picture(p) for p in parts]
    known: dict[bytes, int] = {}
    which = [known.setdefault(b"" if p is None else blake2b(p.tobytes()).digest(), len(known)) for p in pictures]
    if len(known) == 1 or all(p is None for p in pictures):
        return np.concatenate(flat), pictures[0]
    across = int(np.ceil(np.sqrt(len(known))))
    side = min(max(max(p.shape[:2]) for p in pictures if p is not None), int(np.sqrt(MOST_PIXELS)) // across)
    whole = np.full((side * across, side * across, 3), 128, np.uint8)
    for n, c, p in zip(which, flat, pictures):
        row, column = divmod(n, across)
        if p is not None:
            small = cv2.resize(eight_bits(p), (side, side), interpolation=cv2.INTER_AREA)
            whole[row * side : (row + 1) * side, column * side : (column + 1) * side] = small
        c -= np.floor(c.min(0)) * (c.max(0) > 1 + 1e-6)  # pictures that are numbered go on from square to square
        c[:] = (np.clip(c, 0, 1) + np.array([column, row])) / across
    return np.concatenate(flat), whole


def _picture(part: Any) -> NDArray | None:
    """The base colour's picture of a part, blue, green, red."""
    material = getattr(part.visual, "material", None)
    image = getattr(material, "baseColorTexture", None) or getattr(material, "image", None)
    if image is None or image.width * image.height > MOST_PIXELS:
        return None
    try:
        if image.format in ("PNG", "JPEG", "TIFF", "WEBP") and hasattr(image, "fp") and image.fp is not None:
            # all its bits, which the library that opened it does not keep
            data = io.BytesIO()
            image.fp.seek(0)
            data.write(image.fp.read())
            deep = cv2.imdecode(np.frombuffer(data.getvalue(), np.uint8), cv2.IMREAD_ANYDEPTH | cv2.IMREAD_COLOR)
            if deep is not None and deep.shape[:2] == (image.height, image.width):
                return deep
        return np.ascontiguousarray(np.asarray(image.convert("RGB"))[..., ::-1])
    except (OSError, ValueError, SyntaxError, cv2.error):
        return None


def _vertex_colors(parts: list[Any]) -> NDArray[np.uint8] | None:
    if any(getattr(p.visual, "kind", None) != "vertex" for p in parts):
        return None
    return np.concatenate([np.asarray(p.visual.vertex_colors)[:, :3] for p in parts]).astype(np.uint8)


def _numbers(parts: list[Any]) -> dict[str, NDArray] | None:
    """Properties of vertices that a PLY has beside places, normals and colours."""
    if len(parts) != 1:
        return None
    rows = parts[0].metadata.get("_ply_raw", {}).get("vertex", {}).get("data")
    names = getattr(getattr(rows, "dtype", None), "names", None) or ()
    known = {"x", "y", "z", "nx", "ny", "nz", "red", "green", "blue", "alpha", "s", "t", "u", "v"}
    return {n: np.asarray(rows[n], np.float32) for n in names if n not in known and rows[n].ndim == 1} or None
