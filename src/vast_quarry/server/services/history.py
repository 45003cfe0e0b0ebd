"""One history for each layer of a project that is worked on by hand: what can be taken back, and what can be done again.

What was done to photos (left out, sets, evening out, removed) is kept as changes; Masks, Points and Finish are made anew from
their edits, so there a step back is one edit fewer. All of it is in the database and under the project's lock: what was done to
photos and masks as steps, since another version leaves them as they are; edits of Points and Finish with the version that they
were begun on, in the project's row.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, Literal

from pydantic import BaseModel
from sqlmodel import Session

from vast_quarry.core.formats.documents import changed
from vast_quarry.core.words import Said
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.server.models import Project
from vast_quarry.server.services import clearing, drafts, masks, sets, steps, trash
from vast_quarry.server.services.folders import Folders, NotFound, editing, get_project

EditedLayer = Literal["photos", "masks", "points", "finish"]
#: steps that are kept of a project's photos
MOST = 200
#: settings of Photos that are changed by hand as a whole
_BY_HAND = ("tone", "tones", "gains", "falloff", "falloff_from", "focals")


class HistoryOut(BaseModel):
    """What can be taken back and done again in a layer, and what that is, where it has a name."""

    layer: EditedLayer
    undo: int
    redo: int
    undo_says: Sentence | None = None
    redo_says: Sentence | None = None


def _snapshot(project: Project, folders: Folders) -> dict[str, Any]:
    mine = project.settings.get("photos", {})
    return {
        "left_out": set(project.left_out),
        "sets": sets.by_hand(folders),
        "settings": {k: mine[k] for k in _BY_HAND if k in mine},
    }


@contextmanager
def recorded(session: Session, project_id: int, folders: Folders, says: Said) -> Iterator[Project]:
    """The project's row, to change its photos while no other request does; what was changed can be taken back."""
    with editing(session, project_id) as project:
        before = _snapshot(project, folders)
        yield project
        after = _snapshot(project, folders)
        change: dict[str, Any] = {}
        if after["left_out"] != before["left_out"]:
            change["left_out"] = [
                sorted(before["left_out"] - after["left_out"]),
                sorted(after["left_out"] - before["left_out"]),
            ]
        both = {**before["sets"], **after["sets"]}
        if moved := {
            p: [before["sets"].get(p), after["sets"].get(p)]
            for p in both
            if before["sets"].get(p) != after["sets"].get(p)
        }:
            change["sets"] = moved
        if after["settings"] != before["settings"]:
            change["settings"] = [before["settings"], after["settings"]]
        if change:
            note(session, project_id, says, change)


def note(session: Session, project_id: int, says: Said, change: dict[str, Any]) -> None:
    """Put a step at the end of the history of photos."""
    steps.add(session, project_id, "photos", says, change)
    steps.keep_latest(session, project_id, "photos", MOST)


def _photos(session: Session, project: Project, folders: Folders, forth: bool) -> bool:
    """Take a step; whether there was nothing left to take it with, and it is forgotten."""
    assert project.id is not None
    step = steps.next_of(session, project.id, "photos", forth)
    if step is None:
        return False
    change, side = dict(step.change), int(forth)
    if "trash" in change:
        try:
            if forth:
                change["trash"] = remove_photos(folders, change["paths"]).number
            else:
                trash.bring_back(folders, change["trash"])
        except NotFound:  # the trash was emptied, or it was brought back from there
            session.delete(step)
            return True
    if "left_out" in change:
        project.left_out = sorted(
            set(project.left_out) - set(change["left_out"][1 - side]) | set(change["left_out"][side])
        )
    if "sets" in change:
        with changed(folders.root / sets.SETS) as names:
            for path, values in change["sets"].items():
                if values[side] is None:
                    names.pop(path, None)
                else:
                    names[path] = values[side]
    if "settings" in change:
        rest = {k: v for k, v in project.settings.get("photos", {}).items() if k not in _BY_HAND}
        project.settings = {**project.settings, "photos": {**rest, **change["settings"][side]}}
    step.done, step.change = forth, change
    session.add(step)
    return False


def remove_photos(folders: Folders, paths: list[str]) -> trash.Removed:
    """Move photos of a project into its trash: what lies there by reference stays where it is, only the reference goes."""
    return trash.put_away(folders, "photos", paths, [trash.within(folders.photos, p) for p in paths])


def _points(session: Session, project: Project, folders: Folders, forth: bool) -> None:
    draft = clearing.draft_of(project, folders)
    draft.done = min(len(draft.edits), draft.done + 1) if forth else max(0, draft.done - 1)
    clearing.write_draft(project, draft)


def _finish(session: Session, project: Project, folders: Folders, forth: bool) -> None:
    if forth:
        drafts.forth(project, folders)
    else:
        project.draft_done = max(0, project.draft_done - 1)


_MOVES: dict[EditedLayer, Callable[[Session, Project, Folders, bool], bool | None]] = {
    "photos": _photos, "masks": masks.step, "points": _points, "finish": _finish,
}  # fmt: skip


def move(session: Session, project_id: int, folders: Folders, layer: EditedLayer, forth: bool) -> HistoryOut:
    """Take the last step of a layer back, or do the one taken back last again.

    Raises
    ------
    NotFound
        When photos that it would bring back, or remove, are no longer there; the step is forgotten then.
    """
    with editing(session, project_id) as project:
        lost = _MOVES[layer](session, project, folders, forth)
    if lost:
        raise NotFound(
            "What this step moved is no longer there, so the step is forgotten.",
            "The steps before it can still be undone.",
        )
    return history_of(session, project_id, folders, layer)


def history_of(session: Session, project_id: int, folders: Folders, layer: EditedLayer) -> HistoryOut:
    """What can be taken back and done again."""
    project = get_project(session, project_id)
    if layer in ("photos", "masks"):
        if layer == "masks":
            masks.take_up(session, project_id, folders)
        done, undone = steps.counts(session, project_id, layer)
        back, again = (steps.next_of(session, project_id, layer, forth) for forth in (False, True))
        return HistoryOut(
            layer=layer, undo=done, redo=undone, undo_says=back.says if back else None, redo_says=again.says if again else None
        )  # fmt: skip
    if layer == "points":
        there = dict(project.clearing or {})
        done = int(there.get("done", 0))
        undone = len(there.get("edits", [])) - done
    else:
        done, undone = project.draft_done, len(project.draft) - project.draft_done
    return HistoryOut(layer=layer, undo=done, redo=undone)
