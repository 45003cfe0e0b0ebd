"""Layers of a project: what is there, what is out of date, what a run would take."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal, cast

from pydantic import BaseModel, Field, TypeAdapter, ValidationError, WithJsonSchema

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.reading import find_photos, photo_names
from vast_quarry.core.words import say
from vast_quarry.pipeline.figures import (
    CamerasFigures,
    FinishFigures,
    LayerName,
    MasksFigures,
    PhotosFigures,
    PointsFigures,
    SurfaceFigures,
    TextureFigures,
)
from vast_quarry.pipeline.grades import GRADES, Grade
from vast_quarry.pipeline.plan import presets
from vast_quarry.pipeline.recipe import Recipe, recipe_for
from vast_quarry.pipeline.registry import STEPS, step_of
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.pipeline.settings import SettingInfo, SettingValue, settings_of
from vast_quarry.pipeline.step import Step
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import Version
from vast_quarry.server.models import Project
from vast_quarry.server.services import versions
from vast_quarry.server.services.folders import Folders, NotFound
from vast_quarry.server.services.judging import proposed_out
from vast_quarry.server.services.plan import saved_plan
from vast_quarry.server.services.sizes import bytes_of


class _Version(BaseModel):
    """A version, as told to the page."""

    number: int
    #: as they were then: of an earlier program they may be others than today's
    settings: dict[str, Any]
    parents: dict[str, int]
    findings: list[Sentence]
    seconds: float
    made: str
    #: what somebody calls it, and what they noted
    name: str = ""
    note: str = ""
    #: bytes on the disk
    bytes: int = 0
    #: grade that its settings are nearest to, and those that are others
    grade: Grade = Grade.DRESSED
    changed: list[versions.Changed] = []


class PhotosVersion(_Version):
    """A version of Photos."""

    layer: Literal["photos"]
    figures: PhotosFigures


class MasksVersion(_Version):
    """A version of Masks."""

    layer: Literal["masks"]
    figures: MasksFigures


class CamerasVersion(_Version):
    """A version of Cameras."""

    layer: Literal["cameras"]
    figures: CamerasFigures


class PointsVersion(_Version):
    """A version of Points."""

    layer: Literal["points"]
    figures: PointsFigures


class SurfaceVersion(_Version):
    """A version of Surface."""

    layer: Literal["surface"]
    figures: SurfaceFigures


class TextureVersion(_Version):
    """A version of Texture."""

    layer: Literal["texture"]
    figures: TextureFigures


class FinishVersion(_Version):
    """A version of Finish."""

    layer: Literal["finish"]
    figures: FinishFigures


VersionOut = Annotated[
    PhotosVersion | MasksVersion | CamerasVersion | PointsVersion | SurfaceVersion | TextureVersion | FinishVersion,
    Field(discriminator="layer"),
]
_told: TypeAdapter[VersionOut] = TypeAdapter(VersionOut)


def as_told(folders: Folders, version: Version, label: versions.Label | None) -> VersionOut:
    """A version for the page; figures of an earlier program that are something else today are passed over."""
    grade, others = versions.grade_and_changes(version)
    raw = version.model_dump() | {
        "bytes": bytes_of(folders, version), "grade": grade, "changed": others, **(label or versions.Label()).model_dump(),
    }  # fmt: skip
    if raw["settings"].get("cleared"):  # regions of points take much room, and the page only tells how many there are
        raw["settings"]["cleared"] = len(raw["settings"]["cleared"])
    try:
        return _told.validate_python(raw)
    except ValidationError:
        return _told.validate_python({**raw, "figures": {}})


class SettingOut(SettingInfo):
    """One setting of a layer with its value now, and the one that the grade (or the plan) gives it."""

    value: SettingValue
    preset: SettingValue


class LayerOut(BaseModel):
    """A layer's state."""

    layer: LayerName
    title: str
    state: Literal["empty", "out of date", "ready"]
    number: int | None
    takes: list[str]
    #: layers that a run of it would make, itself the last
    runs: list[LayerName]
    settings: list[SettingOut]
    versions: list[VersionOut]


def _changes_of(step: Step) -> dict[str, Any]:
    """Schema of what may be changed in a layer's settings: each by itself, so none has to be there."""
    schema = step.settings_model.model_json_schema()
    inner = schema.get("$defs", {})

    def whole(part: Any) -> Any:
        """With what it refers to written out, since the document does not have it."""
        if isinstance(part, list):
            return [whole(p) for p in part]
        if not isinstance(part, dict):
            return part
        if "$ref" in part:
            return whole(inner[part["$ref"].rsplit("/", 1)[-1]])
        return {k: whole(v) for k, v in part.items() if k != "discriminator"}

    plain = {n: {k: v for k, v in whole(p).items() if k != "default"} for n, p in schema["properties"].items()}
    return {"title": f"{step.title}Changes", "type": "object", "properties": plain}


#: settings to be changed; whether they fit is judged with all others of the layer, and told in words
SettingsChange = Annotated[
    dict[str, Any], WithJsonSchema({"anyOf": [c for c in map(_changes_of, STEPS) if c["properties"]]})
]


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


