"""Points cleared away by hand, as records: what the open draft, the settings of Points and recipes hold.

A choice is a list of terms, each joined to those before it; an edit deletes what is chosen, or all else. Terms answer for every
point by itself, so edits are regions of the world: they leave the same out of a later, finer cloud over the same photos.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from typing import Annotated, Any, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from vast_quarry.core.dense import selecting as ways
from vast_quarry.core.dense.front import Front
from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.screen import in_outline, under_brush

Chosen = NDArray[np.bool_]
How = Literal["add", "take", "both"]
Finite = Annotated[float, Field(allow_inf_nan=False)]
Matrix = Annotated[list[Finite], Field(min_length=16, max_length=16, description="World to clip space, row by row")]
Place = tuple[Finite, Finite, Finite]


class _Term(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)
    how: How = Field("add", description="Add to what was chosen, take away from it, or keep only what both hold")

    def chosen(self, cloud: Cloud) -> Chosen:
        raise NotImplementedError


class FrontOfScreen(BaseModel):
    """How far away something may lie to be in front, in squares of the screen."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    low: tuple[Finite, Finite]
    side: tuple[Annotated[Finite, Field(gt=0)], Annotated[Finite, Field(gt=0)]]
    limits: str = Field(max_length=2_000_000)


class _ScreenTerm(_Term):
    """Points under a shape on the screen: all, or only those in front."""

    matrix: Matrix
    front: FrontOfScreen | None = None

    def covered(self, points: NDArray[np.float64]) -> Chosen:
        """Points (N, 3) under the shape, in front and behind (N,)."""
        raise NotImplementedError

    def chosen(self, cloud: Cloud) -> Chosen:
        under = self.covered(cloud.points)
        if self.front is None:
            return under
        front = Front.unpacked(self.front.low, self.front.side, self.front.limits)
        at = np.flatnonzero(under)
        under[at] = front.holds(cloud.points[at], np.reshape(self.matrix, (4, 4)))
        return under

    def only_front(self, cloud: Cloud) -> Self:
        """The same shape, but only what is in front of it in a cloud."""
        found = Front.of(
            cloud.points[self.covered(cloud.points)], np.reshape(self.matrix, (4, 4)), float(np.median(cloud.gsd))
        )
        return self.model_copy(update={"front": FrontOfScreen(low=found.low, side=found.side, limits=found.packed())})


class OutlineTerm(_ScreenTerm):
    """Points inside an outline on the screen."""

    kind: Literal["outline"]
    outline: list[tuple[Finite, Finite]] = Field(min_length=3, max_length=20_000)

    def covered(self, points: NDArray[np.float64]) -> Chosen:
        return in_outline(points, np.asarray(self.outline), np.reshape(self.matrix, (4, 4)))


class BrushTerm(_ScreenTerm):
    """Points under a brush on its way over the screen."""

    kind: Literal["brush"]
    path: list[tuple[Finite, Finite]] = Field(min_length=1, max_length=20_000)
    radius: float = Field(gt=0, le=4, description="In halves of the screen's height")
    aspect: float = Field(gt=0.01, lt=100, description="Width over height of the screen")

    def covered(self, points: NDArray[np.float64]) -> Chosen:
        matrix = np.reshape(self.matrix, (4, 4))
        return under_brush(points, np.asarray(self.path), self.radius, self.aspect, matrix)


class ColorTerm(_Term):
    """Points of a colour."""

    kind: Literal["color"]
    rgb: tuple[int, int, int]
    within: float = Field(ge=0, le=200, description="Greatest difference of colour (CIE 1976)")

    @model_validator(mode="after")
    def _of_bytes(self) -> ColorTerm:
        if any(not 0 <= v <= 255 for v in self.rgb):
            raise ValueError("a colour has three numbers from 0 to 255")
        return self

    def chosen(self, cloud: Cloud) -> Chosen:
        return ways.of_color(cloud.colors, self.rgb, self.within)


