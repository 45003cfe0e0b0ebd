"""Edits of a model that is a file: the same steps that the page keeps, replayed."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.edits import TexturedMesh, welded
from vast_quarry.core.finish.levels import recoloured
from vast_quarry.core.finish.operations import apply_edit, what_changed
from vast_quarry.core.formats.models import Model
from vast_quarry.core.surface.mesh import joined, open_edges
from vast_quarry.core.words import say
from vast_quarry.pipeline.edits import Edit, edit_of
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.store import Store

#: what a file of edits says it is
KIND, NUMBER = "vast-quarry-edits", 1
MOST_BYTES = 200_000_000


def read_edits(path: Path) -> list[Edit]:
    """Edits from a file: ``{"edits": [...]}`` or the list alone.

    Raises
    ------
    PlainError
        When it cannot be read; names the step that is wrong.
    """
    try:
        if path.stat().st_size > MOST_BYTES:
            raise PlainError(say("{name} is too large for a file of edits.", name=path.name))
        found = json.loads(path.read_bytes())
    except OSError as error:
        raise PlainError(
            say("{path} cannot be read ({why}).", path=path, why=error.strerror), "Check the path."
        ) from error
    except (ValueError, RecursionError) as error:
        raise PlainError(say("{name} is no JSON.", name=path.name), "Save the edits anew.") from error
    steps = found.get("edits") if isinstance(found, dict) else found
    if not isinstance(steps, list):
        raise PlainError(say("{name} holds no edits.", name=path.name), "See docs/formats.md for what they look like.")
    out = []
    for n, step in enumerate(steps):
        try:
            out.append(edit_of(step))
        except PlainError as error:
            raise PlainError(say("Step {n} of {name} is unknown or incomplete.", n=n + 1, name=path.name)) from error
    return out


def edits_document(edits: list[dict[str, Any]]) -> dict[str, Any]:
    """Edits as a file holds them."""
    return {"kind": KIND, "version": NUMBER, "edits": edits}


def box_of(source: Path, model: Model) -> KeepBox:
    """The keep box of a folder that a build wrote; else the box about the model."""
    if source.is_dir() and (source / "versions").is_dir():
        store = Store(source)
        made = store.versions("cameras")
        if made:
            number = store.in_use().get("cameras", made[-1].number)
            found = next((v for v in made if v.number == number), made[-1])
            return load_solution(store.folder(found)).box
    low, high = model.vertices.min(0), model.vertices.max(0)
    return KeepBox(tuple(low), tuple(high))  # type: ignore[arg-type]


def edited(
    model: Model, edits: list[Edit], box: KeepBox, check: Callable[[], None] = lambda: None
) -> tuple[Model, list[dict[str, Any]]]:
    """A model with edits done to it, and what each did.

    Colours are carried over to what had to be unwrapped anew.
    """
    uv = model.uv if model.uv is not None else np.zeros((len(model.vertices), 2))
    mesh = begin = TexturedMesh(model.vertices, model.normals, uv, model.faces)
    done = []
    for n, edit in enumerate(edits):
        check()
        before = mesh
        try:
            mesh = apply_edit(mesh, edit.model_dump(), box)
        except PlainError as error:
            raise PlainError(
                say("Step {n} ({kind}) could not be done:", n=n + 1, kind=edit.kind), str(error)
            ) from error
        done.append({"kind": edit.kind, **what_changed(before, mesh)})
    if not mesh.retexture:
        kept = model.colors if len(mesh.vertices) == len(model.vertices) else None
        shown = model.uv is not None
        out = Model(mesh.vertices, mesh.normals, mesh.faces, mesh.uv if shown else None, model.picture, kept)
        return out, done
    if model.uv is None or model.picture is None:
        return Model(mesh.vertices, mesh.normals, mesh.faces), done
    side = max(model.picture.shape[:2])
    picture = (
        cv2.resize(model.picture, (side, side)) if model.picture.shape[0] != model.picture.shape[1] else model.picture
    )
    new, colors = recoloured(*welded(mesh.back()), replace(begin, placed=None), picture, check)
    if mesh.placed is not None:
        new = new.moved(mesh.placed)
    return Model(new.vertices, new.normals, new.faces, new.uv, colors), done


def edit_report(model: Model, done: list[dict[str, Any]]) -> dict[str, Any]:
    """What was done, and what came of it."""
    v, f = joined(model.vertices, model.faces)
    size = np.ptp(model.vertices, axis=0) * 1000
    return {
        "edits": done,
        "triangles": len(model.faces),
        "open_edges": len(open_edges(f)),
        "size_mm": [round(float(x), 4) for x in size],
        "vertices": len(v),
    }
