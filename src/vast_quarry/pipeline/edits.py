"""Edits of the finished model as records: what the open draft, the recipe and the interfaces hold."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, TypeAdapter, ValidationError, model_validator

from vast_quarry.core.errors import PlainError

Finite = FiniteFloat


class _Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)

    def record(self) -> dict[str, Any]:
        """As it was given: what was left to a default stays so."""
        return {"kind": self.kind} | self.model_dump(mode="json", exclude_unset=True)  # type: ignore[attr-defined]


Place = tuple[Finite, Finite, Finite]
Matrix = Annotated[list[Finite], Field(min_length=16, max_length=16, description="World to clip space, row by row")]


class Choice(BaseModel):
    """One step of a selection. What each way asks for is in docs/formats.md; places are in the world."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    by: Literal[
        "outline", "brush", "ball", "box", "side", "height", "slope", "part", "small parts", "largest", "flood", "rims",
        "everything", "grow", "shrink", "invert",
    ]  # fmt: skip
    how: Literal["replace", "add", "subtract", "intersect"] = "replace"
    outline: list[tuple[Finite, Finite]] | None = Field(None, min_length=3, max_length=20_000)
    path: list[tuple[Finite, Finite]] | None = Field(None, min_length=1, max_length=20_000)
    matrix: Matrix | None = None
    aspect: Finite | None = None
    front: bool = True
    invert: bool = False
    at: list[Place] | None = Field(None, min_length=1, max_length=10_000)
    radius: Finite | None = Field(None, gt=0)
    low: Finite | Place | None = None
    high: Finite | Place | None = None
    turn: Finite | None = None
    point: Place | None = None
    normal: Place | None = None
    angle: Finite | None = Field(None, ge=0, le=180)
    share: Finite | None = Field(None, ge=0, le=1)
    faces: int | None = Field(None, ge=0)
    count: int | None = Field(None, ge=1)
    rings: int | None = Field(None, ge=1, le=100)


Where = Annotated[list[Choice], Field(max_length=200, description="What is selected, step by step")]


class DeleteEdit(_Edit):
    """Delete the triangles whose middle lies inside an outline drawn on the screen, or those that are selected."""

    kind: Literal["delete"]
    outline: list[tuple[Finite, Finite]] | None = Field(
        None, min_length=3, max_length=20_000, description="Corners, from -1 to 1 over the width and height, y up"
    )
    matrix: Matrix | None = None
    invert: bool = Field(False, description="Delete what lies outside instead")
    front: bool = Field(False, description="Only what nothing hides")
    where: Where | None = None

    @model_validator(mode="after")
    def _one_way(self) -> DeleteEdit:
        if not self.where and (self.outline is None or self.matrix is None):
            raise ValueError("either an outline with its matrix, or a selection")
        return self


class KeepEdit(_Edit):
    """Delete all but what is selected."""

    kind: Literal["keep"]
    where: Where


class CutEdit(_Edit):
    """Cut at the faces of the keep box, at the ground, at a height, or at a plane; what its normal points to stays."""

    kind: Literal["cut"]
    at: Literal["box", "ground", "height", "plane"] = "box"
    height: Finite | None = Field(None, description="World units above the ground")
    point: Place | None = None
    normal: Place | None = None
    upper: bool = Field(False, description="Take away what lies above instead of below")
    closed: bool = Field(False, description="Close the cuts, so that the model is solid")


class MainBodyEdit(_Edit):
    """Delete all but the connected bodies with most triangles."""

    kind: Literal["main-body"]
    bodies: int = Field(1, ge=1, le=10_000, description="How many stay")


class BridgesEdit(_Edit):
    """Take away narrow bridges that hold two parts of a selection together."""

    kind: Literal["bridges"]
    where: Where | None = None
    widest: int = Field(4, ge=2, le=40, description="Triangles across at most")


class FillEdit(_Edit):
    """Close holes."""

    kind: Literal["fill"]
    how: Literal["auto", "flat", "smooth"] = Field("auto", description="By itself flat where the rim is flat")
    largest: Finite | None = Field(None, gt=0, description="Only those no farther across (world units)")
    at: Place | None = Field(None, description="Only the one nearest to a place")


