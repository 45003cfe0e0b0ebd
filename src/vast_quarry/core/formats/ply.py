"""PLY, the polygon file format (Turk, 1994): clouds and triangle meshes, binary little endian written, all kinds read."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.words import say

_TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8",
}  # fmt: skip


@dataclass
class PlyData:
    """Points (N, 3) with, when there are any, normals (N, 3), colours (N, 3) uint8, triangles (M, 3), more properties."""

    points: NDArray[np.float64]
    normals: NDArray[np.float32] | None = None
    colors: NDArray[np.uint8] | None = None
    faces: NDArray[np.int64] | None = None
    extra: dict[str, NDArray] | None = None


def write_ply(path: Path, data: PlyData) -> None:
    """Write a cloud or mesh; positions as float32."""
    fields: list[tuple[str, str]] = [("x", "<f4"), ("y", "<f4"), ("z", "<f4")]
    columns: list[NDArray] = [data.points[:, k] for k in range(3)]
    if data.normals is not None:
        fields += [("nx", "<f4"), ("ny", "<f4"), ("nz", "<f4")]
        columns += [data.normals[:, k] for k in range(3)]
    if data.colors is not None:
        fields += [("red", "u1"), ("green", "u1"), ("blue", "u1")]
        columns += [data.colors[:, k] for k in range(3)]
    for name, values in (data.extra or {}).items():
        fields.append((name, "<f4"))
        columns.append(values)
    rows = np.empty(len(data.points), np.dtype(fields))
    for (name, _), column in zip(fields, columns):
        rows[name] = column
    header = ["ply", "format binary_little_endian 1.0", f"element vertex {len(rows)}"]
    header += [f"property {'uchar' if kind == 'u1' else 'float'} {name}" for name, kind in fields]
    body = rows.tobytes()
    if data.faces is not None:
        header += [f"element face {len(data.faces)}", "property list uchar int vertex_indices"]
        f = np.empty(len(data.faces), np.dtype([("n", "u1"), ("v", "<i4", 3)]))
        f["n"] = 3
        f["v"] = data.faces
        body += f.tobytes()
    text = "\n".join([*header, "end_header"]) + "\n"
    with atomic_write(path) as out:
        out.write(text.encode("ascii") + body)


def read_ply(path: Path) -> PlyData:
    """Read a PLY file with triangles or points.

    Raises
    ------
    PlainError
        When the file is not a PLY file, is cut short or has polygons other than triangles.
    """
    raw = path.read_bytes()
    end = raw.find(b"end_header")
    if not raw.startswith(b"ply") or end < 0:
        raise PlainError(say("{name} is not a PLY file.", name=path.name))
    position = raw.index(b"\n", end) + 1
    order, elements = _header(raw[:position].decode("latin-1"))
    found: dict[str, NDArray] = {}
    try:
        for name, count, dtype, ascii_width in elements:
            if order is None:
                lines = raw[position:].split(b"\n", count)
                table = np.array([line.split() for line in lines[:count]], dtype=float).reshape(count, ascii_width)
                position += sum(len(line) + 1 for line in lines[:count])
                found[name] = _from_table(table, dtype)
            else:
                full = dtype.newbyteorder(order)  # type: ignore[arg-type]
                found[name] = np.frombuffer(raw, full, count, position)
                position += count * full.itemsize
    except ValueError as error:
        raise PlainError(say("{name} is cut short or damaged.", name=path.name)) from error
    return _as_data(found, path)


def _header(text: str) -> tuple[str | None, list[tuple[str, int, np.dtype, int]]]:
    order: str | None = "<"
    elements: list[tuple[str, int, list, int]] = []
    for line in text.splitlines():
        words = line.split()
        if words[:1] == ["format"]:
            order = {"ascii": None, "binary_little_endian": "<", "binary_big_endian": ">"}[words[1]]
        elif words[:1] == ["element"]:
            elements.append((words[1], int(words[2]), [], 0))
        elif words[:1] == ["property"]:
            name, count, fields, width = elements[-1]
            if words[1] == "list":  # triangles: a count and three indices
                fields += [("_count", _TYPES[words[2]]), (words[4], _TYPES[words[3]], 3)]
                width += 4
            else:
                fields.append((words[2], _TYPES[words[1]]))
                width += 1
            elements[-1] = (name, count, fields, width)
    return order, [(n, c, np.dtype(f), w) for n, c, f, w in elements]


def _from_table(table: NDArray, dtype: np.dtype) -> NDArray:
    out = np.empty(len(table), dtype)
    column = 0
    for name in dtype.names or ():
        width = int(np.prod(dtype[name].shape)) if dtype[name].shape else 1
        out[name] = table[:, column : column + width] if width > 1 else table[:, column]
        column += width
    return out


def _as_data(found: dict[str, NDArray], path: Path) -> PlyData:
    v = found["vertex"]
    names = v.dtype.names or ()
    take = lambda keys: np.stack([v[k] for k in keys], 1)  # noqa: E731
    data = PlyData(take("xyz").astype(float))
    if "nx" in names:
        data.normals = take(("nx", "ny", "nz")).astype(np.float32)
    if "red" in names:
        data.colors = take(("red", "green", "blue")).astype(np.uint8)
    known = {"x", "y", "z", "nx", "ny", "nz", "red", "green", "blue"}
    data.extra = {n: v[n] for n in names if n not in known}
    if "face" in found:
        f = found["face"]
        if len(f) and not (f["_count"] == 3).all():
            raise PlainError(
                say("{name} has polygons other than triangles.", name=path.name), "Export it with triangles only."
            )
        data.faces = f[f.dtype.names[1]].astype(np.int64)  # type: ignore[index]
    return data
