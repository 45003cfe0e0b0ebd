"""Measures of a model as one document: what was asked for, in mm, with how sure it is."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish import measuring
from vast_quarry.core.formats.atomic import read_json
from vast_quarry.core.formats.drawing import as_dxf, as_svg
from vast_quarry.core.formats.models import Model
from vast_quarry.core.formats.ply import read_ply
from vast_quarry.core.surface.mesh import compacted, components, joined, open_edges
from vast_quarry.core.words import say

Array = NDArray[np.float64]
MM = 1000.0


def parse_places(text: str, least: int, name: str, most: int = 1000) -> Array:
    """Places (K, 3) from ``X,Y,Z:X,Y,Z``.

    Raises
    ------
    PlainError
        When they are no such places.
    """
    try:
        out = np.array([[float(x) for x in part.split(",")] for part in text.split(":")])
        if out.ndim != 2 or out.shape[1] != 3 or not least <= len(out) <= most or not np.isfinite(out).all():
            raise ValueError
    except ValueError as error:
        raise PlainError(
            say("“{text}” is not what {name} asks for.", text=text, name=name),
            "Write places as X,Y,Z with a colon between them, such as 0,0,0.2:0,0,1.",
        ) from error
    return out


def parse_box(text: str) -> KeepBox:
    """A box from two corners."""
    a, b = parse_places(text, 2, "--within", 2)
    return KeepBox(tuple(np.minimum(a, b)), tuple(np.maximum(a, b)))  # type: ignore[arg-type]


def has_scale(source: Path) -> bool | None:
    """Whether the lengths of a build's model are true; None for a file, which does not say."""
    document = source / "cameras.json"
    if not (source.is_dir() and document.is_file()):
        return None
    return read_json(document).get("unit") == "m"


def measures(
    model: Model, source: Path, box: KeepBox | None, wanted: dict[str, Any]
) -> tuple[dict[str, Any], measuring.Section | None]:
    """What was asked for, and the section, if one was."""
    v, f = joined(model.vertices, model.faces)
    if box is not None:
        f = f[box.inside(v[f].mean(1))]
        if not len(f):
            raise PlainError("Nothing of the model lies in that box.", "Move it, or make it larger.")
        v, f, _ = compacted(v, f)
    true = has_scale(source)
    facts: dict[str, Any] = {
        "unit": "mm" if true is not False else "mm, if the model had a scale: it has none yet",
        "size_mm": [float(x) for x in np.ptp(v, axis=0) * MM],
        "triangles": len(f),
        "bodies": int(components(f).max(initial=-1)) + 1,
        "open_edges": len(open_edges(f)),
        "area_mm2": measuring.area(v, f) * MM**2,
    }
    if true is False:
        facts["scale"] = "none"
    if wanted.get("volume"):
        facts["volume_mm3"] = measuring.volume(v, f, wanted.get("over")) * MM**3
    sure = _Sureness(source)
    if wanted.get("distance") is not None:
        facts["distance"] = _distance(wanted["distance"], sure)
    if wanted.get("angle") is not None:
        facts["angle_degrees"] = measuring.angle(*wanted["angle"])
    if wanted.get("fit"):
        facts["fit"] = measuring.fit(wanted["fit"], v).record(MM)
    if wanted.get("roughness"):
        r = measuring.roughness(v, f)
        facts["roughness"] = {"sa_mm": r.sa * MM, "sq_mm": r.sq * MM, "sz_mm": r.sz * MM}
    cut = None
    if wanted.get("section") is not None:
        cut = measuring.section(v, f, *wanted["section"])
        facts["section"] = {
            "lines": len(cut.lines), "closed": sum(cut.closed), "length_mm": cut.length * MM, "area_mm2": cut.area * MM**2,
        }  # fmt: skip
    return facts, cut


class _Sureness:
    """Standard deviation of places of a build's model, by the stated errors of its dense cloud."""

    def __init__(self, source: Path) -> None:
        self.tree: cKDTree | None = None
        cloud = source / "dense.ply"
        if source.is_dir() and cloud.is_file():
            data = read_ply(cloud)
            if data.extra and "sigma" in data.extra and len(data.points):
                self.tree, self.sigma = cKDTree(data.points), np.asarray(data.extra["sigma"], float)

    def of(self, place: Array) -> float | None:
        """Of one place: that of the cloud's points about it."""
        if self.tree is None:
            return None
        _, near = self.tree.query(place, 8)
        return float(np.median(self.sigma[near[near < len(self.sigma)]]))


def _distance(places: Array, sure: _Sureness) -> dict[str, Any]:
    steps = np.linalg.norm(np.diff(places, axis=0), axis=1)
    out: dict[str, Any] = {"mm": float(steps.sum() * MM), "steps_mm": [float(s * MM) for s in steps]}
    out["straight_mm"] = float(np.linalg.norm(places[-1] - places[0]) * MM)
    out["height_mm"] = float((places[-1, 2] - places[0, 2]) * MM)
    ends = [sure.of(p) for p in (places[0], places[-1])]
    if all(s is not None for s in ends):
        out["sigma_mm"] = float(np.sqrt(sum(s**2 for s in ends if s is not None)) * MM)
    return out


def section_files(cut: measuring.Section, svg: Path | None, dxf: Path | None) -> Iterator[tuple[Path, bytes]]:
    """A section as files."""
    if svg is not None:
        yield svg, as_svg(cut.lines, cut.closed, MM)
    if dxf is not None:
        yield dxf, as_dxf(cut.lines, cut.closed, MM)
