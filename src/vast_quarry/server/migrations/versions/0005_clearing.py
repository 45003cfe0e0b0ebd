"""A project has a draft of points to be cleared away."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the column."""
    op.add_column("project", sa.Column("clearing", sa.JSON(), nullable=False, server_default="{}"))


def downgrade() -> None:
    """Leave it out again."""
    with op.batch_alter_table("project") as batch:
        batch.drop_column("clearing")
