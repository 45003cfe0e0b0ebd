"""Results of a project as one small file, to be shipped: the demo opens on them and nothing has to be computed first.

Arrays are rounded to what nobody sees, what only later runs would read again is left out (descriptors of features, the
slopes in depth maps), and all of it is packed together (LZMA), where arrays that stand in two versions cost nothing the second time. Before
that the bytes of an array are put in order of their rank, and whole numbers are told as differences: the way Blosc and
HDF5 filters make arrays pack well (Alted 2010, Why modern CPUs are starving).
"""

from __future__ import annotations

import io
import json
import tarfile
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import write_arrays, write_json
from vast_quarry.pipeline.store import Store

#: the one file in the archive
INSIDE = "project.tar.xz"
#: folders of a version, and files, that only a later run would read again; without ``made.json`` none takes from it
LEFT_OUT = ("units", "coarse.npy", "mean.npy", "made.json", "live.npz")
#: arrays of features that only matching reads
UNSEEN = ("descriptors", "scale", "colors", "counts")
#: what only fusing reads of depth maps, and to what part of their 65,535 steps depth is rounded
EMPTIED, DEPTHS = ("normal", "cost"), 512
#: lengths are rounded to this part of a pixel on the subject
FINE = 1 / 6
#: what else is rounded, to what: pixels of photos, components of normals, shares of an atlas
ROUNDED = {"xy": 2.0**-2, "error": 2.0**-5, "normals": 2.0**-5, "mesh_normals": 2.0**-5, "uv": 2.0**-15}
LENGTHS = ("points", "vertices", "mesh_vertices")
#: stated precisions: to this part of the least of them
STATED = ("sigma", "gsd")


def pack(store: Store, target: Path, pixel: float, beside: dict[str, Path]) -> None:
    """Pack the versions in use into one file.

    Parameters
    ----------
    store : Store
    target : Path
    pixel : float
        Size of a pixel on the subject, in world units.
    beside : dict of str to Path
        Other files to take along, by their names below the project's folder.
    """
    whole = io.BytesIO()
    with tarfile.open(fileobj=whole, mode="w:xz", preset=9) as out:
        folders = [store.root / layer / str(number) for layer, number in sorted(store.in_use().items())]
        files = [(p, p.relative_to(f).parts) for f in folders for p in f.rglob("*") if p.is_file()]
        # what comes twice is only seen as long as it is near: the many depth maps are not to stand between
        for file, parts in sorted(files, key=lambda f: (f[1][0] == "depth", f[0])):
            name = str(file.relative_to(store.root.parent))
            if parts[0] in LEFT_OUT:
                continue
            if file.suffix == ".npz":
                _add_arrays(out, name, file, pixel, "features" in parts)
            else:
                _add(out, name, file.read_bytes())
        _add(out, "versions/in-use.json", (store.root / "in-use.json").read_bytes())
        for name, file in beside.items():
            _add(out, name, file.read_bytes())
    with zipfile.ZipFile(target, "w") as archive:  # which any desktop opens
        archive.writestr(INSIDE, whole.getvalue())


def unpack(source: Path, root: Path) -> None:
    """Put what :func:`pack` packed below a project's folder."""
    open_arrays: tuple[str, dict[str, Any]] | None = None
    versions = []
    with (
        zipfile.ZipFile(source) as archive,
        tarfile.open(fileobj=io.BytesIO(archive.read(INSIDE)), mode="r:xz") as packed,
    ):
        for member in packed:
            file = packed.extractfile(member)
            assert file is not None
            data = file.read()
            name, _, array = member.name.partition("!")
            if open_arrays and open_arrays[0] != name:
                _write(root / open_arrays[0], open_arrays[1])
                open_arrays = None
            if array:
                open_arrays = open_arrays or (name, {})
                open_arrays[1][array] = _decoded(data)
                continue
            path = root / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
            if path.name == "version.json":
                versions.append(path)
    if open_arrays:
        _write(root / open_arrays[0], open_arrays[1])
    for path in versions:  # what a version consists of is what there is of it now
        version = json.loads(path.read_bytes())
        there = (p for p in sorted(path.parent.rglob("*")) if p.is_file() and p != path)
        version["files"] = {str(p.relative_to(path.parent)): p.stat().st_size for p in there}
        write_json(path, version)


def _write(path: Path, arrays: dict[str, Any]) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    write_arrays(path, **arrays)


def _add(out: tarfile.TarFile, name: str, data: bytes) -> None:
    entry = tarfile.TarInfo(name)
    entry.size = len(data)
    out.addfile(entry, io.BytesIO(data))


def _add_arrays(out: tarfile.TarFile, name: str, file: Path, pixel: float, features: bool) -> None:
    with np.load(file) as arrays:
        for key, array in _seen(arrays, features):
            _add(out, f"{name}!{key}", _encoded(_rounded(key, array, pixel)))


def _seen(arrays: Any, features: bool) -> Iterator[tuple[str, NDArray[Any]]]:
    for key in arrays.files:
        if not (features and key in UNSEEN):
            yield key, arrays[key]


def _rounded(key: str, array: NDArray[Any], pixel: float) -> NDArray[Any]:
    """An array rounded to steps that are powers of two, which leave the last bits of its numbers empty."""
    if key in EMPTIED:
        return np.zeros_like(array)
    if key == "inverse":  # of depth maps only pictures are made: 0 is unknown
        return np.where(array > 0, np.maximum(array // DEPTHS * DEPTHS, 1), 0).astype(array.dtype)
    if array.dtype.kind != "f" or not array.size:
        return array
    if key in LENGTHS:
        step = 2.0 ** np.floor(np.log2(pixel * FINE))
    elif key in STATED:
        known = array[np.isfinite(array) & (array > 0)]
        step = 2.0 ** np.floor(np.log2(known.min() / 32)) if len(known) else 0.0
    else:
        step = ROUNDED.get(key, 0.0)
    return (np.round(array / step) * step).astype(array.dtype) if step else array


def _encoded(array: NDArray[Any]) -> bytes:
    flat = np.ascontiguousarray(array).reshape(_table(array.shape))
    if told_apart := array.dtype.kind in "iu":
        flat = np.diff(flat, axis=0, prepend=np.zeros_like(flat[:1]))
        if array.dtype.kind == "i":  # small ones below zero become small ones above, whose high bytes are empty
            flat = np.where(flat < 0, -2 * flat - 1, 2 * flat)
    head = {"dtype": array.dtype.str, "shape": array.shape, "differences": told_apart}
    ranked = np.ascontiguousarray(flat).view(np.uint8).reshape(-1, max(array.dtype.itemsize, 1)).T
    return json.dumps(head).encode() + b"\n" + ranked.tobytes()


def _decoded(data: bytes) -> NDArray[Any]:
    head, _, ranked = data.partition(b"\n")
    told = json.loads(head)
    dtype, shape = np.dtype(told["dtype"]), tuple(told["shape"])
    count = int(np.prod(shape, dtype=np.int64))
    flat = np.frombuffer(ranked, np.uint8).reshape(dtype.itemsize, count).T.copy().view(dtype)
    if told["differences"]:
        if dtype.kind == "i":
            flat = np.where(flat & 1, -(flat >> 1) - 1, flat >> 1)
        flat = np.cumsum(flat.reshape(_table(shape)), axis=0, dtype=dtype)
    return np.asarray(flat.reshape(shape))


def _table(shape: tuple[int, ...]) -> tuple[int, int]:
    """An array of any shape as rows."""
    return (shape[0] if shape else 1), int(np.prod(shape[1:], dtype=np.int64))
