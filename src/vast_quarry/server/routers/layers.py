"""Layers: state, settings, versions, running, and what the world shows of them."""

from __future__ import annotations

from typing import Annotated, Literal, cast

from fastapi import Query
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say
from vast_quarry.pipeline.atlas_maps import MapKind
from vast_quarry.pipeline.registry import STEPS
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import jobs, joins, layers, lens_maps, marks, nearby, seen, trash, versions, world
from vast_quarry.server.services.folders import Conflict, editing, get_project
from vast_quarry.server.services.sizes import bytes_of

router = strict.router("/api/v1/projects/{project_id}/layers", "layers")
Number = Annotated[int | None, Query(ge=1)]
Finite = Annotated[float, Query(allow_inf_nan=False)]


Limit = Annotated[int, Query(ge=1, le=1000)]


class MadeFrom(BaseModel):
    """A version that was made from another."""

    layer: layers.LayerName
    number: int
    bytes: int


class UseIn(BaseModel):
    """Which version to put in use."""

    number: int


@router.get("")
def list_layers(project_id: int, session: Db, f: Files) -> list[layers.LayerOut]:
    """All layers that compute, in order."""
    return layers.layers_of(get_project(session, project_id), f)


@router.put("/{layer}/settings")
def change_settings(project_id: int, layer: str, body: layers.SettingsChange, session: Db) -> list[layers.SettingOut]:
    """Change settings of a layer."""
    with editing(session, project_id) as project:
        layers.change_settings(project, layer, body)
    return layers.settings_now(project, layer)


@router.delete("/{layer}/settings/{name}")
def reset_setting(project_id: int, layer: str, name: str, session: Db) -> list[layers.SettingOut]:
    """Give a setting back to the grade."""
    with editing(session, project_id) as project:
        layers.reset_setting(project, layer, name)
    return layers.settings_now(project, layer)


@router.get("/{layer}/versions")
def list_versions(
    layer: layers.LayerName, f: Files, before: Number = None, limit: Limit = 100
) -> list[layers.VersionOut]:
    """Versions of a layer, newest first; with ``before`` those below a number."""
    labels = versions.labels_of(f)
    found = [v for v in reversed(f.store.versions(layer)) if before is None or v.number < before]
    return [layers.as_told(f, v, labels.get(v.name)) for v in found[:limit]]


@router.get("/{layer}/versions/{number}")
def one_version(layer: layers.LayerName, number: int, f: Files) -> layers.VersionOut:
    """A version."""
    found = layers.version_of(f, layer, number)
    return layers.as_told(f, found, versions.labels_of(f).get(found.name))


@router.patch("/{layer}/versions/{number}")
def label_version(layer: layers.LayerName, number: int, body: versions.Label, f: Files) -> layers.VersionOut:
    """Call a version something, and note something of it."""
    found = layers.version_of(f, layer, number)
    versions.set_label(f, found, body)
    return layers.as_told(f, found, body)


@router.get("/{layer}/versions/{number}/made-from-it")
def made_from_it(layer: layers.LayerName, number: int, f: Files) -> list[MadeFrom]:
    """The versions that would go with one when it is removed."""
    found = versions.made_from(f, layers.version_of(f, layer, number))
    return [MadeFrom(layer=cast(layers.LayerName, v.layer), number=v.number, bytes=bytes_of(f, v)) for v in found]


@router.delete("/{layer}/versions/{number}")
def remove_version(
    project_id: int,
    layer: layers.LayerName,
    number: int,
    session: Db,
    f: Files,
    with_what_was_made_from_it: bool = False,
) -> trash.Removed:
    """Move a version into the trash, from where it can be brought back.

    Raises
    ------
    Conflict
        When others were made from it, and are not to go with it.
    """
    project = get_project(session, project_id)
    one = layers.version_of(f, layer, number)
    others = versions.made_from(f, one)
    if others and not with_what_was_made_from_it:
        raise Conflict(
            say("From {name} {list} {count, plural, one {was} other {were}} made.", name=one.name, list=[v.name for v in others], count=len(others)),
            "Let them go with it, or keep it.",
        )  # fmt: skip
    return versions.remove(f, project, [one, *others])


@router.post("/{layer}/use", status_code=204)
def use(layer: str, body: UseIn, f: Files) -> None:
    """Put a version in use."""
    f.store.use(layers.version_of(f, layer, body.number))


@router.post("/{layer}/run", status_code=202)
def run(
    project_id: int, layer: str, session: Db, f: Files, everything: bool = False, first_look: bool = False
) -> JobOut:
    """Run a layer from the versions in use, after what is missing or out of date before it.

    With ``everything``, all layers up to it are run by the settings as they are now. With ``first_look`` Points are made of what the alignment
    knows already, whatever the settings say.
    """
    project = get_project(session, project_id)
    if layer not in {s.layer for s in STEPS}:
        raise PlainError(say("There is no layer called {layer}.", layer=layer))
    if not layers.has_photos(f) and not jobs.brings_photos(session, project_id):
        raise PlainError("There are no photos yet.", "Bring some in, or shoot with the practice rig.")
    first = {"points": {**project.settings.get("points", {}), "made_from": "sparse"}} if first_look else None
    return JobOut.of(jobs.add_run(session, project, layer, everything, first))


