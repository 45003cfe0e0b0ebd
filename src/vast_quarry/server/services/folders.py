"""Where a project's files are, and getting at project rows."""

from __future__ import annotations

import os
import shutil
import threading
import time
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from sqlmodel import Session

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import link_or_copy
from vast_quarry.core.words import say
from vast_quarry.pipeline.archive import LEFT
from vast_quarry.pipeline.store import Store
from vast_quarry.server.models import Project
from vast_quarry.server.services.names import within


class NotFound(PlainError):
    """There is no such thing (HTTP 404)."""


class Conflict(PlainError):
    """Something else stands against it (HTTP 409)."""


@dataclass(frozen=True)
class Folders:
    """Folders of one project below the data folder."""

    root: Path

    @property
    def photos(self) -> Path:
        return self.root / "photos"

    @property
    def masks(self) -> Path:
        return self.root / "masks"

    @property
    def mask_edits(self) -> Path:
        """What was mended of masks by hand."""
        return self.root / "mask-edits.json"

    @property
    def cache(self) -> Path:
        return self.root / "cache"

    @property
    def store(self) -> Store:
        return Store(self.root)

    def make(self) -> None:
        """Make them all."""
        for folder in (self.photos, self.masks, self.cache):
            folder.mkdir(parents=True, exist_ok=True)


def folders_of(data: Path, project_id: int) -> Folders:
    """Folders of a project."""
    return Folders(data / "projects" / str(project_id))


#: of a project, what is never changed once it is there
_UNCHANGED = ("photos", "masks", "videos", "versions")


def duplicate(folders: Folders, into: Folders) -> None:
    """A second project with the same files: what never changes is linked, where the disk can, and takes no room."""
    for here, names, files in os.walk(folders.root):
        below = Path(here).relative_to(folders.root)
        names[:] = [n for n in names if not n.endswith(".partial") and not (below == Path() and n in LEFT)]
        (into.root / below).mkdir(parents=True, exist_ok=True)
        for name in files:
            source, target = Path(here) / name, into.root / below / name
            if name.endswith((".lock", ".partial")):
                continue
            if source.is_symlink():
                target.symlink_to(os.readlink(source))
            elif (
                below.parts[:1]
                and below.parts[0] in _UNCHANGED
                and len(below.parts) + (below.parts[0] != "versions") > 1
            ):
                link_or_copy(source, target)
            else:
                shutil.copy2(source, target)
    into.make()


def remove(folders: Folders) -> None:
    """Delete the files of a project.

    Raises
    ------
    PlainError
        When some cannot be deleted.
    """
    left: list[str] = []
    # a thumbnail that was asked for just before is still being written, which fills a folder that was just emptied
    for pause in (0.1, 0.3, 1.0):
        shutil.rmtree(folders.root, ignore_errors=True)
        if not folders.root.exists():
            return
        time.sleep(pause)

    def note(_: object, path: str, error: BaseException) -> None:
        if not isinstance(error, FileNotFoundError):
            left.append(f"{path} ({getattr(error, 'strerror', None) or error})")

    shutil.rmtree(folders.root, onerror=lambda call, path, info: note(call, path, info[1]))
    if left:
        pattern = (
            "The project is removed, but not all of its files could be deleted: "
            "{file}{more, plural, =0 {} other { and # more}}."
        )
        raise PlainError(
            say(pattern, file=left[0], more=len(left) - 1),
            say("Delete the folder {folder} yourself.", folder=folders.root),
        )


def get_project(session: Session, project_id: int) -> Project:
    """A project's row.

    Raises
    ------
    NotFound
        When there is none.
    """
    project = session.get(Project, project_id)
    if project is None:
        raise NotFound("This project is no longer there.", "Go back to the projects.")
    return project


_editing: defaultdict[int, threading.RLock] = defaultdict(threading.RLock)


@contextmanager
def editing(session: Session, project_id: int) -> Iterator[Project]:
    """The project's row, read anew, to be changed while no other request does: two changes of different things both stand."""
    with _editing[project_id]:
        session.expire_all()
        project = get_project(session, project_id)
        yield project
        session.add(project)
        session.commit()
        session.refresh(project)


def safe_path(root: Path, name: str) -> Path:
    """A path below a folder, whatever a client sends.

    Raises
    ------
    NotFound
        When it leads elsewhere or names nothing.
    """
    try:
        path = within(root, name)
        there = path.is_file()
    except (PlainError, OSError, ValueError) as error:
        raise NotFound("There is no such file.") from error
    if not there:
        raise NotFound("There is no such file.")
    return path
