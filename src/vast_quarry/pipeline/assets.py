"""From a fine model to a light one: fewer or even triangles, texture coordinates, maps baked, all as files."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.deviation import Deviation, Measured
from vast_quarry.core.finish.maps import Baked, Request, bake
from vast_quarry.core.finish.remesh import remeshed
from vast_quarry.core.finish.sizes import fewer, fewer_within
from vast_quarry.core.finish.tangents import tangents
from vast_quarry.core.finish.unwrapping import Unwrapped, stretch_and_fill, with_coordinates
from vast_quarry.core.formats.atomic import atomic_write, write_json
from vast_quarry.core.formats.gltf import MaterialMaps
from vast_quarry.core.formats.models import Model
from vast_quarry.core.formats.pictures import colours_as_png, map_as_png
from vast_quarry.core.formats.saving import save_model
from vast_quarry.core.surface.mesh import joined, vertex_normals

Check = Callable[[], None]
#: roughness where nothing says otherwise: matt
ROUGH = 255


@dataclass(frozen=True)
class Size:
    """How light a mesh shall be: exactly one of count, error and edge (world units)."""

    triangles: int = 0
    error: float = 0.0
    edge: float = 0.0
    even: bool = False
    adaptive: bool = False
    sharp: float = float(np.pi)


def lighter(model: Model, size: Size, check: Check = lambda: None) -> tuple[Model, Deviation]:
    """A mesh of another size on the same surface, without texture, and how far it lies from it.

    Raises
    ------
    PlainError
        When not exactly one of count, error and edge is given, or it cannot be.
    """
    if sum(x > 0 for x in (size.triangles, size.error, size.edge)) != 1:
        raise PlainError("How many triangles, how large an error, or how long edges: say exactly one.")
    v, f = joined(model.vertices, model.faces)
    found: Deviation | None = None
    if size.error > 0:
        v2, f2, found = fewer_within(v, f, size.error, check)
    elif size.edge > 0 or size.even or size.adaptive:
        v2, f2 = remeshed(v, f, size.edge, size.triangles, size.adaptive, size.sharp, check)
    else:
        v2, f2 = fewer(v, f, size.triangles)
    if found is None:
        found = Measured(v, f).against(v2, f2)
    return Model(v2, vertex_normals(v2, f2), f2), found


def coloured(model: Model, light: Model, check: Check = lambda: None) -> tuple[Model, Unwrapped | None]:
    """The light mesh in the colours of the model, with texture coordinates of its own; as it is when there are no colours."""
    if model.picture is None and model.colors is None:
        return light, None
    side = min(max(model.picture.shape[:2]), 8192) if model.picture is not None else 2048
    with_uv, how = with_coordinates(light, side)
    made = bake(model, with_uv, Request(("color",), side, 1), check)
    return replace(with_uv, picture=made.pictures["color"]), how


def write_bake(out: Path, coarse: Model, made: Baked, extra: dict[str, Any] | None = None) -> dict[str, Any]:
    """Maps as pictures, the coarse model with them as ``model.glb`` and ``model.obj``, and ``report.json``, which comes back."""
    files = {}
    for name, picture in made.pictures.items():
        files[name] = f"{name}.png"
        with atomic_write(out / f"{name}.png") as f:
            f.write(_encoded(picture))
    if made.missed.any():
        files["missed"] = "missed.png"
        with atomic_write(out / "missed.png") as f:
            f.write(map_as_png(np.asarray(made.missed * 127)))
    colour = made.pictures.get("color")
    textured = replace(coarse, picture=colour) if colour is not None else coarse
    save_model(out / "model.glb", textured, material_of(coarse, made))
    save_model(out / "model.obj", textured)
    assert coarse.uv is not None
    stretch, fill = stretch_and_fill(coarse)
    report = {
        "maps": files,
        "ranges": {k: _range(k, v) for k, v in made.ranges.items()},
        "triangles": len(coarse.faces),
        "missed_percent": round(float(made.figures["missed_percent"]), 4),
        "wrong_side_percent": round(float(made.figures["wrong_side_percent"]), 4),
        "reach_out_mm": round(made.figures["reach_out"] * 1000, 4),
        "reach_in_mm": round(made.figures["reach_in"] * 1000, 4),
        "texel_mm": round(made.figures["texel"] * 1000, 5),
        "stretch": round(stretch, 4),
        "fill_percent": round(100 * fill, 2),
        "overlap_percent": round(float(made.figures["overlap_percent"]), 3),
    } | (extra or {})
    write_json(out / "report.json", report)
    return report


def _encoded(picture: np.ndarray) -> bytes:
    deep = picture.ndim == 3 and picture.dtype == np.uint16
    return colours_as_png(picture) if deep else map_as_png(picture)


def _range(name: str, span: tuple[float, float]) -> dict[str, float]:
    """What black and white of a map stand for, with its unit."""
    if name in ("height", "thickness"):
        return {"black_mm": round(span[0] * 1000, 6), "white_mm": round(span[1] * 1000, 6)}
    if name == "curvature":
        return {"black_per_mm": round(span[0] / 1000, 8), "white_per_mm": round(span[1] / 1000, 8)}
    return {"black": span[0], "white": span[1]}


def material_of(coarse: Model, made: Baked) -> MaterialMaps | None:
    """The maps that a glTF material has a place for."""
    normal, occlusion = made.pictures.get("normal"), made.pictures.get("occlusion")
    if normal is None and occlusion is None:
        return None
    packed = None
    if occlusion is not None:
        # blue, green, red: metalness none, rough, occlusion
        packed = _encoded(np.stack([np.zeros_like(occlusion), np.full_like(occlusion, ROUGH), occlusion], 2))
    basis = None
    if normal is not None and coarse.uv is not None:
        basis = tangents(coarse.vertices, coarse.normals, coarse.uv, coarse.faces)
    return MaterialMaps(_encoded(normal) if normal is not None else None, packed, tangents=basis)


def baked_to(
    fine: Model, coarse: Model, request: Request, out: Path, unwrap: str = "", check: Check = lambda: None,
    told: Callable[[float], None] = lambda share: None,
) -> dict[str, Any]:  # fmt: skip
    """Bake onto a coarse model, which gets texture coordinates when it has none, and write all of it; the report comes back."""
    begun = time.monotonic()
    coarse, how = with_coordinates(coarse, request.size, unwrap)
    far = Measured(*joined(fine.vertices, fine.faces)).against(*joined(coarse.vertices, coarse.faces))
    made = bake(fine, coarse, request, check, told)
    more: dict[str, Any] = {
        "deviation": {k: round(v, 5) for k, v in far.record().items()},
        "seconds": round(time.monotonic() - begun, 2),
    }
    if how is not None:
        more["unwrapped"] = how.record()
    return write_bake(out, coarse, made, more)