@router.get("/cameras/scene")
def scene(f: Files, number: Number = None) -> world.SceneOut:
    """Cameras and keep box."""
    return world.scene_of(f, number)


@router.get("/cameras/live")
def live(f: Files) -> world.LiveOut:
    """The alignment under way."""
    return world.live_scene(f)


@router.get("/cameras/ties")
def ties(row: int, f: Files) -> dict[str, list[list[float]]]:
    """Tied and untied features of a photo."""
    return world.ties_of(f, row)


@router.get("/cameras/lenses")
def lenses(f: Files, number: Number = None) -> list[lens_maps.LensMapOut]:
    """Each lens: where on the frame features miss their points, and how it bends."""
    return lens_maps.lens_maps(f, number)


@router.get("/cameras/pairs")
def pairs(f: Files) -> list[joins.PairOut]:
    """Which photos match which, and whether the alignment agrees."""
    return joins.pairs_of(f)


@router.get("/cameras/matches")
def matches(a: int, b: int, f: Files) -> list[joins.MatchOut]:
    """Matches of two photos (rows)."""
    return joins.matches_of(f, a, b)


@router.get("/cameras/track")
def track(x: Finite, y: Finite, z: Finite, f: Files) -> joins.TrackOut:
    """The point of the sparse cloud nearest to a place, and all photos that show it."""
    return joins.track_near(f, (x, y, z))


@router.get("/cameras/track-of")
def track_of(row: int, x: Finite, y: Finite, f: Files) -> joins.TrackOut:
    """The track of the tied feature of a photo nearest to a pixel."""
    return joins.track_of(f, row, (x, y))


@router.get("/cameras/through", response_class=Response)
def through(row: int, f: Files) -> Response:
    """A photo without distortion, to be laid over what its camera sees."""
    return Response(joins.looked_through(f, row), media_type="image/jpeg")


@router.post("/cameras/mark-help")
def mark_help(body: marks.MarkHelpIn, f: Files) -> marks.MarkHelpOut:
    """Where in a photo a place lies that is marked in others."""
    return marks.help_of(f, body)


@router.get("/{layer}/cloud", response_class=FileResponse)
def cloud(
    layer: str,
    f: Files,
    number: Number = None,
    budget: Annotated[int, Query(ge=100, le=5_000_000)] = world.USUAL_BUDGET,
) -> FileResponse:
    """A cloud in compact form."""
    return FileResponse(world.cloud_file(f, layer, number, budget), media_type="application/octet-stream")


@router.post("/points/nearby", response_class=Response)
def nearby_points(f: Files, look: nearby.LookIn, number: Number = None) -> Response:
    """More points of the dense cloud where one looks, in compact form: those in view, about a pixel apart."""
    return Response(nearby.points_in_view(f, number, look), media_type="application/octet-stream")


@router.get("/{layer}/mesh", response_class=FileResponse)
def mesh(layer: str, f: Files, number: Number = None) -> FileResponse:
    """A mesh as GLB."""
    return FileResponse(world.mesh_file(f, layer, number), media_type="model/gltf-binary")


@router.get("/{layer}/seen-by")
def seen_by(layer: str, x: Finite, y: Finite, z: Finite, f: Files, number: Number = None) -> seen.SpotOut:
    """Photos that see a spot of a mesh, best first."""
    return seen.seen_by(f, layer, (x, y, z), number)


@router.get("/{layer}/poster", response_class=FileResponse)
def poster(layer: str, f: Files, number: Number = None) -> FileResponse:
    """A still picture of a mesh in the first view, to show until the mesh is there."""
    return FileResponse(world.poster_file(f, layer, number), media_type="image/webp")


@router.get("/{layer}/atlas-map/{kind}", response_class=Response)
def atlas_map(layer: str, kind: MapKind, f: Files, number: Number = None) -> Response:
    """A picture to lay over the texture: where no photo saw the surface, which photo each part is from, or how stretched it is."""
    return Response(world.map_of_atlas(f, layer, number, kind), media_type="image/png")


@router.get("/texture/held-out", response_class=FileResponse)
def held_out(
    row: Annotated[int, Query(ge=0, le=99_999)], f: Files, shows: Literal["photo", "model", "off"] = "model",
    number: Number = None,
) -> FileResponse:  # fmt: skip
    """A photo that was kept back from the texture, the model drawn from where it was taken, or the difference (four times)."""
    return FileResponse(world.held_out_picture(f, number, row, shows), media_type="image/jpeg")


@router.get("/{layer}/atlas", response_class=FileResponse)
def atlas(layer: str, f: Files, number: Number = None) -> FileResponse:
    """The texture."""
    return FileResponse(world.atlas_file(f, layer, number), media_type="image/jpeg")
