"""Choosing points of the dense cloud and clearing them away, as an open draft over a version of Points.

The page draws a part of a large cloud; what is chosen is worked out here, on all of it, and told as one bit for each point that
the page draws. A draft changes nothing on disk: its edits say for each point whether it is gone, and an undo only counts one edit
less.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal, TypeVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, Field, TypeAdapter, ValidationError

from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.dense.selecting import color_at, connected_part, fitted_plane, suggested_strays
from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say
from vast_quarry.pipeline.clearing import (
    BrushTerm,
    CellsTerm,
    Chosen,
    ClearEdit,
    ColorTerm,
    OutlineTerm,
    PlaneTerm,
    Term,
    Terms,
    as_records,
    joined,
    name_of,
)
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import Folders, NotFound
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.world import drawn_points

#: clouds held in memory, and choices of each: so many, and so many bytes
CLOUDS, CHOICES, CHOICE_BYTES = 1, 24, 256_000_000
Edits = list[ClearEdit]
S = TypeVar("S", bound=BaseModel)
_edits: TypeAdapter[Edits] = TypeAdapter(Edits)


@dataclass
class _Held:
    """A cloud in memory, with what was worked out for it last."""

    cloud: Cloud
    known: OrderedDict[str, Chosen] = field(default_factory=OrderedDict)

    def remember(self, name: str, chosen: Chosen) -> Chosen:
        self.known[name] = chosen
        self.known.move_to_end(name)
        while len(self.known) > max(2, min(CHOICES, CHOICE_BYTES // max(1, len(chosen)))):
            self.known.popitem(last=False)
        return chosen


_held: OrderedDict[str, _Held] = OrderedDict()
_lock = threading.Lock()


@dataclass
class Draft:
    """The open draft: the version of Points that it stands on, its edits, and how many of them are done."""

    on: int
    edits: Edits
    done: int

    @property
    def in_force(self) -> Edits:
        """Edits that are done."""
        return self.edits[: self.done]


def draft_of(project: Project, folders: Folders) -> Draft:
    """The draft of a project; an empty one on the version in use where there is none.

    Raises
    ------
    NotFound
        When there is no version of Points.
    """
    there = project.clearing
    try:
        edits, done = _edits.validate_python(there.get("edits", [])), int(there.get("done", 0))
    except (ValidationError, TypeError, ValueError):
        edits, done = [], 0  # of another version of the program
    try:
        on = version_of(folders, "points", int(there["on"]) if done and there.get("on") else None).number
    except NotFound:  # the version it stood on is gone
        on = version_of(folders, "points", None).number
    return Draft(on, edits if on == there.get("on") else [], done if on == there.get("on") else 0)


def write_draft(project: Project, draft: Draft) -> None:
    """Put a draft into the project's row."""
    project.clearing = {"on": draft.on, "edits": as_records(draft.edits), "done": draft.done}


def _hold(folders: Folders, number: int) -> _Held:
    version = version_of(folders, "points", number)
    with _lock:
        name = f"{folders.root}:{version.key}"
        if name not in _held:
            _held[name] = _Held(load_cloud(folders.store.folder(version)))
        _held.move_to_end(name)
        while len(_held) > CLOUDS:
            _held.popitem(last=False)
        return _held[name]


def _one_by_one(held: _Held, kind: str, steps: Sequence[S], then: Callable[[Chosen, S], Chosen]) -> Chosen:
    """What steps make of points (N,), one after the other; what was worked out of their beginning before is gone on from."""
    names = [f"{kind} {name_of(steps[:n])}" for n in range(len(steps) + 1)]
    with _lock:
        begin = next((n for n in range(len(steps), 0, -1) if names[n] in held.known), 0)
        so_far = held.known[names[begin]] if begin else np.zeros(len(held.cloud.points), bool)
    for n in range(begin, len(steps)):
        so_far = then(so_far, steps[n])
        with _lock:
            held.remember(names[n + 1], so_far)
    return so_far


def _chosen(held: _Held, terms: Sequence[Term]) -> Chosen:
    """Points (N,) that terms choose."""
    return _one_by_one(held, "choice", terms, lambda before, term: joined(before, term, held.cloud))


def _gone(held: _Held, edits: Edits) -> Chosen:
    """Points (N,) that edits took away."""
    return _one_by_one(held, "edits", edits, lambda before, edit: before | edit.gone(_chosen(held, edit.terms)))


def left_of(folders: Folders, draft: Draft) -> tuple[int, int]:
    """Points that are left by a draft, and that it takes away."""
    gone = int(_gone(held := _hold(folders, draft.on), draft.in_force).sum())
    return len(held.cloud.points) - gone, gone


