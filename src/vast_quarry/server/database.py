"""SQLite with write-ahead log and foreign keys; migrated by Alembic when it is opened."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from fastapi import Request
from sqlalchemy import Engine, event
from sqlmodel import Session, create_engine

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say

NAME = "vast-quarry.sqlite"


def database_url(data: Path) -> str:
    """Where the database of a data folder is."""
    return f"sqlite:///{data / NAME}"


def open_database(data: Path, migrate: bool = True) -> Engine:
    """Open the database of a data folder, and bring it up to date.

    Raises
    ------
    PlainError
        When it is damaged, or was written by a later version of the program; it is left as it is.
    """
    data.mkdir(parents=True, exist_ok=True)
    if migrate:
        _bring_up_to_date(data)
    engine = create_engine(database_url(data), connect_args={"timeout": 30, "check_same_thread": False})

    @event.listens_for(engine, "connect")
    def prepare(connection: Any, _: Any) -> None:
        cursor = connection.cursor()
        # FULL: what was said to be saved is there after a power cut too
        for pragma in ("journal_mode=WAL", "foreign_keys=ON", "synchronous=FULL"):
            cursor.execute(f"PRAGMA {pragma}")
        cursor.close()

    return engine


def _bring_up_to_date(data: Path) -> None:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", database_url(data).replace("%", "%%"))
    scripts = ScriptDirectory.from_config(config)
    file = data / NAME
    if file.exists() and file.stat().st_size:
        now = _revision(file)
        if now == scripts.get_current_head():
            return
        if now is not None and now not in {s.revision for s in scripts.walk_revisions()}:
            raise PlainError(
                say("The projects in {data} were written by a later version of Vast Quarry.", data=data),
                "Use that version, or another folder.",
            )
        # what a migration that was killed had begun is no part of the database
        with (
            closing(sqlite3.connect(file)) as old,
            closing(sqlite3.connect(data / f"before-{now or '0'}.sqlite")) as copy,
        ):
            for (name,) in old.execute("SELECT name FROM sqlite_master WHERE name LIKE '_alembic_tmp_%'").fetchall():
                old.execute(f'DROP TABLE "{name}"')
            old.commit()
            old.backup(copy)
    command.upgrade(config, "head")


def _revision(file: Path) -> str | None:
    """The schema of a database; nothing for one that has none yet."""
    try:
        with closing(sqlite3.connect(file)) as c:
            if not c.execute("SELECT 1 FROM sqlite_master WHERE name = 'alembic_version'").fetchone():
                return None
            found = c.execute("SELECT version_num FROM alembic_version").fetchone()
            return None if found is None else str(found[0])
    except sqlite3.DatabaseError as error:
        raise PlainError(
            say("{file} is damaged ({error}), and is left as it is.", file=file, error=error),
            "Put it back from a copy (before-*.sqlite beside it are made before each change of its shape).",
        ) from error


def session_of(request: Request) -> Iterator[Session]:
    """A session for one request."""
    with Session(request.app.state.engine) as session:
        yield session
