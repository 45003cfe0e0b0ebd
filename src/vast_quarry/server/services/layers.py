"""Layers of a project: what is there, what is out of date, what a run would take."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.reading import find_photos
from vast_quarry.pipeline.grades import GRADES, Grade
from vast_quarry.pipeline.plan import presets
from vast_quarry.pipeline.recipe import Recipe, recipe_for
from vast_quarry.pipeline.registry import STEPS, step_of
from vast_quarry.pipeline.settings import SettingInfo, settings_of
from vast_quarry.pipeline.store import Version
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import Folders, NotFound
from vast_quarry.server.services.plan import saved_plan


class VersionOut(BaseModel):
    """A version, as told to the page."""

    number: int
    settings: dict[str, Any]
    parents: dict[str, int]
    figures: dict[str, Any]
    findings: list[str]
    seconds: float
    made: str


class SettingOut(SettingInfo):
    """One setting of a layer with its value now, and the one that the grade (or the plan) gives it."""

    value: Any
    preset: Any


class LayerOut(BaseModel):
    """A layer's state."""

    layer: str
    title: str
    state: str
    number: int | None
    takes: list[str]
    settings: list[SettingOut]
    versions: list[VersionOut]


def _changed(project: Project) -> dict[str, dict[str, Any]]:
    """Settings that the plan presets, and over them those that were changed by hand."""
    preset = presets(saved_plan(project)) if project.plan else {}
    by_hand = project.settings
    fields = {s.layer: set(s.settings_model.model_fields) for s in STEPS}
    merged = {k: {**preset.get(k, {}), **by_hand.get(k, {})} for k in {*preset, *by_hand}}
    return {k: {n: v for n, v in values.items() if n in fields[k]} for k, values in merged.items() if k in fields}


def no_longer_there(project: Project) -> list[str]:
    """Settings by hand, as ``layer.name``, that this version of the program does not have and passes over."""
    fields = {s.layer: set(s.settings_model.model_fields) for s in STEPS}
    return sorted(f"{k}.{n}" for k, values in project.settings.items() for n in values if n not in fields.get(k, ()))


def recipe_of(project: Project) -> Recipe:
    """The project's recipe: its grade with what was changed by hand."""
    changes = _changed(project)
    changes.setdefault("photos", {})["leave_out"] = sorted(project.left_out)
    return recipe_for(Grade(project.grade), changes)


def places_of(folders: Folders) -> dict[str, dict[str, Any]]:
    """Where the project's photos and masks are."""
    has_masks = folders.masks.is_dir() and any(folders.masks.iterdir())
    return {
        "photos": {"folder": str(folders.photos.resolve())},
        "masks": {"folder": str(folders.masks.resolve()) if has_masks else None},
    }


def settings_now(project: Project, layer: str) -> list[SettingOut]:
    """Settings of a layer that people see, those that matter first."""
    preset = dict(GRADES[Grade(project.grade)].get(layer, {}))
    if project.plan:
        preset |= presets(saved_plan(project)).get(layer, {})
    by_hand = project.settings.get(layer, {})
    out = []
    for info in settings_of(step_of(layer)):
        usual = preset.get(info.name, info.default)
        out.append(SettingOut(**info.model_dump(), preset=usual, value=by_hand.get(info.name, usual)))
    return out


def layers_of(project: Project, folders: Folders) -> list[LayerOut]:
    """All layers that compute, in order."""
    store = folders.store
    in_use, stale = store.in_use(), set(store.out_of_date())
    out = []
    for step in STEPS:
        versions = store.versions(step.layer)
        number = in_use.get(step.layer)
        mine = next((v for v in versions if v.number == number), None)
        state = "empty" if mine is None else "out of date" if step.layer in stale else "ready"
        takes = [f"{p} {in_use[p]}" for p in step.parents if p in in_use]
        out.append(
            LayerOut(
                layer=step.layer, title=step.title, state=state, number=number if mine else None, takes=takes,
                settings=settings_now(project, step.layer),
                versions=[VersionOut(**v.model_dump(include=set(VersionOut.model_fields))) for v in versions],
            )
        )  # fmt: skip
    return out


def change_settings(project: Project, layer: str, values: dict[str, Any]) -> None:
    """Change settings of a layer by hand; values that do not fit are refused and nothing changes.

    Raises
    ------
    PlainError
        When a value does not fit.
    """
    step = step_of(layer)
    merged = {**project.settings.get(layer, {}), **values}
    recipe = recipe_for(Grade(project.grade), {layer: merged})
    recipe.settings(layer, step.settings_model, {"folder": "."} if layer == "photos" else {})
    project.settings = {**project.settings, layer: merged}


def reset_setting(project: Project, layer: str, name: str) -> None:
    """Give a setting back to the grade."""
    step_of(layer)
    left = {k: v for k, v in project.settings.get(layer, {}).items() if k != name}
    project.settings = {**project.settings, layer: left}


def version_of(folders: Folders, layer: str, number: int | None) -> Version:
    """A version by its number, or the one in use.

    Raises
    ------
    NotFound
        When there is none.
    """
    if layer not in {s.layer for s in STEPS}:
        raise NotFound(f"There is no layer called {layer}.")
    wanted = folders.store.in_use().get(layer) if number is None else number
    found = next((v for v in folders.store.versions(layer) if v.number == wanted), None)
    if found is None:
        raise NotFound(f"The layer {layer} has nothing yet.", "Run it first.")
    return found


def has_photos(folders: Folders) -> bool:
    """Whether there is anything to run on."""
    try:
        return bool(find_photos(folders.photos))
    except PlainError:
        return False