def as_drawn(which: NDArray[np.bool_], budget: int) -> bytes:
    """How many points (N,) are meant, of how many, and one bit for each that the page draws, in its order.

    Two little-endian uint32, then the bits, the lowest of each byte first.
    """
    bits = np.packbits(which[drawn_points(len(which), budget)], bitorder="little")
    return np.array([which.sum(), len(which)], "<u4").tobytes() + bits.tobytes()


def selected(folders: Folders, draft: Draft, terms: Sequence[Term]) -> Chosen:
    """Points (N,) that terms choose of those that are left."""
    held = _hold(folders, draft.on)
    return _chosen(held, terms) & ~_gone(held, draft.in_force)


def gone(folders: Folders, draft: Draft) -> Chosen:
    """Points (N,) that a draft takes away."""
    return _gone(_hold(folders, draft.on), draft.in_force)


class FindIn(BaseModel):
    """What is to be found: the colour at a place or the part that hangs together about it, strays, the plane of what is chosen, or what
    is in front under a shape."""

    what: Literal["color", "part", "strays", "plane", "front"]
    at: tuple[float, float, float] | None = None
    within: float = Field(12.0, ge=0, le=200, description="Greatest difference of colour (CIE 1976)")
    terms: Terms = []
    under: Annotated[OutlineTerm | BrushTerm, Field(discriminator="kind")] | None = None


def found(folders: Folders, draft: Draft, wish: FindIn) -> CellsTerm | ColorTerm | PlaneTerm | OutlineTerm | BrushTerm:
    """A term of what was found.

    Raises
    ------
    PlainError
        When nothing is there to find it in.
    """
    held = _hold(folders, draft.on)
    left = held.cloud.only(~_gone(held, draft.in_force))
    if wish.what == "strays":
        return CellsTerm.of(suggested_strays(left))
    if wish.what == "front":
        if wish.under is None:
            raise PlainError("Nothing selected.", "Draw over some points.")
        return wish.under.only_front(left)
    if wish.what in ("part", "color"):
        if wish.at is None:
            raise PlainError("It is not said where.", "Press on a point of it.")
        if wish.what == "part":
            return CellsTerm.of(connected_part(left, np.array(wish.at)))
        r, g, b = color_at(left, np.array(wish.at))
        return ColorTerm(kind="color", rgb=(r, g, b), within=wish.within)
    which = selected(folders, draft, wish.terms)
    if not which.any():
        raise PlainError("Nothing is chosen that a plane could be laid through.", "Choose some points that lie in it.")
    spacing = float(np.median(held.cloud.gsd))
    point, normal, within = fitted_plane(held.cloud.points[which], spacing)
    x, n = point.tolist(), normal.tolist()
    return PlaneTerm(kind="plane", point=(x[0], x[1], x[2]), normal=(n[0], n[1], n[2]), within=within)


def earlier_in(folders: Folders, draft: Draft) -> int:
    """Edits that were kept in the version that a draft stands on."""
    return len(version_of(folders, "points", draft.on).settings.get("cleared", []))


def add(folders: Folders, draft: Draft, edit: ClearEdit) -> None:
    """Do an edit after those that are done.

    Raises
    ------
    PlainError
        When it leaves nothing.
    """
    after = Draft(draft.on, [*draft.in_force, edit], draft.done + 1)
    if not left_of(folders, after)[0]:
        raise PlainError("Nothing would be left of the cloud.", "Select less.")
    draft.edits, draft.done = after.edits, after.done


def keep(folders: Folders, draft: Draft) -> dict[str, Any]:
    """Settings of Points that make a version of a draft: those of the version that it stands on, with its edits after theirs.

    Raises
    ------
    PlainError
        When there are no edits.
    """
    if not draft.in_force:
        raise PlainError("There are no edits to keep.", "Choose points and delete them first.")
    before = version_of(folders, "points", draft.on).settings
    return {**before, "cleared": [*before.get("cleared", []), *as_records(draft.in_force)]}


def brought_back(folders: Folders, draft: Draft) -> dict[str, Any]:
    """Settings of Points that make the version that a draft stands on with nothing cleared away."""
    return {**version_of(folders, "points", draft.on).settings, "cleared": []}


def check_on(draft: Draft, on: int | None) -> None:
    """Refuse a choice that was made on another version than the draft stands on."""
    if on is not None and on != draft.on:
        raise PlainError(
            say("This was chosen on version {on} of Points, but version {now} is being cleared.", on=on, now=draft.on),
            "Keep or give up what was cleared there, or put that version in use.",
        )