def keep_as_judged(recipe: Recipe, folders: Folders, project: Project) -> None:
    """Leave out what a run of everything left out as judging proposed, as long as nobody has decided otherwise.

    Else the next run of a single layer would take those photos in again, and make everything anew.
    """
    number = folders.store.in_use().get("photos")
    found = next((v for v in folders.store.versions("photos") if v.number == number), None)
    out = set(found.settings.get("judged_out") or ()) if found else set()
    if out:
        recipe.layers.setdefault("photos", {})["judged_out"] = sorted(
            out & set(proposed_out(folders, project.left_out))
        )


def photos_changed(project: Project, folders: Folders) -> bool:
    """Whether the version of Photos in use is of other photos than there are now, or of others left out or evened out."""
    number = folders.store.in_use().get("photos")
    found = next((v for v in folders.store.versions("photos") if v.number == number), None)
    if found is None:
        return False
    recipe = recipe_of(project)
    keep_as_judged(recipe, folders, project)
    model = step_of("photos").settings_model
    places = {"folder", "frames", "more"}
    try:
        now = recipe.settings("photos", model, places_of(folders)["photos"]).model_dump(mode="json", exclude=places)
    except PlainError:  # settings that fit no longer are told when a run is asked for
        return False
    try:
        then = model.model_validate(found.settings).model_dump(mode="json", exclude=places)
        listed = read_photo_list(folders.store.folder(found))
    except (OSError, ValueError):
        return True
    return now != then or {p.path for p in listed.photos if p.base is None} != set(photo_names(folders.photos))


def will_run(layer: str, states: Mapping[str, str], photos: bool) -> list[LayerName]:
    """Layers that a run of one would make: itself, and those before it that are missing or out of date.

    Parameters
    ----------
    layer : str
    states : mapping of str to str
        State of each layer.
    photos : bool
        Whether the photos have changed.
    """
    made: list[LayerName] = []
    for step in STEPS[: [s.layer for s in STEPS].index(layer) + 1]:
        behind = states[step.layer] != "ready" or (step.layer == "photos" and photos)
        if step.layer == layer or behind or any(p in made for p in step.parents):
            made.append(cast(LayerName, step.layer))
    return made


def places_of(folders: Folders) -> dict[str, dict[str, Any]]:
    """Where the project's photos and masks are."""
    network = folders.root.parent.parent / "network.onnx"
    has_masks = folders.masks.is_dir() and any(folders.masks.iterdir())
    return {
        "photos": {"folder": str(folders.photos.resolve())},
        "masks": {
            "folder": str(folders.masks.resolve()) if has_masks else None,
            "model": str(folders.root.resolve()),
            "network": str(network) if network.exists() else None,
            "edits": str(folders.mask_edits.resolve()) if folders.mask_edits.exists() else None,
        },
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
    labels = versions.labels_of(folders)
    in_use, stale = store.in_use(), set(store.out_of_date())
    changed = photos_changed(project, folders)
    states: dict[str, Literal["empty", "out of date", "ready"]] = {}
    out = []
    for step in STEPS:
        made = store.versions(step.layer)
        number = in_use.get(step.layer)
        mine = next((v for v in made if v.number == number), None)
        # what photos that changed make out of date is so at once, not only when they were looked at
        behind = step.layer in stale or changed or any(states[p] == "out of date" for p in step.parents)
        states[step.layer] = "empty" if mine is None else "out of date" if behind else "ready"
        takes = [f"{p} {in_use[p]}" for p in step.parents if p in in_use]
        out.append(
            LayerOut(
                layer=step.layer, title=step.title, state=states[step.layer], number=number if mine else None, takes=takes, runs=will_run(step.layer, states, changed),
                settings=settings_now(project, step.layer),
                versions=[as_told(folders, v, labels.get(v.name)) for v in made],
            )
        )  # fmt: skip
    return out


def _known(layer: str) -> Step:
    """The step of a layer.

    Raises
    ------
    NotFound
        When there is no such layer.
    """
    if layer not in {s.layer for s in STEPS}:
        raise NotFound(say("There is no layer called {layer}.", layer=layer))
    return step_of(layer)


def change_settings(project: Project, layer: str, values: dict[str, Any]) -> None:
    """Change settings of a layer by hand; values that do not fit are refused and nothing changes.

    Raises
    ------
    PlainError
        When a value does not fit.
    """
    step = _known(layer)
    merged = {**project.settings.get(layer, {}), **values}
    recipe = recipe_for(Grade(project.grade), {layer: merged})
    recipe.settings(layer, step.settings_model, {"folder": "."} if layer == "photos" else {})
    project.settings = {**project.settings, layer: merged}


def reset_setting(project: Project, layer: str, name: str) -> None:
    """Give a setting back to the grade."""
    _known(layer)
    left = {k: v for k, v in project.settings.get(layer, {}).items() if k != name}
    project.settings = {**project.settings, layer: left}


def version_of(folders: Folders, layer: str, number: int | None) -> Version:
    """A version by its number, or the one in use.

    Raises
    ------
    NotFound
        When there is none.
    """
    _known(layer)
    wanted = folders.store.in_use().get(layer) if number is None else number
    found = next((v for v in folders.store.versions(layer) if v.number == wanted), None)
    if found is None:
        raise NotFound(say("The layer {layer} has nothing yet.", layer=layer), "Run it first.")
    return found


def has_photos(folders: Folders) -> bool:
    """Whether there is anything to run on."""
    try:
        return bool(find_photos(folders.photos))
    except PlainError:
        return False
