"""Alembic's way in."""

from alembic import context
from sqlalchemy import create_engine
from sqlmodel import SQLModel

import vast_quarry.server.models  # noqa: F401

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=SQLModel.metadata, render_as_batch=True)
    with context.begin_transaction():
        context.run_migrations()
