"""Jobs can be paused."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the column."""
    op.add_column("job", sa.Column("pause", sa.Boolean, nullable=False, server_default=sa.false()))


def downgrade() -> None:
    """Drop it."""
    with op.batch_alter_table("job") as table:
        table.drop_column("pause")
