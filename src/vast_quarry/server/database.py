"""SQLite with write-ahead log and foreign keys; migrated by Alembic when it is opened."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from fastapi import Request
from sqlalchemy import Engine, event
from sqlmodel import Session, create_engine


def database_url(data: Path) -> str:
    """Where the database of a data folder is."""
    return f"sqlite:///{data / 'vast-quarry.sqlite'}"


def open_database(data: Path) -> Engine:
    """Open, and bring up to date, the database of a data folder."""
    data.mkdir(parents=True, exist_ok=True)
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", database_url(data))
    command.upgrade(config, "head")
    engine = create_engine(database_url(data), connect_args={"timeout": 30, "check_same_thread": False})

    @event.listens_for(engine, "connect")
    def prepare(connection: Any, _: Any) -> None:
        cursor = connection.cursor()
        for pragma in ("journal_mode=WAL", "foreign_keys=ON", "synchronous=NORMAL"):
            cursor.execute(f"PRAGMA {pragma}")
        cursor.close()

    return engine


def session_of(request: Request) -> Iterator[Session]:
    """A session for one request."""
    with Session(request.app.state.engine) as session:
        yield session
