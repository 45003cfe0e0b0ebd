"""Edits as small records that can be replayed: the same code serves the open draft, the kept version and the command line.

Places are those of the world, so that an edit can be done again on another mesh of the same thing.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish import shaping
from vast_quarry.core.finish.edits import TexturedMesh, cut_at_planes, fewer_faces, keep_bodies, untextured, welded
from vast_quarry.core.finish.filling import Hole, How, filled, holes_of
from vast_quarry.core.finish.remesh import remeshed
from vast_quarry.core.finish.selecting import Surface, bridges, choose
from vast_quarry.core.finish.sizes import fewer_within
from vast_quarry.core.pose import Similarity
from vast_quarry.core.surface.mesh import components, same_places, vertex_normals
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
Record = dict[str, Any]


def apply_edit(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    """One edit, by its ``kind``.

    Raises
    ------
    PlainError
        When the edit is unknown, incomplete or would leave nothing.
    """
    do = OPERATIONS.get(str(edit.get("kind")))
    if do is None:
        raise PlainError(say('There is no edit called "{kind}".', kind=str(edit.get("kind"))))
    try:
        return do(mesh, edit, box)
    except (KeyError, TypeError, ValueError, IndexError) as error:
        raise PlainError("The edit is incomplete.", "Try it again.") from error


def chosen_by(mesh: TexturedMesh, edit: Record) -> tuple[Surface, NDArray[np.bool_]]:
    """The surface without seams, and the faces (M,) that an edit names; all of them when it names none.

    Raises
    ------
    PlainError
        When nothing is selected.
    """
    surface = Surface(*welded(mesh))
    where = edit.get("where")
    chosen = choose(surface, where) if where else np.ones(len(mesh.faces), bool)
    if not chosen.any():
        raise PlainError("Nothing is selected.", "Select a part of the model first.")
    return surface, chosen


def _places(mesh: TexturedMesh, vertices: Array) -> TexturedMesh:
    """The same faces and texture with the welded surface's vertices moved."""
    _, which = same_places(mesh.vertices)
    normals = vertex_normals(vertices, which[mesh.faces].astype(np.int64))
    return replace(mesh, vertices=vertices[which], normals=normals[which])