class _Shaping(_Edit):
    """An edit of the form: of a selection with a soft rim, under a brush, or of all."""

    where: Where | None = None
    soft: int = Field(1, ge=1, le=100, description="Rings of triangles over which it fades at the rim")
    brush: list[Place] | None = Field(None, min_length=1, max_length=10_000, description="Places a brush went over")
    radius: Finite | None = Field(None, gt=0, description="Of the brush (world units)")


class SmoothEdit(_Shaping):
    """Smooth without shrinking."""

    kind: Literal["smooth"]
    passes: int = Field(10, ge=1, le=200)


class SharpenEdit(_Shaping):
    """Make edges crisper."""

    kind: Literal["sharpen"]
    strength: Finite = Field(0.5, ge=-1, le=5)


class FlattenEdit(_Shaping):
    """Lead to the plane that fits, or to the ground."""

    kind: Literal["flatten"]
    at: Literal["fit", "ground"] = "fit"


class RaiseEdit(_Shaping):
    """Move outwards, or inwards below 0."""

    kind: Literal["raise"]
    by: Finite = Field(description="World units")


class PlaceEdit(_Edit):
    """Turn about the origin (degrees about x, then y, then z), scale, shift."""

    kind: Literal["place"]
    turn: Place = (0.0, 0.0, 0.0)
    scale: Finite = Field(1.0, gt=0)
    shift: Place = (0.0, 0.0, 0.0)


class LevelEdit(_Edit):
    """Turn so that the face at a place, or the plane of three, lies level; or two places stand above each other."""

    kind: Literal["level"]
    at: list[Place] = Field(min_length=1, max_length=3)
    down: bool = Field(False, description="The face points down")


class CenterEdit(_Edit):
    """Shift base, middle or a place to the origin."""

    kind: Literal["center"]
    on: Literal["base", "middle", "place"] = "base"
    at: Place | None = None


class ScaleEdit(_Edit):
    """Scale so that two places lie a measured length apart."""

    kind: Literal["scale"]
    at: list[Place] = Field(min_length=2, max_length=2)
    length: Finite = Field(gt=0, description="Metres")


class DecimateEdit(_Edit):
    """Fewer triangles: a count, or as few as an error allows."""

    kind: Literal["decimate"]
    faces: int = Field(0, ge=0, le=50_000_000, description="Triangles wanted")
    error: Finite = Field(0.0, ge=0, description="World units within which 95 % of it stays")

    @model_validator(mode="after")
    def _one(self) -> DecimateEdit:
        if not self.error and self.faces < 4:
            raise ValueError("at least 4 triangles, or an error")
        return self


class EvenEdit(_Edit):
    """Even triangles, of a length or a count."""

    kind: Literal["even"]
    edge: Finite = Field(0.0, ge=0, description="World units")
    faces: int = Field(0, ge=0, le=20_000_000)
    adaptive: bool = Field(False, description="Smaller where the surface bends")
    sharp: Finite = Field(180.0, gt=0, le=180, description="Keep edges that bend by more (degrees)")


Edit = Annotated[
    DeleteEdit | KeepEdit | CutEdit | MainBodyEdit | BridgesEdit | FillEdit | SmoothEdit | SharpenEdit | FlattenEdit | RaiseEdit
    | PlaceEdit | LevelEdit | CenterEdit | ScaleEdit | DecimateEdit | EvenEdit,
    Field(discriminator="kind"),
]  # fmt: skip
_ANY: TypeAdapter[Edit] = TypeAdapter(Edit)


def edit_of(record: dict[str, Any]) -> Edit:
    """An edit from its record.

    Raises
    ------
    PlainError
        When it is of another version of the program, or incomplete.
    """
    try:
        return _ANY.validate_python(record)
    except ValidationError as error:
        raise PlainError("An edit of the draft is unknown or incomplete.", "Undo it, and do it again.") from error
