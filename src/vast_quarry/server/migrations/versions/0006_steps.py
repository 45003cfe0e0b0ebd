"""A job says which of its steps it is at, and how far the whole is."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the columns."""
    op.add_column("job", sa.Column("step", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("job", sa.Column("steps", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("job", sa.Column("share", sa.Float(), nullable=False, server_default="0"))


def downgrade() -> None:
    """Leave them out again."""
    with op.batch_alter_table("job") as batch:
        for name in ("step", "steps", "share"):
            batch.drop_column(name)