def _delete(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    if edit.get("where"):
        return mesh.part(~chosen_by(mesh, edit)[1])
    # as it was recorded before there were selections: an outline through the whole model
    drawn = {"by": "outline", "front": bool(edit.get("front")), "invert": bool(edit.get("invert"))}
    outline = [drawn | {"outline": edit["outline"], "matrix": edit["matrix"]}]
    return mesh.part(~choose(Surface(*welded(mesh)), outline))


def _keep(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    return mesh.part(chosen_by(mesh, edit)[1])


def _cut(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    at = edit.get("at") or "box"
    if at == "box":
        planes = box.planes()
    elif at == "ground":
        planes = [(np.zeros(3), np.array([0.0, 0.0, 1.0]))]
    elif at == "height":
        planes = [(np.array([0.0, 0.0, float(edit["height"])]), np.array([0.0, 0.0, 1.0]))]
    else:
        normal = np.asarray(edit["normal"], float)
        length = np.linalg.norm(normal)
        if not length > 0:
            raise PlainError("The plane has no direction.", "Say it as three numbers, such as 0,0,1.")
        planes = [(np.asarray(edit["point"], float), normal / length)]
    if edit.get("upper") and at in ("ground", "height"):
        planes = [(p, -n) for p, n in planes]
    return cut_at_planes(mesh, planes, bool(edit.get("closed")))


def _bodies(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    return keep_bodies(mesh, int(edit.get("bodies") or 1))


def _bridges(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    surface, chosen = chosen_by(mesh, edit)
    found = bridges(surface, chosen, int(edit.get("widest") or 4))
    if not found.any():
        raise PlainError(
            "There is no narrow bridge in what is selected.", "Select both parts and what lies between them."
        )
    return mesh.part(~found)


def _holes(mesh: TexturedMesh, edit: Record) -> tuple[Array, Faces, list[Hole]]:
    v, f = welded(mesh)
    holes = holes_of(v, f)
    largest, place = edit.get("largest"), edit.get("at")
    if largest is not None:
        holes = [h for h in holes if h.across <= float(largest)]
    if place is not None and holes:
        near = [float(np.linalg.norm(v[h.rim] - np.asarray(place, float), axis=1).min()) for h in holes]
        holes = [holes[int(np.argmin(near))]]
    if not holes:
        raise PlainError(
            "There is no such hole in the model.", "It may be closed already, or larger than was asked for."
        )
    return v, f, holes


def _fill(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    v, f, holes = _holes(mesh, edit)
    how: How = edit.get("how") or "auto"
    if how not in ("auto", "flat", "smooth"):
        raise PlainError("A hole is closed flat or smooth.")
    return untextured(mesh, *filled(v, f, holes, how))


def _weights(mesh: TexturedMesh, edit: Record) -> tuple[Surface, Array]:
    """What an edit of the form moves, and how much (N,): by brush, or by a selection with a soft rim."""
    surface = Surface(*welded(mesh))
    if edit.get("brush") is not None:
        return surface, shaping.brush_weight(surface.vertices, edit["brush"], float(edit["radius"]))
    if not edit.get("where"):
        return surface, np.ones(len(surface.vertices))
    surface, chosen = chosen_by(mesh, edit)
    return surface, shaping.softened(surface.faces, chosen, len(surface.vertices), int(edit.get("soft") or 1))


def _smooth(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    s, weight = _weights(mesh, edit)
    passes = min(max(int(edit.get("passes") or 10), 1), 200)
    return _places(mesh, shaping.smoothed(s.vertices, s.faces, weight, passes))


def _sharpen(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    s, weight = _weights(mesh, edit)
    strength = edit.get("strength")
    return _places(mesh, shaping.sharpened(s.vertices, s.faces, weight, 0.5 if strength is None else float(strength)))


def _flatten(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    s, weight = _weights(mesh, edit)
    if edit.get("at") == "ground":
        return _places(mesh, shaping.flattened(s.vertices, weight, np.zeros(3), np.array([0.0, 0, 1])))
    return _places(mesh, shaping.flattened(s.vertices, weight))


def _raise(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    s, weight = _weights(mesh, edit)
    return _places(mesh, shaping.raised(s.vertices, s.faces, weight, float(edit["by"])))


def _moved(mesh: TexturedMesh, turn: Array, scale: float, shift: Array) -> TexturedMesh:
    if not (np.isfinite(scale) and scale > 0 and np.isfinite(turn).all() and np.isfinite(shift).all()):
        raise PlainError("Turn, scale and shift have to be numbers, the scale above 0.", "Check what was typed.")
    return mesh.moved(Similarity(scale, turn, shift))


def _place(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    turn = shaping.turn_of(edit.get("turn") or (0, 0, 0))
    return _moved(mesh, turn, float(edit.get("scale") or 1), np.asarray(edit.get("shift") or (0, 0, 0), float))


def _level(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    """Turned so that a picked face, or the plane through three places, lies level; or two places upright above each other."""
    places = np.asarray(edit["at"], float).reshape(-1, 3)
    if len(places) == 1:
        v, f = welded(mesh)
        surface = Surface(v, f)
        a, b, c = v[f[surface.nearest(places[0])]]
        up = np.cross(b - a, c - a)
    elif len(places) == 2:
        up = places[1] - places[0]
    else:
        up = np.cross(places[1] - places[0], places[2] - places[0])
        up = up if up[2] >= 0 else -up
    if edit.get("down"):
        up = -up
    middle = places.mean(0)
    turn = shaping.turn_up(up)
    return _moved(mesh, turn, 1.0, middle - turn @ middle)


def _center(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    """The base at height 0 and the middle at the origin; or another place there."""
    low, high = mesh.vertices.min(0), mesh.vertices.max(0)
    on = edit.get("on") or "base"
    if on == "place":
        to = np.asarray(edit["at"], float)
    elif on in ("base", "middle"):
        to = np.array([*(low[:2] + high[:2]) / 2, low[2] if on == "base" else (low[2] + high[2]) / 2])
    else:
        raise PlainError("A model is centred on its base, its middle or a place.")
    return _moved(mesh, np.eye(3), 1.0, -to)


def _scale(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    """So that the distance between two places is a measured length."""
    a, b = np.asarray(edit["at"], float).reshape(2, 3)
    is_now, length = float(np.linalg.norm(a - b)), float(edit["length"])
    if not (is_now > 0 and np.isfinite(length) and length > 0):
        raise PlainError("A length is measured between two different places, and is above 0.", "Pick both places anew.")
    return _moved(mesh, np.eye(3), length / is_now, np.zeros(3))


def _decimate(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    if edit.get("error"):
        v, f, _ = fewer_within(*welded(mesh), float(edit["error"]))
        return mesh if len(f) == len(mesh.faces) else untextured(mesh, v, f)
    return fewer_faces(mesh, max(4, int(edit["faces"])))


def _even(mesh: TexturedMesh, edit: Record, box: KeepBox) -> TexturedMesh:
    v, f = remeshed(
        *welded(mesh), float(edit.get("edge") or 0), int(edit.get("faces") or 0), bool(edit.get("adaptive")),
        np.radians(float(edit.get("sharp") or 180)),
    )  # fmt: skip
    return untextured(mesh, v, f)


OPERATIONS: dict[str, Callable[[TexturedMesh, Record, KeepBox], TexturedMesh]] = {
    "delete": _delete, "keep": _keep, "cut": _cut, "main-body": _bodies, "bridges": _bridges, "fill": _fill,
    "smooth": _smooth, "sharpen": _sharpen, "flatten": _flatten, "raise": _raise, "place": _place, "level": _level,
    "center": _center, "scale": _scale, "decimate": _decimate, "even": _even,
}  # fmt: skip


def what_changed(before: TexturedMesh, after: TexturedMesh) -> dict[str, float]:
    """What an edit did, to hold against what it did elsewhere: triangles before and after, bodies, and how far the box moved."""
    size = float(np.ptp(before.vertices, axis=0).max()) or 1.0
    low = np.abs(before.vertices.min(0) - after.vertices.min(0)).max()
    high = np.abs(before.vertices.max(0) - after.vertices.max(0)).max()
    return {
        "triangles_before": len(before.faces),
        "triangles": len(after.faces),
        "bodies": int(components(welded(after)[1]).max(initial=-1)) + 1,
        "box_moved": float(max(low, high)) / size,
    }
