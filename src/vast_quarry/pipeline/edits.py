"""Edits of the finished model as records: what the open draft, the recipe and the interfaces hold."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from vast_quarry.core.errors import PlainError


class _Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)

    def record(self) -> dict[str, Any]:
        """As it was given: what was left to a default stays so."""
        return {"kind": self.kind} | self.model_dump(mode="json", exclude_unset=True)  # type: ignore[attr-defined]


class DeleteEdit(_Edit):
    """Delete the triangles whose middle lies inside an outline drawn on the screen."""

    kind: Literal["delete"]
    outline: list[tuple[float, float]] = Field(
        min_length=3, max_length=20_000, description="Corners, from -1 to 1 over the width and height, y up"
    )
    matrix: list[float] = Field(min_length=16, max_length=16, description="World to clip space, row by row")
    invert: bool = Field(False, description="Delete what lies outside instead")


class CutEdit(_Edit):
    """Cut at the faces of the keep box, or at the ground."""

    kind: Literal["cut"]
    at: Literal["box", "ground"] = "box"
    closed: bool = Field(False, description="Close the cuts, so that the model is solid")


class MainBodyEdit(_Edit):
    """Delete all but the connected body with most triangles."""

    kind: Literal["main-body"]


class DecimateEdit(_Edit):
    """Fewer triangles."""

    kind: Literal["decimate"]
    faces: int = Field(ge=4, le=50_000_000, description="Triangles wanted")


Edit = Annotated[DeleteEdit | CutEdit | MainBodyEdit | DecimateEdit, Field(discriminator="kind")]
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
