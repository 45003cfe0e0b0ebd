"""3MF (3MF Consortium, core specification 1.3 and materials extension 1.2, by lib3mf): one mesh in millimetres, Z up, with colours."""

from __future__ import annotations

import ctypes
import locale
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_path

#: steps of each colour channel: a printer has no more, and files stay small
_STEPS = 32


@contextmanager
def locale_kept() -> Iterator[None]:
    """lib3mf leaves the process in the locale C: whatever is decoded after it without naming UTF-8 would fail."""
    before = locale.setlocale(locale.LC_ALL)
    try:
        yield
    finally:
        locale.setlocale(locale.LC_ALL, before)


@locale_kept()
def write_3mf(
    path: Path, vertices: NDArray, faces: NDArray, colors: NDArray[np.uint8] | None = None, name: str = "model", to_mm: float = 1000.0
) -> None:  # fmt: skip
    """Write a mesh, vertices (N, 3) in world units of ``to_mm`` mm, faces (M, 3), colours (N, 3) red, green, blue.

    A face has the colours of its corners.
    """
    import lib3mf

    model = lib3mf.get_wrapper().CreateModel()
    model.SetUnit(lib3mf.ModelUnit.MilliMeter)
    mesh = model.AddMeshObject()
    mesh.SetName(name)
    # arrays go over as they lie in memory: one call for each number takes minutes
    points = (lib3mf.Position * len(vertices))()
    triangles = (lib3mf.Triangle * len(faces))()
    v = np.ascontiguousarray(vertices * to_mm, np.float32)
    f = np.ascontiguousarray(faces, np.uint32)
    ctypes.memmove(points, v.ctypes.data, v.nbytes)
    ctypes.memmove(triangles, f.ctypes.data, f.nbytes)
    mesh.SetGeometry(points, triangles)
    if colors is not None and len(colors) == len(vertices):
        _paint(model, mesh, faces, colors)
    model.AddBuildItem(mesh, lib3mf.get_wrapper().GetIdentityTransform())
    writer = model.QueryWriter("3mf")
    # it hands back numbers one by one: a file is quicker
    with atomic_path(path) as part:
        writer.WriteToFile(str(part))


def _paint(model: object, mesh: object, faces: NDArray, colors: NDArray[np.uint8]) -> None:
    import lib3mf

    step = 256 // _STEPS
    coarse = (colors.astype(np.int64) // step) * step + step // 2
    known, which = np.unique(coarse, axis=0, return_inverse=True)
    group = model.AddColorGroup()  # type: ignore[attr-defined]
    wrapper = lib3mf.get_wrapper()
    numbers = np.array(
        [group.AddColor(wrapper.RGBAToColor(int(r), int(g), int(b), 255)) for r, g, b in known], np.uint32
    )
    resource = group.GetResourceID()
    rows = np.empty(len(faces), [("resource", "<u4"), ("corner", "<u4", 3)])
    rows["resource"] = resource
    rows["corner"] = numbers[which.reshape(-1)[faces]]
    properties = (lib3mf.TriangleProperties * len(faces))()
    ctypes.memmove(properties, rows.ctypes.data, rows.nbytes)
    mesh.SetAllTriangleProperties(properties)  # type: ignore[attr-defined]
    mesh.SetObjectLevelProperty(resource, int(numbers[0]))  # type: ignore[attr-defined]


#: metres in a unit of the format, by its number in lib3mf
_METRES = (1e-6, 1e-3, 1e-2, 0.0254, 0.3048, 1.0)


@locale_kept()
def read_3mf(path: Path) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Vertices (N, 3) in metres and faces (M, 3) of all meshes that are to be built, each in its place.

    Raises
    ------
    Exception
        Of lib3mf, when the file is broken.
    """
    import lib3mf

    model = lib3mf.get_wrapper().CreateModel()
    model.QueryReader("3mf").ReadFromFile(str(path))
    scale = _METRES[int(model.GetUnit())]
    vertices, faces, count = [], [], 0
    items = model.GetBuildItems()
    while items.MoveNext():
        item = items.GetCurrent()
        resource = item.GetObjectResource()
        if not resource.IsMeshObject():
            continue
        v = np.array([p.Coordinates[:] for p in resource.GetVertices()], float).reshape(-1, 3)
        f = np.array([t.Indices[:] for t in resource.GetTriangleIndices()], np.int64).reshape(-1, 3)
        rows = np.array([list(row) for row in item.GetObjectTransform().Fields], float)
        rows = rows.reshape(4, 3)
        vertices.append((v @ rows[:3] + rows[3]) * scale)
        faces.append(f + count)
        count += len(v)
    if not vertices:
        return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    return np.concatenate(vertices), np.concatenate(faces)
