"""Recipes: the settings of all layers as one readable file that replays the work."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, ValidationError

from vast_quarry import __version__
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.words import say
from vast_quarry.pipeline.grades import GRADES, Grade
from vast_quarry.pipeline.registry import STEPS
from vast_quarry.pipeline.step import StepSettings

#: settings that say where things lie on this machine; a recipe can be replayed on other photos
PLACES = {
    ("photos", "folder"),
    ("photos", "frames"),
    ("photos", "more"),
    ("masks", "folder"),
    ("masks", "model"),
    ("masks", "edits"),
    ("masks", "network"),
}


def first_misfit(error: ValidationError) -> tuple[str, str]:
    """Name of the first value that does not fit, and why."""
    first = error.errors()[0]
    return ".".join(str(p) for p in first["loc"]), first["msg"]


class Recipe(BaseModel):
    """Settings by layer."""

    model_config = ConfigDict(extra="forbid")
    recipe: int = 1
    made_with: str = f"Vast Quarry {__version__}"
    grade: Grade = Grade.DRESSED
    layers: dict[str, dict[str, Any]] = {}

    def settings(self, layer: str, model: type[StepSettings], places: dict[str, Any]) -> StepSettings:
        """Settings of a layer, with the places of this machine put in.

        Raises
        ------
        PlainError
            When a value does not fit.
        """
        values = {**self.layers.get(layer, {}), **places}
        try:
            return model.model_validate(values)
        except ValidationError as error:
            where, why = first_misfit(error)
            raise PlainError(
                say("The setting {where} of {layer} does not fit: {why}.", where=where, layer=layer, why=why),
                "Change it and try again.",
            ) from error


def recipe_for(grade: Grade, changes: dict[str, dict[str, Any]] | None = None) -> Recipe:
    """The recipe of a grade with some settings changed."""
    layers = {s.layer: dict(GRADES[grade].get(s.layer, {})) for s in STEPS}
    for layer, values in (changes or {}).items():
        layers[layer].update(values)
    return Recipe(grade=grade, layers=layers)


def read_recipe(path: Path) -> Recipe:
    """Read a recipe file.

    Raises
    ------
    PlainError
        When it is none.
    """
    try:
        recipe = Recipe.model_validate(json.loads(path.read_text("utf-8")))
    except OSError as error:
        raise PlainError(
            say("The recipe {path} cannot be read ({why}).", path=path, why=error.strerror), "Check the path."
        ) from error
    except (ValueError, ValidationError) as error:
        raise PlainError(
            say("{name} is not a recipe.", name=path.name), "A recipe is the recipe.json written beside a result."
        ) from error
    known = {s.layer for s in STEPS}
    strange = set(recipe.layers) - known
    if strange:
        raise PlainError(say("The recipe names layers that do not exist: {list}.", list=", ".join(sorted(strange))))
    return recipe


def write_recipe(path: Path, recipe: Recipe, used: dict[str, dict[str, Any]]) -> None:
    """Write a recipe with every setting as it was used, defaults too, but no places of this machine."""
    layers = {layer: {k: v for k, v in values.items() if (layer, k) not in PLACES} for layer, values in used.items()}
    write_json(path, recipe.model_copy(update={"layers": layers}).model_dump(mode="json"))
