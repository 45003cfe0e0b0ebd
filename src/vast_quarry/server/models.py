"""Tables."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import JSON, Column, ForeignKey, Integer, String, TypeDecorator
from sqlmodel import Field, SQLModel

from vast_quarry.core.words import Said
from vast_quarry.pipeline.sentence import as_data, sentence


def now() -> str:
    """The time as UTC text."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class SaidText(TypeDecorator[Said]):
    """A sentence in a column of text: as it is where it has no values, else as JSON."""

    impl = String
    cache_ok = True

    def process_bind_param(self, value: str | None, dialect: object) -> str:
        return json.dumps(as_data(value)) if isinstance(value, Said) and value.values else str(value or "")

    def process_result_value(self, value: str | None, dialect: object) -> Said:
        text = value or ""
        return sentence(json.loads(text)) if text.startswith('{"text": ') else Said(text)


class SaidLines(TypeDecorator[list[Said]]):
    """Sentences in a column of JSON."""

    impl = JSON
    cache_ok = True

    def process_bind_param(self, value: Sequence[str] | None, dialect: object) -> list[Any]:
        return [as_data(v) if isinstance(v, Said) and v.values else str(v) for v in value or ()]

    def process_result_value(self, value: list[Any] | None, dialect: object) -> list[Said]:
        return [sentence(v) for v in value or ()]


_REVISION = Column("revision", Integer, nullable=False, server_default="1")


class Project(SQLModel, table=True):
    """One object or place being recorded. Numbers never come again: folders, caches and other pages go by them."""

    __table_args__ = {"sqlite_autoincrement": True}
    #: who writes a row that somebody else has written since it was read is refused (StaleDataError)
    __mapper_args__ = {"version_id_col": _REVISION}

    id: int | None = Field(default=None, primary_key=True)
    revision: int | None = Field(default=None, sa_column=_REVISION)
    name: str
    made: str = Field(default_factory=now)
    grade: str = "dressed"
    #: settings changed by hand, by layer
    settings: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    #: what somebody noted of it, as Markdown
    notes: str = ""
    #: plan of the shoot
    plan: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    #: photos left out, by path
    left_out: list[str] = Field(default_factory=list, sa_column=Column(JSON, nullable=False))
    #: edits of the open draft, and how many of them are done (the rest can be redone)
    draft: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSON, nullable=False))
    draft_done: int = 0
    #: number of the version of Texture that the draft was begun on
    draft_on: int | None = None
    #: points to be cleared away that are not kept yet: the version of Points (on), edits, and how many of them are done
    clearing: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False, server_default="{}"))


class HistoryStep(SQLModel, table=True):
    """Something that was done by hand to a layer of a project, and can be taken back or, when it was, done again."""

    __table_args__ = {"sqlite_autoincrement": True}

    id: int | None = Field(default=None, primary_key=True)
    project_id: int = Field(
        sa_column=Column(Integer, ForeignKey("project.id", ondelete="CASCADE"), nullable=False, index=True)
    )
    #: photos or masks
    layer: str = Field(default="photos", sa_column=Column(String, nullable=False, server_default="photos"))
    says: str = Field(default="", sa_column=Column(SaidText, nullable=False))
    #: of photos what was before and after, of masks the edit and its photos
    change: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    #: not taken back
    done: bool = True
    made: str = Field(default_factory=now)


class TonePreset(SQLModel, table=True):
    """Settings of evening out, kept under a name for all projects."""

    name: str = Field(primary_key=True)
    tone: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))


class Job(SQLModel, table=True):
    """Work that is queued, runs or is over."""

    __table_args__ = {"sqlite_autoincrement": True}

    id: int | None = Field(default=None, primary_key=True)
    project_id: int = Field(
        sa_column=Column(Integer, ForeignKey("project.id", ondelete="CASCADE"), nullable=False, index=True)
    )
    kind: str
    params: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    #: queued, running, done, failed, cancelled
    state: str = Field(default="queued", sa_column=Column(String, nullable=False, index=True))
    layer: str = ""
    stage: str = ""
    done: float = 0.0
    total: float = 0.0
    #: which of its steps a job is at, of so many
    step: int = 1
    steps: int = 1
    #: how far the whole of it is, 0 to 1
    share: float = 0.0
    seconds_left: float | None = None
    message: str = Field(default="", sa_column=Column(SaidText, nullable=False))
    log: list[str] = Field(default_factory=list, sa_column=Column(SaidLines, nullable=False))
    cancel: bool = False
    #: a shoot waits until somebody lets it go on
    pause: bool = False
    made: str = Field(default_factory=now)
    started: str | None = None
    ended: str | None = None
    heartbeat: str | None = None
    #: how often a worker died over it
    deaths: int = 0
