"""Choosing faces of a mesh: by what is drawn, by place, by form, by what hangs together.

A selection is a list of choices that are put together one after the other, each a small record that is kept by its place in the
world, so that it can be done again on another mesh of the same thing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.screen import in_outline, under_brush
from vast_quarry.core.surface.mesh import components, edge_faces, face_normals, open_edges
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
Chosen = NDArray[np.bool_]
#: how selections are put together
HOW = ("replace", "add", "subtract", "intersect")


class Surface:
    """A mesh without the seams of its texture, with what selections ask for, found once."""

    def __init__(self, vertices: Array, faces: Faces) -> None:
        self.vertices, self.faces = vertices, faces
        self.middles = vertices[faces].mean(1)
        self._scene: RayScene | None = None
        self._pairs: Faces | None = None

    @property
    def scene(self) -> RayScene:
        """To cast rays at."""
        if self._scene is None:
            self._scene = RayScene()
            self._scene.add(self.vertices, self.faces)
        return self._scene

    @property
    def pairs(self) -> Faces:
        """Faces (P, 2) that share an edge."""
        if self._pairs is None:
            self._pairs = edge_faces(self.faces)[0]
        return self._pairs

    def nearest(self, place: Sequence[float] | Array) -> int:
        """The face that is nearest to a place."""
        return int(self.scene.nearest(np.asarray(place, float)[None])[0][0])


def choose(surface: Surface, choices: Sequence[dict[str, Any]]) -> Chosen:
    """Faces (M,) that some choices name together.

    Raises
    ------
    PlainError
        When a choice is unknown or incomplete.
    """
    chosen = np.zeros(len(surface.faces), bool)
    for choice in choices:
        by, how = choice.get("by"), choice.get("how") or "replace"
        try:
            if by in _CHANGES:
                chosen = _CHANGES[by](surface, chosen, choice)
                continue
            find = _FINDERS[by]  # type: ignore[index]
        except KeyError as error:
            raise PlainError(
                say("There is no way of selecting called “{name}”.", name=str(by)),
                say("Use one of {list}.", list=", ".join([*_FINDERS, *_CHANGES])),
            ) from error
        try:
            found = find(surface, choice)
        except (KeyError, TypeError, ValueError) as error:
            raise PlainError(say("A selection by “{name}” is incomplete.", name=str(by)), "Do it again.") from error
        if how not in HOW:
            raise PlainError(say("Selections are put together by one of {list}.", list=", ".join(HOW)))
        chosen = {
            "replace": found, "add": chosen | found, "subtract": chosen & ~found, "intersect": chosen & found,
        }[how]  # fmt: skip
    return chosen


def in_front(surface: Surface, matrix: Array) -> Chosen:
    """Faces (M,) that nothing hides from where a picture was looked at, and that face it."""
    # the eye is where both coordinates on the screen and the distance vanish
    rows = matrix[[0, 1, 3]]
    normals = face_normals(surface.vertices, surface.faces)
    if abs(np.linalg.det(rows[:, :3])) > 1e-12 * np.abs(rows[:, :3]).max() ** 3:
        to = np.linalg.solve(rows[:, :3], -rows[:, 3]) - surface.middles
        far = 1.0
    else:
        # looked at from far away, all lines of sight are alike
        along = np.cross(matrix[0, :3], matrix[1, :3])
        along *= np.sign(-(matrix[2, :3] @ along)) / np.linalg.norm(along)
        to, far = np.tile(along * 10 * float(np.ptp(surface.vertices, axis=0).max()), (len(normals), 1)), 1.0
    facing = (to * normals).sum(1) > 0
    size = float(np.ptp(surface.vertices, axis=0).max())
    begin = surface.middles + 1e-4 * size * normals
    out = np.zeros(len(normals), bool)
    at = np.flatnonzero(facing)
    out[at] = ~surface.scene.blocked(np.concatenate([begin[at], to[at]], 1).astype(np.float32), far=far)
    return out


def _drawn(surface: Surface, choice: dict[str, Any]) -> Chosen:
    matrix = np.asarray(choice["matrix"], float).reshape(4, 4)
    if choice["by"] == "outline":
        found = in_outline(surface.middles, np.asarray(choice["outline"], float).reshape(-1, 2), matrix)
    else:
        path = np.asarray(choice["path"], float).reshape(-1, 2)
        found = under_brush(surface.middles, path, float(choice["radius"]), float(choice.get("aspect") or 1), matrix)
    if choice.get("invert"):
        found = ~found
    return found & in_front(surface, matrix) if choice.get("front", True) else found


def _ball(surface: Surface, choice: dict[str, Any]) -> Chosen:
    radius = float(choice["radius"])
    out = np.zeros(len(surface.faces), bool)
    for place in np.asarray(choice["at"], float).reshape(-1, 3):
        out |= ((surface.middles - place) ** 2).sum(1) <= radius**2
    return out


def _box(surface: Surface, choice: dict[str, Any]) -> Chosen:
    low, high = (tuple(map(float, choice[k])) for k in ("low", "high"))
    box = KeepBox(low, high, float(choice.get("turn") or 0))  # type: ignore[arg-type]
    return np.asarray(box.inside(surface.middles))


def _side(surface: Surface, choice: dict[str, Any]) -> Chosen:
    normal = np.asarray(choice["normal"], float)
    return np.asarray((surface.middles - np.asarray(choice["point"], float)) @ normal > 0)


def _height(surface: Surface, choice: dict[str, Any]) -> Chosen:
    z = surface.middles[:, 2]
    low, high = (choice.get(k) for k in ("low", "high"))
    return (z >= (-np.inf if low is None else float(low))) & (z <= (np.inf if high is None else float(high)))


def _slope(surface: Surface, choice: dict[str, Any]) -> Chosen:
    angle = np.degrees(np.arccos(np.clip(face_normals(surface.vertices, surface.faces)[:, 2], -1, 1)))
    return np.asarray((angle >= float(choice.get("low") or 0)) & (angle <= float(choice.get("high") or 180)))


def _part(surface: Surface, choice: dict[str, Any]) -> Chosen:
    label = components(surface.faces)
    out = np.zeros(len(label), bool)
    for place in np.asarray(choice["at"], float).reshape(-1, 3):
        out |= label == label[surface.nearest(place)]
    return out


def _small(surface: Surface, choice: dict[str, Any]) -> Chosen:
    label = components(surface.faces)
    size = np.bincount(label)
    below = float(choice.get("share") or 0) * len(label)
    return np.asarray(size[label] < max(below, float(choice.get("faces") or 0)))


def _largest(surface: Surface, choice: dict[str, Any]) -> Chosen:
    return np.asarray(components(surface.faces) < int(choice.get("count") or 1))


def _flood(surface: Surface, choice: dict[str, Any]) -> Chosen:
    """What hangs together with a place without an edge that bends by more than an angle."""
    normals, pairs = face_normals(surface.vertices, surface.faces), surface.pairs
    limit = np.cos(np.radians(float(choice.get("angle") or 30)))
    flat = pairs[(normals[pairs[:, 0]] * normals[pairs[:, 1]]).sum(1) >= limit]
    count = len(surface.faces)
    graph = coo_matrix((np.ones(len(flat), np.int8), (flat[:, 0], flat[:, 1])), shape=(count, count))
    label = connected_components(graph, directed=False)[1]
    out = np.zeros(count, bool)
    for place in np.asarray(choice["at"], float).reshape(-1, 3):
        out |= label == label[surface.nearest(place)]
    return out


def _rims(surface: Surface, choice: dict[str, Any]) -> Chosen:
    on = np.zeros(len(surface.vertices), bool)
    on[open_edges(surface.faces)] = True
    return np.asarray(on[surface.faces].any(1))


def _everything(surface: Surface, choice: dict[str, Any]) -> Chosen:
    return np.ones(len(surface.faces), bool)


def grown(surface: Surface, chosen: Chosen, rings: int) -> Chosen:
    """A selection with so many rings of faces about it, or without its outer ones when negative."""
    out: Chosen = chosen.copy() if rings >= 0 else ~chosen
    for _ in range(abs(rings)):
        on = np.zeros(len(surface.vertices), bool)
        on[surface.faces[out]] = True
        out = np.asarray(on[surface.faces].any(1))
    return np.asarray(out if rings >= 0 else ~out)


_FINDERS: dict[str, Callable[[Surface, dict[str, Any]], Chosen]] = {
    "outline": _drawn, "brush": _drawn, "ball": _ball, "box": _box, "side": _side, "height": _height, "slope": _slope,
    "part": _part, "small parts": _small, "largest": _largest, "flood": _flood, "rims": _rims, "everything": _everything,
}  # fmt: skip
_CHANGES: dict[str, Callable[[Surface, Chosen, dict[str, Any]], Chosen]] = {
    "grow": lambda s, c, d: grown(s, c, int(d.get("rings") or 1)),
    "shrink": lambda s, c, d: grown(s, c, -int(d.get("rings") or 1)),
    "invert": lambda s, c, d: ~c,
}


def bridges(surface: Surface, chosen: Chosen, widest: int = 4) -> Chosen:
    """Narrow bridges (M,) within a selection: faces that hold together two larger parts of it, no more than ``widest`` faces across.

    What a shrunk selection falls apart into, and what has to be taken away for that.
    """
    core = chosen
    outside = np.zeros(len(surface.vertices), bool)
    outside[open_edges(surface.faces)] = True
    outside[surface.faces[~chosen]] = True
    for rings in range(1, widest // 2 + 1):
        core = core & ~outside[surface.faces].any(1)
        outside[surface.faces[chosen & ~core]] = True
        parts = _labels(surface, core)
        if not core.any():
            break
        large = np.flatnonzero(np.bincount(parts[core]) > 0.01 * max(int(chosen.sum()), 1))
        if len(large) < 2:
            continue
        # each part grows back over its own; where two meet is the bridge
        owner = np.where(core, parts, -1)
        owner[~np.isin(owner, large)] = -1
        meets = np.zeros(len(chosen), bool)
        a, b = surface.pairs.T
        for _ in range(2 * rings + 2):
            new = owner.copy()
            for one, other in ((a, b), (b, a)):
                free = chosen[one] & (owner[one] < 0) & (owner[other] >= 0)
                new[one[free]] = owner[other[free]]
            owner = new
        both = chosen[a] & chosen[b] & (owner[a] >= 0) & (owner[b] >= 0) & (owner[a] != owner[b])
        meets[a[both]] = meets[b[both]] = True
        return meets
    return np.zeros(len(chosen), bool)


def _labels(surface: Surface, chosen: Chosen) -> Faces:
    """Number (M,) of the part of a selection each face lies in."""
    pairs = surface.pairs[chosen[surface.pairs].all(1)]
    count = len(chosen)
    graph = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    return np.asarray(connected_components(graph, directed=False)[1], np.int64)
