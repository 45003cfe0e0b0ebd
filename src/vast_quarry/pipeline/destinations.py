"""Where a model goes, in trade words, and what that takes: format, axis and unit, triangles, maps (budgets: common practice, no source)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from scipy.spatial import cKDTree

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.maps import Request, bake
from vast_quarry.core.finish.printing import mended
from vast_quarry.core.finish.unwrapping import with_coordinates
from vast_quarry.core.formats.gltf import MaterialMaps
from vast_quarry.core.formats.models import Model
from vast_quarry.core.formats.saving import colors_of_vertices, save_model
from vast_quarry.core.surface.mesh import joined, vertex_normals
from vast_quarry.core.words import pattern, say
from vast_quarry.pipeline.assets import Size, lighter, material_of


@dataclass(frozen=True)
class Destination:
    """A place a model goes to.

    Attributes
    ----------
    name, title : str
    format : str
        Ending without its dot.
    triangles : int
        At most; 0 for as many as there are.
    picture : int
        Pixels a side of the texture at most; 0 for as many as there are.
    maps : tuple of str
        Baked from the fine model where triangles go.
    closed : bool
    budget : int
        Bytes above which it is said that the file is heavy; 0 for no such bound.
    """

    name: str
    title: str
    format: str
    triangles: int = 0
    picture: int = 0
    maps: tuple[str, ...] = ()
    closed: bool = False
    budget: int = 0


DESTINATIONS = {
    d.name: d
    for d in (
        Destination("web", pattern("A web page"), "glb", 100_000, 2048, ("color", "normal"), budget=30_000_000),
        Destination("game", pattern("A game engine"), "glb", 7_500, 2048, ("color", "normal", "occlusion")),
        Destination("film", pattern("Film and pictures"), "usdz"),
        Destination("phone", pattern("A phone, in its room"), "usdz", 100_000, 2048, ("color", "normal"), budget=30_000_000),
        Destination("print", pattern("A 3D printer"), "3mf", 500_000, closed=True),
        Destination("solid", pattern("Solid modelling"), "stl", 20_000, closed=True),
        Destination("archive", pattern("An archive"), "ply"),
    )
}  # fmt: skip


def destination(name: str) -> Destination:
    """A destination by its name.

    Raises
    ------
    PlainError
        When there is none.
    """
    if name not in DESTINATIONS:
        raise PlainError(
            say("There is no destination called “{name}”.", name=name),
            say("Use one of {list}.", list=", ".join(DESTINATIONS)),
        )
    return DESTINATIONS[name]


def fit_for(
    model: Model, to: Destination, check: Callable[[], None] = lambda: None
) -> tuple[Model, MaterialMaps | None, dict[str, Any]]:
    """A model as a destination takes it, with the maps of its material, and what was done to it."""
    facts: dict[str, Any] = {"destination": to.name, "triangles_before": len(model.faces)}
    maps = None
    if to.closed:
        v, f = mended(*joined(model.vertices, model.faces))
        colors = None
        if model.colors is not None or model.picture is not None:
            colors = _nearest_colors(model, v)
        model = Model(v, vertex_normals(v, f), f, colors=colors)
    if to.triangles and len(model.faces) > to.triangles:
        fine = model
        model, found = lighter(fine, Size(triangles=to.triangles), check)
        facts["deviation"] = found.record()
        wanted = tuple(m for m in to.maps if m != "color" or fine.picture is not None or fine.colors is not None)
        if wanted:
            side = to.picture or 2048
            model, how = with_coordinates(model, side)
            made = bake(fine, model, Request(wanted, side, 2), check)
            maps = material_of(model, made)
            if "color" in made.pictures:
                model = replace(model, picture=made.pictures["color"])
            facts |= {"missed_percent": float(made.figures["missed_percent"])}
            if how is not None:
                facts["unwrapped"] = how.record()
        elif fine.colors is not None:
            model = replace(model, colors=_nearest_colors(fine, model.vertices))
    elif to.picture and model.picture is not None and len(model.picture) > to.picture:
        model = replace(model, picture=cv2.resize(model.picture, (to.picture,) * 2, interpolation=cv2.INTER_AREA))
    facts["triangles"] = len(model.faces)
    return model, maps, facts


def _nearest_colors(model: Model, places: np.ndarray) -> np.ndarray:
    colors = model.colors if model.colors is not None else colors_of_vertices(model)
    return np.asarray(colors[cKDTree(model.vertices).query(places)[1]])


def save_for(model: Model, to: Destination, out: Path, check: Callable[[], None] = lambda: None) -> dict[str, Any]:
    """Write a model for a destination; what was done, and whether the file is heavier than it should be."""
    made, maps, facts = fit_for(model, to, check)
    save_model(out, made, maps)
    facts |= {"file": out.name, "bytes": out.stat().st_size}
    if to.budget and facts["bytes"] > to.budget:
        facts["heavy"] = True
    return facts