class ViewsTerm(_Term):
    """Points that few photos agree on."""

    kind: Literal["views"]
    most: int = Field(ge=1, le=1000)

    def chosen(self, cloud: Cloud) -> Chosen:
        return np.asarray(cloud.views <= self.most)


class PrecisionTerm(_Term):
    """Points that are expected to be off by more than so many pixels on the subject; those of which nothing is stated are not."""

    kind: Literal["precision"]
    over: float = Field(ge=0, allow_inf_nan=False)

    def chosen(self, cloud: Cloud) -> Chosen:
        return np.asarray(cloud.sigma > self.over * cloud.gsd)


class PlaneTerm(_Term):
    """Points near a plane, or beyond it on one side."""

    kind: Literal["plane"]
    point: Place
    normal: Place
    within: float = Field(ge=0, allow_inf_nan=False)
    side: Literal["near", "above", "below"] = "near"

    @model_validator(mode="after")
    def _has_a_side(self) -> PlaneTerm:
        if not any(self.normal):
            raise ValueError("the normal of a plane has a length")
        return self

    def chosen(self, cloud: Cloud) -> Chosen:
        return ways.near_plane(cloud.points, np.array(self.point), np.array(self.normal), self.within, self.side)


class CellsTerm(_Term):
    """Points in some cells of space: a part that hangs together, strays."""

    kind: Literal["cells"]
    low: Place
    side: float = Field(gt=0, allow_inf_nan=False)
    cells: str = Field(max_length=8_000_000)

    def chosen(self, cloud: Cloud) -> Chosen:
        return ways.Cells.unpacked(self.low, self.side, self.cells).hold(cloud.points)

    @classmethod
    def of(cls, cells: ways.Cells) -> CellsTerm:
        """A term of some cells."""
        return cls(kind="cells", low=cells.low, side=cells.side, cells=cells.packed())


class TurnRound(_Term):
    """What was not chosen instead of what was."""

    kind: Literal["turn-round"]

    def chosen(self, cloud: Cloud) -> Chosen:
        return np.ones(len(cloud.points), bool)


Term = Annotated[
    OutlineTerm | BrushTerm | ColorTerm | ViewsTerm | PrecisionTerm | PlaneTerm | CellsTerm | TurnRound,
    Field(discriminator="kind"),
]
Terms = Annotated[list[Term], Field(max_length=400)]


class ClearEdit(BaseModel):
    """Delete the points that some terms choose, or all others."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    terms: Terms = Field(min_length=1)
    keep: bool = Field(False, description="Keep only what is chosen")

    def gone(self, chosen: Chosen) -> Chosen:
        """Which points (N,) it takes away, when its terms choose some."""
        return ~chosen if self.keep else chosen


def joined(before: Chosen, term: Term, cloud: Cloud) -> Chosen:
    """What is chosen (N,) when a term comes to what was chosen before (N,)."""
    if isinstance(term, TurnRound):
        return ~before
    mine = term.chosen(cloud)
    return before | mine if term.how == "add" else before & ~mine if term.how == "take" else before & mine


def chosen_by(terms: Sequence[Term], cloud: Cloud) -> Chosen:
    """Points (N,) that terms choose, one after the other."""
    chosen = np.zeros(len(cloud.points), bool)
    for term in terms:
        chosen = joined(chosen, term, cloud)
    return chosen


def gone_by(edits: Sequence[ClearEdit], cloud: Cloud) -> Chosen:
    """Points (N,) that edits take away, one after the other."""
    gone = np.zeros(len(cloud.points), bool)
    for edit in edits:
        gone |= edit.gone(chosen_by(edit.terms, cloud))
    return gone


def name_of(records: Sequence[BaseModel]) -> str:
    """A short name for some terms or edits."""
    text = json.dumps([r.model_dump(mode="json") for r in records], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:20]


def as_records(edits: Sequence[ClearEdit]) -> list[dict[str, Any]]:
    """Edits as plain data."""
    return [e.model_dump(mode="json") for e in edits]
