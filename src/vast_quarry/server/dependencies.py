"""What requests need: a session, the project's row, its folders."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request
from sqlmodel import Session

from vast_quarry.server.database import session_of
from vast_quarry.server.services.folders import Folders, folders_of

Db = Annotated[Session, Depends(session_of)]


def folders(request: Request, project_id: int) -> Folders:
    """Folders of the project in the path."""
    return folders_of(request.app.state.data, project_id)


Files = Annotated[Folders, Depends(folders)]
